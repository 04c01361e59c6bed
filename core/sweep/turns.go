package sweep

import (
	"container/list"
	"context"
	"sync"
	"time"
)

// turns let questions leave at a rate, one class of them after the other where several wait, so that calling and asking share it
// evenly. One that gives up waiting takes nothing from the others.
type turns struct {
	mu      sync.Mutex // guards all below
	rate    float64    // a second
	burst   float64
	tokens  float64
	at      time.Time // when tokens was reckoned
	waiting [classes]list.List
	next    int // class that is served next
	timer   *time.Timer
}

// class is a kind of question that waits for its turn.
type class int

// The classes there are.
const (
	calling class = iota // what is there?
	asking               // what does it say?
	classes = 2
)

func newTurns(rate float64) *turns {
	burst := max(1, rate/50)
	return &turns{rate: rate, burst: burst, tokens: burst, at: time.Now()}
}

// take waits for a turn. The error is that of ctx.
func (t *turns) take(ctx context.Context, c class) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	t.mu.Lock()
	t.refillLocked()
	if t.tokens >= 1 && t.waitingLocked() == 0 {
		t.tokens--
		t.mu.Unlock()
		return nil
	}
	ready := make(chan struct{})
	place := t.waiting[c].PushBack(ready)
	t.wakeLocked()
	t.mu.Unlock()
	select {
	case <-ready:
		return nil
	case <-ctx.Done():
		t.leave(c, place, ready)
		return ctx.Err()
	}
}

// leave takes one out of the queue; where its turn came in the same moment it goes to the next.
func (t *turns) leave(c class, place *list.Element, ready chan struct{}) {
	t.mu.Lock()
	defer t.mu.Unlock()
	select {
	case <-ready:
		t.tokens++
		t.serveLocked()
	default:
		t.waiting[c].Remove(place)
	}
}

// setRate changes the rate from now on.
func (t *turns) setRate(rate float64) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.refillLocked()
	t.rate, t.burst = rate, max(1, rate/50)
	t.wakeLocked()
}

func (t *turns) waitingLocked() int {
	n := 0
	for c := range t.waiting {
		n += t.waiting[c].Len()
	}
	return n
}

func (t *turns) refillLocked() {
	now := time.Now()
	t.tokens = min(t.burst, t.tokens+now.Sub(t.at).Seconds()*t.rate)
	t.at = now
}

// serveLocked hands out what turns there are, and has itself called again where somebody still waits.
func (t *turns) serveLocked() {
	t.refillLocked()
	for t.tokens >= 1 {
		ready := t.popLocked()
		if ready == nil {
			return
		}
		t.tokens--
		close(ready)
	}
	t.wakeLocked()
}

func (t *turns) popLocked() chan struct{} {
	for range classes {
		queue := &t.waiting[t.next]
		t.next = (t.next + 1) % classes
		if front := queue.Front(); front != nil {
			return queue.Remove(front).(chan struct{})
		}
	}
	return nil
}

// wakeLocked sets the time at which the next turn is due.
func (t *turns) wakeLocked() {
	if t.waitingLocked() == 0 {
		return
	}
	due := max(time.Microsecond, time.Duration((1-t.tokens)/t.rate*float64(time.Second))) // rounding may have left a trifle
	if t.timer == nil {
		t.timer = time.AfterFunc(due, func() {
			t.mu.Lock()
			defer t.mu.Unlock()
			t.serveLocked()
		})
		return
	}
	t.timer.Reset(due)
}
