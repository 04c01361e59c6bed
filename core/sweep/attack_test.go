package sweep

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"net/netip"
	"runtime"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/miekg/dns"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
	"airdrift/core/netrange"
	"airdrift/core/probe"
	"airdrift/core/wire"
)

// hostileWire is a segment on which somebody talks without end: frames of one type come as fast as they are read.
type hostileWire struct {
	*dualWire
	etherType uint16
	count     int
	frame     func(i int) []byte
	every     time.Duration // between the frames; 0 for none
}

func (w *hostileWire) Frames(ctx context.Context, etherType uint16) (wire.FrameConn, error) {
	conn, err := w.dualWire.Frames(ctx, etherType)
	if err != nil || etherType != w.etherType {
		return conn, err
	}
	return &hostileFrames{FrameConn: conn, wire: w}, nil
}

type hostileFrames struct {
	wire.FrameConn
	wire *hostileWire
	sent int
}

func (f *hostileFrames) ReadFrame(buf []byte) (wire.Frame, error) {
	if f.sent < f.wire.count {
		f.sent++
		time.Sleep(f.wire.every) // on fake time
		return wire.Frame{Bytes: buf[:copy(buf, f.wire.frame(f.sent-1))], At: time.Now()}, nil
	}
	return f.FrameConn.ReadFrame(buf)
}

func forgedMAC(i int) hwaddr.MAC {
	return hwaddr.MAC{0x48, 0x9b, byte(i >> 24), byte(i >> 16), byte(i >> 8), byte(i)}
}

// Hundreds of thousands of forged ARP frames, each from another MAC or all from one, for addresses in the ranges and outside:
// what is kept is bounded, it is said who floods, and the real devices are all seen, a stray from another subnet among them.
func TestFloodOfForgedARP(t *testing.T) {
	const forged, fewer = 200_000, 40_000
	real, stray := hwaddr.MustParse("f4:bc:c2:00:00:05"), hwaddr.MustParse("f4:bc:c2:00:00:77")
	strayFrame := probe.ARPRequest(stray, addr("192.168.77.10"), addr("192.168.77.1"))
	anyAddr := func(i int) netip.Addr { return netip.AddrFrom4([4]byte{172, byte(16 + i>>16), byte(i >> 8), byte(i)}) }
	for name, frame := range map[string]func(i int) []byte{
		"from as many MACs": func(i int) []byte { return probe.ARPRequest(forgedMAC(i), anyAddr(i), addr("10.40.1.1")) },
		"from one MAC":      func(i int) []byte { return probe.ARPRequest(forgedMAC(7), anyAddr(i), addr("10.40.1.1")) },
		"for addresses in the ranges": func(i int) []byte {
			return probe.ARPRequest(forgedMAC(i), netip.AddrFrom4([4]byte{10, 40, 1, byte(i)}), addr("10.40.1.1"))
		},
		"as answers": func(i int) []byte {
			answer := probe.ARPRequest(forgedMAC(i), netip.AddrFrom4([4]byte{10, 40, 1, byte(i)}), addr("10.40.1.250"))
			answer[21] = 2
			return answer
		},
	} {
		t.Run(name, func(t *testing.T) {
			count := fewer
			if name == "from as many MACs" {
				count = forged
			}
			synctest.Test(t, func(t *testing.T) {
				w := &hostileWire{
					dualWire: &dualWire{fakeWire: &fakeWire{arp: map[netip.Addr][]hwaddr.MAC{addr("10.40.1.5"): {real}}}}, etherType: wire.EtherTypeARP, count: count, every: 10 * time.Microsecond,
					frame: func(i int) []byte {
						if i%1000 == 500 {
							return strayFrame
						}
						return frame(i)
					},
				}
				var before, after runtime.MemStats
				runtime.GC()
				runtime.ReadMemStats(&before)
				got := sweepOn(t, t.Context(), w, sixOrder("10.40.1.0/24"))
				runtime.GC()
				runtime.ReadMemStats(&after)
				if most := maxHeard + 256*maxHolders; len(got.told) > most {
					t.Errorf("%d devices are told of, want at most %d", len(got.told), most)
				}
				t.Logf("%d told of, %.1f MiB more in use", len(got.told), float64(int64(after.HeapAlloc)-int64(before.HeapAlloc))/(1<<20))
				if _, seen := got.whole["10.40.1.5 "+real.String()]; !seen {
					t.Error("the real device is missing")
				}
				if _, seen := got.told["192.168.77.10 "+stray.String()]; !seen {
					t.Error("the stray is missing")
				}
				if text := strings.Join(got.warnings, "\n"); strings.Count(text, "being flooded") != 1 || len(text) > 2000 {
					t.Errorf("the warnings are %q", text)
				}
				if len(w.dials) > 0 && name != "as answers" {
					for who := range w.dials {
						if who.Addr() != addr("10.40.1.5") {
							t.Errorf("%s was asked, and never answered", who)
						}
					}
				}
			})
		})
	}
}

