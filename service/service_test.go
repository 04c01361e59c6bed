package service_test

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"airdrift/api"
	"airdrift/client"
	"airdrift/scenarios"
	"airdrift/service"
	"airdrift/service/servicetest"
	"airdrift/store/storetest"
)

// wantProblem checks that an error is a problem of that status which says the words.
func wantProblem(t *testing.T, what string, err error, status int, words string) {
	t.Helper()
	var problem *client.Problem
	if !errors.As(err, &problem) || problem.Status != status || !strings.Contains(err.Error(), words) {
		t.Errorf("%s gave %v; want status %d saying %q", what, err, status, words)
	}
}

func demoRegister(t *testing.T) io.Reader {
	t.Helper()
	text, err := scenarios.Files.ReadFile("fernhollow-register.csv")
	if err != nil {
		t.Fatal(err)
	}
	return strings.NewReader(string(text))
}

// TestSweepFromOrderToInventory is the main job through the client.
func TestSweepFromOrderToInventory(t *testing.T) {
	t.Parallel()
	s := servicetest.Demo(t, servicetest.Config{DSN: storetest.DSN(t)})
	ctx := t.Context()
	started, err := s.Client.StartSweep(ctx, s.Site.ID, api.NewSweep{Ranges: "10.40.1.0/24,10.40.2.0/24", Exclusions: "10.40.1.10", Pace: "brisk"})
	if err != nil {
		t.Fatal(err)
	}
	_, err = s.Client.StartSweep(ctx, s.Site.ID, api.NewSweep{})
	wantProblem(t, "a second sweep at once", err, http.StatusConflict, "is running")
	stages, seen := map[string]bool{}, map[string]bool{}
	final, err := s.Client.Watch(ctx, started.ID, client.Watcher{
		Progress: func(p api.Progress) {
			stages[p.Stage] = true
			if p.Done > p.Total {
				t.Errorf("%d of %d questions are settled", p.Done, p.Total)
			}
		},
		Sighting: func(sg api.Sighting) { seen[sg.Addr+" "+sg.MAC+" "+sg.Unit] = true },
	})
	if err != nil || final.State != "done" || final.Answered != 145 || !stages["roll call"] || !stages["asking"] {
		t.Fatalf("the sweep ended as %+v after stages %v, %v", final, stages, err)
	}
	sightings, err := s.Client.Sightings(ctx, started.ID)
	if err != nil || len(sightings) != len(seen) {
		t.Errorf("%d sightings are stored, %v; %d were told", len(sightings), err, len(seen))
	}
	for _, sg := range sightings {
		if sg.Addr == "10.40.1.10" {
			t.Error("an address that was left out was sighted")
		}
	}
	checkPartsOf(t, s, started.ID, sightings)
	again, err := s.Client.Watch(ctx, started.ID, client.Watcher{})
	if err != nil || again.State != "done" {
		t.Errorf("watching a sweep that is over gave %+v, %v", again, err)
	}
	checkRegister(t, s)
	checkDevice(t, s)
}

// checkPartsOf looks at parts of long lists anywhere in them, and wants each sighting to lead to a device at its address.
func checkPartsOf(t *testing.T, s *servicetest.Service, sweep uint64, sightings []api.Sighting) {
	for _, skip := range []int{0, 1, 57, len(sightings) - 1, len(sightings), len(sightings) + 9} {
		var part api.List[api.Sighting]
		read(t, s, fmt.Sprintf("/api/v1/sweeps/%d/sightings?limit=7&skip=%d", sweep, skip), &part)
		from := min(skip, len(sightings))
		want := sightings[from:min(from+7, len(sightings))]
		if part.Counted() != len(sightings) || !slices.EqualFunc(part.Items, want, func(a, b api.Sighting) bool { return a.Addr == b.Addr && a.MAC == b.MAC && a.Unit == b.Unit }) {
			t.Errorf("%d sightings on, of %d, there are %d that are not those of the whole list", skip, part.Counted(), len(part.Items))
		}
	}
	leafed := []api.Sighting{}
	for cursor := ""; ; {
		var page api.List[api.Sighting]
		read(t, s, fmt.Sprintf("/api/v1/sweeps/%d/sightings?limit=50&cursor=%s", sweep, cursor), &page)
		leafed = append(leafed, page.Items...)
		if cursor = page.Next; cursor == "" {
			break
		}
	}
	if len(leafed) != len(sightings) {
		t.Errorf("leafed through there are %d sightings, want %d", len(leafed), len(sightings))
	}
	for _, sg := range sightings {
		d, err := s.Client.Device(t.Context(), sg.Device)
		if err != nil || sg.Addr != "" && sg.Unit == "" && !slices.Contains(d.Addrs, sg.Addr) {
			t.Errorf("the sighting at %s %s leads to device %d at %v, %v", sg.Addr, sg.Unit, sg.Device, d.Addrs, err)
		}
	}
	var whole, part api.List[api.DeviceLine]
	read(t, s, fmt.Sprintf("/api/v1/sites/%d/devices?sort=kind&descend=true&limit=1000", s.Site.ID), &whole)
	read(t, s, fmt.Sprintf("/api/v1/sites/%d/devices?sort=kind&descend=true&limit=5&skip=40", s.Site.ID), &part)
	if part.Counted() != len(whole.Items) || !reflect.DeepEqual(part.Items, whole.Items[40:45]) {
		t.Errorf("40 devices on: %+v, want %+v", part, whole.Items[40:45])
	}
}

