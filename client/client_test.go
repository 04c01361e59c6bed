package client

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"slices"
	"strings"
	"testing"
	"time"

	"airdrift/api"
)

// serve answers every request in one way and notes the last one.
func serve(t *testing.T, status int, contentType, body string) (*Client, *http.Request) {
	t.Helper()
	last := &http.Request{}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		text, _ := io.ReadAll(r.Body)
		*last = *r.Clone(context.Background())
		last.Body = io.NopCloser(strings.NewReader(string(text)))
		w.Header().Set("Content-Type", contentType)
		w.WriteHeader(status)
		_, _ = io.WriteString(w, body)
	}))
	t.Cleanup(server.Close)
	return Over(server.Client(), server.URL+"/", "secret"), last
}

func TestRequestsCarryTokenPathAndQuery(t *testing.T) {
	c, last := serve(t, 200, "application/json", `{"items":[],"total":3}`)
	list, err := c.Devices(t.Context(), 7, DeviceQuery{Filter: url.Values{"standing": {"unmanaged", "missing"}, "text": {"a b&c"}, "contested": {"true"}}, Cursor: "x", Limit: 10})
	if err != nil || list.Counted() != 3 {
		t.Fatalf("%+v, %v", list, err)
	}
	if got := last.URL.String(); got != "/api/v1/sites/7/devices?contested=true&cursor=x&limit=10&standing=unmanaged&standing=missing&text=a+b%26c" {
		t.Errorf("asked for %s", got)
	}
	if got := last.Header.Get("Authorization"); got != "Bearer secret" {
		t.Errorf("authorised by %q", got)
	}
	if _, err := c.ImportRegister(t.Context(), 7, strings.NewReader("name\nx\n"), Import{Replace: true}); err != nil {
		t.Fatal(err)
	}
	body, _ := io.ReadAll(last.Body)
	if last.Header.Get("Content-Type") != "application/octet-stream" || string(body) != "name\nx\n" || last.URL.RawQuery != "replace=true&partial=false&preview=false" {
		t.Errorf("sent %q as %s to %s", body, last.Header.Get("Content-Type"), last.URL)
	}
	if _, err := c.Vendor(t.Context(), "../../x", 0); err != nil {
		t.Fatal(err)
	}
	if strings.Contains(last.URL.EscapedPath(), "/../") {
		t.Errorf("a MAC address led to another path: %s", last.URL.EscapedPath())
	}
}

func TestProblemsAreTold(t *testing.T) {
	c, _ := serve(t, 422, "application/problem+json",
		`{"status":422,"title":"Unprocessable Entity","detail":"nothing was imported","errors":[{"message":"not a MAC","location":"line 3, column 2","value":"mac"},{"message":"odd","location":"body.ranges","value":"x"}]}`)
	_, err := c.Sites(t.Context())
	var problem *Problem
	want := "nothing was imported\n  line 3, column 2 (mac): not a MAC\n  body.ranges: odd"
	if !errors.As(err, &problem) || problem.Status != 422 || err.Error() != want {
		t.Errorf("got %v", err)
	}
	plain, _ := serve(t, 502, "text/html", "<h1>Bad gateway</h1>")
	if _, err := plain.Sites(t.Context()); err == nil || !strings.Contains(err.Error(), "502") {
		t.Errorf("a proxy's page gave %v", err)
	}
	odd, _ := serve(t, 200, "application/json", "{")
	if _, err := odd.Sites(t.Context()); err == nil {
		t.Error("half an answer was taken")
	}
}

func TestNoServiceIsTold(t *testing.T) {
	_, err := Over(&http.Client{}, "http://127.0.0.1:1", "t").Sites(t.Context())
	if err == nil || !strings.Contains(err.Error(), "is it running?") {
		t.Errorf("got %v", err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := Over(&http.Client{}, "http://127.0.0.1:1", "t").Sites(ctx); !errors.Is(err, context.Canceled) {
		t.Errorf("a request that was broken off gave %v", err)
	}
}

// A token is sent by TLS alone, and a service that sends us elsewhere is not followed.
func TestTokensStayWithTheService(t *testing.T) {
	for _, base := range []string{"http://127.0.0.1:8470", "http://localhost:1", "HTTP://10.40.1.9", "ftp://10.40.1.9", "//10.40.1.9"} {
		for _, pin := range []string{"", strings.Repeat("0", 64)} {
			if _, err := New(base, "secret", pin); err == nil {
				t.Errorf("%s with the pin %q was taken", base, pin)
			}
		}
	}
	told := false
	thief := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { told = true }))
	defer thief.Close()
	server := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, thief.URL, http.StatusFound) }))
	defer server.Close()
	sum := sha256.Sum256(server.Certificate().RawSubjectPublicKeyInfo)
	c, err := New(server.URL, "secret", hex.EncodeToString(sum[:]))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := c.Sites(t.Context()); err == nil || told {
		t.Errorf("the client followed to another place: %v", err)
	}
}

