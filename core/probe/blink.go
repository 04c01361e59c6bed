package probe

import (
	"context"
	"net/netip"
	"time"

	"airdrift/core/evidence"
)

// blinkWait bounds the telling of a device that it is to show itself, with the time for which it does.
const blinkWait = 20 * time.Second

// BlinksBy gives the protocol by which a device can be told to show itself, so that somebody standing before it knows it; nil where there is
// none. It is the only thing that a device is ever told to do, and it changes nothing of it.
func BlinksBy(known []evidence.Item) *Protocol {
	for _, p := range protocols {
		if p.Blink != nil && p.Blinks(known) {
			return p
		}
	}
	return nil
}

// ShowItself tells a device to show itself for some seconds, and waits for the end of that where it has to be told to end.
func (p *Protocol) ShowItself(ctx context.Context, d Dialer, addr netip.Addr, known []evidence.Item) error {
	ctx, cancel := context.WithTimeout(ctx, blinkWait)
	defer cancel()
	return p.Blink(ctx, Query{Dialer: d, Addr: addr, Wait: greetingWait}, known)
}
