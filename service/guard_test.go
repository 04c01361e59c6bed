package service_test

import (
	"context"
	"encoding/json"
	"net/http"
	"os"
	"strings"
	"testing"
	"testing/fstest"

	"airdrift/api"
	"airdrift/client"
	"airdrift/service"
	"airdrift/service/servicetest"
	"airdrift/simsite/simsitetest"
	"airdrift/store"
	"airdrift/store/storetest"
)

// operations reads every method and path out of the committed description of the API.
func operations(t *testing.T) map[string][]string {
	t.Helper()
	text, err := os.ReadFile(openAPIFile)
	if err != nil {
		t.Fatal(err)
	}
	var document struct {
		Paths map[string]map[string]any
	}
	if err := json.Unmarshal(text, &document); err != nil {
		t.Fatal(err)
	}
	found := map[string][]string{}
	for path, methods := range document.Paths {
		for method := range methods {
			found[path] = append(found[path], strings.ToUpper(method))
		}
	}
	return found
}

// Every operation but the sign-in itself wants a sign-in. A new one is found here by itself.
func TestEveryOperationWantsASignIn(t *testing.T) {
	s := servicetest.Demo(t, servicetest.Config{DSN: storetest.DSN(t)})
	fill := strings.NewReplacer("{site}", "1", "{sweep}", "1", "{device}", "1", "{mac}", "00:00:01:02:03:04")
	tried := 0
	for path, methods := range operations(t) {
		for _, method := range methods {
			if method == http.MethodPost && path == "/api/v1/session" {
				continue
			}
			tried++
			status, body := get(t, http.DefaultClient, method, s.URL+fill.Replace(path), map[string]string{"Content-Type": "application/json"}, "{}")
			if status != http.StatusUnauthorized {
				t.Errorf("%s %s without a sign-in: status %d, %s", method, path, status, body)
			}
		}
	}
	if tried < 15 {
		t.Errorf("only %d operations were tried", tried)
	}
}

func TestConsoleFiles(t *testing.T) {
	files := fstest.MapFS{"index.html": {Data: []byte("<title>Airdrift</title>")}, "assets/index-abc.js": {Data: []byte("1")}, "icon.svg": {Data: []byte("<svg/>")}}
	s := servicetest.Demo(t, servicetest.Config{Console: files, DSN: storetest.DSN(t)})
	for _, tt := range []struct {
		path, contains, cache string
		status                int
	}{
		{"/", "Airdrift", "no-cache", 200},
		{"/sites/1/devices?standing=unmanaged", "Airdrift", "no-cache", 200},
		{"/assets/index-abc.js", "1", "public, max-age=31536000, immutable", 200},
		{"/icon.svg", "svg", "", 200},
		{"/assets/gone.js", "not found", "", 404},
		{"/gone.svg", "not found", "", 404},
		{"/api/v1/nonsense", "not found", "", 404},
		{"/../../etc/passwd", "invalid", "", 400},
		{"/healthz", "ok", "", 200},
	} {
		req, err := http.NewRequestWithContext(t.Context(), http.MethodGet, s.URL+tt.path, nil)
		if err != nil {
			t.Fatal(err)
		}
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		status, body := get(t, http.DefaultClient, http.MethodGet, s.URL+tt.path, nil, "")
		resp.Body.Close()
		if status != tt.status || !strings.Contains(body, tt.contains) {
			t.Errorf("%s: status %d, %q", tt.path, status, body)
		}
		if cache := resp.Header.Get("Cache-Control"); tt.cache != "" && cache != tt.cache {
			t.Errorf("%s is to be kept as %q, want %q", tt.path, cache, tt.cache)
		}
		if policy := resp.Header.Get("Content-Security-Policy"); !strings.Contains(policy, "frame-ancestors 'none'") {
			t.Errorf("%s has the policy %q", tt.path, policy)
		}
	}
}

// TestDatabaseGoesAway ends the database in mid-sweep: the service stays, says what happened, and answers again.
func TestDatabaseGoesAway(t *testing.T) {
	db, err := store.StartServer(t.Context(), servicetest.DataDir(t))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Stop()
	scenario := simsitetest.Demo(t)
	wire, err := simsitetest.Start(t, scenario).Wire()
	if err != nil {
		t.Fatal(err)
	}
	in, err := service.Run(t.Context(), service.InstanceConfig{Data: servicetest.DataDir(t), Listen: "127.0.0.1:0", DSN: db.DSN(), Vantages: service.FixedVantages{wire}})
	if err != nil {
		t.Fatal(err)
	}
	defer in.Close()
	cl := client.New(in.URL, in.Token)
	site, err := cl.CreateSite(t.Context(), scenario.NewSite())
	if err != nil {
		t.Fatal(err)
	}
	sweep, err := cl.StartSweep(t.Context(), site.ID, api.NewSweep{Ranges: "10.40.1.0/28", Pace: "brisk"})
	if err != nil {
		t.Fatal(err)
	}
	seen, stop := context.WithCancel(t.Context())
	_, _ = cl.Watch(seen, sweep.ID, client.Watcher{Sighting: func(api.Sighting) { stop() }})
	if err := db.Stop(); err != nil {
		t.Fatal(err)
	}
	final, err := cl.Watch(t.Context(), sweep.ID, client.Watcher{})
	if err != nil || final.State != "failed" || !strings.Contains(final.Failure, "could not be") {
		t.Errorf("the sweep ended as %+v, %v", final, err)
	}
	if status, body := get(t, http.DefaultClient, http.MethodGet, in.URL+"/healthz", nil, ""); status != http.StatusServiceUnavailable || !strings.Contains(body, "database") {
		t.Errorf("health is %d, %q", status, body)
	}
	_, err = cl.Sites(t.Context())
	wantProblem(t, "a request without a database", err, http.StatusInternalServerError, "log")
}
