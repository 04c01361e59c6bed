package sweep

import (
	"context"
	"errors"
	"net/netip"
	"testing"
	"testing/synctest"
	"time"

	"airdrift/core/hwaddr"
)

// Each is let in by the width of its own pace, whoever came first; a device is asked by the most careful of those that ask it.
func TestEveryoneEntersByTheirOwnWidth(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		network := netip.MustParsePrefix("10.40.2.0/24")
		lane := newLanes()
		try := func(width int) func() {
			ctx, cancel := context.WithTimeout(t.Context(), time.Second)
			defer cancel()
			leave, err := lane.enter(ctx, network, width)
			if err != nil && !errors.Is(err, context.DeadlineExceeded) {
				t.Fatal(err)
			}
			return leave
		}
		first := try(1)
		if try(1) != nil {
			t.Error("a lane of one place lets in two")
		}
		second, third := try(3), try(3)
		if first == nil || second == nil || third == nil || try(3) != nil {
			t.Error("a wider pace is held to the width of the one that came first")
		}
		second()
		third()
		if try(1) != nil {
			t.Error("a narrow pace is let in beside another")
		}
		first()
		if try(1) == nil {
			t.Error("nobody is let in once all have left")
		}

		c, id := newCare(), deviceID{mac: hwaddr.MustParse("48:9b:34:00:00:01")}
		wide, gentle := Pace{PerDevice: 4}, Pace{PerDevice: 1}
		leave, err := c.enter(t.Context(), id, wide)
		if err != nil {
			t.Fatal(err)
		}
		short, cancel := context.WithTimeout(t.Context(), time.Second)
		defer cancel()
		if _, err := c.enter(short, id, gentle); err == nil {
			t.Error("a gentle pace burdens a device that is being asked")
		}
		short, cancel = context.WithTimeout(t.Context(), time.Second)
		defer cancel()
		if _, err := c.enter(short, id, wide); err == nil {
			t.Error("a device that is to be asked gently is asked twice at once")
		}
		leave()
		if _, err := c.enter(t.Context(), id, wide); err != nil {
			t.Error(err)
		}
	})
}

// Whoever waits for a place and gives up takes none away, also where it was given at the same moment.
func TestPlacesAreNotLost(t *testing.T) {
	p := &places{}
	for range 2000 {
		leave, err := p.enter(t.Context(), 1)
		if err != nil {
			t.Fatal(err)
		}
		ctx, cancel := context.WithCancel(t.Context())
		over := make(chan struct{})
		go func() {
			defer close(over)
			if leave, err := p.enter(ctx, 1); err == nil {
				leave()
			}
		}()
		go cancel()
		leave()
		<-over
		cancel()
	}
	if p.taken != 0 || len(p.waiting) != 0 {
		t.Errorf("%d places are taken by nobody, %d wait", p.taken, len(p.waiting))
	}
}
