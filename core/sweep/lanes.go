package sweep

import (
	"context"
	"net/netip"
	"sync"
)

// lanes bound the questions that are in flight to each network.
type lanes struct {
	mu sync.Mutex // guards by
	by map[netip.Prefix]*places
}

func newLanes() *lanes { return &lanes{by: map[netip.Prefix]*places{}} }

// enter waits for a place in a network's lane, which is as wide as the pace of what is asked; leave gives it back.
func (l *lanes) enter(ctx context.Context, network netip.Prefix, width int) (leave func(), err error) {
	l.mu.Lock()
	lane := l.by[network]
	if lane == nil {
		lane = &places{}
		l.by[network] = lane
	}
	l.mu.Unlock()
	return lane.enter(ctx, width)
}
