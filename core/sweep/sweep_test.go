package sweep

import (
	"context"
	"encoding/binary"
	"io"
	"net"
	"net/netip"
	"os"
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

// fakeWire is a network of which a test says who answers what. It runs on fake time.
type fakeWire struct {
	noRights bool
	arp      map[netip.Addr][]hwaddr.MAC
	echo     map[netip.Addr]int // to the TTL of the answer
	open     map[netip.AddrPort]string
	refuses  map[netip.Addr]bool
	table    []wire.Neighbour
	latency  time.Duration
	loseARP  int // how many ARP requests to each address are lost first
	loseDial int // how many attempts to connect to each port are lost first

	mu    sync.Mutex // guards below
	asked map[netip.Addr]int
	dials map[netip.AddrPort]int
	order []netip.Addr
}

var linkMAC = hwaddr.MustParse("00:00:5e:00:53:fa")

func (w *fakeWire) Link() wire.Link {
	return wire.Link{Name: "fake0", MAC: linkMAC, Prefixes: []netip.Prefix{netip.MustParsePrefix("10.40.1.250/24")}}
}

func (w *fakeWire) note(a netip.Addr) int {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.asked == nil {
		w.asked = map[netip.Addr]int{}
	}
	w.asked[a]++
	w.order = append(w.order, a)
	return w.asked[a]
}

func (w *fakeWire) Frames(context.Context, uint16) (wire.FrameConn, error) {
	if w.noRights {
		return nil, wire.ErrNoRights
	}
	return &fakeFrames{wire: w, fakeQueue: newQueue[[]byte]()}, nil
}

func (w *fakeWire) Echo(context.Context, string) (wire.EchoConn, error) {
	if w.noRights {
		return nil, wire.ErrNoRights
	}
	return &fakeEcho{wire: w, fakeQueue: newQueue[wire.EchoReply]()}, nil
}

func (w *fakeWire) DialContext(ctx context.Context, network string, addr netip.AddrPort) (net.Conn, error) {
	if network == "udp" {
		return nil, syscall.ECONNREFUSED // nobody here listens for datagrams
	}
	w.mu.Lock()
	if w.dials == nil {
		w.dials = map[netip.AddrPort]int{}
	}
	w.dials[addr]++
	lost := w.dials[addr] <= w.loseDial
	w.mu.Unlock()
	if lost {
		<-ctx.Done()
		return nil, ctx.Err()
	}
	if says, open := w.open[addr]; open {
		ours, theirs := net.Pipe()
		go func() {
			_, _ = io.WriteString(theirs, says)
			theirs.Close()
		}()
		return ours, nil
	}
	if w.refuses[addr.Addr()] {
		return nil, syscall.ECONNREFUSED
	}
	<-ctx.Done()
	return nil, ctx.Err()
}

func (w *fakeWire) ListenPacket(context.Context, string, netip.AddrPort) (net.PacketConn, error) {
	return &quietPackets{newQueue[[]byte]()}, nil
}

// quietPackets takes in everything and gives nothing.
type quietPackets struct{ fakeQueue[[]byte] }

func (q *quietPackets) ReadFrom([]byte) (int, net.Addr, error) {
	_, err := q.next()
	return 0, nil, err
}
func (q *quietPackets) WriteTo(b []byte, _ net.Addr) (int, error) { return len(b), nil }
func (q *quietPackets) LocalAddr() net.Addr                       { return nil }
func (q *quietPackets) SetDeadline(time.Time) error               { return nil }
func (q *quietPackets) SetWriteDeadline(time.Time) error          { return nil }

func (w *fakeWire) Neighbours(context.Context) ([]wire.Neighbour, error) { return w.table, nil }

// fakeQueue delivers what it is given after a while.
type fakeQueue[T any] struct {
	items chan T
	over  chan struct{}
	once  *sync.Once
}

func newQueue[T any]() fakeQueue[T] {
	return fakeQueue[T]{make(chan T, 4096), make(chan struct{}), &sync.Once{}}
}

func (q fakeQueue[T]) later(after time.Duration, item T) {
	time.AfterFunc(after, func() { q.items <- item })
}

func (q fakeQueue[T]) next() (T, error) {
	select {
	case item := <-q.items:
		return item, nil
	case <-q.over:
		var none T
		return none, os.ErrDeadlineExceeded
	}
}

func (q fakeQueue[T]) SetReadDeadline(time.Time) error {
	q.once.Do(func() { close(q.over) })
	return nil
}

func (q fakeQueue[T]) Close() error { return nil }

type fakeFrames struct {
	wire *fakeWire
	fakeQueue[[]byte]
}

func (f *fakeFrames) WriteFrame(frame []byte) error {
	if binary.BigEndian.Uint16(frame[12:]) != wire.EtherTypeARP {
		return nil // nobody here answers another question
	}
	target := netip.AddrFrom4([4]byte(frame[38:42]))
	if f.wire.note(target) <= f.wire.loseARP {
		return nil
	}
	for _, mac := range f.wire.arp[target] {
		reply := slices.Clone(frame)
		copy(reply[0:6], linkMAC[:])
		copy(reply[6:12], mac[:])
		reply[21] = 2
		copy(reply[22:28], mac[:])
		copy(reply[28:32], target.AsSlice())
		f.later(f.wire.latency, reply)
	}
	return nil
}

func (f *fakeFrames) ReadFrame(buf []byte) (wire.Frame, error) {
	frame, err := f.next()
	return wire.Frame{Bytes: buf[:copy(buf, frame)], At: time.Now()}, err
}

type fakeEcho struct {
	wire *fakeWire
	fakeQueue[wire.EchoReply]
}

func (e *fakeEcho) Send(dst netip.Addr, seq uint16, data []byte) error {
	e.wire.note(dst)
	if ttl, answers := e.wire.echo[dst]; answers {
		e.later(e.wire.latency, wire.EchoReply{From: dst, Seq: seq, TTL: ttl, Data: slices.Clone(data)})
		// A liar who answers with somebody else's words is not believed.
		e.later(e.wire.latency, wire.EchoReply{From: netip.MustParseAddr("10.40.2.99"), Seq: seq, TTL: 64, Data: []byte("0123456789abcdef")})
	}
	return nil
}

func (e *fakeEcho) Receive() (wire.EchoReply, error) { return e.next() }

func addr(text string) netip.Addr { return netip.MustParseAddr(text) }

func order(ranges string, ports ...uint16) Order {
	set, err := netrange.Parse(ranges)
	if err != nil {
		panic(err)
	}
	return Order{Ranges: set, Fence: []netip.Prefix{netip.MustParsePrefix("10.40.1.0/24"), netip.MustParsePrefix("10.40.2.0/24")}, Pace: Brisk, Ports: ports, Seed: 3}
}

// outcome collects what a sweep tells.
type outcome struct {
	summary  Summary
	whole    map[string]evidence.Sighting
	told     map[string]evidence.Sighting // those that were told of at any time
	stages   []Stage
	warnings []string
	last     Progress
}

func sweepOn(t *testing.T, ctx context.Context, w wire.Wire, o Order) outcome {
	t.Helper()
	got := outcome{whole: map[string]evidence.Sighting{}, told: map[string]evidence.Sighting{}}
	var err error
	got.summary, err = Run(ctx, w, o, func(e Event) {
		switch e := e.(type) {
		case StageStarted:
			got.stages = append(got.stages, e.Stage)
		case Sighted:
			key := e.Sighting.Addr.String() + " " + e.Sighting.MAC.String()
			got.told[key] = e.Sighting
			if e.Whole {
				got.whole[key] = e.Sighting
			}
		case Warning:
			got.warnings = append(got.warnings, e.Text)
		case Progress:
			got.last = e
		}
	})
	if err != nil {
		t.Fatal(err)
	}
	return got
}

func keys(m map[string]evidence.Sighting) string {
	var list []string
	for k := range m {
		list = append(list, strings.TrimSpace(k))
	}
	slices.Sort(list)
	return strings.Join(list, ", ")
}

func TestRollCallByEveryWay(t *testing.T) {
	a, b := hwaddr.MustParse("48:9b:34:00:00:01"), hwaddr.MustParse("48:9b:34:00:00:02")
	synctest.Test(t, func(t *testing.T) {
		w := &fakeWire{
			latency: 2 * time.Millisecond, loseARP: 1,
			arp:     map[netip.Addr][]hwaddr.MAC{addr("10.40.1.5"): {a}, addr("10.40.1.6"): {a, b}},
			echo:    map[netip.Addr]int{addr("10.40.2.5"): 63},
			refuses: map[netip.Addr]bool{addr("10.40.2.6"): true},
			open:    map[netip.AddrPort]string{netip.MustParseAddrPort("10.40.2.7:443"): ""},
		}
		got := sweepOn(t, t.Context(), w, order("10.40.1.0/28,10.40.2.0/28"))
		want := "10.40.1.5 48:9b:34:00:00:01, 10.40.1.6 48:9b:34:00:00:01, 10.40.1.6 48:9b:34:00:00:02, 10.40.2.5, 10.40.2.6, 10.40.2.7"
		if keys(got.whole) != want {
			t.Errorf("seen %s\nwant %s", keys(got.whole), want)
		}
		if got.summary.Answered != 5 || got.summary.Stopped || got.last.Done != got.last.Total {
			t.Errorf("summary %+v, last progress %+v", got.summary, got.last)
		}
		if !slices.Equal(got.stages, []Stage{RollCall, Asking}) {
			t.Errorf("stages %v", got.stages)
		}
		for _, end := range []string{"10.40.1.0", "10.40.2.0"} {
			if w.asked[addr(end)] != 0 {
				t.Errorf("%s stands for a whole subnet and was asked", end)
			}
		}
		if ttl := evidence.First(got.whole["10.40.2.5 "].Items, evidence.KeyEchoTTL); ttl != "63" {
			t.Errorf("TTL %q", ttl)
		}
		if rtt := got.whole["10.40.2.5 "].Items[0].RTT; rtt != w.latency {
			t.Errorf("round trip %s, want %s", rtt, w.latency)
		}
	})
}

func TestSilentAddressesAreCalledInRounds(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := &fakeWire{arp: map[netip.Addr][]hwaddr.MAC{addr("10.40.1.5"): {hwaddr.MustParse("48:9b:34:00:00:01")}}}
		sweepOn(t, t.Context(), w, order("10.40.1.4-6"))
		// Who answers is called once more after he was asked, to see that he is still there.
		if w.asked[addr("10.40.1.5")] != 2 || w.asked[addr("10.40.1.4")] != Brisk.Rounds {
			t.Errorf("asked %v; want who answers twice and who does not %d times", w.asked, Brisk.Rounds)
		}
	})
}

