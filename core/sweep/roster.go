package sweep

import (
	"net/netip"
	"slices"
	"sync"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
	"airdrift/core/netrange"
	"airdrift/core/probe"
)

// roster holds who was seen, and which places of the ranges answered: one bit an address, as ranges are large and
// those who answer are few.
type roster struct {
	ranges netrange.Set

	mu        sync.Mutex // guards all below
	answered  []uint64
	sightings map[sightingKey]*evidence.Sighting
	macs      map[netip.Addr][]hwaddr.MAC // the sightings of an address, in the order they came
	addrs     map[hwaddr.MAC][]netip.Addr // the addresses a MAC answers for
	finished  map[netip.Addr]bool         // those of which nothing more will come
	inside    int                         // addresses of the ranges that answered
}

type sightingKey struct {
	addr netip.Addr
	mac  hwaddr.MAC
}

func newRoster(ranges netrange.Set) *roster {
	return &roster{
		ranges:    ranges,
		answered:  make([]uint64, (ranges.Count()+63)/64),
		sightings: map[sightingKey]*evidence.Sighting{},
		macs:      map[netip.Addr][]hwaddr.MAC{},
		addrs:     map[hwaddr.MAC][]netip.Addr{},
		finished:  map[netip.Addr]bool{},
	}
}

// note adds a sighting or puts its items to the one that is there, and reports whether it was new.
func (r *roster) note(s evidence.Sighting) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	if i, inside := r.ranges.Index(s.Addr); inside {
		if r.answered[i/64]&(1<<(i%64)) == 0 {
			r.answered[i/64] |= 1 << (i % 64)
			r.inside++
		}
	}
	key := sightingKey{s.Addr, s.MAC}
	if known := r.sightings[key]; known != nil {
		known.Items = evidence.Merge(known.Items, s.Items)
		known.Whole = known.Whole || s.Whole
		return false
	}
	s.Items = slices.Clone(s.Items)
	r.sightings[key] = &s
	r.macs[s.Addr] = append(r.macs[s.Addr], s.MAC)
	if !s.MAC.IsZero() {
		r.addrs[s.MAC] = append(r.addrs[s.MAC], s.Addr)
	}
	return true
}

// hasAnswered reports whether the address at that place of the ranges was seen.
func (r *roster) hasAnswered(index uint64) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.answered[index/64]&(1<<(index%64)) != 0
}

// holders gives the MACs seen at an address; a zero one stands for a sighting beyond a router.
func (r *roster) holders(a netip.Addr) []hwaddr.MAC {
	r.mu.Lock()
	defer r.mu.Unlock()
	return slices.Clone(r.macs[a])
}

// answersFor gives the addresses that a MAC was seen at.
func (r *roster) answersFor(mac hwaddr.MAC) []netip.Addr {
	r.mu.Lock()
	defer r.mu.Unlock()
	return slices.Clone(r.addrs[mac])
}

// dropBarePorts takes out open ports at which nothing was said: who accepts every connection tells nothing by them.
func (r *roster) dropBarePorts(a netip.Addr) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, mac := range r.macs[a] {
		s := r.sightings[sightingKey{a, mac}]
		said := func(port evidence.Port) bool {
			return slices.ContainsFunc(s.Items, func(it evidence.Item) bool { return it.Port == port && it.Key != evidence.KeyTCPOpen })
		}
		s.Items = slices.DeleteFunc(s.Items, func(it evidence.Item) bool { return it.Key == evidence.KeyTCPOpen && !said(it.Port) })
	}
}

// knows reports whether the roll call has learned all of a port that there is to learn: that it refuses, or that it is open
// and says nothing by itself.
func (r *roster) knows(a netip.Addr, port uint16) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, mac := range r.macs[a] {
		for _, it := range r.sightings[sightingKey{a, mac}].Items {
			if it.Port == evidence.TCP(port) && (it.Key == evidence.KeyTCPRefused || it.Key == evidence.KeyTCPOpen && !probe.HasWords(port)) {
				return true
			}
		}
	}
	return false
}

// has reports whether a sighting is there, and whether it holds a fact of that key.
func (r *roster) has(a netip.Addr, mac hwaddr.MAC, key string) (seen, told bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	s := r.sightings[sightingKey{a, mac}]
	return s != nil, s != nil && slices.ContainsFunc(s.Items, func(it evidence.Item) bool { return it.Key == key })
}

// grow adds facts to a sighting that is there, and reports whether it was and whether any was new.
func (r *roster) grow(a netip.Addr, mac hwaddr.MAC, items []evidence.Item) (seen, grew bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	s := r.sightings[sightingKey{a, mac}]
	if s == nil {
		return false, false
	}
	before := len(s.Items)
	s.Items = evidence.Merge(s.Items, items)
	return true, len(s.Items) > before
}

// isFinished reports whether nothing more was expected of an address.
func (r *roster) isFinished(a netip.Addr) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.finished[a]
}

// finish marks an address of which nothing more will come.
func (r *roster) finish(a netip.Addr) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.finished[a] = true
}

// settled reports whether nothing more will come of an address: it was left alone, or has been asked all there was to ask.
func (r *roster) settled(a netip.Addr) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.finished[a] {
		return true
	}
	for _, mac := range r.macs[a] {
		if !r.sightings[sightingKey{a, mac}].Whole {
			return false
		}
	}
	return true
}

// get gives a copy of a sighting.
func (r *roster) get(a netip.Addr, mac hwaddr.MAC) evidence.Sighting {
	r.mu.Lock()
	defer r.mu.Unlock()
	s := *r.sightings[sightingKey{a, mac}]
	s.Items = slices.Clone(s.Items)
	return s
}

// all gives the addresses seen, in ascending order.
func (r *roster) all() []netip.Addr {
	r.mu.Lock()
	defer r.mu.Unlock()
	addrs := make([]netip.Addr, 0, len(r.macs))
	for a := range r.macs {
		addrs = append(addrs, a)
	}
	slices.SortFunc(addrs, netip.Addr.Compare)
	return addrs
}

// count gives the number of sightings.
func (r *roster) count() int {
	r.mu.Lock()
	defer r.mu.Unlock()
	return len(r.sightings)
}

// addresses gives how many addresses of the ranges answered, and how many others were heard.
func (r *roster) addresses() (inside, others int) {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.inside, len(r.macs) - r.inside
}
