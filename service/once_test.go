package service_test

import (
	"bytes"
	"encoding/json"
	"io"
	"net/http"
	"os"
	"strings"
	"testing"

	"airdrift/api"
	"airdrift/client"
	"airdrift/service/servicetest"
	"airdrift/store/storetest"
)

// asks sends a request with more in its header and gives the answer with its body.
func asks(t *testing.T, s *servicetest.Service, method, path string, body any, header http.Header) (*http.Response, string) {
	t.Helper()
	text, err := json.Marshal(body)
	if err != nil {
		t.Fatal(err)
	}
	req, err := http.NewRequestWithContext(t.Context(), method, s.URL+path, bytes.NewReader(text))
	if err != nil {
		t.Fatal(err)
	}
	if header != nil {
		req.Header = header.Clone()
	}
	req.Header.Set("Authorization", "Bearer "+s.Token)
	req.Header.Set("Content-Type", "application/json")
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	answer, err := io.ReadAll(resp.Body)
	if err != nil {
		t.Fatal(err)
	}
	return resp, string(answer)
}

// A request that is sent again with its key is carried out once, and answered as it was; another under the same key is refused.
func TestIdempotencyKey(t *testing.T) {
	t.Parallel()
	s := servicetest.Demo(t, servicetest.Config{DSN: storetest.DSN(t)})
	entries := "/api/v1/sites/1/register/entries"
	key := http.Header{"Idempotency-Key": {"7f3a"}}
	first, text := asks(t, s, http.MethodPost, entries, api.EntryText{Name: "ash"}, key)
	again, same := asks(t, s, http.MethodPost, entries, api.EntryText{Name: "ash"}, key)
	if first.StatusCode != http.StatusCreated || again.StatusCode != http.StatusCreated || text != same || again.Header.Get("Idempotency-Replayed") != "true" || first.Header.Get("Idempotency-Replayed") != "" {
		t.Errorf("answered %d %q, then %d %q with %v", first.StatusCode, text, again.StatusCode, same, again.Header)
	}
	other, text := asks(t, s, http.MethodPost, entries, api.EntryText{Name: "birch"}, key)
	if other.StatusCode != http.StatusUnprocessableEntity || !strings.Contains(text, "urn:airdrift:problem:key-used") {
		t.Errorf("another request with the key: %d %s", other.StatusCode, text)
	}
	// What was refused is refused again in the same words, and a key of its own goes on.
	if refused, text := asks(t, s, http.MethodPost, entries, api.EntryText{Name: "ash"}, http.Header{"Idempotency-Key": {"other"}}); refused.StatusCode != http.StatusConflict || !strings.Contains(text, "urn:airdrift:problem:already-there") {
		t.Errorf("the same entry under another key: %d %s", refused.StatusCode, text)
	}
	if long, _ := asks(t, s, http.MethodPost, entries, api.EntryText{Name: "oak"}, http.Header{"Idempotency-Key": {strings.Repeat("k", 500)}}); long.StatusCode != http.StatusUnprocessableEntity {
		t.Errorf("a key of 500 bytes: %d", long.StatusCode)
	}
	if list, err := s.Client.Register(t.Context(), s.Site.ID); err != nil || len(list) != 1 {
		t.Errorf("the register has %+v, %v", list, err)
	}
	// An answer without a body is one too.
	for range 2 {
		if resp, text := asks(t, s, http.MethodPost, "/api/v1/sites/1/reevaluate", nil, http.Header{"Idempotency-Key": {"reevaluate"}}); resp.StatusCode != http.StatusNoContent {
			t.Errorf("reading again is answered %d %s", resp.StatusCode, text)
		}
	}
	// A secret that is told once is never kept: making a token is not among what is answered again.
	one, a := asks(t, s, http.MethodPost, "/api/v1/tokens", api.NewToken{Label: "x", Days: 1}, key)
	two, b := asks(t, s, http.MethodPost, "/api/v1/tokens", api.NewToken{Label: "x", Days: 1}, key)
	if one.StatusCode/100 != 2 || two.StatusCode/100 != 2 || a == b {
		t.Errorf("tokens: %d, %d", one.StatusCode, two.StatusCode)
	}
}

// cut loses the answers to the first requests on the way, which the service has carried out.
type cut struct{ lost int }

func (c *cut) RoundTrip(req *http.Request) (*http.Response, error) {
	resp, err := http.DefaultTransport.RoundTrip(req)
	if err == nil && c.lost > 0 {
		c.lost--
		_ = resp.Body.Close()
		return nil, io.ErrUnexpectedEOF
	}
	return resp, err
}

// A sweep whose start was answered into the void is not started twice.
func TestLostAnswerStartsOneSweep(t *testing.T) {
	t.Parallel()
	s := servicetest.Demo(t, servicetest.Config{DSN: storetest.DSN(t)})
	flaky := client.Over(&http.Client{Transport: &cut{lost: 2}}, s.URL, s.Token)
	started, err := flaky.StartSweep(t.Context(), s.Site.ID, api.NewSweep{Ranges: "10.40.1.40-42", Pace: "brisk"})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.Client.Watch(t.Context(), started.ID, client.Watcher{}); err != nil {
		t.Fatal(err)
	}
	if sweeps, err := s.Client.Sweeps(t.Context(), s.Site.ID); err != nil || len(sweeps) != 1 {
		t.Errorf("there are %d sweeps, %v", len(sweeps), err)
	}
}

