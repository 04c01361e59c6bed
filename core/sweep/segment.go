package sweep

import (
	"context"
	"crypto/rand"
	"errors"
	"net/netip"
	"sync"
	"time"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
	"airdrift/core/netrange"
	"airdrift/core/probe"
	"airdrift/core/wire"
)

// heardOnSegment is what told of an address that nobody looked for.
const heardOnSegment = "heard on the segment"

// segment is the own segment. It is heard for the whole of a sweep: who asks or announces something tells of himself,
// whichever subnet his address is from.
type segment struct {
	arp   wire.FrameConn // nil where frames are not permitted
	ip6   wire.FrameConn // nil where frames are not permitted
	sent  *sendTimes     // of ARP requests
	asked *sendTimes     // of neighbour solicitations
	nonce [8]byte        // of our echo requests to all nodes
	stops []func() error

	mu         sync.Mutex        // guards neighbours
	neighbours []probe.LLDPHeard // who told of himself by LLDP, and is not yet known by another way
}

// openSegment begins to hear. Without the right to frames it warns, and the sweep does without.
func (r *run) openSegment(ctx context.Context) (*segment, error) {
	s := &segment{sent: newSendTimes(), asked: newSendTimes()}
	if !r.link.Broadcasts() {
		return s, nil
	}
	if _, err := rand.Read(s.nonce[:]); err != nil {
		return nil, err
	}
	var err error
	s.arp, err = r.wire.Frames(ctx, wire.EtherTypeARP)
	if errors.Is(err, wire.ErrNoRights) {
		r.warn("No right to send frames: the segment is called by echo and TCP, MAC addresses come from the system's own table, " +
			"and a device that answers ARP alone is missed, as is one with an address from another subnet or with IPv6 alone. " +
			"Run the service with CAP_NET_RAW to mend this.")
		s.arp = nil
		return s, nil
	}
	if err != nil {
		return nil, err
	}
	s.stops = append(s.stops, r.hearFrames(s.arp, func(frame []byte) { r.heardARP(frame, s.sent) }))
	if s.ip6, err = r.wire.Frames(ctx, wire.EtherTypeIPv6); err != nil {
		return nil, errors.Join(err, s.close())
	}
	s.stops = append(s.stops, r.hearFrames(s.ip6, func(frame []byte) { r.heardND(frame, s) }))
	for etherType, heard := range map[uint16]func(frame []byte){
		wire.EtherTypeIPv4: r.heardPacket,
		wire.EtherTypeLLDP: func(frame []byte) { r.heardLLDP(frame, s) },
	} {
		conn, err := r.wire.Frames(ctx, etherType)
		if err != nil {
			return nil, errors.Join(err, s.close())
		}
		s.stops = append(s.stops, r.hearFrames(conn, heard))
	}
	r.joinGroups(ctx, s)
	return s, nil
}

// joinGroups has the switches on the way pass on what devices announce to groups of which they keep lists (RFC 4541). It is
// heard with the frames.
func (r *run) joinGroups(ctx context.Context, s *segment) {
	if !r.wholeSegment() {
		return
	}
	for _, group := range []netip.AddrPort{probe.MDNSGroups[0], probe.SSDPGroup} {
		conn, err := r.wire.ListenPacket(ctx, "udp", netip.AddrPortFrom(group.Addr(), 0))
		if err != nil {
			r.warn("The group %s cannot be joined, so that what is announced to it may stay unheard: %v.", group.Addr(), err)
			continue
		}
		s.stops = append(s.stops, conn.Close)
	}
}

// hearFrames reads frames in the background; the function it gives ends that and closes the socket.
func (r *run) hearFrames(conn wire.FrameConn, heard func(frame []byte)) (stop func() error) {
	buf := make([]byte, 2048)
	end := r.listen(conn.SetReadDeadline, func() error {
		n, err := conn.ReadFrame(buf)
		if err == nil {
			heard(buf[:n])
		}
		return err
	})
	return func() error { return errors.Join(end(), conn.Close()) }
}

// close ends the hearing.
func (s *segment) close() error {
	var failures []error
	for _, stop := range s.stops {
		failures = append(failures, stop())
	}
	s.stops = nil
	return errors.Join(failures...)
}

// callARP calls IPv4 addresses of the own segment. Everything that speaks ARP answers, a device that drops all else too.
func (r *run) callARP(ctx context.Context, s *segment, set netrange.Set) error {
	return r.rounds(ctx, "arp", set, func(a netip.Addr, round int) error {
		self, _ := r.link.OnLink(a)
		s.sent.note(a, round)
		return s.arp.WriteFrame(probe.ARPRequest(r.link.MAC, self, a))
	})
}

// callND calls IPv6 addresses of the own segment by neighbour solicitation.
func (r *run) callND(ctx context.Context, s *segment, set netrange.Set) error {
	return r.rounds(ctx, "nd", set, func(a netip.Addr, round int) error {
		self, _ := r.link.OnLink(a)
		s.asked.note(a, round)
		return s.ip6.WriteFrame(probe.NeighbourSolicitation(r.link.MAC, self, a))
	})
}

// wholeSegment reports whether the sweep may speak to everybody on the segment: it looks through all of it, and nobody there
// is left out.
func (r *run) wholeSegment() bool {
	return r.link.Within(r.order.Fence) && r.order.Ranges.Covers(r.link.Prefixes)
}