// allPorts are those that the roll call probes where nothing is left out.
var allPorts = probe.SetWithout(nil).RollCallPorts(nil)

// What is left out, and what is never to be asked, is left out of the roll call too: nothing is sent there, and a device that would answer there alone is not met.
func TestRollCallKeepsToTheProtocolsOfTheSweep(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		for name, restrict := range map[string]func(*Order){
			"a protocol is left out": func(o *Order) { o.Off = []string{"modbus"} },
			"a port is never asked":  func(o *Order) { o.Never = []uint16{502} },
			"both, and all others too": func(o *Order) {
				o.Off, o.Never = []string{"modbus", "http", "https", "pjl", "smb", "ssh"}, []uint16{502, 80}
			},
		} {
			w := &fakeWire{open: map[netip.AddrPort]string{netip.AddrPortFrom(addr("10.40.2.7"), 502): ""}}
			o := order("10.40.2.4-9")
			restrict(&o)
			if got := sweepOn(t, t.Context(), w, o); keys(got.whole) != "" || got.last.Done != got.last.Total {
				t.Errorf("%s: seen %s, last progress %+v", name, keys(got.whole), got.last)
			}
			for at, times := range w.dials {
				if at.Port() == 502 {
					t.Errorf("%s: %s was connected to %d times", name, at, times)
				}
			}
		}
	})
}