// read reads an answer of the API.
func read(t *testing.T, s *servicetest.Service, path string, into any) {
	t.Helper()
	_, body := get(t, http.DefaultClient, http.MethodGet, s.URL+path, map[string]string{"Authorization": "Bearer " + s.Token}, "")
	if err := json.Unmarshal([]byte(body), into); err != nil {
		t.Fatalf("%s: %v: %s", path, err, body)
	}
}

// checkRegister imports the register, whole and faulty, and wants the standings to follow.
func checkRegister(t *testing.T, s *servicetest.Service) {
	ctx := t.Context()
	imported, err := s.Client.ImportRegister(ctx, s.Site.ID, demoRegister(t), client.Import{Replace: false})
	// acorn was left out of the sweep: it is in the register and was not seen.
	if err != nil || imported.Added != 104 || imported.Counts != (api.Counts{Managed: 61, Unmanaged: 62, Missing: 43, SetAside: 1}) {
		t.Fatalf("imported %+v, %v", imported, err)
	}
	shown, err := s.Client.ImportRegister(ctx, s.Site.ID, strings.NewReader("name,mac,location\nfine,48:9b:34:09:09:09,attic\n"), client.Import{Replace: true, Preview: true})
	if err != nil || shown.Added != 1 || shown.Deleted != 104 || shown.Changed != 0 || shown.Counts.Managed != 0 || len(shown.Changes) != 105 {
		t.Errorf("one entry in the place of all would do %+v, %v", shown, err)
	}
	again, err := s.Client.ImportRegister(ctx, s.Site.ID, demoRegister(t), client.Import{Replace: false})
	if err != nil || again.Added != 0 || again.Updated != 104 {
		t.Errorf("imported again: %+v, %v", again, err)
	}
	_, err = s.Client.ImportRegister(ctx, s.Site.ID, strings.NewReader("name,mac\nfine,48:9b:34:09:09:09\nbroken,48:9b\n"), client.Import{Replace: true})
	wantProblem(t, "a faulty register", err, http.StatusUnprocessableEntity, "line 3, column 2 (mac)")
	if entries, err := s.Client.Register(ctx, s.Site.ID); err != nil || len(entries) != 104 {
		t.Errorf("after the faulty import the register has %d entries, %v", len(entries), err)
	}
	list, err := s.Client.Devices(ctx, s.Site.ID, client.DeviceQuery{Filter: url.Values{"standing": {"missing"}, "sort": {"name"}}})
	var names []string
	for _, d := range list.Items {
		names = append(names, d.Name+"/"+d.Presence)
	}
	// Those of the networks that were not swept are uncovered; the others did not answer.
	for _, want := range []string{"acorn/uncovered", "switchback/uncovered", "nursery climate/silent", "old hall display/silent", "second spectrometer/silent"} {
		if err != nil || !slices.Contains(names, want) {
			t.Errorf("missing are %v, %v; want %s among them", names, err, want)
		}
	}
	overview, err := s.Client.Overview(ctx, s.Site.ID)
	if err != nil || overview.Seen != 124 || overview.Contested != 7 || overview.Register != 104 || overview.LastSweep == nil {
		t.Errorf("overview %+v, %v", overview, err)
	}
}

