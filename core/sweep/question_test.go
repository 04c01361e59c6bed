package sweep

import (
	"context"
	"encoding/binary"
	"net"
	"net/netip"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
	"airdrift/core/probe"
	"airdrift/core/wire"
)

// listening takes datagrams and keeps silent; it counts what is open to one address at the same time.
type listening struct {
	*fakeWire
	frames map[uint16][][]byte // heard on the segment, by Ethernet type

	mu    sync.Mutex // guards all below
	asked map[uint16]int
	now   int
	most  int
}

func (w *listening) Frames(ctx context.Context, etherType uint16) (wire.FrameConn, error) {
	conn, err := w.fakeWire.Frames(ctx, etherType)
	if frames, ok := conn.(*fakeFrames); ok {
		for _, frame := range w.frames[etherType] {
			frames.later(10*time.Millisecond, frame)
		}
	}
	return conn, err
}

func (w *listening) DialContext(ctx context.Context, network string, addr netip.AddrPort) (net.Conn, error) {
	if w.count(addr.Port(), network == "udp") {
		return &deaf{wire: w, over: make(chan struct{})}, nil
	}
	return w.fakeWire.DialContext(ctx, network, addr)
}

// count notes what a port is asked, and how many questions by datagram there are at the same time.
func (w *listening) count(port uint16, byDatagram bool) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.asked[port]++
	if byDatagram {
		w.now++
		w.most = max(w.most, w.now)
	}
	return byDatagram
}

// deaf is a socket to which nothing comes.
type deaf struct {
	net.Conn
	wire *listening
	over chan struct{}
	once sync.Once

	mu    sync.Mutex // guards until
	until time.Time
}

func (c *deaf) Write(b []byte) (int, error)      { return len(b), nil }
func (c *deaf) SetDeadline(t time.Time) error    { return c.SetReadDeadline(t) }
func (c *deaf) SetWriteDeadline(time.Time) error { return nil }
func (c *deaf) SetReadDeadline(t time.Time) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.until = t
	return nil
}

func (c *deaf) Read([]byte) (int, error) {
	c.mu.Lock()
	until := c.until
	c.mu.Unlock()
	timer := time.NewTimer(time.Until(until))
	defer timer.Stop()
	select {
	case <-timer.C:
		return 0, os.ErrDeadlineExceeded
	case <-c.over:
		return 0, net.ErrClosed
	}
}

func (c *deaf) Close() error {
	c.once.Do(func() {
		close(c.over)
		c.wire.mu.Lock()
		defer c.wire.mu.Unlock()
		c.wire.now--
	})
	return nil
}

// datagramFrame makes an Ethernet frame with a datagram, from a device to a group.
func datagramFrame(mac hwaddr.MAC, from string, port uint16, message string) []byte {
	frame := append([]byte{1, 0, 0x5e, 0, 0, 0xfb}, mac[:]...)
	frame = append(frame, 8, 0, 0x45, 0)
	frame = binary.BigEndian.AppendUint16(frame, uint16(28+len(message)))
	frame = append(frame, 0, 0, 0, 0, 1, 17, 0, 0)
	frame = append(frame, addr(from).AsSlice()...)
	frame = append(frame, 239, 255, 255, 250)
	frame = binary.BigEndian.AppendUint16(frame, port)
	frame = append(frame, 7, 0x6c, 0, 0, 0, 0)
	return append(frame, message...)
}

func TestGentleHasOneQuestionInFlight(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := &listening{fakeWire: &fakeWire{arp: map[netip.Addr][]hwaddr.MAC{addr("10.40.1.5"): {{2, 1}}}}, asked: map[uint16]int{}}
		o := order("10.40.1.5", 80, 443)
		o.Pace = Gentle
		sweepOn(t, t.Context(), w, o)
		if w.most != 1 {
			t.Errorf("%d questions were in flight at the same time", w.most)
		}
		for _, p := range probe.Protocols() {
			if p.Ask != nil && !p.ByOthers && Gentle.lets(p.Cost) && w.asked[p.Port.Number] == 0 {
				t.Errorf("%s was not asked", p.Name)
			}
		}
	})
}

