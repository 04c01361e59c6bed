package service_test

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/pquerna/otp/totp"

	"airdrift/api"
	"airdrift/client"
	"airdrift/internal/localsocket"
	"airdrift/service"
	"airdrift/service/servicetest"
	"airdrift/store"
	"airdrift/store/storetest"
)

var asJSON = map[string]string{"Content-Type": "application/json"}

// Connections that ask for a file and read nothing, and others that never finish asking, keep nobody out, not even who comes from the
// same address.
func TestWhoReadsNothingKeepsNobodyOut(t *testing.T) {
	t.Parallel()
	files := fstest.MapFS{"index.html": {Data: []byte("<title>Airdrift</title>")}, "assets/large.js": {Data: make([]byte, 32<<20)}}
	s := servicetest.Demo(t, servicetest.Config{Console: files, DSN: storetest.DSN(t)})
	addr := strings.TrimPrefix(s.URL, "http://")
	for i := range 600 {
		conn, err := net.Dial("tcp", addr)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { _ = conn.Close() })
		post := "POST /api/v1/session HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Type: application/json\r\n"
		request := []string{
			"GET /assets/large.js HTTP/1.1\r\nHost: 127.0.0.1\r\n\r\n", post + "Content-Length: 900\r\n\r\n{",
			post + "Content-Length: 900000\r\n\r\n{", post + "Transfer-Encoding: chunked\r\n\r\n1\r\n{\r\n",
		}[i%4]
		if _, err := io.WriteString(conn, request); err != nil {
			t.Fatal(err)
		}
	}
	hurried := &http.Client{Timeout: 20 * time.Second, Transport: &http.Transport{DisableKeepAlives: true}}
	for _, path := range []string{"/healthz", "/", "/api/v1/sites"} {
		status, body := get(t, hurried, http.MethodGet, s.URL+path, map[string]string{"Authorization": "Bearer " + s.Token}, "")
		if status != http.StatusOK {
			t.Errorf("%s: status %d, %.100s", path, status, body)
		}
	}
	if _, err := s.Client.Sites(t.Context()); err != nil {
		t.Errorf("the local command line: %v", err)
	}
}

// With the service stopped somebody else listens on its port and at a socket of his own: the command line tells him nothing.
func TestWhoTakesThePortLearnsNothing(t *testing.T) {
	t.Parallel()
	data := servicetest.DataDir(t)
	// At an address of its own, as the tests beside this one take ports too while this one is free.
	in, err := runOn(t, service.InstanceConfig{Data: data, Listen: "127.0.0.41:0", DSN: storetest.DSN(t)})
	if err != nil {
		t.Fatal(err)
	}
	address, err := service.Find(data)
	if err != nil {
		t.Fatal(err)
	}
	if err := in.Close(); err != nil {
		t.Fatal(err)
	}
	thief, err := net.Listen("tcp", strings.TrimPrefix(address.URL, "http://"))
	if err != nil {
		t.Fatal(err)
	}
	defer thief.Close()
	heard := make(chan string, 10)
	go func() {
		for {
			conn, err := thief.Accept()
			if err != nil {
				return
			}
			line, _ := bufio.NewReader(conn).ReadString('\n')
			heard <- line
			conn.Close()
		}
	}()
	if _, err := client.Local(data).Sites(t.Context()); err == nil || !strings.Contains(err.Error(), "no service runs on this data directory") {
		t.Errorf("with the service stopped the command line says %v", err)
	}
	if _, err := client.New(address.URL, "secret", ""); err == nil {
		t.Error("a token would go to plain HTTP")
	}
	select {
	case line := <-heard:
		t.Errorf("the thief heard %q", line)
	default:
	}
	for _, name := range []string{"token", filepath.Join("local", "service.sock")} {
		if _, err := os.Lstat(filepath.Join(data, name)); err == nil {
			t.Errorf("%s is left in the data directory", name)
		}
	}
}

