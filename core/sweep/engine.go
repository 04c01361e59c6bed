package sweep

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
	"airdrift/core/netrange"
	"airdrift/core/probe"
	"airdrift/core/wire"
)

// progressEvery is how often progress is told.
const progressEvery = 200 * time.Millisecond

// engine is what caller, interviewer and hearer of one sweep have in common.
type engine struct {
	wire     wire.Wire
	order    Order
	emit     func(Event) // calls are serialised by emitMu
	paces    []*pacing   // of the order's parts, and of all else as the last
	lanes    *lanes
	care     *care
	gate     gate
	roster   *roster
	timers   *timers
	resume   *resuming
	meter    meter
	frontier *frontier
	attached *attachment
	servers  []netip.AddrPort // name servers that may be asked
	spoken   probe.Set
	known    identities
	repeated repeated // what was told in answer to questions to all
	stopped  stoppers // those that stopped answering while being asked
	faults   faults   // of our own machine
	stalls   stalls   // likewise

	emitMu sync.Mutex
}

// pacing is a pace with the turns that hold the questions to it.
type pacing struct {
	Pace
	ranges netrange.Set // empty for the last, which has what is left
	pace   *throttle
	casts  *turns // of broadcasts
}

func newEngine(w wire.Wire, order Order, emit func(Event)) *engine {
	e := &engine{
		order: order,
		emit:  emit,
		lanes: newLanes(), care: newCare(),
		timers: newTimers(order.Fence, order.Waits),
		resume: newResuming(order.Resume),
	}
	allowed := probe.Allowance()
	if !wholeSegment(w.Link(), order) {
		allowed = wire.Allowance{}
	} else {
		allowed.Groups = append(allowed.Groups, probe.AllNodes)
		if !hasFamily(w.Link(), order, true) {
			allowed.Groups = slices.DeleteFunc(allowed.Groups, netip.Addr.Is4)
		}
	}
	e.wire = wire.Fence(w, wire.Limits{Networks: order.Fence, Excluded: order.Excluded, Never: order.Never, ToAll: allowed})
	for _, p := range append(slices.Clone(order.Paces), RangePace{Pace: order.Pace}) {
		e.paces = append(e.paces, e.newPacing(p))
	}
	e.spoken = probe.SetWithout(order.Off)
	e.attached = newAttachment(w)
	e.order.Ranges = withoutEnds(order.Ranges, slices.Concat(order.Fence, w.Link().Prefixes)...)
	e.roster = newRoster(e.order.Ranges)
	e.frontier = newFrontier(len(e.paces), e.paceOf)
	for _, s := range order.Known {
		if s.Unit != "" {
			e.roster.noteUnit(s)
		} else {
			e.roster.note(s)
		}
	}
	return e
}

func (e *engine) newPacing(p RangePace) *pacing {
	own := &pacing{Pace: p.Pace, ranges: p.Ranges}
	own.pace = newThrottle(p.Pace, func(share float64) {
		e.warn("Answers were getting lost at this pace and are not at a slower one: the sweep goes on at %.0f %% of it.", share*100)
	})
	if p.Pace.Broadcasts > 0 {
		own.casts = newTurns(p.Pace.Broadcasts)
	}
	return own
}

// paceAt gives the pace for an address.
func (e *engine) paceAt(a netip.Addr) *pacing { return e.paces[e.paceOf(a)] }

// paceOf gives which of the paces is the one for an address.
func (e *engine) paceOf(a netip.Addr) int {
	for i, p := range e.paces[:len(e.paces)-1] {
		if p.ranges.Contains(a) {
			return i
		}
	}
	return len(e.paces) - 1
}

