package service_test

import (
	"bufio"
	"context"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"

	"airdrift/api"
	"airdrift/client"
	"airdrift/core/netrange"
	"airdrift/service"
	"airdrift/service/servicetest"
	"airdrift/simsite/simsitetest"
	"airdrift/store"
)

// sightingsBeforeKill is how many sightings are told before something is killed: in the middle of a sweep.
const sightingsBeforeKill = 40

// watchSome watches a sweep until it has told that many sightings, and gives those it told.
func watchSome(t *testing.T, cl *client.Client, sweep uint64, enough int) map[string]bool {
	t.Helper()
	told := map[string]bool{}
	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	_, err := cl.Watch(ctx, sweep, client.Watcher{Sighting: func(s api.Sighting) {
		told[s.Addr+" "+s.MAC] = true
		if len(told) >= enough {
			stop()
		}
	}})
	if len(told) < enough {
		t.Fatalf("only %d sightings were told: %v", len(told), err)
	}
	return told
}

// wantKept checks that all that was told of a sweep is in the database.
func wantKept(t *testing.T, cl *client.Client, sweep uint64, told map[string]bool) {
	t.Helper()
	kept, err := cl.Sightings(t.Context(), sweep)
	if err != nil {
		t.Fatal(err)
	}
	has := map[string]bool{}
	for _, s := range kept {
		has[s.Addr+" "+s.MAC] = true
	}
	for who := range told {
		if !has[who] {
			t.Errorf("%s was told of and is lost", who)
		}
	}
}