func TestWhatIsAnnouncedIsKeptAndAskedFor(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		mac, stray := hwaddr.MAC{2, 1}, hwaddr.MAC{2, 2}
		w := &listening{
			fakeWire: &fakeWire{arp: map[netip.Addr][]hwaddr.MAC{addr("10.40.1.5"): {mac}}}, asked: map[uint16]int{},
			frames: map[uint16][][]byte{wire.EtherTypeIPv4: {
				datagramFrame(mac, "10.40.1.5", 1900, "NOTIFY * HTTP/1.1\r\nNT: upnp:rootdevice\r\nSERVER: wyrm/1\r\nLOCATION: http://10.40.1.5:8080/cgi/reboot\r\n\r\n"),
				datagramFrame(stray, "192.168.77.9", 1900, "NOTIFY * HTTP/1.1\r\nNT: upnp:rootdevice\r\nSERVER: far/1\r\n\r\n"),
			}},
		}
		got := sweepOn(t, t.Context(), w, order("10.40.1.5"))
		if server := evidence.First(got.whole["10.40.1.5 "+mac.String()].Items, evidence.KeyUPnPServer); server != "wyrm/1" {
			t.Errorf("the announcement told %q", server)
		}
		if w.asked[1900] != 1 || w.asked[123] != 1 {
			t.Errorf("asked %v: want each once, as anybody can announce in its name", w.asked)
		}
		if w.dials[netip.MustParseAddrPort("10.40.1.5:8080")] > 0 {
			t.Error("a page was fetched that the device, asked itself, has not named")
		}
		far := got.whole["192.168.77.9 "+stray.String()]
		if far.LearnedFrom != heardOnSegment || evidence.First(far.Items, evidence.KeyUPnPServer) != "far/1" || evidence.First(far.Items, evidence.KeyHeard) == "" {
			t.Errorf("who announces himself from another subnet is sighted as %+v", far)
		}
	})
}

// A stage node that its maker set up for another subnet answers to all of that: it is on the segment. What is sent to all of the segment's own
// subnet may have come through a router, and is not taken for the router's.
func TestBroadcastsFromOtherSubnets(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		stray, router := hwaddr.MAC{2, 2}, hwaddr.MAC{2, 3}
		reply := make([]byte, 239)
		copy(reply, "Art-Net\x00\x00\x21")
		copy(reply[44:], "stage node")
		toAll := func(mac hwaddr.MAC, from, to string) []byte {
			frame := datagramFrame(mac, from, 6454, string(reply))
			copy(frame, hwaddr.Broadcast[:])
			copy(frame[30:34], addr(to).AsSlice())
			return frame
		}
		w := &listening{
			fakeWire: &fakeWire{arp: map[netip.Addr][]hwaddr.MAC{addr("10.40.1.5"): {{2, 1}}}}, asked: map[uint16]int{},
			frames: map[uint16][][]byte{wire.EtherTypeIPv4: {
				toAll(stray, "2.44.10.21", "2.255.255.255"), toAll(router, "10.99.0.7", "10.40.1.255"), toAll(router, "10.99.0.8", "10.40.1.5"),
			}},
		}
		got := sweepOn(t, t.Context(), w, order("10.40.1.5"))
		if far := got.whole["2.44.10.21 "+stray.String()]; far.LearnedFrom != heardOnSegment || evidence.First(far.Items, "artnet.text") != "stage node" {
			t.Errorf("a node of another subnet is sighted as %+v", far)
		}
		for key := range got.whole {
			if strings.HasSuffix(key, router.String()) {
				t.Errorf("%s was taken for a device of the segment", key)
			}
		}
	})
}

func TestWhatTheTCPProbesLearnedIsNotAskedAgain(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := &fakeWire{refuses: map[netip.Addr]bool{addr("10.40.2.5"): true}}
		o := order("10.40.2.5", 80, 443, 22, 445, 9100, 502, 8081)
		o.Pace.PerDevice = 1 // the first refusal ends the probing
		got := sweepOn(t, t.Context(), w, o)
		more := 0
		for port, n := range w.dials {
			if port.Port() < 49152 {
				more += n - 1
			}
		}
		if more != 1 { // at a port that has answered, to see that it is still there when it has been asked
			t.Errorf("%d ports were asked again: %v", more, w.dials)
		}
		if len(w.dials) < 7 || evidence.First(got.whole["10.40.2.5 "].Items, evidence.KeyTCPRefused) == "" {
			t.Errorf("asked %v", w.dials)
		}
	})
}