// A directory of the socket that others may enter, or a link in its place, is not trusted.
func TestSocketsOfOthersAreNotTrusted(t *testing.T) {
	for name, lay := range map[string]func(data string) error{
		"open to others": func(data string) error {
			if err := os.Mkdir(filepath.Join(data, "local"), 0o700); err != nil {
				return err
			}
			return os.Chmod(filepath.Join(data, "local"), 0o755)
		},
		"a link": func(data string) error { return os.Symlink("/tmp", filepath.Join(data, "local")) },
	} {
		data := t.TempDir()
		if err := lay(data); err != nil {
			t.Fatal(err)
		}
		if _, err := localsocket.Dial(t.Context(), data); err == nil || !strings.Contains(err.Error(), "closed to others") {
			t.Errorf("%s: %v", name, err)
		}
	}
	deep := t.TempDir()
	for range 12 { // a socket's own name has room for 108 bytes
		deep = filepath.Join(deep, strings.Repeat("d", 20))
	}
	if err := os.MkdirAll(deep, 0o700); err != nil {
		t.Fatal(err)
	}
	l, err := localsocket.Listen(deep)
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	go func() {
		if conn, err := l.Accept(); err == nil {
			conn.Close()
		}
	}()
	conn, err := localsocket.Dial(t.Context(), deep)
	if err != nil {
		t.Fatalf("far down: %v", err)
	}
	conn.Close()
}

// A page from elsewhere whose name was made to lead to loopback is of another origin, and gets nothing.
func TestOtherNamesAreNotServedInTheClear(t *testing.T) {
	t.Parallel()
	s := servicetest.Demo(t, servicetest.Config{Console: fstest.MapFS{"index.html": {Data: []byte("x")}}, DSN: storetest.DSN(t)})
	for host, want := range map[string]int{"evil.example": 421, "localhost.evil.example:80": 421, "localhost": 200, "127.0.0.1:9": 200, "[::1]:9": 200} {
		req, err := http.NewRequestWithContext(t.Context(), http.MethodGet, s.URL+"/healthz", nil)
		if err != nil {
			t.Fatal(err)
		}
		req.Host = host
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		resp.Body.Close()
		if resp.StatusCode != want {
			t.Errorf("as %s: status %d, want %d", host, resp.StatusCode, want)
		}
		if h := resp.Header; want == 200 && (strings.Contains(h.Get("Content-Security-Policy"), "script-src 'self' 'unsafe-inline'") || !strings.Contains(h.Get("Content-Security-Policy"), "script-src 'self';") || h.Get("Cache-Control") != "no-store") {
			t.Errorf("headers %v", h)
		}
	}
}