// run has the caller, the interviewer and the hearer do their work.
func (e *engine) run(ctx context.Context) (err error) {
	e.findSelf()
	e.findServers()
	hears := newHearer(e)
	if err := hears.open(ctx); err != nil {
		return fmt.Errorf("local segment: %w", err)
	}
	defer func() { err = errors.Join(err, hears.close()) }()
	ctx, fail := context.WithCancelCause(ctx)
	defer fail(nil)
	defer e.inBackground(ctx, e.stalls.watch)()
	defer e.inBackground(ctx, e.retell)()
	defer e.inBackground(ctx, func(ctx context.Context) { e.keepAttached(ctx, hears, fail) })()
	defer e.keepQuiet(ctx)()
	asks := newInterviewer(e, hears)
	err = e.work(ctx, newCaller(e, hears), asks)
	if cause := context.Cause(ctx); err != nil && errors.As(cause, new(*goneError)) {
		err = cause
	}
	if err != nil {
		return err
	}
	hears.placeNeighbours()
	e.tellOverheard()
	return nil
}

// inBackground runs work until the function it gives is called, which waits for its end.
func (e *engine) inBackground(ctx context.Context, work func(context.Context)) (end func()) {
	ctx, cancel := context.WithCancel(context.WithoutCancel(ctx))
	var worker sync.WaitGroup
	worker.Go(func() { work(ctx) })
	return func() {
		cancel()
		worker.Wait()
	}
}

// maxProofs is how often, at most, those that were heard are called by name: those that were heard while others were asked, too.
const maxProofs = 3

// work calls the roll and asks what has answered, both at the same time. The first of the two that fails ends the other.
func (e *engine) work(ctx context.Context, calls *caller, asks *interviewer) error {
	defer e.tellExcess()
	defer asks.tellStopped()
	g, both := errgroup.WithContext(ctx)
	g.Go(func() error { return asks.run(both) })
	g.Go(func() error {
		defer e.frontier.close()
		if err := e.during(RollCall, func() error { return calls.run(both) }); err != nil {
			return fmt.Errorf("%s: %w", RollCall, err)
		}
		return e.during(Asking, func() error {
			for proof := range maxProofs {
				called, err := calls.prove(both)
				if err != nil || called == 0 && proof > 0 {
					return err
				}
				e.frontier.end(e.roster.allAnswered())
				if err := e.frontier.drained(both); err != nil {
					return err
				}
			}
			return nil
		})
	})
	if err := errors.Join(g.Wait(), ctx.Err()); err != nil || !e.order.Read {
		return err
	}
	return e.during(Reading, func() error { return reader{asks}.run(ctx) })
}

// during tells of a stage and of its progress until it ends.
func (e *engine) during(stage Stage, work func() error) error {
	e.meter.start(stage)
	e.tell(StageStarted{stage})
	done := make(chan struct{})
	var teller sync.WaitGroup
	teller.Go(func() {
		ticker := time.NewTicker(progressEvery)
		defer ticker.Stop()
		for {
			select {
			case <-ticker.C:
				e.tell(e.progress())
			case <-done:
				return
			}
		}
	})
	err := work()
	close(done)
	teller.Wait()
	e.tell(e.progress())
	return err
}

func (e *engine) progress() Progress {
	p := e.meter.progress(e.roster.count())
	p.Answered, _ = e.roster.addresses()
	p.At = e.resume.snapshot()
	return p
}

func (e *engine) tell(event Event) {
	e.emitMu.Lock()
	defer e.emitMu.Unlock()
	e.emit(event)
}

func (e *engine) warn(format string, args ...any) { e.tell(Warning{fmt.Sprintf(format, args...)}) }

// link gives what the attachment stands on.
func (e *engine) link() wire.Link { return e.attached.link() }

// findSelf marks the auditor's own machine, which is on the segment like any other and is not asked.
func (e *engine) findSelf() {
	link := e.link()
	name, err := os.Hostname()
	if err != nil {
		name = link.Name
	}
	now := time.Now().UTC()
	for _, p := range link.Prefixes {
		if !e.order.Ranges.Contains(p.Addr()) {
			continue
		}
		s := sighting(p.Addr(), link.MAC, evidence.Item{Source: evidence.SourceSelf, Key: evidence.KeySelf, Value: evidence.Clean([]byte(name)), At: now})
		e.roster.note(s)
		e.roster.finish(s.Addr)
		e.tell(Sighted{Sighting: s, Whole: true})
	}
}