// killDatabase ends the server of a data directory with a signal that it cannot catch.
func killDatabase(t *testing.T, data string) {
	t.Helper()
	text, err := os.ReadFile(filepath.Join(data, "database", "server.pid"))
	if err != nil {
		t.Fatal(err)
	}
	pid, err := strconv.Atoi(strings.TrimSpace(string(text)))
	if err != nil {
		t.Fatal(err)
	}
	if err := syscall.Kill(pid, syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
}

// The database is killed in mid-sweep: it is started again, the sweep goes on, and nothing is lost.
func TestDatabaseIsKilledInMidSweep(t *testing.T) {
	t.Parallel()
	s := servicetest.Demo(t, servicetest.Config{})
	sweep, err := s.Client.StartSweep(t.Context(), s.Site.ID, api.NewSweep{Ranges: "10.40.1.0/24", Pace: "brisk"})
	if err != nil {
		t.Fatal(err)
	}
	told := watchSome(t, s.Client, sweep.ID, sightingsBeforeKill)
	killDatabase(t, s.Data)
	final, err := s.Client.Watch(t.Context(), sweep.ID, client.Watcher{Sighting: func(sg api.Sighting) { told[sg.Addr+" "+sg.MAC] = true }})
	if err != nil || final.State != "done" {
		t.Fatalf("the sweep ended as %+v, %v", final, err)
	}
	wantKept(t, s.Client, sweep.ID, told)
	if list, err := s.Client.Devices(t.Context(), s.Site.ID, client.DeviceQuery{}); err != nil || list.Counted() < sightingsBeforeKill/2 { // some answer for others
		t.Errorf("%d devices are in the ledger, %v", list.Counted(), err)
	}
}

// The service itself is killed in mid-sweep, its database left running: the next service clears that, shows the sweep as
// interrupted with all that was told, and goes on with it to the same end that an undisturbed sweep has.
func TestServiceIsKilledInMidSweep(t *testing.T) {
	t.Parallel()
	data := servicetest.DataDir(t)
	killed := exec.CommandContext(t.Context(), os.Args[0])
	killed.Env = append(os.Environ(), toBeKilled+"="+data)
	killed.Stderr = os.Stderr
	out, err := killed.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := killed.Start(); err != nil {
		t.Fatal(err)
	}
	if !bufio.NewScanner(out).Scan() {
		t.Fatal("the service to be killed did not start")
	}
	cl := client.Local(data)
	scenario := simsitetest.Demo(t)
	site, err := cl.EnterSite(t.Context(), scenario.NewSite(), scenario.NewCredentials())
	if err != nil {
		t.Fatal(err)
	}
	sweep, err := cl.StartSweep(t.Context(), site.ID, api.NewSweep{Ranges: "10.40.1.0/24, 10.40.2.0/24", Pace: "brisk"})
	if err != nil {
		t.Fatal(err)
	}
	told := watchSome(t, cl, sweep.ID, sightingsBeforeKill)
	if err := killed.Process.Kill(); err != nil {
		t.Fatal(err)
	}
	_ = killed.Wait() // it ended by the signal

	s := servicetest.On(t, data)
	interrupted, err := s.Client.Sweep(t.Context(), sweep.ID)
	if err != nil || interrupted.State != "interrupted" {
		t.Fatalf("after the kill the sweep is %+v, %v", interrupted, err)
	}
	wantKept(t, s.Client, sweep.ID, told)
	if list, err := s.Client.Devices(t.Context(), site.ID, client.DeviceQuery{}); err != nil || list.Counted() < sightingsBeforeKill/2 { // some answer for others
		t.Errorf("%d devices are in the ledger, %v", list.Counted(), err)
	}
	if _, err := s.Client.ContinueSweep(t.Context(), sweep.ID); err != nil {
		t.Fatal(err)
	}
	final, err := s.Client.Watch(t.Context(), sweep.ID, client.Watcher{})
	if err != nil || final.State != "done" || final.Vanished != 0 {
		t.Fatalf("continued, the sweep ended as %+v, %v", final, err)
	}
	wantKept(t, s.Client, sweep.ID, told)
	wantTruth(t, s, site.ID, "10.40.1.0/24, 10.40.2.0/24")
	log, err := s.Client.SweepLog(t.Context(), sweep.ID)
	var text strings.Builder
	for _, l := range log {
		text.WriteString(l.Text + "\n")
	}
	if err != nil || !strings.Contains(text.String(), "Interrupted: ") || !strings.Contains(text.String(), "Continued by administrator.") {
		t.Errorf("its log is %q, %v", text.String(), err)
	}
	_, err = s.Client.ContinueSweep(t.Context(), sweep.ID)
	wantProblem(t, "continuing a sweep that is done", err, http.StatusConflict, "nothing left of it to do")
}

// A database of others goes away and stays away until the service is told to end: what was seen waits on disk, and the next
// service enters it.
func TestDatabaseStaysAway(t *testing.T) {
	t.Parallel()
	dir := servicetest.DataDir(t)
	db, err := store.StartServer(t.Context(), dir)
	if err != nil {
		t.Fatal(err)
	}
	wire, err := simsitetest.Start(t, simsitetest.Demo(t)).Wire()
	if err != nil {
		t.Fatal(err)
	}
	config := service.InstanceConfig{Data: servicetest.DataDir(t), Listen: "127.0.0.1:0", DSN: db.DSN(), Vantages: service.FixedVantages{wire}}
	in, err := service.Run(t.Context(), config)
	if err != nil {
		t.Fatal(err)
	}
	cl := client.Local(config.Data)
	site, err := cl.CreateSite(t.Context(), simsitetest.Demo(t).NewSite())
	if err != nil {
		t.Fatal(err)
	}
	sweep, err := cl.StartSweep(t.Context(), site.ID, api.NewSweep{Ranges: "10.40.1.0/24", Pace: "brisk"})
	if err != nil {
		t.Fatal(err)
	}
	told := watchSome(t, cl, sweep.ID, sightingsBeforeKill)
	if err := db.Stop(); err != nil {
		t.Fatal(err)
	}
	if status, body := get(t, http.DefaultClient, http.MethodGet, in.URL+"/healthz", nil, ""); status != http.StatusServiceUnavailable || !strings.Contains(body, "database") {
		t.Errorf("health is %d, %q", status, body)
	}
	_, err = cl.Sites(t.Context())
	wantProblem(t, "a request without a database", err, http.StatusInternalServerError, "log")
	if err := in.Close(); err != nil {
		t.Errorf("the service ended with %v", err)
	}
	if db, err = store.StartServer(t.Context(), dir); err != nil {
		t.Fatal(err)
	}
	defer db.Stop()
	config.DSN = db.DSN()
	again, err := service.Run(t.Context(), config)
	if err != nil {
		t.Fatal(err)
	}
	defer again.Close()
	if err := again.WaitTakenUp(t.Context()); err != nil {
		t.Fatal(err)
	}
	cl = client.Local(config.Data)
	wantKept(t, cl, sweep.ID, told)
	if s, err := cl.Sweep(t.Context(), sweep.ID); err != nil || s.State != "interrupted" {
		t.Errorf("the sweep is %+v, %v", s, err)
	}
}

// wantTruth holds a site's inventory against the scenario's truth within some ranges.
func wantTruth(t *testing.T, s *servicetest.Service, site uint64, ranges string) {
	t.Helper()
	within, err := netrange.Parse(ranges)
	if err != nil {
		t.Fatal(err)
	}
	list, err := s.Client.Devices(t.Context(), site, client.DeviceQuery{Filter: url.Values{"presence": {"seen"}}, Limit: 1000})
	if err != nil {
		t.Fatal(err)
	}
	expected := 1 // the auditor's own machine
	for _, truth := range s.Scenario.Truth() {
		leg := truth.Device.Legs[0]
		if !truth.Visible || !within.Contains(leg.Address) && !truth.OnLink {
			continue
		}
		expected++
		found := slices.ContainsFunc(list.Items, func(d api.DeviceLine) bool {
			return truth.OnLink && d.MAC == leg.MAC.String() || !truth.OnLink && slices.Contains(d.Addrs, leg.Address.String())
		})
		if !found {
			t.Errorf("%s is not in the inventory", truth.Device.Name)
		}
	}
	for _, truth := range s.Scenario.UnitTruths() {
		if !within.Contains(truth.Behind.Legs[0].Address) {
			continue
		}
		if expected++; !slices.ContainsFunc(list.Items, func(d api.DeviceLine) bool { return d.Unit == truth.Place() }) {
			t.Errorf("%s is not in the inventory", truth.Unit.Name)
		}
	}
	if len(list.Items) != expected {
		t.Errorf("%d devices were seen, want %d", len(list.Items), expected)
	}
}
