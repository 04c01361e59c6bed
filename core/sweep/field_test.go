package sweep

import (
	"context"
	"fmt"
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

// leaving notes which datagrams really left, and when, to devices that keep silent.
type leaving struct {
	*fakeWire
	mu   sync.Mutex // guards left
	left map[netip.AddrPort]int
}

func (w *leaving) DialContext(ctx context.Context, network string, addr netip.AddrPort) (net.Conn, error) {
	if network != "udp" {
		w.mu.Lock()
		w.left[addr]++
		w.mu.Unlock()
		return w.fakeWire.DialContext(ctx, network, addr)
	}
	return &leavingConn{deaf: deaf{wire: &listening{}, over: make(chan struct{})}, out: w, to: addr}, nil
}

type leavingConn struct {
	deaf
	out *leaving
	to  netip.AddrPort
}

func (c *leavingConn) Write(b []byte) (int, error) {
	c.out.mu.Lock()
	defer c.out.mu.Unlock()
	c.out.left[c.to]++
	return len(b), nil
}

// segmentOf makes so many devices that answer ARP, from 10.40.1.1 on.
func segmentOf(count int) map[netip.Addr][]hwaddr.MAC {
	arp := map[netip.Addr][]hwaddr.MAC{}
	for i := range count {
		arp[netip.AddrFrom4([4]byte{10, 40, 1, byte(1 + i)})] = []hwaddr.MAC{{2, 0, 0, 0, 1, byte(i)}}
	}
	return arp
}

// A device beyond a router takes longer to accept a connection than those around it, so that the next port is tried already, or the first
// packet to it got lost, so that the system's second one reaches it: its answer counts at every pace.
func TestLateAnswerToATCPProbeCounts(t *testing.T) {
	for _, pace := range Paces {
		for _, wait := range []time.Duration{700 * time.Millisecond, 1400 * time.Millisecond} {
			synctest.Test(t, func(t *testing.T) {
				late := addr("10.40.2.61")
				w := &slowly{fakeWire: &fakeWire{noRights: true, refuses: map[netip.Addr]bool{}, open: map[netip.AddrPort]string{}, latency: time.Millisecond}, slow: late, wait: wait}
				for a := addr("10.40.2.1"); a != late; a = a.Next() {
					w.refuses[a] = true
				}
				w.open[netip.AddrPortFrom(late, 80)] = ""
				o := order("10.40.2.1-61")
				o.Pace, o.Ports = pace, []uint16{22}
				got := sweepOn(t, t.Context(), w, o)
				if _, met := got.whole[late.String()+" "]; !met {
					t.Errorf("at pace %s a device that accepts after %s is missed", pace.Name, wait)
				}
			})
		}
	}
}

// Where all answers take longer than a second, who answers at one port alone, and not at the likeliest, is met as elsewhere.
func TestTCPProbesOnASlowNetwork(t *testing.T) {
	for _, port := range allPorts {
		synctest.Test(t, func(t *testing.T) {
			alone := addr("10.40.2.61")
			w := &far{&fakeWire{noRights: true, refuses: map[netip.Addr]bool{}, open: map[netip.AddrPort]string{}, latency: 1300 * time.Millisecond}}
			for a := addr("10.40.2.1"); a != alone; a = a.Next() {
				w.refuses[a] = true
			}
			w.open[netip.AddrPortFrom(alone, port)] = ""
			o := order("10.40.2.1-61")
			o.Pace, o.Ports = Steady, []uint16{22}
			got := sweepOn(t, t.Context(), w, o)
			if _, met := got.whole[alone.String()+" "]; !met {
				t.Errorf("a device that answers at port %d alone is missed", port)
			}
		})
	}
}

// A slow pace loses no question: each waits for its turn, and its time begins when it has left.
func TestEveryQuestionLeavesAtASlowPace(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := &leaving{fakeWire: &fakeWire{arp: segmentOf(100)}, left: map[netip.AddrPort]int{}}
		o := order("10.40.1.1-100", 80)
		o.Pace = Pace{Rate: 5, Devices: 24, PerDevice: 4, PerNetwork: 400, Rounds: 1}
		sweepOn(t, t.Context(), w, o)
		for _, p := range probe.Protocols() {
			if p.Ask == nil || p.ByOthers {
				continue
			}
			reached := 0
			for a := range w.arp {
				if w.left[netip.AddrPortFrom(a, p.Port.Number)] > 0 {
					reached++
				}
			}
			if reached != 100 {
				t.Errorf("%s reached %d of 100 devices", p.Name, reached)
			}
		}
	})
}

