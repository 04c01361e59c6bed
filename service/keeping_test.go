package service_test

import (
	"bytes"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"airdrift/api"
	"airdrift/client"
	"airdrift/core/evidence"
	"airdrift/core/sweepfile"
	"airdrift/service/servicetest"
	"airdrift/store/storetest"
)

// captured takes in the sweep of a file.
type captured struct {
	header    sweepfile.Header
	sightings []evidence.Sighting
}

func (c *captured) Begin(h sweepfile.Header) error { c.header = h; return nil }
func (c *captured) Sighting(s evidence.Sighting) error {
	c.sightings = append(c.sightings, s)
	return nil
}
func (c *captured) End() error { return nil }

// archive writes a file of one sweep as if it had been made at other times, so many days ago, each time without another of those it saw.
func (c *captured) archive(t *testing.T, now time.Time, days ...int) *bytes.Buffer {
	t.Helper()
	var out bytes.Buffer
	w := sweepfile.NewWriter(&out)
	for n, ago := range days {
		h := c.header
		shift := now.AddDate(0, 0, -ago).Sub(h.Began)
		h.Began, h.Ended = h.Began.Add(shift), h.Ended.Add(shift)
		if err := w.Begin(h); err != nil {
			t.Fatal(err)
		}
		for i, s := range c.sightings {
			if i%7 == n%7 {
				continue
			}
			s.FirstAt = s.FirstAt.Add(shift)
			s.Items = slices.Clone(s.Items)
			for k := range s.Items {
				s.Items[k].At = s.Items[k].At.Add(shift)
			}
			if err := w.Sighting(s); err != nil {
				t.Fatal(err)
			}
		}
		if err := w.End(); err != nil {
			t.Fatal(err)
		}
	}
	return &out
}

