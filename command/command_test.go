package command_test

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"unicode"

	"airdrift/api"
	"airdrift/core/hwaddr"
	"airdrift/service/servicetest"
	"airdrift/simsite"
	"airdrift/simsite/simsitetest"
)

// program is the built command; TestMain builds it.
var program string

func TestMain(m *testing.M) { os.Exit(run(m)) }

func run(m *testing.M) int {
	dir, err := os.MkdirTemp("", "airdrift-command-")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	defer os.RemoveAll(dir)
	program = filepath.Join(dir, "airdrift")
	if out, err := exec.Command("go", "build", "-o", program, "airdrift/cmd/airdrift").CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "build the program: %v\n%s", err, out)
		return 1
	}
	return m.Run()
}

// result is how a command ended.
type result struct {
	out, err string
	code     int
}

// airdrift runs the program as a process.
func airdrift(t *testing.T, stdin string, args ...string) result {
	t.Helper()
	cmd := exec.CommandContext(t.Context(), program, args...)
	var out, errs bytes.Buffer
	cmd.Stdin, cmd.Stdout, cmd.Stderr = strings.NewReader(stdin), &out, &errs
	err := cmd.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		t.Fatal(err)
	}
	return result{out.String(), errs.String(), cmd.ProcessState.ExitCode()}
}

func TestDemoFindsTheTruthInProcess(t *testing.T) { demoFindsTheTruth(t) }

func TestDemoFindsTheTruthThroughTheKernel(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("making a network namespace needs root")
	}
	demoFindsTheTruth(t, "--kernel")
}

// demoFindsTheTruth runs the demo and holds its inventory against the scenario, device by device.
func demoFindsTheTruth(t *testing.T, args ...string) {
	r := airdrift(t, "", append([]string{"--output", "json", "demo", "--once", "--visits", "1"}, args...)...)
	if r.code != 0 {
		t.Fatalf("exit code %d: %s", r.code, r.err)
	}
	// What the service logs and the progress says goes to a terminal too.
	if strings.ContainsFunc(r.err, func(c rune) bool { return c != '\n' && unicode.IsControl(c) }) {
		t.Errorf("control characters are on standard error: %q", r.err)
	}
	var list []api.DeviceLine
	if err := json.Unmarshal([]byte(r.out), &list); err != nil {
		t.Fatalf("%v: %s", err, r.out)
	}
	scenario := simsitetest.Demo(t)
	expected := 0
	for _, truth := range scenario.Truth() {
		var found []api.DeviceLine
		for _, d := range list {
			if means(d, truth, scenario.Vantage) {
				found = append(found, d)
			}
		}
		if !truth.Visible && truth.Standing == "unmanaged" {
			continue
		}
		expected++
		if len(found) != 1 {
			t.Errorf("%s is in the inventory %d times, want once: %+v", truth.Device.Name, len(found), found)
			continue
		}
		checkTruth(t, found[0], truth)
	}
	for _, truth := range scenario.UnitTruths() {
		found := slices.DeleteFunc(slices.Clone(list), func(d api.DeviceLine) bool { return d.Unit != truth.Place() })
		if expected++; len(found) != 1 || found[0].Vendor != truth.Model.Maker || found[0].Standing != truth.Unit.Standing || found[0].Kind != "unknown" && found[0].Kind != truth.Model.Kind {
			t.Errorf("%s (%s) is in the inventory as %+v", truth.Unit.Name, truth.Place(), found)
		}
	}
	own := slices.DeleteFunc(slices.Clone(list), func(d api.DeviceLine) bool { return !slices.Contains(d.Traits, "own machine") })
	if len(own) != 1 || own[0].Standing != "set aside" {
		t.Errorf("the auditor's own machine is %+v", own)
	}
	if len(list) != expected+1 {
		t.Errorf("the inventory has %d devices besides the auditor's own, want %d", len(list)-1, expected)
	}
}