// far accepts and refuses connections as late as it answers everything else.
type far struct{ *fakeWire }

func (w *far) DialContext(ctx context.Context, network string, addr netip.AddrPort) (net.Conn, error) {
	if _, open := w.open[addr]; open || w.refuses[addr.Addr()] {
		if err := pause(ctx, w.latency); err != nil {
			return nil, err
		}
	}
	return w.fakeWire.DialContext(ctx, network, addr)
}

// slowly accepts connections to one address after a while.
type slowly struct {
	*fakeWire
	slow netip.Addr
	wait time.Duration
}

func (w *slowly) DialContext(ctx context.Context, network string, addr netip.AddrPort) (net.Conn, error) {
	if network == "tcp" && addr.Addr() == w.slow {
		if _, open := w.open[addr]; open {
			if err := pause(ctx, w.wait); err != nil {
				return nil, err
			}
		}
	}
	return w.fakeWire.DialContext(ctx, network, addr)
}

// One device that accepts after 700 ms among sixty fast ones shows all its ports, at every pace.
func TestSlowDeviceAmongFastOnes(t *testing.T) {
	ports := []uint16{22, 80, 443, 502, 8080}
	for _, pace := range Paces {
		synctest.Test(t, func(t *testing.T) {
			w := &slowly{fakeWire: &fakeWire{arp: segmentOf(61), refuses: map[netip.Addr]bool{}, open: map[netip.AddrPort]string{}, latency: time.Millisecond}, slow: addr("10.40.1.61"), wait: 700 * time.Millisecond}
			for a := range w.arp {
				w.refuses[a] = a != w.slow
			}
			for _, port := range ports {
				w.open[netip.AddrPortFrom(w.slow, port)] = ""
			}
			o := order("10.40.1.1-61", ports...)
			o.Pace = pace
			got := sweepOn(t, t.Context(), w, o)
			open := evidence.Values(got.whole["10.40.1.61 02:00:00:00:01:3c"].Items, evidence.KeyTCPOpen)
			if len(open) != len(ports) {
				t.Errorf("%s: open are %v", pace.Name, open)
			}
		})
	}
}

// lacking is a machine that now and then lacks what it needs to send.
type lacking struct {
	*fakeWire
	mu    sync.Mutex // guards count
	count int
	err   error
}

func (w *lacking) DialContext(ctx context.Context, network string, addr netip.AddrPort) (net.Conn, error) {
	w.mu.Lock()
	w.count++
	lacks := w.count%3 != 0
	w.mu.Unlock()
	if lacks {
		return nil, &net.OpError{Op: "dial", Err: w.err}
	}
	return w.fakeWire.DialContext(ctx, network, addr)
}

// What our own machine lacks is no device's silence: it is warned of once, and all is asked in the end.
func TestFaultsOfOurOwnMachine(t *testing.T) {
	for _, fault := range []error{syscall.EMFILE, syscall.ENOBUFS, syscall.EADDRNOTAVAIL, syscall.ENETDOWN} {
		synctest.Test(t, func(t *testing.T) {
			w := &lacking{err: fault, fakeWire: &fakeWire{arp: segmentOf(1), open: map[netip.AddrPort]string{
				netip.MustParseAddrPort("10.40.1.1:80"): "", netip.MustParseAddrPort("10.40.1.1:21"): "220 ready\r\n",
			}}}
			got := sweepOn(t, t.Context(), w, order("10.40.1.1", 21, 80))
			items := got.whole["10.40.1.1 02:00:00:00:01:00"].Items
			if open := evidence.Values(items, evidence.KeyTCPOpen); len(open) != 2 {
				t.Errorf("%v: open are %v", fault, open)
			}
			told := slices.DeleteFunc(got.warnings, func(text string) bool { return !strings.Contains(text, fault.Error()) })
			if len(told) != 1 {
				t.Errorf("%v: warnings %q", fault, got.warnings)
			}
		})
	}
}

// odd reports an error of one device that no list holds.
type odd struct{ *fakeWire }

