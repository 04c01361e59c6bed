// Package ledger keeps devices over time: it recognises in the sightings of a sweep the devices that are known, holds
// them against the register, and says what changed. It is a pure function of what is stored.
package ledger

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
	"airdrift/core/identify"
	"airdrift/core/netrange"
	"airdrift/core/register"
)

// Standing is a device against the register.
type Standing string

// The standings there are.
const (
	Managed   Standing = "managed"
	Unmanaged Standing = "unmanaged"
	Missing   Standing = "missing"   // in the register, never seen or no longer there
	SetAside  Standing = "set aside" // known and left out, with a reason
)

// Trait is something about how a device appears on the network that an auditor must know of before believing the rest.
type Trait string

// The traits there are.
const (
	OwnMachine        Trait = "own machine"        // the sweep was made from it
	AnswersForOthers  Trait = "answers for others" // one MAC, many addresses: ARP on behalf of others, or a firewall
	AcceptsEverything Trait = "accepts every port" // an open port of it proves nothing
	VirtualRouter     Trait = "virtual router"     // an address that several routers take turns at
	WrongSubnet       Trait = "wrong subnet"       // an address from another subnet than the segment's
)

// Traits are all traits there are.
var Traits = []Trait{OwnMachine, AnswersForOthers, AcceptsEverything, VirtualRouter, WrongSubnet}

// Aside says who has set a device aside, and why.
type Aside struct {
	Reason string
	By     string
	At     time.Time
}

// Presence is a device against the last sweep that covered it.
type Presence string

// The presences there are.
const (
	Seen      Presence = "seen"
	Silent    Presence = "silent"    // covered, and it did not answer
	Uncovered Presence = "uncovered" // no sweep has looked where it should be
)

// Device is one device, recognised across sweeps and addresses.
type Device struct {
	ID        uint64            // 0 until it is stored
	MACs      []hwaddr.MAC      // all it has had, the one seen last first
	Former    []hwaddr.MAC      `json:",omitempty"` // of them those that it has no more
	KeepsMAC  bool              `json:",omitempty"` // it was known again by a private MAC address, so that it does not change it at each visit
	Views     []View            `json:",omitempty"` // from where it was seen, at most maxViews
	Unit      string            `json:",omitempty"` // that it is, and behind which address, where it has none of its own
	Addrs     []netip.Addr      // held when it was seen last, in ascending order, at most maxAddrs
	Keys      []Key             // what recognises it besides MAC and name
	Identity  identify.Identity // what is believed of it
	Items     []evidence.Item   // the evidence of the last sweep that saw it
	FirstSeen time.Time         // zero for one known from the register alone
	LastSeen  time.Time
	LastSweep uint64 // the sweep that saw it last
	Presence  Presence
	Standing  Standing
	Entry     *register.Entry // what the register says of it; nil where it does not
	MatchedBy string          // why Entry is taken to mean this device
	Reasons   []string        // why the sightings of the last sweep are taken to be one device, and this one
	Contested []netip.Addr    // addresses that another device holds as well
	Traits    []Trait
	Segment   netip.Prefix // the vantage's own subnet where it was seen with its MAC; invalid where it lies beyond
	Aside     *Aside       // nil where nobody has set it aside
	Note      string       // free text that somebody wrote
	Decisions []uint64     `json:",omitempty"` // from which Aside and Note come
	Was       []uint64     `json:",omitempty"` // the numbers of devices that were merged into it
}

// View is where a device was seen from one vantage last.
type View struct {
	Vantage string // and its network, as a machine is carried from one to another
	Addrs   []netip.Addr
	Asked   uint64 `json:",omitempty"` // the last sweep from there that asked it all it was to ask; 0 for none
}

// presentMACs gives the MACs that a device has now, as far as is known.
func (d Device) presentMACs() []hwaddr.MAC {
	if len(d.Former) == 0 {
		return d.MACs
	}
	return slices.DeleteFunc(slices.Clone(d.MACs), func(m hwaddr.MAC) bool { return slices.Contains(d.Former, m) })
}

// view gives where the device was seen from a vantage; ok is false where it never was. Devices stored before vantages were told apart
// were seen from any.
func (d Device) view(vantage string) (addrs []netip.Addr, ok bool) {
	if len(d.Views) == 0 {
		return d.Addrs, true
	}
	for _, v := range d.Views {
		if v.Vantage == vantage {
			return v.Addrs, true
		}
	}
	return nil, false
}

// Key is something a device says that hardly another one says too.
type Key struct {
	Key   string `json:"key"` // of the fact: ssh.hostkey, tls.key, snmp.engine; or serial
	Value string `json:"value"`
}

// keyFacts gives the facts that recognise a device by a pair of keys of its own.
var keyFacts = sync.OnceValue(func() []string { return evidence.KeysFor(evidence.PublicKey) })

