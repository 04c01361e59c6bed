package service

import (
	"context"
	"net/http"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/sse"

	"airdrift/api"
	"airdrift/core/evidence"
	"airdrift/core/identify"
	"airdrift/store"
)

// SweepInput names a sweep in the path.
type SweepInput struct {
	Sweep uint64 `path:"sweep" doc:"Number of the sweep"`
}

type sweepOutput struct{ Body api.Sweep }

func (s *Service) registerSweeps(humaAPI huma.API) {
	huma.Register(humaAPI, huma.Operation{
		OperationID: "start-sweep", Method: http.MethodPost, Path: "/api/v1/sites/{site}/sweeps", Summary: "Start a sweep",
		DefaultStatus: http.StatusCreated, Tags: []string{"sweeps"}, Extensions: once(Sweep),
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
	}, func(ctx context.Context, in *SweepInput) (*sweepOutput, error) {
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
		Summary: "Go on with a sweep that was stopped or interrupted, from where it was", Tags: []string{"sweeps"}, Extensions: once(Sweep),
	}, func(ctx context.Context, in *SweepInput) (*sweepOutput, error) {
		record, err := s.sweeper.resume(ctx, in.Sweep)
		return &sweepOutput{toSweep(record)}, problem(ctx, err)
	})
	huma.Register(humaAPI, huma.Operation{
		OperationID: "name-sweep", Method: http.MethodPut, Path: "/api/v1/sweeps/{sweep}/name", Summary: "Give a sweep a name",
		DefaultStatus: http.StatusNoContent, Tags: []string{"sweeps"}, Extensions: needs(Sweep),
	}, func(ctx context.Context, in *struct {
		SweepInput
		Body api.SweepName
	}) (*struct{}, error) {
		remark(ctx, "%s", in.Body.Name)
		return nil, problem(ctx, s.sweeper.rename(ctx, in.Sweep, in.Body.Name))
	})
	huma.Register(humaAPI, huma.Operation{
		OperationID: "discard-sweep", Method: http.MethodDelete, Path: "/api/v1/sweeps/{sweep}",
		Summary: "Remove a sweep and all that only it brought", DefaultStatus: http.StatusNoContent, Tags: []string{"sweeps"}, Extensions: needs(Sweep),
	}, func(ctx context.Context, in *SweepInput) (*struct{}, error) {
		return nil, problem(ctx, s.sweeper.discard(ctx, in.Sweep))
	})
	huma.Register(humaAPI, huma.Operation{
		OperationID: "reevaluate-sweeps", Method: http.MethodPost, Path: "/api/v1/sites/{site}/reevaluate",
		Summary: "Read all stored evidence again and write the ledger anew, with no packet sent", DefaultStatus: http.StatusNoContent, Tags: []string{"sweeps"}, Extensions: once(Sweep),
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
		"progress": api.Progress{}, "sighting": api.Sighting{}, "warning": api.Warning{}, "sweep": api.Sweep{}, "alive": api.Alive{}, "behind": api.Behind{},
	}, s.watchSweep)
}

func (s *Service) listSweeps(ctx context.Context, in *struct {
	SiteInput
	PageInput
}) (*listOutput[api.Sweep], error) {
	var below store.SweepMark
	if _, err := in.mark(&below); err != nil {
		return nil, problem(ctx, err)
	}
	sweeps, err := s.store.Sweeps(ctx, in.Site, below, in.Limit+1)
	if err != nil {
		return nil, problem(ctx, err)
	}
	present := func(record store.Sweep) api.Sweep {
		if j := s.sweeper.job(record.ID); j != nil {
			record = j.record()
		}
		return toSweep(record)
	}
	return pageOf(sweeps, in.Limit, present, func(record store.Sweep) any { return store.SweepMark{Began: record.Began, ID: record.ID} }), nil
}

func (s *Service) sweepLog(ctx context.Context, in *SweepInput) (*listOutput[api.LogLine], error) {
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
	return listOf(list), nil
}