func (w *odd) DialContext(ctx context.Context, network string, addr netip.AddrPort) (net.Conn, error) {
	if network == "tcp" && addr.Addr() == netip.MustParseAddr("10.40.1.1") {
		return nil, &net.OpError{Op: "dial", Err: syscall.Errno(64)} // ENONET
	}
	return w.fakeWire.DialContext(ctx, network, addr)
}

func TestOneOddAnswerEndsNothing(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := &odd{&fakeWire{arp: segmentOf(3), refuses: map[netip.Addr]bool{addr("10.40.1.2"): true, addr("10.40.1.3"): true}}}
		got := sweepOn(t, t.Context(), w, order("10.40.1.1-3", 80))
		for _, key := range []string{"10.40.1.1 02:00:00:00:01:00", "10.40.1.2 02:00:00:00:01:01", "10.40.1.3 02:00:00:00:01:02"} {
			if !got.whole[key].Whole {
				t.Errorf("%s was not asked to the end", key)
			}
		}
	})
}

// watched notes what is in flight to all of its addresses together, and how soon one connection follows another.
type watched struct {
	*fakeWire
	mu     sync.Mutex // guards all below
	flying int
	most   int
	last   time.Time
	gap    time.Duration // the least
}

func (w *watched) DialContext(ctx context.Context, network string, addr netip.AddrPort) (net.Conn, error) {
	if network != "tcp" {
		return nil, syscall.ECONNREFUSED
	}
	w.mu.Lock()
	w.flying++
	w.most = max(w.most, w.flying)
	if since := time.Since(w.last); !w.last.IsZero() && (w.gap == 0 || since < w.gap) {
		w.gap = since
	}
	w.last = time.Now()
	w.mu.Unlock()
	leave := sync.OnceFunc(func() {
		w.mu.Lock()
		defer w.mu.Unlock()
		w.flying--
	})
	conn, err := w.fakeWire.DialContext(ctx, network, addr)
	if err != nil {
		leave()
		return nil, err
	}
	return &watchedConn{Conn: conn, leave: leave}, nil
}

type watchedConn struct {
	net.Conn
	leave func()
}

func (c *watchedConn) Close() error {
	c.leave()
	return c.Conn.Close()
}

// A device is one by its MAC, at however many addresses: no more connections at a time, and no sooner one after the other, than the
// pace lets. Redirects are further connections of the same exchange.
func TestCareIsPerDevice(t *testing.T) {
	for _, pace := range Paces {
		synctest.Test(t, func(t *testing.T) {
			page := "HTTP/1.1 302 Found\r\nLocation: /a\r\n\r\n"
			w := &watched{fakeWire: &fakeWire{arp: map[netip.Addr][]hwaddr.MAC{}, open: map[netip.AddrPort]string{}, refuses: map[netip.Addr]bool{}, latency: time.Millisecond}}
			for _, a := range []string{"10.40.1.1", "10.40.1.2", "10.40.1.3"} {
				w.arp[addr(a)], w.refuses[addr(a)] = []hwaddr.MAC{{2, 1}}, true
				for _, port := range []uint16{80, 81, 8000, 8008, 8080, 8081} {
					w.open[netip.AddrPortFrom(addr(a), port)] = page
				}
			}
			o := order("10.40.1.1-3", 21, 22, 23, 25, 80, 81, 110, 143, 443, 8000, 8008, 8080, 8081)
			o.Pace = pace
			sweepOn(t, t.Context(), w, o)
			if w.most > pace.PerDevice || pace.Gap > 0 && w.gap < pace.Gap || w.most == 0 {
				t.Errorf("%s: %d in flight at a time, the least gap %s; want at most %d and at least %s", pace.Name, w.most, w.gap, pace.PerDevice, pace.Gap)
			}
		})
	}
}

// Broadcasts have a rate of their own.
func TestBroadcastsHaveTheirOwnRate(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := &fakeWire{}
		o := order("10.40.1.0/24")
		o.Pace = Pace{Rate: 1000, Devices: 1, PerDevice: 1, PerNetwork: 1, Rounds: 1, Broadcasts: 10}
		began := time.Now()
		sweepOn(t, t.Context(), w, o)
		if took := time.Since(began); took < 25*time.Second || took > 30*time.Second {
			t.Errorf("253 broadcasts at 10 a second took %s", took)
		}
	})
}

