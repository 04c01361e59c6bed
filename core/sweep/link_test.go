package sweep

import (
	"context"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"airdrift/core/wire"
)

// moving is a wire whose link goes down and comes back with another address.
type moving struct {
	*fakeWire
	mu       sync.Mutex // guards all below
	link     wire.Link
	senders  map[netip.Addr]int // of ARP requests
	whenDown int                // frames that were sent while it was down
}

func (w *moving) Link() wire.Link {
	w.mu.Lock()
	defer w.mu.Unlock()
	link := w.link
	link.Prefixes = slices.Clone(link.Prefixes)
	return link
}

func (w *moving) set(change func(*wire.Link)) {
	w.mu.Lock()
	defer w.mu.Unlock()
	change(&w.link)
}

func (w *moving) Frames(ctx context.Context, etherType uint16) (wire.FrameConn, error) {
	conn, err := w.fakeWire.Frames(ctx, etherType)
	if frames, ok := conn.(*fakeFrames); ok && etherType == wire.EtherTypeARP {
		return &movingFrames{frames, w}, err
	}
	return conn, err
}

type movingFrames struct {
	*fakeFrames
	wire *moving
}

func (f *movingFrames) WriteFrame(frame []byte) error {
	f.wire.mu.Lock()
	down := f.wire.link.Down
	f.wire.senders[netip.AddrFrom4([4]byte(frame[28:32]))]++
	if down {
		f.wire.whenDown++
	}
	f.wire.mu.Unlock()
	if down {
		return nil // into the void, as cables do
	}
	return f.fakeFrames.WriteFrame(frame)
}

// A link that goes down and comes back with another address costs nobody: the sweep waits, says so, and goes on from the last place
// known good.
func TestLinkIsLostAndComesBack(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := &moving{fakeWire: &fakeWire{arp: segmentOf(200), latency: time.Millisecond}, senders: map[netip.Addr]int{}}
		w.link = w.fakeWire.Link()
		time.AfterFunc(2*time.Second, func() { w.set(func(l *wire.Link) { l.Down = true }) })
		time.AfterFunc(20*time.Second, func() {
			w.set(func(l *wire.Link) {
				l.Down, l.Prefixes = false, []netip.Prefix{netip.MustParsePrefix("10.40.1.251/24")}
			})
		})
		o := order("10.40.1.0/24")
		o.Pace = Pace{Rate: 50, Devices: 24, PerDevice: 4, PerNetwork: 400, Rounds: 1}
		got := sweepOn(t, t.Context(), w, o)
		if got.summary.Answered != 200 { // the auditor's own machine has moved to an address that is not in its place
			if got.summary.Answered != 201 {
				t.Errorf("%d answered", got.summary.Answered)
			}
		}
		if w.senders[addr("10.40.1.251")] == 0 {
			t.Error("the new address was not spoken from")
		}
		if w.whenDown > 60 { // a second's worth, until it is noticed
			t.Errorf("%d frames were sent into a link that was down", w.whenDown)
		}
		for _, want := range []string{"fake0 is down", "fake0 is back, at 10.40.1.251/24 instead of 10.40.1.250/24"} {
			if !slices.ContainsFunc(got.warnings, func(text string) bool { return strings.Contains(text, want) }) {
				t.Errorf("%q is not among %q", want, got.warnings)
			}
		}
	})
}

// A link that stays away ends the sweep with words, and nothing that was seen is lost.
func TestLinkThatStaysAway(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := &moving{fakeWire: &fakeWire{arp: segmentOf(50)}, senders: map[netip.Addr]int{}}
		w.link = w.fakeWire.Link()
		time.AfterFunc(time.Second, func() { w.set(func(l *wire.Link) { l.Prefixes = nil }) })
		o := order("10.40.1.0/24")
		o.Pace = Pace{Rate: 50, Devices: 1, PerDevice: 1, PerNetwork: 1, Rounds: 1}
		seen := 0
		summary, err := Run(t.Context(), w, o, func(e Event) {
			if _, ok := e.(Sighted); ok {
				seen++
			}
		})
		if err == nil || !strings.Contains(err.Error(), "fake0 has been away for") || seen == 0 || summary.At.Calls["arp"].At == 0 {
			t.Errorf("%v after %d sightings, at %+v", err, seen, summary.At)
		}
	})
}
