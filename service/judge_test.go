package service

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"
	"time"

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

// Whoever tries passwords is slowed down, however many addresses he has, and keeps nobody out who has signed in before.
func TestTriesAreBounded(t *testing.T) {
	now := time.Date(2026, 11, 2, 9, 0, 0, 0, time.UTC)
	count := func(tr *tries, tries int, origin func(i int) string, user func(i int) string) (allowed int) {
		for i := range tries {
			if tr.allow(origin(i), user(i), now) {
				tr.failed(user(i), now)
				allowed++
			}
		}
		return allowed
	}
	fixed := func(text string) func(int) string { return func(int) string { return text } }
	spread := func(i int) string { return netip.AddrFrom4([4]byte{10, 1, byte(i >> 8), byte(i)}).String() }
	six := func(i int) string { return fmt.Sprintf("2001:db8::%x", i) }
	names := func(i int) string { return fmt.Sprint("user", i) }
	for name, tt := range map[string]struct {
		origin, user func(int) string
		most         int
	}{
		"one address":                   {fixed("10.0.0.66"), names, perOrigin.burst},
		"one IPv6 network":              {six, names, perOrigin.burst},
		"one user, from everywhere":     {spread, fixed("mason"), perUser.burst},
		"many users, from everywhere":   {spread, names, allOrigins.burst},
		"more origins than are counted": {func(i int) string { return fmt.Sprintf("2001:db8:%x:%x::1", i>>16, i&0xffff) }, names, allOrigins.burst},
	} {
		var tr tries
		tr.succeeded("10.0.0.7", "mason", now.Add(-time.Hour))
		if got := count(&tr, 20_000, tt.origin, tt.user); got > tt.most {
			t.Errorf("%s: %d of 20,000 tries at once were allowed, want at most %d", name, got, tt.most)
		}
		if !tr.allow("10.0.0.7", "mason", now) {
			t.Errorf("%s: somebody who has signed in from there before is kept out", name)
		}
		if len(tr.origins.by) > maxOrigins || len(tr.users.by) > maxOrigins {
			t.Errorf("%s: %d origins and %d users are remembered", name, len(tr.origins.by), len(tr.users.by))
		}
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
