package sweep

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"slices"
	"time"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
	"airdrift/core/probe"
)

// groupRounds is how often the groups of the segment are asked.
const groupRounds = 2

// callGroups asks everybody on the segment at once what services there are: by multicast DNS, SSDP and WS-Discovery. A sweep
// of a part of the segment does not, since it would reach those who were left out.
func (r *run) callGroups(ctx context.Context) error {
	own := slices.IndexFunc(r.link.Prefixes, func(p netip.Prefix) bool { return p.Addr().Is4() })
	if own < 0 || !r.link.Broadcasts() || !r.wholeSegment() {
		return nil
	}
	conn, err := r.wire.ListenPacket(ctx, "udp", netip.AddrPortFrom(r.link.Prefixes[own].Addr(), 0))
	if err != nil {
		r.warn("The groups of the segment cannot be asked: %v.", err)
		return nil
	}
	defer conn.Close()
	questions, err := groupQuestions()
	if err != nil {
		return err
	}
	r.meter.expect(uint64(groupRounds * len(questions)))
	stop := r.listen(conn.SetReadDeadline, func() error { return r.heardInAnswer(ctx, conn) })
	for range groupRounds {
		for _, q := range questions {
			if err := r.turn(ctx); err != nil {
				return errors.Join(err, stop())
			}
			if _, err := conn.WriteTo(q.message, net.UDPAddrFromAddrPort(q.group)); err != nil {
				if isOurFault(err) {
					return errors.Join(err, stop())
				}
				r.warn("The group %s cannot be asked: %v.", q.group.Addr(), err)
			}
			r.meter.send()
			r.meter.settle(1)
		}
		if err := pause(ctx, firstTimeout+firstTimeout/2); err != nil { // responders spread their answers over a second
			return errors.Join(err, stop())
		}
	}
	return stop()
}

type groupQuestion struct {
	group   netip.AddrPort
	message []byte
}

func groupQuestions() ([]groupQuestion, error) {
	browse, err := probe.BrowseQuestion()
	questions := []groupQuestion{{probe.MDNSGroups[0], browse}, {probe.SSDPGroup, probe.SearchQuestion(probe.SSDPGroup)}}
	for _, q := range probe.ProbeQuestions() {
		questions = append(questions, groupQuestion{probe.WSDGroups[0], q})
	}
	return questions, err
}

// heardInAnswer reads one answer to a question to all. Where frames may be read the answer is heard there, with the MAC of who
// sent it.
func (r *run) heardInAnswer(ctx context.Context, conn net.PacketConn) error {
	buf := make([]byte, 1<<16)
	n, from, err := conn.ReadFrom(buf)
	if err != nil {
		return err
	}
	at, err := netip.ParseAddrPort(from.String())
	if err != nil || r.segment.arp != nil {
		return nil
	}
	addr := at.Addr().Unmap()
	if _, onLink := r.link.OnLink(addr); !onLink || r.self[addr] {
		return nil
	}
	items, ok := probe.Announced(at.Port(), buf[:n])
	if !ok {
		return nil
	}
	s := r.routed(ctx, addr, items[0])
	s.Items = append(s.Items, items[1:]...)
	r.place(s)
	return nil
}

// heardPacket takes in a packet of the segment.
func (r *run) heardPacket(frame []byte) {
	heard, ok := probe.ParsePacket(frame)
	if !ok || heard.MAC == r.link.MAC || heard.MAC.IsGroup() || r.self[heard.From] || heard.From.IsUnspecified() {
		return
	}
	mac := heard.MAC
	_, onLink := r.link.OnLink(heard.From)
	if !onLink && !heard.Group {
		mac = hwaddr.MAC{} // it came through a router
	}
	if heard.Stack != "" {
		r.heardStack(heard, mac)
		return
	}
	items, ok := probe.Announced(heard.Port, heard.Message)
	if !ok {
		return
	}
	if mac.IsZero() {
		r.learn(heard.From, mac, items) // in answer to a question of ours, which notes it too
		return
	}
	s := sighting(heard.From, mac, evidence.Item{Source: evidence.SourceARP, Key: evidence.KeyMAC, Value: mac.String(), At: time.Now().UTC()})
	s.Items = append(s.Items, items...)
	r.place(s)
}