func (s *Service) stopSweep(ctx context.Context, in *SweepInput) (*sweepOutput, error) {
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

func (s *Service) listSightings(ctx context.Context, in *struct {
	SweepInput
	PageInput
	SkipInput
}) (*listOutput[api.Sighting], error) {
	var behind store.SightingMark
	going, err := in.mark(&behind)
	if err != nil {
		return nil, problem(ctx, err)
	}
	seen, show, err := s.sightings(ctx, in.Sweep, behind, in.Skip, in.Limit+1)
	if err != nil {
		return nil, problem(ctx, err)
	}
	out := pageOf(seen, in.Limit, show, func(sg seenThere) any { return store.MarkOf(sg.Sighting) })
	if !going {
		total, err := s.store.CountSightings(ctx, in.Sweep)
		if err != nil {
			return nil, problem(ctx, err)
		}
		out.Body.Total = &total
	}
	return out, nil
}

// seenThere is a sighting with the device that it is taken for; 0 where none is known.
type seenThere struct {
	evidence.Sighting
	device uint64
}

// sightings gives what is stored of some sightings of a sweep, and how each is told.
func (s *Service) sightings(ctx context.Context, id uint64, behind store.SightingMark, skip, limit int) ([]seenThere, func(seenThere) api.Sighting, error) {
	record, err := s.store.Sweep(ctx, id)
	if err != nil {
		return nil, nil, err
	}
	site, err := s.store.Site(ctx, record.SiteID)
	if err != nil {
		return nil, nil, err
	}
	stored, err := s.store.SightingsBehind(ctx, id, behind, skip, limit)
	if err != nil {
		return nil, nil, err
	}
	devices, err := s.store.HeldBy(ctx, site.ID, stored)
	if err != nil {
		return nil, nil, err
	}
	seen := make([]seenThere, len(stored))
	for i, sg := range stored {
		seen[i] = seenThere{sg, devices[i]}
	}
	engine := identify.New(identify.Default(), site.Overlay())
	return seen, func(sg seenThere) api.Sighting {
		shown := toSighting(sg.Sighting, true, engine)
		shown.Device = sg.device
		return shown
	}, nil
}

// watchSweep tells a sweep's events until it is over or the listener goes away.
func (s *Service) watchSweep(ctx context.Context, in *watchInput, send sse.Sender) {
	j := s.sweeper.job(in.Sweep)
	if j == nil {
		s.tellEnded(ctx, in, send)
		return
	}
	after, _ := strconv.Atoi(in.LastEvent) // 0 for who comes first, and for what is no number
	past, events := j.listen(after)
	defer j.unlisten(events)
	for _, e := range past {
		if in.leavesOut(e.event) {
			continue
		}
		if send(sse.Message{ID: e.turn, Data: e.event}) != nil {
			return
		}
	}
	recheck, alive := time.NewTicker(recheckEvery), time.NewTicker(aliveEvery)
	defer recheck.Stop()
	defer alive.Stop()
	for {
		select {
		case <-recheck.C:
			if !s.auth.still(ctx, requestOf(ctx).claim, Look) {
				return // signed out, revoked or expired since
			}
		case <-alive.C:
			if send.Data(api.Alive{At: time.Now().UTC()}) != nil {
				return
			}
		case e, open := <-events:
			switch record := j.record(); {
			case !open && record.State == store.Running:
				_ = send.Data(api.Behind{Text: "You lag behind, and were left out of some events. Watch again from the last that you were told."})
				return
			case !open:
				_ = send.Data(toSweep(record)) // told once more, as a listener that was cut off missed it
				return
			case in.leavesOut(e.event):
				continue
			}
			if send(sse.Message{ID: e.turn, Data: e.event}) != nil {
				return
			}
		case <-ctx.Done():
			return
		}
	}
}

// watchInput names the sweep that is watched, and the event that was told last by an earlier answer.
type watchInput struct {
	SweepInput
	Sightings string `query:"sightings" enum:"each,none" default:"each" doc:"none leaves them out, for who reads them by the page"`
	LastEvent string `header:"Last-Event-ID" doc:"Go on behind this event (WHATWG HTML, 9.2.4)"`
}

// leavesOut reports whether who watches wants to hear nothing of an event.
func (in *watchInput) leavesOut(event any) bool {
	_, seen := event.(api.Sighting)
	return seen && in.Sightings == "none"
}

// aliveEvery is how often who watches is told that the line holds, where nothing else is told.
const aliveEvery = 15 * time.Second

// recheckEvery is how often it is looked whether who watches may still do so.
const recheckEvery = 10 * time.Second

// tellAtOnce is how many sightings of a sweep that is over are read at a time.
const tellAtOnce = 1000

// tellEnded tells what a sweep that is over saw.
func (s *Service) tellEnded(ctx context.Context, in *watchInput, send sse.Sender) {
	record, err := s.store.Sweep(ctx, in.Sweep)
	if err != nil {
		_ = send.Data(api.Warning{Text: "There is no such sweep."})
		return
	}
	for behind := (store.SightingMark{}); in.Sightings != "none"; {
		seen, show, err := s.sightings(ctx, in.Sweep, behind, 0, tellAtOnce)
		if err != nil {
			_ = send.Data(api.Warning{Text: "What the sweep saw cannot be read from the database."})
		}
		for _, sg := range seen {
			if send.Data(show(sg)) != nil {
				return
			}
		}
		if len(seen) < tellAtOnce {
			break
		}
		behind = store.MarkOf(seen[len(seen)-1].Sighting)
	}
	_ = send.Data(toSweep(record))
}
