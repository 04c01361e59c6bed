package command

import (
	"bytes"
	"encoding/json"
	"strings"
	"testing"

	"airdrift/api"
	"airdrift/core/csvtext"
)

// hostile is what a device may say to harm who reads it.
const hostile = "\x1b]0;owned\x07\x1b[2J\u202egnp.exe\r\n=cmd|' /C calc'!A0"

func TestDeviceTextDoesNothingToATerminal(t *testing.T) {
	var out bytes.Buffer
	d := api.Device{
		DeviceLine: api.DeviceLine{ID: 1, Name: hostile, Kind: "unknown", Standing: "unmanaged", Presence: "seen"},
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