// What an order leaves out is not sent: protocols, parts of them, ports, and anything at all in quiet hours.
func TestWhatAnOrderLeavesOut(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := &leaving{fakeWire: &fakeWire{arp: segmentOf(1), open: map[netip.AddrPort]string{netip.MustParseAddrPort("10.40.1.1:21"): "220 ready\r\n"}}, left: map[netip.AddrPort]int{}}
		o := order("10.40.1.1", 21, 80, 9100)
		o.Off, o.Never = []string{"sip", "ftp"}, []uint16{9100, 161}
		got := sweepOn(t, t.Context(), w, o)
		for port, want := range map[uint16]bool{5060: false, 9100: false, 161: false, 80: true, 123: true} {
			if left := w.left[netip.AddrPortFrom(addr("10.40.1.1"), port)] > 0; left != want {
				t.Errorf("port %d was sent something: %v, want %v", port, left, want)
			}
		}
		items := got.whole["10.40.1.1 02:00:00:00:01:00"].Items
		if evidence.First(items, evidence.KeyTCPOpen) != "21" || len(evidence.Values(items, "ftp.greeting")) > 0 {
			t.Errorf("evidence %+v", items)
		}
	})
}

func TestQuietHours(t *testing.T) {
	synctest.Test(t, func(t *testing.T) { // whose clock begins at midnight, UTC
		w := &fakeWire{arp: segmentOf(1)}
		o := order("10.40.1.1")
		o.Quiet = []Hours{{From: 23 * time.Hour, Until: 30 * time.Minute}}
		began := time.Now()
		got := sweepOn(t, t.Context(), w, o)
		if took := time.Since(began); took < 30*time.Minute || took > 31*time.Minute {
			t.Errorf("the sweep took %s", took)
		}
		if len(got.warnings) == 0 || !strings.Contains(got.warnings[0], "quiet until 00:30") {
			t.Errorf("warnings %q", got.warnings)
		}
	})
	for _, h := range []Hours{{From: -1}, {From: time.Hour, Until: time.Hour}, {From: 25 * time.Hour, Until: 1}} {
		if h.Check() == nil {
			t.Errorf("%+v is taken", h)
		}
	}
	at := time.Date(2030, 1, 1, 12, 0, 0, 0, time.UTC)
	if left := (Hours{From: 9 * time.Hour, Until: 17 * time.Hour}).left(at); left != 5*time.Hour {
		t.Errorf("%s are left of the working day", left)
	}
}

// Parts of the ranges have paces of their own.
func TestPacesOfParts(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		plant, err := netrange.Parse("10.40.1.0/25")
		if err != nil {
			t.Fatal(err)
		}
		w := &fakeWire{}
		o := order("10.40.1.0/24")
		o.Pace = Pace{Rate: 1000, Devices: 1, PerDevice: 1, PerNetwork: 1, Rounds: 1}
		o.Paces = []RangePace{{plant, Pace{Rate: 10, Devices: 1, PerDevice: 1, PerNetwork: 1, Rounds: 1}}}
		began := time.Now()
		sweepOn(t, t.Context(), w, o)
		if took := time.Since(began); took < 12*time.Second || took > 16*time.Second { // 127 at 10 a second
			t.Errorf("the sweep took %s", took)
		}
		if len(w.asked) != 253 {
			t.Errorf("%d addresses were called", len(w.asked))
		}
		if last := w.order[len(w.order)-1]; !plant.Contains(last) {
			t.Errorf("the last that was called is %s, of the faster part", last)
		}
	})
}

