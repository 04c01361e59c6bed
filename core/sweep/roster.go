package sweep

import (
	"cmp"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"sync"
	"time"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
	"airdrift/core/netrange"
)

// roster holds what was seen, and which places of the ranges answered: one bit an address, as ranges are large and
// those that answer are few.
type roster struct {
	ranges netrange.Set

	mu        sync.Mutex // guards all below
	answered  bits       // which places of the ranges have answered
	called    bits       // which have been called by name on the segment
	heard     *admission
	overMany  map[hwaddr.MAC]int   // addresses that are not kept of MACs that answer for too many
	crowded   map[netip.Addr]bool  // addresses that more have claimed than are kept
	changed   map[sightingKey]bool // those with more facts than were told of them
	fresh     []sightingKey        // those of which nothing was told yet
	sightings map[sightingKey]*evidence.Sighting
	units     map[netip.Addr]map[string]*evidence.Sighting // devices behind an address
	macs      map[netip.Addr][]hwaddr.MAC                  // the sightings of an address, in the order they came
	addrs     map[hwaddr.MAC][]netip.Addr                  // the addresses a MAC answers for
	finished  map[netip.Addr]bool                          // those of which nothing more will come
	inside    int                                          // addresses of the ranges that answered
	unkept    int                                          // those of them of which no sighting is kept
}

type sightingKey struct {
	addr netip.Addr
	mac  hwaddr.MAC
}

func newRoster(ranges netrange.Set) *roster {
	return &roster{
		ranges:    ranges,
		answered:  newBits(ranges.Count()),
		called:    newBits(ranges.Count()),
		heard:     newAdmission(),
		overMany:  map[hwaddr.MAC]int{},
		crowded:   map[netip.Addr]bool{},
		changed:   map[sightingKey]bool{},
		sightings: map[sightingKey]*evidence.Sighting{},
		units:     map[netip.Addr]map[string]*evidence.Sighting{},
		macs:      map[netip.Addr][]hwaddr.MAC{},
		addrs:     map[hwaddr.MAC][]netip.Addr{},
		finished:  map[netip.Addr]bool{},
	}
}

// note adds a sighting of one that answered, or puts its items to the one that is there, and reports whether it was new.
func (r *roster) note(s evidence.Sighting) (isNew bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	key := sightingKey{s.Addr, s.MAC}
	if holders := len(r.macs[s.Addr]); r.sightings[key] == nil && holders >= maxHolders {
		// Too many claim this address. One that answers for it again is kept all the same.
		if !r.heard.heardAgain(key) || holders >= 2*maxHolders {
			r.crowded[s.Addr] = true
			r.heard.refuse(s.MAC)
			return false
		}
	}
	i, inside := r.ranges.Index(s.Addr)
	if r.ranges.Count() == 0 && s.Answered && len(r.answeringLocked(s.Addr)) == 0 {
		r.inside++ // where nobody is called by name, what answers is what was looked for
	}
	isNew = inside && s.Answered && r.answered.add(i)
	if isNew {
		r.inside++
	}
	if r.sightings[key] == nil && len(r.addrs[s.MAC]) >= maxOfMAC {
		if isNew {
			r.overMany[s.MAC]++ // that it answers for so many is known
			r.unkept++
		}
		return false
	}
	return r.putLocked(key, s, evidence.Asked)
}

// hear is note for one that spoke without being asked. New ones are taken within bounds: isNew is false for those left
// out, too.
func (r *roster) hear(s evidence.Sighting, now time.Time) (isNew bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	key := sightingKey{s.Addr, s.MAC}
	holders := len(r.macs[s.Addr])
	if !s.Addr.IsValid() {
		holders = 0 // those without an address do not hold one together
	}
	if r.sightings[key] == nil && !r.heard.admit(key, holders, now) {
		return false
	}
	return r.putLocked(key, s, evidence.Heard)
}