// A device that shows itself at one port alone is found.
func TestTCPProbesOfEveryPort(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		for _, port := range allPorts {
			w := &fakeWire{open: map[netip.AddrPort]string{netip.AddrPortFrom(addr("10.40.2.7"), port): ""}}
			got := sweepOn(t, t.Context(), w, order("10.40.2.4-9"))
			if keys(got.whole) != "10.40.2.7" || got.last.Done != got.last.Total {
				t.Errorf("at port %d: seen %s, last progress %+v", port, keys(got.whole), got.last)
			}
		}
	})
}

// The order of TCP probes learns: where nobody is met it stops early, and never costs a silent address more than ten packets.
func TestTCPOrderLearns(t *testing.T) {
	network := netip.MustParsePrefix("10.40.2.0/24")
	k := newTCPOrder(allPorts)
	first := k.plan(network, maxPackets-Brisk.Rounds, usualLoss, false)
	if len(first) != len(allPorts) || Brisk.Rounds+len(first)+1 > maxPackets {
		t.Errorf("probes %v first, with %d echo requests before and one packet sent twice", first, Brisk.Rounds)
	}
	for range 3 {
		k.paid(network, 9100, 4)
	}
	if plan := k.plan(network, maxPackets-Brisk.Rounds, usualLoss, false); plan[0] != 9100 {
		t.Errorf("where 9100 has paid it is probed in the order %v", plan)
	}
	other := netip.MustParsePrefix("10.41.0.0/16")
	for range 5000 {
		k.inVain(other, k.plan(other, maxPackets-Brisk.Rounds, usualLoss, false))
	}
	if plan := k.plan(other, maxPackets-Brisk.Rounds, usualLoss, false); len(plan) > 2 {
		t.Errorf("where five thousand addresses had nobody it is still probed %d times", len(plan))
	}
	if plan := k.plan(network, 14, 0.4, false); len(plan) != 13 || len(slices.Compact(slices.Sorted(slices.Values(plan)))) != len(allPorts) {
		t.Errorf("where much gets lost ports are tried again: %v", plan)
	}
}