// TestDemoWithoutRights takes the right to raw sockets away. What ARP alone would show is then missed, and said so;
// nobody may turn up twice.
func TestDemoWithoutRights(t *testing.T) {
	setpriv, err := exec.LookPath("setpriv")
	if err != nil || os.Geteuid() != 0 {
		t.Skip("taking rights away needs root and setpriv (package util-linux)")
	}
	var out, errs bytes.Buffer
	cmd := exec.CommandContext(t.Context(), setpriv, "--bounding-set", "-net_raw", "--inh-caps", "-net_raw", program, "--output", "json", "demo", "--once", "--kernel")
	cmd.Stdout, cmd.Stderr = &out, &errs
	if err := cmd.Run(); err != nil {
		t.Fatalf("%v: %s", err, errs.String())
	}
	if !strings.Contains(errs.String(), "No right to send frames") || !strings.Contains(errs.String(), "CAP_NET_RAW") {
		t.Errorf("what could not be done is not said: %s", errs.String())
	}
	var list []api.DeviceLine
	if err := json.Unmarshal(out.Bytes(), &list); err != nil {
		t.Fatal(err)
	}
	scenario := simsitetest.Demo(t)
	seen := slices.DeleteFunc(list, func(d api.DeviceLine) bool { return d.Presence != "seen" })
	behind := len(seen)
	seen = slices.DeleteFunc(seen, func(d api.DeviceLine) bool { return d.Unit != "" })
	if behind -= len(seen); behind != len(scenario.Units) {
		t.Errorf("%d devices are seen behind others, want %d", behind, len(scenario.Units))
	}
	visible := slices.DeleteFunc(scenario.Truth(), func(t simsite.Truth) bool { return !t.Visible })
	at := map[string]bool{}
	for _, d := range seen {
		for _, a := range d.Addrs {
			if at[a] {
				t.Errorf("%s is in the inventory twice", a)
			}
			at[a] = true
		}
	}
	// Who answers ARP alone, has IPv6 alone or an address from elsewhere is missed; of those that hold one address the
	// system's table shows one.
	expected := map[string]bool{"10.40.1.250": true}
	for _, truth := range visible {
		leg := truth.Device.Legs[0]
		silent := slices.Contains(truth.Device.Faults, "drops-echo") && slices.Contains(truth.Device.Faults, "drops-refusal")
		probed := slices.ContainsFunc(scenario.Services(truth.Device), func(s simsite.Service) bool { return slices.Contains(rollCallPorts, s.Port) })
		if leg.Address.IsValid() && !leg.Subnet.IsValid() && (!silent || probed) {
			expected[leg.Address.String()] = true
		}
	}
	for a := range expected {
		if !at[a] {
			t.Errorf("nobody was seen at %s", a)
		}
	}
	for _, d := range seen {
		if !slices.ContainsFunc(d.Addrs, func(a string) bool { return expected[a] }) {
			t.Errorf("nobody is expected at %v: %+v", d.Addrs, d)
		}
	}
	if len(seen) != len(expected) {
		t.Errorf("%d devices were seen, want %d", len(seen), len(expected))
	}
}

// rollCallPorts are where an address that gives no echo is probed; see the package sweep.
var rollCallPorts = []uint16{80, 443, 22, 445, 9100, 502}

func checkTruth(t *testing.T, d api.DeviceLine, truth simsite.Truth) {
	t.Helper()
	if d.Standing != truth.Standing {
		t.Errorf("%s is %s, want %s", truth.Device.Name, d.Standing, truth.Standing)
	}
	if truth.Visible && truth.OnLink && truth.Model.Maker != "" && d.Vendor != truth.Model.Maker {
		t.Errorf("%s is by %q, want %q", truth.Device.Name, d.Vendor, truth.Model.Maker)
	}
	// A kind may be unknown; a wrong one misleads.
	if truth.Visible && d.Kind != "unknown" && d.Kind != truth.Model.Kind {
		t.Errorf("%s is said to be a %s, and is a %s", truth.Device.Name, d.Kind, truth.Model.Kind)
	}
}

// means tells whether a line of the inventory is a device: by MAC on the vantage's segment, by address beyond it.
func means(d api.DeviceLine, truth simsite.Truth, vantage simsite.Vantage) bool {
	if truth.OnLink && truth.Visible {
		return slices.ContainsFunc(truth.MACs(vantage), func(m hwaddr.MAC) bool { return m.String() == d.MAC })
	}
	if !truth.Visible {
		return d.Name == truth.Device.Name
	}
	return slices.Contains(d.Addrs, truth.Device.Legs[0].Address.String())
}

