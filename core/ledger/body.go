package ledger

import (
	"fmt"
	"net/netip"
	"slices"
	"time"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
	"airdrift/core/identify"
)

// body is what in one sweep is taken to be one device: one sighting or several.
type body struct {
	sightings []evidence.Sighting // without their facts
	index     []int               // of each sighting in the sweep
	hash      evidence.Hash       // of the facts of all its sightings
	tale      *tale               // what those tell
	facts     []evidence.Item     // themselves; nil where they are not loaded
	identity  identify.Beliefs
	keys      []Key
	reasons   []string // at most maxReasons
	sides     sides    // of what people have said
}

// gather joins the sightings that are one device.
func (b *book) gather() []body {
	b.reader.takeMACs()
	j := &joiner{sightings: b.reader.sightings, tales: b.reader.tales, parent: make([]int, len(b.reader.sightings)), reasons: map[int][]string{}}
	for i := range j.parent {
		j.parent[i] = i
	}
	if len(b.sweep.Told) > 0 {
		j.told, j.sides = b.sweep.Told, make([]sides, len(j.parent))
		for i := range j.sides {
			j.sides[i] = b.sidesOf(i)
		}
		j.joinTold()
	}
	j.joinByMAC()
	j.joinGateway(b.sweep)
	j.joinOwnAddresses()
	j.joinGatewayByKey(b.sweep)
	j.joinFacade()
	j.joinByKey()
	return b.told(j.bodies())
}

// told takes in what the sightings of each body tell together.
func (b *book) told(bodies []body) []body {
	for i := range bodies {
		body := &bodies[i]
		if len(body.index) > 1 {
			body.learn(b.factsOf(body))
		} else {
			body.hash, body.tale = b.reader.hashes[body.index[0]], b.reader.tales[body.index[0]]
		}
	}
	return bodies
}

// learn gives the body facts.
func (b *body) learn(facts []evidence.Item) {
	b.facts, b.hash, b.tale = facts, evidence.HashOf(facts), taleOf(facts)
}

// tell says what the body is, without the reasons, and by what it can be recognised.
func (b *body) tell(identity identify.Beliefs) {
	b.identity = identity
	b.keys = append(slices.Clone(b.tale.keys), b.tale.identifiers(identity)...)
}

// factsOf gives the facts of a body. Of very many sightings the first tell enough: what they say is bounded all the same.
func (b *book) factsOf(body *body) []evidence.Item {
	if body.facts == nil {
		body.facts = slices.Clip(b.reader.items(body.index[0])) // a sighting holds each fact once already
		for _, i := range body.index[1:min(len(body.index), maxAddrs)] {
			body.facts = evidence.Merge(body.facts, b.reader.items(i), evidence.Asked)
		}
	}
	return body.facts
}

// joiner keeps which sightings have been joined (a disjoint-set forest).
type joiner struct {
	sightings []evidence.Sighting
	tales     []*tale // of each sighting
	parent    []int
	reasons   map[int][]string // by the index of a sighting
	told      []Verdict
	sides     []sides // of each sighting, and by its root of all that is joined to it; nil where nothing is told
}

func (j *joiner) root(i int) int {
	for j.parent[i] != i {
		j.parent[i] = j.parent[j.parent[i]]
		i = j.parent[i]
	}
	return i
}

func (j *joiner) join(a, b int, why string) {
	if j.sightings[a].Unit != "" || j.sightings[b].Unit != "" {
		return // what stands behind a gateway is not the gateway
	}
	if ra, rb := j.root(a), j.root(b); ra != rb && (j.told == nil || !j.toldApart(ra, rb)) {
		j.parent[rb] = ra
		if j.told != nil {
			j.unite(ra, rb)
		}
		j.reasons[b] = append(j.reasons[b], why)
	}
}

// identifies reports whether a MAC is one device's own.
func identifies(mac hwaddr.MAC) bool { return !mac.IsZero() && !mac.IsShared() && !mac.IsGroup() }

// joinByMAC takes all addresses at which one MAC answers to be one device, which answers for others or has several.
func (j *joiner) joinByMAC() {
	first := map[hwaddr.MAC]int{}
	for i, s := range j.sightings {
		if !identifies(s.MAC) {
			continue
		}
		if at, known := first[s.MAC]; known {
			j.join(at, i, fmt.Sprintf("%s and %s answer with the same MAC address %s.", j.sightings[at].Addr, s.Addr, s.MAC))
		} else {
			first[s.MAC] = i
		}
	}
}

