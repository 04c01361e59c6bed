package sweep

import (
	"net/netip"
	"sync"
)

// awaited are addresses that were called to find out whether somebody is still there.
type awaited struct {
	mu sync.Mutex // guards by
	by map[netip.Addr]chan struct{}
}

// await gives what is closed once an address has answered; forget ends the waiting.
func (w *awaited) await(a netip.Addr) (answered <-chan struct{}, forget func()) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.by == nil {
		w.by = map[netip.Addr]chan struct{}{}
	}
	ch := w.by[a]
	if ch == nil {
		ch = make(chan struct{})
		w.by[a] = ch
	}
	return ch, func() {
		w.mu.Lock()
		defer w.mu.Unlock()
		delete(w.by, a)
	}
}

// isThere says that an address has answered.
func (w *awaited) isThere(a netip.Addr) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if ch := w.by[a]; ch != nil {
		close(ch)
		delete(w.by, a)
	}
}