// fading refuses a few connections, and then falls silent.
type fading struct {
	*fakeWire
	mu   sync.Mutex // guards left
	left int
}

func (w *fading) DialContext(ctx context.Context, network string, addr netip.AddrPort) (net.Conn, error) {
	if network == "udp" {
		return w.fakeWire.DialContext(ctx, network, addr)
	}
	w.mu.Lock()
	alive := w.left > 0
	w.left--
	w.mu.Unlock()
	if alive {
		return w.fakeWire.DialContext(ctx, network, addr)
	}
	<-ctx.Done()
	return nil, ctx.Err()
}

func TestWhoStopsAnsweringIsLeftAlone(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		a := addr("10.40.1.5")
		w := &fading{fakeWire: &fakeWire{arp: map[netip.Addr][]hwaddr.MAC{a: {{2, 1}}}, refuses: map[netip.Addr]bool{a: true}}, left: 12}
		o := order("10.40.1.5", portRange(1000, 1200)...)
		o.Pace.PerDevice = 1
		got := sweepOn(t, t.Context(), w, o)
		s := got.whole["10.40.1.5 "+hwaddr.MAC{2, 1}.String()]
		if evidence.First(s.Items, evidence.KeyTCPStopped) != "yes" || len(got.warnings) != 1 || !strings.Contains(got.warnings[0], "Stopped answering while being asked") {
			t.Errorf("items %+v, warnings %q", s.Items, got.warnings)
		}
		if got.summary.Sent > 80 {
			t.Errorf("%d questions were put to a device that had stopped answering", got.summary.Sent)
		}
	})
}

func TestNeighboursThatTellOfThemselves(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		mac := hwaddr.MAC{2, 1}
		frame := func(mac hwaddr.MAC, name string, rest ...byte) []byte {
			f := append([]byte{1, 0x80, 0xc2, 0, 0, 0x0e}, mac[:]...)
			f = append(f, 0x88, 0xcc, 2, 7, 4)
			f = append(f, mac[:]...)
			f = append(append(f, 10, byte(len(name))), name...)
			return append(append(f, rest...), 0, 0)
		}
		w := &listening{
			fakeWire: &fakeWire{arp: map[netip.Addr][]hwaddr.MAC{addr("10.40.1.5"): {mac}}}, asked: map[uint16]int{},
			frames: map[uint16][][]byte{wire.EtherTypeLLDP: {
				frame(mac, "weave"),
				frame(hwaddr.MAC{2, 7}, "elsewhere", 16, 12, 5, 1, 192, 168, 7, 7, 2, 0, 0, 0, 1, 0),
				frame(hwaddr.MAC{2, 8}, "nowhere"),
			}},
		}
		got := sweepOn(t, t.Context(), w, order("10.40.1.5"))
		if name := evidence.First(got.whole["10.40.1.5 "+mac.String()].Items, evidence.KeyLLDPName); name != "weave" {
			t.Errorf("the neighbour that is known is called %q", name)
		}
		if name := evidence.First(got.whole["192.168.7.7 "+hwaddr.MAC{2, 7}.String()].Items, evidence.KeyLLDPName); name != "elsewhere" {
			t.Errorf("the neighbour that told an address is called %q", name)
		}
		if len(got.warnings) != 2 || !strings.Contains(got.warnings[0], `"nowhere"`) || !strings.Contains(got.warnings[1], "192.168.7.7") {
			t.Errorf("of the neighbour without an address: %q", got.warnings)
		}
	})
}

