// Package complete estimates how many devices a sweep has missed, from how far its independent ways of looking agree (capture-recapture).
//
// It rests on assumptions, which the catalogue of texts names. What no way of looking can see at all is in no figure.
package complete

import (
	"math"
	"net/netip"
	"slices"

	"airdrift/core/evidence"
)

// Way is a way of looking that can find a device by itself, whether the others do or not.
type Way string

// The ways of looking, in the order in which they are listed.
const (
	Resolution    Way = "address resolution" // RFC 826 or RFC 4861
	Echo          Way = "echo"               // RFC 792 or RFC 4443
	Connection    Way = "TCP"                // an attempt to connect was accepted or refused (RFC 9293)
	Announcement  Way = "announcements"      // it was heard, or answered a call to a group
	LeaseTable    Way = "leases"             // a DHCP server has given it an address
	EarlierSweeps Way = "earlier sweeps"     // the ledger knew it
)

var everyWay = []Way{Resolution, Echo, Connection, Announcement, LeaseTable, EarlierSweeps}

// announces are the sources of what devices say to all.
var announces = map[evidence.Source]bool{
	evidence.SourceMDNS: true, evidence.SourceUPnP: true, evidence.SourceWSD: true, evidence.SourceLLDP: true, evidence.SourceCDP: true, evidence.SourceLLMNR: true,
	evidence.SourceBACnet: true, evidence.SourceKNX: true, evidence.SourceArtNet: true, evidence.SourceSACN: true, evidence.SourceSAP: true, evidence.SourcePTP: true, evidence.SourcePROFINET: true,
}

// WaysOf gives the ways by which a sighting shows its device. What is asked only of those that are found already, such as SNMP, is none.
func WaysOf(items []evidence.Item) []Way {
	seen := map[Way]bool{}
	for _, it := range items {
		switch {
		case resolves(it):
			seen[Resolution] = true
		case it.Key == evidence.KeyHeard || announces[it.Source]:
			seen[Announcement] = true
		case it.Source == evidence.SourceEcho:
			seen[Echo] = true
		case it.Key == evidence.KeyTCPOpen || it.Key == evidence.KeyTCPRefused:
			seen[Connection] = true
		case it.Source == evidence.SourceLease:
			seen[LeaseTable] = true
		}
	}
	return slices.DeleteFunc(slices.Clone(everyWay), func(w Way) bool { return !seen[w] })
}

// Network collects what was seen of one network.
type Network struct {
	Subnet   netip.Prefix
	seen     map[string]map[Way]bool
	lists    map[Way]bool
	local    bool // the sweep was made from within
	resolved bool // it resolved the addresses itself; without the right to frames the system only tells the MACs of those that answered
}

// NewNetwork gives a network of which nothing was seen. TCP is a way of its own as ports are asked of each device that is found by whatever way, and a few of
// all others: a sweep that asks no ports of those that answered an echo says nothing of how far the two agree. local says that it is swept from within; lists are the ways beside the sweep's own that there are: a list that is empty is a way, one
// that there is not is none.
func NewNetwork(subnet netip.Prefix, local bool, lists ...Way) *Network {
	n := &Network{Subnet: subnet, seen: map[string]map[Way]bool{}, lists: map[Way]bool{}, local: local}
	for _, w := range lists {
		n.lists[w] = true
	}
	return n
}

// Add notes what was seen of a device by the sweep, if anything, and which lists name it besides; who tells it from the others.
func (n *Network) Add(who string, items []evidence.Item, lists ...Way) {
	if n.seen[who] == nil {
		n.seen[who] = map[Way]bool{}
	}
	for _, w := range append(WaysOf(items), lists...) {
		n.seen[who][w] = true
	}
	for _, it := range items {
		n.resolved = n.resolved || resolves(it) && it.RTT > 0
	}
}

// resolves reports whether a fact is the MAC address that an address was resolved to.
func resolves(it evidence.Item) bool {
	return it.Key == evidence.KeyMAC || it.Key == evidence.KeyNDMAC
}

// Count is how many devices a way has seen.
type Count struct {
	Way     Way
	Devices int
	Alone   int // of them those that no other way has seen
}

// Figure is how complete a sweep of a network is.
type Figure struct {
	Subnet  netip.Prefix // invalid of a whole site
	Seen    int          // devices that answered or were heard
	Listed  int          // devices that a list alone names, which the sweep has missed for certain
	Missed  float64      // the estimate of those that were not, Listed among them
	Low     float64      // Low and High hold the truth in nine of ten cases
	High    float64
	AtLeast float64 // Chao's lower bound of those that were missed
	Told    bool    // whether there is an estimate at all
	Ways    []Count
	Advice  []Advice // what would lower it or make it surer
}

// Advice is what would make a figure smaller or surer.
type Advice string

// What there is to be said; the catalogue of texts has the words.
const (
	OneWay     Advice = "one-way"     // seen by one way only, so that nothing can be said
	TwoWays    Advice = "two-ways"    // whether they depend on each other cannot be told of two
	FromWithin Advice = "from-within" // sweep from a place in the network: nothing that speaks IP can keep silent to address resolution
	NoFrames   Advice = "no-frames"   // the sweep had no right to frames
	NoLeases   Advice = "no-leases"   // import the DHCP server's leases
	OnceSwept  Advice = "once-swept"  // sweep it again: what earlier sweeps have seen is a way of its own
	Empty      Advice = "empty"       // nothing was seen
)