// joinGateway finds the gateway's addresses on its far sides. A router takes one from the time to live of each packet
// it forwards (RFC 1812, 5.3.1), so an address beyond it whose answer has none taken off is the router's own.
func (j *joiner) joinGateway(sweep Sweep) {
	gateway := slices.IndexFunc(j.sightings, func(s evidence.Sighting) bool { return s.Addr == sweep.Gateway })
	if gateway < 0 {
		return
	}
	for i, s := range j.sightings {
		onLink := slices.ContainsFunc(sweep.OnLink, func(p netip.Prefix) bool { return p.Contains(s.Addr) })
		if !onLink && s.MAC.IsZero() && j.tales[i].first {
			j.join(gateway, i, fmt.Sprintf("%s lies beyond the gateway %s, and its answer has passed no router: it is an address of the gateway itself.",
				s.Addr, sweep.Gateway))
		}
	}
}

// joinOwnAddresses finds the device of an address that was known again by an identifier while it was asked, and the router of a
// virtual address (RFC 9568): the one whose own tables give it. Where several do, it belongs to none of them.
func (j *joiner) joinOwnAddresses() {
	at := map[string][]int{}
	named := map[string][]int{} // which give an address as their own
	for i, s := range j.sightings {
		at[s.Addr.String()] = append(at[s.Addr.String()], i)
		for _, a := range j.tales[i].own {
			named[a] = append(named[a], i)
		}
	}
	for i, s := range j.sightings {
		if same := at[j.tales[i].same]; len(same) == 1 && !identifies(s.MAC) {
			j.join(same[0], i, fmt.Sprintf("%s says the identifier of %s, whose own tables give it.", s.Addr, j.sightings[same[0]].Addr))
		}
		owners := map[int]int{}
		for _, owner := range named[s.Addr.String()] {
			if identifies(j.sightings[owner].MAC) {
				owners[j.root(owner)] = owner
			}
		}
		if s.MAC.IsShared() && len(owners) == 1 {
			for _, owner := range owners {
				j.join(owner, i, fmt.Sprintf("%s is a virtual address, and stands in the own tables of %s.", s.Addr, j.sightings[owner].Addr))
			}
		}
	}
}

// joinGatewayByKey finds the gateway's addresses in other networks where no time to live tells of them: an address that shows its key,
// has no MAC of its own and is the only one to do so in its network. A key that several of one network show comes from a
// factory. Virtual addresses of the gateway may lie beside it.
func (j *joiner) joinGatewayByKey(sweep Sweep) {
	gateway := slices.IndexFunc(j.sightings, func(s evidence.Sighting) bool { return s.Addr == sweep.Gateway && identifies(s.MAC) })
	if gateway < 0 {
		return
	}
	for _, key := range j.tales[gateway].keys {
		others, single := []int{}, true
		networks := map[netip.Prefix]bool{networkOf(sweep.Gateway): true}
		for i, s := range j.sightings {
			if j.root(i) == j.root(gateway) || !slices.Contains(j.tales[i].keys, key) {
				continue
			}
			others = append(others, i)
			if !s.MAC.IsShared() {
				network := networkOf(s.Addr)
				single = single && s.MAC.IsZero() && !networks[network]
				networks[network] = true
			}
		}
		for _, i := range others {
			if single {
				j.join(gateway, i, fmt.Sprintf("%s shows the %s of the gateway %s, and is the only one of its network that does.", j.sightings[i].Addr, key.Key, sweep.Gateway))
			}
		}
	}
}

// networkOf gives the usual network of an address, where its real one is not known: a /24, or a /64 of IPv6 (RFC 4291,
// 2.5.4).
func networkOf(a netip.Addr) netip.Prefix {
	bits := 64
	if a.Is4() {
		bits = 24
	}
	network, _ := a.Prefix(bits) // never fails: the length fits the address
	return network
}

// leastFacade is from how many addresses on like answers are taken to be one that answers for all of them.
const leastFacade = 3

