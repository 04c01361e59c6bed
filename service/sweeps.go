package service

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/sse"

	"airdrift/api"
	"airdrift/core/identify"
)

type sweepInput struct {
	Sweep uint64 `path:"sweep" doc:"Number of the sweep"`
}

type sweepOutput struct{ Body api.Sweep }

func (s *Service) registerSweeps(humaAPI huma.API) {
	huma.Register(humaAPI, huma.Operation{
		OperationID: "start-sweep", Method: http.MethodPost, Path: "/api/v1/sites/{site}/sweeps", Summary: "Start a sweep",
		DefaultStatus: http.StatusCreated, Tags: []string{"sweeps"}, Extensions: needs(Sweep),
	}, func(ctx context.Context, in *struct {
		SiteInput
		Body api.NewSweep
	}) (*sweepOutput, error) {
		record, err := s.sweeper.start(ctx, in.Site, in.Body)
		return &sweepOutput{toSweep(record)}, problem(ctx, err)
	})
	huma.Register(humaAPI, huma.Operation{
		OperationID: "list-sweeps", Method: http.MethodGet, Path: "/api/v1/sites/{site}/sweeps", Summary: "Sweeps of a site, the newest first", Tags: []string{"sweeps"}, Extensions: needs(Look),
	}, s.listSweeps)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "get-sweep", Method: http.MethodGet, Path: "/api/v1/sweeps/{sweep}", Summary: "One sweep", Tags: []string{"sweeps"}, Extensions: needs(Look),
	}, func(ctx context.Context, in *sweepInput) (*sweepOutput, error) {
		record, err := s.sweeper.find(ctx, in.Sweep)
		return &sweepOutput{toSweep(record)}, problem(ctx, err)
	})
	huma.Register(humaAPI, huma.Operation{
		OperationID: "stop-sweep", Method: http.MethodPost, Path: "/api/v1/sweeps/{sweep}/stop", Summary: "Stop a sweep; what was seen is kept", Tags: []string{"sweeps"}, Extensions: needs(Sweep),
	}, s.stopSweep)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "list-sightings", Method: http.MethodGet, Path: "/api/v1/sweeps/{sweep}/sightings", Summary: "What a sweep saw", Tags: []string{"sweeps"}, Extensions: needs(Look),
	}, s.listSightings)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "continue-sweep", Method: http.MethodPost, Path: "/api/v1/sweeps/{sweep}/continue",
		Summary: "Go on with a sweep that was stopped or interrupted, from where it was", Tags: []string{"sweeps"}, Extensions: needs(Sweep),
	}, func(ctx context.Context, in *sweepInput) (*sweepOutput, error) {
		record, err := s.sweeper.resume(ctx, in.Sweep)
		return &sweepOutput{toSweep(record)}, problem(ctx, err)
	})
	huma.Register(humaAPI, huma.Operation{
		OperationID: "discard-sweep", Method: http.MethodDelete, Path: "/api/v1/sweeps/{sweep}",
		Summary: "Remove a sweep and all that only it brought", DefaultStatus: http.StatusNoContent, Tags: []string{"sweeps"}, Extensions: needs(Sweep),
	}, func(ctx context.Context, in *sweepInput) (*struct{}, error) {
		return nil, problem(ctx, s.sweeper.discard(ctx, in.Sweep))
	})
	huma.Register(humaAPI, huma.Operation{
		OperationID: "reread-sweeps", Method: http.MethodPost, Path: "/api/v1/sites/{site}/reread",
		Summary: "Read all stored evidence again and write the ledger anew, with no packet sent", DefaultStatus: http.StatusNoContent, Tags: []string{"sweeps"}, Extensions: needs(Sweep),
	}, func(ctx context.Context, in *SiteInput) (*struct{}, error) {
		return nil, problem(ctx, s.sweeper.rebuild(ctx, in.Site, 0))
	})
	huma.Register(humaAPI, huma.Operation{
		OperationID: "get-sweep-log", Method: http.MethodGet, Path: "/api/v1/sweeps/{sweep}/log", Summary: "What happened in a sweep, and when", Tags: []string{"sweeps"}, Extensions: needs(Look),
	}, s.sweepLog)
	sse.Register(humaAPI, huma.Operation{
		OperationID: "watch-sweep", Method: http.MethodGet, Path: "/api/v1/sweeps/{sweep}/events",
		Summary: "Watch a sweep: what it has seen so far, then what happens, and at the end the sweep itself", Tags: []string{"sweeps"}, Extensions: needs(Look),
	}, map[string]any{
		"progress": api.Progress{}, "sighting": api.Sighting{}, "warning": api.Warning{}, "sweep": api.Sweep{},
	}, s.watchSweep)
}

