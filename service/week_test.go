package service_test

import (
	"bytes"
	"fmt"
	"math"
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
	var off []string
	figures := 0
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
		checkWrong(t, s, day, "unmanaged", "missing", "drift") // there is no register here
		told, beside := checkComplete(t, s, day, sweep)
		figures, off = figures+told, append(off, beside...)
	}
	if len(off) > figures/10 { // the truth is said to lie within the bounds in nine of ten cases
		t.Errorf("of %d estimates of what was missed these do not hold the truth: %s", figures, strings.Join(off, "; "))
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
	if _, err := s.Client.ImportRegister(t.Context(), s.Site.ID, demoRegister(t), client.Import{}); err != nil {
		t.Fatal(err)
	}
	checkWrong(t, s, len(s.Scenario.Visits)-1)
	// A severity that the site gives a rule holds for what devices share, too.
	if err := s.Client.SetFindingRule(t.Context(), s.Site.ID, "shared-address", api.FindingSetting{On: true, Severity: "critical"}); err != nil {
		t.Fatal(err)
	}
	shared, err := s.Client.Findings(t.Context(), s.Site.ID, client.FindingQuery{Rules: []string{"shared-address"}}, 0)
	if err != nil || len(shared) != 2 || shared[0].Severity != "critical" {
		t.Errorf("%+v, %v", shared, err)
	}
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

// checkWrong holds the findings that are open after a visit against the truth, those of some rules aside.
func checkWrong(t *testing.T, s *servicetest.Service, day int, aside ...string) {
	t.Helper()
	findings, err := s.Client.Findings(t.Context(), s.Site.ID, client.FindingQuery{}, 0)
	if err != nil {
		t.Fatal(err)
	}
	name := namesInBuilding(t, s, day)
	var got, want, perhaps []string
	for _, f := range findings {
		if slices.Contains(aside, f.Rule) {
			continue
		}
		w := simsite.Wrong{Rule: f.Rule, About: f.About}
		for _, d := range f.Devices {
			w.Devices = append(w.Devices, name[d.ID])
		}
		if len(f.Evidence) == 0 && strings.HasPrefix(f.Rule, "open-") {
			t.Errorf("%s shows no evidence", w)
		}
		got = append(got, w.String())
	}
	for _, w := range s.Scenario.WrongOn(day) {
		if slices.Contains(aside, w.Rule) {
			continue
		}
		if w.Perhaps {
			perhaps = append(perhaps, w.String())
		} else {
			want = append(want, w.String())
		}
	}
	got = slices.DeleteFunc(got, func(text string) bool { return slices.Contains(perhaps, text) })
	same(t, fmt.Sprintf("findings of visit %d", day+1), got, want)
}

// checkComplete holds the estimates of what a visit missed against what was there to be found, and gives how many there are, and which of them do not
// hold it. Devices that share an address are known as one.
func checkComplete(t *testing.T, s *servicetest.Service, day int, sweep api.Sweep) (told int, off []string) {
	t.Helper()
	figures, err := s.Client.Completeness(t.Context(), s.Site.ID, sweep.ID)
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range figures.Networks {
		addrs, devices := s.Scenario.Day(day).Answering(f.Network)
		low, high := float64(f.Seen)+math.Floor(f.Low), float64(f.Seen)+math.Ceil(f.High)
		t.Logf("visit %d, %s: %d to %d devices are there; %d were seen, and from %v to %v are said to be there", day+1, f.Network, min(addrs, devices), devices, f.Seen, low, high)
		if f.Told {
			told++
			if float64(devices) < low || float64(min(addrs, devices)) > high {
				off = append(off, fmt.Sprintf("visit %d, %s: %d to %d devices are there, and %v to %v are said to be", day+1, f.Network, min(addrs, devices), devices, low, high))
			}
		}
	}
	if told < 4 || told+len(figures.Unswept) > 5 {
		t.Errorf("visit %d: of %d networks something is told, and %v were not swept", day+1, told, figures.Unswept)
	}
	return told, off
}

// namesInBuilding gives what the devices of the inventory are called in the building: by their MAC address on the segment, by their address
// beyond it, and behind another by their own word.
func namesInBuilding(t *testing.T, s *servicetest.Service, day int) map[uint64]string {
	t.Helper()
	page, err := s.Client.Devices(t.Context(), s.Site.ID, client.DeviceQuery{Limit: 1000})
	if err != nil {
		t.Fatal(err)
	}
	byMAC, byAddr := map[string]string{}, map[string]string{}
	for before := range day + 1 {
		for _, d := range s.Scenario.Day(before).Devices {
			for _, leg := range d.Legs {
				byMAC[leg.MAC.String()] = d.Name
				byAddr[leg.Address.String()] = d.Name
			}
		}
	}
	units := map[string]string{}
	for _, u := range s.Scenario.Units {
		units[u.Unit] = u.Name
	}
	names := map[uint64]string{}
	for _, d := range page.Items {
		unit, _, _ := strings.Cut(d.Unit, " ")
		switch {
		case units[unit] != "":
			names[d.ID] = units[unit]
		case byMAC[d.MAC] != "":
			names[d.ID] = byMAC[d.MAC]
		case len(d.Addrs) > 0 && byAddr[d.Addrs[0]] != "":
			names[d.ID] = byAddr[d.Addrs[0]]
		default:
			names[d.ID] = d.Name
		}
	}
	return names
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