// callAllNodes asks every IPv6 node of the segment to answer, from each of the own addresses: a node answers from an
// address of the same scope.
func (r *run) callAllNodes(ctx context.Context, s *segment) error {
	var own []netip.Addr
	for _, p := range r.link.Prefixes {
		if p.Addr().Is6() {
			own = append(own, p.Addr())
		}
	}
	if len(own) == 0 || !r.wholeSegment() {
		return nil
	}
	r.meter.expect(uint64(r.order.Pace.Rounds * len(own)))
	for range r.order.Pace.Rounds {
		for _, self := range own {
			if err := r.turn(ctx); err != nil {
				return err
			}
			if err := s.ip6.WriteFrame(probe.AllNodesEcho(r.link.MAC, self, s.nonce)); err != nil {
				return err
			}
			r.meter.send()
			r.meter.settle(1)
		}
		if err := pause(ctx, minTimeout); err != nil {
			return err
		}
	}
	return nil
}

func (r *run) heardARP(frame []byte, sent *sendTimes) {
	heard, ok := probe.ParseARP(frame)
	if !ok || heard.MAC == r.link.MAC || r.self[heard.Addr] {
		return
	}
	now := time.Now()
	item := evidence.Item{Source: evidence.SourceARP, Key: evidence.KeyMAC, Value: heard.MAC.String(), At: now.UTC()}
	if heard.Reply {
		item.RTT = r.measure(sent, heard.Addr, now)
	}
	s := sighting(heard.Addr, heard.MAC, item)
	if !r.order.Ranges.Contains(heard.Addr) {
		r.overheard(s)
		return
	}
	r.noted(s)
}

// measure gives the round trip of an answer, 0 where it is not certain which question it belongs to.
func (r *run) measure(sent *sendTimes, a netip.Addr, now time.Time) time.Duration {
	at, asked, sure := sent.take(a)
	if asked {
		r.pace.answered(!sure)
	}
	if !sure {
		return 0
	}
	rtt := now.Sub(at)
	r.timers.measured(a, rtt)
	return rtt
}

func (r *run) heardND(frame []byte, s *segment) {
	heard, ok := probe.ParseND(frame)
	if !ok || heard.MAC == r.link.MAC || r.self[heard.Addr] || heard.Echo && heard.Nonce != s.nonce {
		return
	}
	if _, onLink := r.link.OnLink(heard.Addr); heard.Echo && !onLink {
		return // it may have come through a router, and then the MAC is the router's
	}
	now := time.Now()
	item := evidence.Item{Source: evidence.SourceND, Key: evidence.KeyNDMAC, Value: heard.MAC.String(), At: now.UTC()}
	if !heard.Solicits && !heard.Echo {
		item.RTT = r.measure(s.asked, heard.Addr, now)
	}
	seen := sighting(heard.Addr, heard.MAC, item)
	if heard.Router {
		seen.Items = append(seen.Items, evidence.Item{Source: evidence.SourceND, Key: evidence.KeyNDRouter, Value: "yes", At: now.UTC()})
	}
	if !r.order.Ranges.Contains(heard.Addr) {
		r.overheard(seen)
		return
	}
	r.noted(seen)
}

// overheard notes somebody whom nobody asked.
func (r *run) overheard(s evidence.Sighting) {
	s.LearnedFrom = heardOnSegment
	if s.Addr.Is4() {
		s.Items = append(s.Items, evidence.Item{Source: evidence.SourceARP, Key: evidence.KeyHeard, Value: s.Addr.String(), At: s.FirstAt})
	}
	r.noted(s)
}

// sendTimes remembers when each address was first asked, to measure round trips. Of addresses asked again it remembers
// only that, since their answer could belong to either question.
type sendTimes struct {
	mu sync.Mutex // guards at
	at map[netip.Addr]time.Time
}

// maxSendTimes bounds what is remembered of segments of untold addresses; beyond it round trips are not measured.
const maxSendTimes = 1 << 17

func newSendTimes() *sendTimes { return &sendTimes{at: map[netip.Addr]time.Time{}} }

func (s *sendTimes) note(a netip.Addr, round int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	switch {
	case len(s.at) >= maxSendTimes:
	case round == 0:
		s.at[a] = time.Now()
	default:
		s.at[a] = time.Time{}
	}
}

// take gives when an address was asked: asked says that it was and that this is the first answer, sure that it was asked
// but once.
func (s *sendTimes) take(a netip.Addr) (at time.Time, asked, sure bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	at, asked = s.at[a]
	delete(s.at, a)
	return at, asked, asked && !at.IsZero()
}

// asksBySix reports whether a device that was met by IPv6 without being looked for may be asked there: it is in the
// fence, has not been asked by IPv4, and nobody of the segment was left out.
func (r *run) asksBySix(a netip.Addr, mac hwaddr.MAC) bool {
	if !a.Is6() || r.order.Ranges.Contains(a) {
		return false
	}
	inside := a.IsLinkLocalUnicast()
	for _, n := range r.order.Fence {
		inside = inside || n.Contains(a)
	}
	if !inside || !r.wholeSegment() || mac.IsZero() {
		return false
	}
	better := a
	for _, other := range r.roster.answersFor(mac) {
		if other.Is4() {
			return false // it is asked there, or may not be asked at all
		}
		if betterSix(other, better) {
			better = other
		}
	}
	return better == a
}

// betterSix prefers addresses that are valid beyond the segment, and of like ones the lower, so that one is chosen.
func betterSix(a, b netip.Addr) bool {
	if a.IsLinkLocalUnicast() != b.IsLinkLocalUnicast() {
		return b.IsLinkLocalUnicast()
	}
	return a.Less(b)
}
