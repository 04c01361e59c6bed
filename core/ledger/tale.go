package ledger

import (
	"slices"
	"strconv"
	"strings"
	"sync"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
	"airdrift/core/identify"
)

// tale is what facts tell of whose they are; the rest of them need not be in memory for that.
type tale struct {
	keys   []Key           // of its own pairs of keys, the strongest first
	ids    []Key           // its identifiers, as it tells them
	own    []string        // the addresses that its tables give as its own
	same   string          // the address at which it was known again
	self   string          // the name of the auditor's own machine
	told   []hwaddr.MAC    // MAC addresses that are told of it
	open   []evidence.Port // that it offers
	silent []evidence.Port // of which it is not known whether it offers them
	hops   int             // how many routers its answer has passed; -1 where that is not known
	first  bool            // its answer has a time to live that systems start with
	facade bool            // nothing is told but connections that are accepted whatever the port
	every  bool            // it accepts every port
	heard  bool            // its address was heard on the segment
}

func taleOf(items []evidence.Item) *tale {
	t := &tale{
		keys: keysOf(items), told: toldMACs(items), hops: hopsOf(items), facade: isFacade(items),
		same: evidence.First(items, evidence.KeySame), self: evidence.First(items, evidence.KeySelf), first: isInitialTTL(evidence.First(items, evidence.KeyEchoTTL)),
		every: evidence.First(items, evidence.KeyTCPEvery) != "", heard: evidence.First(items, evidence.KeyHeard) != "",
	}
	for _, key := range ownAddresses() {
		t.own = append(t.own, evidence.Values(items, key)...)
	}
	for _, fact := range identifierFacts() {
		for _, value := range evidence.Values(items, fact) {
			t.ids = append(t.ids, Key{fact, value})
		}
	}
	for _, it := range items {
		switch it.Key {
		case evidence.KeyTCPOpen:
			t.open = append(t.open, it.Port)
		case evidence.KeyTCPSilent:
			t.silent = append(t.silent, it.Port)
		}
	}
	return t
}

// identifiers gives what a device tells of itself that hardly another one tells.
func (t *tale) identifiers(identity identify.Beliefs) []Key {
	var keys []Key
	vendor, serial := identity.Of(identify.Vendor), identity.Of(identify.Serial)
	if vendor != "" && len(serial) >= minSerial {
		keys = append(keys, Key{keySerial, vendor + " " + serial})
	}
	for _, id := range t.ids {
		if id.Value = strings.ToLower(id.Value); isUnique(id.Value) {
			keys = append(keys, id)
		}
	}
	return keys
}

// reader reads the sightings of a sweep, each as often as it is needed.
type reader struct {
	sweep     Sweep
	sightings []evidence.Sighting // their facts are asked of items alone
	tales     []*tale
	hashes    []evidence.Hash
	notOwn    map[int]bool // sightings whose MAC address is another's
	err       error
}

func newReader(sweep Sweep) *reader {
	n := len(sweep.Sightings)
	r := &reader{sweep: sweep, sightings: sweep.Sightings, hashes: sweep.Hashes, tales: make([]*tale, n), notOwn: map[int]bool{}}
	if sweep.Hashes == nil {
		r.hashes = make([]evidence.Hash, n)
	}
	for i := range sweep.Sightings {
		r.read(i)
	}
	return r
}

// read tells a sighting's tale out of its facts.
func (r *reader) read(i int) {
	items := r.items(i)
	r.tales[i] = taleOf(items)
	if r.sweep.Hashes == nil || r.notOwn[i] {
		r.hashes[i] = evidence.HashOf(items)
	}
}

// items gives the facts of a sighting.
func (r *reader) items(i int) []evidence.Item {
	items := r.sweep.Sightings[i].Items
	if r.sweep.Facts != nil {
		var err error
		if items, err = r.sweep.Facts(i); err != nil {
			r.err = err
		}
	}
	if r.notOwn[i] {
		isOfMAC := func(it evidence.Item) bool { return it.Source == evidence.SourceARP || it.Source == evidence.SourceND }
		items = slices.DeleteFunc(slices.Clone(items), isOfMAC)
	}
	return items
}

// takeMACs takes the MAC from those that answer behind one that answers for many: it is not theirs. They are told by having passed a
// router where the MAC's own address has passed none.
func (r *reader) takeMACs() {
	count := map[hwaddr.MAC]int{}
	for _, s := range r.sightings {
		if identifies(s.MAC) && s.Addr.Is4() && s.Unit == "" {
			count[s.MAC]++
		}
	}
	for i, s := range r.sightings {
		if count[s.MAC] >= manyAddresses && r.tales[i].hops >= 1 {
			if len(r.notOwn) == 0 {
				r.sightings, r.hashes = slices.Clone(r.sightings), slices.Clone(r.hashes)
			}
			r.sightings[i].MAC, r.notOwn[i] = hwaddr.MAC{}, true
			r.read(i)
		}
	}
}

// keysOf gives the keys among the facts, the strongest first.
func keysOf(items []evidence.Item) []Key {
	var keys []Key
	for _, fact := range keyFacts() {
		for _, value := range evidence.Values(items, fact) {
			if k := (Key{fact, value}); !slices.Contains(keys, k) {
				keys = append(keys, k)
			}
		}
	}
	return keys
}

// identifierFacts gives the facts that tell devices of one model apart and stay with a device: the engine of its agent (RFC 3411, 5)
// and the identifiers by which its services know it.
var identifierFacts = sync.OnceValue(func() []string { return evidence.KeysFor(evidence.Identifier) })

// ownAddresses gives the facts in which a device names its own addresses.
var ownAddresses = sync.OnceValue(func() []string { return evidence.KeysFor(evidence.OwnAddress) })

// hardwareFacts gives the facts by which a device, or a list of leases, tells a MAC address of the device.
var hardwareFacts = sync.OnceValue(func() []string { return evidence.KeysFor(evidence.HardwareAddress) })

// toldMACs gives the MAC addresses that are told of a device, by which one seen on its segment is known beyond a router.
func toldMACs(facts []evidence.Item) []hwaddr.MAC {
	var macs []hwaddr.MAC
	for _, key := range hardwareFacts() {
		for _, text := range evidence.Values(facts, key) {
			if mac, err := hwaddr.Parse(text); err == nil && identifies(mac) && !slices.Contains(macs, mac) && len(macs) < maxMACs {
				macs = append(macs, mac)
			}
		}
	}
	return macs
}

// hopsOf gives how many routers an answer has passed, by the time to live that it began with; -1 where that is not known.
func hopsOf(items []evidence.Item) int {
	left, err := strconv.Atoi(evidence.First(items, evidence.KeyEchoTTL))
	if err != nil || left < 1 {
		return -1
	}
	for _, start := range []int{32, 64, 128, 255} {
		if left <= start {
			return start - left
		}
	}
	return -1
}

// isInitialTTL knows the values systems start with.
func isInitialTTL(text string) bool {
	ttl, err := strconv.Atoi(text)
	return err == nil && (ttl == 64 || ttl == 128 || ttl == 255)
}

// isFacade reports whether facts tell of nothing but connections that are accepted whatever the port.
func isFacade(items []evidence.Item) bool {
	every := false
	for _, item := range items {
		switch item.Key {
		case evidence.KeyTCPEvery:
			every = true
		case evidence.KeyTCPOpen, evidence.KeyPTR:
		default:
			return false
		}
	}
	return every
}