func (s *Service) listSweeps(ctx context.Context, in *struct {
	SiteInput
	Before uint64 `query:"before" doc:"List sweeps with lower numbers only"`
	Limit  int    `query:"limit" minimum:"1" maximum:"200" default:"50"`
}) (*struct{ Body []api.Sweep }, error) {
	sweeps, err := s.store.Sweeps(ctx, in.Site, in.Before, in.Limit)
	if err != nil {
		return nil, problem(ctx, err)
	}
	list := make([]api.Sweep, len(sweeps))
	for i, record := range sweeps {
		if j := s.sweeper.job(record.ID); j != nil {
			record = j.record()
		}
		list[i] = toSweep(record)
	}
	return &struct{ Body []api.Sweep }{list}, nil
}

func (s *Service) sweepLog(ctx context.Context, in *sweepInput) (*struct{ Body []api.LogLine }, error) {
	if _, err := s.store.Sweep(ctx, in.Sweep); err != nil {
		return nil, problem(ctx, err)
	}
	lines, err := s.store.SweepLog(ctx, in.Sweep)
	if err != nil {
		return nil, problem(ctx, err)
	}
	list := make([]api.LogLine, len(lines))
	for i, l := range lines {
		list[i] = api.LogLine(l)
	}
	return &struct{ Body []api.LogLine }{list}, nil
}

func (s *Service) stopSweep(ctx context.Context, in *sweepInput) (*sweepOutput, error) {
	j := s.sweeper.job(in.Sweep)
	if j == nil {
		record, err := s.store.Sweep(ctx, in.Sweep)
		if err == nil {
			err = refuse(http.StatusConflict, "sweep %d is not running: it is %s", record.ID, record.State)
		}
		return nil, problem(ctx, err)
	}
	j.stopByUser(personOf(ctx).name)
	select {
	case <-j.done:
	case <-ctx.Done():
	}
	return &sweepOutput{toSweep(j.record())}, nil
}

func (s *Service) listSightings(ctx context.Context, in *sweepInput) (*struct{ Body []api.Sighting }, error) {
	list, err := s.sightings(ctx, in.Sweep)
	return &struct{ Body []api.Sighting }{list}, problem(ctx, err)
}

// sightings gives what is stored of a sweep's sightings.
func (s *Service) sightings(ctx context.Context, id uint64) ([]api.Sighting, error) {
	record, err := s.store.Sweep(ctx, id)
	if err != nil {
		return nil, err
	}
	site, err := s.store.Site(ctx, record.SiteID)
	if err != nil {
		return nil, err
	}
	stored, _, err := s.store.Sightings(ctx, id)
	if err != nil {
		return nil, err
	}
	engine := identify.New(s.sweeper.rules, site.Overlay())
	list := make([]api.Sighting, len(stored))
	for i, sg := range stored {
		list[i] = toSighting(sg, true, engine)
	}
	return list, nil
}

// watchSweep tells a sweep's events until it is over or the listener goes away.
func (s *Service) watchSweep(ctx context.Context, in *sweepInput, send sse.Sender) {
	j := s.sweeper.job(in.Sweep)
	if j == nil {
		s.tellEnded(ctx, in.Sweep, send)
		return
	}
	past, events := j.listen()
	defer j.unlisten(events)
	for _, e := range past {
		if send.Data(e) != nil {
			return
		}
	}
	recheck := time.NewTicker(recheckEvery)
	defer recheck.Stop()
	for {
		select {
		case <-recheck.C:
			if !s.auth.still(ctx, requestOf(ctx).claim, Look) {
				return // signed out, revoked or expired since
			}
		case e, open := <-events:
			if !open {
				_ = send.Data(toSweep(j.record())) // told once more, as a listener that was cut off missed it
				return
			}
			if send.Data(e) != nil {
				return
			}
		case <-ctx.Done():
			return
		}
	}
}

// recheckEvery is how often it is looked whether who watches may still do so.
const recheckEvery = 10 * time.Second

// tellEnded tells what a sweep that is over saw.
func (s *Service) tellEnded(ctx context.Context, id uint64, send sse.Sender) {
	record, err := s.store.Sweep(ctx, id)
	if err != nil {
		_ = send.Data(api.Warning{Text: "There is no such sweep."})
		return
	}
	list, err := s.sightings(ctx, id)
	if err != nil {
		_ = send.Data(api.Warning{Text: "What the sweep saw cannot be read from the database."})
	}
	for _, sg := range list {
		if send.Data(sg) != nil {
			return
		}
	}
	_ = send.Data(toSweep(record))
}