// A thousand forged neighbour solicitations cost one question each: who does not answer for his address is not asked more.
func TestForgedSolicitationsAreNotAsked(t *testing.T) {
	real := hwaddr.MustParse("f4:bc:c2:00:00:61")
	synctest.Test(t, func(t *testing.T) {
		w := &hostileWire{
			dualWire: &dualWire{fakeWire: &fakeWire{}, six: map[netip.Addr]hwaddr.MAC{}}, etherType: wire.EtherTypeIPv6, count: 1000, every: time.Millisecond,
		}
		w.frame = func(i int) []byte {
			from := addr("fd00:40:1::1").As16()
			binary.BigEndian.PutUint16(from[14:], uint16(0x1000+i))
			if i == 500 { // it does not answer to all nodes, but it is there
				w.mu.Lock()
				w.six[addr("fd00:40:1::61")] = real
				w.mu.Unlock()
				return probe.NeighbourSolicitation(real, addr("fd00:40:1::61"), addr("fd00:40:1::250"))
			}
			return probe.NeighbourSolicitation(forgedMAC(i), netip.AddrFrom16(from), addr("fd00:40:1::250"))
		}
		began := time.Now()
		got := sweepOn(t, t.Context(), w, sixOrder("10.40.1.0/24", 21, 22, 80))
		if took := time.Since(began); took > 2*time.Minute {
			t.Errorf("the sweep took %s", took)
		}
		for who := range w.dials {
			if who.Addr() != addr("fd00:40:1::61") {
				t.Fatalf("%s was asked, and never answered", who)
			}
		}
		if s := got.whole["fd00:40:1::61 "+real.String()]; !s.Whole || !s.Answered {
			t.Errorf("the real device is %+v", s)
		}
	})
}

// One MAC that sends many solicitations and answers for all of its addresses is asked at one of them.
func TestOneMACIsAskedAtOneAddress(t *testing.T) {
	mac := forgedMAC(1)
	synctest.Test(t, func(t *testing.T) {
		w := &hostileWire{dualWire: &dualWire{fakeWire: &fakeWire{}, six: map[netip.Addr]hwaddr.MAC{}}, etherType: wire.EtherTypeIPv6, count: 1000}
		at := func(i int) netip.Addr {
			a := addr("fd00:40:1::1").As16()
			binary.BigEndian.PutUint16(a[14:], uint16(0x1000+i))
			return netip.AddrFrom16(a)
		}
		for i := range 1000 {
			w.six[at(i)] = mac
		}
		w.frame = func(i int) []byte { return probe.NeighbourSolicitation(mac, at(i), addr("fd00:40:1::250")) }
		sweepOn(t, t.Context(), w, sixOrder("10.40.1.0/24", 21))
		asked := map[netip.Addr]bool{}
		for who := range w.dials {
			asked[who.Addr()] = true
		}
		if len(asked) != 1 {
			t.Errorf("one MAC was asked at %d addresses", len(asked))
		}
	})
}