func TestOrdersThatContradictThemselves(t *testing.T) {
	for name, change := range map[string]func(*Order){
		"no protocol":  func(o *Order) { o.Off = []string{"telegraphy"} },
		"broadcasts":   func(o *Order) { o.Pace.Broadcasts = o.Pace.Rate + 1 },
		"between two":  func(o *Order) { o.Pace.Gap = time.Hour },
		"the pace for": func(o *Order) { o.Paces = []RangePace{{Pace: Pace{Rate: -1}}} },
		"least (": func(o *Order) {
			o.Waits = Waits{First: time.Second, Least: 2 * time.Second, Most: time.Second, Last: time.Second}
		},
	} {
		o := order("10.40.1.1")
		change(&o)
		if err := o.Check(); err == nil || !strings.Contains(err.Error(), name) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// dying answers until it was asked by one protocol.
type dying struct {
	*fakeWire
	mu   sync.Mutex // guards dead
	dead bool
}

func (w *dying) DialContext(ctx context.Context, network string, addr netip.AddrPort) (net.Conn, error) {
	w.mu.Lock()
	w.dead = w.dead || addr.Port() == 502
	dead := w.dead
	w.mu.Unlock()
	if dead {
		if network == "tcp" {
			<-ctx.Done()
		}
		return nil, context.DeadlineExceeded
	}
	return w.fakeWire.DialContext(ctx, network, addr)
}

func (w *dying) Frames(ctx context.Context, etherType uint16) (wire.FrameConn, error) {
	conn, err := w.fakeWire.Frames(ctx, etherType)
	if frames, ok := conn.(*fakeFrames); ok {
		return &dyingFrames{frames, w}, err
	}
	return conn, err
}

type dyingFrames struct {
	*fakeFrames
	wire *dying
}

func (f *dyingFrames) WriteFrame(frame []byte) error {
	f.wire.mu.Lock()
	dead := f.wire.dead
	f.wire.mu.Unlock()
	if dead {
		return nil
	}
	return f.fakeFrames.WriteFrame(frame)
}

// A device that does not answer any more once it was asked is warned of, with the question that was put last.
func TestWhoDoesNotSurviveIsWarnedOf(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := &dying{fakeWire: &fakeWire{arp: segmentOf(1), refuses: map[netip.Addr]bool{addr("10.40.1.1"): true}}}
		got := sweepOn(t, t.Context(), w, order("10.40.1.1", 502))
		lost := evidence.First(got.whole["10.40.1.1 02:00:00:00:01:00"].Items, evidence.KeyLost)
		if !strings.Contains(lost, "tcp/") || !slices.ContainsFunc(got.warnings, func(text string) bool { return strings.Contains(text, "10.40.1.1 ("+lost+")") }) {
			t.Errorf("lost at %q, warnings %q", lost, got.warnings)
		}
	})
}

// Who was there before is called more often than others before he counts as silent, and nobody else is.
func TestWhoIsExpectedIsCalledMoreOften(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := &fakeWire{arp: segmentOf(2), loseARP: Brisk.Rounds + 2}
		o := order("10.40.1.1-2")
		o.Expected = []netip.Addr{addr("10.40.1.2"), addr("10.40.9.9")}
		got := sweepOn(t, t.Context(), w, o)
		if got.summary.Answered != 1 || w.asked[addr("10.40.1.1")] != Brisk.Rounds || w.asked[addr("10.40.9.9")] != 0 {
			t.Errorf("%d answered, the first was called %d times, one outside the ranges %d times", got.summary.Answered, w.asked[addr("10.40.1.1")], w.asked[addr("10.40.9.9")])
		}
	})
}

// late has somebody heard when that is wanted.
type late struct {
	*fakeWire
	mu     sync.Mutex // guards frames
	frames *fakeFrames
}

func (w *late) Frames(ctx context.Context, etherType uint16) (wire.FrameConn, error) {
	conn, err := w.fakeWire.Frames(ctx, etherType)
	if frames, ok := conn.(*fakeFrames); ok && etherType == wire.EtherTypeARP {
		w.mu.Lock()
		w.frames = frames
		w.mu.Unlock()
	}
	return conn, err
}

// Who has answered is asked while the roll is still called, and who is heard late is asked too.
func TestAskingDoesNotWaitForTheRollCall(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := &late{fakeWire: &fakeWire{arp: segmentOf(20), latency: time.Millisecond}}
		mac, as := hwaddr.MAC{2, 9}, addr("10.40.1.77")
		o := order("10.40.1.0/24", 80, 443, 8080)
		o.Pace = Pace{Rate: 30, Devices: 4, PerDevice: 4, PerNetwork: 100, Rounds: 1}
		stage, early := RollCall, 0
		whole := map[netip.Addr]bool{}
		_, err := Run(t.Context(), w, o, func(e Event) {
			switch e := e.(type) {
			case StageStarted:
				if stage = e.Stage; stage == Asking {
					w.mu.Lock()
					defer w.mu.Unlock()
					w.arp[as] = []hwaddr.MAC{mac}
					w.frames.later(time.Second, probe.ARPRequest(mac, as, addr("10.40.1.99")))
				}
			case Sighted:
				if e.Sighting.Whole && stage == RollCall {
					early++
				}
				whole[e.Sighting.Addr] = whole[e.Sighting.Addr] || e.Sighting.Whole
			}
		})
		if err != nil || early == 0 || !whole[as] {
			t.Errorf("%d were asked while the roll was called; who was heard late was asked: %v; %v", early, whole[as], err)
		}
	})
}

