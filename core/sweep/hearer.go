package sweep

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
	"airdrift/core/probe"
	"airdrift/core/wire"
)

// hearer takes in what is said on the local segment, for the whole of a sweep: a device that asks or announces something tells of itself,
// whichever subnet its address is from. It opens the segment for the caller, too.
type hearer struct {
	*engine
	sent  *sendTimes // of ARP requests
	asked *sendTimes // of neighbour solicitations
	nonce [8]byte    // of our echo requests to all nodes
	alive awaited

	mu         sync.Mutex                     // guards all below
	conns      map[uint16]wire.FrameConn      // by Ethernet type; empty where frames are not permitted
	stops      []func() error                 // end the readers and close the sockets
	neighbours map[hwaddr.MAC]probe.Neighbour // those that told of themselves by frames, and are not yet known by another way
}

func newHearer(e *engine) *hearer {
	return &hearer{
		engine: e, sent: newSendTimes(), asked: newSendTimes(), conns: map[uint16]wire.FrameConn{},
		neighbours: map[hwaddr.MAC]probe.Neighbour{},
	}
}

// open begins to hear. Without the right to frames it warns, and the sweep does without.
func (h *hearer) open(ctx context.Context) error {
	if _, err := rand.Read(h.nonce[:]); err != nil {
		return err
	}
	if !h.link().Broadcasts() {
		return nil
	}
	err := h.openFrames(ctx)
	if errors.Is(err, wire.ErrNoRights) {
		h.warn("No right to send frames: the segment is called by echo and TCP, MAC addresses come from the system's own table, " +
			"and a device that answers ARP alone is missed, as is one with an address from another subnet or with IPv6 alone. " +
			"Run the service with CAP_NET_RAW to mend this.")
		return nil
	}
	if err != nil {
		return errors.Join(err, h.close())
	}
	h.joinGroups(ctx)
	return nil
}

// reopen begins anew, on a link that has been away.
func (h *hearer) reopen(ctx context.Context) error {
	return errors.Join(h.close(), h.open(ctx))
}

func (h *hearer) openFrames(ctx context.Context) error {
	heard := map[uint16]func(frame wire.Frame){
		wire.EtherTypeARP: h.heardARP, wire.EtherTypeIPv6: h.heardIPv6, wire.EtherTypeIPv4: h.heardIPv4,
	}
	for _, p := range h.spoken {
		for _, etherType := range p.Frames {
			heard[etherType] = func(frame wire.Frame) { h.heardFrame(p, frame.Bytes) }
		}
	}
	for etherType, take := range heard {
		conn, err := h.wire.Frames(ctx, etherType)
		if err != nil {
			return err
		}
		stop := h.hearFrames(conn, take)
		h.mu.Lock()
		h.conns[etherType] = conn
		h.stops = append(h.stops, stop)
		h.mu.Unlock()
	}
	return nil
}

// joinGroups has the switches on the way pass on what devices announce to groups of which they keep lists (RFC 4541). It is
// heard with the frames.
func (h *hearer) joinGroups(ctx context.Context) {
	if !h.wholeSegment() {
		return
	}
	for _, p := range h.spoken {
		for _, group := range p.Groups {
			a := group.At.Addr()
			if !a.IsMulticast() || !h.mayHear(a) {
				continue
			}
			conn, err := h.wire.ListenPacket(ctx, "udp", netip.AddrPortFrom(a, 0))
			if err != nil {
				if !h.faults.isNew("join " + a.String()) {
					continue
				}
				h.warn("The group %s cannot be joined, so that what is announced to it may stay unheard: %v.", a, err)
				continue
			}
			h.mu.Lock()
			h.stops = append(h.stops, conn.Close)
			h.mu.Unlock()
		}
	}
}

// maxFrame is the largest frame that is read whole, in bytes: systems hand over several segments of one stream as one.
const maxFrame = 1<<16 + 64

// hearFrames reads frames in the background; the function it gives ends that and closes the socket.
func (h *hearer) hearFrames(conn wire.FrameConn, heard func(frame wire.Frame)) (stop func() error) {
	buf := make([]byte, maxFrame)
	end := listen(conn.SetReadDeadline, func() error {
		frame, err := conn.ReadFrame(buf)
		if err == nil {
			heard(frame)
		}
		return err
	})
	return func() error { return errors.Join(end(), conn.Close()) }
}