// joinFacade finds the firewall that accepts connections for a whole network: addresses beyond the segment that accept
// every port, give no echo and say nothing are not devices, but one that stands before them.
func (j *joiner) joinFacade() {
	byNetwork := map[netip.Prefix][]int{}
	for i, s := range j.sightings {
		if s.MAC.IsZero() && j.tales[i].facade {
			network := networkOf(s.Addr)
			byNetwork[network] = append(byNetwork[network], i)
		}
	}
	for network, members := range byNetwork {
		if len(members) < leastFacade {
			continue
		}
		why := fmt.Sprintf("%d addresses of %s accept every connection and say nothing: one device answers for them all.", len(members), network)
		for _, i := range members[1:] {
			j.join(members[0], i, why)
		}
	}
}

// joinByKey joins two bodies that show the same key, one of them at least without a MAC of its own. A key that more show
// is one that a maker put into all of a model, and tells nothing; neither do keys that point from one body to several.
// All this is decided on the bodies as they are before any is joined, so that the order of sightings makes no difference.
func (j *joiner) joinByKey() {
	type pair struct{ a, b int }
	groups := j.groups()
	holders := map[Key][]int{}
	for root, g := range groups {
		for _, k := range g.keys {
			holders[k] = append(holders[k], root)
		}
	}
	shared := map[pair]Key{}
	partners := map[int]int{}
	for k, roots := range holders {
		if len(roots) != 2 {
			continue
		}
		p := pair{min(roots[0], roots[1]), max(roots[0], roots[1])}
		if a, b := groups[p.a], groups[p.b]; a.hasMAC && b.hasMAC || disagree(a.keys, b.keys) || areElsewhere(a, b) {
			continue // the key came with an image that several were made from
		}
		if known, twice := shared[p]; !twice || k.Key < known.Key {
			shared[p] = k
		}
	}
	for p := range shared {
		partners[p.a]++
		partners[p.b]++
	}
	for p, k := range shared {
		if partners[p.a] == 1 && partners[p.b] == 1 {
			j.join(p.a, p.b, fmt.Sprintf("%s and %s show the same %s, which no other does.", j.sightings[p.a].Addr, j.sightings[p.b].Addr, k.Key))
		}
	}
}

// group is what the joined sightings of one body have in common.
type group struct {
	keys   []Key
	hasMAC bool
	hops   map[int]bool        // how many routers their answers have passed
	ids    map[string][]string // identifiers that they tell, by the fact
}

// areElsewhere reports whether what shows one key is at different distances, or tells different identifiers of one sort.
func areElsewhere(a, b group) bool {
	if len(a.hops) > 0 && len(b.hops) > 0 && !anyOf(a.hops, b.hops) {
		return true
	}
	for fact, values := range a.ids {
		others := b.ids[fact]
		if len(others) > 0 && !slices.ContainsFunc(values, func(v string) bool { return slices.Contains(others, v) }) {
			return true
		}
	}
	return false
}

func anyOf(a, b map[int]bool) bool {
	for hops := range a {
		if b[hops] {
			return true
		}
	}
	return false
}

// groups gives the bodies as they are joined so far, by the index of their root.
func (j *joiner) groups() map[int]group {
	groups := map[int]group{}
	for i, s := range j.sightings {
		g := groups[j.root(i)]
		if g.ids == nil {
			g.hops, g.ids = map[int]bool{}, map[string][]string{}
		}
		g.hasMAC = g.hasMAC || identifies(s.MAC)
		if hops := j.tales[i].hops; hops >= 0 {
			g.hops[hops] = true
		}
		for _, id := range j.tales[i].ids {
			g.ids[id.Key] = append(g.ids[id.Key], id.Value)
		}
		for _, k := range j.tales[i].keys {
			if !slices.Contains(g.keys, k) {
				g.keys = append(g.keys, k)
			}
		}
		groups[j.root(i)] = g
	}
	return groups
}

// bodies gives the groups, in the order of their first sighting.
func (j *joiner) bodies() []body {
	at := make([]int, len(j.sightings)) // the body of each root, counted from 1
	bodies := make([]body, 0, len(j.sightings))
	numbers := make([]int, len(j.sightings))
	for i, s := range j.sightings {
		numbers[i] = i
		root := j.root(i)
		n := at[root] - 1
		if n < 0 {
			n = len(bodies)
			at[root] = n + 1
			// Most are one sighting: no copy of it.
			bodies = append(bodies, body{sightings: j.sightings[i : i+1 : i+1], index: numbers[i : i+1 : i+1]})
			if j.told != nil {
				bodies[n].sides = j.sides[root]
			}
		} else {
			bodies[n].sightings = append(bodies[n].sightings, s)
			bodies[n].index = append(bodies[n].index, i)
		}
		bodies[n].reasons = append(bodies[n].reasons, j.reasons[i]...)
	}
	for i := range bodies {
		b := &bodies[i]
		if more := len(b.reasons) - maxReasons; more > 0 {
			b.reasons = append(b.reasons[:maxReasons-1:maxReasons-1], fmt.Sprintf("And so are %d others.", more+1))
		}
	}
	return bodies
}

