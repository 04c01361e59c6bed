package sweep

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"net/netip"
	"slices"
	"time"

	"golang.org/x/sync/errgroup"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
	"airdrift/core/probe"
)

// askPorts asks the ports of the order, a few at a time.
func (i *interviewer) askPorts(ctx context.Context, t *target) error {
	g, portCtx := errgroup.WithContext(ctx)
	g.SetLimit(t.pace.PerDevice)
	for _, port := range i.portsOf(t) {
		if portCtx.Err() != nil {
			break
		}
		g.Go(func() error { return i.askPort(portCtx, t, port) })
		i.settleOne(t)
	}
	err := errors.Join(g.Wait(), ctx.Err())
	if err == nil {
		i.noteRefusal(ctx, t)
		i.noteSilent(ctx, t)
	}
	if t.every.Load() {
		i.roster.dropBarePorts(t.addr)
	}
	return err
}

// portsOf gives the ports to ask of one address, in an order of its own.
func (i *interviewer) portsOf(t *target) []uint16 {
	ports := slices.Clone(i.ports)
	random := rand.New(rand.NewPCG(i.order.Seed, uint64(t.addr.As16()[15])))
	random.Shuffle(len(ports), func(x, y int) { ports[x], ports[y] = ports[y], ports[x] })
	return ports
}

// A port that keeps silent is asked this often, and at the most so often where much gets lost.
const (
	portTries    = 2
	maxPortTries = 5
)

// askPort connects to one port, once more if nothing came back, and hears what is behind it. Of a device that accepts every connection
// only those ports are asked at which a service would say something: the others prove nothing. What the roll call has learned
// of a port is not asked again.
func (i *interviewer) askPort(ctx context.Context, t *target, port uint16) error {
	p := probe.At(port)
	talks := i.may(t, p) && p.Talk != nil && p.When == nil
	if t.every.Load() && !(talks && slices.Contains(p.Usual, port)) || t.pulse.isGone() || i.roster.knows(t.addr, port, !talks) {
		return nil
	}
	leave, err := i.care.enter(ctx, i.deviceOf(t.addr), t.pace.Pace)
	if err != nil {
		return err
	}
	defer leave()
	before, known := i.holder(ctx, t)
	addr, wait := netip.AddrPortFrom(t.at, port), i.timers.wait(t.addr)
	tries := t.pace.pace.tries(portTries, maxPortTries)
	for try := range tries {
		if try == tries-1 {
			wait = i.timers.last(wait)
		}
		t.asks(fmt.Sprintf("a connection to %s", evidence.TCP(port)))
		conn, rtt, outcome, err := i.connect(ctx, addr, patient(wait), asking)
		if err != nil {
			return err
		}
		// That there is no way to a device that has answered on this segment is our own system's impatience with its ARP.
		if _, onLink := i.link().OnLink(t.addr); outcome == probe.Silent || outcome == probe.Unreachable && onLink {
			wait = i.timers.backOff(wait)
			continue
		}
		t.pace.pace.answered(try > 0)
		if outcome == probe.Open || outcome == probe.Refused {
			t.pulse.beat(port)
		}
		t.took(port, outcome, rtt)
		items := i.answer(t.addr, port, outcome, rtt)
		if conn != nil {
			items = append(items, i.hearOut(ctx, t, p, conn, addr, talks)...)
		}
		i.noteOf(ctx, t, before, known, items)
		return nil
	}
	t.keepsSilent(port)
	return i.missed(ctx, t)
}

// maxSilent is up to how many ports of a device that refuses others are noted as silent: more are filtered, and not lost.
const maxSilent = 8

// took notes how the device took a connection.
func (t *target) took(port uint16, outcome probe.Outcome, rtt time.Duration) {
	t.mu.Lock()
	defer t.mu.Unlock()
	switch {
	case outcome == probe.Open:
		t.open = true
	case outcome == probe.Refused && (t.refusal.Key == "" || port < t.refusal.Port.Number):
		t.refusal = tcpItem(port, outcome, rtt)
	}
}

// noteRefusal notes of a device at which nothing is open that it refuses, by its lowest port: that is an answer, which shows that TCP reaches it, too.
func (i *interviewer) noteRefusal(ctx context.Context, t *target) {
	t.mu.Lock()
	refusal, open := t.refusal, t.open
	t.mu.Unlock()
	mac, known := i.holder(ctx, t)
	if refusal.Key == "" || open || i.roster.answersTCP(t.addr, mac) {
		return
	}
	i.noteOf(ctx, t, mac, known, []evidence.Item{refusal})
}

func (t *target) keepsSilent(port uint16) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if len(t.silent) <= maxSilent {
		t.silent = append(t.silent, port)
	}
}

// noteSilent notes which few ports neither accepted nor refused of a device that refuses others: whether they are open is not known, as
// what was sent to them or their answer may have been lost.
func (i *interviewer) noteSilent(ctx context.Context, t *target) {
	t.mu.Lock()
	refused, silent := t.refusal.Key != "", slices.Clone(t.silent)
	t.mu.Unlock()
	if !refused || len(silent) == 0 || len(silent) > maxSilent {
		return
	}
	mac, known := i.holder(ctx, t)
	var items []evidence.Item
	for _, port := range slices.Sorted(slices.Values(silent)) {
		items = append(items, evidence.Item{Source: evidence.SourceTCP, Key: evidence.KeyTCPSilent, Port: evidence.TCP(port), Value: fmt.Sprint(port), At: time.Now().UTC()})
	}
	i.noteOf(ctx, t, mac, known, items)
}

