package service_test

import (
	"crypto/tls"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"airdrift/api"
	"airdrift/client"
	"airdrift/service"
	"airdrift/service/servicetest"
	"airdrift/store/storetest"
)

// runOn starts a service and closes it when the test ends.
func runOn(t *testing.T, config service.InstanceConfig) (*service.Instance, error) {
	t.Helper()
	if config.Vantages == nil {
		config.Vantages = service.FixedVantages{}
	}
	in, err := service.Run(t.Context(), config)
	if err == nil {
		t.Cleanup(func() { _ = in.Close() })
	}
	return in, err
}

// By TLS the service is met with a certificate that it made itself, and by nobody who shows another.
func TestTLS(t *testing.T) {
	t.Parallel()
	data := servicetest.DataDir(t)
	in, err := runOn(t, service.InstanceConfig{Data: data, Listen: "127.0.0.1:0", DSN: storetest.DSN(t), TLS: true})
	if err != nil {
		t.Fatal(err)
	}
	if !strings.HasPrefix(in.URL, "https://127.0.0.1:") || len(in.Pin) != 64 {
		t.Fatalf("it is at %s with the pin %q", in.URL, in.Pin)
	}
	address, err := service.Find(data)
	if err != nil || address.Pin != in.Pin {
		t.Fatalf("found %+v, %v", address, err)
	}
	token, err := client.Local(data).CreateToken(t.Context(), "laptop", 1)
	if err != nil {
		t.Fatal(err)
	}
	by := func(pin string) error {
		cl, err := client.New(address.URL, token.Secret, pin)
		if err != nil {
			t.Fatal(err)
		}
		_, err = cl.Sites(t.Context())
		return err
	}
	if err := by(address.Pin); err != nil {
		t.Error(err)
	}
	if err := by(strings.Repeat("0", 64)); err == nil || !strings.Contains(err.Error(), "another key") {
		t.Errorf("another certificate gave %v", err)
	}
	if err := by(""); err == nil {
		t.Error("a certificate that nobody has signed was believed")
	}
	browser := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}
	password, err := os.ReadFile(in.PasswordFile())
	if err != nil {
		t.Fatal(err)
	}
	body := `{"user":"administrator","password":"` + strings.TrimSpace(string(password)) + `"}`
	resp, err := browser.Post(in.URL+"/api/v1/session", "application/json", strings.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	resp.Body.Close()
	if c := resp.Cookies(); len(c) != 1 || c[0].Name != "__Host-airdrift_session" || !c[0].Secure || !c[0].HttpOnly || c[0].SameSite != http.SameSiteStrictMode {
		t.Errorf("the session's cookie is %v", c)
	}
	if info, err := os.Stat(filepath.Join(data, "tls-key.pem")); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the key's file is %v, %v", info, err)
	}
	if err := in.Close(); err != nil {
		t.Fatal(err)
	}
	again, err := runOn(t, service.InstanceConfig{Data: data, Listen: "127.0.0.1:0", DSN: storetest.DSN(t), TLS: true})
	if err != nil || again.Pin != in.Pin {
		t.Errorf("the next start has another certificate: %v", err)
	}
}

// An address that other machines can reach is never served in the clear.
func TestOtherAddressesWantTLS(t *testing.T) {
	t.Parallel()
	in, err := runOn(t, service.InstanceConfig{Data: servicetest.DataDir(t), Listen: "127.0.0.1:0", DSN: storetest.DSN(t)})
	if err != nil || !strings.HasPrefix(in.URL, "http://127.0.0.1:") {
		t.Fatalf("on loopback: %v", err)
	}
	for listen, want := range map[string]string{"127.0.0.1": "want host:port", "nonsense:99999": "cannot listen"} {
		if _, err := runOn(t, service.InstanceConfig{Data: servicetest.DataDir(t), Listen: listen}); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s gave %v, want %q", listen, err, want)
		}
	}
	for _, listen := range []string{"0.0.0.0:0", "[::]:0", "127.0.0.1:0"} {
		config := service.InstanceConfig{Listen: listen}
		if secure, err := service.NeedsTLS(config); err != nil || secure == strings.HasPrefix(listen, "127.") {
			t.Errorf("%s by TLS: %v, %v", listen, secure, err)
		}
	}
}

func TestDataDirectoriesThatCannotBeUsed(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]string{"99\n": "newer version", "who knows": "does not hold the number of a version"} {
		other := servicetest.DataDir(t)
		if err := os.WriteFile(filepath.Join(other, "version"), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		if _, err := runOn(t, service.InstanceConfig{Data: other, Listen: "127.0.0.1:0"}); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("a directory of version %q gave %v", text, err)
		}
	}
	file := filepath.Join(servicetest.DataDir(t), "file")
	if err := os.WriteFile(file, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := runOn(t, service.InstanceConfig{Data: file, Listen: "127.0.0.1:0"}); err == nil || !strings.Contains(err.Error(), "data directory") {
		t.Errorf("a file in the place of the directory gave %v", err)
	}
}

// A session that has ended is told from nobody's signing in at all.
func TestExpiredSession(t *testing.T) {
	t.Parallel()
	s := servicetest.Demo(t, servicetest.Config{DSN: storetest.DSN(t)})
	browser := openSession(t, s, "administrator", s.Password)
	if status, body := get(t, browser, http.MethodGet, s.URL+"/api/v1/sites", nil, ""); status != http.StatusOK {
		t.Fatalf("signed in: status %d, %s", status, body)
	}
	if err := s.Client.RevokeUserAccess(t.Context(), "administrator"); err != nil {
		t.Fatal(err)
	}
	status, body := get(t, browser, http.MethodGet, s.URL+"/api/v1/sites", nil, "")
	if status != http.StatusUnauthorized || !strings.Contains(body, "the session has expired: sign in again") {
		t.Errorf("status %d, %s", status, body)
	}
	if _, err := s.Client.CreateUser(t.Context(), api.NewUser{Name: "mason", Role: "sweep", Password: "over the garden wall"}); err != nil {
		t.Fatal(err)
	}
	mason := signIn(t, s, "mason", "over the garden wall")
	if err := s.Client.SetRole(t.Context(), "mason", "look"); err != nil {
		t.Fatal(err)
	}
	_, err := mason.StartSweep(t.Context(), s.Site.ID, api.NewSweep{})
	wantProblem(t, "a token of somebody whose role was taken back", err, http.StatusForbidden, "your role is look")
	if err := s.Client.DeleteUser(t.Context(), "mason"); err != nil {
		t.Fatal(err)
	}
	_, err = mason.Sites(t.Context())
	wantProblem(t, "a token of a user who is gone", err, http.StatusUnauthorized, "not signed in")
}
