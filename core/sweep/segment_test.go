package sweep

import (
	"context"
	"encoding/binary"
	"errors"
	"io"
	"net"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"testing/synctest"
	"time"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
	"airdrift/core/netrange"
	"airdrift/core/probe"
	"airdrift/core/wire"
)

// dualWire is a fakeWire whose segment speaks IPv6 as well, and on which others talk without being asked.
type dualWire struct {
	*fakeWire
	six   map[netip.Addr]hwaddr.MAC // who answers neighbour solicitations, and requests to all nodes
	heard [][]byte                  // frames that come by themselves as soon as somebody listens
	sent  []string                  // IPv6 packets, by what they ask
}

func (w *dualWire) Link() wire.Link {
	l := w.fakeWire.Link()
	l.Prefixes = append(l.Prefixes, netip.MustParsePrefix("fd00:40:1::250/64"))
	return l
}

func (w *dualWire) Frames(ctx context.Context, etherType uint16) (wire.FrameConn, error) {
	f := &fakeFrames{wire: w.fakeWire, fakeQueue: newQueue[[]byte]()}
	for _, frame := range w.heard {
		if binary.BigEndian.Uint16(frame[12:14]) == etherType {
			f.later(time.Millisecond, frame)
		}
	}
	if etherType == wire.EtherTypeIPv6 {
		return &dualFrames{f, w}, nil
	}
	return f, nil
}

type dualFrames struct {
	*fakeFrames
	dual *dualWire
}

func (f *dualFrames) WriteFrame(frame []byte) error {
	f.dual.mu.Lock()
	defer f.dual.mu.Unlock()
	all := frame[14+40] == 128
	what := "all nodes"
	if !all {
		what = netip.AddrFrom16([16]byte(frame[14+48 : 14+64])).String()
	}
	f.dual.sent = append(f.dual.sent, what)
	for a, mac := range f.dual.six {
		if all || a.String() == what {
			f.later(2*time.Millisecond, sixAnswer(frame, mac, a))
		}
	}
	return nil
}

// sixAnswer makes a neighbour advertisement or an echo answer of what asks for it.
func sixAnswer(question []byte, mac hwaddr.MAC, from netip.Addr) []byte {
	reply := slices.Clone(question)
	copy(reply[6:12], mac[:])
	copy(reply[14+8:], from.AsSlice())
	reply[14+7] = 255
	if reply[14+40] == 128 {
		reply[14+40] = 129
		return reply
	}
	reply[14+40], reply[14+64] = 136, 2
	copy(reply[14+48:], from.AsSlice())
	copy(reply[14+66:], mac[:])
	return reply
}

var sixFence = []netip.Prefix{netip.MustParsePrefix("10.40.1.0/24"), netip.MustParsePrefix("fd00:40:1::/64")}

func sixOrder(ranges string, ports ...uint16) Order {
	o := order(ranges, ports...)
	o.Fence = sixFence
	return o
}

// A sweep of the whole segment calls all of its nodes at once, and asks those that have IPv6 alone.
func TestWholeSegmentFindsIPv6(t *testing.T) {
	sensor, both := hwaddr.MustParse("f4:bc:c2:00:00:01"), hwaddr.MustParse("48:9b:34:00:00:01")
	synctest.Test(t, func(t *testing.T) {
		w := &dualWire{fakeWire: &fakeWire{
			arp:  map[netip.Addr][]hwaddr.MAC{addr("10.40.1.5"): {both}},
			open: map[netip.AddrPort]string{netip.MustParseAddrPort("[fd00:40:1::61]:21"): "220 sensor\r\n", netip.MustParseAddrPort("[fd00:40:1::5]:21"): "220 both\r\n"},
		}, six: map[netip.Addr]hwaddr.MAC{addr("fd00:40:1::61"): sensor, addr("fd00:40:1::5"): both}}
		got := sweepOn(t, t.Context(), w, sixOrder("10.40.1.0/24", 21))
		if got.summary.Answered != 2 || got.summary.Heard != 2 { // the auditor's own machine among those that answered
			t.Errorf("summary %+v", got.summary)
		}
		if s := got.whole["fd00:40:1::61 "+sensor.String()]; evidence.First(s.Items, evidence.KeyFTPGreeting) != "220 sensor" || !s.Whole {
			t.Errorf("the sensor is %+v", s)
		}
		if s := got.whole["fd00:40:1::5 "+both.String()]; evidence.First(s.Items, evidence.KeyFTPGreeting) != "" || s.Whole {
			t.Errorf("a device that was asked by IPv4 was asked again by IPv6: %+v", s)
		}
	})
}

