package sweep

import (
	"context"
	"net/netip"
	"sync"
	"time"

	"airdrift/core/hwaddr"
)

// care bounds what one device is burdened with at a time, by whichever of its addresses: how many questions are in flight, and how
// soon after one connection the next may be tried.
type care struct {
	mu sync.Mutex // guards by
	by map[deviceID]*ward
}

// deviceID is what is known to be one device: a MAC, or an address of which none is known.
type deviceID struct {
	mac  hwaddr.MAC
	addr netip.Addr
}

// ward is one device in care.
type ward struct {
	slots   places
	leaving chan struct{} // held by the one connection that is about to leave
	next    time.Time     // before which no connection may be tried; guarded by leaving
}

func newCare() *care { return &care{by: map[deviceID]*ward{}} }

func (c *care) of(id deviceID) *ward {
	c.mu.Lock()
	defer c.mu.Unlock()
	w := c.by[id]
	if w == nil {
		w = &ward{slots: places{narrowest: true}, leaving: make(chan struct{}, 1)}
		c.by[id] = w
	}
	return w
}

// enter waits until one more question may be in flight to a device; leave says that it is over. A device that is asked by several paces is spared by the most
// careful.
func (c *care) enter(ctx context.Context, id deviceID, pace Pace) (leave func(), err error) {
	return c.of(id).slots.enter(ctx, pace.PerDevice)
}

// connect waits until a device may be tried to connect to once more, and for the turn, as the gap is between what leaves.
func (c *care) connect(ctx context.Context, id deviceID, pace Pace, turn func() error) error {
	if pace.Gap == 0 {
		return turn()
	}
	w := c.of(id)
	select {
	case w.leaving <- struct{}{}:
	case <-ctx.Done():
		return ctx.Err()
	}
	defer func() { <-w.leaving }()
	if err := pause(ctx, time.Until(w.next)); err != nil {
		return err
	}
	if err := turn(); err != nil {
		return err
	}
	w.next = time.Now().Add(pace.Gap)
	return nil
}