// checkDevice opens the router, which is one device at three addresses.
func checkDevice(t *testing.T, s *servicetest.Service) {
	list, err := s.Client.Devices(t.Context(), s.Site.ID, client.DeviceQuery{Filter: url.Values{"kind": {"router"}}})
	if err != nil || list.Counted() != 1 {
		t.Fatalf("routers: %+v, %v", list, err)
	}
	d, err := s.Client.Device(t.Context(), list.Items[0].ID)
	if err != nil || !slices.Equal(d.Addrs, []string{"10.40.1.1", "10.40.1.254", "10.40.2.1"}) || d.Vendor != "Ostermoor Networks" || d.Entry == nil {
		t.Fatalf("the router is %+v, %v", d, err)
	}
	// It was asked by every protocol of its sweep; those it does not speak are told, and no other.
	if silent := d.Unanswered; silent.Sweep == 0 || !slices.Contains(silent.Protocols, "bacnet") || slices.Contains(silent.Protocols, "snmp") || slices.Contains(silent.Protocols, "http") {
		t.Errorf("it was asked in vain %+v", silent)
	}
	if len(d.Claims) == 0 || len(d.Claims[0].Candidates[0].Reasons) == 0 || d.Claims[0].Strength < 6 {
		t.Errorf("its kind is claimed without evidence: %+v", d.Claims)
	}
	at := slices.IndexFunc(d.Ports, func(p api.Port) bool { return p.Port == "tcp/443" })
	if at < 0 || d.Ports[at].Service != "https" || !slices.ContainsFunc(d.Ports[at].Words, func(f api.Fact) bool { return f.Key == "http.title" }) {
		t.Errorf("its ports are %+v", d.Ports)
	}
}

func TestStoppedSweepKeepsWhatWasSeen(t *testing.T) {
	t.Parallel()
	s := servicetest.Demo(t, servicetest.Config{DSN: storetest.DSN(t)})
	started, err := s.Client.StartSweep(t.Context(), s.Site.ID, api.NewSweep{Pace: "gentle"})
	if err != nil {
		t.Fatal(err)
	}
	watch, seen := context.WithCancel(t.Context())
	_, err = s.Client.Watch(watch, started.ID, client.Watcher{Sighting: func(api.Sighting) { seen() }})
	if !errors.Is(err, context.Canceled) {
		t.Fatal(err)
	}
	stopped, err := s.Client.StopSweep(t.Context(), started.ID)
	if err != nil || stopped.State != "stopped" || stopped.Ended == nil {
		t.Fatalf("stopped: %+v, %v", stopped, err)
	}
	list, err := s.Client.Devices(t.Context(), s.Site.ID, client.DeviceQuery{})
	if err != nil || list.Counted() == 0 {
		t.Errorf("%d devices were kept, %v", list.Counted(), err)
	}
	_, err = s.Client.StopSweep(t.Context(), started.ID)
	wantProblem(t, "stopping it again", err, http.StatusConflict, "it is stopped")
}