func (r *roster) putLocked(key sightingKey, s evidence.Sighting, bounds evidence.Bounds) (isNew bool) {
	if known := r.sightings[key]; known != nil {
		known.Items = evidence.Merge(known.Items, s.Items, bounds)
		known.Whole = known.Whole || s.Whole
		known.Answered = known.Answered || s.Answered
		return false
	}
	s.Items = evidence.Merge(nil, s.Items, bounds)
	r.sightings[key] = &s
	r.fresh = append(r.fresh, key)
	r.macs[s.Addr] = append(r.macs[s.Addr], s.MAC)
	if !s.MAC.IsZero() {
		r.addrs[s.MAC] = append(r.addrs[s.MAC], s.Addr)
	}
	return true
}

// call notes that an address of the ranges is called by name, and wasCalled whether an answer from it can be one to that.
func (r *roster) call(a netip.Addr) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if i, inside := r.ranges.Index(a); inside {
		r.called.add(i)
	}
}

func (r *roster) wasCalled(a netip.Addr) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	i, inside := r.ranges.Index(a)
	return inside && r.called.has(i)
}

// hasAnswered reports whether an address of the ranges has answered.
func (r *roster) hasAnswered(a netip.Addr) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	i, inside := r.ranges.Index(a)
	return inside && r.answered.has(i)
}

// maxOfMAC is at how many addresses one MAC is kept that answers for them.
const maxOfMAC = 4096

// hasSpoken reports whether somebody at an address has answered by more than ARP or neighbour discovery, in which a MAC can speak for
// others.
func (r *roster) hasSpoken(a netip.Addr) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, mac := range r.macs[a] {
		for _, it := range r.sightings[sightingKey{a, mac}].Items {
			if it.Source == evidence.SourceEcho || it.Source == evidence.SourceTCP {
				return true
			}
		}
	}
	return false
}

// ofMany gives the addresses of the ranges at which a MAC answers that does so at that many or more.
func (r *roster) ofMany(many int) []netip.Addr {
	r.mu.Lock()
	defer r.mu.Unlock()
	var addrs []netip.Addr
	for mac, all := range r.addrs {
		if len(all) < many {
			continue
		}
		for _, a := range all {
			if r.ranges.Contains(a) && r.sightings[sightingKey{a, mac}].Answered && len(r.answeringLocked(a)) == 1 {
				addrs = append(addrs, a)
			}
		}
	}
	return addrs
}

// answerForTooMany says in words which MACs answer for more addresses than are kept, "" where none does.
func (r *roster) answerForTooMany() string {
	r.mu.Lock()
	defer r.mu.Unlock()
	var who []string
	for mac, count := range r.overMany {
		who = append(who, fmt.Sprintf("%s (%d)", mac, count+maxOfMAC))
	}
	if len(who) == 0 {
		return ""
	}
	slices.Sort(who)
	return fmt.Sprintf("Answers for so many addresses that only %d of them are kept: %s. Devices behind the others were not looked for.", maxOfMAC, someOf(who))
}

// answeredAs reports whether an address has answered as that MAC, rather than only been heard of.
func (r *roster) answeredAs(a netip.Addr, mac hwaddr.MAC) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	s := r.sightings[sightingKey{a, mac}]
	return s != nil && s.Answered
}

// onlyHeard gives those that have not answered yet and for which may gives true, in ascending order.
func (r *roster) onlyHeard(may func(a netip.Addr, mac hwaddr.MAC) bool) []sightingKey {
	r.mu.Lock()
	var keys []sightingKey
	for key, s := range r.sightings {
		if !s.Answered {
			keys = append(keys, key)
		}
	}
	r.mu.Unlock()
	keys = slices.DeleteFunc(keys, func(k sightingKey) bool { return !may(k.addr, k.mac) })
	slices.SortFunc(keys, func(x, y sightingKey) int { return cmp.Or(x.addr.Compare(y.addr), slices.Compare(x.mac[:], y.mac[:])) })
	return keys
}

// allCrowded gives the addresses that more have claimed than are kept.
func (r *roster) allCrowded() []netip.Addr {
	r.mu.Lock()
	defer r.mu.Unlock()
	return slices.SortedFunc(maps.Keys(r.crowded), netip.Addr.Compare)
}

// cut gives the addresses of which more was said than is kept, in ascending order.
func (r *roster) cut() []netip.Addr {
	r.mu.Lock()
	defer r.mu.Unlock()
	var addrs []netip.Addr
	for key, s := range r.sightings {
		if slices.ContainsFunc(s.Items, func(it evidence.Item) bool { return it.Key == evidence.KeyCut }) {
			addrs = append(addrs, key.addr)
		}
	}
	slices.SortFunc(addrs, netip.Addr.Compare)
	return slices.Compact(addrs)
}