// The router that leads to an address may drop what made it look for the address by ARP. Where no echo request went before, the port
// of the first probe is probed again, within the ten packets.
func TestFirstTCPProbeIsNotTheOnlyOne(t *testing.T) {
	plan := newTCPOrder(allPorts).plan(netip.MustParsePrefix("10.40.2.0/24"), maxPackets, usualLoss, true)
	again := 0
	for _, port := range plan {
		if port == plan[0] {
			again++
		}
	}
	if again < 2 || len(slices.Compact(slices.Sorted(slices.Values(plan)))) != len(allPorts) || len(plan)+1 > maxPackets {
		t.Errorf("probes %v, with the first sent twice", plan)
	}
	synctest.Test(t, func(t *testing.T) {
		w := &fakeWire{noRights: true, loseDial: 1, open: map[netip.AddrPort]string{netip.AddrPortFrom(addr("10.40.2.7"), plan[0]): ""}}
		if got := sweepOn(t, t.Context(), w, order("10.40.2.7")); keys(got.whole) != "10.40.2.7" {
			t.Errorf("a device that answers at port %d alone, of which the first packet was lost: seen %q", plan[0], keys(got.whole))
		}
	})
}

func TestGentleProbesOneAtATime(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := &countingWire{fakeWire: &fakeWire{noRights: true}}
		o := order("10.40.2.7")
		o.Pace = Gentle
		sweepOn(t, t.Context(), w, o)
		if want := maxPackets - 1; w.most != 1 || w.total != want {
			t.Errorf("%d attempts, %d at the same time; want %d, one at a time", w.total, w.most, want)
		}
	})
}

