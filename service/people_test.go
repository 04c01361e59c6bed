package service_test

import (
	"encoding/csv"
	"net/http"
	"reflect"
	"slices"
	"strings"
	"testing"

	"airdrift/api"
	"airdrift/client"
	"airdrift/service/servicetest"
	"airdrift/store/storetest"
)

// sweepOf sweeps some ranges to the end.
func sweepOf(t *testing.T, s *servicetest.Service, ranges string) api.Sweep {
	t.Helper()
	started, err := s.Client.StartSweep(t.Context(), s.Site.ID, api.NewSweep{Ranges: ranges, Pace: "brisk"})
	if err != nil {
		t.Fatal(err)
	}
	ended, err := s.Client.Watch(t.Context(), started.ID, client.Watcher{})
	if err != nil || ended.State != "done" {
		t.Fatalf("the sweep of %s ended as %+v, %v", ranges, ended, err)
	}
	return ended
}

func devicesOf(t *testing.T, s *servicetest.Service) []api.DeviceLine {
	t.Helper()
	list, err := s.Client.Devices(t.Context(), s.Site.ID, client.DeviceQuery{Limit: 1000})
	if err != nil {
		t.Fatal(err)
	}
	return list.Items
}

// A sweep of the wrong network is taken back in one step, with all that only it brought; what people said stays, and so does
// everything when the evidence is re-evaluated.
func TestDiscardedSweepLeavesNothingBehind(t *testing.T) {
	t.Parallel()
	s := servicetest.Demo(t, servicetest.Config{DSN: storetest.DSN(t)})
	ctx := t.Context()
	sweepOf(t, s, "10.40.1.0/28")
	first := devicesOf(t, s)
	at := slices.IndexFunc(first, func(d api.DeviceLine) bool { return slices.Contains(d.Addrs, "10.40.1.2") })
	if err := s.Client.SetNote(ctx, first[at].ID, "behind the front desk"); err != nil {
		t.Fatal(err)
	}
	if err := s.Client.SetAside(ctx, first[at].ID, "the caterer's own"); err != nil {
		t.Fatal(err)
	}
	first = devicesOf(t, s)
	wrong := sweepOf(t, s, "10.40.2.0/27")
	if now := devicesOf(t, s); len(now) <= len(first) {
		t.Fatalf("the second sweep brought nobody: %d devices, %d before", len(now), len(first))
	}
	if err := s.Client.DiscardSweep(ctx, wrong.ID); err != nil {
		t.Fatal(err)
	}
	if now := devicesOf(t, s); !reflect.DeepEqual(now, first) {
		t.Errorf("after the discard there are\n%+v\nwant\n%+v", now, first)
	}
	_, err := s.Client.Sweep(ctx, wrong.ID)
	wantProblem(t, "a sweep that was discarded", err, http.StatusNotFound, "not found")
	if err := s.Client.Reread(ctx, s.Site.ID); err != nil {
		t.Fatal(err)
	}
	if now := devicesOf(t, s); !reflect.DeepEqual(now, first) {
		t.Errorf("re-evaluated there are\n%+v\nwant\n%+v", now, first)
	}
	d, err := s.Client.Device(ctx, first[at].ID)
	if err != nil || d.Note != "behind the front desk" || d.Aside == nil || d.Aside.By != "administrator" || d.Standing != "set aside" {
		t.Errorf("what people said is lost: %+v, %v", d, err)
	}
}