// Sweep is what one sweep saw, and where it looked.
type Sweep struct {
	ID        uint64
	Began     time.Time
	Vantage   string         // the place it was made from
	Covered   netrange.Set   // the addresses it was to look at
	Ports     []uint16       // TCP ports that each device was asked at; nil where that is not known
	Off       []string       // protocols that were not used
	PortsOf   PortsOf        // of sweeps before; nil where that is not known
	Stopped   bool           // it was stopped, so who was not seen may be there all the same
	Gateway   netip.Addr     // the first router from the vantage; invalid where there is none
	OnLink    []netip.Prefix // the vantage's own segment
	Sightings []evidence.Sighting
	Devices   []uint64 // for each sighting the device it was taken for before, 0 for none; nil where it is entered first

	CoveredBefore netrange.Set // what whole sweeps before this one have covered
}

// PortsOf gives the TCP ports at which a sweep has asked devices.
type PortsOf func(sweep uint64) map[uint16]bool

// Identifier tells what a device is; identify.Engine is one.
type Identifier interface {
	Identify(items []evidence.Item) identify.Identity
}

// Result is the ledger after a sweep.
type Result struct {
	Devices []Device
	Changes []Change
	Of      []int // for each sighting of the sweep the index of its device
	Merges  []Merge
}

// Merge says that what was taken for a device of its own before is an address of another.
type Merge struct {
	From uint64 // the number of the device that is no more
	Into int    // index into the devices of the result
}

// Apply enters a sweep into the ledger. known are all devices of the site, in any order; register is its whole
// register. Devices that are new have no ID in the result.
func Apply(known []Device, entries []register.Entry, sweep Sweep, identifier Identifier) Result {
	b := &book{
		sweep: sweep, identifier: identifier, devices: seenOnly(known), of: make([]int, len(sweep.Sightings)), ids: map[uint64]bool{}, vantage: placeOf(sweep),
	}
	for _, d := range b.devices {
		b.ids[d.ID] = true
	}
	b.ports = make(map[uint16]bool, len(sweep.Ports))
	for _, port := range sweep.Ports {
		b.ports[port] = true
	}
	bodies := gather(sweep, identifier)
	for i, device := range b.recognise(bodies) {
		b.enter(bodies[i], device)
	}
	b.mergeParts()
	b.markUnseen()
	b.markContested()
	covered := sweep.CoveredBefore
	if !sweep.Stopped {
		covered = covered.Union(sweep.Covered)
	}
	devices := Match(b.devices, entries, covered)
	return Result{Devices: devices, Changes: b.changes, Of: b.of, Merges: b.merges}
}

// placeOf tells vantages apart: by the name of the interface and the network it stands in.
func placeOf(sweep Sweep) string {
	if len(sweep.OnLink) == 0 {
		return sweep.Vantage
	}
	return strings.TrimSpace(sweep.Vantage + " " + sweep.OnLink[0].Masked().String())
}

// seenOnly leaves out devices that stand for entries of the register; Match makes them anew.
func seenOnly(known []Device) []Device {
	devices := make([]Device, 0, len(known))
	for _, d := range known {
		if !d.FirstSeen.IsZero() {
			devices = append(devices, d)
		}
	}
	return devices
}

// book is the ledger while a sweep is entered.
type book struct {
	sweep      Sweep
	identifier Identifier
	devices    []Device
	changes    []Change
	merges     []Merge
	of         []int           // the device of each sighting
	vantage    string          // of the sweep, with its network
	shownBy    map[Key]int     // by how many bodies each key is shown
	ports      map[uint16]bool // that were asked
	ids        map[uint64]bool // numbers of devices that are in use
}

// enter writes what was seen of one device; at -1 it is a new one.
func (b *book) enter(body body, at int) {
	if at < 0 {
		at = len(b.devices)
		b.devices = append(b.devices, Device{ID: b.formerID(body), FirstSeen: body.firstAt(b.sweep.Began)})
		b.changes = append(b.changes, Change{Kind: Appeared, Device: at, After: addrText(body.addrs())})
	} else {
		if kept := b.keptFacts(b.devices[at], body); len(kept) > 0 {
			body.facts = evidence.Renew(kept, body.facts)
			body.identify(b.identifier)
		}
		b.compare(body, at)
	}
	d := &b.devices[at]
	addrs := b.addrsNow(*d, body)
	b.noteMACs(d, body)
	d.Addrs, d.Unit = addrs, body.behind()
	d.Keys = body.keys
	d.Items = body.facts
	d.Identity = body.identity
	// A clock that was set back must not make a device vanish before it appeared.
	d.LastSeen = latest(body.firstAt(b.sweep.Began), d.FirstSeen)
	d.LastSweep = b.sweep.ID
	d.Presence = Seen
	d.Reasons = body.reasons
	d.Contested = nil
	d.Traits = b.traits(body, *d)
	if segment := b.segment(body); segment.IsValid() || len(d.presentMACs()) == 0 {
		d.Segment = segment
	}
	d.look(b.vantage, body.addrs(), b.sweep.ID, body.asked())
	for _, i := range body.index {
		b.of[i] = at
	}
}

