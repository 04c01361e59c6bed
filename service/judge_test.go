package service

import (
	"net/netip"
	"strings"
	"testing"

	"airdrift/core/hwaddr"
	"airdrift/core/wire"
)

// What a vantage stands on says whether an address can be reached, and why not.
func TestReachFrom(t *testing.T) {
	prefix := netip.MustParsePrefix
	both := wire.Link{Name: "eth0", MAC: hwaddr.MAC{2}, Prefixes: []netip.Prefix{prefix("10.40.1.5/24"), prefix("fd00::5/64"), prefix("fe80::5/64")}, Gateway6: netip.MustParseAddr("fe80::1")}
	unset := wire.Link{Name: "eth1", MAC: hwaddr.MAC{2}, Prefixes: []netip.Prefix{prefix("169.254.7.7/16"), prefix("fe80::7/64")}}
	for _, tt := range []struct {
		link     wire.Link
		address  string
		onLink   bool
		by, says string
	}{
		{both, "10.40.1.9", true, "", "its MAC address can be seen"},
		{both, "10.40.1.5", true, "", "the address of eth0 itself"},
		{both, "10.40.2.9", false, "", "there is no gateway on the way to it"},
		{both, "2001:db8::9", false, "fe80::1", "reached through the gateway fe80::1"},
		{both, "fe80::9", true, "", "met directly"},
		{unset, "10.40.1.9", false, "", "eth1 has no IPv4 address"},
		{unset, "fd00::9", false, "", "eth1 has no IPv6 address"},
	} {
		got := reachFrom(tt.link, netip.MustParseAddr(tt.address))
		if got.OnLink != tt.onLink || got.By != tt.by || !strings.Contains(got.Verdict, tt.says) {
			t.Errorf("%s from %s: %+v; want %q", tt.address, tt.link.Name, got, tt.says)
		}
	}
}

func TestMissingRightsAreTold(t *testing.T) {
	link := wire.Link{Name: "eth0", MAC: hwaddr.MAC{2}}
	if got := toRights(link, wire.Rights{Frames: true, Echo: true, Neighbours: true}); len(got.Missing) > 0 {
		t.Errorf("with all rights %q is missing", got.Missing)
	}
	got := toRights(link, wire.Rights{})
	if len(got.Missing) != 3 || !strings.Contains(got.Missing[0], "CAP_NET_RAW") {
		t.Errorf("with none %q is missing", got.Missing)
	}
	if got := toRights(wire.Link{Name: "lo"}, wire.Rights{Echo: true, Neighbours: true}); len(got.Missing) > 0 {
		t.Errorf("loopback has no segment, and %q is missing", got.Missing)
	}
}

// Whoever tries passwords is slowed down, and keeps nobody else out.
func TestTriesAreCountedByOrigin(t *testing.T) {
	var tr tries
	allowed := 0
	for range 20 {
		if tr.allow("10.0.0.66") {
			allowed++
		}
	}
	if allowed > 6 {
		t.Errorf("%d of 20 tries at once were allowed", allowed)
	}
	if !tr.allow("10.0.0.7") {
		t.Error("somebody else is kept out")
	}
	many := 0
	for i := range 5000 {
		if tr.allow(netip.AddrFrom4([4]byte{10, 1, byte(i >> 8), byte(i)}).String()) {
			many++
		}
	}
	if many > 300 {
		t.Errorf("%d tries at once from many addresses were allowed", many)
	}
}

func TestRolesCoverThoseBelow(t *testing.T) {
	for _, tt := range []struct {
		has, needs Role
		may        bool
	}{
		{Look, Look, true}, {Look, Sweep, false}, {Sweep, Look, true}, {Administer, Sweep, true}, {"", Look, false}, {"king", Look, false}, {Administer, "", false}, {Administer, "king", false},
	} {
		if got := tt.has.may(tt.needs); got != tt.may {
			t.Errorf("%q may what needs %q: %v", tt.has, tt.needs, got)
		}
	}
}