// hearOut hears what is behind an accepted connection, and hangs up. A protocol that has answered a question of its own has said all.
func (i *interviewer) hearOut(ctx context.Context, t *target, p *probe.Protocol, conn net.Conn, addr netip.AddrPort, talks bool) []evidence.Item {
	if talks {
		_, talks = t.answered(p)
		talks = !talks
	}
	if !talks {
		conn.Close()
		return nil
	}
	t.asks(fmt.Sprintf("%s at %s", p.Name, evidence.TCP(addr.Port())))
	return p.FirstWords(ctx, i.query(t, p), t.timed(p, conn, &i.stalls), i.zoned(addr), t.pace.lets(probe.Demanding))
}

// askWhatFollows speaks the protocols that may be spoken only to devices that have said so.
func (i *interviewer) askWhatFollows(ctx context.Context, t *target) error {
	for _, p := range i.spoken {
		if p.When == nil || !i.may(t, p) || t.every.Load() || t.pulse.isGone() {
			continue
		}
		mac, known := i.holder(ctx, t)
		if !known {
			return nil
		}
		items := i.roster.get(t.addr, mac).Items
		if !p.When(items) {
			continue
		}
		for _, port := range p.Ports {
			isOpen := func(it evidence.Item) bool { return it.Key == evidence.KeyTCPOpen && it.Port == evidence.TCP(port) }
			if !slices.ContainsFunc(items, isOpen) {
				continue
			}
			if err := i.followUp(ctx, t, p, mac, netip.AddrPortFrom(t.at, port)); err != nil {
				return err
			}
		}
	}
	return nil
}

func (i *interviewer) followUp(ctx context.Context, t *target, p *probe.Protocol, mac hwaddr.MAC, addr netip.AddrPort) error {
	leave, err := i.care.enter(ctx, i.deviceOf(t.addr), t.pace.Pace)
	if err != nil {
		return err
	}
	defer leave()
	conn, _, _, err := i.connect(ctx, addr, patient(i.timers.wait(t.addr)), asking)
	if err != nil || conn == nil {
		return err
	}
	t.asks(fmt.Sprintf("%s at %s", p.Name, evidence.TCP(addr.Port())))
	i.noteOf(ctx, t, mac, true, p.FirstWords(ctx, i.query(t, p), t.timed(p, conn, &i.stalls), i.zoned(addr), true))
	return nil
}

// answer makes the evidence that the outcome itself is. Of refusals one is enough: it says that somebody is there.
func (i *interviewer) answer(a netip.Addr, port uint16, outcome probe.Outcome, rtt time.Duration) []evidence.Item {
	switch outcome {
	case probe.Open:
		i.timers.measured(a, rtt)
		return []evidence.Item{tcpItem(port, outcome, rtt)}
	case probe.Refused:
		i.timers.measured(a, rtt)
	}
	return nil
}

// unlikelyPorts is how many ports without a service are tried to find out which devices accept everything.
const unlikelyPorts = 3

// tryUnlikelyPorts finds out whether an address accepts connections to ports at which nothing can be expected: dynamic
// ones (RFC 6335, 6), of which the choice hangs on the seed.
func (i *interviewer) tryUnlikelyPorts(ctx context.Context, t *target) error {
	leave, err := i.care.enter(ctx, i.deviceOf(t.addr), t.pace.Pace)
	if err != nil {
		return err
	}
	defer leave()
	random := rand.New(rand.NewPCG(i.order.Seed, 0xe7e9))
	wait := i.timers.wait(t.addr)
	for range unlikelyPorts {
		port := uint16(49152 + random.IntN(16384))
		// One silence may be a packet that was lost.
		outcome, err := i.touchAgain(ctx, netip.AddrPortFrom(t.at, port), wait)
		if err != nil || outcome != probe.Open {
			return err
		}
	}
	t.every.Store(true)
	if mac, known := i.holder(ctx, t); known {
		item := evidence.Item{Source: evidence.SourceTCP, Key: evidence.KeyTCPEvery, Value: "yes", At: time.Now().UTC()}
		i.roster.note(evidence.Sighting{Addr: t.addr, MAC: mac, Answered: true, Items: []evidence.Item{item}})
	}
	return nil
}

// missed takes in that a port kept silent. A device that keeps silent for long is tried once more where it has answered
// before; one that does not any more is left alone.
func (i *interviewer) missed(ctx context.Context, t *target) error {
	port, check := t.pulse.miss()
	if !check {
		return nil
	}
	outcome, err := i.touchAgain(ctx, netip.AddrPortFrom(t.at, port), max(i.timers.wait(t.addr), i.timers.waits.First))
	if err != nil {
		return err
	}
	gone := outcome != probe.Open && outcome != probe.Refused
	if t.pulse.checked(gone); !gone {
		return nil
	}
	i.stopped.addStopped(t.addr)
	mac, known := i.holder(ctx, t)
	i.noteOf(ctx, t, mac, known, []evidence.Item{{Source: evidence.SourceTCP, Key: evidence.KeyTCPStopped, Value: "yes", At: time.Now().UTC()}})
	return nil
}

// touchAgain connects to a port until the device answers, twice at the most and the second time with patience.
func (i *interviewer) touchAgain(ctx context.Context, addr netip.AddrPort, wait time.Duration) (outcome probe.Outcome, err error) {
	for range portTries {
		if outcome, _, err = i.touch(ctx, addr, patient(wait), asking); err != nil || outcome == probe.Open || outcome == probe.Refused {
			return outcome, err
		}
		wait = i.timers.last(wait)
	}
	return outcome, nil
}