// maxViews is from how many vantages it is kept where a device was seen.
const maxViews = 32

// look notes where the device was seen from a vantage now, and whether it was asked all there was to ask.
func (d *Device) look(vantage string, addrs []netip.Addr, sweep uint64, asked bool) {
	now := View{Vantage: vantage, Addrs: addrs[:min(len(addrs), maxAddrs)]}
	if asked {
		now.Asked = sweep
	}
	views := []View{now}
	for _, v := range d.Views {
		switch {
		case v.Vantage == vantage:
			views[0].Asked = max(views[0].Asked, v.Asked)
		case len(views) < maxViews:
			views = append(views, v)
		}
	}
	d.Views = views
}

// noteMACs takes in the MACs a body shows. One that the device had is former where the sweep looked at the device's segment, asked for
// all of its addresses, and met it with others.
func (b *book) noteMACs(d *Device, body body) {
	now := body.macs()
	for _, m := range now {
		d.KeepsMAC = d.KeepsMAC || m.IsPrivate() && slices.Contains(d.presentMACs(), m)
	}
	d.Former = slices.DeleteFunc(slices.Clone(d.Former), func(m hwaddr.MAC) bool { return slices.Contains(now, m) })
	if len(now) > 0 && !b.sweep.Stopped && b.covers(*d) && b.onSegment(*d) {
		for _, m := range d.MACs {
			if !slices.Contains(now, m) && !slices.Contains(d.Former, m) {
				d.Former = append(d.Former, m)
			}
		}
	}
	d.MACs = newestFirst(now, d.MACs)
	d.Former = slices.DeleteFunc(d.Former, func(m hwaddr.MAC) bool { return !slices.Contains(d.MACs, m) })
}

// keptFacts gives the facts of a device that a sweep leaves as they were, as it did not ask for them. Beyond a router the device cannot be
// asked what it says on its segment alone; its ports are the same from everywhere.
func (b *book) keptFacts(d Device, body body) []evidence.Item {
	if !body.asked() {
		return d.Items // it was only heard, or the sweep ended before it was asked
	}
	beyond := d.Segment.IsValid() && len(body.macs()) == 0
	if !beyond && len(b.sweep.Off) == 0 && !b.asksLess(d) {
		return nil
	}
	asked := map[evidence.Port]bool{} // before, as a port of its own
	for _, it := range d.Items {
		asked[it.Port] = asked[it.Port] || it.Key == evidence.KeyTCPOpen
	}
	var kept []evidence.Item
	for _, it := range d.Items {
		keep := beyond || slices.Contains(b.sweep.Off, string(it.Source))
		if asked[it.Port] {
			keep = b.sweep.Ports != nil && !b.ports[it.Port.Number]
		}
		if keep {
			kept = append(kept, it)
		}
	}
	return kept
}

// asksLess reports whether the sweep leaves out a port at which the device was open.
func (b *book) asksLess(d Device) bool {
	return b.sweep.Ports != nil && slices.ContainsFunc(d.Items, func(it evidence.Item) bool { return it.Key == evidence.KeyTCPOpen && !b.ports[it.Port.Number] })
}

func latest(a, b time.Time) time.Time {
	if a.Before(b) {
		return b
	}
	return a
}

// formerID gives the number that a body's sightings stood under before, so that a ledger that is written anew keeps its
// numbers; 0 where there is none, or another device has it.
func (b *book) formerID(body body) uint64 {
	if b.sweep.Devices == nil {
		return 0
	}
	for _, i := range body.index {
		id := b.sweep.Devices[i]
		if id != 0 && !b.ids[id] {
			b.ids[id] = true
			return id
		}
	}
	return 0
}

func isKnown(value string) bool { return value != "" && value != identify.Unknown }

const (
	// maxAddrs is how many addresses of a device are kept. One that has more answers for others, and its sightings tell which.
	maxAddrs = 1024
	// maxMACs is how many MACs of a device are kept: one that makes itself new ones leaves the oldest behind.
	maxMACs = 64
	// maxReasons is how many reasons are kept why sightings are one device.
	maxReasons = 32
)

func newestFirst(now, before []hwaddr.MAC) []hwaddr.MAC {
	all := slices.Clone(now[:min(len(now), maxMACs)])
	for _, m := range before {
		if len(all) < maxMACs && !slices.Contains(all, m) {
			all = append(all, m)
		}
	}
	return all
}

