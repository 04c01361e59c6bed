package sweep

import (
	"context"
	"net/netip"
	"sync"
)

// lanes bound the questions that are in flight to each network.
type lanes struct {
	mu sync.Mutex // guards by
	by map[netip.Prefix]chan struct{}
}

func newLanes() *lanes { return &lanes{by: map[netip.Prefix]chan struct{}{}} }

// enter waits for a free place in a network's lane, which is of the given width; leave gives it back.
func (l *lanes) enter(ctx context.Context, network netip.Prefix, width int) (leave func(), err error) {
	l.mu.Lock()
	lane := l.by[network]
	if lane == nil {
		lane = make(chan struct{}, width)
		l.by[network] = lane
	}
	l.mu.Unlock()
	select {
	case lane <- struct{}{}:
		return func() { <-lane }, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}
