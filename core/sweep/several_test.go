package sweep

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"testing/synctest"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
	"airdrift/core/probe"
	"airdrift/core/wire"
)

// A router is interviewed once, at whichever of its addresses it is asked first: at the others it says the same identifier, and its own
// tables give them.
func TestARouterIsInterviewedOnce(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := &fakeWire{echo: map[netip.Addr]int{}, refuses: map[netip.Addr]bool{}}
		all := []string{"10.40.2.1", "10.40.2.2", "10.40.2.3", "10.40.2.4"}
		for _, a := range all {
			w.echo[addr(a)], w.refuses[addr(a)] = 63, true
		}
		o := order("10.40.2.1-5", 8080)
		o.Pace.Devices = 1
		told := map[string]evidence.Sighting{}
		e := newEngine(w, o, func(e Event) {
			if s, ok := e.(Sighted); ok && s.Whole {
				told[s.Sighting.Addr.String()] = s.Sighting
			}
		})
		whole := 0
		e.spoken = []*probe.Protocol{{Name: "agent", Source: evidence.SourceSNMP, Cost: probe.Light, Port: evidence.UDP(161),
			Facts: []evidence.Fact{{Key: "snmp.engine", Use: evidence.Identifier}},
			Ask: func(_ context.Context, q probe.Query) ([]evidence.Item, bool) {
				items := []evidence.Item{{Source: evidence.SourceSNMP, Key: "snmp.engine", Value: "80001f88"}}
				if q.Addr == addr("10.40.2.4") { // which only says that it is the router
					items[0].Value = "another"
				}
				if q.IsKnown("snmp.engine", items[0].Value) {
					return items, true
				}
				whole++
				for _, a := range all {
					items = append(items, evidence.Item{Source: evidence.SourceSNMP, Key: "snmp.address", Value: a})
				}
				return items, true
			}}}
		if err := e.run(t.Context()); err != nil {
			t.Fatal(err)
		}
		same := 0
		for _, s := range told {
			if evidence.First(s.Items, evidence.KeySame) != "" {
				same++
			}
		}
		if whole != 2 || same != 2 || evidence.First(told["10.40.2.4"].Items, evidence.KeySame) != "" || len(told) != 4 {
			t.Errorf("%d were read to the end, %d are the same as another, of %d", whole, same, len(told))
		}
	})
}

// One MAC that answers for thousands of addresses is kept at so many, and its word is not taken for devices.
func TestOneMACThatAnswersForAll(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		mac := hwaddr.MAC{2, 7}
		w := &wideWire{fakeWire: &fakeWire{arp: map[netip.Addr][]hwaddr.MAC{}, refuses: map[netip.Addr]bool{addr("10.40.7.7"): true}}}
		for a := addr("10.40.0.1"); a != addr("10.40.31.254"); a = a.Next() {
			w.arp[a] = []hwaddr.MAC{mac}
		}
		o := order("10.40.0.0/19", 80)
		o.Fence = []netip.Prefix{netip.MustParsePrefix("10.40.0.0/19")}
		got := sweepOn(t, t.Context(), w, o)
		if len(got.told) > maxOfMAC+1 || got.summary.Answered < 8000 || !slices.ContainsFunc(got.warnings, func(text string) bool { return strings.Contains(text, "Answers for so many addresses") }) {
			t.Errorf("%d sightings of %d that answered, warnings %q", len(got.told), got.summary.Answered, got.warnings)
		}
		asked := 0
		for _, s := range got.whole {
			if s.Whole {
				asked++
			}
		}
		if asked > 2 {
			t.Errorf("%d addresses were asked to the end", asked)
		}
	})
}

// wideWire has a wide segment.
type wideWire struct{ *fakeWire }

func (w *wideWire) Link() wire.Link {
	return wire.Link{Name: "fake0", MAC: linkMAC, Prefixes: []netip.Prefix{netip.MustParsePrefix("10.40.0.250/19")}}
}

