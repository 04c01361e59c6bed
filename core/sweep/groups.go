package sweep

import (
	"context"
	"encoding/binary"
	"errors"
	"net"
	"net/netip"
	"slices"
	"time"

	"golang.org/x/sync/errgroup"

	"airdrift/core/evidence"
	"airdrift/core/probe"
)

// groupRounds is how often the groups of the segment are asked.
const groupRounds = 2

// bindTries is how often it is tried to speak from an own address, and bindPause how long is waited between.
const bindTries, bindPause = 10, 300 * time.Millisecond

// callGroups asks everybody on the segment at once what services there are, at the groups of all protocols. A sweep
// of a part of the segment does not, since it would reach those that were left out.
func (c *caller) callGroups(ctx context.Context) error {
	if !c.link().Broadcasts() {
		return nil
	}
	if !c.wholeSegment() {
		if why := c.whyNotWhole(); why != "" {
			c.warn("The segment is not asked as a whole, by groups and broadcasts, %s.", why)
		}
		return nil
	}
	g, ctx := errgroup.WithContext(ctx)
	for _, self := range c.speakers() {
		g.Go(func() error { return c.callGroupsFrom(ctx, self) })
	}
	g.Go(func() error { return c.callCasts(ctx) })
	return g.Wait()
}

// whyNotWhole says why a sweep that seems to be of a whole segment is not; "" for one that is plainly of a part.
func (c *caller) whyNotWhole() string {
	link := c.link()
	switch {
	case !link.Within(c.order.Fence):
		return ""
	case c.order.Excluded.Count() > 0 && c.order.Ranges.Union(c.order.Excluded).Covers(link.Prefixes):
		return "since some of it is left out: those would be reached as well"
	}
	for _, p := range link.Prefixes {
		within := func(n netip.Prefix) bool {
			return n.Addr().Is4() && p.Masked().Contains(n.Addr()) && n.Bits() > p.Bits()
		}
		inside := slices.DeleteFunc(slices.Clone(c.order.Fence), func(n netip.Prefix) bool { return !within(n) })
		if p.Addr().Is4() && len(inside) > 0 && c.order.Ranges.Covers(inside) {
			return "since " + p.String() + " is wider than the networks of the site: others would be reached as well"
		}
	}
	return ""
}

// speakers are the own addresses from which groups are asked, one of each family.
func (c *caller) speakers() []netip.Addr {
	var speakers []netip.Addr
	for _, p := range c.link().Prefixes {
		if p.Addr().Is4() && c.mayHear(p.Addr()) {
			speakers = append(speakers, p.Addr())
			break
		}
	}
	if six := c.link().LinkLocal6(); six.IsValid() {
		speakers = append(speakers, six.WithZone(c.link().Name))
	}
	return speakers
}

// callGroupsFrom asks the groups of one family.
func (c *caller) callGroupsFrom(ctx context.Context, self netip.Addr) error {
	var conn net.PacketConn
	var err error
	for range bindTries { // an address that was just formed is not to be had before it is known to be one's own alone (RFC 4862, 5.4)
		conn, err = c.wire.ListenPacket(ctx, "udp", netip.AddrPortFrom(self, 0))
		if !errors.As(probe.OwnFault(err), new(*probe.OwnFaultError)) || pause(ctx, bindPause) != nil {
			break
		}
	}
	if err != nil {
		c.warn("The groups of the segment cannot be asked from %s: %v.", self, err)
		return nil
	}
	defer conn.Close()
	buf := make([]byte, 1<<16)
	stop := listen(conn.SetReadDeadline, func() error { return c.heardInAnswer(ctx, conn, buf) })
	for round := range groupRounds + 1 {
		asked, err := c.putToGroups(ctx, conn, self, round)
		if err == nil && asked {
			err = c.stalls.wait(ctx, c.timers.waits.First*3/2) // responders spread their answers over a second
		}
		if err != nil {
			return errors.Join(err, stop())
		}
	}
	return stop()
}

