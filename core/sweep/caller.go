package sweep

import (
	"context"
	"net/netip"
	"slices"
	"strconv"
	"sync"

	"golang.org/x/sync/errgroup"

	"airdrift/core/netrange"
	"airdrift/core/probe"
	"airdrift/core/wire"
)

// caller finds out what answers at all: by ARP and neighbour discovery on the local segment, by echo and TCP beyond it.
type caller struct {
	*engine
	hears *hearer
	tcp   *tcpOrder
	over  func(a netip.Addr) bool // whether an address need not be called any more

	mu     sync.Mutex          // guards proven
	proven map[netip.Addr]bool // what was called by name because it was heard
}

func newCaller(e *engine, hears *hearer) *caller {
	return &caller{engine: e, hears: hears, tcp: newTCPOrder(e.spoken.RollCallPorts(e.order.Never)), over: e.roster.hasAnswered, proven: map[netip.Addr]bool{}}
}

// run calls the roll. Where the link changes meanwhile it goes on, on the link as it is then, from the last place known good.
func (c *caller) run(ctx context.Context) error {
	if c.resume.called() {
		return nil
	}
	for {
		epoch, moved := c.attached.state()
		err := c.untilMoved(ctx, moved)
		if now, _ := c.attached.state(); now != epoch && ctx.Err() == nil && !isFatal(err) {
			continue
		}
		if err == nil {
			c.resume.endCall()
		}
		return err
	}
}

func (c *caller) untilMoved(ctx context.Context, moved <-chan struct{}) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	done := make(chan struct{})
	defer close(done)
	go func() {
		select {
		case <-moved:
			cancel()
		case <-done:
		}
	}()
	return c.callAll(ctx)
}

func (c *caller) callAll(ctx context.Context) error {
	c.takeNeighbours(ctx)
	segment, beyond := c.split()
	outer := ctx
	g, ctx := errgroup.WithContext(ctx)
	if c.hears.canSend() {
		four, six := families(segment)
		g.Go(func() error { return c.callOnSegment(ctx, "arp", four, c.hears.sent) })
		g.Go(func() error { return c.callOnSegment(ctx, "nd", six, c.hears.asked) })
		g.Go(func() error { return c.callAllNodes(ctx) })
	} else {
		beyond = c.order.Ranges
	}
	g.Go(func() error { return c.callGroups(ctx) })
	g.Go(func() error { return c.callBeyond(ctx, beyond, "") })
	if err := g.Wait(); err != nil {
		return err
	}
	return c.callBehind(outer)
}

// callBehind calls by echo and TCP, as those beyond the segment are, the addresses of MACs that answer for many: what is really there
// speaks for itself, and the rest are the MAC's word alone.
func (c *caller) callBehind(ctx context.Context) error {
	addrs := c.roster.ofMany(manyAddresses)
	if len(addrs) == 0 {
		return nil
	}
	prefixes := make([]netip.Prefix, len(addrs))
	for i, a := range addrs {
		prefixes[i] = netip.PrefixFrom(a, a.BitLen())
	}
	behind := &caller{engine: c.engine, hears: c.hears, tcp: newTCPOrder(c.tcp.ports), over: c.roster.hasSpoken}
	return behind.callBeyond(ctx, netrange.FromPrefixes(prefixes...), "-behind")
}

// inNeighbourTable is what told of an address that the system knew of.
const inNeighbourTable = "the system's table of neighbours"

// takeNeighbours takes in what stands in the system's own table: with the right to frames they are called by name and asked if they
// answer, and else they only have a MAC by it.
func (c *caller) takeNeighbours(ctx context.Context) {
	neighbours, err := c.wire.Neighbours(ctx)
	if err != nil {
		c.warn("The system's table of neighbours cannot be read: %v. What stands there is not taken in, and without the right to frames MAC addresses stay unknown.", err)
		return
	}
	if !c.hears.canSend() {
		return
	}
	for _, n := range neighbours {
		if n.MAC.IsZero() || n.MAC.IsGroup() || n.Addr.IsMulticast() || c.isSelf(n.Addr) || c.order.Ranges.Contains(n.Addr) || !n.Addr.Is6() {
			continue // what is in the ranges is called anyway
		}
		s := told(n.Addr, n.MAC, nil)
		s.LearnedFrom = inNeighbourTable
		c.overheard(s)
	}
}

// split parts the ranges into what lies on the local segment and what lies beyond it.
func (c *caller) split() (segment, beyond netrange.Set) {
	var own []netip.Prefix
	for _, p := range c.link().Prefixes {
		own = append(own, p.Masked())
	}
	beyond = c.order.Ranges.Without(netrange.FromPrefixes(own...))
	return c.order.Ranges.Without(beyond), beyond
}

var allIPv6 = netrange.FromPrefixes(netip.MustParsePrefix("::/0"))

// families parts a set into its IPv4 and its IPv6 addresses.
func families(set netrange.Set) (four, six netrange.Set) {
	four = set.Without(allIPv6)
	return four, set.Without(four)
}

// byPace parts a set by the paces of its parts, and has each called at its own.
func (c *caller) byPace(ctx context.Context, set netrange.Set, call func(ctx context.Context, part netrange.Set, pace *pacing, name string) error) error {
	g, ctx := errgroup.WithContext(ctx)
	for i, p := range c.paces {
		part := set
		if i < len(c.paces)-1 {
			part = set.Without(set.Without(p.ranges))
			set = set.Without(p.ranges)
		}
		name := ""
		if i > 0 {
			name = "-" + strconv.Itoa(i)
		}
		if part.Count() > 0 {
			g.Go(func() error { return call(ctx, part, p, name) })
		}
	}
	return g.Wait()
}