// A site of IPv6 alone is swept by what answers on the segment, and devices of IPv4 beside it are spoken to by nobody.
func TestSiteOfIPv6Alone(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		sensor, other := hwaddr.MustParse("f4:bc:c2:00:00:01"), hwaddr.MustParse("48:9b:34:00:00:01")
		w := &dualWire{fakeWire: &fakeWire{
			arp:  map[netip.Addr][]hwaddr.MAC{addr("10.40.1.5"): {other}},
			open: map[netip.AddrPort]string{netip.MustParseAddrPort("[fd00:40:1::61]:21"): "220 sensor\r\n"},
		}, six: map[netip.Addr]hwaddr.MAC{addr("fd00:40:1::61"): sensor}}
		got := sweepOn(t, t.Context(), w, Order{Fence: sixFence[1:], Pace: Brisk, Ports: []uint16{21}, Seed: 3})
		if s := got.whole["fd00:40:1::61 "+sensor.String()]; evidence.First(s.Items, evidence.KeyFTPGreeting) != "220 sensor" || got.summary.Answered != 1 {
			t.Errorf("the sensor is %+v; summary %+v", s, got.summary)
		}
		if len(w.fakeWire.asked) > 0 {
			t.Errorf("called by ARP: %v", w.fakeWire.asked)
		}
	})
	if err := (Order{Fence: sixFence, Pace: Brisk}).Check(); !errors.Is(err, netrange.ErrEmpty) {
		t.Errorf("no ranges on a site of both gave %v", err)
	}
}

// A sweep of a part of the segment speaks to nobody else on it.
func TestPartOfASegmentIsAllThatIsAsked(t *testing.T) {
	mac := hwaddr.MustParse("f4:bc:c2:00:00:01")
	for _, ranges := range []string{"10.40.1.5", "10.40.1.1-253"} {
		synctest.Test(t, func(t *testing.T) {
			w := &dualWire{fakeWire: &fakeWire{}, six: map[netip.Addr]hwaddr.MAC{addr("fd00:40:1::61"): mac},
				heard: [][]byte{probe.NeighbourSolicitation(mac, addr("fd00:40:1::61"), addr("fd00:40:1::250")), probe.ARPRequest(mac, addr("192.168.77.10"), addr("192.168.77.1"))}}
			got := sweepOn(t, t.Context(), w, sixOrder(ranges, 21))
			if len(w.sent) > 0 {
				t.Errorf("%s: IPv6 packets were sent: %v", ranges, w.sent)
			}
			for who := range w.dials {
				if !netip.MustParsePrefix("10.40.1.0/24").Contains(who.Addr()) {
					t.Errorf("%s: %s was asked", ranges, who)
				}
			}
			heard := got.whole["192.168.77.10 "+mac.String()]
			if heard.LearnedFrom != heardOnSegment || heard.Whole || got.told["fd00:40:1::61 "+mac.String()].LearnedFrom != heardOnSegment {
				t.Errorf("%s: who talked by themselves: %+v", ranges, got.told)
			}
		})
	}
}