// putToGroups puts the protocols' questions to their groups, or in the round after the last those that follow from what was answered.
func (c *caller) putToGroups(ctx context.Context, conn net.PacketConn, self netip.Addr, round int) (asked bool, err error) {
	for _, p := range c.spoken {
		for _, group := range p.Groups {
			if group.At.Addr().Is4() != self.Is4() {
				continue
			}
			questions := group.Questions
			if group.Sparing && round > 0 {
				questions = nil
			}
			if round == groupRounds {
				questions = nil
				if group.Follow != nil {
					questions = func() ([][]byte, error) { return group.Follow(c.answersOf(p)) }
				}
			}
			if questions == nil {
				continue
			}
			messages, err := questions()
			if err != nil {
				return asked, err
			}
			asked = asked || len(messages) > 0
			if err := c.putToGroup(ctx, conn, p, group.At, messages); err != nil {
				return asked, err
			}
		}
	}
	return asked, nil
}

// answersOf gives what each device has answered by a protocol. Where a message does not name the one that it answers, what is heard on the
// segment counts: some answer all at once, or at a port of their own.
func (c *caller) answersOf(p *probe.Protocol) [][]evidence.Item {
	if p.Relates != nil {
		return c.repeated.all(p.Source)
	}
	return append(c.repeated.all(p.Source), c.roster.told(p.Source)...)
}

func (c *caller) putToGroup(ctx context.Context, conn net.PacketConn, p *probe.Protocol, at netip.AddrPort, messages [][]byte) error {
	c.meter.expect(calling, uint64(len(messages)))
	for _, message := range messages {
		if err := c.turnToCall(ctx, at.Addr(), c.paceAt(at.Addr()), true); err != nil {
			return err
		}
		if p.Relates != nil {
			id, _ := p.Relates(message)
			c.repeated.ask(id)
		}
		err := c.persist(ctx, func() error {
			_, err := conn.WriteTo(message, net.UDPAddrFromAddrPort(c.zoned(at)))
			return err
		})
		if isFatal(err) || ctx.Err() != nil {
			return errors.Join(err, ctx.Err())
		}
		if err != nil && c.faults.isNew(at.String()) {
			c.warn("The group %s cannot be asked: %v.", at.Addr(), err)
		}
		c.meter.send(calling)
		c.meter.settle(calling, 1)
	}
	return nil
}

// callCasts puts the protocols' questions to their layer-2 groups, once: every device of a kind has to answer each.
func (c *caller) callCasts(ctx context.Context) error {
	if !c.hears.canSend() {
		return nil
	}
	for _, p := range c.spoken {
		for _, cast := range p.Casts {
			c.meter.expect(calling, 1)
			if err := c.turnToCall(ctx, netip.IPv4Unspecified(), c.paces[len(c.paces)-1], true); err != nil {
				return err
			}
			frame := func() []byte {
				mac := c.link().MAC
				head := slices.Concat(cast.To[:], mac[:])
				return append(binary.BigEndian.AppendUint16(head, cast.EtherType), cast.Message()...)
			}
			if err := c.hears.write(ctx, cast.EtherType, frame); err != nil {
				return err
			}
			c.meter.send(calling)
			c.meter.settle(calling, 1)
		}
	}
	return nil
}

// heardInAnswer reads one answer to a question to all. Where frames may be read the answer is heard there as well, with the MAC of
// what sent it.
func (c *caller) heardInAnswer(ctx context.Context, conn net.PacketConn, buf []byte) error {
	n, from, err := conn.ReadFrom(buf)
	if err != nil {
		return err
	}
	at, err := netip.ParseAddrPort(from.String())
	if err != nil {
		return nil
	}
	addr := at.Addr().Unmap().WithZone("")
	if _, onLink := c.link().OnLink(addr); !onLink || c.isSelf(addr) {
		return nil
	}
	by, items, ok := c.spoken.Hear(probe.Datagram{From: netip.AddrPortFrom(addr, at.Port()), Message: buf[:n]})
	if !ok {
		return nil
	}
	id, to := "", ""
	if by.Relates != nil {
		id, to = by.Relates(buf[:n])
	}
	if id == "" || to != "" { // else it greets, and answers nothing
		c.repeated.add(addr, to, items)
	}
	if c.hears.canSend() {
		// Heard with the frames as well, but for an answer that is longer than a frame, which is whole here alone.
		for _, mac := range c.roster.answering(addr) {
			c.roster.grow(addr, mac, items)
		}
		return nil
	}
	s := c.routed(ctx, addr, items[0])
	s.Items = append(s.Items, items[1:]...)
	switch {
	case c.roster.grow(s.Addr, s.MAC, s.Items):
	case c.order.Ranges.Contains(s.Addr):
		c.noted(s)
	default:
		c.overheard(s)
	}
	return nil
}
