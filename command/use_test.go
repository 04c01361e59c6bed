package command_test

import (
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
	"unicode"

	"airdrift/api"
	"airdrift/client"
	"airdrift/command"
	"airdrift/service/servicetest"
)

// TestCommandsOnASweptSite runs commands in this process against a service that has swept the demo building.
func TestCommandsOnASweptSite(t *testing.T) {
	s := servicetest.Demo(t, servicetest.Config{})
	typed := ""
	use := func(args ...string) (out, errs string, code int) {
		var stdout, stderr bytes.Buffer
		p := command.Program{In: strings.NewReader(typed), Out: &stdout, Err: &stderr}
		args = append([]string{"airdrift", "--data", s.Data}, args...)
		code = command.Run(t.Context(), p, args)
		return stdout.String(), stderr.String(), code
	}
	expect := func(code int, says string, args ...string) {
		t.Helper()
		out, errs, got := use(args...)
		if got != code || !strings.Contains(out+errs, says) {
			t.Errorf("airdrift %s: exit code %d, want %d saying %q\n%s%s", strings.Join(args, " "), got, code, says, out, errs)
		}
	}
	interrupt(t, s)
	expect(0, "asking: ", "sweep", "--pace", "brisk")
	expect(0, "10.40.1.66 (shared)", "devices", "--contested")
	expect(2, "means several devices; say which by its number", "device", "10.40.1.66")
	expect(0, "private: chosen by the device, tells no maker", "device", "10.40.1.150")
	expect(0, "it is an address of the gateway itself", "device", "10.40.2.1")
	expect(0, "tell the makers of MAC addresses", "vendor", "--help")
	expect(0, "by the site's own list", "vendor", "48:9b:34:00:00:01")
	expect(2, `there is no site "elsewhere": there are Fernhollow Botanic Garden`, "--site", "elsewhere", "devices")
	expect(0, "Fernhollow Botanic Garden", "--site", "fernhollow botanic garden", "--output", "csv", "site", "list")
	expect(0, "arp.mac", "--output", "csv", "device", "10.40.1.150")
	expect(0, "Flags       answers for others: one MAC answers for many addresses", "device", "10.40.1.8")
	expect(0, "a virtual router's: several devices take turns at it", "device", "10.40.1.1")
	expect(0, "wrong subnet", "devices", "--trait", "wrong subnet")
	expect(0, "of them of unknown kind", "overview")
	expect(0, "kind,devices,unmanaged\n", "--output", "csv", "overview")
	expect(0, `"unknownKind": `, "--output", "json", "overview")
	hostileWaysOut(t, use)
	useFindings(t, use, expect)
	useSweeps(expect)
	useZonesAndForms(expect)
	useFenceAndFooting(expect)
	usePeople(expect)
	useWho(t, expect)
	useCredentials(expect, func(text string) { typed = text })
	usePreview(t, expect)
	useHandingOver(t, use, expect)
	expect(0, "moved to the store room", "register", "show")
	expect(0, "nothing", "devices", "--kind", "smart-plug", "--expect-none")
	expect(3, "there are 3 such devices, and none was expected", "devices", "--kind", "pdu", "--expect-none")
	expect(2, "sort", "devices", "--sort", "colour")
	expect(1, "no such file", "register", "import", "gone.csv")
	filesAreForPrograms(t, use)
	out, _, _ := use("--output", "json", "devices", "--standing", "missing", "--sort", "name", "--descend")
	var list []api.DeviceLine
	if err := json.Unmarshal([]byte(out), &list); err != nil || len(list) != 6 || list[0].Name != "spare phone" {
		t.Errorf("missing devices as JSON: %s, %v", out, err)
	}
}

