package service_test

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
	"testing"

	"airdrift/api"
	"airdrift/client"
	"airdrift/service/servicetest"
	"airdrift/simsite"
	"airdrift/store/storetest"
)

// The auditor's week in Fernhollow, from two places: each visit finds what has happened since the visit before, and nothing else. Computed
// anew the ledger is the same, and so it is at another site into which the sweeps are imported, in whatever order.
func TestTheWeek(t *testing.T) {
	t.Parallel()
	s, calendar := servicetest.Week(t, servicetest.Config{DSN: storetest.DSN(t)})
	var sweeps []uint64
	for day, visit := range s.Scenario.Visits {
		if day > 0 {
			if err := calendar.Turn(day); err != nil {
				t.Fatal(err)
			}
		}
		sweep := sweepOf(t, s, "")
		if sweeps = append(sweeps, sweep.ID); day > 0 { // on the first all appear
			checkFindings(t, s, sweep, visit)
		}
	}
	checkTenures(t, s, sweeps)
	devices, changes := ledgerOf(t, s, s.Site.ID, true)
	if err := s.Client.Reread(t.Context(), s.Site.ID); err != nil {
		t.Fatal(err)
	}
	again, changesAgain := ledgerOf(t, s, s.Site.ID, true)
	same(t, "devices computed anew", again, devices)
	same(t, "changes computed anew", changesAgain, changes)
	checkImport(t, s, sweeps)
}

func checkFindings(t *testing.T, s *servicetest.Service, sweep api.Sweep, visit simsite.Visit) {
	t.Helper()
	changes, err := s.Client.Changes(t.Context(), s.Site.ID, client.ChangeQuery{Sweep: sweep.ID}, 10_000)
	if err != nil {
		t.Fatal(err)
	}
	var got, want []string
	for _, c := range changes {
		got = append(got, fmt.Sprintf("%s %s %s > %s", c.Kind, c.Attribute, c.Before, c.After))
	}
	for _, f := range visit.Finds {
		want = append(want, fmt.Sprintf("%s %s %s > %s", f.Change, f.Attribute, f.Before, f.After))
	}
	same(t, visit.Name, got, want)
}

// same compares two lists in whatever order they are.
func same(t *testing.T, what string, got, want []string) {
	t.Helper()
	slices.Sort(got)
	slices.Sort(want)
	for _, text := range got {
		if !slices.Contains(want, text) {
			t.Errorf("%s: %s is not true", what, text)
		}
	}
	for _, text := range want {
		if !slices.Contains(got, text) {
			t.Errorf("%s: %s is missing", what, text)
		}
	}
}

// checkTenures asks who held the addresses that devices have left or taken.
func checkTenures(t *testing.T, s *servicetest.Service, sweeps []uint64) {
	t.Helper()
	for _, tt := range []struct {
		addr string
		want []string // MAC address, first and last visit, and whether it is over
	}{
		{"10.40.1.46", []string{"90:b8:8d:13:57:02 0-0 true"}},
		{"10.40.1.146", []string{"90:b8:8d:13:57:02 1-3 false", " 2-4 false"}},
		{"10.40.1.45", []string{"90:b8:8d:13:26:f1 0-1 true", "90:b8:8d:13:b7:24 3-3 false", " 2-2 true", " 4-4 false"}},
		{"10.40.1.22", []string{"c4:ca:f5:09:82:36 0-0 false", " 4-4 false"}},
		{"10.40.2.35", []string{"3c:54:9e:0c:ab:47 2-4 false", " 3-3 false"}},
	} {
		tenures, err := s.Client.Tenures(t.Context(), s.Site.ID, client.TenureQuery{Addr: tt.addr}, 100)
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		for _, held := range tenures {
			got = append(got, fmt.Sprintf("%s %d-%d %v", held.MAC, slices.Index(sweeps, held.SinceSweep), slices.Index(sweeps, held.UntilSweep), held.Ended))
		}
		same(t, "who held "+tt.addr, got, tt.want)
	}
}

// ledgerOf gives what is known of a site, with the numbers of devices or without.
func ledgerOf(t *testing.T, s *servicetest.Service, site uint64, numbers bool) (devices, changes []string) {
	t.Helper()
	list, err := s.Client.Devices(t.Context(), site, client.DeviceQuery{Limit: 1000})
	if err != nil {
		t.Fatal(err)
	}
	for _, d := range list.Items {
		text := fmt.Sprint(d.Addrs, d.MAC, d.Name, d.Kind, d.Vendor, d.Model, d.OS, d.Firmware, d.Standing, d.Presence, d.FirstSeen.UnixMicro(), d.LastSeen.UnixMicro(), d.Traits)
		if numbers {
			text = fmt.Sprint(d.ID, " ", text)
		}
		devices = append(devices, text)
	}
	found, err := s.Client.Changes(t.Context(), site, client.ChangeQuery{}, 10_000)
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range found {
		changes = append(changes, fmt.Sprint(c.Began.UnixMicro(), c.Name, c.Kind, c.Attribute, c.Before, c.After))
	}
	return devices, changes
}

// checkImport carries the sweeps to another site by files, in an order that is not theirs.
func checkImport(t *testing.T, s *servicetest.Service, sweeps []uint64) {
	t.Helper()
	elsewhere := s.Scenario.NewSite()
	elsewhere.Name = "Elsewhere"
	site, err := s.Client.EnterSite(t.Context(), elsewhere, nil)
	if err != nil {
		t.Fatal(err)
	}
	for _, numbers := range [][]uint64{{sweeps[2]}, {sweeps[0], sweeps[4]}, {sweeps[3], sweeps[1]}} {
		var file bytes.Buffer
		if err := s.Client.ExportSweeps(t.Context(), s.Site.ID, numbers, &file); err != nil {
			t.Fatal(err)
		}
		cut := file.Bytes()[:file.Len()*2/3]
		if _, err := s.Client.ImportSweeps(t.Context(), site.ID, "cut.jsonl", bytes.NewReader(cut)); err == nil || !strings.Contains(err.Error(), "line") {
			t.Errorf("a file that was cut off is taken: %v", err)
		}
		done, err := s.Client.ImportSweeps(t.Context(), site.ID, "week.jsonl", &file)
		if err != nil || done.Sweeps != len(numbers) {
			t.Fatalf("%+v, %v", done, err)
		}
	}
	var twice bytes.Buffer
	if err := s.Client.ExportSweeps(t.Context(), s.Site.ID, sweeps[:1], &twice); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Client.ImportSweeps(t.Context(), site.ID, "again.jsonl", &twice); err == nil || !strings.Contains(err.Error(), "already") {
		t.Errorf("a sweep is imported twice: %v", err)
	}
	devices, changes := ledgerOf(t, s, s.Site.ID, false)
	imported, importedChanges := ledgerOf(t, s, site.ID, false)
	same(t, "imported devices", imported, devices)
	same(t, "imported changes", importedChanges, changes)
}
