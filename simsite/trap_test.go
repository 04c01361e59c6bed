package simsite_test

import (
	"bytes"
	"io"
	"net/netip"
	"testing"
	"time"

	"github.com/miekg/dns"

	"airdrift/core/hwaddr"
	"airdrift/core/probe"
	"airdrift/core/wire"
	"airdrift/simsite"
	"airdrift/simsite/simsitetest"
)

// plugIn starts the demo building and plugs in.
func plugIn(t *testing.T) *simsite.Wire {
	t.Helper()
	w, err := simsitetest.Start(t, simsitetest.Demo(t)).Wire()
	if err != nil {
		t.Fatal(err)
	}
	return w
}

// hearARP waits for ARP packets until one is what is wanted.
func hearARP(t *testing.T, frames wire.FrameConn, wanted func(probe.ARPHeard) bool) probe.ARPHeard {
	t.Helper()
	_ = frames.SetReadDeadline(time.Now().Add(20 * time.Second))
	for buf := make([]byte, 2048); ; {
		frame, err := frames.ReadFrame(buf)
		if err != nil {
			t.Fatal(err)
		}
		if heard, ok := probe.ParseARP(frame.Bytes); ok && wanted(heard) {
			return heard
		}
	}
}

func TestTrapsOnTheSegment(t *testing.T) {
	w := plugIn(t)
	frames, err := w.Frames(t.Context(), wire.EtherTypeARP)
	if err != nil {
		t.Fatal(err)
	}
	defer frames.Close()
	stray := hearARP(t, frames, func(h probe.ARPHeard) bool { return h.Addr == netip.MustParseAddr("192.168.77.10") })
	if stray.Reply || stray.MAC != hwaddr.MustParse("b0:30:f0:12:f6:e0") {
		t.Errorf("the device from another subnet is heard as %+v", stray)
	}
	nobody := netip.MustParseAddr("10.40.1.215")
	if err := frames.WriteFrame(probe.ARPRequest(w.Link().MAC, w.Link().Prefixes[0].Addr(), nobody)); err != nil {
		t.Fatal(err)
	}
	if bridge := hearARP(t, frames, func(h probe.ARPHeard) bool { return h.Addr == nobody }); bridge.MAC != hwaddr.MustParse("10:cd:94:12:f6:e0") {
		t.Errorf("for an address with nobody behind it %s answers", bridge.MAC)
	}
}

func TestWhoAcceptsEverything(t *testing.T) {
	w := plugIn(t)
	for _, port := range []uint16{1, 4444, 60000} {
		conn, outcome, err := probe.Connect(t.Context(), probe.Over(w), netip.AddrPortFrom(netip.MustParseAddr("10.40.1.5"), port), 10*time.Second)
		if err != nil || outcome != probe.Open {
			t.Fatalf("port %d: %v, %v", port, outcome, err)
		}
		conn.Close()
	}
}

func TestNameServerOfTheBuilding(t *testing.T) {
	w := plugIn(t)
	ask := func(a string) []string {
		items, answered := probe.ReverseName(t.Context(), probe.Over(w), netip.MustParseAddrPort("10.40.1.10:53"), netip.MustParseAddr(a), 10*time.Second)
		if !answered {
			t.Fatalf("no answer for %s", a)
		}
		var names []string
		for _, item := range items {
			names = append(names, item.Value)
		}
		return names
	}
	if got := ask("10.40.1.11"); len(got) != 1 || got[0] != "cairn.fernhollow.example" {
		t.Errorf("10.40.1.11 is %v", got)
	}
	if got := ask("fd00:40:1::11"); len(got) != 1 || got[0] != "cairn.fernhollow.example" {
		t.Errorf("fd00:40:1::11 is %v", got)
	}
	if got := ask("10.40.1.199"); len(got) != 0 {
		t.Errorf("10.40.1.199 is %v", got)
	}
	conn, err := w.DialContext(t.Context(), "udp", netip.MustParseAddrPort("10.40.1.10:53"))
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	_ = conn.SetDeadline(time.Now().Add(10 * time.Second))
	channel := &dns.Conn{Conn: conn}
	if err := channel.WriteMsg(new(dns.Msg).SetQuestion("acorn.fernhollow.example.", dns.TypeTXT)); err != nil {
		t.Fatal(err)
	}
	if reply, err := channel.ReadMsg(); err != nil || reply.Rcode != dns.RcodeNameError {
		t.Errorf("a question it knows nothing of gave %v, %v", reply, err)
	}
}

// Hostile services are as hostile as they say: a line that never ends, a byte at a time, and noise.
func TestHostileServices(t *testing.T) {
	w := plugIn(t)
	read := func(addr string, n int64, limit time.Duration) []byte {
		conn, outcome, err := probe.Connect(t.Context(), probe.Over(w), netip.MustParseAddrPort(addr), 10*time.Second)
		if err != nil || outcome != probe.Open {
			t.Fatalf("%s: %v, %v", addr, outcome, err)
		}
		defer conn.Close()
		_ = conn.SetDeadline(time.Now().Add(limit))
		raw, _ := io.ReadAll(io.LimitReader(conn, n)) // ends by the limit or the deadline
		return raw
	}
	if raw := read("10.40.1.163:21", 1<<20, 20*time.Second); len(raw) != 1<<20 || bytes.ContainsRune(raw, '\n') {
		t.Errorf("the endless line has %d bytes", len(raw))
	}
	conn, _, err := probe.Connect(t.Context(), probe.Over(w), netip.MustParseAddrPort("10.40.1.165:21"), 10*time.Second)
	if err != nil || conn == nil {
		t.Fatalf("the drip: %v", err)
	}
	defer conn.Close()
	for range 3 { // one byte comes at a time, however much is asked for
		if n, err := conn.Read(make([]byte, 100)); err != nil || n != 1 {
			t.Errorf("the drip gave %d bytes at once, %v", n, err)
		}
	}
	if raw := read("10.40.1.164:21", 11, 10*time.Second); !bytes.Contains(raw, []byte{0xc3, 0x28}) {
		t.Errorf("the noise is %q", raw)
	}
}