// countingWire counts attempts to connect that are under way together.
type countingWire struct {
	*fakeWire
	mu               sync.Mutex // guards all below
	now, most, total int
}

func (w *countingWire) DialContext(ctx context.Context, network string, addr netip.AddrPort) (net.Conn, error) {
	w.mu.Lock()
	w.now++
	w.total++
	w.most = max(w.most, w.now)
	w.mu.Unlock()
	defer func() {
		w.mu.Lock()
		w.now--
		w.mu.Unlock()
	}()
	return w.fakeWire.DialContext(ctx, network, addr)
}

func TestAskingHearsFirstWords(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := &fakeWire{
			echo:    map[netip.Addr]int{addr("10.40.2.5"): 63},
			refuses: map[netip.Addr]bool{addr("10.40.2.5"): true},
			open:    map[netip.AddrPort]string{netip.MustParseAddrPort("10.40.2.5:21"): "220 ready\r\n", netip.MustParseAddrPort("10.40.2.5:502"): ""},
		}
		got := sweepOn(t, t.Context(), w, order("10.40.2.5", 21, 23, 502))
		items := got.whole["10.40.2.5 "].Items
		open := evidence.Values(items, evidence.KeyTCPOpen)
		slices.Sort(open)
		if !slices.Equal(open, []string{"21", "502"}) || evidence.First(items, evidence.KeyFTPGreeting) != "220 ready" {
			t.Errorf("evidence %+v", items)
		}
	})
}

func TestSilentPortsAreAskedTwiceAtTheMost(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := &fakeWire{echo: map[netip.Addr]int{addr("10.40.2.5"): 63}}
		sweepOn(t, t.Context(), w, order("10.40.2.5", 8080))
		if n := w.dials[netip.MustParseAddrPort("10.40.2.5:8080")]; n != 2 {
			t.Errorf("a port that keeps silent was asked %d times", n)
		}
	})
}

func TestAnswersOfAContestedAddressGoToWhoGaveThem(t *testing.T) {
	a, b := hwaddr.MustParse("48:9b:34:00:00:01"), hwaddr.MustParse("48:9b:34:00:00:02")
	for _, tt := range []struct {
		table []wire.Neighbour
		want  map[hwaddr.MAC]bool
	}{
		{[]wire.Neighbour{{Addr: addr("10.40.1.6"), MAC: b}}, map[hwaddr.MAC]bool{b: true}},
		{nil, nil}, // nobody can tell whose answer it is
	} {
		synctest.Test(t, func(t *testing.T) {
			w := &fakeWire{arp: map[netip.Addr][]hwaddr.MAC{addr("10.40.1.6"): {a, b}}, table: tt.table,
				open: map[netip.AddrPort]string{netip.MustParseAddrPort("10.40.1.6:21"): "220 ready\r\n"}}
			got := sweepOn(t, t.Context(), w, order("10.40.1.6", 21))
			for _, mac := range []hwaddr.MAC{a, b} {
				heard := evidence.First(got.whole["10.40.1.6 "+mac.String()].Items, evidence.KeyFTPGreeting) != ""
				if heard != tt.want[mac] {
					t.Errorf("table %v: the greeting is put to %s: %v", tt.table, mac, heard)
				}
			}
		})
	}
}

func TestSweepWithoutRights(t *testing.T) {
	mac := hwaddr.MustParse("48:9b:34:00:00:01")
	synctest.Test(t, func(t *testing.T) {
		w := &fakeWire{noRights: true, refuses: map[netip.Addr]bool{addr("10.40.1.5"): true}, table: []wire.Neighbour{{Addr: addr("10.40.1.5"), MAC: mac}}}
		got := sweepOn(t, t.Context(), w, order("10.40.1.4-6"))
		if want := "10.40.1.5 48:9b:34:00:00:01"; keys(got.whole) != want || keys(got.told) != want {
			t.Errorf("told of %s, in the end %s; want %s from the first on", keys(got.told), keys(got.whole), want)
		}
		if len(got.warnings) != 2 || !strings.Contains(got.warnings[0], "CAP_NET_RAW") {
			t.Errorf("warnings %q; want what could not be done and how to mend it", got.warnings)
		}
	})
}

