package service

import (
	"bufio"
	"context"
	"errors"
	"io"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"airdrift/api"
	"airdrift/core/evidence"
	"airdrift/core/sweep"
	"airdrift/core/sweepfile"
	"airdrift/store"
)

// maxSweepFile is the largest file of sweeps taken, in bytes. It is read as it comes in, and never held.
const maxSweepFile = 4 << 30

// sweepFilePath is where files of sweeps come and go, behind a site.
const sweepFilePath = "/sweep-file"

// limitBody bounds what a request may bring.
func limitBody(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		most := int64(maxBody)
		if strings.HasSuffix(r.URL.Path, sweepFilePath) {
			most = maxSweepFile
		}
		r.Body = http.MaxBytesReader(w, r.Body, most)
		next.ServeHTTP(w, r)
	})
}

func (s *Service) registerSweepFiles(humaAPI huma.API) {
	huma.Register(humaAPI, huma.Operation{
		OperationID: "export-sweeps", Method: http.MethodGet, Path: "/api/v1/sites/{site}" + sweepFilePath, Summary: "Sweeps of a site as a file of JSON Lines, the oldest first",
		Tags: []string{"sweeps"}, Extensions: needs(Look),
	}, s.exportSweeps)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "import-sweeps", Method: http.MethodPost, Path: "/api/v1/sites/{site}" + sweepFilePath,
		Summary: "Put the sweeps of a file (JSON Lines) among those of a site, all or nothing, and compute its ledger anew with them", Tags: []string{"sweeps"},
		Extensions: once(Sweep), Middlewares: huma.Middlewares{s.oneImport(humaAPI)},
	}, s.importSweeps)
}

func (s *Service) exportSweeps(ctx context.Context, in *struct {
	SiteInput
	Sweep []uint64 `query:"sweep,explode" doc:"Only these; all that have ended where left out"`
}) (*huma.StreamResponse, error) {
	if _, err := s.store.Site(ctx, in.Site); err != nil {
		return nil, problem(ctx, err)
	}
	sweeps, err := s.store.EndedSweeps(ctx, in.Site, in.Sweep)
	if err != nil {
		return nil, problem(ctx, err)
	}
	if len(sweeps) == 0 || len(in.Sweep) > len(sweeps) {
		return nil, problem(ctx, refuse(http.StatusNotFound, "of the sweeps that were asked for, the site has %d that have ended", len(sweeps)))
	}
	return &huma.StreamResponse{Body: func(out huma.Context) {
		out.SetHeader("Content-Type", "application/jsonl")
		out.SetHeader("Content-Disposition", `attachment; filename="sweeps.jsonl"`)
		body := bufio.NewWriter(out.BodyWriter())
		w := sweepfile.NewWriter(body)
		for _, record := range sweeps {
			if err := s.writeSweep(ctx, w, record); err != nil {
				return // the file has no end then, and is refused where it is read
			}
		}
		_ = body.Flush() // fails only where the client has gone away
	}}, nil
}

func (s *Service) writeSweep(ctx context.Context, w *sweepfile.Writer, record store.Sweep) error {
	err := w.Begin(sweepfile.Header{
		Name: record.Name, Vantage: record.Vantage, Ranges: record.Ranges, Exclusions: record.Exclusions, Pace: record.Pace, Ports: record.Ports, Off: record.Plan.Off,
		State: string(record.State), Began: record.Began, Ended: record.Ended, Addresses: record.Addresses, Answered: record.Answered, Sent: record.Sent,
		Gateway: record.Gateway, OnLink: record.OnLink, Warnings: record.Warnings, Patience: record.Plan.Patience,
	})
	if err != nil {
		return err
	}
	if err := s.store.EachSighting(ctx, record.ID, w.Sighting); err != nil {
		return err
	}
	return w.End()
}

// fileInput is a file that is read as it comes in.
type fileInput struct {
	SiteInput
	Name string `query:"name" maxLength:"200" doc:"Name of the file, for the texts of faults"`
	file io.Reader
}