// What somebody else has changed meanwhile is not written over by whoever says what he has looked at.
func TestIfMatch(t *testing.T) {
	t.Parallel()
	s := servicetest.Demo(t, servicetest.Config{DSN: storetest.DSN(t)})
	ctx := t.Context()
	entry, err := s.Client.AddEntry(ctx, s.Site.ID, api.EntryText{Name: "ash"})
	if err != nil {
		t.Fatal(err)
	}
	look := func(path string) string {
		t.Helper()
		resp, text := asks(t, s, http.MethodGet, path, nil, nil)
		if tag := resp.Header.Get("ETag"); resp.StatusCode == http.StatusOK && tag != "" {
			return tag
		}
		t.Fatalf("%s: %d %s", path, resp.StatusCode, text)
		return ""
	}
	write := func(what, method, path string, body any, tag string, want int) {
		t.Helper()
		resp, text := asks(t, s, method, path, body, http.Header{"If-Match": {tag}})
		if resp.StatusCode != want || want == http.StatusPreconditionFailed && !strings.Contains(text, "urn:airdrift:problem:changed-meanwhile") {
			t.Errorf("%s: %d %s, want %d", what, resp.StatusCode, text, want)
		}
	}
	for _, tt := range []struct {
		what, look, method, path string
		body                     any
	}{
		{"an entry", "/api/v1/register/1", http.MethodPut, "/api/v1/register/1", api.EntryText{Name: "birch"}},
		{"a note", "/api/v1/devices/1", http.MethodPut, "/api/v1/devices/1/note", api.Note{Text: "behind the boiler"}},
		{"a group", "/api/v1/devices/1", http.MethodPut, "/api/v1/devices/1/group", api.Group{Name: "attic"}},
		{"a site", "/api/v1/sites/1", http.MethodPut, "/api/v1/sites/1/name", api.SiteName{Name: "Fernhollow gardens"}},
	} {
		before := look(tt.look)
		write(tt.what+" as it was looked at", tt.method, tt.path, tt.body, before, map[bool]int{true: http.StatusNoContent, false: http.StatusOK}[strings.HasPrefix(tt.path, "/api/v1/devices")])
		write(tt.what+" that was changed meanwhile", tt.method, tt.path, tt.body, before, http.StatusPreconditionFailed)
		write(tt.what+" whatever it is", tt.method, tt.path, tt.body, "*", map[bool]int{true: http.StatusNoContent, false: http.StatusOK}[strings.HasPrefix(tt.path, "/api/v1/devices")])
		if look(tt.look) == before {
			t.Errorf("%s has the tag that it had before it was changed", tt.what)
		}
	}
	write("an entry deleted as it was before", http.MethodDelete, "/api/v1/register/1", nil, entry.Tag, http.StatusPreconditionFailed)
}

// A site is deleted with everything of it once its name was typed, and with nothing of another.
func TestDeleteSite(t *testing.T) {
	t.Parallel()
	s := servicetest.Demo(t, servicetest.Config{DSN: storetest.DSN(t)})
	ctx := t.Context()
	sweep := sweepOf(t, s, "10.40.1.40-48")
	other, err := s.Client.CreateSite(ctx, api.NewSite{Name: "Ashgrove", Networks: []api.Network{{Subnet: "10.60.0.0/24"}}})
	if err != nil {
		t.Fatal(err)
	}
	for _, wrong := range []string{"", "fernhollow", "Ashgrove"} {
		if err := s.Client.DeleteSite(ctx, s.Site.ID, wrong); err == nil {
			t.Fatalf("deleted by the name %q", wrong)
		}
	}
	if err := s.Client.DeleteSite(ctx, s.Site.ID, s.Site.Name); err != nil {
		t.Fatal(err)
	}
	_, err = s.Client.Sweep(ctx, sweep.ID)
	wantProblem(t, "a sweep of a site that was deleted", err, http.StatusNotFound, "sweep")
	if sites, err := s.Client.Sites(ctx); err != nil || len(sites) != 1 || sites[0].ID != other.ID {
		t.Errorf("left are %+v, %v", sites, err)
	}
}

// Every type of problem that a program may meet is documented.
func TestProblemTypesAreDocumented(t *testing.T) {
	text, err := os.ReadFile("../docs/problems.md")
	if err != nil {
		t.Fatal(err)
	}
	source, err := os.ReadFile("problemtypes.go")
	if err != nil {
		t.Fatal(err)
	}
	for word := range strings.SplitSeq(string(source), `"`) {
		if strings.Contains(word, "-") && !strings.ContainsAny(word, " :\n./") && !bytes.Contains(text, []byte("`"+word+"`")) {
			t.Errorf("docs/problems.md says nothing of %s", word)
		}
	}
}
