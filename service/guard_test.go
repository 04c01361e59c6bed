package service_test

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/http/cookiejar"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"
	"testing/fstest"

	"airdrift/api"
	"airdrift/client"
	"airdrift/service/servicetest"
	"airdrift/store/storetest"
)

// operation is one route of the API, and the role it wants.
type operation struct{ method, path, role string }

// operations reads every operation out of the committed description of the API.
func operations(t *testing.T) []operation {
	t.Helper()
	text, err := os.ReadFile(openAPIFile)
	if err != nil {
		t.Fatal(err)
	}
	var document struct {
		Paths map[string]map[string]struct {
			Role string `json:"x-role"`
		}
	}
	if err := json.Unmarshal(text, &document); err != nil {
		t.Fatal(err)
	}
	var found []operation
	for path, methods := range document.Paths {
		for method, op := range methods {
			found = append(found, operation{strings.ToUpper(method), path, op.Role})
		}
	}
	slices.SortFunc(found, func(a, b operation) int { return strings.Compare(a.path+a.method, b.path+b.method) })
	return found
}

// What each role may do, route by route, tried with somebody of each role. A new route is found here by itself, and one
// without a rule fails.
func TestEveryRouteByRole(t *testing.T) {
	t.Parallel()
	s := servicetest.Demo(t, servicetest.Config{DSN: storetest.DSN(t)})
	tokens := map[string]string{"": ""}
	for i, role := range []string{"look", "sweep", "administer"} {
		name := "somebody-" + role
		if _, err := s.Client.CreateUser(t.Context(), api.NewUser{Name: name, Role: role, Password: "a long password"}); err != nil {
			t.Fatal(err)
		}
		signedIn := signIn(t, s, name, "a long password")
		token, err := signedIn.CreateToken(t.Context(), fmt.Sprint("test ", i), 0)
		if err != nil {
			t.Fatal(err)
		}
		tokens[role] = token.Secret
	}
	// Numbers of which there is nothing: a request that is let through finds nothing, and changes nothing.
	fill := strings.NewReplacer("{site}", "999", "{sweep}", "999", "{device}", "999", "{token}", "999", "{user}", "nobody", "{credential}", "999", "{file}", "999", "{mac}", "00:00:01:02:03:04")
	ranks := map[string]int{"": 0, "look": 1, "sweep": 2, "administer": 3}
	all := operations(t)
	if len(all) < 40 {
		t.Fatalf("only %d operations are described", len(all))
	}
	// What revokes one's own tokens comes last: it takes those of this test.
	slices.SortStableFunc(all, func(a, b operation) int {
		last := func(op operation) string {
			return strconv.FormatBool(op.method == http.MethodDelete && op.path == "/api/v1/access")
		}
		return strings.Compare(last(a), last(b))
	})
	for _, op := range all {
		if op.role == "anybody" {
			if op.path != "/api/v1/session" || op.method != http.MethodPost {
				t.Errorf("%s %s is open to anybody", op.method, op.path)
			}
			continue
		}
		if ranks[op.role] == 0 {
			t.Errorf("%s %s has no rule that says who may use it", op.method, op.path)
			continue
		}
		if op.method != http.MethodGet && op.role == "look" && !strings.HasPrefix(op.path, "/api/v1/session") && !strings.HasPrefix(op.path, "/api/v1/password") && !strings.HasPrefix(op.path, "/api/v1/tokens") && !strings.HasPrefix(op.path, "/api/v1/second-factor") && op.path != "/api/v1/access" {
			t.Errorf("%s %s changes something, and who may only look may use it", op.method, op.path)
		}
		for role, token := range tokens {
			header := map[string]string{"Content-Type": "application/json"}
			want := "let through"
			switch {
			case token == "":
				want = "401"
			case ranks[role] < ranks[op.role]:
				want = "403"
			}
			if token != "" {
				header["Authorization"] = "Bearer " + token
			}
			status, body := get(t, http.DefaultClient, op.method, s.URL+fill.Replace(op.path), header, "{}")
			got := strconv.Itoa(status)
			if status != http.StatusUnauthorized && status != http.StatusForbidden {
				got = "let through"
			}
			if got != want {
				t.Errorf("%s %s by %q: %s, want %s: %.200s", op.method, op.path, role, got, want, body)
			}
		}
	}
}