// Evidence that is no longer kept goes, and nothing of what came of it: devices with their numbers, notes, changes and tenures are the same,
// after a rebuild too, and the next visits go on from there.
func TestThinningBreaksNoHistory(t *testing.T) {
	t.Parallel()
	s := servicetest.Demo(t, servicetest.Config{DSN: storetest.DSN(t)})
	ctx := t.Context()
	original := sweepOf(t, s, "10.40.1.30-60")
	var file bytes.Buffer
	if err := s.Client.ExportSweeps(ctx, s.Site.ID, []uint64{original.ID}, &file); err != nil {
		t.Fatal(err)
	}
	seen := &captured{}
	if err := sweepfile.Read("sweep", &file, seen); err != nil {
		t.Fatal(err)
	}
	elsewhere := s.Scenario.NewSite()
	elsewhere.Name = "Archive"
	site, err := s.Client.EnterSite(ctx, elsewhere, nil)
	if err != nil {
		t.Fatal(err)
	}
	now := time.Now().UTC()
	days := []int{800, 799, 798, 120, 119, 60, 59, 3, 2, 1}
	if _, err := s.Client.ImportSweeps(ctx, site.ID, "archive", seen.archive(t, now, days...)); err != nil {
		t.Fatal(err)
	}
	list, err := s.Client.Devices(ctx, site.ID, client.DeviceQuery{Limit: 1000})
	if err != nil || len(list.Items) < 8 {
		t.Fatalf("%d devices, %v", len(list.Items), err)
	}
	if err := s.Client.SetNote(ctx, list.Items[2].ID, "behind the boiler"); err != nil {
		t.Fatal(err)
	}
	tell := func() string {
		t.Helper()
		devices, changes := ledgerOf(t, s, site.ID, true)
		tenures, err := s.Client.Tenures(ctx, site.ID, client.TenureQuery{}, 10_000)
		if err != nil {
			t.Fatal(err)
		}
		var held []string
		for _, h := range tenures {
			held = append(held, fmt.Sprint(h.Device, h.Addr, h.MAC, h.SinceSweep, h.UntilSweep, h.Ended))
		}
		slices.Sort(held)
		slices.Sort(changes)
		return strings.Join(slices.Concat(devices, changes, held), "\n")
	}
	before := tell()
	sweeps, err := s.Client.Sweeps(ctx, site.ID)
	if err != nil || len(sweeps) != len(days) {
		t.Fatalf("%d sweeps, %v", len(sweeps), err)
	}
	slices.Reverse(sweeps) // the oldest first
	if due, err := s.Client.Due(ctx, site.ID); err != nil || len(due) != 0 {
		t.Errorf("where all is kept %v are due, %v", due, err)
	}
	for _, zone := range []string{"Lisbon", "Local", "../etc/passwd", "Europe/Lisbon\x00"} {
		if _, err := s.Client.SetZone(ctx, site.ID, zone); err == nil {
			t.Errorf("a site may be in the time zone %q", zone)
		}
	}
	if there, err := s.Client.SetZone(ctx, site.ID, "Europe/Lisbon"); err != nil || there.Zone != "Europe/Lisbon" {
		t.Errorf("the site is in %q, %v", there.Zone, err)
	}
	if _, err := s.Client.SetKeeping(ctx, site.ID, api.Keeping{Days: 30, WeeklyDays: 10}); err == nil {
		t.Error("weekly sweeps are kept for less than all")
	}
	if _, err := s.Client.SetKeeping(ctx, site.ID, api.Keeping{Days: 30, WeeklyDays: 90}); err != nil {
		t.Fatal(err)
	}
	if err := s.Client.PinSweep(ctx, sweeps[0].ID, true); err != nil {
		t.Fatal(err)
	}
	gone, err := s.Client.Thin(ctx, site.ID)
	if err != nil || len(gone) == 0 || slices.Contains(gone, sweeps[0].ID) || !slices.Contains(gone, sweeps[1].ID) || slices.Contains(gone, sweeps[7].ID) {
		t.Fatalf("thinned are %v, %v", gone, err)
	}
	same := func(what string) {
		t.Helper()
		if after := tell(); after != before {
			t.Fatalf("%s the ledger is\n%s\nand was\n%s", what, after, before)
		}
	}
	same("thinned,")
	for _, id := range gone {
		record, err := s.Client.Sweep(ctx, id)
		kept, err2 := s.Client.Sightings(ctx, id)
		if err != nil || err2 != nil || !record.Thinned || len(kept) != 0 || record.Appeared+record.Vanished == 0 {
			t.Errorf("of sweep %d are left %d sightings: %+v", id, len(kept), record)
		}
	}
	if kept, err := s.Client.Sightings(ctx, sweeps[0].ID); err != nil || len(kept) == 0 {
		t.Errorf("of the pinned sweep nothing is left: %v", err)
	}
	if err := s.Client.Reread(ctx, site.ID); err != nil {
		t.Fatal(err)
	}
	same("computed anew,")
	if again, err := s.Client.Thin(ctx, site.ID); err != nil || len(again) != 0 {
		t.Errorf("thinned again are %v, %v", again, err)
	}
	wantProblem(t, "a thinned sweep discarded", s.Client.DiscardSweep(ctx, gone[0]), http.StatusConflict, "no longer kept")
	_, err = s.Client.ImportSweeps(ctx, site.ID, "older", seen.archive(t, now, 500))
	wantProblem(t, "a sweep from before", err, http.StatusConflict, "no longer kept")
	same("after what was refused,")

	// What people say holds for what stands there, and is taken back.
	list, err = s.Client.Devices(ctx, site.ID, client.DeviceQuery{Limit: 1000})
	if err != nil {
		t.Fatal(err)
	}
	merged, err := s.Client.Merge(ctx, list.Items[0].ID, api.Merging{Other: list.Items[1].ID, Despite: true})
	if err != nil || len(merged.Devices) != 1 {
		t.Fatalf("merged: %+v, %v", merged, err)
	}
	if err := s.Client.Undo(ctx, merged.Decision); err != nil {
		t.Fatal(err)
	}
	same("merged and taken back,")

	// A later sweep goes on from there; thrown away, it leaves nothing behind.
	if _, err := s.Client.ImportSweeps(ctx, site.ID, "newer", seen.archive(t, now.Add(time.Hour), 0)); err != nil {
		t.Fatal(err)
	}
	if tell() == before {
		t.Error("a later sweep has changed nothing")
	}
	sweeps, err = s.Client.Sweeps(ctx, site.ID)
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Client.DiscardSweep(ctx, sweeps[0].ID); err != nil {
		t.Fatal(err)
	}
	same("a later sweep thrown away,")
}