// Sixty neighbours that tell of themselves by LLDP and answer nowhere make one short warning; a flood of them is bounded.
func TestNeighboursWithoutAPlaceMakeOneWarning(t *testing.T) {
	for _, count := range []int{60, 20_000} {
		synctest.Test(t, func(t *testing.T) {
			w := &hostileWire{dualWire: &dualWire{fakeWire: &fakeWire{}}, etherType: wire.EtherTypeLLDP, count: count, frame: func(i int) []byte {
				name := bytes.Repeat([]byte("\x1b]0;é"), 80)[:250]
				frame := append([]byte{0x01, 0x80, 0xc2, 0, 0, 0x0e, 2, 0, 0, byte(i >> 16), byte(i >> 8), byte(i), 0x88, 0xcc}, 2, 7, 4, 2, 0, 0, byte(i>>16), byte(i>>8), byte(i), 4, 3, 5, 'e', '0', 6, 2, 0, 120)
				frame = append(frame, 10, byte(len(name)))
				return append(append(frame, name...), 0, 0)
			}}
			got := sweepOn(t, t.Context(), w, order("10.40.1.0/28"))
			if len(got.warnings) != 1 || len(got.warnings[0]) > 2000 || !strings.Contains(got.warnings[0], "others.") {
				t.Errorf("%d frames made %d warnings: %q", count, len(got.warnings), got.warnings)
			}
		})
	}
}

// One device announces other texts without end by multicast DNS. What is kept of it is bounded and said to be cut, it is told of
// at most once a second, and what it answers still finds room.
func TestEndlessAnnouncementsAreBounded(t *testing.T) {
	mac := hwaddr.MustParse("48:9b:34:00:00:05")
	frames := make([][]byte, 2300)
	for i := range frames {
		frames[i] = datagramFrame(mac, "10.40.1.5", 5353, announcement(t, i))
	}
	synctest.Test(t, func(t *testing.T) {
		w := &hostileWire{
			dualWire: &dualWire{fakeWire: &fakeWire{
				arp: map[netip.Addr][]hwaddr.MAC{addr("10.40.1.5"): {mac}}, open: map[netip.AddrPort]string{netip.MustParseAddrPort("10.40.1.5:21"): "220 sensor\r\n"},
				latency: time.Millisecond,
			}}, etherType: wire.EtherTypeIPv4, count: len(frames), every: 10 * time.Millisecond, frame: func(i int) []byte { return frames[i] },
		}
		told, began := 0, time.Now()
		var last evidence.Sighting
		var warnings []string
		o := order("10.40.1.0/24", 21)
		_, err := Run(t.Context(), w, o, func(e Event) {
			switch e := e.(type) {
			case Sighted:
				if e.Sighting.Addr == addr("10.40.1.5") {
					told++
					last = e.Sighting
				}
			case Warning:
				warnings = append(warnings, e.Text)
			}
		})
		if err != nil {
			t.Fatal(err)
		}
		if most := 4 + int(time.Since(began)/time.Second); told > most {
			t.Errorf("it was told of %d times in %s", told, time.Since(began))
		}
		if len(last.Items) > evidence.Heard.Items+20 || evidence.Size(last.Items) > evidence.Heard.Bytes+5000 {
			t.Errorf("%d facts of %d bytes are kept", len(last.Items), evidence.Size(last.Items))
		}
		if evidence.First(last.Items, evidence.KeyCut) != "mdns" || evidence.First(last.Items, evidence.KeyFTPGreeting) != "220 sensor" {
			t.Errorf("cut %q, greeting %q", evidence.First(last.Items, evidence.KeyCut), evidence.First(last.Items, evidence.KeyFTPGreeting))
		}
		if text := strings.Join(warnings, "\n"); !strings.Contains(text, "More was said than is kept of 10.40.1.5") {
			t.Errorf("warnings %q", text)
		}
	})
}

// announcement makes a message of multicast DNS with texts of its own.
func announcement(t *testing.T, i int) string {
	t.Helper()
	message := new(dns.Msg)
	message.Response = true
	texts := []string{fmt.Sprintf("n=%d", i), fmt.Sprintf("a%d=%s", i, strings.Repeat("x", 200)), fmt.Sprintf("b%d=%s", i, strings.Repeat("y", 200))}
	header := func(name string, kind uint16) dns.RR_Header {
		return dns.RR_Header{Name: name, Rrtype: kind, Class: dns.ClassINET, Ttl: 120}
	}
	message.Answer = []dns.RR{
		&dns.PTR{Hdr: header("_http._tcp.local.", dns.TypePTR), Ptr: "sensor._http._tcp.local."},
		&dns.TXT{Hdr: header("sensor._http._tcp.local.", dns.TypeTXT), Txt: texts},
	}
	packed, err := message.Pack()
	if err != nil {
		t.Fatal(err)
	}
	return string(packed)
}

