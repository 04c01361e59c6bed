package sweep

import (
	"context"
	"errors"
	"net/netip"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
	"airdrift/core/probe"
	"airdrift/core/wire"
)

// interviewer asks those that have answered what they offer and say, by each of the protocols.
type interviewer struct {
	*engine
	alive *vitals
	ports []uint16 // of the order, but for those that are never sent anything
}

func newInterviewer(e *engine, hears *hearer) *interviewer {
	ports := slices.DeleteFunc(slices.Clone(e.order.Ports), func(port uint16) bool { return slices.Contains(e.order.Never, port) })
	return &interviewer{engine: e, alive: newVitals(e, hears), ports: ports}
}

// run asks the devices that the frontier gives until that is closed, so many devices at a time of each pace as that lets.
func (i *interviewer) run(ctx context.Context) (err error) {
	defer func() { err = errors.Join(err, i.alive.close()) }()
	g, ctx := errgroup.WithContext(ctx)
	for queue, pace := range i.paces {
		for range pace.Devices {
			g.Go(func() error { return i.askQueue(ctx, queue) })
		}
	}
	return g.Wait()
}

// askQueue asks one after the other of a queue of the frontier.
func (i *interviewer) askQueue(ctx context.Context, queue int) error {
	for {
		a, ok := i.frontier.next(ctx, queue)
		if !ok {
			return ctx.Err()
		}
		err := i.askOne(ctx, a)
		i.frontier.done()
		if err != nil {
			return err
		}
	}
}

// target is one device at one address while it is asked.
type target struct {
	addr  netip.Addr
	at    netip.Addr // where it is reached: addr, but where several hold that
	pace  *pacing
	mac   hwaddr.MAC  // of the one that is asked, where several hold the address; else zero
	every atomic.Bool // it accepts connections to whatever port
	left  uint64      // questions not settled yet
	pulse pulse

	mu       sync.Mutex                          // guards all below
	answers  map[*probe.Protocol][]evidence.Item // to questions, by the protocol
	lastWord string                              // question that was put last
	refusal  evidence.Item                       // of the lowest port that it has refused; without a key where there is none
	open     bool                                // it has accepted a connection
	clocks   map[*probe.Protocol]*clock
	silent   []uint16 // ports that neither accepted nor refused, at most maxSilent+1
}

func (i *interviewer) newTarget(a netip.Addr) *target {
	return &target{addr: a, at: a, pace: i.paceAt(a), answers: map[*probe.Protocol][]evidence.Item{}}
}

func (t *target) asks(what string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.lastWord = what
}

func (t *target) answered(p *probe.Protocol) (items []evidence.Item, ok bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	items, ok = t.answers[p]
	return items, ok
}

// may reports whether a device may be asked by a protocol.
func (i *interviewer) may(t *target, p *probe.Protocol) bool {
	return p != nil && slices.Contains(i.spoken, p) && t.pace.lets(p.Cost)
}

// questions are the protocols that every device is asked by, those that cost it least first.
func (i *interviewer) questions(t *target) []*probe.Protocol {
	var all []*probe.Protocol
	for _, p := range i.spoken {
		if p.Ask != nil && (i.may(t, p) || p.ByOthers) {
			all = append(all, p)
		}
	}
	slices.SortStableFunc(all, func(a, b *probe.Protocol) int { return int(a.Cost) - int(b.Cost) })
	return all
}

// askOne asks at one address all there is to ask, each that holds it where they can be told apart, and tells what became of it.
func (i *interviewer) askOne(ctx context.Context, a netip.Addr) error {
	if i.roster.settled(a) {
		return nil
	}
	if !i.mayBeAsked(a) {
		if len(i.roster.answering(a)) == 0 {
			i.frontier.release(a) // it may answer yet
			return nil
		}
		i.finish(a, false, true)
		return nil
	}
	asked, err := i.askHolders(ctx, a)
	i.finish(a, asked, err == nil && ctx.Err() == nil)
	return err
}

// askHolders asks the device at an address. Where several hold it, or others speak in its name, each that answers is asked by itself if
// the system lets its neighbour entry be fixed, and else whatever the system's table names: systems believe the last that spoke.
func (i *interviewer) askHolders(ctx context.Context, a netip.Addr) (asked bool, err error) {
	holders := i.roster.answering(a)
	pinner, can := i.wire.(wire.Pinner)
	if !can || !i.roster.isContested(a) || slices.ContainsFunc(holders, hwaddr.MAC.IsZero) {
		return i.interview(ctx, i.newTarget(a))
	}
	for _, mac := range holders {
		t := i.newTarget(a)
		t.mac = mac
		restore, err := pinner.Pin(ctx, a, mac)
		if err != nil {
			six, has := i.roster.sixOf(mac)
			if !has {
				i.stopped.addShared(a)
				t.mac = hwaddr.MAC{}
				return i.interview(ctx, t)
			}
			t.at, restore = six, func() error { return nil }
		}
		i.roster.note(evidence.Sighting{Addr: a, MAC: mac, Answered: true, Items: []evidence.Item{sweepItem(evidence.KeyPinned, t.at.String())}})
		asked, err = i.interview(ctx, t)
		if err := errors.Join(err, restore()); err != nil {
			return asked, err
		}
	}
	return asked, nil
}