// From a device as it was seen to an entry of the register, and out of the service as CSV.
func TestDeviceBecomesAnEntry(t *testing.T) {
	t.Parallel()
	s := servicetest.Demo(t, servicetest.Config{DSN: storetest.DSN(t)})
	ctx := t.Context()
	ended := sweepOf(t, s, "10.40.1.20-24")
	list := devicesOf(t, s)
	at := slices.IndexFunc(list, func(d api.DeviceLine) bool { return slices.Contains(d.Addrs, "10.40.1.24") })
	d, err := s.Client.AddToRegister(ctx, list[at].ID, api.NewEntry{Name: "=nursery", Location: "nursery"})
	if err != nil || d.Standing != "managed" || d.Entry == nil || d.Entry.MAC != "c4:ca:f5:0f:d4:58" || d.Entry.Kind != "label-printer" || !strings.HasPrefix(d.MatchedBy, "same MAC address") {
		t.Fatalf("the device is %+v, %v", d, err)
	}
	_, err = s.Client.AddToRegister(ctx, list[at].ID, api.NewEntry{})
	wantProblem(t, "a device that is in the register", err, http.StatusConflict, "in the register already")
	history, err := s.Client.History(ctx, list[at].ID)
	if err != nil || len(history) != 1 || history[0].Sweep != ended.ID || history[0].Addr != "10.40.1.24" || history[0].Facts == 0 {
		t.Errorf("its history is %+v, %v", history, err)
	}
	var exported strings.Builder
	if err := s.Client.ExportRegister(ctx, s.Site.ID, &exported); err != nil || !strings.Contains(exported.String(), "'=nursery,c4:ca:f5:0f:d4:58") {
		t.Errorf("exported is %q, %v", exported.String(), err)
	}
	again, err := s.Client.ImportRegister(ctx, s.Site.ID, strings.NewReader(exported.String()), client.Import{})
	if err != nil || again.Updated != 1 || again.Added != 0 {
		t.Errorf("imported again: %+v, %v", again, err)
	}
	part, err := s.Client.ImportRegister(ctx, s.Site.ID, strings.NewReader("name,mac\nshop printer,c4:ca:f5:09:82:36\nbroken,zz\n"), client.Import{Partial: true})
	if err != nil || part.Added != 1 || part.LeftOut != 1 || part.Faults[0].Place != "line 3, column 2" {
		t.Errorf("a partial import gave %+v, %v", part, err)
	}
	_, body := get(t, http.DefaultClient, http.MethodGet, s.URL+"/api/v1/sites/1/devices.csv?standing=managed&columns=name,mac", map[string]string{"Authorization": "Bearer " + s.Token}, "")
	rows, err := csv.NewReader(strings.NewReader(body)).ReadAll()
	if err != nil || len(rows) != 3 || !slices.Equal(rows[0], []string{"Name", "MAC"}) || rows[2][0] != "'=nursery" {
		t.Errorf("devices as CSV: %q, %v", rows, err)
	}
	// Each column that the console has is there to be asked for.
	shown := []string{"address", "name", "kind", "vendor", "model", "os", "firmware", "strength", "standing", "presence", "mac", "firstSeen", "lastSeen", "group", "traits"}
	status, body := get(t, http.DefaultClient, http.MethodGet, s.URL+"/api/v1/sites/1/devices.csv?columns="+strings.Join(shown, ","), map[string]string{"Authorization": "Bearer " + s.Token}, "")
	if headings, _, _ := strings.Cut(body, "\n"); status != http.StatusOK || strings.Count(headings, ",") != len(shown)-1 {
		t.Errorf("devices with all columns: %d, %q", status, headings)
	}
}

// The fence is widened and narrowed by who administers, and says which address is free.
func TestFence(t *testing.T) {
	t.Parallel()
	s := servicetest.Demo(t, servicetest.Config{DSN: storetest.DSN(t)})
	ctx := t.Context()
	sweepOf(t, s, "10.40.1.0/29")
	fence, err := s.Client.Fence(ctx, s.Site.ID)
	if err != nil || len(fence.Networks) != 6 {
		t.Fatalf("%+v, %v", fence, err)
	}
	offices := fence.Networks[0]
	// .1 to .7 are held, and so are the auditor's own address, the gateway's virtual one and what was heard.
	if offices.Subnet != "10.40.1.0/24" || offices.Addresses != "254" || offices.NextFree != "10.40.1.8" || offices.Held < 8 {
		t.Errorf("offices: %+v", offices)
	}
	if six := fence.Networks[1]; six.Addresses != "2^64" || six.NextFree != "fd00:40:1::1" {
		t.Errorf("IPv6: %+v", six)
	}
	_, err = s.Client.AddNetwork(ctx, s.Site.ID, api.Network{Subnet: "10.40.1.0/24"})
	wantProblem(t, "a network that is there", err, http.StatusConflict, "in use")
	_, err = s.Client.AddNetwork(ctx, s.Site.ID, api.Network{Subnet: "203.0.113.0/24"})
	wantProblem(t, "a public network", err, http.StatusUnprocessableEntity, "settings (public)")
	if _, err = s.Client.RemoveNetwork(ctx, s.Site.ID, "10.40.2.0/24"); err != nil {
		t.Fatal(err)
	}
	_, err = s.Client.StartSweep(ctx, s.Site.ID, api.NewSweep{Ranges: "10.40.2.10"})
	wantProblem(t, "a sweep of what was taken out", err, http.StatusUnprocessableEntity, "airdrift fence add")
	_, err = s.Client.RemoveNetwork(ctx, s.Site.ID, "10.40.2.0/24")
	wantProblem(t, "a network that is gone", err, http.StatusNotFound, "not found")
	_, err = s.Client.SetNameServers(ctx, s.Site.ID, []string{"10.40.1.10", "nobody"})
	wantProblem(t, "a name server without an address", err, http.StatusUnprocessableEntity, `"nobody" is not an address`)
}

// Under a sweep that runs the fence is not narrowed: the sweep would go on where it may not any more.
func TestFenceUnderARunningSweep(t *testing.T) {
	t.Parallel()
	s := servicetest.Demo(t, servicetest.Config{DSN: storetest.DSN(t)})
	started, err := s.Client.StartSweep(t.Context(), s.Site.ID, api.NewSweep{Pace: "gentle"})
	if err != nil {
		t.Fatal(err)
	}
	_, err = s.Client.RemoveNetwork(t.Context(), s.Site.ID, "10.40.2.0/24")
	wantProblem(t, "narrowing the fence", err, http.StatusConflict, "is running")
	if _, err := s.Client.AddNetwork(t.Context(), s.Site.ID, api.Network{Subnet: "10.42.0.0/24"}); err != nil {
		t.Errorf("widening it gave %v", err)
	}
	if _, err := s.Client.StopSweep(t.Context(), started.ID); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Client.RemoveNetwork(t.Context(), s.Site.ID, "10.40.2.0/24"); err != nil {
		t.Errorf("after the sweep: %v", err)
	}
}