// In a fence wider than its subnets the addresses that may stand for a whole subnet are left alone; those of the local segment are
// known, and taken as they are.
func TestBroadcastAddressesWithinAWideFence(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := &fakeWire{refuses: map[netip.Addr]bool{addr("10.40.7.255"): true, addr("10.40.8.0"): true, addr("10.40.8.1"): true}}
		o := order("10.40.7.254-10.40.8.1, 10.40.1.254-10.40.1.255")
		o.Fence = []netip.Prefix{netip.MustParsePrefix("10.0.0.0/8")}
		got := sweepOn(t, t.Context(), w, o)
		if keys(got.whole) != "10.40.8.1" {
			t.Errorf("seen %s, want 10.40.8.1 alone", keys(got.whole))
		}
		for _, a := range []string{"10.40.7.255", "10.40.8.0", "10.40.1.255"} {
			if w.asked[addr(a)] != 0 {
				t.Errorf("%s was called", a)
			}
		}
		for who := range w.dials {
			if last := who.Addr().As4()[3]; last == 0 || last == 255 {
				t.Errorf("%s was probed", who)
			}
		}
	})
}

func TestOrdersForGroupsAreRefused(t *testing.T) {
	for _, ranges := range []string{"224.0.0.251", "10.40.1.5, 255.255.255.255"} {
		o := order(ranges)
		o.Fence = []netip.Prefix{netip.MustParsePrefix("0.0.0.0/0")}
		if err := o.Check(); !errors.Is(err, ErrNoDevice) {
			t.Errorf("%s gave %v", ranges, err)
		}
	}
	o := order("10.40.1.5")
	o.Excluded, _ = netrange.Parse("239.0.0.1")
	if err := o.Check(); !errors.Is(err, ErrNoDevice) {
		t.Errorf("a group that is left out gave %v", err)
	}
}

// Neighbours go on talking while the last of them are placed.
func TestNeighboursThatTalkToTheEnd(t *testing.T) {
	frame := func(last byte) []byte {
		return []byte{1, 0x80, 0xc2, 0, 0, 0x0e, 2, 0, 0, 0, 0, last, 0x88, 0xcc, 2, 7, 4, 2, 0, 0, 0, 0, last, 4, 3, 5, 'e', '0', 6, 2, 0, 120, 0, 0}
	}
	var warnings []string
	h := newHearer(newEngine(&fakeWire{}, order("10.40.1.0/28"), func(e Event) {
		if w, ok := e.(Warning); ok {
			warnings = append(warnings, w.Text)
		}
	}))
	for _, p := range h.spoken {
		if slices.Contains(p.Frames, wire.EtherTypeLLDP) {
			for last := range byte(3) {
				h.heardFrame(p, frame(last))
				h.placeNeighbours()
			}
		}
	}
	if len(warnings) != 3 {
		t.Errorf("warnings %q", warnings)
	}
}

// Many who answer to all nodes for one address outside the fence do not have it called there, which would end the sweep.
func TestCrowdedAddressesOutsideTheRangesAreLeftAlone(t *testing.T) {
	w := &dualWire{fakeWire: &fakeWire{}}
	e := newEngine(w, order("10.40.1.0/28"), func(Event) {})
	for i := range 40 {
		e.noted(sighting(addr("fd00:40:1::61"), forgedMAC(i), evidence.Item{Source: evidence.SourceND, Key: evidence.KeyNDMAC, Value: "x"}))
	}
	if len(e.roster.allCrowded()) != 1 {
		t.Fatal("the address is not crowded")
	}
	h := newHearer(e)
	if err := h.open(t.Context()); err != nil {
		t.Fatal(err)
	}
	defer h.close()
	if called, err := newCaller(e, h).prove(t.Context()); err != nil || called > 0 || len(w.sent) > 0 {
		t.Errorf("called %v, %v", w.sent, err)
	}
}