func sweepItem(key, value string) evidence.Item {
	return evidence.Item{Source: evidence.SourceSweep, Key: key, Value: value, At: time.Now().UTC()}
}

// interview puts the questions that every device is asked, then those of its ports, and last those that rest on what it has said.
// asked is false where nobody but an ARP entry turned out to be there.
func (i *interviewer) interview(ctx context.Context, t *target) (asked bool, err error) {
	t.left = uint64(len(i.ports) + len(i.questions(t)))
	i.meter.expect(asking, t.left)
	defer func() { i.meter.settle(asking, t.left) }()
	for _, step := range []func(context.Context, *target) error{i.askWhoItIs, i.askQuestions, i.askPages, i.askPorts, i.askWhatFollows, i.lookAfter, i.noteTimes} {
		if err := step(ctx, t); err != nil {
			return true, err
		}
		if i.sameAs(ctx, t) {
			return true, nil
		}
	}
	return i.spoke(ctx, t), nil
}

// noteTimes notes how long the device took over its answers.
func (i *interviewer) noteTimes(ctx context.Context, t *target) error {
	mac, known := i.holder(ctx, t)
	i.noteOf(ctx, t, mac, known, t.times())
	return ctx.Err()
}

// spoke reports whether anything was said at an address whose MAC answers for many.
func (i *interviewer) spoke(ctx context.Context, t *target) bool {
	mac, known := i.holder(ctx, t)
	if !known || mac.IsZero() {
		return true
	}
	if _, count := i.roster.answersFor(mac, 0); count < manyAddresses {
		return true
	}
	t.pulse.mu.Lock()
	defer t.pulse.mu.Unlock()
	return t.pulse.spoke
}

func (i *interviewer) settleOne(t *target) {
	if t.left > 0 {
		t.left--
		i.meter.settle(asking, 1)
	}
}

// noteOf notes what was learned for the device that held the address before and after.
func (i *interviewer) noteOf(ctx context.Context, t *target, before hwaddr.MAC, known bool, items []evidence.Item) {
	if len(items) == 0 {
		return
	}
	if after, still := i.holder(ctx, t); still && (!known || after == before) {
		i.roster.note(evidence.Sighting{Addr: t.addr, MAC: after, Answered: true, Items: items})
	}
}

// holder tells whose answer an answer from the address is. Where two devices hold one address, that is the one in the
// system's table; an answer counts only if the table said the same after it as before it, or nothing before it.
func (i *interviewer) holder(ctx context.Context, t *target) (mac hwaddr.MAC, known bool) {
	if !t.mac.IsZero() {
		return t.mac, true
	}
	holders := i.roster.answering(t.addr)
	if len(holders) == 1 {
		return holders[0], true
	}
	neighbours, err := i.wire.Neighbours(ctx)
	if err != nil {
		return hwaddr.MAC{}, false
	}
	for _, n := range neighbours {
		if n.Addr == t.addr && slices.Contains(holders, n.MAC) {
			return n.MAC, true
		}
	}
	return hwaddr.MAC{}, false
}

// manyAddresses is from how many IPv4 addresses on a MAC is taken to answer for others.
const manyAddresses = 5

// mayBeAsked tells which devices a sweep asks: those it was to look through. Where a MAC answers for many addresses, those with
// nobody behind them are left out, so that a router answering ARP for a whole range does not cost a thousand time-outs.
func (i *interviewer) mayBeAsked(a netip.Addr) bool {
	holders := i.roster.answering(a)
	if i.isSelf(a) || len(holders) == 0 {
		return false // others spoke in its name, or it has gone
	}
	if !i.order.Ranges.Contains(a) {
		return slices.ContainsFunc(holders, func(mac hwaddr.MAC) bool { return i.asksBySix(a, mac) })
	}
	if len(holders) != 1 || holders[0].IsZero() {
		return true
	}
	if _, count := i.roster.answersFor(holders[0], 0); count < manyAddresses {
		return true
	}
	return i.roster.hasSpoken(a)
}

// lookAfter finds out whether a device that has been asked is still there. One that has answered before and does not any more is
// warned of, with the question that was put last.
func (i *interviewer) lookAfter(ctx context.Context, t *target) error {
	if t.pulse.isGone() {
		return nil
	}
	t.mu.Lock()
	last := t.lastWord
	t.mu.Unlock()
	alive, err := i.alive.look(ctx, t)
	if err != nil || alive || last == "" {
		return err
	}
	i.stopped.addLost(t.addr, last)
	if mac, known := i.holder(ctx, t); known {
		i.roster.note(evidence.Sighting{Addr: t.addr, MAC: mac, Answered: true, Items: []evidence.Item{sweepItem(evidence.KeyLost, last)}})
	}
	return nil
}
