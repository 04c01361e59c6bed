package sweep

import (
	"context"
	"errors"
	"math/rand/v2"
	"net"
	"net/netip"
	"slices"
	"strconv"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
	"airdrift/core/probe"
)

// ask puts the ports of the order to everyone who answered the roll call.
func (r *run) ask(ctx context.Context) error {
	addrs := r.roster.all()
	r.meter.expect(uint64(len(addrs) * r.questions()))
	g, groupCtx := errgroup.WithContext(ctx)
	g.SetLimit(r.order.Pace.Devices)
	for _, a := range addrs {
		if groupCtx.Err() != nil {
			break
		}
		g.Go(func() error { return r.askOne(groupCtx, a) })
	}
	err := errors.Join(g.Wait(), ctx.Err())
	r.tellStopped()
	return err
}

// questions is how many questions one device is asked at the most.
func (r *run) questions() int { return len(r.order.Ports) + len(probe.Questions) + 1 }

// askOne asks one address all there is to ask, and tells what became of it.
func (r *run) askOne(ctx context.Context, a netip.Addr) error {
	t := &target{addr: a, left: uint64(r.questions())}
	defer func() { r.meter.settle(t.left) }()
	if r.roster.settled(a) {
		return nil
	}
	asked, err := r.interview(ctx, t)
	r.finish(a, asked, err == nil && ctx.Err() == nil)
	return err
}

// finish tells what became of an address: asked says that it was asked, over that nothing more will be.
func (r *run) finish(a netip.Addr, asked, over bool) {
	if over {
		r.roster.finish(a)
	}
	for _, mac := range r.roster.holders(a) {
		if over && asked {
			r.roster.note(evidence.Sighting{Addr: a, MAC: mac, Whole: true})
		}
		r.tell(Sighted{Sighting: r.roster.get(a, mac), Whole: over})
	}
}

// target is one address while it is asked.
type target struct {
	addr  netip.Addr
	every atomic.Bool // it accepts connections to whatever port
	left  uint64      // questions not settled yet
	pulse pulse
	sip   atomic.Bool // it has answered SIP by datagram, and is not asked again by connection
}

// interview asks the ports of one address, a few at a time, and its name. asked is false where it is left alone.
func (r *run) interview(ctx context.Context, t *target) (asked bool, err error) {
	if may, err := r.mayBeAsked(ctx, t.addr); err != nil || !may {
		return false, err
	}
	if err := r.askName(ctx, t.addr); err != nil {
		return true, err
	}
	if err := r.askByDatagram(ctx, t); err != nil {
		return true, err
	}
	if err := r.askPorts(ctx, t); err != nil {
		return true, err
	}
	return true, r.askPrinter(ctx, t)
}

// askPorts asks the ports of the order, a few at a time.
func (r *run) askPorts(ctx context.Context, t *target) error {
	g, portCtx := errgroup.WithContext(ctx)
	g.SetLimit(r.order.Pace.PerDevice)
	g.Go(func() error { return r.tryUnlikelyPorts(portCtx, t) })
	for _, port := range r.portsOf(t) {
		if portCtx.Err() != nil {
			break
		}
		g.Go(func() error { return r.askPort(portCtx, t, port) })
		r.settleOne(t)
	}
	err := errors.Join(g.Wait(), ctx.Err())
	if t.every.Load() {
		r.roster.dropBarePorts(t.addr)
	}
	return err
}

func (r *run) settleOne(t *target) {
	t.left--
	r.meter.settle(1)
}

// portsOf gives the ports to ask of one address, in an order of its own.
func (r *run) portsOf(t *target) []uint16 {
	ports := slices.Clone(r.order.Ports)
	random := rand.New(rand.NewPCG(r.order.Seed, uint64(t.addr.As16()[15])))
	random.Shuffle(len(ports), func(i, j int) { ports[i], ports[j] = ports[j], ports[i] })
	return ports
}

// A port that keeps silent is asked this often, and at the most so often where much gets lost.
const (
	portTries    = 2
	maxPortTries = 5
)

// askPort connects to one port, once more if nothing came back, and hears what is behind it. Of who accepts every connection
// only those ports are asked at which a service would say something: the others prove nothing. What the roll call has learned
// of a port is not asked again.
func (r *run) askPort(ctx context.Context, t *target, port uint16) error {
	if t.every.Load() && !probe.Speaks(port) || t.pulse.isGone() || r.roster.knows(t.addr, port) {
		return nil
	}
	before, known := r.holder(ctx, t.addr)
	addr, wait := netip.AddrPortFrom(t.addr, port), r.timers.wait(t.addr)
	for try := range r.pace.tries(portTries, maxPortTries) {
		conn, rtt, outcome, err := r.connect(ctx, addr, wait)
		if err != nil {
			return err
		}
		if outcome == probe.Silent {
			wait = backOff(wait)
			continue
		}
		r.pace.answered(try > 0)
		if outcome != probe.Unreachable {
			t.pulse.beat(port)
		}
		items := r.answer(t.addr, port, outcome, rtt)
		switch {
		case conn != nil && port == sipPort && t.sip.Load():
			conn.Close()
		case conn != nil:
			items = append(items, probe.FirstWords(ctx, pacedDialer{r}, conn, r.zoned(addr), r.thorough())...)
		}
		r.noteOf(ctx, t, before, known, items)
		return nil
	}
	return r.missed(ctx, t)
}

// sipPort is where telephones take calls (RFC 3261, 19.1.2).
const sipPort = 5060

// thorough reports whether the pace lets a device have more than one connection to learn more of one service.
func (r *run) thorough() bool { return r.order.Pace.PerDevice > 1 }

