package main

import (
	"bytes"
	"context"
	"fmt"
	"strings"
	"time"

	"airdrift/api"
	"airdrift/client"
	"airdrift/core/evidence"
	"airdrift/core/sweepfile"
)

// books has the service work on its ledger, to be killed in the middle of it: a rebuild, an import, a note, or evidence that is deleted. over is closed when the service
// has answered or has gone. What must hold afterwards is looked at after the next start.
func (k *killing) books(ctx context.Context) (over <-chan struct{}, err error) {
	work := []func(context.Context) (func() error, func(context.Context) error, error){k.rebuild, k.importing, k.noting, k.thinning}[k.random.IntN(4)]
	holds, do, err := work(ctx)
	if err != nil {
		return nil, err
	}
	done := make(chan struct{})
	go func() {
		defer close(done)
		k.answered.Store(do(ctx) == nil)
	}()
	k.holds = holds
	return done, nil
}

// ledger gives the devices of the site with their numbers, addresses and notes.
func (k *killing) ledger(ctx context.Context) (string, error) {
	list, err := k.cl.Devices(ctx, k.site.ID, client.DeviceQuery{Limit: 1000})
	var text strings.Builder
	for _, d := range list.Items {
		fmt.Fprintln(&text, d.ID, d.Addrs, d.MAC, d.Standing, d.Presence, d.FirstSeen)
	}
	return text.String(), err
}

// rebuild computes the ledger anew: it is the same before and after.
func (k *killing) rebuild(ctx context.Context) (holds func() error, do func(context.Context) error, err error) {
	before, err := k.ledger(ctx)
	return func() error {
		after, err := k.ledger(context.Background())
		if err == nil && after != before {
			err = fmt.Errorf("a rebuild that was broken off has changed the ledger from\n%sto\n%s", before, after)
		}
		return err
	}, func(ctx context.Context) error { return k.cl.Reread(ctx, k.site.ID) }, err
}

// shifted writes a sweep of a file as if it had been made at another time.
type shifted struct {
	*sweepfile.Writer
	began     time.Time
	sightings int
}

func (s *shifted) Begin(h sweepfile.Header) error {
	if !h.Ended.IsZero() {
		h.Ended = s.began.Add(h.Ended.Sub(h.Began))
	}
	h.Began = s.began
	return s.Writer.Begin(h)
}

func (s *shifted) Sighting(seen evidence.Sighting) error {
	s.sightings++
	return s.Writer.Sighting(seen)
}

// importing imports a sweep: it is there whole, or not at all.
func (k *killing) importing(ctx context.Context) (holds func() error, do func(context.Context) error, err error) {
	sweeps, err := k.cl.Sweeps(ctx, k.site.ID)
	if err != nil {
		return nil, nil, err
	}
	var file, moved bytes.Buffer
	k.imports++
	out := &shifted{Writer: sweepfile.NewWriter(&moved), began: time.Date(2026, 1, 1, 0, k.imports, 0, 0, time.UTC)}
	for _, s := range sweeps {
		if s.State != "running" && s.State != "failed" && !s.Thinned {
			if err := k.cl.ExportSweeps(ctx, k.site.ID, []uint64{s.ID}, &file); err != nil {
				return nil, nil, err
			}
			if err := sweepfile.Read("export", &file, out); err != nil {
				return nil, nil, err
			}
			break
		}
	}
	if out.sightings == 0 {
		return k.noting(ctx)
	}
	return func() error { return k.wantImport(out.began, out.sightings) },
		func(ctx context.Context) error {
			_, err := k.cl.ImportSweeps(ctx, k.site.ID, "shifted", &moved)
			return err
		}, nil
}

func (k *killing) wantImport(began time.Time, sightings int) error {
	sweeps, err := k.cl.Sweeps(context.Background(), k.site.ID)
	if err != nil {
		return err
	}
	for _, s := range sweeps {
		if !s.Began.Equal(began) || s.Thinned {
			continue
		}
		kept, err := k.cl.Sightings(context.Background(), s.ID)
		if err == nil && len(kept) != sightings {
			err = fmt.Errorf("of an import that was broken off %d of %d sightings are there", len(kept), sightings)
		}
		return err
	}
	if k.answered.Load() {
		return fmt.Errorf("an import was answered, and the sweep of %s is not there", began)
	}
	return nil
}

// noting writes a note: once that was answered it is there.
func (k *killing) noting(ctx context.Context) (holds func() error, do func(context.Context) error, err error) {
	list, err := k.cl.Devices(ctx, k.site.ID, client.DeviceQuery{Limit: 1})
	if err != nil || len(list.Items) == 0 {
		return func() error { return nil }, func(context.Context) error { return nil }, err
	}
	id, text := list.Items[0].ID, fmt.Sprint("note ", k.random.Uint64())
	return func() error {
		if !k.answered.Load() {
			return nil
		}
		device, err := k.cl.Device(context.Background(), id)
		if err == nil && device.Note != text {
			err = fmt.Errorf("the note %q was answered and is lost: it is %q", text, device.Note)
		}
		return err
	}, func(ctx context.Context) error { return k.cl.SetNote(ctx, id, text) }, nil
}

// thinning takes the evidence of old sweeps away: of each it is there whole or gone, and the ledger is the same.
func (k *killing) thinning(ctx context.Context) (holds func() error, do func(context.Context) error, err error) {
	if _, err := k.cl.SetKeeping(ctx, k.site.ID, api.Keeping{Days: 1}); err != nil {
		return nil, nil, err
	}
	before, err := k.ledger(ctx)
	if err != nil {
		return nil, nil, err
	}
	had, err := k.sightings(ctx)
	return func() error {
		after, err := k.ledger(context.Background())
		if err == nil && after != before {
			err = fmt.Errorf("taking evidence away, broken off, has changed the ledger from\n%sto\n%s", before, after)
		}
		if err != nil {
			return err
		}
		has, err := k.sightings(context.Background())
		for id, sightings := range had {
			if left := has[id]; err == nil && left != sightings && left != gone {
				err = fmt.Errorf("of the %d sightings of sweep %d are left %d", sightings, id, left)
			}
		}
		return err
	}, func(ctx context.Context) error { _, err := k.cl.Thin(ctx, k.site.ID); return err }, err
}

// gone stands for the number of sightings of a sweep that was thinned, and has none.
const gone = -1

// sightings gives how many sightings there are of each sweep.
func (k *killing) sightings(ctx context.Context) (map[uint64]int, error) {
	sweeps, err := k.cl.Sweeps(ctx, k.site.ID)
	if err != nil {
		return nil, err
	}
	counts := map[uint64]int{}
	for _, s := range sweeps {
		list, err := k.cl.Sightings(ctx, s.ID)
		if err != nil {
			return nil, err
		}
		counts[s.ID] = len(list)
		if s.Thinned && len(list) == 0 {
			counts[s.ID] = gone
		}
	}
	return counts, nil
}
