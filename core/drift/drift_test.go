package drift

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"
	"time"

	"airdrift/core/hwaddr"
	"airdrift/core/identify"
	"airdrift/core/inventory"
	"airdrift/core/ledger"
	"airdrift/core/register"
)

func mac(text string) hwaddr.MAC {
	m, err := hwaddr.Parse(text)
	if err != nil {
		panic(err)
	}
	return m
}

func observed(e register.Entry, beliefs ...string) ledger.Device {
	d := ledger.Device{
		FirstSeen: time.Unix(1, 0), Entry: &e, Addrs: []netip.Addr{netip.MustParseAddr("10.9.0.5"), netip.MustParseAddr("fe80::5")}, MACs: []hwaddr.MAC{mac("48:9b:34:00:00:05"), mac("48:9b:34:00:00:04")}, Former: []hwaddr.MAC{mac("48:9b:34:00:00:04")},
	}
	for i := 0; i < len(beliefs); i += 2 {
		d.Identity = append(d.Identity, identify.Belief{Attribute: identify.Attribute(beliefs[i]), Value: beliefs[i+1], Strength: 17})
	}
	return d
}

func TestLines(t *testing.T) {
	all := register.Entry{Name: "acorn", MAC: mac("48:9b:34:00:00:04"), Addr: netip.MustParseAddr("10.9.0.6"), Vendor: "Thornquist Controls Ltd", Model: "Climate 900", Kind: "plc"}
	tests := []struct {
		name string
		d    ledger.Device
		want string
	}{
		{"all differs", observed(all, "name", "oak", "vendor", "Ravelin", "model", "Climate 90", "kind", "printer"),
			"address 10.9.0.6 > 10.9.0.5 40|name acorn > oak 17|kind plc > printer 17|vendor Thornquist Controls Ltd > Ravelin 17|model Climate 900 > Climate 90 17|mac 48:9b:34:00:00:04 > 48:9b:34:00:00:05 40"},
		{"written otherwise", observed(register.Entry{Name: "ACORN ", MAC: mac("48:9b:34:00:00:05"), Addr: netip.MustParseAddr("10.9.0.5"), Vendor: "thornquist controls", Model: "Thornquist Controls climate-900", Kind: "printer"},
			"name", "acorn.garden.example", "vendor", "Thornquist Controls", "model", "Climate 900", "kind", "label-printer"), ""},
		{"a name as hosts write it", observed(register.Entry{Name: "archive scanner"}, "name", "archive-scanner.local"), ""},
		{"nothing is observed", observed(register.Entry{Name: "acorn", Model: "Climate 900"}), ""},
		{"nothing is expected", observed(register.Entry{}, "name", "oak", "model", "Climate 900"), ""},
		{"the kind is not known", observed(register.Entry{Kind: "plc"}, "kind", identify.Unknown), ""},
		{"no entry", ledger.Device{FirstSeen: time.Unix(1, 0)}, ""},
		{"never seen", ledger.Device{Entry: &all}, ""},
	}
	for _, tt := range tests {
		var got []string
		for _, l := range Of(tt.d) {
			got = append(got, fmt.Sprintf("%s %s > %s %d", l.Attribute, l.Expected, l.Observed, l.Strength))
		}
		if strings.Join(got, "|") != tt.want {
			t.Errorf("%s: %q, want %q", tt.name, strings.Join(got, "|"), tt.want)
		}
	}
}

// What is taken over is no disagreement any more, and nothing else of the entry changes.
func TestTake(t *testing.T) {
	e := register.Entry{ID: 3, Name: "acorn", MAC: mac("48:9b:34:00:00:04"), Addr: netip.MustParseAddr("10.9.0.6"), Vendor: "Thornquist", Model: "Climate 900", Kind: "plc", Note: "by the door"}
	d := observed(e, "name", "oak", "vendor", "Ravelin", "model", "Climate 90", "kind", "printer")
	for _, attribute := range inventory.Names(inventory.Drifting()) {
		took := Take(e, d, attribute)
		was := register.Differences(e, took)
		if len(was) != 1 || was[0].Field != attribute {
			t.Errorf("taking the %s over changed %+v", attribute, was)
		}
		after := d
		after.Entry = &took
		for _, l := range Of(after) {
			if l.Attribute == attribute {
				t.Errorf("the %s still differs: %+v", attribute, l)
			}
		}
	}
	if took := Take(e, d, "note"); len(register.Differences(e, took)) > 0 {
		t.Errorf("a note was taken over: %+v", took)
	}
}