// noteOf notes what was learned for the device that held the address before and after.
func (r *run) noteOf(ctx context.Context, t *target, before hwaddr.MAC, known bool, items []evidence.Item) {
	if len(items) == 0 {
		return
	}
	if after, still := r.holder(ctx, t.addr); still && (!known || after == before) {
		r.roster.note(evidence.Sighting{Addr: t.addr, MAC: after, Answered: true, Items: items})
	}
}

// pacedDialer opens the further connections of an exchange within the sweep's pace. Of datagrams each one waits for its turn.
type pacedDialer struct{ run *run }

// DialContext waits for its turn and then connects.
func (d pacedDialer) DialContext(ctx context.Context, network string, addr netip.AddrPort) (net.Conn, error) {
	addr = d.run.zoned(addr)
	if network == "udp" {
		conn, err := d.run.wire.DialContext(ctx, network, addr)
		if err != nil {
			return nil, err
		}
		return &pacedConn{conn, ctx, d.run}, nil
	}
	if err := d.run.turn(ctx); err != nil {
		return nil, err
	}
	d.run.meter.send()
	return d.run.wire.DialContext(ctx, network, addr)
}

// ListenPacket opens a datagram socket that hears answers from any port.
func (d pacedDialer) ListenPacket(ctx context.Context, network string, addr netip.AddrPort) (net.PacketConn, error) {
	conn, err := d.run.wire.ListenPacket(ctx, network, addr)
	if err != nil {
		return nil, err
	}
	return &pacedPackets{conn, ctx, d.run}, nil
}

// pacedPackets sends datagrams to whom it is told to within the sweep's pace.
type pacedPackets struct {
	net.PacketConn
	ctx context.Context
	run *run
}

func (c *pacedPackets) WriteTo(b []byte, to net.Addr) (int, error) {
	if err := c.run.turn(c.ctx); err != nil {
		return 0, err
	}
	c.run.meter.send()
	return c.PacketConn.WriteTo(b, to)
}

// pacedConn sends datagrams within the sweep's pace.
type pacedConn struct {
	net.Conn
	ctx context.Context
	run *run
}

func (c *pacedConn) Write(b []byte) (int, error) {
	if err := c.run.turn(c.ctx); err != nil {
		return 0, err
	}
	c.run.meter.send()
	return c.Conn.Write(b)
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

// manyAddresses is from how many IPv4 addresses on a MAC is taken to answer for others.
const manyAddresses = 5

// mayBeAsked tells whom a sweep asks: those it was to look through. Where a MAC answers for many addresses, those with
// nobody behind them are left out, so that a router answering ARP for a whole range does not cost a thousand time-outs.
func (r *run) mayBeAsked(ctx context.Context, a netip.Addr) (bool, error) {
	holders := r.roster.holders(a)
	if r.self[a] {
		return false, nil
	}
	if !r.order.Ranges.Contains(a) {
		return slices.ContainsFunc(holders, func(mac hwaddr.MAC) bool { return r.asksBySix(a, mac) }), nil
	}
	if len(holders) != 1 || holders[0].IsZero() || len(r.roster.answersFor(holders[0])) < manyAddresses {
		return true, nil
	}
	wait := r.timers.wait(a)
	for range 2 {
		for _, port := range knockPorts {
			outcome, _, err := r.touch(ctx, netip.AddrPortFrom(a, port), wait)
			if err != nil || outcome == probe.Open || outcome == probe.Refused {
				return true, err
			}
		}
	}
	return false, nil
}

// unlikelyPorts is how many ports without a service are tried to find out who accepts everything.
const unlikelyPorts = 3

// tryUnlikelyPorts finds out whether an address accepts connections to ports at which nothing can be expected: dynamic
// ones (RFC 6335, 6), of which the choice hangs on the seed.
func (r *run) tryUnlikelyPorts(ctx context.Context, t *target) error {
	random := rand.New(rand.NewPCG(r.order.Seed, 0xe7e9))
	wait := r.timers.wait(t.addr)
	for range unlikelyPorts {
		port := uint16(49152 + random.IntN(16384))
		outcome, _, err := r.touch(ctx, netip.AddrPortFrom(t.addr, port), wait)
		if err != nil || outcome != probe.Open {
			return err
		}
	}
	t.every.Store(true)
	mac, known := r.holder(ctx, t.addr)
	if known {
		item := evidence.Item{Source: evidence.SourceTCP, Key: evidence.KeyTCPEvery, Value: "yes", At: time.Now().UTC()}
		r.roster.note(evidence.Sighting{Addr: t.addr, MAC: mac, Answered: true, Items: []evidence.Item{item}})
	}
	return nil
}

// askName asks the site's name servers for the name of an address; the first that answers is believed.
func (r *run) askName(ctx context.Context, a netip.Addr) error {
	if a.IsLinkLocalUnicast() {
		return nil
	}
	for _, server := range r.servers {
		for range 2 {
			if err := r.turn(ctx); err != nil {
				return err
			}
			r.meter.send()
			items, answered := probe.ReverseName(ctx, r.wire, netip.AddrPortFrom(server, 53), a, r.timers.wait(server))
			if !answered {
				continue
			}
			for _, mac := range r.roster.holders(a) {
				r.roster.note(evidence.Sighting{Addr: a, MAC: mac, Answered: true, Items: items})
			}
			return nil
		}
	}
	return ctx.Err()
}

func tcpItem(port uint16, outcome probe.Outcome, rtt time.Duration) evidence.Item {
	key := evidence.KeyTCPOpen
	if outcome == probe.Refused {
		key = evidence.KeyTCPRefused
	}
	return evidence.Item{
		Source: evidence.SourceTCP, Key: key, Port: evidence.TCP(port), Value: strconv.Itoa(int(port)), At: time.Now().UTC(), RTT: rtt,
	}
}
