package sweep

import (
	"context"
	"net/netip"
	"slices"

	"airdrift/core/hwaddr"
)

// asksBySix reports whether a device that was met by IPv6 without being looked for may be asked there: it is in the
// fence, has not been asked by IPv4, and nobody of the segment was left out.
func (e *engine) asksBySix(a netip.Addr, mac hwaddr.MAC) bool {
	if !a.Is6() || e.order.Ranges.Contains(a) || e.order.Excluded.Contains(a) {
		return false
	}
	inside := a.IsLinkLocalUnicast() || slices.ContainsFunc(e.order.Fence, func(n netip.Prefix) bool { return n.Contains(a) })
	if !inside || !e.wholeSegment() || mac.IsZero() {
		return false
	}
	best, ok := e.roster.bestSix(mac)
	return ok && best == a
}

// prove finds out which of those only heard are there: IPv4 addresses of the ranges and IPv6 addresses that would be asked are
// called by name, each once in a sweep. Any device can send a frame in the name of an address; to answer for it, it has to be there.
func (c *caller) prove(ctx context.Context) (called int, err error) {
	if !c.hears.canSend() {
		return 0, nil
	}
	heard := c.roster.onlyHeard(func(a netip.Addr, mac hwaddr.MAC) bool {
		_, onLink := c.link().OnLink(a)
		return c.order.Ranges.Contains(a) && (onLink || a.IsLinkLocalUnicast()) || c.asksBySix(a, mac)
	})
	var calls []netip.Addr
	// Of an address that many claim those are believed that answer for it again.
	for _, a := range c.roster.allCrowded() {
		if c.order.Ranges.Contains(a) && !c.isProven(a) {
			calls = append(calls, a, a)
		}
	}
	for _, who := range heard {
		if !c.isProven(who.addr) {
			calls = append(calls, who.addr)
		}
	}
	if len(calls) == 0 {
		return 0, nil
	}
	c.meter.expect(asking, uint64(len(calls)))
	for _, a := range calls {
		if err := c.callByName(ctx, a); err != nil {
			return 0, err
		}
	}
	return len(calls), c.stalls.wait(ctx, max(c.timers.longest(true), c.timers.waits.First))
}

func (c *caller) isProven(a netip.Addr) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	was := c.proven[a]
	c.proven[a] = true
	return was
}

// callByName calls one address of the segment by ARP or neighbour solicitation.
func (c *caller) callByName(ctx context.Context, a netip.Addr) error {
	if err := c.turnToCall(ctx, a, c.paceAt(a), true); err != nil {
		return err
	}
	sent := c.hears.sent
	if a.Is6() {
		sent = c.hears.asked
	}
	sent.note(a, 1) // it may have been called before, so its answer measures nothing
	c.roster.call(a)
	c.meter.send(asking)
	c.meter.settle(asking, 1)
	return c.hears.writeCall(ctx, a)
}

// betterSix prefers addresses that are valid beyond the segment, and of like ones the lower, so that one is chosen.
func betterSix(a, b netip.Addr) bool {
	if a.IsLinkLocalUnicast() != b.IsLinkLocalUnicast() {
		return b.IsLinkLocalUnicast()
	}
	return a.Less(b)
}