// filesAreForPrograms looks at what programs read: columns have the names that JSON has, times are in UTC, and lists are whole.
func filesAreForPrograms(t *testing.T, use func(args ...string) (out, errs string, code int)) {
	t.Helper()
	asJSON, _, _ := use("--output", "json", "devices")
	var devices []map[string]any
	if err := json.Unmarshal([]byte(asJSON), &devices); err != nil {
		t.Fatal(err)
	}
	asCSV, _, _ := use("--output", "csv", "devices")
	rows, err := csv.NewReader(strings.NewReader(asCSV)).ReadAll()
	if err != nil || len(rows) != len(devices)+1 {
		t.Fatalf("%d rows for %d devices, %v", len(rows), len(devices), err)
	}
	several := false
	for i, row := range rows[1:] {
		for column, name := range rows[0] {
			want, has := devices[i][name]
			text := fmt.Sprint(want)
			if list, ok := want.([]any); ok {
				text = strings.Trim(text, "[]")
				several = several || name == "addresses" && len(list) > 1
			}
			if seen, err := time.Parse(time.RFC3339, text); err == nil {
				text = seen.UTC().Format(time.RFC3339)
			}
			if name == "traits" {
				text = strings.ReplaceAll(text, ", ", " ")
				row[column] = strings.ReplaceAll(row[column], ", ", " ")
			}
			if unit, _ := devices[i]["unit"].(string); name == "addresses" && text == "" && unit != "" {
				text = unit // it has no address of its own
			}
			if has && row[column] != text && strings.TrimPrefix(row[column], "'") != text {
				t.Errorf("device %s: the column %s is %q, and %q in JSON", row[0], name, row[column], text)
			}
		}
	}
	if !several {
		t.Error("no device has several addresses, so that none was held against the list")
	}
}

// hostileWaysOut looks at devices that try to be more than text: nothing they say does anything to a terminal or becomes a
// formula.
func hostileWaysOut(t *testing.T, use func(args ...string) (out, errs string, code int)) {
	t.Helper()
	control := func(r rune) bool { return r != '\n' && (unicode.IsControl(r) || unicode.Is(unicode.Cf, r)) }
	for _, address := range []string{"10.40.1.160", "10.40.1.161", "10.40.1.162", "10.40.1.163", "10.40.1.164", "10.40.1.165"} {
		out, errs, code := use("device", address)
		if code != 0 || strings.ContainsFunc(out+errs, control) {
			t.Errorf("device %s: exit code %d, %q%q", address, code, out, errs)
		}
		csvOut, _, _ := use("--output", "csv", "device", address)
		rows, err := csv.NewReader(strings.NewReader(csvOut)).ReadAll()
		if err != nil || len(rows) < 2 {
			t.Errorf("device %s as CSV: %v, %v", address, rows, err)
		}
		for _, row := range rows {
			for _, cell := range row {
				if cell != "" && strings.ContainsAny(cell[:1], "=+-@\t\r") {
					t.Errorf("device %s: %q is a formula to a spreadsheet", address, cell)
				}
			}
		}
	}
	for _, args := range [][]string{{"devices"}, {"sweeps", "show", "2"}, {"sweeps", "log", "2"}, {"--output", "csv", "devices"}, {"findings"}, {"--output", "csv", "findings"}, {"findings", "show", "1", "2", "3"}} {
		if out, errs, code := use(args...); code != 0 || strings.ContainsFunc(out+errs, control) {
			t.Errorf("%v: exit code %d, control characters in %q%q", args, code, out, errs)
		}
	}
}

type expectation func(code int, says string, args ...string)

// useFindings looks at what is wrong, accepts some of it, and sets how the site is judged.
func useFindings(t *testing.T, use func(args ...string) (out, errs string, code int), expect expectation) {
	t.Helper()
	expect(0, "VNC is open without a password.", "findings", "--severity", "critical")
	expect(3, "there are 2 findings of severity critical or worse", "findings", "--severity", "high", "--fail-on", "critical")
	expect(0, "nothing", "findings", "--rule", "end-of-support", "--fail-on", "info")
	expect(2, `"awful" is no severity`, "findings", "--fail-on", "awful")
	expect(2, "there is no command findings acept", "findings", "acept", "3")
	out, _, _ := use("--output", "csv", "findings", "--severity", "critical")
	rows, err := csv.NewReader(strings.NewReader(out)).ReadAll()
	if err != nil || len(rows) != 3 || rows[0][0] != "id" {
		t.Fatalf("%v, %v", rows, err)
	}
	number := rows[1][0]
	expect(0, "To do", "findings", "show", number)
	expect(2, "is no number of a finding", "findings", "show", "first")
	expect(2, "is no day", "findings", "accept", number, "--reason", "a loan", "--until", "soon")
	expect(0, "Accepted until 2032-01-01: 1 finding. To undo it: airdrift devices undo ", "findings", "accept", number, "--reason", "a loan", "--until", "2032-01-01")
	expect(0, "a loan", "findings", "show", number)
	expect(3, "there is 1 finding of severity critical or worse", "findings", "--fail-on", "critical")
	expect(0, "No longer accepted: 1 finding.", "findings", "reopen", number)
	expect(0, "certificate-expiring", "findings", "rules")
	expect(2, `no parameter "weeks": it has days`, "findings", "rules", "set", "certificate-expiring", "--param", "weeks=8")
	expect(0, "", "findings", "rules", "set", "open-desktop", "--off")
	expect(0, "nothing", "findings", "--severity", "critical")
	expect(0, "", "findings", "rules", "set", "open-desktop")
	expect(0, "offices", "fence", "set", "10.40.1.0/24", "--pool", "10.40.1.140-10.40.1.180")
	expect(2, "reaches beyond", "fence", "set", "10.40.1.0/24", "--pool", "10.40.9.1")
}

