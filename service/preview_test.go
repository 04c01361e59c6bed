package service_test

import (
	"fmt"
	"net/http"
	"strings"
	"testing"

	"airdrift/api"
	"airdrift/client"
	"airdrift/service/servicetest"
	"airdrift/store/storetest"
)

// asIs gives all that a site shows: devices, register, figures, changes, decisions of the first device.
func asIs(t *testing.T, s *servicetest.Service) string {
	t.Helper()
	var all []string
	for _, path := range []string{"/devices?limit=1000", "/register?limit=1000", "/overview", "/changes?limit=1000", "/tenures?limit=1000"} {
		status, body := get(t, http.DefaultClient, http.MethodGet, fmt.Sprintf("%s/api/v1/sites/%d%s", s.URL, s.Site.ID, path), map[string]string{"Authorization": "Bearer " + s.Token}, "")
		if status != http.StatusOK {
			t.Fatalf("%s: status %d: %s", path, status, body)
		}
		all = append(all, body)
	}
	return strings.Join(all, "\n")
}

// A preview of an import says what would come of it and leaves no trace: no entry, no device that stands for one, no number, no standing.
func TestPreviewsLeaveNoTrace(t *testing.T) {
	t.Parallel()
	s := servicetest.Demo(t, servicetest.Config{DSN: storetest.DSN(t)})
	ctx := t.Context()
	started, err := s.Client.StartSweep(ctx, s.Site.ID, api.NewSweep{Ranges: "10.40.1.1-30", Pace: "brisk"})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.Client.Watch(ctx, started.ID, client.Watcher{}); err != nil {
		t.Fatal(err)
	}
	const hostile = "name,mac,address,note\nshed,,10.40.1.200,\n=cmd|' /C calc'!A0,,10.40.1.201,<script>alert(1)</script>\nfront desk,10:cd:94:09:82:36,,\\u202e\n"
	files := []string{hostile, "name\n" + strings.Repeat("another one\n", 1) + "\n", "name,address\nempty shelf,10.40.1.222\n"}
	before := asIs(t, s)
	for _, file := range files {
		for _, replace := range []bool{false, true} {
			if _, err := s.Client.ImportRegister(ctx, s.Site.ID, strings.NewReader(file), client.Import{Replace: replace, Preview: true}); err != nil {
				t.Errorf("a preview of %q gave %v", file, err)
			}
		}
	}
	if _, err := s.Client.ImportRegister(ctx, s.Site.ID, strings.NewReader("name,mac\nbroken,zz\n"), client.Import{Preview: true}); err == nil {
		t.Error("a faulty file is shown as if it could be imported")
	}
	if after := asIs(t, s); after != before {
		t.Errorf("after the previews the site is\n%.2000s\nwant\n%.2000s", after, before)
	}
	shown, err := s.Client.ImportRegister(ctx, s.Site.ID, strings.NewReader(hostile), client.Import{Preview: true})
	if err != nil {
		t.Fatal(err)
	}
	done, err := s.Client.ImportRegister(ctx, s.Site.ID, strings.NewReader(hostile), client.Import{})
	if err != nil || done.Added != shown.Added || done.Counts != shown.Counts || len(done.Changes) != len(shown.Changes) {
		t.Errorf("it was done as %+v, %v; shown was %+v", done, err, shown)
	}
}

// A place in a list that makes no sense is refused in words, and never costs more than a look.
func TestPlacesThatMakeNoSense(t *testing.T) {
	t.Parallel()
	s := servicetest.Demo(t, servicetest.Config{DSN: storetest.DSN(t)})
	site := fmt.Sprintf("/api/v1/sites/%d", s.Site.ID)
	for path, status := range map[string]int{
		site + "/devices?skip=-1":                http.StatusUnprocessableEntity,
		site + "/devices?skip=many":              http.StatusUnprocessableEntity,
		site + "/devices?skip=99999999999":       http.StatusUnprocessableEntity,
		site + "/devices?limit=100000":           http.StatusUnprocessableEntity,
		site + "/devices?cursor=x&skip=1":        http.StatusUnprocessableEntity,
		site + "/register?skip=-1":               http.StatusUnprocessableEntity,
		site + "/devices?skip=10000000":          http.StatusOK, // far beyond the end
		site + "/register?skip=10000000":         http.StatusOK,
		"/api/v1/sweeps/1/sightings?skip=-5":     http.StatusUnprocessableEntity,
		"/api/v1/sweeps/77/sightings?skip=5":     http.StatusNotFound,
		"/api/v1/sweeps/1/events?sightings=some": http.StatusUnprocessableEntity,
	} {
		got, body := get(t, http.DefaultClient, http.MethodGet, s.URL+path, map[string]string{"Authorization": "Bearer " + s.Token}, "")
		if got != status {
			t.Errorf("%s: status %d, want %d: %s", path, got, status, body)
		}
		if status == http.StatusOK && !strings.Contains(body, `"items":[]`) {
			t.Errorf("%s: %s", path, body)
		}
	}
}