func TestBadInputIsRefusedWithWords(t *testing.T) {
	t.Parallel()
	s := servicetest.Demo(t, servicetest.Config{DSN: storetest.DSN(t)})
	ctx := t.Context()
	start := func(wanted api.NewSweep) error {
		_, err := s.Client.StartSweep(ctx, s.Site.ID, wanted)
		return err
	}
	create := func(site api.NewSite) error {
		_, err := s.Client.CreateSite(ctx, site)
		return err
	}
	_, noSite := s.Client.Devices(ctx, 99, client.DeviceQuery{})
	_, noDevice := s.Client.Device(ctx, 99)
	_, badSort := s.Client.Devices(ctx, s.Site.ID, client.DeviceQuery{Filter: url.Values{"sort": {"colour"}}})
	_, badMAC := s.Client.Vendor(ctx, "zz", 0)
	list := func(filter string) error {
		values, err := url.ParseQuery(filter)
		if err != nil {
			t.Fatal(err)
		}
		_, err = s.Client.Devices(ctx, s.Site.ID, client.DeviceQuery{Filter: values})
		return err
	}
	for _, tt := range []struct {
		what   string
		err    error
		status int
		words  string
	}{
		{"a malformed range", start(api.NewSweep{Ranges: "10.40.1.0/24 10.40.1.300"}), 422, `"10.40.1.300" is not an address`},
		{"a malformed exclusion", start(api.NewSweep{Ranges: "10.40.1.0/24", Exclusions: "10.40.1.9,10.40.1.400"}), 422, `in what is left out: range 2, "10.40.1.400"`},
		{"an empty range", start(api.NewSweep{Ranges: ","}), 422, "no addresses given"},
		{"everything left out", start(api.NewSweep{Ranges: "10.40.1.5", Exclusions: "10.40.1.0/24"}), 422, "no addresses given"},
		{"a range outside the site's networks", start(api.NewSweep{Ranges: "10.40.1.0-10.40.6.9"}), 422, "10.40.6.0 lies outside"},
		{"an unknown interface", start(api.NewSweep{Vantage: "eth9"}), 422, "it has sim0"},
		{"an unknown pace", start(api.NewSweep{Pace: "furious"}), 422, "gentle"},
		{"a site that is there", create(api.NewSite{Name: "Fernhollow Botanic Garden"}), 409, "in use"},
		{"a site without a name", create(api.NewSite{}), 422, "name"},
		{"a public network", create(api.NewSite{Name: "x", Networks: []api.Network{{Subnet: "203.0.113.0/24"}}}), 422, "public network"},
		{"a network with host bits", create(api.NewSite{Name: "x", Networks: []api.Network{{Subnet: "10.1.2.3/24"}}}), 422, "10.1.2.0/24"},
		{"a site that is not there", noSite, 404, "site 99"},
		{"a device that is not there", noDevice, 404, "device 99"},
		{"an unknown column", badSort, 422, "sort"},
		{"an unknown kind", list("kind=toaster"), 422, "toaster"},
		{"an unknown standing", list("standing=lost"), 422, "want one of managed, unmanaged, missing, set aside"},
		{"confidence beyond all bounds", list("strength=1001"), 422, "no number from 0 to 1000"},
		{"a flag that is neither", list("contested=perhaps"), 422, "neither true nor false"},
		{"words without end", list("text=" + strings.Repeat("x", 201)), 422, "more than 200"},
		{"a network that the site has not", list("network=moon"), 422, "the site has none called"},
		{"a malformed MAC", badMAC, 422, "not a MAC address"},
	} {
		wantProblem(t, tt.what, tt.err, tt.status, tt.words)
	}
	if sweeps, err := s.Client.Sweeps(ctx, s.Site.ID); err != nil || len(sweeps) != 0 {
		t.Errorf("refused sweeps left %v, %v", sweeps, err)
	}
	if sites, err := s.Client.Sites(ctx); err != nil || len(sites) != 1 {
		t.Errorf("refused sites left %v, %v", sites, err)
	}
}

func TestVendorLookup(t *testing.T) {
	t.Parallel()
	s := servicetest.Demo(t, servicetest.Config{DSN: storetest.DSN(t)})
	public, err := s.Client.Vendor(t.Context(), "20-99-03-41-00-01", 0)
	if err != nil || public.Vendor != "" {
		t.Errorf("without the site: %+v, %v", public, err)
	}
	own, err := s.Client.Vendor(t.Context(), "20-99-03-41-00-01", s.Site.ID)
	if err != nil || own.Vendor != "Greywether Instruments" || own.Prefix != "20:99:03:40/28" || !own.FromSite {
		t.Errorf("with the site: %+v, %v", own, err)
	}
}