// markUnseen tells devices that kept silent from those the sweep did not look for.
func (b *book) markUnseen() {
	for i := range b.devices {
		d := &b.devices[i]
		if d.LastSweep == b.sweep.ID || b.sweep.Stopped || !b.misses(*d) {
			continue
		}
		if d.Presence == Seen {
			b.changes = append(b.changes, Change{Kind: Vanished, Device: i, Before: addrText(d.Addrs)})
		}
		d.Presence = Silent
	}
}

// misses reports whether a sweep that did not see a device says something of it: it was seen from this vantage before, and the sweep
// looked wherever that was.
func (b *book) misses(d Device) bool {
	addrs, seen := d.view(b.vantage)
	return seen && b.looked(d, addrs)
}

// covers reports whether the sweep looked where a device was: at all of its addresses.
func (b *book) covers(d Device) bool { return b.looked(d, d.Addrs) }

func (b *book) looked(d Device, addrs []netip.Addr) bool {
	for _, a := range settled(addrs) {
		if !b.lookedAt(d, a) {
			return false
		}
	}
	return len(addrs) > 0
}

// lookedAt reports whether the sweep would have found a device at an address: it was asked for, or is one of those that are
// found by calling all of a segment at once and by hearing, where the sweep looked through the whole of it.
func (b *book) lookedAt(d Device, a netip.Addr) bool {
	if b.sweep.Covered.Contains(a) {
		return true
	}
	return b.onSegment(d) && b.sweep.Covered.Covers(b.sweep.OnLink) && (a.Is6() || !d.Segment.Contains(a))
}

// onSegment reports whether a device was met on the segment that the sweep was made from.
func (b *book) onSegment(d Device) bool {
	return d.Segment.IsValid() && slices.ContainsFunc(b.sweep.OnLink, func(p netip.Prefix) bool { return p.Masked() == d.Segment })
}

// addrsNow gives the addresses of a device: those it was seen at, and those it had where this sweep did not look, or where it was never
// seen from this vantage. A sweep that was stopped takes one away only from who turned up at another, and so does one from a vantage
// that has not seen it there, in the network of that other alone.
func (b *book) addrsNow(d Device, body body) []netip.Addr {
	now := body.addrs()
	seen := now
	turnedUp := map[netip.Prefix]bool{} // the networks in which it has an address that is new
	for _, a := range settled(now) {
		if !holds(d.Addrs, a) {
			turnedUp[networkOf(a)] = true
		}
	}
	view, _ := d.view(b.vantage)
	for _, a := range d.Addrs {
		gone := b.lookedAt(d, a)
		if b.sweep.Stopped {
			gone = gone && len(turnedUp) > 0
		}
		if !holds(view, a) {
			gone = gone && turnedUp[networkOf(a)]
		}
		if !gone && !holds(seen, a) {
			now = append(now, a)
		}
	}
	slices.SortFunc(now, netip.Addr.Compare)
	return now[:min(len(now), maxAddrs)]
}

// holds reports whether an address is among others in ascending order.
func holds(sorted []netip.Addr, a netip.Addr) bool {
	_, found := slices.BinarySearchFunc(sorted, a, netip.Addr.Compare)
	return found
}

// settled gives the addresses that say where a device is. IPv6 addresses come and go (RFC 8981), so they count only where
// there is no other.
func settled(addrs []netip.Addr) []netip.Addr {
	for _, good := range []func(netip.Addr) bool{netip.Addr.Is4, func(a netip.Addr) bool { return !a.IsLinkLocalUnicast() }} {
		var some []netip.Addr
		for _, a := range addrs {
			if good(a) {
				some = append(some, a)
			}
		}
		if len(some) > 0 {
			return some
		}
	}
	return addrs
}

// markContested finds addresses that two devices held in this sweep.
func (b *book) markContested() {
	holders := map[netip.Addr][]int{}
	for i, s := range b.sweep.Sightings {
		if s.Addr.IsValid() && s.Unit == "" {
			holders[s.Addr] = append(holders[s.Addr], b.of[i])
		}
	}
	for a, devices := range holders {
		slices.Sort(devices)
		devices = slices.Compact(devices)
		for _, i := range devices {
			if d := &b.devices[i]; len(devices) > 1 && len(d.Contested) < maxAddrs {
				d.Contested = append(d.Contested, a)
			}
		}
	}
}

// maxTold is how many addresses a text names.
const maxTold = 16

func addrText(addrs []netip.Addr) string {
	texts := make([]string, min(len(addrs), maxTold))
	for i := range texts {
		texts[i] = addrs[i].String()
	}
	text := strings.Join(texts, ", ")
	if len(addrs) > maxTold {
		text += fmt.Sprintf(" and %d others", len(addrs)-maxTold)
	}
	return text
}