func useSweeps(expect expectation) {
	expect(0, "stopped", "sweeps")
	expect(0, "Weave 24 managed switch", "--output", "json", "sweeps", "show", "2")
	expect(0, "Stopped by administrator.", "sweeps", "log", "1")
	expect(1, "not the latest of its site", "sweeps", "continue", "1")
	expect(1, "is not running: it is done", "sweeps", "stop", "2")
	expect(2, "want the number of one sweep", "sweeps", "show", "first")
	expect(2, "there is no command sweeps remove", "sweeps", "remove")
	expect(0, "The evidence is re-evaluated.", "sweeps", "reevaluate")
	expect(0, "done", "sweep", "--pace", "rate=500,per-device=2", "--ports", "22,80-81", "10.40.1.2")
	expect(0, "Sweep 3 is discarded.", "sweeps", "discard", "3")
	expect(1, "sweep 3: not found", "sweeps", "log", "3")
	expect(2, "is no figure of a pace", "sweep", "--pace", "rate=fast")
	expect(2, "a rate above 0", "sweep", "--pace", "rate=0")
	expect(2, `port 2, "70000"`, "sweep", "--ports", "22,70000")
}

func useFenceAndFooting(expect expectation) {
	expect(0, "appeared", "changes", "--sweep", "2", "--limit", "3")
	expect(0, "10.40.1.22", "changes", "--device", "10.40.1.22", "--kind", "appeared,vanished")
	expect(0, "nothing", "changes", "--until", "2026-01-01")
	expect(2, "is no day such as", "changes", "--since", "yesterday")
	expect(2, "kind", "changes", "--kind", "colour")
	expect(0, "2^64", "fence")
	expect(0, "nursery", "fence", "add", "nursery=10.41.0.0/24")
	expect(0, "Name servers", "fence", "delete", "10.41.0.0/24")
	expect(2, "is a public network", "fence", "add", "192.0.2.0/24")
	expect(0, "10.40.1.11", "fence", "names", "10.40.1.11")
	expect(0, "255.255.255.0", "footing")
	expect(0, "it is reached through the gateway 10.40.1.1", "footing", "10.40.2.13")
	expect(2, "is not an address", "footing", "10.40.2")
}