func TestPaceIsKept(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := &fakeWire{}
		o := order("10.40.1.0/24")
		o.Pace = Pace{Rate: 100, Devices: 1, PerDevice: 1, PerNetwork: 1, Rounds: 1}
		start := time.Now()
		got := sweepOn(t, t.Context(), w, o)
		// 253 questions at 100 a second, and the wait for the last answer. Time is fake here, so this is arithmetic.
		if took, least := time.Since(start), 2500*time.Millisecond; took < least || took > least+2*firstTimeout {
			t.Errorf("%d questions took %s", got.summary.Sent, took)
		}
		inPlace := 0
		for i, a := range w.order {
			if i > 0 && w.order[i-1].Next() == a {
				inPlace++
			}
		}
		if inPlace > 20 {
			t.Errorf("%d of %d addresses were asked straight after the one before: the order is not random", inPlace, len(w.order))
		}
	})
}

func TestStopMidway(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		ctx, stop := context.WithTimeout(t.Context(), 500*time.Millisecond)
		defer stop()
		o := order("10.40.1.0/24")
		o.Pace = Gentle
		w := &fakeWire{}
		got := sweepOn(t, ctx, w, o)
		if !got.summary.Stopped || got.summary.Sent == 0 || got.summary.Sent > 50 {
			t.Errorf("summary %+v", got.summary)
		}
	})
}

func TestOrdersThatAreRefused(t *testing.T) {
	outside := order("10.40.1.1,10.40.3.1")
	empty := order("10.40.1.1")
	empty.Ranges = netrange.Set{}
	lazy := order("10.40.1.1")
	lazy.Pace.Rate = 0
	for _, o := range []Order{outside, empty, lazy} {
		w := &fakeWire{}
		_, err := Run(t.Context(), w, o, func(Event) {})
		if err == nil || len(w.asked) > 0 {
			t.Errorf("%v gave %v after %d questions", o.Ranges, err, len(w.asked))
		}
	}
}

func TestTimersFollowRFC6298(t *testing.T) {
	network := netip.MustParsePrefix("10.40.1.0/24")
	timers := newTimers([]netip.Prefix{network, netip.MustParsePrefix("10.0.0.0/8")}, Waits{})
	a := addr("10.40.1.5")
	if got := timers.wait(a); got != firstTimeout {
		t.Errorf("before any measurement: %s", got)
	}
	timers.measured(a, 400*time.Millisecond)
	if got, want := timers.wait(a), 1200*time.Millisecond; got != want { // R + 4 * R/2
		t.Errorf("after the first: %s, want %s", got, want)
	}
	timers.measured(a, 800*time.Millisecond)
	if got, want := timers.wait(a), 1450*time.Millisecond; got != want { // 450 + 4 * (3/4*200 + 1/4*400)
		t.Errorf("after the second: %s, want %s", got, want)
	}
	if got := timers.wait(addr("10.99.0.1")); got != firstTimeout {
		t.Errorf("another network: %s", got)
	}
	for range 50 {
		timers.measured(a, time.Millisecond)
	}
	if got := timers.wait(a); got != minTimeout {
		t.Errorf("after many fast ones: %s", got)
	}
}

func TestPaceNamed(t *testing.T) {
	for _, p := range Paces {
		if got, err := PaceNamed(p.Name); err != nil || got != p {
			t.Errorf("%s gave %+v, %v", p.Name, got, err)
		}
	}
	if _, err := PaceNamed("furious"); err == nil || !strings.Contains(err.Error(), "gentle, steady, brisk") {
		t.Errorf("an unknown pace gave %v", err)
	}
}