// flood says which device floods the segment, "" where nobody does.
func (r *roster) flood() string {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.heard.text()
}

// holders gives the MACs seen at an address; a zero one stands for a sighting beyond a router.
func (r *roster) holders(a netip.Addr) []hwaddr.MAC {
	r.mu.Lock()
	defer r.mu.Unlock()
	return slices.Clone(r.macs[a])
}

// answering gives the MACs that have answered at an address, rather than only been heard of; a zero one stands for an answer from beyond
// a router.
func (r *roster) answering(a netip.Addr) []hwaddr.MAC {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.answeringLocked(a)
}

func (r *roster) answeringLocked(a netip.Addr) []hwaddr.MAC {
	var macs []hwaddr.MAC
	for _, mac := range r.macs[a] {
		if r.sightings[sightingKey{a, mac}].Answered {
			macs = append(macs, mac)
		}
	}
	return macs
}

// isContested reports whether more than one MAC has claimed an address, or may have unnoticed, as the segment is flooded with claims.
func (r *roster) isContested(a netip.Addr) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return len(r.macs[a]) > 1 || r.crowded[a] || r.heard.refused > manyRefused
}

// answersFor gives the addresses that a MAC was seen at first, at most so many, and how many there are.
func (r *roster) answersFor(mac hwaddr.MAC, most int) (first []netip.Addr, count int) {
	r.mu.Lock()
	defer r.mu.Unlock()
	all := r.addrs[mac]
	return slices.Clone(all[:min(len(all), most)]), len(all)
}

// bestSix gives the address by which a device that was met by IPv6 alone is asked; ok is false for one that has IPv4.
func (r *roster) bestSix(mac hwaddr.MAC) (best netip.Addr, ok bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, a := range r.addrs[mac] {
		if a.Is4() {
			return netip.Addr{}, false
		}
		// One that has answered comes before those that were only heard.
		proven, provenBest := r.sightings[sightingKey{a, mac}].Answered, ok && r.sightings[sightingKey{best, mac}].Answered
		if !ok || proven && !provenBest || proven == provenBest && betterSix(a, best) {
			best, ok = a, true
		}
	}
	return best, ok
}

// sixOf gives an IPv6 address of a MAC, of the segment if there is one.
func (r *roster) sixOf(mac hwaddr.MAC) (six netip.Addr, ok bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, a := range r.addrs[mac] {
		if a.Is6() && (!ok || a.IsLinkLocalUnicast()) {
			six, ok = a, true
		}
	}
	return six, ok
}

// dropBarePorts takes out open ports at which nothing was said: a device that accepts every connection tells nothing by them.
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
// and mute: that nothing can be heard there.
func (r *roster) knows(a netip.Addr, port uint16, mute bool) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, mac := range r.macs[a] {
		for _, it := range r.sightings[sightingKey{a, mac}].Items {
			if it.Port == evidence.TCP(port) && (it.Key == evidence.KeyTCPRefused || it.Key == evidence.KeyTCPOpen && mute) {
				return true
			}
		}
	}
	return false
}

// answersTCP reports whether a sighting tells already that it accepts or refuses connections.
func (r *roster) answersTCP(a netip.Addr, mac hwaddr.MAC) bool {
	_, open := r.has(a, mac, evidence.KeyTCPOpen)
	_, refused := r.has(a, mac, evidence.KeyTCPRefused)
	return open || refused
}

// has reports whether a sighting is there, and whether it holds a fact of that key.
func (r *roster) has(a netip.Addr, mac hwaddr.MAC, key string) (seen, told bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	s := r.sightings[sightingKey{a, mac}]
	return s != nil, s != nil && slices.ContainsFunc(s.Items, func(it evidence.Item) bool { return it.Key == key })
}

// countOf gives how many facts of a key a sighting holds.
func (r *roster) countOf(a netip.Addr, mac hwaddr.MAC, key string) int {
	r.mu.Lock()
	defer r.mu.Unlock()
	if s := r.sightings[sightingKey{a, mac}]; s != nil {
		return len(evidence.Values(s.Items, key))
	}
	return 0
}