// openSession signs in as the console does, and gives the browser that holds the session.
func openSession(t *testing.T, s *servicetest.Service, name, password string) *http.Client {
	t.Helper()
	jar, err := cookiejar.New(nil)
	if err != nil {
		t.Fatal(err)
	}
	browser := &http.Client{Jar: jar}
	status, body := get(t, browser, http.MethodPost, s.URL+"/api/v1/session", map[string]string{"Content-Type": "application/json"},
		fmt.Sprintf(`{"user":%q,"password":%q}`, name, password))
	if status != http.StatusOK {
		t.Fatalf("sign-in of %s: status %d, %s", name, status, body)
	}
	return browser
}

// signIn signs in as the console does, and gives a client that acts for the user by a token made there.
func signIn(t *testing.T, s *servicetest.Service, name, password string) *client.Client {
	t.Helper()
	browser := openSession(t, s, name, password)
	status, body := get(t, browser, http.MethodPost, s.URL+"/api/v1/tokens", map[string]string{"Content-Type": "application/json"}, `{"label":"from the console"}`)
	var token api.Token
	if err := json.Unmarshal([]byte(body), &token); status != http.StatusCreated || err != nil {
		t.Fatalf("token of %s: status %d, %s", name, status, body)
	}
	return s.By(token.Secret)
}

func TestConsoleFiles(t *testing.T) {
	t.Parallel()
	files := fstest.MapFS{"index.html": {Data: []byte("<title>Airdrift</title>")}, "assets/index-abc.js": {Data: []byte("1")}, "assets/large-abc.js": {Data: bytes.Repeat([]byte("console "), 1000)}, "icon.svg": {Data: []byte("<svg/>")}}
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
	// What a page asks for first is named with the page; nothing is that somebody made up in the path.
	for path, want := range map[string]string{
		"/sign-in":                       "",
		"/sites/7/devices":               "</api/v1/session> </api/v1/sites>",
		"/sites/7":                       "</api/v1/session> </api/v1/sites> </api/v1/sites/7/overview>",
		"/sites/7%3E%3B%20rel=canonical": "",
	} {
		req, err := http.NewRequestWithContext(t.Context(), http.MethodGet, s.URL+path, nil)
		if err != nil {
			t.Fatal(err)
		}
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		resp.Body.Close()
		if got := strings.ReplaceAll(strings.Join(resp.Header.Values("Link"), " "), "; rel=preload; as=fetch; crossorigin", ""); got != want {
			t.Errorf("%s names %q to be asked for first, want %q", path, got, want)
		}
	}
	// Browsers that take it are given files compressed; ranges, and what compressing does not spare, as they are.
	plain := &http.Client{Transport: &http.Transport{DisableCompression: true}}
	for _, tt := range []struct {
		path   string
		header http.Header
		coding string
	}{
		{"/assets/large-abc.js", http.Header{"Accept-Encoding": {"br, gzip"}}, "gzip"},
		{"/assets/large-abc.js", http.Header{"Accept-Encoding": {"gzip;q=0, br"}}, ""},
		{"/assets/large-abc.js", nil, ""},
		{"/assets/large-abc.js", http.Header{"Accept-Encoding": {"gzip"}, "Range": {"bytes=0-9"}}, ""},
		{"/assets/index-abc.js", http.Header{"Accept-Encoding": {"gzip"}}, ""},
		{"/assets/gone.js", http.Header{"Accept-Encoding": {"gzip"}}, ""},
	} {
		req, err := http.NewRequestWithContext(t.Context(), http.MethodGet, s.URL+tt.path, nil)
		if err != nil {
			t.Fatal(err)
		}
		maps.Copy(req.Header, tt.header)
		resp, err := plain.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		body, err := io.ReadAll(resp.Body)
		resp.Body.Close()
		if coding := resp.Header.Get("Content-Encoding"); err != nil || coding != tt.coding || resp.Header.Get("Vary") == "" && tt.header.Get("Range") == "" {
			t.Errorf("%s with %v comes as %q of %d bytes, varying by %q, %v; want %q", tt.path, tt.header, coding, len(body), resp.Header.Get("Vary"), err, tt.coding)
		}
		if tt.coding == "gzip" {
			zip, err := gzip.NewReader(bytes.NewReader(body))
			if err != nil {
				t.Fatal(err)
			}
			if text, err := io.ReadAll(zip); err != nil || len(text) != 8000 || len(body) > 1000 {
				t.Errorf("%d bytes come to %d, %v", len(body), len(text), err)
			}
		}
	}
}