// Of what comes back from a question to all only answers to what was asked are believed.
func TestOnlyAnswersCountAsRepeated(t *testing.T) {
	var r repeated
	told := []evidence.Item{{Source: evidence.SourceWSD, Key: evidence.KeyWSDAddress, Value: "http://10.40.1.5/x"}}
	r.ask("urn:uuid:ours")
	r.add(addr("10.40.1.5"), "urn:uuid:of-another", told)
	if got := r.of(addr("10.40.1.5")); len(got) > 0 {
		t.Errorf("an answer to what nobody asked is believed: %+v", got)
	}
	r.add(addr("10.40.1.5"), "urn:uuid:ours", told)
	if got := r.of(addr("10.40.1.5")); len(got) != 1 {
		t.Errorf("an answer to our question is %+v", got)
	}
	if all := r.all(evidence.SourceMDNS); len(all) > 0 {
		t.Errorf("another protocol has told %+v", all)
	}
	for i := range 2 * maxHeard {
		r.add(netip.AddrFrom4([4]byte{10, 41, byte(i >> 8), byte(i)}), "", told)
	}
	if len(r.by) > maxHeard {
		t.Errorf("%d devices are remembered", len(r.by))
	}
}

// dropping is a device that refuses all ports but some, to which nothing comes through.
type dropping struct {
	*fakeWire
	ports []uint16
}

func (w *dropping) DialContext(ctx context.Context, network string, addr netip.AddrPort) (net.Conn, error) {
	if network == "tcp" && slices.Contains(w.ports, addr.Port()) {
		<-ctx.Done()
		return nil, ctx.Err()
	}
	return w.fakeWire.DialContext(ctx, network, addr)
}

// Of a device that refuses other ports it is noted which few kept silent; where many do, they are filtered.
func TestFewSilentPortsAreNoted(t *testing.T) {
	for _, tt := range []struct {
		silent []uint16
		want   string
	}{{[]uint16{1003, 1007}, "1003 1007"}, {portRange(1001, 1020), ""}, {nil, ""}} {
		synctest.Test(t, func(t *testing.T) {
			a := addr("10.40.1.5")
			w := &dropping{&fakeWire{arp: map[netip.Addr][]hwaddr.MAC{a: {{2, 1}}}, refuses: map[netip.Addr]bool{a: true}}, tt.silent}
			got := sweepOn(t, t.Context(), w, order("10.40.1.5", portRange(1000, 1040)...))
			s := got.whole["10.40.1.5 "+hwaddr.MAC{2, 1}.String()]
			if noted := strings.Join(evidence.Values(s.Items, evidence.KeyTCPSilent), " "); noted != tt.want {
				t.Errorf("of %d silent ports %q are noted, want %q", len(tt.silent), noted, tt.want)
			}
		})
	}
}

// A device that answers an echo and has nothing open answers by refusing, too: that is noted once, by its lowest port. One that keeps silent to TCP has not
// answered it, and of one with an open port that says enough.
func TestRefusalOfADeviceWithoutServicesIsNoted(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		closed, silent, open, called := addr("10.41.0.5"), addr("10.41.0.6"), addr("10.41.0.7"), addr("10.41.0.8")
		w := &fakeWire{
			echo:    map[netip.Addr]int{closed: 63, silent: 63, open: 63},
			refuses: map[netip.Addr]bool{closed: true, open: true, called: true}, // the last one drops echo requests
			open:    map[netip.AddrPort]string{netip.AddrPortFrom(open, 1003): ""},
		}
		o := order("10.41.0.5-10.41.0.8", 1004, 1002, 1003)
		o.Fence = append(slices.Clone(o.Fence), netip.MustParsePrefix("10.41.0.0/24"))
		got := sweepOn(t, t.Context(), w, o)
		for a, want := range map[netip.Addr]string{closed: "1002", silent: "", open: ""} {
			s, met := got.whole[a.String()+" "+hwaddr.MAC{}.String()]
			if noted := strings.Join(evidence.Values(s.Items, evidence.KeyTCPRefused), " "); !met || noted != want {
				t.Errorf("of %s %q is noted as refused, want %q; it was met: %v", a, noted, want, met)
			}
		}
		if s := got.whole[called.String()+" "+hwaddr.MAC{}.String()]; len(evidence.Values(s.Items, evidence.KeyTCPRefused)) != 1 {
			t.Errorf("of one that the roll call found by its refusal %v is noted", evidence.Values(s.Items, evidence.KeyTCPRefused))
		}
	})
}
