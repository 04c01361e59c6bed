package sweep

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"airdrift/core/wire"
)

// attachment is what the sweep stands on: a link that may go down, come back, and change its addresses.
type attachment struct {
	wire wire.Wire

	mu    sync.Mutex // guards all below
	now   wire.Link
	epoch int           // how often it has changed
	deaf  []span        // when nothing could be heard
	moved chan struct{} // closed at the next change
}

// span is a stretch of time; one that still goes on has no end.
type span struct{ from, until time.Time }

func newAttachment(w wire.Wire) *attachment {
	return &attachment{wire: w, now: w.Link(), moved: make(chan struct{})}
}

// link gives what the sweep stands on. Asking the system for it costs calls, so it is what was last looked at.
func (a *attachment) link() wire.Link {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.now
}

// isSelf reports whether an address is one of this machine's.
func (a *attachment) isSelf(addr netip.Addr) bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	return slices.ContainsFunc(a.now.Prefixes, func(p netip.Prefix) bool { return p.Addr() == addr }) || slices.Contains(a.now.Others, addr)
}

// state gives how often the link has changed, and what is closed when it does so again.
func (a *attachment) state() (epoch int, moved <-chan struct{}) {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.epoch, a.moved
}

// deafSince reports whether nothing could be heard for some of the time since then.
func (a *attachment) deafSince(since time.Time) bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	return slices.ContainsFunc(a.deaf, func(d span) bool { return d.until.IsZero() || d.until.After(since) })
}

// unnoticed is how long a link may have been down before that is noticed.
const unnoticed = 2 * time.Second

// lose notes that nothing can be heard from now on, and gives since when that may have been so.
func (a *attachment) lose(now time.Time) (since time.Time) {
	a.mu.Lock()
	defer a.mu.Unlock()
	since = now.Add(-unnoticed)
	a.deaf = append(a.deaf, span{from: since})
	return since
}

// regain notes what the sweep stands on now.
func (a *attachment) regain(link wire.Link, now time.Time) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.now = link
	a.deaf[len(a.deaf)-1].until = now
	a.epoch++
	close(a.moved)
	a.moved = make(chan struct{})
}

// hasLost reports whether a link lacks something that the sweep stood on. What it has more is no loss.
func hasLost(before, now wire.Link) bool {
	lacks := func(p netip.Prefix) bool { return !slices.Contains(now.Prefixes, p) }
	return now.Down || before.MAC != now.MAC || slices.ContainsFunc(before.Prefixes, lacks) || before.Gateway != now.Gateway || before.Gateway6 != now.Gateway6
}

// update notes what the link has more than before.
func (a *attachment) update(link wire.Link) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.now = link
}

// bears reports whether a sweep that stood on a link can stand on what has become of it: it is up, and has an address of the family that
// the sweep speaks from. One of the segment alone comes back first, and is not enough where there was another.
func bears(before, now wire.Link) bool {
	if now.Down || len(now.Prefixes) == 0 {
		return false
	}
	for _, is := range []func(netip.Addr) bool{netip.Addr.Is4, func(a netip.Addr) bool { return !a.IsLinkLocalUnicast() }} {
		has := func(p netip.Prefix) bool { return is(p.Addr()) }
		if slices.ContainsFunc(before.Prefixes, has) {
			return slices.ContainsFunc(now.Prefixes, has)
		}
	}
	return true
}

const (
	// lookEvery is how often the link is looked at where the system does not tell of changes by itself.
	lookEvery = time.Second
	// goneFor is how long a link may be away before the sweep ends.
	goneFor = 10 * time.Minute
)

// goneError says that the link has gone away for good.
type goneError struct{ link string }

func (e *goneError) Error() string {
	return fmt.Sprintf("%s has been away for %s: the sweep ends, and can go on from where it was. Look at the cable and the interface's addresses", e.link, goneFor)
}