// isSelf reports whether an address is one of this machine's, at this interface or another.
func (e *engine) isSelf(a netip.Addr) bool { return e.attached.isSelf(a) }

// findServers takes the name servers that lie within the fence, and says which do not.
func (e *engine) findServers() {
	for _, server := range e.order.NameServers {
		inside := slices.ContainsFunc(e.order.Fence, func(n netip.Prefix) bool { return n.Contains(server) })
		switch {
		case !inside:
			e.warn("The name server %s lies outside the fence and is not asked for names. Add its network to the site to mend this.", server)
		case e.order.Excluded.Contains(server):
			e.warn("The name server %s is among what is left out, so it is not asked for names.", server)
		default:
			e.servers = append(e.servers, netip.AddrPortFrom(server, probe.NamePort))
		}
	}
}

// noted puts a sighting in the roster and has its address asked. It is told of in time, so that hearing never waits for who listens.
func (e *engine) noted(s evidence.Sighting) {
	if e.isSelf(s.Addr) {
		return
	}
	e.roster.note(s)
	if !e.roster.settled(s.Addr) {
		e.frontier.add(s.Addr, e.mayWait(s))
	}
}

// mayWait reports whether an address had better be asked once the roll has been called: its MAC answers for another address too, and
// how many that will be is not known before.
func (e *engine) mayWait(s evidence.Sighting) bool {
	if s.MAC.IsZero() {
		return false
	}
	_, count := e.roster.answersFor(s.MAC, 0)
	return count > 1 || s.Addr.Is6()
}

// overheard takes in a device that nobody asked. That it is there is not believed before it answers.
func (e *engine) overheard(s evidence.Sighting) {
	if e.isSelf(s.Addr) {
		return
	}
	s.Answered = false
	if !e.order.Ranges.Contains(s.Addr) {
		s.LearnedFrom = heardOnSegment
		if s.Addr.Is4() {
			s.Items = append(s.Items, evidence.Item{Source: evidence.SourceARP, Key: evidence.KeyHeard, Value: s.Addr.String(), At: s.FirstAt})
		}
	}
	e.roster.hear(s, s.FirstAt)
}

// heardOnSegment is what told of an address that nobody looked for.
const heardOnSegment = "heard on the segment"

// place takes in a device that told of itself: more of one that is known, or another.
func (e *engine) place(s evidence.Sighting) {
	if !e.roster.grow(s.Addr, s.MAC, s.Items) {
		e.overheard(s)
	}
}

// tellEvery is how soon it is told of what turned up, and retellEvery how often at most that more was heard of what had been asked.
const tellEvery, retellEvery = 50 * time.Millisecond, time.Second

// retell tells of those that turned up, and now and then of those of which more was heard, until ctx ends, and then once more.
func (e *engine) retell(ctx context.Context) {
	ticker := time.NewTicker(tellEvery)
	defer ticker.Stop()
	last := time.Now()
	for over := false; !over; {
		select {
		case <-ticker.C:
		case <-ctx.Done():
			over = true
		}
		who := e.roster.takeFresh()
		if over || time.Since(last) >= retellEvery {
			who, last = append(who, e.roster.takeChanged()...), time.Now()
		}
		for _, key := range who {
			e.tell(Sighted{Sighting: e.roster.get(key.addr, key.mac), Whole: e.roster.isFinished(key.addr)})
		}
	}
}

// tellOverheard tells of those of which nothing more will come and that were not asked.
func (e *engine) tellOverheard() {
	var outside []string
	for _, a := range e.roster.all() {
		if !e.roster.settled(a) {
			e.finish(a, false, true)
			if a.IsValid() && !a.IsLinkLocalUnicast() && !slices.ContainsFunc(e.order.Fence, func(n netip.Prefix) bool { return n.Contains(a) }) {
				outside = append(outside, a.String())
			}
		}
	}
	if len(outside) > 0 {
		e.warn("Heard on the segment and outside the fence, so not asked: %s. Add their networks to the site to ask them.", someOf(outside))
	}
}