// Addresses of an IPv6 prefix that can be counted are called one by one.
func TestIPv6RangesAreCalledByNeighbourDiscovery(t *testing.T) {
	mac := hwaddr.MustParse("f4:bc:c2:00:00:01")
	synctest.Test(t, func(t *testing.T) {
		w := &dualWire{fakeWire: &fakeWire{}, six: map[netip.Addr]hwaddr.MAC{addr("fd00:40:1::61"): mac}}
		got := sweepOn(t, t.Context(), w, sixOrder("fd00:40:1::60/126"))
		s := got.whole["fd00:40:1::61 "+mac.String()]
		if got.summary.Answered != 1 || evidence.First(s.Items, evidence.KeyNDMAC) != mac.String() || s.Items[0].RTT != 2*time.Millisecond {
			t.Errorf("summary %+v, sighting %+v", got.summary, s)
		}
		if slices.Contains(w.sent, "all nodes") {
			t.Errorf("a part of the segment was to be looked at, and all nodes were called")
		}
	})
}

// Who answers for many addresses is asked only where somebody is behind one.
func TestAddressesThatOthersAnswerForAreLeftAlone(t *testing.T) {
	bridge := hwaddr.MustParse("48:9b:34:00:00:08")
	synctest.Test(t, func(t *testing.T) {
		w := &fakeWire{arp: map[netip.Addr][]hwaddr.MAC{}, refuses: map[netip.Addr]bool{addr("10.40.1.8"): true}}
		for a := addr("10.40.1.8"); a != addr("10.40.1.16"); a = a.Next() {
			w.arp[a] = []hwaddr.MAC{bridge}
		}
		got := sweepOn(t, t.Context(), w, order("10.40.1.8-15", 21, 22, 23, 25, 8080))
		if !got.whole["10.40.1.8 "+bridge.String()].Whole {
			t.Error("the bridge itself was not asked")
		}
		if got.whole["10.40.1.9 "+bridge.String()].Whole || w.dials[netip.MustParseAddrPort("10.40.1.9:8080")] > 0 {
			t.Error("an address with nobody behind it was asked all there is")
		}
	})
}

// Who accepts every connection is told from who offers many services, also where the first packet to each port gets lost.
func TestWhoAcceptsEveryPort(t *testing.T) {
	for _, lost := range []int{0, 1} {
		synctest.Test(t, func(t *testing.T) {
			w := &everyPort{fakeWire: &fakeWire{echo: map[netip.Addr]int{addr("10.40.2.5"): 63}}, lost: lost}
			got := sweepOn(t, t.Context(), w, order("10.40.2.5", 21, 9100))
			items := got.whole["10.40.2.5 "].Items
			if evidence.First(items, evidence.KeyTCPEvery) != "yes" || evidence.First(items, evidence.KeyTCPOpen) != "" {
				t.Errorf("with %d lost to each port: evidence %+v", lost, items)
			}
		})
	}
}

// everyPort accepts connections to whatever port and says nothing.
type everyPort struct {
	*fakeWire
	lost int // attempts to each port that are lost first

	mu    sync.Mutex // guards tries
	tries map[netip.AddrPort]int
}

func (w *everyPort) DialContext(ctx context.Context, network string, to netip.AddrPort) (net.Conn, error) {
	w.mu.Lock()
	if w.tries == nil {
		w.tries = map[netip.AddrPort]int{}
	}
	w.tries[to]++
	lost := w.tries[to] <= w.lost
	w.mu.Unlock()
	if lost && network == "tcp" {
		<-ctx.Done()
		return nil, ctx.Err()
	}
	ours, theirs := net.Pipe()
	go func() { _, _ = io.Copy(io.Discard, theirs) }()
	return ours, nil
}