func TestWatchReadsEvents(t *testing.T) {
	stream := ": a comment\n\n" +
		"event: progress\ndata: {\"stage\":\"roll call\",\ndata: \"done\":3}\n\n" +
		"event:sighting\ndata:{\"addr\":\"10.40.1.9\"}\nid: 7\n\n" +
		"event: something new\ndata: {}\n\n" +
		"event: warning\ndata: {\"text\":\"no rights\"}\n\n" +
		"event: sweep\ndata: {\"id\":4,\"state\":\"done\"}\n\n"
	c, _ := serve(t, 200, "text/event-stream", stream)
	var got []string
	final, err := c.Watch(t.Context(), 4, Watcher{
		Progress: func(p api.Progress) { got = append(got, p.Stage) },
		Sighting: func(s api.Sighting) { got = append(got, s.Addr) },
		Warning:  func(w api.Warning) { got = append(got, w.Text) },
	})
	if err != nil || final.ID != 4 || strings.Join(got, ", ") != "roll call, 10.40.1.9, no rights" {
		t.Errorf("got %v, %+v, %v", got, final, err)
	}
	if _, err := c.Watch(t.Context(), 4, Watcher{}); err != nil {
		t.Errorf("a watcher that wants nothing gave %v", err)
	}
}

func TestWatchTellsThatTheLineBroke(t *testing.T) {
	watchWait = time.Millisecond
	for name, stream := range map[string]string{
		"before the end":  "event: progress\ndata: {}\n\n",
		"within an event": "event: sweep\ndata: {\"id\":4}",
		"nonsense":        "event: progress\ndata: {\n\n",
		"a line too long": "data: " + strings.Repeat("x", maxEvent) + "\n\n",
	} {
		c, _ := serve(t, 200, "text/event-stream", stream)
		if _, err := c.Watch(t.Context(), 4, Watcher{Progress: func(api.Progress) {}}); err == nil {
			t.Errorf("%s: no error", name)
		}
	}
}

// A line that breaks is taken up again from the event that was told last, and so is one of which the service has cut us off.
func TestWatchGoesOn(t *testing.T) {
	watchWait = time.Millisecond
	parts := []string{
		"event: progress\ndata: {\"found\":1}\nid: 7\n\nevent: progress\ndata: {\"fou", // the line breaks
		"event: progress\ndata: {\"found\":2}\nid: 9\n\nevent: behind\ndata: {}\n\n",
		"",
		"event: progress\ndata: {\"found\":3}\n\nevent: alive\ndata: {}\n\nevent: sweep\ndata: {\"id\":4,\"state\":\"done\"}\n\n",
	}
	var asked []string
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked = append(asked, r.Header.Get("Last-Event-ID"))
		w.Header().Set("Content-Type", "text/event-stream")
		_, _ = io.WriteString(w, parts[len(asked)-1])
	}))
	defer server.Close()
	var found []int
	sweep, err := Over(server.Client(), server.URL, "").Watch(t.Context(), 4, Watcher{Progress: func(p api.Progress) { found = append(found, p.Found) }})
	if err != nil || sweep.State != "done" || !slices.Equal(found, []int{1, 2, 3}) || !slices.Equal(asked, []string{"", "7", "9", "9"}) {
		t.Errorf("%+v, %v: found %v, asked behind %q", sweep, err, found, asked)
	}
}

func FuzzEvents(f *testing.F) {
	f.Add("event: sweep\ndata: {}\n\n")
	f.Add("data\n\n:\n\ndata: a\ndata: b\n\n")
	f.Fuzz(func(t *testing.T, stream string) {
		_ = events(strings.NewReader(stream), func(_, _ string, data []byte) error {
			if len(data) == 0 {
				t.Error("an event without data was told")
			}
			return nil
		})
	})
}
