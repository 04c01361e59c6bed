package service_test

import (
	"slices"
	"strings"
	"testing"

	"airdrift/api"
	"airdrift/service/servicetest"
	"airdrift/store/storetest"
)

// Two devices are merged by a person only where nothing speaks against it, or despite that; a preview changes nothing; undone, all is as it
// was, numbers and notes included.
func TestMergingByAPerson(t *testing.T) {
	t.Parallel()
	s := servicetest.Demo(t, servicetest.Config{DSN: storetest.DSN(t)})
	sweepOf(t, s, "10.40.1.45-48")
	before, changes := ledgerOf(t, s, s.Site.ID, true)
	devices := devicesOf(t, s)
	at := func(addr string) uint64 {
		t.Helper()
		i := slices.IndexFunc(devices, func(d api.DeviceLine) bool { return slices.Contains(d.Addrs, addr) })
		if i < 0 {
			t.Fatalf("nobody is at %s", addr)
		}
		return devices[i].ID
	}
	one, two := at("10.40.1.45"), at("10.40.1.46")
	if err := s.Client.SetNote(t.Context(), two, "the spare"); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Client.Merge(t.Context(), one, api.Merging{Other: two}); err == nil || !strings.Contains(err.Error(), "speaks against") {
		t.Errorf("devices that contradict each other are merged: %v", err)
	}
	preview, err := s.Client.Merge(t.Context(), one, api.Merging{Other: two, Despite: true, Preview: true})
	if err != nil || len(preview.Devices) != 1 || preview.Decision != 0 || len(preview.Devices[0].Addrs) < 2 {
		t.Fatalf("the preview gives %+v, %v", preview, err)
	}
	if now, _ := ledgerOf(t, s, s.Site.ID, true); !slices.Equal(now, before) {
		t.Error("a preview has changed the ledger")
	}
	merged, err := s.Client.Merge(t.Context(), one, api.Merging{Other: two, Despite: true, Reason: "two cards of one machine"})
	if err != nil || len(merged.Devices) != 1 || merged.Devices[0].ID != min(one, two) {
		t.Fatalf("merged to %+v, %v", merged, err)
	}
	device, err := s.Client.Device(t.Context(), min(one, two))
	if err != nil || device.Note != "the spare" || !strings.Contains(strings.Join(device.Reasons, " "), "has said") {
		t.Errorf("the device is %+v, %v", device, err)
	}
	sweepOf(t, s, "10.40.1.45-48")
	var holders []api.DeviceLine
	for _, d := range devicesOf(t, s) {
		if slices.Contains(d.Addrs, "10.40.1.45") || slices.Contains(d.Addrs, "10.40.1.46") {
			holders = append(holders, d)
		}
	}
	if len(holders) != 1 || holders[0].ID != min(one, two) || holders[0].Presence != "seen" {
		t.Errorf("at the next visit the two are %+v", holders)
	}
	apart, err := s.Client.Split(t.Context(), min(one, two), api.Splitting{Addrs: []string{"10.40.1.46"}, MACs: []string{"90:b8:8d:13:57:02"}, Preview: true})
	if err != nil || len(apart.Devices) != 1 && len(apart.Devices) != 2 {
		t.Errorf("split: %+v, %v", apart, err)
	}
	if err := s.Client.Undo(t.Context(), merged.Decision); err != nil {
		t.Fatal(err)
	}
	sweeps, err := s.Client.Sweeps(t.Context(), s.Site.ID)
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Client.DiscardSweep(t.Context(), sweeps[0].ID); err != nil {
		t.Fatal(err)
	}
	after, changesAfter := ledgerOf(t, s, s.Site.ID, true)
	same(t, "devices after all was taken back", after, before)
	same(t, "changes after all was taken back", changesAfter, changes)
	if device, err = s.Client.Device(t.Context(), two); err != nil || device.Note != "the spare" {
		t.Errorf("the note is lost: %+v, %v", device.Note, err)
	}
}
