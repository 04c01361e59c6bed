package sweep

import (
	"context"
	"slices"
	"sync"
)

// places bound how much is in flight to one network or device. Whoever enters brings the width of its own pace.
type places struct {
	narrowest bool // the narrowest width that was ever brought counts for all, where one must never be burdened with more

	mu      sync.Mutex // guards below
	taken   int
	least   int // the narrowest width so far; 0 before there was one
	waiting []*waiter
}

// waiter waits for a place; its channel is closed once it has one.
type waiter struct {
	width    int
	admitted chan struct{}
}

// enter waits for a place among so many; leave gives it back.
func (p *places) enter(ctx context.Context, width int) (leave func(), err error) {
	w := &waiter{width, make(chan struct{})}
	p.mu.Lock()
	if p.least == 0 || width < p.least {
		p.least = width
	}
	p.waiting = append(p.waiting, w)
	p.admitLocked()
	p.mu.Unlock()
	select {
	case <-w.admitted:
		return p.leave, nil
	case <-ctx.Done():
		p.giveUp(w)
		return nil, ctx.Err()
	}
}

func (p *places) leave() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.taken--
	p.admitLocked()
}

// giveUp takes back a wait; where it has just ended the place goes to the next.
func (p *places) giveUp(w *waiter) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if at := slices.Index(p.waiting, w); at >= 0 {
		p.waiting = slices.Delete(p.waiting, at, at+1)
		return
	}
	p.taken--
	p.admitLocked()
}

// admitLocked gives places to those that wait, in the order in which they came; who has to be more careful lets others pass.
func (p *places) admitLocked() {
	p.waiting = slices.DeleteFunc(p.waiting, func(w *waiter) bool {
		width := w.width
		if p.narrowest {
			width = p.least
		}
		if p.taken >= width {
			return false
		}
		p.taken++
		close(w.admitted)
		return true
	})
}