func TestFrontier(t *testing.T) {
	f := newFrontier(1, func(netip.Addr) int { return 0 })
	for i := range 20 {
		f.add(netip.AddrFrom4([4]byte{10, 0, 0, byte(i)}), false)
		f.add(netip.AddrFrom4([4]byte{10, 0, 0, byte(i)}), false)
	}
	f.add(addr("10.0.1.1"), true)
	var order []string
	for range 20 {
		a, ok := f.next(t.Context(), 0)
		if !ok || a == addr("10.0.1.1") {
			t.Fatalf("%s, %v", a, ok)
		}
		order = append(order, fmt.Sprintf("%03d", a.As4()[3]))
	}
	if slices.IsSorted(order) || len(slices.Compact(slices.Sorted(slices.Values(order)))) != 20 {
		t.Errorf("asked in the order %v", order)
	}
	f.end(nil)
	if a, ok := f.next(t.Context(), 0); !ok || a != addr("10.0.1.1") {
		t.Errorf("who was kept for later is %s, %v", a, ok)
	}
	for range 21 {
		f.done()
	}
	if err := f.drained(t.Context()); err != nil {
		t.Error(err)
	}
	f.close()
	if _, ok := f.next(t.Context(), 0); ok {
		t.Error("a closed frontier gives somebody")
	}
}

// A machine that has slept heard nothing meanwhile, though its own clock does not tell.
func TestSleepIsNoticed(t *testing.T) {
	if hasSlept(2*time.Second, 2*time.Second) || hasSlept(3*time.Second, time.Second) || !hasSlept(time.Hour, time.Second) {
		t.Error("a machine that is awake is said to have slept, or one that has is not")
	}
}

// What a system on the way says of a question of ours is evidence, with who said so; what it says of others' questions is not.
func TestRefusalsOnTheWayAreEvidence(t *testing.T) {
	refusal := func(from, to string, code byte) []byte {
		about := append([]byte{0x45, 0, 0, 40, 0, 0, 0, 0, 64, 6, 0, 0}, append(addr(from).AsSlice(), addr(to).AsSlice()...)...)
		body := append([]byte{3, code, 0, 0, 0, 0, 0, 0}, append(about, 0, 80, 1, 187, 0, 0, 0, 0)...)
		frame := append(append(make([]byte, 6), 2, 0, 0, 0, 0, 1), 8, 0, 0x45, 0, 0, byte(20+len(body)), 0, 1, 0, 0, 64, 1, 0, 0, 10, 40, 1, 1, 10, 40, 1, 250)
		return append(frame, body...)
	}
	e := newEngine(&fakeWire{}, order("10.40.2.5-6"), func(Event) {})
	h := newHearer(e)
	for _, a := range []string{"10.40.2.5", "10.40.2.6"} {
		e.noted(sighting(addr(a), hwaddr.MAC{}, evidence.Item{Source: evidence.SourceEcho, Key: evidence.KeyEchoTTL, Value: "63"}))
	}
	for range 3 {
		h.heardIPv4(wire.Frame{Bytes: refusal("10.40.1.250", "10.40.2.5", 13)})
		h.heardIPv4(wire.Frame{Bytes: refusal("10.40.1.250", "10.40.2.5", 3)}) // nothing listens there
		h.heardIPv4(wire.Frame{Bytes: refusal("10.40.1.99", "10.40.2.6", 13)}) // to somebody else
		h.heardIPv4(wire.Frame{Bytes: refusal("10.40.1.250", "10.40.2.7", 13)})
	}
	if got := evidence.Values(e.roster.get(addr("10.40.2.5"), hwaddr.MAC{}).Items, evidence.KeyICMP); !slices.Equal(got, []string{"administratively prohibited, says 10.40.1.1"}) {
		t.Errorf("said of our question: %q", got)
	}
	if got := evidence.Values(e.roster.get(addr("10.40.2.6"), hwaddr.MAC{}).Items, evidence.KeyICMP); len(got) > 0 || len(e.roster.all()) != 2 {
		t.Errorf("said of another's: %q, of %v", got, e.roster.all())
	}
}
