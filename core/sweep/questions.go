package sweep

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"golang.org/x/sync/errgroup"

	"airdrift/core/evidence"
	"airdrift/core/probe"
)

// askWhoItIs asks an address that a device which has been asked already calls its own for no more than its identifier.
func (i *interviewer) askWhoItIs(ctx context.Context, t *target) error {
	if !i.known.expects(t.addr) {
		return nil
	}
	for _, p := range i.questions(t) {
		if slices.ContainsFunc(p.Facts, func(f evidence.Fact) bool { return f.Use == evidence.Identifier }) {
			if err := i.askQuestion(ctx, t, p); err != nil || i.sameAs(ctx, t) {
				return err
			}
		}
	}
	return nil
}

// sameAs reports whether the device has been asked already, at another address, and notes that.
func (i *interviewer) sameAs(ctx context.Context, t *target) bool {
	mac, known := i.holder(ctx, t)
	if !known {
		return false
	}
	for _, it := range i.roster.get(t.addr, mac).Items {
		if it.Key == evidence.KeySame {
			return true
		}
		if first, same := i.known.sameAs(t.addr, it.Key, it.Value); same {
			i.roster.note(evidence.Sighting{Addr: t.addr, MAC: mac, Answered: true, Items: []evidence.Item{sweepItem(evidence.KeySame, first.String())}})
			return true
		}
	}
	return false
}

// askQuestions puts the questions that every device is asked, a few at a time, and finds out whether its ports prove anything.
func (i *interviewer) askQuestions(ctx context.Context, t *target) error {
	g, groupCtx := errgroup.WithContext(ctx)
	g.SetLimit(t.pace.PerDevice)
	g.Go(func() error { return i.tryUnlikelyPorts(groupCtx, t) })
	for _, p := range i.questions(t) {
		if _, done := t.answered(p); !done {
			g.Go(func() error { return i.askQuestion(groupCtx, t, p) })
		}
		i.settleOne(t)
	}
	err := errors.Join(g.Wait(), ctx.Err())
	if mac, known := i.holder(ctx, t); err == nil && known {
		i.known.learn(t.addr, i.roster.get(t.addr, mac).Items)
	}
	return err
}

// leastWait is the least wait for the first answer to a question. Those that have none to give refuse at once
// as a rule, and services that look things up answer later than a port that is open.
const leastWait = 500 * time.Millisecond

// askQuestion puts the question of one protocol, and once more where nothing could be heard meanwhile.
func (i *interviewer) askQuestion(ctx context.Context, t *target, p *probe.Protocol) error {
	if p.ByOthers && len(i.servers) == 0 {
		return nil
	}
	for {
		before, known := i.holder(ctx, t)
		leave, err := i.care.enter(ctx, i.careOf(t, p), t.pace.Pace)
		if err != nil {
			return err
		}
		t.asks(fmt.Sprintf("%s at %s", p.Name, p.Port))
		began := time.Now()
		items, answered := p.Ask(ctx, i.query(t, p))
		leave()
		switch {
		case ctx.Err() != nil:
			return ctx.Err()
		case answered:
			t.mu.Lock()
			t.answers[p] = items
			t.mu.Unlock()
			if p.ByOthers {
				i.noteForAll(t, items)
				return nil
			}
			t.pulse.beat(0)
			i.noteOf(ctx, t, before, known, items)
			return nil
		case !i.attached.deafSince(began):
			return nil
		}
		if err := i.gate.wait(ctx); err != nil {
			return err
		}
	}
}

// careOf gives the device that a question burdens: the first of the name servers, where others are asked.
func (i *interviewer) careOf(t *target, p *probe.Protocol) deviceID {
	if p.ByOthers {
		return deviceID{addr: i.servers[0].Addr(), mac: t.mac}
	}
	return i.deviceOf(t.addr)
}

func (i *interviewer) query(t *target, p *probe.Protocol) probe.Query {
	wait := i.timers.wait(t.addr)
	if p.ByOthers {
		wait = i.timers.wait(i.servers[0].Addr())
	}
	return probe.Query{
		Dialer: dialer{i.engine, t.clock(p)}, Addr: t.at, Wait: max(wait, leastWait), Servers: i.servers,
		Credentials: i.order.Credentials, Preferred: i.order.Preferred[t.addr],
		Off:     func(part string) bool { return slices.Contains(i.order.Off, p.Name+"."+part) },
		Unit:    func(unit string, items []evidence.Item) { i.noteUnit(t, unit, items) },
		Known:   func(ctx context.Context) []evidence.Item { return i.knownOf(ctx, t) },
		IsKnown: func(key, value string) bool { _, same := i.known.sameAs(t.addr, key, value); return same },
	}
}

// knownOf gives what is known of a device so far.
func (i *interviewer) knownOf(ctx context.Context, t *target) []evidence.Item {
	mac, known := i.holder(ctx, t)
	if !known {
		return nil
	}
	return i.roster.get(t.addr, mac).Items
}

// noteUnit notes a device behind the one that is asked.
func (i *interviewer) noteUnit(t *target, unit string, items []evidence.Item) {
	unit = evidence.Clean([]byte(unit))
	if unit == "" || len(unit) > evidence.MaxUnit {
		return
	}
	now := time.Now().UTC()
	s := evidence.Sighting{Addr: t.addr, MAC: t.mac, Unit: unit, Answered: true, Whole: true, FirstAt: now, LearnedFrom: t.addr.String(), Items: items}
	if s, kept := i.roster.noteUnit(s); kept {
		i.tell(Sighted{Sighting: s, Whole: true})
	}
}

// noteForAll notes what others have told of an address, for each that holds it.
func (i *interviewer) noteForAll(t *target, items []evidence.Item) {
	for _, mac := range i.roster.holders(t.addr) {
		i.roster.note(evidence.Sighting{Addr: t.addr, MAC: mac, Answered: i.roster.answeredAs(t.addr, mac), Items: items})
	}
}

// askPages reads the pages that a device has named in its answers, by the question that each answer is to: when it was asked
// itself, or else when all of the segment was.
func (i *interviewer) askPages(ctx context.Context, t *target) error {
	for _, p := range i.questions(t) {
		if p.Points == nil {
			continue
		}
		told, _ := t.answered(p)
		if evidence.First(told, p.Pointer) == "" {
			told = i.repeated.of(t.addr)
		}
		if evidence.First(told, p.Pointer) == "" {
			continue
		}
		leave, err := i.care.enter(ctx, i.deviceOf(t.addr), t.pace.Pace)
		if err != nil {
			return err
		}
		t.asks("the pages that " + p.Name + " named")
		if mac, known := i.holder(ctx, t); known {
			i.noteOf(ctx, t, mac, true, p.Points(ctx, dialer{i.engine, t.clock(p)}, t.at, told))
		}
		leave()
	}
	return ctx.Err()
}