// A sweep goes on from its place: what was called is not called again, and who was asked is not asked again.
func TestResume(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		first := &fakeWire{arp: map[netip.Addr][]hwaddr.MAC{}}
		for a := addr("10.40.1.20"); a != addr("10.40.1.40"); a = a.Next() {
			first.arp[a] = []hwaddr.MAC{{2, 0, 0, 0, 0, a.As4()[3]}}
		}
		o := order("10.40.1.0/24", 8080)
		o.Pace = Steady
		ctx, stop := context.WithTimeout(t.Context(), 1200*time.Millisecond)
		defer stop()
		got := sweepOn(t, ctx, first, o)
		if !got.summary.Stopped || got.summary.At.Called || got.summary.At.Calls["arp"] == (Place{}) {
			t.Fatalf("stopped at %+v", got.summary.At)
		}
		o.Resume = got.summary.At
		for _, s := range got.told {
			o.Known = append(o.Known, s)
		}
		second := &fakeWire{arp: first.arp}
		rest := sweepOn(t, t.Context(), second, o)
		if rest.summary.Stopped || rest.summary.Answered != 21 { // with the auditor's own machine
			t.Errorf("the rest: %+v", rest.summary)
		}
		again := 0
		for a, n := range second.asked {
			if len(first.arp[a]) > 0 && first.asked[a] > 0 && n > 1 { // once, to see that it is still there when it has been asked
				again++
			}
		}
		if again > 0 {
			t.Errorf("%d devices that had answered were called again", again)
		}
		o.Resume.Called, o.Known = true, nil
		for _, s := range rest.whole {
			o.Known = append(o.Known, s)
		}
		third := &fakeWire{arp: first.arp}
		sweepOn(t, t.Context(), third, o)
		if len(third.asked)+len(third.dials) > 0 {
			t.Errorf("a sweep that was over asked %v, %v", third.asked, third.dials)
		}
	})
}

// Name servers outside the fence, or among what is left out, are sent nothing.
func TestNameServersThatMayNotBeAsked(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := &fakeWire{echo: map[netip.Addr]int{addr("10.40.2.5"): 63}}
		o := order("10.40.2.5")
		o.NameServers = []netip.Addr{addr("10.99.0.53"), addr("10.40.1.53")}
		o.Excluded = order("10.40.1.53").Ranges
		got := sweepOn(t, t.Context(), w, o)
		for who := range w.dials {
			if who.Port() == 53 {
				t.Errorf("%s was asked", who)
			}
		}
		if len(got.warnings) != 2 || !strings.Contains(got.warnings[0], "outside the fence") || !strings.Contains(got.warnings[1], "left out") {
			t.Errorf("warnings %q", got.warnings)
		}
	})
}

// noGroups is a wire on which no group can be joined.
type noGroups struct{ *fakeWire }

func (w noGroups) ListenPacket(ctx context.Context, network string, a netip.AddrPort) (net.PacketConn, error) {
	if a.Addr().IsMulticast() {
		return nil, syscall.ENODEV
	}
	return w.fakeWire.ListenPacket(ctx, network, a)
}

// A sweep of the whole segment joins its groups, and goes on where it cannot; a sweep of a part joins none.
func TestGroupsThatCannotBeJoined(t *testing.T) {
	groups := map[netip.Addr]bool{}
	for _, at := range probe.Allowance().Groups {
		if at.Is4() && at.IsMulticast() {
			groups[at] = true
		}
	}
	for ranges, want := range map[string]int{"10.40.1.0/24": len(groups), "10.40.1.5": 0} {
		synctest.Test(t, func(t *testing.T) {
			w := noGroups{&fakeWire{arp: map[netip.Addr][]hwaddr.MAC{addr("10.40.1.5"): {{2, 1}}}}}
			got := sweepOn(t, t.Context(), w, order(ranges, 80))
			told := slices.DeleteFunc(got.warnings, func(text string) bool { return !strings.Contains(text, "cannot be joined") })
			seen := got.whole["10.40.1.5 "+hwaddr.MAC{2, 1}.String()]
			if len(told) != want || !seen.Answered {
				t.Errorf("%s: seen as %+v, warnings %q", ranges, seen, told)
			}
		})
	}
}