// What the audit log says of signing in: who has, and how often others were refused, to the last try; and strangers cannot fill it, as a minute
// has two lines for each of them at the most.
func TestAuditOfSignIns(t *testing.T) {
	t.Parallel()
	const tries = 40
	dsn := storetest.DSN(t)
	s := servicetest.Demo(t, servicetest.Config{DSN: dsn})
	openSession(t, s, "Administrator", s.Password)
	began := time.Now()
	for i := range tries {
		get(t, http.DefaultClient, http.MethodPost, s.URL+"/api/v1/session", asJSON, fmt.Sprintf(`{"user":"my-secret-%d","password":"x"}`, i))
		get(t, http.DefaultClient, http.MethodPost, s.URL+"/api/v1/session", asJSON, `{"user":"administrator","password":"x"}`)
	}
	get(t, http.DefaultClient, http.MethodGet, s.URL+fmt.Sprintf("/api/v1/sites/%d/devices.csv", s.Site.ID), map[string]string{"Authorization": "Bearer " + s.Token}, "")
	if err := s.Close(); err != nil { // what is counted is written down
		t.Fatal(err)
	}
	minutes := int(time.Since(began)/time.Minute) + 2 // begun, the first of them before the tries
	st, err := store.Open(t.Context(), dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer st.Close()
	lines, err := st.Audit(t.Context(), 0, 500)
	if err != nil {
		t.Fatal(err)
	}
	signedIn, exported, refused, told := 0, 0, map[string]int{}, map[string]int{}
	for _, l := range lines {
		switch {
		case l.Action == "sign-in" && l.Subject == "signed in":
			signedIn++
		case l.Action == "export-devices":
			exported++
		case l.Action == "sign-in":
			further := 1
			_, _ = fmt.Sscanf(l.Subject, "%d further tries", &further) // or the first of a minute
			refused[l.Who]++
			told[l.Who] += further
		}
	}
	if signedIn != 1 || exported != 1 {
		t.Errorf("the log is %+v", lines)
	}
	for _, who := range []string{"administrator", "(no such user)"} {
		if told[who] == 0 || refused[who] > 2*minutes {
			t.Errorf("of %s it tells %d tries in %d lines, want at most %d lines: %+v", who, told[who], refused[who], 2*minutes, lines)
		}
	}
	if sum := told["administrator"] + told["(no such user)"]; sum != 2*tries { // names are not looked up once an origin tries too much
		t.Errorf("it tells %d tries, want %d: %+v", sum, 2*tries, lines)
	}
	if text := fmt.Sprint(lines); strings.Contains(text, "my-secret") {
		t.Error("a name that nobody has, and that may be a password, is in the log")
	}
}

// Nothing that was opened with a password or a token outlives what takes it back.
func TestNothingOutlivesAReset(t *testing.T) {
	t.Parallel()
	s := servicetest.Demo(t, servicetest.Config{DSN: storetest.DSN(t)})
	ctx := t.Context()
	const first, second = "over the garden wall", "under the cold frame"
	if _, err := s.Client.CreateUser(ctx, api.NewUser{Name: "Mason", Role: "sweep", Password: first}); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Client.CreateUser(ctx, api.NewUser{Name: "mASON", Role: "administer", Password: first}); err == nil {
		t.Error("a name that differs in case alone was given again")
	}
	token := signIn(t, s, "MASON", first)
	browser := openSession(t, s, "mason", first)
	wantIn := func(what string, in bool) {
		t.Helper()
		_, err := token.Sites(ctx)
		status, _ := get(t, browser, http.MethodGet, s.URL+"/api/v1/sites", nil, "")
		if (err == nil) != in || (status == http.StatusOK) != in {
			t.Errorf("%s: the token gives %v, the session %d", what, err, status)
		}
	}
	wantIn("signed in", true)
	if access, err := s.Client.UserAccess(ctx, "mason"); err != nil || len(access.Tokens) != 1 || len(access.Sessions) != 2 || access.Tokens[0].Used.IsZero() {
		t.Errorf("access is %+v, %v", access, err)
	}
	status, body := get(t, browser, http.MethodPut, s.URL+"/api/v1/password", asJSON, `{"password":"`+second+`","present":"guess"}`)
	if status != http.StatusForbidden {
		t.Errorf("a new password without the old one: status %d, %s", status, body)
	}
	wantIn("after a wrong old password", true)
	if err := s.Client.ResetPassword(ctx, "mason", second); err != nil {
		t.Fatal(err)
	}
	wantIn("after a reset", false)
	token, browser = signIn(t, s, "mason", second), openSession(t, s, "mason", second)
	if err := s.Client.RevokeUserAccess(ctx, "mason"); err != nil {
		t.Fatal(err)
	}
	wantIn("after all was revoked", false)
	token, browser = signIn(t, s, "mason", second), openSession(t, s, "mason", second)
	other := openSession(t, s, "mason", second)
	status, body = get(t, browser, http.MethodPut, s.URL+"/api/v1/password", asJSON, `{"password":"`+first+`","present":"`+second+`","revokeTokens":true}`)
	if status != http.StatusNoContent {
		t.Fatalf("a new password: status %d, %s", status, body)
	}
	if _, err := token.Sites(ctx); err == nil {
		t.Error("the token outlives a change of the password that was to revoke it")
	}
	if status, _ := get(t, browser, http.MethodGet, s.URL+"/api/v1/sites", nil, ""); status != http.StatusOK {
		t.Errorf("the session that changed the password: status %d", status)
	}
	if status, _ := get(t, other, http.MethodGet, s.URL+"/api/v1/sites", nil, ""); status != http.StatusUnauthorized {
		t.Errorf("another session: status %d", status)
	}
	if err := s.Client.DeleteUser(ctx, "mason"); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Client.CreateUser(ctx, api.NewUser{Name: "mason", Role: "administer", Password: second}); err != nil {
		t.Fatal(err)
	}
	if status, _ := get(t, browser, http.MethodGet, s.URL+"/api/v1/sites", nil, ""); status != http.StatusUnauthorized {
		t.Errorf("a session of one who is gone is good for another of his name: status %d", status)
	}
}

// A stream of events that is open ends when whoever listens is signed out.
func TestOpenStreamsEndWithTheSession(t *testing.T) {
	t.Parallel()
	s := servicetest.Demo(t, servicetest.Config{DSN: storetest.DSN(t)})
	if _, err := s.Client.CreateUser(t.Context(), api.NewUser{Name: "mason", Role: "look", Password: "over the garden wall"}); err != nil {
		t.Fatal(err)
	}
	mason := signIn(t, s, "mason", "over the garden wall")
	sweep, err := s.Client.StartSweep(t.Context(), s.Site.ID, api.NewSweep{Pace: "gentle"})
	if err != nil {
		t.Fatal(err)
	}
	heard := make(chan struct{}, 1)
	ended := make(chan error, 1)
	go func() {
		_, err := mason.Watch(t.Context(), sweep.ID, client.Watcher{Progress: func(api.Progress) {
			select {
			case heard <- struct{}{}:
			default:
			}
		}})
		ended <- err
	}()
	<-heard
	if err := s.Client.RevokeUserAccess(t.Context(), "mason"); err != nil {
		t.Fatal(err)
	}
	if err := <-ended; err == nil || !strings.Contains(err.Error(), "not signed in") { // whoever comes back is not let in
		t.Errorf("the stream ended with %v", err)
	}
	if _, err := s.Client.StopSweep(t.Context(), sweep.ID); err != nil {
		t.Fatal(err)
	}
}

// A second factor is asked for once it is set up, each code is good once, and recovery codes stand in for it once each. Where the
// service requires one, nothing else can be done before.
func TestSecondFactor(t *testing.T) {
	t.Parallel()
	data := servicetest.DataDir(t)
	in, err := runOn(t, service.InstanceConfig{Data: data, Listen: "127.0.0.1:0", DSN: storetest.DSN(t), SecondFactor: true})
	if err != nil {
		t.Fatal(err)
	}
	text, err := os.ReadFile(in.PasswordFile())
	if err != nil {
		t.Fatal(err)
	}
	password := strings.TrimSpace(string(text))
	s := &servicetest.Service{Instance: in}
	browser := openSession(t, s, "administrator", password)
	ask := func(method, path, body string, into any) int {
		t.Helper()
		status, text := get(t, browser, method, in.URL+path, asJSON, body)
		if into != nil {
			if err := json.Unmarshal([]byte(text), into); err != nil {
				t.Fatalf("%s: %d %s", path, status, text)
			}
		}
		return status
	}
	if status := ask(http.MethodGet, "/api/v1/sites", "", nil); status != http.StatusForbidden {
		t.Errorf("before the second factor that is required: status %d", status)
	}
	if status := ask(http.MethodPost, "/api/v1/second-factor", `{"password":"guess"}`, nil); status != http.StatusForbidden {
		t.Errorf("without the password: status %d", status)
	}
	var begun api.SecondFactor
	ask(http.MethodPost, "/api/v1/second-factor", `{"password":"`+password+`"}`, &begun)
	if !strings.HasPrefix(begun.URL, "otpauth://totp/Airdrift:administrator?") || !strings.HasPrefix(begun.Picture, "data:image/png;base64,") {
		t.Errorf("begun is %+v", begun)
	}
	if status := ask(http.MethodPut, "/api/v1/second-factor", `{"code":"000000"}`, nil); status != http.StatusUnprocessableEntity {
		t.Errorf("a wrong code: status %d", status)
	}
	code, err := totp.GenerateCode(begun.Secret, time.Now())
	if err != nil {
		t.Fatal(err)
	}
	var recovery api.RecoveryCodes
	if status := ask(http.MethodPut, "/api/v1/second-factor", `{"code":"`+code+`"}`, &recovery); status != http.StatusOK || len(recovery.Codes) != 10 {
		t.Fatalf("the code: status %d, %+v", status, recovery)
	}
	if status := ask(http.MethodGet, "/api/v1/sites", "", nil); status != http.StatusOK {
		t.Errorf("with the second factor set up: status %d", status)
	}
	signIn := func(code string) (int, string) {
		return get(t, &http.Client{}, http.MethodPost, in.URL+"/api/v1/session", asJSON, fmt.Sprintf(`{"user":"administrator","password":%q,"code":%q}`, password, code))
	}
	if status, body := signIn(""); status != http.StatusUnauthorized || !strings.Contains(body, "urn:airdrift:problem:second-factor") {
		t.Errorf("without a code: status %d, %s", status, body)
	}
	if status, _ := signIn(code); status != http.StatusUnauthorized {
		t.Errorf("the code that was used already: status %d", status)
	}
	if status, body := signIn(strings.ToUpper(recovery.Codes[3])); status != http.StatusOK {
		t.Errorf("a recovery code: status %d, %s", status, body)
	}
	if status, _ := signIn(recovery.Codes[3]); status == http.StatusOK {
		t.Error("a recovery code was good twice")
	}
	if err := client.Local(data).ResetSecondFactor(t.Context(), "administrator"); err != nil {
		t.Error(err)
	}
}

// The file of the first password goes once another is set, and passwords in common use are refused.
func TestPasswordsThatAreSoonGuessed(t *testing.T) {
	t.Parallel()
	s := servicetest.Demo(t, servicetest.Config{DSN: storetest.DSN(t)})
	for _, password := range []string{"password123", "qwertyuiop", "1234567890", "administrator", "aaaaaaaaaaaa", "iloveyou123", "airdrift2026", "Passw0rd12"} {
		err := s.Client.SetPassword(t.Context(), api.OwnPassword{Password: password})
		wantProblem(t, password, err, http.StatusUnprocessableEntity, "soon guessed")
	}
	if err := s.Client.SetPassword(t.Context(), api.OwnPassword{Password: "herbarium cold vault"}); err != nil {
		t.Fatal(err)
	}
	if _, err := os.Lstat(s.PasswordFile()); err == nil {
		t.Error("the file of the first password is still there")
	}
}

// Networks that reach beyond one private block, groups and loopback are in no fence; name servers neither.
func TestFencesStayPrivate(t *testing.T) {
	t.Parallel()
	s := servicetest.Demo(t, servicetest.Config{DSN: storetest.DSN(t)})
	ctx := t.Context()
	for _, subnet := range []string{"10.0.0.0/7", "192.168.0.0/13", "169.254.0.0/15", "fc00::/6", "127.0.0.0/8", "::1/128", "224.0.0.0/4", "ff02::/16", "0.0.0.0/0", "8.8.8.0/24"} {
		if _, err := s.Client.AddNetwork(ctx, s.Site.ID, api.Network{Subnet: subnet}); err == nil {
			t.Errorf("%s is in the fence", subnet)
		}
	}
	for _, server := range []string{"8.8.8.8", "127.0.0.53", "224.0.0.251", "0.0.0.0", "fe80::1%eth0"} {
		if _, err := s.Client.SetNameServers(ctx, s.Site.ID, []string{server}); err == nil {
			t.Errorf("%s is a name server", server)
		}
	}
	for _, order := range []api.NewSweep{{Ranges: "10.40.1.5,224.0.0.251"}, {Ranges: "10.40.1.5", Exclusions: "239.1.2.3"}} {
		_, err := s.Client.StartSweep(ctx, s.Site.ID, order)
		wantProblem(t, fmt.Sprint(order), err, http.StatusUnprocessableEntity, "groups")
	}
}

// Behind a proxy that is trusted its word of who asks is believed; from anybody else it is not.
func TestTrustedProxies(t *testing.T) {
	t.Parallel()
	for _, trusted := range []bool{false, true} {
		config := service.InstanceConfig{Data: servicetest.DataDir(t), Listen: "127.0.0.1:0", DSN: storetest.DSN(t)}
		if trusted {
			config.Proxies = []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}
		}
		in, err := runOn(t, config)
		if err != nil {
			t.Fatal(err)
		}
		get(t, http.DefaultClient, http.MethodPost, in.URL+"/api/v1/session", map[string]string{"Content-Type": "application/json", "X-Forwarded-For": "198.51.100.66, 10.9.8.7"}, `{"user":"administrator","password":"x"}`)
		lines, err := client.Local(config.Data).Audit(t.Context(), 10)
		want := map[bool]string{false: "127.0.0.1", true: "10.9.8.7"}[trusted]
		if err != nil || !slices.ContainsFunc(lines, func(l api.AuditLine) bool { return l.Action == "sign-in" && l.Origin == want }) {
			t.Errorf("trusted %t: the log is %+v, %v; want the origin %s", trusted, lines, err, want)
		}
	}
}