// keepAttached looks after the link until ctx ends. While it is away nothing is sent; when it is back, or has other addresses, the
// ears are opened anew, and what was called meanwhile is called again.
func (e *engine) keepAttached(ctx context.Context, hears *hearer, fail context.CancelCauseFunc) {
	var changes <-chan struct{}
	if w, ok := e.attached.wire.(wire.Watcher); ok {
		changes = w.Changes(ctx)
	}
	ticker := time.NewTicker(lookEvery)
	defer ticker.Stop()
	for last := time.Now(); ; {
		select {
		case <-ctx.Done():
			return
		case <-changes:
		case <-ticker.C:
		}
		now := time.Now()
		slept := hasSlept(now.Round(0).Sub(last.Round(0)), now.Sub(last))
		last = now
		link := e.attached.wire.Link()
		if !hasLost(e.attached.link(), link) && !slept {
			e.attached.update(link)
			continue
		}
		if err := e.reattach(ctx, hears, link); err != nil {
			fail(err)
			return
		}
	}
}

// leastSleep is from how long on a machine is said to have slept; clocks are set by less.
const leastSleep = 5 * time.Second

// hasSlept reports whether the machine has slept: then the clock of the day has gone on, and its own has not.
func hasSlept(byDay, byOwn time.Duration) bool { return byDay-byOwn > leastSleep }

// reattach waits until the link can be used, and goes on with it.
func (e *engine) reattach(ctx context.Context, hears *hearer, link wire.Link) error {
	before := e.attached.link()
	e.gate.close()
	defer e.gate.reopen()
	since := e.attached.lose(time.Now())
	back := "is not as it was, or this machine has slept"
	if !bears(before, link) {
		back = "is back"
		e.warn("%s %s: the sweep waits for it and sends nothing.", link.Name, away(link))
	}
	for lost := time.Now(); !bears(before, link); link = e.attached.wire.Link() {
		if time.Since(lost) > goneFor {
			return &goneError{link.Name}
		}
		if pause(ctx, lookEvery) != nil {
			return nil
		}
	}
	if err := hears.reopen(ctx); err != nil && ctx.Err() == nil {
		e.warn("The segment can no longer be heard: %v.", err)
	}
	e.resume.rewind(since)
	e.attached.regain(link, time.Now())
	e.warn("%s %s%s: the sweep goes on, and what was called meanwhile is called again.", link.Name, back, changed(before, link))
	return nil
}

func away(link wire.Link) string {
	if link.Down {
		return "is down"
	}
	return "has no address any more"
}

// changed says in words which addresses took the place of which.
func changed(before, now wire.Link) string {
	if slices.Equal(before.Prefixes, now.Prefixes) {
		return ""
	}
	list := func(prefixes []netip.Prefix) string {
		texts := make([]string, len(prefixes))
		for i, p := range prefixes {
			texts[i] = p.String()
		}
		return strings.Join(texts, ", ")
	}
	return fmt.Sprintf(", at %s instead of %s", list(now.Prefixes), list(before.Prefixes))
}

// keepQuiet shuts the gate in the hours in which nothing may be sent, from now on and until the function it gives is called.
func (e *engine) keepQuiet(ctx context.Context) (end func()) {
	if len(e.order.Quiet) == 0 {
		return func() {}
	}
	shut := e.hush()
	return e.inBackground(ctx, func(ctx context.Context) {
		for ctx.Err() == nil {
			if shut == 0 {
				_ = pause(ctx, lookEvery) // the loop ends with ctx
			} else {
				_ = pause(ctx, shut)
				e.gate.reopen()
			}
			shut = e.hush()
		}
		if shut > 0 {
			e.gate.reopen()
		}
	})
}

// hush shuts the gate where the hours are quiet, and gives for how long.
func (e *engine) hush() time.Duration {
	left := quietFor(e.order.Quiet, time.Now())
	if left > 0 {
		e.gate.close()
		e.warn("The hours are quiet until %s: the sweep waits and sends nothing.", time.Now().Add(left).Format("15:04 MST"))
	}
	return left
}