// heardStack notes how a device accepts connections, once.
func (r *run) heardStack(heard probe.PacketHeard, mac hwaddr.MAC) {
	if seen, told := r.roster.has(heard.From, mac, evidence.KeyStack); !seen || told {
		return
	}
	item := evidence.Item{Source: evidence.SourceStack, Key: evidence.KeyStack, Value: heard.Stack, At: time.Now().UTC()}
	r.roster.note(evidence.Sighting{Addr: heard.From, MAC: mac, Answered: true, Items: []evidence.Item{item}})
}

// place notes somebody who told of himself: one of those to look for, or another.
func (r *run) place(s evidence.Sighting) {
	if r.learn(s.Addr, s.MAC, s.Items) {
		return
	}
	if r.order.Ranges.Contains(s.Addr) {
		r.noted(s)
	} else {
		r.overheard(s)
	}
}

// learn adds facts to a sighting that is there, and tells of it again where nothing more was expected of it and there is more.
func (r *run) learn(a netip.Addr, mac hwaddr.MAC, items []evidence.Item) (seen bool) {
	seen, grew := r.roster.grow(a, mac, items)
	if grew && r.roster.isFinished(a) {
		r.tell(Sighted{Sighting: r.roster.get(a, mac), Whole: true})
	}
	return seen
}

// heardLLDP takes in what a neighbour tells of itself (IEEE 802.1AB). It tells no address of its own; who is not known yet
// is kept until the sweep has gone through.
func (r *run) heardLLDP(frame []byte, s *segment) {
	heard, ok := probe.ParseLLDP(frame)
	if !ok || heard.MAC == r.link.MAC || r.placeNeighbour(heard) {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.neighbours) < maxNeighbours && !slices.ContainsFunc(s.neighbours, func(n probe.LLDPHeard) bool { return n.MAC == heard.MAC }) {
		s.neighbours = append(s.neighbours, heard)
	}
}

// maxNeighbours bounds who is kept.
const maxNeighbours = 4096

// placeNeighbour adds what a neighbour told to the sightings of its MAC, or of its management address.
func (r *run) placeNeighbour(heard probe.LLDPHeard) bool {
	placed := false
	for _, mac := range []hwaddr.MAC{heard.MAC, heard.Chassis} {
		for _, a := range r.roster.answersFor(mac) {
			placed = r.learn(a, mac, heard.Items) || placed
		}
		if placed {
			return true
		}
	}
	for _, mac := range r.roster.holders(heard.Addr) {
		placed = r.learn(heard.Addr, mac, heard.Items) || placed
	}
	return placed
}

// placeNeighbours finds a place for those who told of themselves by LLDP before they were known. Who has told an address is
// sighted at it; of the others the auditor is told.
func (r *run) placeNeighbours() {
	r.segment.mu.Lock()
	waiting := r.segment.neighbours
	r.segment.neighbours = nil
	r.segment.mu.Unlock()
	for _, heard := range waiting {
		switch {
		case r.placeNeighbour(heard):
		case heard.Addr.IsValid() && !r.self[heard.Addr]:
			s := sighting(heard.Addr, heard.MAC, evidence.Item{Source: evidence.SourceARP, Key: evidence.KeyMAC, Value: heard.MAC.String(), At: time.Now().UTC()})
			s.Items = append(s.Items, heard.Items...)
			r.place(s)
		default:
			name := evidence.First(heard.Items, evidence.KeyLLDPName)
			r.warn("Heard by LLDP from %s (%q), which told no address and answered at none.", heard.MAC, name)
		}
	}
}