// grow adds facts that were heard to a sighting that is there, and reports whether it was. Where nothing more was expected of
// it and there is more, it is among those that takeChanged gives.
func (r *roster) grow(a netip.Addr, mac hwaddr.MAC, items []evidence.Item) (seen bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	key := sightingKey{a, mac}
	s := r.sightings[key]
	if s == nil {
		return false
	}
	before := len(s.Items)
	s.Items = evidence.Merge(s.Items, items, evidence.Heard)
	if len(s.Items) > before && r.finished[a] {
		r.changed[key] = true
	}
	return true
}

// takeChanged gives those of which more is known than was told, once.
func (r *roster) takeChanged() []sightingKey {
	r.mu.Lock()
	defer r.mu.Unlock()
	keys := slices.Collect(maps.Keys(r.changed))
	clear(r.changed)
	return keys
}

// takeFresh gives those that have turned up since, once.
func (r *roster) takeFresh() []sightingKey {
	r.mu.Lock()
	defer r.mu.Unlock()
	keys := r.fresh
	r.fresh = nil
	return keys
}

// isFinished reports whether nothing more will come of an address.
func (r *roster) isFinished(a netip.Addr) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.finished[a]
}

// maxUnits is how many devices are kept behind one address.
const maxUnits = 256

// noteUnit adds a device behind an address, or its items to those of the one that is there, and gives it; kept is false where there are
// too many.
func (r *roster) noteUnit(s evidence.Sighting) (all evidence.Sighting, kept bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	behind := r.units[s.Addr]
	if behind == nil {
		behind = map[string]*evidence.Sighting{}
		r.units[s.Addr] = behind
	}
	known := behind[s.Unit]
	if known == nil {
		if len(behind) >= maxUnits {
			return s, false
		}
		known = &s
		behind[s.Unit] = known
		known.Items = evidence.Merge(nil, s.Items, evidence.Asked)
	} else {
		known.Items = evidence.Merge(known.Items, s.Items, evidence.Asked)
	}
	all = *known
	all.Items = slices.Clone(known.Items)
	return all, true
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

// whoTells gives those that have answered and of which something holds by what they say, those behind others too.
func (r *roster) whoTells(holds func(items []evidence.Item) bool) (who []evidence.Who) {
	r.mu.Lock()
	defer r.mu.Unlock()
	add := func(s *evidence.Sighting) {
		if s.Answered && holds(s.Items) {
			who = append(who, s.Who())
		}
	}
	for _, s := range r.sightings {
		add(s)
	}
	for _, behind := range r.units {
		for _, s := range behind {
			add(s)
		}
	}
	return who
}

// itemsOf gives a copy of what is known of somebody.
func (r *roster) itemsOf(who evidence.Who) []evidence.Item {
	r.mu.Lock()
	defer r.mu.Unlock()
	s := r.sightings[sightingKey{who.Addr, who.MAC}]
	if who.Unit != "" {
		s = r.units[who.Addr][who.Unit]
	}
	if s == nil {
		return nil
	}
	return slices.Clone(s.Items)
}

// told gives what has been told by a protocol's facts, by all that have.
func (r *roster) told(source evidence.Source) [][]evidence.Item {
	r.mu.Lock()
	defer r.mu.Unlock()
	var all [][]evidence.Item
	for _, s := range r.sightings {
		if like := slices.DeleteFunc(slices.Clone(s.Items), func(it evidence.Item) bool { return it.Source != source }); len(like) > 0 {
			all = append(all, like)
		}
	}
	return all
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

// allAnswered gives the addresses at which somebody answered, in ascending order.
func (r *roster) allAnswered() []netip.Addr {
	r.mu.Lock()
	defer r.mu.Unlock()
	var addrs []netip.Addr
	for a, macs := range r.macs {
		if slices.ContainsFunc(macs, func(mac hwaddr.MAC) bool { return r.sightings[sightingKey{a, mac}].Answered }) {
			addrs = append(addrs, a)
		}
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
	return r.inside, max(0, len(r.macs)-(r.inside-r.unkept))
}