// listen reads in the background until the function it returns is called, which gives the reader's failure if it had
// one. What our own machine lacks for a while, such as the link, does not end it.
func listen(setDeadline func(time.Time) error, read func() error) (stop func() error) {
	failed := make(chan error, 1)
	ctx, cancel := context.WithCancel(context.Background())
	go func() {
		for {
			err := read()
			if err == nil {
				continue
			}
			var late net.Error
			if errors.Is(err, os.ErrDeadlineExceeded) || errors.As(err, &late) && late.Timeout() || ctx.Err() != nil {
				failed <- nil
				return
			}
			if errors.As(probe.OwnFault(err), new(*probe.OwnFaultError)) {
				_ = pause(ctx, faultPause) // the next read tells where it has ended
				continue
			}
			failed <- err
			return
		}
	}()
	return func() error {
		defer cancel()
		if err := setDeadline(time.Unix(1, 0)); err != nil {
			return err
		}
		cancel()
		return <-failed
	}
}

// close ends the hearing.
func (h *hearer) close() error {
	h.mu.Lock()
	stops := h.stops
	h.stops, h.conns = nil, map[uint16]wire.FrameConn{}
	h.mu.Unlock()
	var failures []error
	for _, stop := range stops {
		failures = append(failures, stop())
	}
	return errors.Join(failures...)
}

// canSend reports whether frames may be sent.
func (h *hearer) canSend() bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.conns[wire.EtherTypeARP] != nil
}

// write sends a frame. While the segment is not open it is as if our own machine lacked something.
func (h *hearer) write(ctx context.Context, etherType uint16, frame func() []byte) error {
	return h.persist(ctx, func() error {
		h.mu.Lock()
		conn := h.conns[etherType]
		h.mu.Unlock()
		if conn == nil {
			return &probe.OwnFaultError{Err: errNotOpen}
		}
		err := conn.WriteFrame(frame())
		if err == nil || isFatal(err) || errors.As(probe.OwnFault(err), new(*probe.OwnFaultError)) {
			return err
		}
		return nil // of one frame; nothing is said of others by it
	})
}

var errNotOpen = errors.New("the segment is not open")

func (h *hearer) heardARP(frame wire.Frame) {
	heard, ok := probe.ParseARP(frame.Bytes)
	if !ok || heard.MAC == h.link().MAC || h.isSelf(heard.Addr) {
		return
	}
	item := evidence.Item{Source: evidence.SourceARP, Key: evidence.KeyMAC, Value: heard.MAC.String(), At: frame.At.UTC()}
	if heard.Reply {
		item.RTT = h.measure(h.sent, heard.Addr, frame.At)
		h.alive.isThere(heard.Addr)
	}
	s := sighting(heard.Addr, heard.MAC, item)
	if frame.VLAN != 0 {
		s.Items = append(s.Items, evidence.Item{Source: evidence.SourceARP, Key: evidence.KeyVLAN, Value: strconv.Itoa(int(frame.VLAN)), At: frame.At.UTC()})
	}
	if heard.Reply && h.roster.wasCalled(heard.Addr) {
		h.noted(s)
	} else {
		h.overheard(s)
	}
}

// measure gives the round trip of an answer, 0 where it is not certain which question it belongs to.
func (h *hearer) measure(sent *sendTimes, a netip.Addr, now time.Time) time.Duration {
	at, asked, sure := sent.take(a)
	if asked {
		h.paceAt(a).pace.answered(!sure)
	}
	if !sure {
		return 0
	}
	rtt := now.Sub(at)
	h.timers.measuredOnSegment(rtt)
	return rtt
}

func (h *hearer) heardIPv6(frame wire.Frame) {
	if heard, ok := probe.ParseND(frame.Bytes); ok {
		h.heardND(heard, frame.At)
		return
	}
	h.heardPacket(frame.Bytes)
}

func (h *hearer) heardIPv4(frame wire.Frame) { h.heardPacket(frame.Bytes) }

