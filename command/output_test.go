package command

import (
	"bytes"
	"encoding/json"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"airdrift/api"
	"airdrift/core/csvtext"
	"airdrift/core/inventory"
)

// hostile is what a device may say to harm who reads it.
const hostile = "\x1b]0;owned\x07\x1b[2J\u202egnp.exe\r\n=cmd|' /C calc'!A0"

func TestDeviceTextDoesNothingToATerminal(t *testing.T) {
	var out bytes.Buffer
	d := api.Device{
		DeviceLine: api.LineOf(inventory.Line{ID: 1, Values: map[string]any{"name": hostile, "kind": "unknown", "standing": "unmanaged", "presence": "seen", "serial": hostile}}),
		Ports:      []api.Port{{Port: "tcp/21", Words: []api.Fact{{Key: "ftp.greeting", Value: hostile}}}},
		Claims: []api.Claim{{Attribute: "name", Candidates: []api.Candidate{{Value: hostile, Reasons: []api.Reason{{Because: hostile,
			Fact: api.Fact{Value: hostile}}}}}}},
	}
	if err := writeDevice(&out, d); err != nil {
		t.Fatal(err)
	}
	p := Program{Out: &out}
	if err := p.writeDevices("table", []api.DeviceLine{d.DeviceLine}); err != nil {
		t.Fatal(err)
	}
	if strings.ContainsAny(out.String(), "\x1b\x07\r\u202e") {
		t.Errorf("control characters came through: %q", out.String())
	}
	if !strings.Contains(out.String(), `\x1b[2J`) {
		t.Error("what the device said is not shown at all")
	}
}

// On a terminal a table leaves out what it has no room for, from the right, and says so; no device pushes others out by a long name.
func TestTablesFitTheTerminal(t *testing.T) {
	g := grid{headings: []string{"No|id", "Name", "Kind", "Vendor", "Last seen"}}
	g.add(1, strings.Repeat("very ", 60), "printer", "Marrowby Print", "2026-11-27 12:00")
	g.add(2, "hall", "switch", "Ostermoor Networks", "2026-11-27 12:00")
	if text := tableText(g, 0, false); strings.Contains(text, "No room") || !strings.Contains(text, strings.Repeat("very ", 59)) {
		t.Errorf("no terminal:\n%s", text)
	}
	for width, missing := range map[int]string{200: "", 85: "Last seen", 70: "Vendor, Last seen", 30: "Kind, Vendor, Last seen"} {
		text := tableText(g, width, false)
		_, says, left := strings.Cut(text, "No room for: ")
		if left != (missing != "") || !strings.HasPrefix(says, missing) || !strings.Contains(text, "hall") {
			t.Errorf("%d wide, want %q left out:\n%s", width, missing, text)
		}
		for line := range strings.Lines(text) {
			if n := utf8.RuneCountInString(strings.TrimSuffix(line, "\n")); n > width && !strings.HasPrefix(line, "No room") {
				t.Errorf("%d wide, and a line of %d: %s", width, n, line)
			}
		}
	}
}

// A glance at a site says how its last sweep stands, and shows no control character of a name.
func TestGlanceAtASite(t *testing.T) {
	began := time.Date(2026, 11, 24, 9, 0, 0, 0, time.UTC)
	ended := began.Add(90 * time.Second)
	for want, last := range map[string]*api.Sweep{
		"not swept yet: airdrift sweep":                                           nil,
		"sweep 3 by eth0 runs: 5 of 254 addresses answered so far":                {ID: 3, Vantage: "eth0", Began: began, Answered: 5, Addresses: 254},
		"sweep 3 by eth0: 5 of 254 addresses answered, 700 questions in 90.0 s":   {ID: 3, Vantage: "eth0", Began: began, Ended: &ended, Answered: 5, Addresses: 254, Sent: 700},
		`sweep 3 by eth\x1b[2J: 0 of 0 addresses answered, 0 questions in 90.0 s`: {ID: 3, Vantage: "eth\x1b[2J", Began: began, Ended: &ended},
	} {
		var out bytes.Buffer
		summarise(&out, api.Overview{Site: api.Site{Name: hostile}, LastSweep: last, Traits: []api.Count{{Name: "wrong subnet", Devices: 1}}, Notices: []string{hostile}})
		if text := out.String(); !strings.Contains(text, want) || !strings.Contains(text, "wrong subnet: 1 device\n") || strings.ContainsAny(text, "\x1b\x07\r\u202e") {
			t.Errorf("want %q:\n%q", want, text)
		}
	}
}

func TestDeviceTextIsNoFormula(t *testing.T) {
	for _, text := range []string{"=1+1", "+1", "-1", "@SUM(A1)", "\t=1"} {
		var out bytes.Buffer
		g := grid{headings: []string{"Name"}}
		g.add(text)
		if err := write(&out, "csv", g, nil); err != nil {
			t.Fatal(err)
		}
		if cell := strings.TrimSpace(strings.Trim(strings.Split(out.String(), "\n")[1], `"`)); !strings.HasPrefix(cell, "'") {
			t.Errorf("%q is written as %q, which a spreadsheet takes for a formula", text, cell)
		}
	}
}

// On a terminal neither CSV nor JSON carries out what a device says; JSON reads back as it was.
func TestOtherFormsDoNothingToATerminal(t *testing.T) {
	const more = hostile + "\u009b2J\U000e0041"
	var out bytes.Buffer
	if err := csvtext.Write(visibleWriter{&out}, []string{"Name" + more}, [][]string{{more}}); err != nil {
		t.Fatal(err)
	}
	if strings.ContainsAny(out.String(), "\x1b\x07\r\u202e\u009b\U000e0041") || !strings.Contains(out.String(), `\x1b[2J`) {
		t.Errorf("CSV: %q", out.String())
	}
	out.Reset()
	if err := write(&out, "json", grid{}, map[string]string{"name": more}); err != nil {
		t.Fatal(err)
	}
	if strings.ContainsAny(out.String(), "\x1b\x07\r\u202e\u009b\U000e0041") {
		t.Errorf("JSON: %q", out.String())
	}
	var back map[string]string
	if err := json.Unmarshal(out.Bytes(), &back); err != nil || back["name"] != more {
		t.Errorf("JSON reads back as %q, %v", back["name"], err)
	}
}