// tellExcess warns of those that said more than is kept, and of the one that floods the segment.
func (e *engine) tellExcess() {
	if cut := e.roster.cut(); len(cut) > 0 {
		names := make([]string, len(cut))
		for i, a := range cut {
			names[i] = a.String()
		}
		e.warn("More was said than is kept of %s: what came later is left out.", someOf(names))
	}
	for _, text := range []string{e.roster.flood(), e.roster.answerForTooMany()} {
		if text != "" {
			e.warn("%s", text)
		}
	}
}

// finish tells what became of an address: asked says that it was asked, over that nothing more will be.
func (e *engine) finish(a netip.Addr, asked, over bool) {
	if over {
		e.roster.finish(a)
	}
	for _, mac := range e.roster.holders(a) {
		if over && asked {
			e.roster.note(evidence.Sighting{Addr: a, MAC: mac, Whole: true})
		}
		e.tell(Sighted{Sighting: e.roster.get(a, mac), Whole: over})
	}
}

// widest is the length of the widest network whose ends are taken as they are written; a wider one is a bundle of others.
const widest = 24

// standsForMany reports whether an address may stand for a whole subnet that is not known: in the middle of a network wider
// than any subnet is likely to be, the first and the last of each 256 are left alone.
func (e *engine) standsForMany(a netip.Addr) bool {
	if _, onLink := e.link().OnLink(a); onLink || !a.Is4() || e.timers.networkOf(a).Bits() >= widest {
		return false
	}
	last := a.As4()[3]
	return last == 0 || last == 255
}

// wholeSegment reports whether the sweep may speak to everybody on the segment: it looks through all of it, and nobody there
// is left out.
func wholeSegment(link wire.Link, order Order) bool {
	if !link.Within(order.Fence) {
		return false
	}
	if !hasFamily(link, order, true) { // by IPv6 alone nobody is named, so nobody is left out
		return order.Excluded.Count() == 0
	}
	return order.Ranges.Covers(link.Prefixes)
}

// hasFamily reports whether the segment lies within the fence by its addresses of a family.
func hasFamily(link wire.Link, order Order, four bool) bool {
	return slices.ContainsFunc(link.Prefixes, func(p netip.Prefix) bool {
		return p.Addr().Is4() == four && slices.ContainsFunc(order.Fence, func(n netip.Prefix) bool { return n.Contains(p.Addr()) })
	})
}

// mayHear reports whether what is sent to an address of many stays with those of the fence's families. The segment's own addresses of
// IPv6 are part of it wherever it lies within the fence.
func (e *engine) mayHear(group netip.Addr) bool {
	return hasFamily(e.link(), e.order, group.Is4()) || group.Is6() && e.link().LinkLocal6().IsValid()
}

func (e *engine) wholeSegment() bool { return wholeSegment(e.link(), e.order) }

// deviceOf gives what is known to be the device at an address.
func (e *engine) deviceOf(a netip.Addr) deviceID {
	a = a.WithZone("")
	if holders := e.roster.answering(a); len(holders) == 1 && !holders[0].IsZero() {
		if _, count := e.roster.answersFor(holders[0], 0); count < manyAddresses {
			return deviceID{mac: holders[0]}
		}
	}
	return deviceID{addr: a}
}

// turn waits until the pace permits one more question to an address.
func (e *engine) turn(ctx context.Context, a netip.Addr, c class) error {
	for {
		if err := e.gate.wait(ctx); err != nil {
			return err
		}
		if err := e.paceAt(a).pace.turns.take(ctx, c); err != nil {
			return err
		}
		if e.gate.isOpen() { // else it was shut while this waited, and the turn is lost
			return nil
		}
	}
}

func pause(ctx context.Context, d time.Duration) error {
	if d <= 0 {
		return ctx.Err()
	}
	timer := time.NewTimer(d)
	defer timer.Stop()
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-timer.C:
		return nil
	}
}

func sighting(a netip.Addr, mac hwaddr.MAC, item evidence.Item) evidence.Sighting {
	return evidence.Sighting{Addr: a, MAC: mac, Answered: true, FirstAt: item.At, Items: []evidence.Item{item}}
}
