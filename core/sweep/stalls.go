package sweep

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"sync"
	"sync/atomic"
	"time"
)

const (
	// beat is how often it is looked whether this machine keeps up.
	beat = 10 * time.Millisecond
	// usualLate is how late a timer may be for other reasons.
	usualLate = 3 * time.Millisecond
	// maxGrace is the longest by which one wait is drawn out.
	maxGrace = 10 * time.Second
)

// stalls measure for how long this machine kept the sweep from running: it had too much else to do, or stood still, as a virtual machine
// or a closed laptop does. Answers that came in such a time lie unread, and some are made only after it, so it is no time in which a device
// kept silent.
type stalls struct {
	total atomic.Int64 // nanoseconds
}

// watch measures until ctx ends.
func (s *stalls) watch(ctx context.Context) {
	timer := time.NewTimer(beat)
	defer timer.Stop()
	for began := time.Now(); ; began = time.Now() {
		timer.Reset(beat)
		select {
		case <-ctx.Done():
			return
		case <-timer.C:
		}
		if late := time.Since(began) - beat; late > usualLate {
			s.total.Add(int64(late))
		}
	}
}

// grace is what one wait is drawn out by.
type grace struct {
	stalls *stalls
	seen   int64 // of the stalls' total, when the wait began or was drawn out last
	given  time.Duration
}

func (s *stalls) begin() grace { return grace{stalls: s, seen: s.total.Load()} }

// owed gives by how much a wait that is over is drawn out: by what the machine stood still since it began. 0 ends it.
func (g *grace) owed() time.Duration {
	total := g.stalls.total.Load()
	owed := min(time.Duration(total-g.seen), maxGrace-g.given)
	g.seen = total
	if owed < usualLate {
		return 0
	}
	g.given += owed
	return owed
}

// wait waits for answers: d, and for as long again as this machine stood still meanwhile.
func (s *stalls) wait(ctx context.Context, d time.Duration) error {
	g := s.begin()
	for ; d > 0; d = g.owed() {
		if err := pause(ctx, d); err != nil {
			return err
		}
	}
	return ctx.Err()
}

// dial connects and gives up as wait does, with an error that tells of a deadline.
func (s *stalls) dial(ctx context.Context, wait time.Duration, dial func(context.Context) (net.Conn, error)) (net.Conn, error) {
	waiting, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	defer s.after(wait, func() { cancel(os.ErrDeadlineExceeded) })()
	conn, err := dial(waiting)
	if err != nil && errors.Is(context.Cause(waiting), os.ErrDeadlineExceeded) {
		err = fmt.Errorf("%w: %w", err, os.ErrDeadlineExceeded)
	}
	return conn, err
}

// after calls f when a wait is over; stop keeps it from that.
func (s *stalls) after(d time.Duration, f func()) (stop func()) {
	g := s.begin()
	var timer *time.Timer
	ready := make(chan struct{})
	timer = time.AfterFunc(d, func() {
		<-ready
		if more := g.owed(); more > 0 {
			timer.Reset(more)
			return
		}
		f()
	})
	close(ready)
	return func() { timer.Stop() }
}

// drawnOut draws the deadlines of a connection out by what this machine stood still while it was read.
type drawnOut struct {
	stalls *stalls

	mu    sync.Mutex // guards grace
	grace grace
}

// until takes in that a deadline was set: one to come is drawn out, one that has passed ends what reads.
func (r *drawnOut) until(t time.Time) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.grace = grace{}
	if time.Until(t) > 0 {
		r.grace = r.stalls.begin()
	}
}

// goesOn reports whether what was read for up to a deadline is to be read on, and sets the deadline for it.
func (r *drawnOut) goesOn(err error, set func(time.Time) error) bool {
	if !isTimeout(err) {
		return false
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.grace.stalls == nil {
		return false
	}
	owed := r.grace.owed()
	return owed > 0 && set(time.Now().Add(owed)) == nil
}
