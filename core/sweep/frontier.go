package sweep

import (
	"context"
	"math/rand/v2"
	"net/netip"
	"sync"
)

// frontier holds what is to be asked. It takes addresses while the sweep runs, whatever finds them, each of them once.
type frontier struct {
	queue  func(netip.Addr) int // which of the queues an address stands in, as each pace has its own
	mu     sync.Mutex           // guards all below
	ready  [][]netip.Addr       // by the queue
	later  []netip.Addr         // once the roll has been called
	taken  map[netip.Addr]bool
	active int  // that are being asked
	called bool // the roll has been called
	closed bool
	change chan struct{} // closed at the next change
	random *rand.Rand
}

func newFrontier(queues int, queue func(netip.Addr) int) *frontier {
	return &frontier{queue: queue, ready: make([][]netip.Addr, queues), taken: map[netip.Addr]bool{}, change: make(chan struct{}), random: rand.New(rand.NewPCG(rand.Uint64(), rand.Uint64()))}
}

// add takes an address in; later says that it had better be asked once the roll has been called.
func (f *frontier) add(a netip.Addr, later bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.taken[a] || f.closed {
		return
	}
	f.taken[a] = true
	if later && !f.called {
		f.later = append(f.later, a)
		return
	}
	f.readyLocked(a)
	f.changedLocked()
}

func (f *frontier) readyLocked(a netip.Addr) {
	q := f.queue(a)
	f.ready[q] = append(f.ready[q], a)
}

// end says that the roll has been called: what was kept for later is asked now, and those of rest that were not taken in yet.
func (f *frontier) end(rest []netip.Addr) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.called = true
	for _, a := range f.later {
		f.readyLocked(a)
	}
	f.later = nil
	for _, a := range rest {
		if !f.taken[a] {
			f.taken[a] = true
			f.readyLocked(a)
		}
	}
	f.changedLocked()
}

// next gives somebody of a queue to ask, in no order, so that neighbours in a rack are not asked one behind the other. It waits for one;
// ok is false once the frontier is closed, or ctx has ended. Each one given has to be put away with done.
func (f *frontier) next(ctx context.Context, queue int) (a netip.Addr, ok bool) {
	for {
		f.mu.Lock()
		if ready := f.ready[queue]; len(ready) > 0 {
			i, last := f.random.IntN(len(ready)), len(ready)-1
			a, ready[i] = ready[i], ready[last]
			f.ready[queue] = ready[:last]
			f.active++
			f.mu.Unlock()
			return a, true
		}
		change, closed := f.change, f.closed
		f.mu.Unlock()
		if closed {
			return netip.Addr{}, false
		}
		select {
		case <-change:
		case <-ctx.Done():
			return netip.Addr{}, false
		}
	}
}

// done puts one away that next has given.
func (f *frontier) done() {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.active--
	f.changedLocked()
}

// release has an address taken in again, should somebody find it once more.
func (f *frontier) release(a netip.Addr) {
	f.mu.Lock()
	defer f.mu.Unlock()
	delete(f.taken, a)
}

// drained waits until nobody is waiting or being asked.
func (f *frontier) drained(ctx context.Context) error {
	for {
		f.mu.Lock()
		change, idle := f.change, f.idleLocked()
		f.mu.Unlock()
		if idle {
			return ctx.Err()
		}
		select {
		case <-change:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

func (f *frontier) idleLocked() bool {
	for _, ready := range f.ready {
		if len(ready) > 0 {
			return false
		}
	}
	return f.active == 0
}

// close has next give nobody any more.
func (f *frontier) close() {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.closed = true
	f.changedLocked()
}

func (f *frontier) changedLocked() {
	close(f.change)
	f.change = make(chan struct{})
}