// rounds visits every address of the set that has not answered, once a round, and waits for the stragglers after
// each. Where answers get lost there are more rounds than the pace says. ask sends one question, once it is its turn.
// The call's name keeps its place for a sweep that goes on later.
func (c *caller) rounds(ctx context.Context, call string, set netrange.Set, pace *pacing, onSegment bool, ask func(a netip.Addr, round int) error) error {
	visit, of := netrange.NewVisit(set, c.order.Seed), fingerprint(call, set, c.order.Seed)
	from, since := c.resume.place(call, of)
	c.meter.expect(calling, set.Count()*uint64(pace.Rounds))
	c.meter.settle(calling, min(uint64(from.Round)*set.Count()+from.At, set.Count()*uint64(pace.Rounds)))
	for round := from.Round; round < pace.Rounds || round < maxRounds && pace.pace.tries(pace.Rounds, maxRounds) > round; round++ {
		asked := false
		if round >= pace.Rounds {
			c.meter.expect(calling, set.Count())
		}
		for i := from.At; i < visit.Len(); i++ {
			a, _ := visit.At(i)
			if !c.isSelf(a) && !c.standsForMany(a) && !c.over(a) {
				if err := c.turnToCall(ctx, a, pace, onSegment); err != nil {
					return err
				}
				if err := ask(a, round); err != nil {
					return err
				}
				c.meter.send(calling)
				asked = true
			}
			c.meter.settle(calling, 1)
			c.resume.reach(call, Place{round, i + 1, of}, since)
		}
		from.At = 0
		if asked {
			if err := c.stalls.wait(ctx, c.timers.longest(onSegment)); err != nil {
				return err
			}
		}
		c.resume.reach(call, Place{round + 1, 0, of}, since)
	}
	return c.callExpected(ctx, set, pace, onSegment, ask)
}

// expectedRounds is how many rounds more there are for addresses at which somebody was before.
const expectedRounds = 4

// callExpected calls those of a set at whose addresses somebody was before more often than others: that they are silent is to say that they are
// gone, and not that a few questions were lost.
func (c *caller) callExpected(ctx context.Context, set netrange.Set, pace *pacing, onSegment bool, ask func(a netip.Addr, round int) error) error {
	var expected []netip.Addr
	for _, a := range c.order.Expected {
		if set.Contains(a) && !c.isSelf(a) {
			expected = append(expected, a)
		}
	}
	for round := pace.Rounds; round < pace.Rounds+expectedRounds; round++ {
		expected = slices.DeleteFunc(expected, func(a netip.Addr) bool { return c.standsForMany(a) || c.over(a) })
		if len(expected) == 0 {
			return nil
		}
		c.meter.expect(calling, uint64(len(expected)))
		for _, a := range expected {
			if err := c.turnToCall(ctx, a, pace, onSegment); err != nil {
				return err
			}
			if err := ask(a, round); err != nil {
				return err
			}
			c.meter.send(calling)
			c.meter.settle(calling, 1)
		}
		if err := c.stalls.wait(ctx, c.timers.longest(onSegment)); err != nil {
			return err
		}
	}
	return nil
}

// turnToCall waits for a turn, and for one of the broadcasts where every device of the segment hears the call.
func (c *caller) turnToCall(ctx context.Context, a netip.Addr, pace *pacing, broadcast bool) error {
	if broadcast && pace.casts != nil {
		if err := pace.casts.take(ctx, calling); err != nil {
			return err
		}
	}
	return c.turn(ctx, a, calling)
}

// callOnSegment calls addresses of the local segment by ARP or neighbour solicitation. Everything that speaks IP answers, a device
// that drops all else too.
func (c *caller) callOnSegment(ctx context.Context, call string, set netrange.Set, sent *sendTimes) error {
	return c.byPace(ctx, set, func(ctx context.Context, part netrange.Set, pace *pacing, name string) error {
		return c.rounds(ctx, call+name, part, pace, true, func(a netip.Addr, round int) error {
			sent.note(a, round)
			c.roster.call(a)
			return c.hears.writeCall(ctx, a)
		})
	})
}

// writeCall sends the frame that asks for an address of the segment.
func (h *hearer) writeCall(ctx context.Context, a netip.Addr) error {
	etherType, frame := wire.EtherTypeARP, probe.ARPRequest
	if a.Is6() {
		etherType, frame = wire.EtherTypeIPv6, probe.NeighbourSolicitation
	}
	return h.write(ctx, etherType, func() []byte {
		link := h.link()
		self, _ := link.OnLink(a)
		if !self.IsValid() && a.Is4() {
			self = netip.IPv4Unspecified()
		}
		if !self.IsValid() {
			self = link.LinkLocal6()
		}
		return frame(link.MAC, self, a)
	})
}

// callAllNodes asks every IPv6 node of the segment to answer, from each of the own addresses: a node answers from an
// address of the same scope.
func (c *caller) callAllNodes(ctx context.Context) error {
	var own []netip.Addr
	for _, p := range c.link().Prefixes {
		if p.Addr().Is6() {
			own = append(own, p.Addr())
		}
	}
	if len(own) == 0 || !c.wholeSegment() {
		return nil
	}
	c.meter.expect(calling, uint64(c.order.Pace.Rounds*len(own)))
	for range c.order.Pace.Rounds {
		for _, self := range own {
			if err := c.turnToCall(ctx, self, c.paceAt(self), true); err != nil {
				return err
			}
			if err := c.hears.write(ctx, wire.EtherTypeIPv6, func() []byte { return probe.AllNodesEcho(c.link().MAC, self, c.hears.nonce) }); err != nil {
				return err
			}
			c.meter.send(calling)
			c.meter.settle(calling, 1)
		}
		if err := c.stalls.wait(ctx, c.timers.waits.Least); err != nil {
			return err
		}
	}
	return nil
}