// get sends a raw request and gives status and body.
func get(t *testing.T, c *http.Client, method, url string, header map[string]string, body string) (int, string) {
	t.Helper()
	req, err := http.NewRequestWithContext(t.Context(), method, url, strings.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	for name, value := range header {
		req.Header.Set(name, value)
	}
	resp, err := c.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	if err != nil {
		t.Fatal(err)
	}
	return resp.StatusCode, string(text)
}

func TestSignIn(t *testing.T) {
	t.Parallel()
	s := servicetest.Demo(t, servicetest.Config{DSN: storetest.DSN(t)})
	jar, _ := cookiejar.New(nil)
	browser := &http.Client{Jar: jar}
	asJSON := map[string]string{"Content-Type": "application/json"}
	session, sites := s.URL+"/api/v1/session", s.URL+"/api/v1/sites"
	expect := func(what string, got, want int) {
		t.Helper()
		if got != want {
			t.Errorf("%s: status %d, want %d", what, got, want)
		}
	}
	status, body := get(t, browser, http.MethodGet, sites, nil, "")
	expect("nobody signed in", status, http.StatusUnauthorized)
	var problem struct{ Title, Detail string }
	if err := json.Unmarshal([]byte(body), &problem); err != nil || !strings.Contains(problem.Detail, "not signed in") {
		t.Errorf("the problem is %q, %v", body, err)
	}
	status, _ = get(t, browser, http.MethodGet, sites, map[string]string{"Authorization": "Bearer wrong"}, "")
	expect("a wrong token", status, http.StatusUnauthorized)
	status, _ = get(t, browser, http.MethodPost, session, asJSON, `{"user":"administrator","password":"wrong"}`)
	expect("a wrong password", status, http.StatusUnauthorized)
	foreign := map[string]string{"Content-Type": "application/json", "Origin": "http://elsewhere.example", "Sec-Fetch-Site": "cross-site"}
	status, _ = get(t, browser, http.MethodPost, session, foreign, `{"user":"administrator","password":"`+s.Password+`"}`)
	expect("another site's page", status, http.StatusForbidden)
	status, _ = get(t, browser, http.MethodPost, session, asJSON, `{"user":"administrator","password":"`+s.Password+`"}`)
	expect("the password", status, http.StatusOK)
	status, _ = get(t, browser, http.MethodGet, sites, nil, "")
	expect("signed in", status, http.StatusOK)
	status, _ = get(t, browser, http.MethodDelete, session, nil, "")
	expect("signing out", status, http.StatusNoContent)
	status, _ = get(t, browser, http.MethodGet, sites, nil, "")
	expect("signed out", status, http.StatusUnauthorized)
	// All at once, so that it does not hang on how fast a password is compared here.
	var refused atomic.Int32
	var guessing sync.WaitGroup
	for range 20 {
		guessing.Go(func() {
			if status, _ := get(t, browser, http.MethodPost, session, asJSON, `{"user":"administrator","password":"guess"}`); status == http.StatusTooManyRequests {
				refused.Add(1)
			}
		})
	}
	guessing.Wait()
	if refused.Load() == 0 {
		t.Error("nobody who guesses on and on was refused")
	}
	wantProblem(t, "a short password", s.Client.SetPassword(t.Context(), api.OwnPassword{Password: "short"}), 422, "at least 10")
	if err := s.Client.SetPassword(t.Context(), api.OwnPassword{Password: "herbarium cold vault"}); err != nil {
		t.Error(err)
	}
}

func TestEventsAreServerSentEvents(t *testing.T) {
	t.Parallel()
	s := servicetest.Demo(t, servicetest.Config{DSN: storetest.DSN(t)})
	started, err := s.Client.StartSweep(t.Context(), s.Site.ID, api.NewSweep{Ranges: "10.40.1.1-3", Pace: "brisk"})
	if err != nil {
		t.Fatal(err)
	}
	names := namesOfEvents(t, s, started.ID, "")
	if len(names) == 0 || names[len(names)-1] != "sweep" || !slices.Contains(names, "sighting") {
		t.Errorf("events %v; want sightings, and the sweep at the end", names)
	}
	if names := namesOfEvents(t, s, started.ID, "?sightings=none"); !slices.Equal(names, []string{"sweep"}) {
		t.Errorf("events without sightings of a sweep that is over: %v", names)
	}
	again, err := s.Client.StartSweep(t.Context(), s.Site.ID, api.NewSweep{Ranges: "10.40.1.1-3", Pace: "brisk"})
	if err != nil {
		t.Fatal(err)
	}
	if names := namesOfEvents(t, s, again.ID, "?sightings=none"); !slices.Contains(names, "progress") || slices.Contains(names, "sighting") {
		t.Errorf("events without sightings: %v", names)
	}
}

// namesOfEvents watches a sweep to its end.
func namesOfEvents(t *testing.T, s *servicetest.Service, sweep uint64, query string) (names []string) {
	t.Helper()
	_, body := get(t, http.DefaultClient, http.MethodGet, fmt.Sprintf("%s/api/v1/sweeps/%d/events%s", s.URL, sweep, query), map[string]string{"Authorization": "Bearer " + s.Token}, "")
	for lines := bufio.NewScanner(strings.NewReader(body)); lines.Scan(); {
		if name, ok := strings.CutPrefix(lines.Text(), "event: "); ok {
			names = append(names, name)
		}
	}
	return names
}

// newer gives a data directory that a newer version has written.
func newer(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "version"), []byte("2\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	return dir
}

func TestRunRefuses(t *testing.T) {
	t.Parallel()
	s := servicetest.Demo(t, servicetest.Config{DSN: storetest.DSN(t)})
	run := func(config service.InstanceConfig) error {
		in, err := service.Run(t.Context(), config)
		if err == nil {
			in.Close()
		}
		return err
	}
	taken := strings.TrimPrefix(s.URL, "http://")
	fresh := filepath.Join(servicetest.DataDir(t), "data")
	for _, tt := range []struct {
		what   string
		config service.InstanceConfig
		words  string
	}{
		{"a port that is taken", service.InstanceConfig{Data: fresh, Listen: taken}, "choose another port"},
		{"a certificate without its key", service.InstanceConfig{Data: fresh, Listen: "127.0.0.1:0", Certificate: "x.pem"}, "go together"},
		{"a certificate that is not there", service.InstanceConfig{Data: fresh, Listen: "127.0.0.1:0", Certificate: "x.pem", Key: "y.pem"}, "x.pem"},
		{"a data directory in use", service.InstanceConfig{Data: s.Data, Listen: "127.0.0.1:0"}, "another service runs"},
		{"a newer version's data", service.InstanceConfig{Data: newer(t), Listen: "127.0.0.1:0"}, "newer version"},
		{"no address at all", service.InstanceConfig{Data: fresh, Listen: "8470"}, "host:port"},
		{"a malformed DSN", service.InstanceConfig{Data: fresh, Listen: "127.0.0.1:0", DSN: "nonsense"}, "DSN"},
		{"a database that is not there", service.InstanceConfig{Data: fresh, Listen: "127.0.0.1:0", DSN: "u:hush@tcp(127.0.0.1:1)/x"}, "cannot be reached"},
	} {
		err := run(tt.config)
		if err == nil || !strings.Contains(strings.ToLower(err.Error()), strings.ToLower(tt.words)) || strings.Contains(err.Error(), "hush") {
			t.Errorf("%s gave %v; want an error saying %q", tt.what, err, tt.words)
		}
	}
	if _, err := os.Stat(filepath.Join(fresh, "database")); err == nil {
		t.Error("a database was made by a service that was refused")
	}
}

// The fields that the API tells of are those that its lists have, and what it says can be narrowed or sorted by is taken.
func TestFieldsAreThoseOfTheLists(t *testing.T) {
	t.Parallel()
	s := servicetest.Demo(t, servicetest.Config{DSN: storetest.DSN(t)})
	sweepOf(t, s, "10.40.1.20-22")
	var fields api.List[api.Field]
	read(t, s, fmt.Sprintf("/api/v1/sites/%d/fields", s.Site.ID), &fields)
	var lines struct{ Items []map[string]any }
	read(t, s, fmt.Sprintf("/api/v1/sites/%d/devices?presence=seen", s.Site.ID), &lines)
	if len(fields.Items) < 20 || len(lines.Items) == 0 {
		t.Fatalf("%d fields, %d devices", len(fields.Items), len(lines.Items))
	}
	known := map[string]bool{}
	for _, f := range fields.Items {
		known[f.Key] = true
		for _, filter := range []url.Values{{"sort": {f.Name}}, {f.Asked: {append(f.Choices, "12")[0]}}} {
			if filter.Has("sort") && !f.Sorted || filter.Has("") {
				continue
			}
			if f.Name == "network" || f.Filter == "is-set" {
				filter = url.Values{f.Asked: {map[string]string{"network": "offices"}[f.Name] + map[string]string{"is-set": "true"}[f.Filter]}}
			}
			if _, err := s.Client.Devices(t.Context(), s.Site.ID, client.DeviceQuery{Filter: filter}); err != nil {
				t.Errorf("%s: %v gives %v", f.Name, filter, err)
			}
		}
	}
	for key := range lines.Items[0] {
		if !known[key] {
			t.Errorf("a line has %s, which no field is", key)
		}
	}
}