// Resolve takes the body as it is.
func (in *fileInput) Resolve(ctx huma.Context) []error {
	in.file = ctx.BodyReader()
	_ = ctx.SetReadDeadline(time.Now().Add(importWait)) // a recorder in a test has none
	return nil
}

func (s *Service) importSweeps(ctx context.Context, in *fileInput) (*struct{ Body api.SweepImport }, error) {
	remark(ctx, "%s", in.Name)
	imported, err := s.sweeper.importSweeps(ctx, in.Site, in.Name, in.file)
	return &struct{ Body api.SweepImport }{imported}, problem(ctx, err)
}

// importSweeps puts the sweeps of a file among those of a site, and computes its ledger anew with them.
func (s *sweeper) importSweeps(ctx context.Context, site uint64, name string, file io.Reader) (api.SweepImport, error) {
	if _, err := s.store.Site(ctx, site); err != nil {
		return api.SweepImport{}, err
	}
	release, err := s.holdForRebuild(ctx, site)
	if err != nil {
		return api.SweepImport{}, err
	}
	defer release()
	incoming := &incoming{ctx: ctx, store: s.store, site: site, by: personOf(ctx).name, states: map[uint64]store.SweepState{}}
	err = sweepfile.Read(name, file, incoming)
	if err == nil {
		err = s.books.Rewrite(ctx, site, 0, incoming.states)
	}
	if err != nil {
		return api.SweepImport{}, errors.Join(err, incoming.takeBack())
	}
	return api.SweepImport{Sweeps: len(incoming.states), Sightings: incoming.sightings}, nil
}

// incoming stores sweeps as they come in from a file. Until they are part of a ledger nobody sees them.
type incoming struct {
	ctx       context.Context
	store     *store.Store
	site      uint64
	by        string
	states    map[uint64]store.SweepState
	record    store.Sweep
	batch     []evidence.Sighting
	sightings int
}

// importBatch is how many sightings are written at once.
const importBatch = 1000

func (i *incoming) Begin(h sweepfile.Header) error {
	began := h.Began.UTC().Truncate(time.Microsecond)
	there, err := i.store.HasSweep(i.ctx, i.site, h.Vantage, began)
	if err != nil {
		return err
	}
	if there {
		return refuse(http.StatusConflict, "the site has the sweep from %s that began at %s already: nothing was imported", h.Vantage, began.Format(time.RFC3339))
	}
	i.record = store.Sweep{
		SiteID: i.site, Name: h.Name, Vantage: h.Vantage, Ranges: h.Ranges, Exclusions: h.Exclusions, Pace: h.Pace, Ports: h.Ports, Plan: sweep.Plan{Off: h.Off, Patience: h.Patience},
		StartedBy: "imported by " + i.by, State: store.Importing, Began: began, Ended: h.Ended, Addresses: h.Addresses, Answered: h.Answered, Sent: h.Sent,
		Gateway: h.Gateway, OnLink: h.OnLink, Warnings: h.Warnings,
	}
	if err := i.store.CreateSweep(i.ctx, &i.record); err != nil {
		return err
	}
	i.states[i.record.ID] = store.SweepState(h.State)
	return nil
}

func (i *incoming) Sighting(s evidence.Sighting) error {
	for n := range s.Items {
		s.Items[n].Value = evidence.Clean([]byte(s.Items[n].Value))
	}
	i.batch = append(i.batch, s)
	if len(i.batch) == importBatch {
		return i.write()
	}
	return nil
}

func (i *incoming) End() error { return i.write() }

func (i *incoming) write() error {
	refused, err := i.store.SaveSightings(i.ctx, i.record.ID, i.batch)
	if err == nil && len(refused) > 0 {
		err = refused[0].Cause
	}
	i.sightings += len(i.batch)
	i.batch = i.batch[:0]
	return err
}

// takeBack deletes what has come in of a file that was refused.
func (i *incoming) takeBack() error {
	if len(i.states) == 0 {
		return nil
	}
	numbers := make([]uint64, 0, len(i.states))
	for id := range i.states {
		numbers = append(numbers, id)
	}
	return i.store.RemoveImports(context.WithoutCancel(i.ctx), numbers...)
}