// What stands behind a gateway, and what has no address, has a place.
func TestDevicesWithoutAnAddressOfTheirOwn(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		units := map[string]int{}
		e := newEngine(&fakeWire{arp: segmentOf(1)}, order("10.40.1.1"), func(e Event) {
			if s, ok := e.(Sighted); ok && s.Sighting.Unit != "" && s.Whole {
				units[s.Sighting.Who().String()] = len(s.Sighting.Items)
			}
		})
		e.spoken = []*probe.Protocol{{Name: "plant", Cost: probe.Light, Port: evidence.TCP(502), Ask: func(_ context.Context, q probe.Query) ([]evidence.Item, bool) {
			for i := range 2 * maxUnits {
				q.Unit(fmt.Sprintf("plant/%d", i), []evidence.Item{{Source: "plant", Key: "plant.model", Value: "Ballast 3000"}})
			}
			q.Unit(strings.Repeat("x", evidence.MaxUnit+1), nil)
			return nil, true
		}}}
		if err := e.run(t.Context()); err != nil {
			t.Fatal(err)
		}
		if len(units) != maxUnits || units["10.40.1.1 plant/7"] != 1 {
			t.Errorf("%d units have a place", len(units))
		}
	})
	synctest.Test(t, func(t *testing.T) {
		frame := append([]byte{1, 0x80, 0xc2, 0, 0, 0x0e, 2, 9, 0, 0, 0, 0, 0x88, 0xcc, 2, 7, 4, 2, 9, 0, 0, 0, 0, 4, 3, 5, 'e', '0', 6, 2, 0, 120, 10, 6}, "acorn!"...)
		w := &listening{fakeWire: &fakeWire{arp: segmentOf(1)}, asked: map[uint16]int{}, frames: map[uint16][][]byte{wire.EtherTypeLLDP: {append(frame, 0, 0)}}}
		got := sweepOn(t, t.Context(), w, order("10.40.1.1"))
		if s := got.whole["invalid IP 02:09:00:00:00:00"]; evidence.First(s.Items, "lldp.name") != "acorn!" || s.Answered {
			t.Errorf("a neighbour without an address is seen as %+v among %s", s, keys(got.whole))
		}
	})
}

// Without the right to fix neighbour entries, several devices at one address are asked at their IPv6 addresses of the segment.
func TestSeveralAtOneAddressAreAskedByIPv6(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		a, b, shared := hwaddr.MAC{2, 1}, hwaddr.MAC{2, 2}, addr("10.40.1.5")
		w := &fakeWire{open: map[netip.AddrPort]string{
			netip.MustParseAddrPort("[fe80::a%fake0]:21"): "220 one\r\n", netip.MustParseAddrPort("[fe80::b%fake0]:21"): "220 other\r\n",
		}}
		e := newEngine(w, order("10.40.1.5", 21), func(Event) {})
		for mac, six := range map[hwaddr.MAC]string{a: "fe80::a", b: "fe80::b"} {
			for _, at := range []netip.Addr{shared, addr(six)} {
				e.roster.note(sighting(at, mac, evidence.Item{Source: evidence.SourceARP, Key: evidence.KeyMAC, Value: mac.String()}))
			}
		}
		if err := newInterviewer(e, newHearer(e)).askOne(t.Context(), shared); err != nil {
			t.Fatal(err)
		}
		for mac, want := range map[hwaddr.MAC][2]string{a: {"220 one", "fe80::a"}, b: {"220 other", "fe80::b"}} {
			items := e.roster.get(shared, mac).Items
			if got := evidence.Values(items, "ftp.greeting"); !slices.Equal(got, want[:1]) || evidence.First(items, evidence.KeyPinned) != want[1] {
				t.Errorf("%s said %q by %q", mac, got, evidence.First(items, evidence.KeyPinned))
			}
		}
	})
}