func TestReach(t *testing.T) {
	t.Parallel()
	s := servicetest.Demo(t, servicetest.Config{DSN: storetest.DSN(t)})
	for address, want := range map[string]string{
		"10.40.1.20":  "it is met directly",
		"10.40.1.250": "is the address of sim0 itself",
		"10.40.2.13":  "it is reached through the gateway 10.40.1.1",
		"10.99.0.1":   "outside the fence",
		"fe80::1":     "lies in the subnet fe80::/64",
		"fd00:99::1":  "no gateway on the way",
	} {
		list, err := s.Client.Reach(t.Context(), address, s.Site.ID)
		if err != nil || len(list) != 1 || !strings.Contains(list[0].Verdict, want) {
			t.Errorf("%s: %+v, %v; want %q", address, list, err, want)
		}
	}
	_, err := s.Client.Reach(t.Context(), "10.40.1", 0)
	wantProblem(t, "half an address", err, http.StatusUnprocessableEntity, "is not an address")
	vantages, err := s.Client.Vantages(t.Context())
	if err != nil || len(vantages) != 1 || !vantages[0].Rights.Frames || vantages[0].Masks[0] != "255.255.255.0" || len(vantages[0].Rights.Missing) > 0 {
		t.Errorf("vantages %+v, %v", vantages, err)
	}
}

// Who did what is written down, refusals among it; secrets are not.
func TestAuditLog(t *testing.T) {
	t.Parallel()
	s := servicetest.Demo(t, servicetest.Config{DSN: storetest.DSN(t)})
	ctx := t.Context()
	if _, err := s.Client.CreateUser(ctx, api.NewUser{Name: "mason", Role: "look", Password: "over the garden wall"}); err != nil {
		t.Fatal(err)
	}
	mason := signIn(t, s, "mason", "over the garden wall")
	_, err := mason.StartSweep(ctx, s.Site.ID, api.NewSweep{})
	wantProblem(t, "a sweep by who may only look", err, http.StatusForbidden, "your role is look, and this needs sweep")
	sweepOf(t, s, "10.40.1.2")
	lines, err := s.Client.Audit(ctx, 100)
	if err != nil {
		t.Fatal(err)
	}
	has := func(who, action string, outcome int, about string) bool {
		return slices.ContainsFunc(lines, func(l api.AuditLine) bool {
			return l.Who == who && l.Action == action && l.Outcome == outcome && l.Origin == map[string]string{"mason": "127.0.0.1", "administrator": "local"}[l.Who] && !l.At.IsZero() && strings.Contains(l.Subject, about)
		})
	}
	if !has("mason", "start-sweep", http.StatusForbidden, "") || !has("administrator", "start-sweep", http.StatusCreated, "10.40.1.2 from sim0, brisk, telling ports") ||
		!has("administrator", "create-user", http.StatusCreated, "mason, who may look") {
		t.Errorf("the log is %+v", lines)
	}
	for _, l := range lines {
		if strings.Contains(l.Subject+l.Action, "garden wall") {
			t.Errorf("a password is in the log: %+v", l)
		}
	}
	if err := s.Client.SetRole(ctx, "administrator", "look"); err == nil || !strings.Contains(err.Error(), "the last administrator") {
		t.Errorf("the last administrator could give the role away: %v", err)
	}
}

// A sweep is given a name while it runs and afterwards, and it is cleared again.
func TestSweepsHaveNames(t *testing.T) {
	t.Parallel()
	s := servicetest.Demo(t, servicetest.Config{DSN: storetest.DSN(t)})
	started, err := s.Client.StartSweep(t.Context(), s.Site.ID, api.NewSweep{Name: "first look", Ranges: "10.40.1.20-22", Pace: "brisk"})
	if err != nil || started.Name != "first look" {
		t.Fatalf("%+v, %v", started, err)
	}
	if err := s.Client.NameSweep(t.Context(), started.ID, "Monday"); err != nil {
		t.Fatal(err)
	}
	ended, err := s.Client.Watch(t.Context(), started.ID, client.Watcher{})
	if err != nil || ended.Name != "Monday" {
		t.Errorf("named while it ran: %+v, %v", ended, err)
	}
	if err := s.Client.NameSweep(t.Context(), started.ID, ""); err != nil {
		t.Fatal(err)
	}
	if list, err := s.Client.Sweeps(t.Context(), s.Site.ID); err != nil || len(list) != 1 || list[0].Name != "" {
		t.Errorf("the name is cleared: %+v, %v", list, err)
	}
	if err := s.Client.NameSweep(t.Context(), 99, "x"); err == nil {
		t.Error("a sweep that is not there has a name")
	}
}