// useWho asks what devices are and why, and adds rules and leases of the site's own.
func useWho(t *testing.T, expect expectation) {
	expect(0, "kind: printer, odds of", "explain", "10.40.1.20")
	expect(0, "closer", "explain", "10.40.1.20")
	expect(0, "mib-printer: Printer-MIB (RFC 3805) is kept by printers.", "explain", "10.40.1.20")
	expect(0, "unknown, as nothing speaks of it", "explain", "10.40.5.142")
	expect(0, "attribute,value,sum,believed,adds,counts,rule", "--output", "csv", "explain", "10.40.1.20")
	expect(0, `"candidates"`, "--output", "json", "explain", "10.40.1.20")
	expect(2, "want one device", "explain")
	expect(0, "p24", "device", "10.40.1.2")
	expect(0, "Certificates", "device", "10.40.1.13")
	expect(0, "office-printer", "devices", "--model", "Inkwell 220", "--service", "_ipp._tcp", "--strength", "40")
	expect(0, "Climate 900", "devices", "--vendor", "Thornquist Controls", "--firmware", "4.2", "--service", "snmp")
	expect(0, "nothing", "devices", "--unmanaged", "--os", "Plan 9")
	dir := t.TempDir()
	file := func(name, text string) string {
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return path
	}
	rule := "rules:\n  - rule: bells\n    because: They ring.\n    when: [{keys: [http.title], words: [threshold]}]\n    says: [{attribute: model, value: Bell, strength: 30}]\n"
	good, bad := file("garden.yaml", rule), file("bad.yaml", strings.Replace(rule, "model", "colour", 1))
	expect(2, "line 5, column", "rules", "try", bad)
	expect(2, "line 5, column", "rules", "add", bad)
	expect(0, "1 rule would change 3 devices.", "rules", "try", good)
	expect(0, "garden", "rules", "add", good)
	expect(0, "off", "rules")
	expect(0, "nothing", "devices", "--model", "Bell")
	expect(0, "on", "rules", "on", "garden")
	expect(0, "intercom", "devices", "--model", "Bell")
	expect(0, "They ring.", "rules", "show", "garden")
	expect(0, "off", "rules", "off", "garden")
	expect(0, "nothing", "rules", "delete", "garden")
	expect(1, `has no file of rules "garden"`, "rules", "on", "garden")
	expect(2, "there is no command rules elephant", "rules", "elephant")
	expect(2, "want one file of rules", "rules", "try")
	expect(0, "1 leases tell something of 1 devices.", "leases", "import", file("leases", "0 80:23:aa:13:57:02 10.40.3.12 ferry-from-the-lease *\n"))
	expect(0, "Elderwick Voice", "devices", "--text", "ferry-from-the-lease")
	expect(2, "line 1", "leases", "import", file("broken", "never mind this\n"))
	expect(0, "", "leases", "delete")
	expect(0, "nothing", "devices", "--text", "ferry-from-the-lease")
}

// useCredentials enters credentials as they are typed in, and tries them.
func useCredentials(expect expectation, enter func(text string)) {
	expect(0, "garden read", "credentials")
	enter("stone-and-heron\n")
	expect(0, "second", "credentials", "add", "second")
	expect(1, "in use already", "credentials", "add", "second")
	expect(2, "wants a user", "credentials", "add", "third", "--version", "3")
	enter("a long enough key\nand another one\n")
	expect(0, "SHA-256", "credentials", "add", "third", "--version", "3", "--user", "heron", "--authentication", "SHA-256", "--privacy", "AES")
	enter("")
	expect(2, "no community came on standard input", "credentials", "add", "fourth")
	expect(0, "The device takes it.", "credentials", "try", "garden read", "10.40.2.10")
	expect(0, "does not take it", "credentials", "try", "second", "10.40.2.10")
	expect(2, "want the name of a credential and a device", "credentials", "try", "second")
	expect(1, `has no credential "fifth"`, "credentials", "delete", "fifth")
	expect(0, "garden read", "credentials", "delete", "second")
	expect(2, "there is no command credentials elephant", "credentials", "elephant")
}

func usePeople(expect expectation) {
	expect(0, "behind the boiler", "device", "note", "10.40.1.22", "behind", "the", "boiler")
	expect(0, "set aside", "device", "aside", "10.40.1.22", "--reason", "the caterer's own")
	expect(0, "unmanaged, seen", "device", "take-back", "10.40.1.22")
	expect(0, "No longer set aside", "device", "decisions", "10.40.1.22")
	expect(2, "is none of this device", "device", "decisions", "10.40.1.22", "--undo", "999")
	expect(0, "undone by administrator", "device", "decisions", "10.40.1.22", "--undo", "1")
	expect(1, "does not hold any more", "device", "decisions", "10.40.1.22", "--undo", "1")
	expect(0, "same MAC address", "device", "register", "10.40.1.22", "--location", "shop")
	expect(1, "in the register already", "device", "register", "10.40.1.22")
	expect(0, "appeared", "device", "history", "10.40.1.22")
	expect(0, "Facts", "device", "history", "--sightings", "10.40.1.22")
	expect(0, "", "device", "group", "10.40.1.22", "front", "hall")
	expect(0, "10.40.1.22", "devices", "--group", "front hall")
	expect(2, "want a device, and the IP address", "device", "pin", "10.40.1.22")
	expect(0, "Nothing is changed", "device", "pin", "--preview", "10.40.1.22", "10.40.1.22")
	expect(2, "names no device", "register", "add", "--location", "attic")
	expect(0, "nothing", "register", "show", "--missing")
	expect(2, "want the number of an entry", "register", "delete", "elephant")
	expect(2, "want the numbers of two sweeps", "sweeps", "compare", "1")
	expect(0, "All for days", "site", "keep")
	expect(0, "", "sweeps", "thin", "--preview")
	expect(2, "no password came", "user", "add", "mason")
	expect(0, "administer", "user", "list")
	expect(0, "", "token", "add", "the laptop")
	expect(0, "the laptop", "token", "list")
	expect(0, "create-token", "audit")
}

