package sweep

import (
	"context"
	"net/netip"
	"sync"
)

// lanes bound the questions that are in flight to each network.
type lanes struct {
	width int
	mu    sync.Mutex // guards by
	by    map[netip.Prefix]chan struct{}
}

func newLanes(width int) *lanes { return &lanes{width: width, by: map[netip.Prefix]chan struct{}{}} }

// enter waits for a free place in a network's lane; leave gives it back.
func (l *lanes) enter(ctx context.Context, network netip.Prefix) (leave func(), err error) {
	l.mu.Lock()
	lane := l.by[network]
	if lane == nil {
		lane = make(chan struct{}, l.width)
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
