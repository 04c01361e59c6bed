package service_test

import (
	"bytes"
	"io"
	"io/fs"
	"log/slog"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"airdrift/api"
	"airdrift/client"
	"airdrift/service/servicetest"
	"airdrift/store/storetest"
)

// hidden are the secrets that a test types in. None of them may be met again anywhere.
var hidden = []string{"stone-and-heron", "stilts-in-the-water", "reeds-and-rushes", "a-community-that-is-refused"}

// everything keeps all that is told, by whichever way.
type everything struct {
	mu   sync.Mutex // guards text
	text bytes.Buffer
}

func (tr *everything) Write(b []byte) (int, error) {
	tr.mu.Lock()
	defer tr.mu.Unlock()
	return tr.text.Write(b)
}

func (tr *everything) RoundTrip(r *http.Request) (*http.Response, error) {
	resp, err := http.DefaultTransport.RoundTrip(r)
	if err != nil {
		return nil, err
	}
	resp.Body = struct {
		io.Reader
		io.Closer
	}{io.TeeReader(resp.Body, tr), resp.Body}
	return resp, nil
}

// TestSecretsAreNeverToldAgain types secrets in by every way there is, right and wrong, uses them, and then looks for them in
// every answer, in the events, in the log, in the audit log, in the exports, and in every file that the service and its
// database have written.
func TestSecretsAreNeverToldAgain(t *testing.T) {
	told := &everything{}
	before := slog.Default()
	slog.SetDefault(slog.New(slog.NewTextHandler(told, &slog.HandlerOptions{Level: slog.LevelDebug})))
	t.Cleanup(func() { slog.SetDefault(before) })
	s := servicetest.Demo(t, servicetest.Config{}) // with a database of its own, to look into its files
	ctx := t.Context()
	say := func(method, path, body string) string {
		_, answer := get(t, &http.Client{Transport: told}, method, s.URL+path, map[string]string{"Authorization": "Bearer " + s.Token, "Content-Type": "application/json"}, body)
		return answer
	}
	credentials := []api.NewCredential{
		{Name: "second", Version: "2c", Community: hidden[0]},
		{Name: "third", Version: "3", User: "heron", Auth: "SHA-256", AuthKey: hidden[1], Priv: "AES", PrivKey: hidden[2]},
	}
	var ids []uint64
	for _, c := range credentials {
		entered, err := s.Client.CreateCredential(ctx, s.Site.ID, c)
		if err != nil {
			t.Fatal(err)
		}
		ids = append(ids, entered.ID)
	}
	path := "/api/v1/sites/1/credentials"
	for what, body := range map[string]string{
		"twice":     `{"name":"second","version":"2c","community":"` + hidden[0] + `"}`,
		"broken":    `{"name":"x","version":"2c","community":"` + hidden[3] + `"`,
		"a version": `{"name":"x","version":"` + hidden[3] + `","community":"` + hidden[3] + `"}`,
		"too much":  `{"name":"x","version":"3","user":"u","community":"` + hidden[3] + `"}`,
		"too long":  `{"name":"x","version":"2c","community":"` + strings.Repeat(hidden[3], 20) + `"}`,
		"no field":  `{"name":"x","version":"2c","` + hidden[3] + `":1,"community":{"a":"` + hidden[3] + `"}}`,
	} {
		if answer := say(http.MethodPost, path, body); !strings.Contains(answer, "title") {
			t.Errorf("%s was taken: %s", what, answer)
		}
	}
	sweep, err := s.Client.StartSweep(ctx, s.Site.ID, api.NewSweep{Ranges: "10.40.1.1-10.40.1.3, 10.40.2.16", Pace: "brisk"})
	if err != nil {
		t.Fatal(err)
	}
	say(http.MethodGet, "/api/v1/sweeps/1/events", "")
	if _, err := s.Client.Watch(ctx, sweep.ID, client.Watcher{}); err != nil {
		t.Fatal(err)
	}
	list, err := s.Client.Devices(ctx, s.Site.ID, client.DeviceQuery{})
	if err != nil || len(list.Items) == 0 {
		t.Fatal(list, err)
	}
	for _, id := range ids {
		if _, err := s.Client.TryCredential(ctx, list.Items[0].ID, id); err != nil {
			t.Error(err)
		}
	}
	for _, op := range operations(t) {
		if op.method == http.MethodGet && !strings.Contains(op.path, "events") {
			say(op.method, strings.NewReplacer("{site}", "1", "{sweep}", "1", "{device}", "1", "{mac}", "00:00:01:02:03:04").Replace(op.path)+"?address=10.40.1.1", "")
		}
	}
	if err := s.Client.RemoveCredential(ctx, ids[0]); err != nil {
		t.Error(err)
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	lookFor(t, "what was told", told.text.Bytes())
	if told.text.Len() < 10_000 {
		t.Errorf("only %d bytes were told: the test does not look where it should", told.text.Len())
	}
	files := 0
	err = filepath.WalkDir(s.Data, func(path string, entry fs.DirEntry, err error) error {
		if err != nil || !entry.Type().IsRegular() {
			return err
		}
		data, err := os.ReadFile(path)
		files++
		lookFor(t, path, data)
		return err
	})
	if err != nil || files < 20 {
		t.Errorf("%d files, %v", files, err)
	}
}

func lookFor(t *testing.T, where string, data []byte) {
	t.Helper()
	for _, secret := range hidden {
		if at := bytes.Index(data, []byte(secret)); at >= 0 {
			t.Errorf("%s tells %q: %q", where, secret, data[max(0, at-80):min(len(data), at+len(secret)+20)])
		}
	}
}

// TestCredentialsOpenAgents sweeps a part of the building whose agents answer to a community that is not the usual one.
func TestCredentialsOpenAgents(t *testing.T) {
	t.Parallel()
	s := servicetest.Demo(t, servicetest.Config{DSN: storetest.DSN(t)})
	ctx := t.Context()
	list, err := s.Client.Credentials(ctx, s.Site.ID)
	if err != nil || len(list) != 1 || list[0].Name != "garden read" {
		t.Fatalf("credentials %+v, %v", list, err)
	}
	_, err = s.Client.CreateCredential(ctx, s.Site.ID, api.NewCredential{Name: "x", Version: "3", User: "u", Auth: "SHA", AuthKey: "short"})
	wantProblem(t, "a short key", err, http.StatusUnprocessableEntity, "at least 8 characters")
	_, err = s.Client.CreateCredential(ctx, s.Site.ID, api.NewCredential{Name: "x", Version: "3", User: "u", Priv: "AES", PrivKey: "long enough"})
	wantProblem(t, "privacy alone", err, http.StatusUnprocessableEntity, "encryption wants authentication too")
	sweep, err := s.Client.StartSweep(ctx, s.Site.ID, api.NewSweep{Ranges: "10.40.2.10, 10.40.2.11, 10.40.1.20", Pace: "brisk"})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.Client.Watch(ctx, sweep.ID, client.Watcher{}); err != nil {
		t.Fatal(err)
	}
	found, err := s.Client.Devices(ctx, s.Site.ID, client.DeviceQuery{Filter: url.Values{"model": {"Climate 900"}, "service": {"snmp"}, "vendor": {"Thornquist Controls"}, "firmware": {"4.2"}, "strength": {"10"}}})
	if err != nil || found.Counted() != 2 {
		t.Fatalf("%d devices are told by their agents, want 2: %+v %v", found.Counted(), found, err)
	}
	device, err := s.Client.Device(ctx, found.Items[0].ID)
	if err != nil || len(device.Interfaces) == 0 || len(device.Parts) == 0 || len(device.Names) == 0 {
		t.Errorf("of the device are known %d interfaces, %d parts, names %v; %v", len(device.Interfaces), len(device.Parts), device.Names, err)
	}
	trial, err := s.Client.TryCredential(ctx, device.ID, list[0].ID)
	if err != nil || !trial.Taken || len(trial.Facts) == 0 {
		t.Errorf("the right credential: %+v, %v", trial, err)
	}
	other, err := s.Client.CreateCredential(ctx, s.Site.ID, api.NewCredential{Name: "weeds", Version: "2c", Community: "weeds"})
	if err != nil {
		t.Fatal(err)
	}
	if trial, err = s.Client.TryCredential(ctx, device.ID, other.ID); err != nil || trial.Taken || !trial.Answered {
		t.Errorf("a wrong credential: %+v, %v", trial, err)
	}
	_, err = s.Client.TryCredential(ctx, device.ID, 999)
	wantProblem(t, "a credential that is not there", err, http.StatusNotFound, "credential 999")
	if err := s.Client.RemoveCredential(ctx, other.ID); err != nil {
		t.Error(err)
	}
	if err := s.Client.RemoveCredential(ctx, other.ID); err == nil {
		t.Error("a credential was deleted twice")
	}
}

const bells = "rules:\n  - rule: bells\n    because: They ring.\n    when: [{keys: [http.title], words: [scan]}]\n    says: [{attribute: model, value: Bell, strength: 30}]\n"

// TestRulesOfASite tries, switches and takes back rules, and imports leases: each reads the stored evidence again.
func TestRulesOfASite(t *testing.T) {
	t.Parallel()
	s := servicetest.Demo(t, servicetest.Config{DSN: storetest.DSN(t)})
	ctx, site := t.Context(), s.Site.ID
	sweep, err := s.Client.StartSweep(ctx, site, api.NewSweep{Ranges: "10.40.1.20-10.40.1.26, 10.40.3.10-10.40.3.12", Pace: "brisk"})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.Client.Watch(ctx, sweep.ID, client.Watcher{}); err != nil {
		t.Fatal(err)
	}
	_, err = s.Client.TryRules(ctx, site, api.NewRuleFile{Name: "garden", Text: strings.Replace(bells, "model", "colour", 1)})
	wantProblem(t, "a fault in rules", err, http.StatusUnprocessableEntity, "line 5, column")
	trial, err := s.Client.TryRules(ctx, site, api.NewRuleFile{Name: "garden", Text: bells})
	if err != nil || trial.Devices != 2 || trial.Changes[0].After != "Bell" || trial.Changes[0].Before != "Scan 9" {
		t.Errorf("trial %+v, %v", trial, err)
	}
	models := func() int64 {
		list, err := s.Client.Devices(ctx, site, client.DeviceQuery{Filter: url.Values{"model": {"Bell"}}})
		if err != nil {
			t.Fatal(err)
		}
		return int64(list.Counted())
	}
	file, err := s.Client.SaveRules(ctx, site, api.NewRuleFile{Name: "garden", Text: bells})
	if err != nil || file.Active || models() != 0 {
		t.Errorf("kept %+v, %v, and %d devices changed", file, err, models())
	}
	if file, err = s.Client.SwitchRules(ctx, file.ID, true); err != nil || !file.Active || models() != 2 {
		t.Errorf("switched on %+v, %v, and %d devices changed, want 2", file, err, models())
	}
	_, err = s.Client.SaveRules(ctx, site, api.NewRuleFile{Name: "garden", Text: bells})
	wantProblem(t, "replacing rules that are on", err, http.StatusConflict, "switch it off")
	if err := s.Client.RemoveRules(ctx, file.ID); err != nil || models() != 0 {
		t.Errorf("deleted: %v, and %d devices are still changed", err, models())
	}

	_, err = s.Client.ImportLeases(ctx, site, "leases", strings.NewReader("soon 48:9b:34:03:30:14 10.40.3.10 phone *\n"))
	wantProblem(t, "a fault in leases", err, http.StatusUnprocessableEntity, "line 1")
	got, err := s.Client.ImportLeases(ctx, site, "leases", strings.NewReader("0 80:23:aa:13:26:f1 10.40.3.11 front-desk-phone *\n0 80:23:aa:13:26:f2 10.40.3.99 nobody *\n"))
	if err != nil || got.Leases != 2 || got.Devices != 1 {
		t.Fatalf("leases %+v, %v", got, err)
	}
	list, err := s.Client.Devices(ctx, site, client.DeviceQuery{Filter: url.Values{"text": {"front-desk-phone"}}})
	if err != nil || list.Counted() != 1 || list.Items[0].Name != "front-desk-phone" || list.Items[0].Vendor != "Elderwick Voice" {
		t.Errorf("the lease tells %+v, %v", list, err)
	}
	if err := s.Client.RemoveLeases(ctx, site); err != nil {
		t.Error(err)
	}
	if list, err = s.Client.Devices(ctx, site, client.DeviceQuery{Filter: url.Values{"text": {"front-desk-phone"}}}); err != nil || list.Counted() != 0 {
		t.Errorf("deleted, it still tells %+v, %v", list, err)
	}
}
