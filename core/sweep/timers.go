package sweep

import (
	"net/netip"
	"sync"
	"time"
)

// timers keep a retransmission timer for each device that answers and one for each network, which is for those that have not
// answered yet. Round trips differ from device to device: one that is slow among many that are fast is given its own time.
type timers struct {
	waits    Waits
	networks []netip.Prefix
	mu       sync.Mutex // guards all below
	own      map[netip.Addr]*estimate
	by       map[netip.Prefix]*estimate
	segment  *estimate // of ARP and neighbour discovery, which say nothing of what a device's own programs take
}

// estimate is the smoothed round trip and its variation (RFC 6298, 2).
type estimate struct{ smoothed, variation time.Duration }

func newTimers(networks []netip.Prefix, waits Waits) *timers {
	return &timers{waits: waits.orDefault(), networks: networks, own: map[netip.Addr]*estimate{}, by: map[netip.Prefix]*estimate{}}
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

// measured takes in one round trip to a device. Only answers that are certain to belong to one question may be measured
// (Karn's rule, RFC 6298, 3).
func (t *timers) measured(a netip.Addr, rtt time.Duration) {
	if rtt <= 0 {
		return
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	network := t.networkOf(a)
	t.own[a] = t.own[a].with(rtt)
	t.by[network] = t.by[network].with(rtt)
}

// measuredOnSegment takes in a round trip of ARP or neighbour discovery.
func (t *timers) measuredOnSegment(rtt time.Duration) {
	if rtt <= 0 {
		return
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	t.segment = t.segment.with(rtt)
}

func (e *estimate) with(rtt time.Duration) *estimate {
	if e == nil {
		return &estimate{smoothed: rtt, variation: rtt / 2}
	}
	e.variation += ((e.smoothed - rtt).Abs() - e.variation) / 4
	e.smoothed += (rtt - e.smoothed) / 8
	return e
}

// waitOf gives the wait that follows from an estimate; without one it is the first.
func (t *timers) waitOf(e *estimate) time.Duration {
	if e == nil {
		return t.waits.First
	}
	return min(max(e.smoothed+4*e.variation, t.waits.Least), t.waits.Most)
}

// wait gives how long to wait for an answer from the address: by its own round trips, or by those of its network while it has
// shown none.
func (t *timers) wait(a netip.Addr) time.Duration {
	t.mu.Lock()
	defer t.mu.Unlock()
	if own := t.own[a]; own != nil {
		return t.waitOf(own)
	}
	return t.waitOf(t.by[t.networkOf(a)])
}

// backOff gives how long to wait for the answer to the same question asked again: twice as long (RFC 6298, 5.5), up to
// the wait there is before anything was measured.
func (t *timers) backOff(wait time.Duration) time.Duration {
	return min(2*wait, max(wait, t.waits.First))
}

// last gives how long to wait at the last try.
func (t *timers) last(wait time.Duration) time.Duration { return max(wait, t.waits.Last) }

// longest gives the longest wait of all networks; onSegment is for those that are called by ARP or neighbour discovery.
func (t *timers) longest(onSegment bool) time.Duration {
	t.mu.Lock()
	defer t.mu.Unlock()
	if onSegment {
		return t.waitOf(t.segment)
	}
	longest := t.waits.Least
	for _, n := range t.networks {
		longest = max(longest, t.waitOf(t.by[n]))
	}
	return longest
}