func (h *hearer) heardND(heard probe.NDHeard, now time.Time) {
	if heard.MAC == h.link().MAC || h.isSelf(heard.Addr) || heard.Echo && heard.Nonce != h.nonce {
		return
	}
	if _, onLink := h.link().OnLink(heard.Addr); heard.Echo && !onLink {
		return // it may have come through a router, and then the MAC is the router's
	}
	item := evidence.Item{Source: evidence.SourceND, Key: evidence.KeyNDMAC, Value: heard.MAC.String(), At: now.UTC()}
	answers := heard.Echo
	if !heard.Solicits && !heard.Echo {
		answers = h.roster.wasCalled(heard.Addr) || h.asked.isAwaited(heard.Addr)
		item.RTT = h.measure(h.asked, heard.Addr, now)
		h.alive.isThere(heard.Addr)
	}
	seen := sighting(heard.Addr, heard.MAC, item)
	if heard.Router {
		seen.Items = append(seen.Items, evidence.Item{Source: evidence.SourceND, Key: evidence.KeyNDRouter, Value: "yes", At: now.UTC()})
	}
	switch {
	case !answers:
		h.overheard(seen)
	case h.order.Ranges.Contains(heard.Addr):
		h.noted(seen)
	default: // it answers a question to all, or has proved that it is there
		seen.LearnedFrom = heardOnSegment
		h.noted(seen)
	}
}

// heardPacket takes in a packet of the segment.
func (h *hearer) heardPacket(frame []byte) {
	heard, ok := probe.ParsePacket(frame)
	if !ok || heard.MAC == h.link().MAC || heard.MAC.IsGroup() || h.isSelf(heard.From) {
		return
	}
	if heard.Refusal != nil {
		h.heardRefusal(heard)
		return
	}
	if heard.Port != 0 && h.heardAbout(heard) || heard.From.IsUnspecified() {
		return
	}
	mac := heard.MAC
	if !h.isOfSegment(heard) {
		mac = hwaddr.MAC{} // it came through a router
	}
	if heard.Stack != "" {
		h.heardStack(heard, mac)
		return
	}
	_, items, ok := h.spoken.Hear(probe.Datagram{From: netip.AddrPortFrom(heard.From, heard.Port), To: heard.To, MAC: heard.MAC, Message: heard.Message})
	if !ok {
		return
	}
	if mac.IsZero() {
		h.roster.grow(heard.From, mac, items) // in answer to a question of ours, which notes it too
		return
	}
	h.place(told(heard.From, mac, items))
}

// isOfSegment reports whether what sent a packet is on the segment itself: by its address, or since no router would have passed the packet on. What is sent
// to everybody is passed on, if at all, by a router to whose subnet that is, and then to a broadcast address of this link (RFC 1812, 5.3.5).
func (h *hearer) isOfSegment(heard probe.PacketHeard) bool {
	_, from := h.link().OnLink(heard.From)
	_, target := h.link().OnLink(heard.Target)
	return from || heard.Group || heard.ToAll && !target
}

// heardAbout takes in what a datagram tells of a device at another address than it came from, or at none yet.
func (h *hearer) heardAbout(heard probe.PacketHeard) bool {
	d := probe.Datagram{From: netip.AddrPortFrom(heard.From, heard.Port), To: heard.To, MAC: heard.MAC, Message: heard.Message}
	for _, p := range h.spoken {
		if p.HearAbout == nil {
			continue
		}
		about, ok := p.HearAbout(d)
		if !ok {
			continue
		}
		if about.Addr.IsValid() && !h.isSelf(about.Addr) {
			h.place(told(about.Addr, heard.MAC, about.Items))
			return true
		}
		addrs, _ := h.roster.answersFor(heard.MAC, maxNeighbourAddrs)
		for _, a := range addrs {
			h.roster.grow(a, heard.MAC, about.Items)
		}
		return true
	}
	return false
}

// told makes a sighting of what a device told of itself by a frame.
func told(a netip.Addr, mac hwaddr.MAC, items []evidence.Item) evidence.Sighting {
	source, key := evidence.SourceARP, evidence.KeyMAC
	if a.Is6() {
		source, key = evidence.SourceND, evidence.KeyNDMAC
	}
	s := sighting(a, mac, evidence.Item{Source: source, Key: key, Value: mac.String(), At: time.Now().UTC()})
	s.Items = append(s.Items, items...)
	return s
}