// Who watches sweeps, as often as he likes, keeps nobody from being answered: streams have places of their own.
func TestStreamsTakeNoPlaces(t *testing.T) {
	t.Parallel()
	s := servicetest.Demo(t, servicetest.Config{DSN: storetest.DSN(t)})
	started, err := s.Client.StartSweep(t.Context(), s.Site.ID, api.NewSweep{Pace: "gentle"})
	if err != nil {
		t.Fatal(err)
	}
	path := fmt.Sprintf("%s/api/v1/sweeps/%d/events", s.URL, started.ID)
	refused := 0
	for range 80 { // more than a client has places of either sort
		req, err := http.NewRequestWithContext(t.Context(), http.MethodGet, path, nil)
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Authorization", "Bearer "+s.Token)
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		if resp.StatusCode == http.StatusTooManyRequests {
			refused++
		}
	}
	if refused == 0 {
		t.Error("one client has 80 streams")
	}
	if resp, text := asks(t, s, http.MethodGet, "/api/v1/sites", nil, nil); resp.StatusCode != http.StatusOK {
		t.Errorf("beside many streams a request is answered %d %s", resp.StatusCode, text)
	}
	if _, err := s.Client.StopSweep(t.Context(), started.ID); err != nil {
		t.Fatal(err)
	}
}