func (b body) macs() []hwaddr.MAC {
	var macs []hwaddr.MAC
	for _, s := range b.sightings {
		if s.Unit == "" && !s.MAC.IsZero() && len(macs) < maxMACs && !slices.Contains(macs, s.MAC) {
			macs = append(macs, s.MAC)
		}
	}
	return macs
}

// whos gives under what the body was met, at most maxAddrs.
func (b body) whos() []evidence.Who {
	whos := make([]evidence.Who, min(len(b.sightings), maxAddrs))
	for i := range whos {
		whos[i] = b.sightings[i].Who()
	}
	return whos
}

func (b body) addrs() []netip.Addr {
	addrs := make([]netip.Addr, 0, len(b.sightings))
	for _, s := range b.sightings {
		if s.Addr.IsValid() && s.Unit == "" {
			addrs = append(addrs, s.Addr)
		}
	}
	slices.SortFunc(addrs, netip.Addr.Compare)
	return slices.Compact(addrs)
}

// behind gives the unit that the body is, behind which address; "" where it is none.
func (b body) behind() string {
	if s := b.sightings[0]; s.Unit != "" {
		return s.Unit + " behind " + s.Addr.String()
	}
	return ""
}

// asked reports whether the sweep asked it all there was to ask, at one address at least.
func (b body) asked() bool {
	return slices.ContainsFunc(b.sightings, func(s evidence.Sighting) bool { return s.Whole })
}

func (b body) firstAt(otherwise time.Time) time.Time {
	first := otherwise
	for i, s := range b.sightings {
		if i == 0 || s.FirstAt.Before(first) {
			first = s.FirstAt
		}
	}
	return first
}

// manyAddresses is from how many IPv4 addresses of one MAC on a device is taken to answer for others.
const manyAddresses = 5

// answersForOthers reports whether one MAC answers for many addresses, or one that has none for several. The addresses of
// a router's several interfaces do not count together.
func (b body) answersForOthers() bool {
	byMAC := map[hwaddr.MAC]int{}
	for _, s := range b.sightings {
		if s.Addr.Is4() {
			byMAC[s.MAC]++
		}
	}
	for mac, addrs := range byMAC {
		if identifies(mac) && addrs >= manyAddresses || mac.IsZero() && addrs >= leastFacade && b.tale.facade {
			return true
		}
	}
	return false
}

// traits finds what an auditor must know of how a device appears on the network. Where the sweep did not look at all of its
// addresses, what was known stays.
func (b *book) traits(body body, d Device) []Trait {
	var traits []Trait
	partial := len(d.Addrs) > len(body.addrs())
	add := func(t Trait, has bool) {
		if has || partial && slices.Contains(d.Traits, t) {
			traits = append(traits, t)
		}
	}
	add(OwnMachine, body.tale.self != "")
	add(AnswersForOthers, body.answersForOthers())
	add(AcceptsEverything, body.tale.every)
	add(VirtualRouter, slices.ContainsFunc(body.macs(), hwaddr.MAC.IsShared))
	add(WrongSubnet, slices.ContainsFunc(body.index, b.isStray))
	return traits
}

// isStray reports whether an address was met on the segment that does not belong there.
func (b *book) isStray(sighting int) bool {
	s := b.reader.sightings[sighting]
	if s.MAC.IsZero() || !s.Addr.Is4() || !b.reader.tales[sighting].heard {
		return false
	}
	return !slices.ContainsFunc(b.sweep.OnLink, func(p netip.Prefix) bool { return p.Contains(s.Addr) })
}

// segment gives the vantage's own subnet where a body was met on it.
func (b *book) segment(body body) netip.Prefix {
	if len(body.macs()) > 0 && len(b.sweep.OnLink) > 0 {
		return b.sweep.OnLink[0].Masked()
	}
	return netip.Prefix{}
}