// heardStack notes how a device accepts connections, once. Answers that keep to one hop by their protocol say nothing of it.
func (h *hearer) heardStack(heard probe.PacketHeard, mac hwaddr.MAC) {
	for _, p := range h.spoken {
		if p.OneHop && p.Port == evidence.TCP(heard.TCP) {
			return
		}
	}
	if seen, told := h.roster.has(heard.From, mac, evidence.KeyStack); !seen || told {
		return
	}
	item := evidence.Item{Source: evidence.SourceStack, Key: evidence.KeyStack, Value: heard.Stack, At: time.Now().UTC()}
	h.roster.grow(heard.From, mac, []evidence.Item{item})
}

// maxRefusals is how many different refusals of systems on the way are kept of one device.
const maxRefusals = 8

// heardRefusal notes what a system on the way, or the device, says of a question of ours (RFC 792, RFC 4443).
func (h *hearer) heardRefusal(heard probe.PacketHeard) {
	refusal := heard.Refusal
	if !h.isSelf(refusal.From) || refusal.Text == "" {
		return
	}
	for _, mac := range h.roster.holders(refusal.To) {
		if h.roster.countOf(refusal.To, mac, evidence.KeyICMP) >= maxRefusals {
			continue
		}
		text := fmt.Sprintf("%s, says %s", refusal.Text, heard.From)
		h.roster.grow(refusal.To, mac, []evidence.Item{{Source: evidence.SourceICMP, Key: evidence.KeyICMP, Value: text, At: time.Now().UTC()}})
	}
}

// heardFrame takes in what a neighbour tells of itself by frames. It tells no address of its own as a rule; what is not known yet
// is kept until the sweep has gone through.
func (h *hearer) heardFrame(p *probe.Protocol, frame []byte) {
	heard, ok := p.HearFrame(frame)
	if !ok || heard.MAC == h.link().MAC || h.placeNeighbour(heard) {
		return
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if _, known := h.neighbours[heard.MAC]; !known && len(h.neighbours) < maxNeighbours {
		h.neighbours[heard.MAC] = heard
	}
}

const (
	// maxNeighbours bounds the neighbours that are kept until they are known.
	maxNeighbours = 1024
	// maxNeighbourAddrs is at how many addresses of one MAC it is noted what its port tells.
	maxNeighbourAddrs = 16
)

// placeNeighbour adds what a neighbour told to the sightings of its MAC, or of its management address.
func (h *hearer) placeNeighbour(heard probe.Neighbour) bool {
	placed := false
	for _, mac := range []hwaddr.MAC{heard.MAC, heard.Chassis} {
		addrs, _ := h.roster.answersFor(mac, maxNeighbourAddrs)
		for _, a := range addrs {
			placed = h.roster.grow(a, mac, heard.Items) || placed
		}
		if placed {
			return true
		}
	}
	if !heard.Addr.IsValid() {
		return false
	}
	for _, mac := range h.roster.holders(heard.Addr) {
		placed = h.roster.grow(heard.Addr, mac, heard.Items) || placed
	}
	return placed
}

// placeNeighbours finds a place for those that told of themselves by frames before they were known. What has told an address is
// sighted at it; of the others the auditor is told in one warning.
func (h *hearer) placeNeighbours() {
	h.mu.Lock()
	waiting := h.neighbours
	h.neighbours = map[hwaddr.MAC]probe.Neighbour{} // the segment is still heard
	h.mu.Unlock()
	var unplaced []string
	for _, heard := range waiting {
		switch {
		case h.placeNeighbour(heard):
		case heard.Addr.IsValid() && !h.isSelf(heard.Addr):
			h.place(told(heard.Addr, heard.MAC, heard.Items))
		default:
			h.place(told(netip.Addr{}, heard.MAC, heard.Items)) // it has a place by its MAC alone
			name := []rune(heard.Name)
			unplaced = append(unplaced, fmt.Sprintf("%s (%q)", heard.MAC, string(name[:min(len(name), maxShownName)])))
		}
	}
	if len(unplaced) > 0 {
		slices.Sort(unplaced)
		h.warn("Heard on the segment, told no address and answered at none: %s.", someOf(unplaced))
	}
}

const (
	// maxShownName is how much of a name a warning shows, in characters.
	maxShownName = 40
	// maxNamed is how many a warning names.
	maxNamed = 5
)

// someOf names the first of a list and counts the others.
func someOf(names []string) string {
	text := strings.Join(names[:min(len(names), maxNamed)], ", ")
	if len(names) > maxNamed {
		text += fmt.Sprintf(" and %d others", len(names)-maxNamed)
	}
	return text
}
