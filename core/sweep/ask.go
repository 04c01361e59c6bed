package sweep

import (
	"context"
	"errors"
	"math/rand/v2"
	"net/netip"
	"slices"
	"time"

	"golang.org/x/sync/errgroup"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
	"airdrift/core/probe"
)

// ask puts the ports of the order to everyone who answered the roll call.
func (r *run) ask(ctx context.Context) error {
	addrs := r.roster.all()
	r.meter.expect(uint64(len(addrs) * len(r.order.Ports)))
	g, groupCtx := errgroup.WithContext(ctx)
	g.SetLimit(r.order.Pace.Devices)
	for _, a := range addrs {
		if groupCtx.Err() != nil {
			break
		}
		g.Go(func() error { return r.askOne(groupCtx, a) })
	}
	return errors.Join(g.Wait(), ctx.Err())
}

// askOne asks one address for all ports, a few at a time, and tells what became of it.
func (r *run) askOne(ctx context.Context, a netip.Addr) error {
	ports := slices.Clone(r.order.Ports)
	random := rand.New(rand.NewPCG(r.order.Seed, uint64(a.As16()[15])))
	random.Shuffle(len(ports), func(i, j int) { ports[i], ports[j] = ports[j], ports[i] })
	g, portCtx := errgroup.WithContext(ctx)
	g.SetLimit(r.order.Pace.PerDevice)
	for _, port := range ports {
		if portCtx.Err() != nil {
			break
		}
		g.Go(func() error {
			defer r.meter.settle(1)
			return r.askPort(portCtx, a, port)
		})
	}
	err := g.Wait()
	for _, mac := range r.roster.holders(a) {
		r.tell(Sighted{Sighting: r.roster.get(a, mac), Whole: err == nil && ctx.Err() == nil})
	}
	return err
}

// askPort connects to one port, once more if nothing came back, and hears what is behind it.
func (r *run) askPort(ctx context.Context, a netip.Addr, port uint16) error {
	before, known := r.holder(ctx, a)
	addr, wait := netip.AddrPortFrom(a, port), r.timers.wait(a)
	for range 2 {
		if err := r.turn(ctx); err != nil {
			return err
		}
		r.meter.send()
		conn, rtt, outcome, err := probe.Connect(ctx, r.wire, addr, wait)
		if err != nil {
			return err
		}
		if outcome == probe.Silent {
			wait = backOff(wait)
			continue
		}
		items := r.answer(a, port, outcome, rtt)
		if conn != nil {
			items = append(items, probe.FirstWords(ctx, conn, addr)...)
		}
		if after, still := r.holder(ctx, a); still && (!known || after == before) {
			r.roster.note(evidence.Sighting{Addr: a, MAC: after, Answered: true, Items: items})
		}
		return nil
	}
	return nil
}

// answer makes the evidence that the outcome itself is. Of refusals one is enough: it says that somebody is there.
func (r *run) answer(a netip.Addr, port uint16, outcome probe.Outcome, rtt time.Duration) []evidence.Item {
	switch outcome {
	case probe.Open:
		r.timers.measured(a, rtt)
		return []evidence.Item{tcpItem(port, outcome, rtt)}
	case probe.Refused:
		r.timers.measured(a, rtt)
	}
	return nil
}

// holder tells whose answer an answer from the address is. Where two devices hold one address, that is the one in the
// system's table; an answer counts only if the table said the same after it as before it, or nothing before it.
func (r *run) holder(ctx context.Context, a netip.Addr) (mac hwaddr.MAC, known bool) {
	holders := r.roster.holders(a)
	if len(holders) == 1 {
		return holders[0], true
	}
	neighbours, err := r.wire.Neighbours(ctx)
	if err != nil {
		return hwaddr.MAC{}, false
	}
	for _, n := range neighbours {
		if n.Addr == a && slices.Contains(holders, n.MAC) {
			return n.MAC, true
		}
	}
	return hwaddr.MAC{}, false
}
