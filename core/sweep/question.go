package sweep

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"airdrift/core/evidence"
	"airdrift/core/probe"
)

// askByDatagram puts the questions that go by datagram to a device, those of its SNMP agent last, which are many.
func (r *run) askByDatagram(ctx context.Context, t *target) error {
	g, groupCtx := errgroup.WithContext(ctx)
	g.SetLimit(r.order.Pace.PerDevice)
	for _, q := range probe.Questions {
		if q.Told != "" && r.told(t.addr, q.Told) {
			r.settleOne(t)
			continue
		}
		g.Go(func() error {
			return r.askQuestion(groupCtx, t, func(ctx context.Context, wait time.Duration) ([]evidence.Item, bool) {
				items, answered := q.Ask(ctx, pacedDialer{r}, t.addr, wait)
				if answered && q.Port == sipPort {
					t.sip.Store(true)
				}
				return items, answered
			})
		})
		r.settleOne(t)
	}
	g.Go(func() error {
		return r.askQuestion(groupCtx, t, func(ctx context.Context, wait time.Duration) ([]evidence.Item, bool) {
			return probe.SNMP(ctx, pacedDialer{r}, t.addr, wait, r.order.Credentials, r.order.Preferred[t.addr])
		})
	})
	r.settleOne(t)
	if err := errors.Join(g.Wait(), ctx.Err()); err != nil {
		return err
	}
	return r.askDescriptions(ctx, t)
}

// datagramWait is the least wait for the first answer to a question by datagram. Those who have none to give refuse at once
// as a rule, and services that look things up answer later than a port that is open.
const datagramWait = 500 * time.Millisecond

// askQuestion puts one question within the network's cap, unless the segment's own answers have told it already.
func (r *run) askQuestion(ctx context.Context, t *target, ask func(ctx context.Context, wait time.Duration) ([]evidence.Item, bool)) error {
	before, known := r.holder(ctx, t.addr)
	leave, err := r.lanes.enter(ctx, r.timers.networkOf(t.addr))
	if err != nil {
		return err
	}
	items, answered := ask(ctx, max(r.timers.wait(t.addr), datagramWait))
	leave()
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if answered {
		t.pulse.beat(0)
		r.noteOf(ctx, t, before, known, items)
	}
	return nil
}

// told reports whether anybody at an address has told a fact of that key.
func (r *run) told(a netip.Addr, key string) bool {
	for _, mac := range r.roster.holders(a) {
		if _, told := r.roster.has(a, mac, key); told {
			return true
		}
	}
	return false
}

// askDescriptions reads the descriptions that a device has pointed to.
func (r *run) askDescriptions(ctx context.Context, t *target) error {
	for _, d := range []struct {
		pointer string
		read    func(ctx context.Context, d probe.Dialer, addr netip.Addr, items []evidence.Item) []evidence.Item
	}{{evidence.KeyUPnPLocation, probe.Descriptions}, {evidence.KeyWSDAddress, probe.Metadata}} {
		mac, known := r.holder(ctx, t.addr)
		if known && r.told(t.addr, d.pointer) {
			r.noteOf(ctx, t, mac, true, d.read(ctx, pacedDialer{r}, t.addr, r.roster.get(t.addr, mac).Items))
		}
	}
	return ctx.Err()
}

// askPrinter asks at the raw printing port of a printer that has said it understands such questions; at the gentlest pace
// nobody is asked.
func (r *run) askPrinter(ctx context.Context, t *target) error {
	const printing = 9100
	if !r.thorough() || t.every.Load() || t.pulse.isGone() || !slices.Contains(r.order.Ports, printing) {
		return nil
	}
	mac, known := r.holder(ctx, t.addr)
	if !known {
		return nil
	}
	items := r.roster.get(t.addr, mac).Items
	open := slices.ContainsFunc(items, func(it evidence.Item) bool {
		return it.Key == evidence.KeyTCPOpen && it.Port == evidence.TCP(printing)
	})
	if !open || !probe.PrintsByPJL(items) {
		return nil
	}
	conn, _, _, err := r.connect(ctx, netip.AddrPortFrom(t.addr, printing), r.timers.wait(t.addr))
	if err != nil || conn == nil {
		return err
	}
	r.noteOf(ctx, t, mac, true, probe.AskPJL(ctx, conn, netip.AddrPortFrom(t.addr, printing)))
	return nil
}

// manySilences is how many questions in a row may go unanswered before it is found out whether the device still answers
// at all.
const manySilences = 12

// pulse keeps whether a device still answers while it is asked.
type pulse struct {
	mu       sync.Mutex // guards all below
	good     uint16     // a TCP port at which it has answered; 0 where there is none
	silences int        // questions in a row without an answer
	checking bool
	gone     bool
}

// beat takes in an answer: at a TCP port, or 0 for another kind.
func (p *pulse) beat(port uint16) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.silences = 0
	if port != 0 {
		p.good = port
	}
}

// miss takes in a silence, and reports whether it is time to find out.
func (p *pulse) miss() (port uint16, check bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.silences++
	if p.silences < manySilences || p.good == 0 || p.checking || p.gone {
		return 0, false
	}
	p.checking = true
	return p.good, true
}

func (p *pulse) checked(gone bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.checking, p.gone, p.silences = false, gone, 0
}

func (p *pulse) isGone() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.gone
}

// missed takes in that a port kept silent. A device that keeps silent for long is tried once more where it has answered
// before; one that does not any more is left alone.
func (r *run) missed(ctx context.Context, t *target) error {
	port, check := t.pulse.miss()
	if !check {
		return nil
	}
	wait := max(r.timers.wait(t.addr), firstTimeout)
	for range portTries {
		outcome, _, err := r.touch(ctx, netip.AddrPortFrom(t.addr, port), wait)
		if err != nil {
			return err
		}
		if outcome == probe.Open || outcome == probe.Refused {
			t.pulse.checked(false)
			return nil
		}
		wait = patience
	}
	t.pulse.checked(true)
	r.stopped.add(t.addr)
	mac, known := r.holder(ctx, t.addr)
	r.noteOf(ctx, t, mac, known, []evidence.Item{{Source: evidence.SourceTCP, Key: evidence.KeyTCPStopped, Value: "yes", At: time.Now().UTC()}})
	return nil
}

// stoppers are the addresses that stopped answering while being asked.
type stoppers struct {
	mu    sync.Mutex // guards addrs
	addrs []netip.Addr
}

func (s *stoppers) add(a netip.Addr) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.addrs = append(s.addrs, a)
}

// maxNamed is how many addresses one warning names.
const maxNamed = 5

// tellStopped warns of those who stopped answering.
func (r *run) tellStopped() {
	r.stopped.mu.Lock()
	defer r.stopped.mu.Unlock()
	count := len(r.stopped.addrs)
	if count == 0 {
		return
	}
	slices.SortFunc(r.stopped.addrs, netip.Addr.Compare)
	var names []string
	for _, a := range r.stopped.addrs[:min(count, maxNamed)] {
		names = append(names, a.String())
	}
	text := strings.Join(names, ", ")
	if count > maxNamed {
		text += fmt.Sprintf(" and %d others", count-maxNamed)
	}
	r.warn("Stopped answering while being asked, and left alone from then on: %s. What they had said is kept; try a gentler pace.", text)
}