// interrupt sends a sweep what Ctrl-C does, and wants it stopped with what it saw.
func interrupt(t *testing.T, s *servicetest.Service) {
	t.Helper()
	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	var out bytes.Buffer
	started := make(chan struct{})
	go func() {
		defer close(started)
		// The command is interrupted as soon as its sweep has seen somebody.
		for ctx.Err() == nil {
			sweeps, err := s.Client.Sweeps(ctx, s.Site.ID)
			if err == nil && len(sweeps) == 1 {
				watch, end := context.WithCancel(ctx)
				_, _ = s.Client.Watch(watch, sweeps[0].ID, client.Watcher{Sighting: func(api.Sighting) { end() }})
				end()
				var none, refusal bytes.Buffer
				busy := command.Program{In: strings.NewReader(""), Out: &none, Err: &refusal}
				if code := command.Run(ctx, busy, []string{"airdrift", "--data", s.Data, "sweep"}); code != 5 || !strings.Contains(refusal.String(), "is running") {
					t.Errorf("another sweep meanwhile: exit code %d, %s", code, refusal.String())
				}
				stop()
			}
		}
	}()
	var errs bytes.Buffer
	p := command.Program{In: strings.NewReader(""), Out: &out, Err: &errs}
	code := command.Run(ctx, p, []string{"airdrift", "--data", s.Data, "--output", "json", "sweep", "--pace", "gentle"})
	<-started
	var sweep api.Sweep
	if err := json.Unmarshal(out.Bytes(), &sweep); err != nil || code != 4 || sweep.State != "stopped" || sweep.Answered == 0 {
		t.Errorf("an interrupted sweep: exit code %d, %s%s, %v", code, out.String(), errs.String(), err)
	}
	if !strings.Contains(errs.String(), "what was seen is kept") {
		t.Errorf("the interrupt is not acknowledged: %s", errs.String())
	}
}

// usePreview imports the register, and says before and after what that changes, and what another file in its place would.
func usePreview(t *testing.T, expect func(code int, says string, args ...string)) {
	const file = "../scenarios/fernhollow-register.csv"
	expect(0, "front desk switch", "register", "import", "--preview", file)
	expect(0, "add,front desk switch,", "--output", "csv", "register", "import", "--preview", file) // it was shown and not done
	expect(0, "Unmanaged", "register", "import", file)
	expect(0, "nothing", "register", "import", "--preview", file)
	few := filepath.Join(t.TempDir(), "few.csv")
	if err := os.WriteFile(few, []byte("name,mac,location\nfront desk switch,10:cd:94:09:82:36,attic\nshed,,\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	expect(0, "change,front desk switch,location,", "--output", "csv", "register", "import", "--preview", few)
	expect(0, "add,shed,,,", "--output", "csv", "register", "import", "--preview", few)
	expect(0, "delete,acorn,,,", "--output", "csv", "register", "import", "--preview", "--replace", few)
	expect(0, `"deleted": 104`, "--output", "json", "register", "import", "--preview", "--replace", few)
	expect(0, "acorn", "register", "show")
}

// useZonesAndForms says where the site is, searches a MAC address in its forms, and asks for what only a terminal can show.
func useZonesAndForms(expect func(code int, says string, args ...string)) {
	expect(0, "Europe/Lisbon", "site", "zone", "Europe/Lisbon")
	expect(0, `"zone": "Europe/Lisbon"`, "--output", "json", "site", "list")
	expect(2, "is no time zone", "site", "zone", "Fernhollow")
	expect(2, `takes no "UTC"`, "site", "zone", "Europe/Lisbon", "UTC")
	expect(0, "Z,2,held,", "--output", "csv", "device", "history", "10.40.1.11") // files for programs are in UTC in any case
	for _, mac := range []string{"4c:6d:0d:03:30:14", "4C-6D-0D-03-30-14", "4c6d.0d03.3014", "4c6d0d033014", "4c6d.0d03"} {
		expect(0, "10.40.1.11", "devices", "--text", mac)
	}
	expect(2, "wants a terminal", "devices", "--watch")
	expect(2, "wants a terminal", "sweeps", "show", "2", "--watch")
}