func TestWrongUse(t *testing.T) {
	nowhere := filepath.Join(t.TempDir(), "none")
	broken := filepath.Join(t.TempDir(), "twice.yaml")
	scenario := `name: x
networks: [{name: a, subnet: 10.1.0.0/24}]
vantage: {network: a, address: 10.1.0.2, mac: "48:9b:34:00:00:01"}
devices:
  - {name: d, standing: managed, legs: [{network: a, address: 10.1.0.3, mac: "48:9b:34:00:00:01"}]}
`
	if err := os.WriteFile(broken, []byte(scenario), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, tt := range []struct {
		args string
		code int
		says string
	}{
		{"swep", 2, "there is no command swep, did you mean sweep"},
		{"sweeps contine 4", 2, "there is no command sweeps contine, did you mean continue"},
		{"devices 10.40.1.20", 2, `devices takes no "10.40.1.20"`},
		{"sweeps show 4 5", 2, `sweeps show takes no "5"`},
		{"token add one two", 2, `token add takes no "two"`},
		{"leases", 2, "say what to do"},
		{"sweep --hurry", 2, "hurry"},
		{"--output xml devices", 2, "table, json or csv"},
		{"device", 2, "want one device"},
		{"vendor", 2, "want at least one MAC"},
		{"demo --kernel", 2, "--once"},
		{"demo --once --scenario " + broken, 2, "line 5, column 78"},
		{"demo --once --scenario " + nowhere, 1, "no such file"},
		{"--data " + nowhere + " devices", 1, "no service runs on this data directory"},
		{"--server https://127.0.0.1:1 devices", 2, "--token-file"},
		{"--server http://127.0.0.1:1 --token-file " + broken + " devices", 2, "by TLS alone"},
		{"--data " + nowhere + " serve --idle 1s", 2, "--idle"},
		{"--data " + nowhere + " serve --audit-days 0", 2, "--audit-days"},
		{"--data " + nowhere + " serve --trusted-proxy everybody", 2, "--trusted-proxy"},
		{"--data " + nowhere + " serve --listen 127.0.0.1:99999", 1, "cannot listen"},
		{"--data " + nowhere + " serve --listen 127.0.0.1:0 --dsn nonsense", 1, "DSN"},
	} {
		r := airdrift(t, "", strings.Fields(tt.args)...)
		if r.code != tt.code || !strings.Contains(r.err, tt.says) || r.out != "" {
			t.Errorf("airdrift %s: exit code %d, %q, output %q; want %d saying %q", tt.args, r.code, r.err, r.out, tt.code, tt.says)
		}
	}
}

// TestServeAndUse runs the service as a process on this machine's loopback and uses it from the command line.
func TestServeAndUse(t *testing.T) {
	data := filepath.Join(servicetest.DataDir(t), "data")
	serve := exec.CommandContext(t.Context(), program, "--data", data, "serve", "--listen", "127.0.0.1:0", "--public", "127.0.0.0/8")
	stderr, err := serve.StderrPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := serve.Start(); err != nil {
		t.Fatal(err)
	}
	lines := bufio.NewScanner(stderr)
	for lines.Scan() && !strings.Contains(lines.Text(), "first password") {
	}
	use := func(stdin string, args ...string) result {
		return airdrift(t, stdin, append([]string{"--data", data}, args...)...)
	}
	expect := func(what string, r result, code int, says string) {
		t.Helper()
		if r.code != code || !strings.Contains(r.out+r.err, says) {
			t.Errorf("%s: exit code %d, want %d saying %q\n%s%s", what, r.code, code, says, r.out, r.err)
		}
	}
	expect("no site yet", use("", "devices"), 2, "airdrift site add")
	expect("a site", use("", "site", "add", "loopback lab", "--network", "lab=127.0.0.0/24"), 0, "lab 127.0.0.0/24")
	expect("an unknown interface", use("", "sweep", "--vantage", "fern9"), 2, `no interface "fern9"`)
	expect("a range outside", use("", "sweep", "--vantage", "lo", "127.0.1.1"), 2, "lies outside")
	expect("a sweep", use("", "sweep", "--vantage", "lo", "--pace", "brisk", "127.0.0.2-4"), 0, "done")
	expect("its devices", use("", "devices"), 0, "127.0.0.3")
	expect("a register", use("name,address\nlab three,127.0.0.3\n", "register", "import", "-"), 0, "Managed")
	expect("one device", use("", "device", "127.0.0.3"), 0, "same address")
	expect("no device", use("", "device", "127.0.0.9"), 1, "no device")
	expect("a faulty register", use("name,mac\nx,zz\n", "register", "import", "-"), 2, "line 2, column 2 (mac)")
	expect("a vendor", use("", "vendor", "00:00:01:02:03:04", "da:3f:91:5c:20:17"), 0, "XEROX CORPORATION")
	expect("a password", use("herbarium cold vault\n", "password"), 0, "is set")
	if _, err := os.Lstat(filepath.Join(data, "console-password")); err == nil {
		t.Error("the file of the first password is still there")
	}
	expect("no password", use("", "password"), 2, "no password came")
	r := use("", "--output", "csv", "devices", "--standing", "managed")
	if rows, err := csv.NewReader(strings.NewReader(r.out)).ReadAll(); err != nil || len(rows) != 2 || rows[1][2] != "lab three" {
		t.Errorf("as CSV: %v, %v", rows, err)
	}
	if err := serve.Process.Signal(syscall.SIGTERM); err != nil {
		t.Fatal(err)
	}
	if err := serve.Wait(); err != nil {
		t.Errorf("told to stop, the service ended with %v", err)
	}
	expect("a service that is gone", use("", "devices"), 1, "no service runs on this data directory")
}
