package sweep

import (
	"net/netip"
	"sync"
	"time"
)

// timers keeps one retransmission timer for each network, as round trips differ from network to network.
type timers struct {
	networks []netip.Prefix
	mu       sync.Mutex // guards by
	by       map[netip.Prefix]*estimate
}

// estimate is the smoothed round trip and its variation (RFC 6298, 2).
type estimate struct{ smoothed, variation time.Duration }

func newTimers(networks []netip.Prefix) *timers {
	return &timers{networks: networks, by: map[netip.Prefix]*estimate{}}
}

// networkOf gives the longest network the address is in.
func (t *timers) networkOf(a netip.Addr) netip.Prefix {
	var best netip.Prefix
	for _, n := range t.networks {
		if n.Contains(a) && n.Bits() >= best.Bits() {
			best = n
		}
	}
	return best
}

// measured takes in one round trip. Only answers that are certain to belong to one question may be measured
// (Karn's rule, RFC 6298, 3).
func (t *timers) measured(a netip.Addr, rtt time.Duration) {
	if rtt <= 0 {
		return
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	network := t.networkOf(a)
	e := t.by[network]
	if e == nil {
		t.by[network] = &estimate{smoothed: rtt, variation: rtt / 2}
		return
	}
	e.variation += ((e.smoothed - rtt).Abs() - e.variation) / 4
	e.smoothed += (rtt - e.smoothed) / 8
}

// wait gives how long to wait for an answer from the address.
func (t *timers) wait(a netip.Addr) time.Duration {
	t.mu.Lock()
	defer t.mu.Unlock()
	e := t.by[t.networkOf(a)]
	if e == nil {
		return firstTimeout
	}
	return min(max(e.smoothed+4*e.variation, minTimeout), maxTimeout)
}

// backOff gives how long to wait for the answer to the same question asked again: twice as long (RFC 6298, 5.5), up to
// the wait there is before anything was measured.
func backOff(wait time.Duration) time.Duration { return min(2*wait, max(wait, firstTimeout)) }

// longest gives the longest wait of all networks.
func (t *timers) longest() time.Duration {
	longest := time.Duration(0)
	for _, n := range t.networks {
		longest = max(longest, t.wait(n.Addr()))
	}
	return max(longest, minTimeout)
}