// Of gives the figure of a network.
func Of(n *Network) Figure {
	f := Figure{Subnet: n.Subnet}
	ways := n.independent()
	c := cells{ways: len(ways), count: make([]float64, 1<<len(ways))}
	before := slices.Index(ways, EarlierSweeps)
	if before >= 0 {
		c.open = 1 << before
	}
	for _, by := range n.seen {
		var pattern uint
		for i, w := range ways {
			if by[w] {
				pattern |= 1 << i
			}
		}
		c.count[pattern]++
	}
	var listed uint
	if at := slices.Index(ways, LeaseTable); at >= 0 {
		listed = 1 << at
	}
	for pattern, devices := range c.count {
		switch {
		case !c.isSeen(uint(pattern)):
		case uint(pattern)&^(listed|c.open) == 0:
			f.Listed += int(devices)
		default:
			f.Seen += int(devices)
		}
	}
	f.Ways = c.counts(ways)
	f.estimate(c)
	f.bound(n.Subnet)
	f.advise(n)
	return f
}

// independent gives the ways that can find a device whether the others do or not. On the local segment echo and TCP ask only those that address
// resolution has found, so that they cannot find what that has missed; beyond it nobody hears what is announced, and who is asked for it has been
// found. A list is a way where it names somebody.
func (n *Network) independent() []Way {
	return slices.DeleteFunc(slices.Clone(everyWay), func(w Way) bool {
		switch w {
		case Resolution:
			return !n.resolved
		case Echo, Connection:
			return n.resolved
		case Announcement:
			return !n.local
		}
		names := false
		for _, by := range n.seen {
			names = names || by[w]
		}
		return !names && !n.lists[w]
	})
}

func (c cells) counts(ways []Way) []Count {
	counts := make([]Count, len(ways))
	for i, w := range ways {
		counts[i].Way = w
		for pattern, devices := range c.count {
			if pattern>>i&1 == 1 {
				counts[i].Devices += int(devices)
			}
		}
		counts[i].Alone = int(c.count[1<<i])
	}
	return counts
}

// asDependent is the largest ratio of odds by which two ways alone are allowed to depend on each other: of two ways it cannot be estimated, and
// devices that drop the one often drop the other.
const asDependent = 4

func (f *Figure) estimate(c cells) {
	working := 0 // ways that have seen somebody
	for _, w := range f.Ways {
		working += min(w.Devices, 1)
	}
	if working < 2 || f.Seen == 0 {
		return
	}
	chao := c.chao()
	_, chaoHigh := chao.interval()
	var ok bool
	if f.Missed, f.Low, f.High, ok = c.logLinear(); !ok {
		f.Missed, f.Low, f.High = chao.missed, 0, chaoHigh
	}
	if working == 2 {
		f.High *= asDependent
	}
	f.AtLeast, f.Told = min(chao.missed, f.High), true
	listed := float64(f.Listed)
	f.Missed, f.Low, f.High, f.AtLeast = f.Missed+listed, f.Low+listed, f.High+listed, f.AtLeast+listed
}

// bound holds the figure to the addresses that a network has.
func (f *Figure) bound(subnet netip.Prefix) {
	if !subnet.IsValid() || !subnet.Addr().Is4() {
		return
	}
	room := math.Max(0, math.Exp2(float64(32-subnet.Bits()))-2-float64(f.Seen))
	f.Missed, f.Low, f.High, f.AtLeast = min(f.Missed, room), min(f.Low, room), min(f.High, room), min(f.AtLeast, room)
}

func (f *Figure) advise(n *Network) {
	uses := func(way Way) bool {
		return slices.ContainsFunc(f.Ways, func(c Count) bool { return c.Way == way && c.Devices > 0 })
	}
	working := 0
	for _, w := range f.Ways {
		working += min(w.Devices, 1)
	}
	add := func(is bool, advice Advice) {
		if is {
			f.Advice = append(f.Advice, advice)
		}
	}
	add(f.Seen == 0, Empty)
	add(working == 1, OneWay)
	add(working == 2, TwoWays)
	add(!n.local, FromWithin)
	add(n.local && !n.resolved, NoFrames)
	add(!uses(LeaseTable), NoLeases)
	add(!uses(EarlierSweeps), OnceSwept)
}

// Sum gives the figure of all networks together, of which each misses devices for itself. Those of which nothing can be said are left out of the
// estimate; Told says whether all of them tell one. The bounds are put together from those of the parts (Zou and Donner, 2008, "Construction of
// confidence limits about effect measures", Statistics in Medicine 27).
func Sum(figures []Figure) Figure {
	sum := Figure{Told: len(figures) > 0}
	var below, above float64
	for _, f := range figures {
		sum.Seen, sum.Listed = sum.Seen+f.Seen, sum.Listed+f.Listed
		sum.Told = sum.Told && (f.Told || f.Seen == 0)
		sum.Missed += f.Missed
		sum.AtLeast += f.AtLeast
		below += (f.Missed - f.Low) * (f.Missed - f.Low)
		above += (f.High - f.Missed) * (f.High - f.Missed)
	}
	sum.Low, sum.High = max(0, sum.Missed-math.Sqrt(below)), sum.Missed+math.Sqrt(above)
	sum.Told = sum.Told && sum.Seen > 0
	return sum
}
