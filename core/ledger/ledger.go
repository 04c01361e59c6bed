// Package ledger keeps devices over time: it recognises in the sightings of a sweep the devices that are known, holds
// them against the register, and says what changed. It is a pure function of what is stored.
package ledger

import (
	"cmp"
	"net/netip"
	"slices"
	"time"

	"airdrift/core/evidence"
	"airdrift/core/identify"
	"airdrift/core/netrange"
	"airdrift/core/register"
)

// Sweep is what one sweep saw, and where it looked.
type Sweep struct {
	ID        uint64
	Began     time.Time
	Vantage   string         // the place it was made from
	Covered   netrange.Set   // the addresses it was to look at
	Ports     []uint16       // TCP ports that each device was asked at; nil where that is not known
	Off       []string       // protocols that were not used
	PortsOf   PortsOf        // of sweeps before; nil where that is not known
	Patience  Patience       // with devices that were not seen
	Stopped   bool           // it was stopped, so what was not seen may be there all the same
	Gateway   netip.Addr     // the first router from the vantage; invalid where there is none
	OnLink    []netip.Prefix // the vantage's local segment
	Sightings []evidence.Sighting
	Hashes    []evidence.Hash                             // of the facts of each sighting; nil where they are to be computed
	Facts     func(sighting int) ([]evidence.Item, error) // gives the facts where the sightings are without them; nil where they have them
	Told      []Verdict                                   // what people have said of what is one device
	Devices   []uint64                                    // for each sighting the device it was taken for before, 0 for none; nil where it is entered first

	CoveredBefore netrange.Set // what whole sweeps before this one have covered; for Apply alone
	Links         []Decision   // with which people have linked devices to entries; for Apply alone
}

// Patience tells whether a device is no longer waited for that so many sweeps in a row have missed, and that was seen last so long ago.
type Patience interface {
	UsedUp(missed int, ago time.Duration) bool
}

// PortsOf gives the TCP ports at which a sweep has asked devices.
type PortsOf func(sweep uint64) map[uint16]bool

// Identifier tells what a device is; identify.Engine is one.
type Identifier interface {
	Identify(items []evidence.Item) identify.Identity
	Edition() string // equal for identifiers that tell the same of the same facts
}

// Result is what a sweep makes of the devices that it says something of.
type Result struct {
	Devices []Device
	Changes []Change
	Of      []int // for each sighting of the sweep the index of its device
	Merges  []Merge
	Ended   []Ended
	Left    []Term // terms by which devices were known and are no more
}

// Merge says that what was taken for a device of its own before is an address of another.
type Merge struct {
	From uint64 // the number of the device that is no more
	Into int    // index into the devices of the result
}

// Ended is a tenure that has come to its end.
type Ended struct {
	Device int // index into the devices of the result
	Tenure Tenure
}

// Enter enters a sweep into the ledger whose devices stand on a shelf. Devices that are new have no ID in the result.
func Enter(shelf Shelf, sweep Sweep, identifier Identifier) (Result, error) {
	b := newBook(shelf, sweep, identifier)
	bodies := b.gather()
	b.lookBeyond()
	if err := b.look(bodies); err != nil {
		return Result{}, err
	}
	of := b.recognise(bodies)
	fresh := 0
	for _, device := range of {
		if device < 0 {
			fresh++
		}
	}
	b.devices, b.touched = slices.Grow(b.devices, fresh), slices.Grow(b.touched, fresh)
	for i, device := range of {
		b.enter(bodies[i], device)
		bodies[i] = body{} // very many take much memory
	}
	if err := b.lookAround(); err != nil {
		return Result{}, err
	}
	b.mergeParts()
	b.markUnseen()
	b.markContested()
	if err := cmp.Or(b.err, b.reader.err); err != nil {
		return Result{}, err
	}
	return b.result(), nil
}

func newBook(shelf Shelf, sweep Sweep, identifier Identifier) *book {
	b := &book{sweep: sweep, identifier: identifier, reader: newReader(sweep), shelf: shelf, of: make([]int, len(sweep.Sightings)), at: map[uint64]int{}, asked: make(terms, 3*len(sweep.Sightings)), vantage: placeOf(sweep)}
	b.ports = make(map[uint16]bool, len(sweep.Ports))
	for _, port := range sweep.Ports {
		b.ports[port] = true
	}
	return b
}

// Apply enters a sweep where all is in memory. known are all devices of the site, in any order; register is its whole register. Devices
// that are new have no ID in the result, which has all devices of the site.
func Apply(known []Device, entries []register.Entry, sweep Sweep, identifier Identifier) Result {
	seen := seenOnly(known)
	result, err := Enter(Whole(seen), sweep, identifier)
	if err != nil {
		panic("ledger: a sweep in memory could not be read: " + err.Error())
	}
	result.Over(seen)
	covered := sweep.CoveredBefore
	if !sweep.Stopped {
		covered = covered.Union(sweep.Covered)
	}
	result.Devices = Match(result.Devices, entries, sweep.Links, covered)
	return result
}

// Over lays the result over all devices that there were, and then speaks of those.
func (r *Result) Over(known []Device) {
	at := make(map[uint64]int, len(known))
	gone := map[uint64]bool{}
	for _, m := range r.Merges {
		gone[m.From] = true
	}
	all := make([]Device, 0, len(known)+len(r.Devices))
	for _, d := range known {
		if !gone[d.ID] {
			at[d.ID] = len(all)
			all = append(all, d)
		}
	}
	place := make([]int, len(r.Devices))
	for i, d := range r.Devices {
		to, known := at[d.ID]
		if !known || d.ID == 0 {
			to = len(all)
			all = append(all, d)
		}
		all[to], place[i] = d, to
	}
	r.Devices = all
	for i := range r.Of {
		r.Of[i] = place[r.Of[i]]
	}
	for i := range r.Changes {
		r.Changes[i].Device = place[r.Changes[i].Device]
	}
	for i := range r.Merges {
		r.Merges[i].Into = place[r.Merges[i].Into]
	}
	for i := range r.Ended {
		r.Ended[i].Device = place[r.Ended[i].Device]
	}
}

// book is the ledger while a sweep is entered.
type book struct {
	sweep      Sweep
	identifier Identifier
	reader     *reader
	shelf      Shelf
	devices    []Device       // those that the sweep may say something of
	at         map[uint64]int // their places by their numbers
	touched    []bool         // whether it does; of each
	changes    []Change
	merges     []Merge
	ended      []Ended
	left       []Term
	asked      terms               // of the shelf
	shared     map[netip.Addr]bool // held by several that were seen
	beyond     map[netip.Addr]bool // where somebody answered whose MAC address cannot be seen
	of         []int               // the device of each sighting
	vantage    string              // of the sweep, with its network
	shownBy    map[Key]int         // by how many bodies each key is shown
	ports      map[uint16]bool     // that were asked
	err        error
}

// take puts devices from the shelf among those that the sweep may say something of.
func (b *book) take(devices []Device, err error) error {
	if b.devices == nil {
		b.devices = devices[:0] // very many must not be in memory twice
	}
	for _, d := range devices {
		if _, known := b.at[d.ID]; !known && !d.FirstSeen.IsZero() {
			b.at[d.ID] = len(b.devices)
			b.devices, b.touched = append(b.devices, d), append(b.touched, false)
		}
	}
	return err
}

// look takes from the shelf whatever the bodies may be, and tells what each body is. What a device was taken for holds for any body that
// says the same.
func (b *book) look(bodies []body) error {
	for i := range bodies {
		bodies[i].terms(b.asked)
		for n, side := range bodies[i].sides {
			if v := b.sweep.Told[n]; side != 0 && v.One {
				Decision{Known: v.A}.terms(b.asked)
				Decision{Known: v.B}.terms(b.asked)
				if v.Pin {
					b.asked.addNumber(termNumber, v.Device)
				}
			}
		}
	}
	if err := b.take(b.shelf.KnownBy(b.asked.fresh())); err != nil {
		return err
	}
	known := make(map[evidence.Hash]identify.Beliefs, len(b.devices))
	edition := b.identifier.Edition()
	for _, d := range b.devices {
		if d.Edition == edition {
			known[d.Facts] = d.Identity
		}
	}
	for i := range bodies {
		body := &bodies[i]
		if identity, ok := known[body.hash]; ok {
			body.tell(identity)
		} else {
			body.tell(b.identifier.Identify(b.factsOf(body)).Brief())
		}
		body.terms(b.asked)
	}
	return b.take(b.shelf.KnownBy(b.asked.fresh()))
}

// lookAround takes from the shelf what else may hold an address of those that were seen, and what was expected where the sweep looked.
func (b *book) lookAround() error {
	for i, d := range b.devices {
		if b.touched[i] {
			for _, a := range d.Addrs {
				b.asked.addAddr(a)
			}
		}
	}
	if err := b.take(b.shelf.KnownBy(b.asked.fresh())); err != nil || b.sweep.Stopped {
		return err
	}
	return b.take(b.shelf.Expected(b.vantage, b.sweep.Covered, b.sweep.OnLink))
}

// result gives what came of the devices that the sweep says something of.
func (b *book) result() Result {
	place := make([]int, len(b.devices))
	result := Result{Devices: b.devices[:0], Changes: b.changes, Of: b.of, Merges: b.merges, Ended: b.ended, Left: b.left}
	for i, d := range b.devices {
		if b.touched[i] {
			place[i] = len(result.Devices)
			result.Devices = append(result.Devices, d) // in place: what is left out is behind
		}
	}
	clear(b.devices[len(result.Devices):])
	for i := range b.of {
		b.of[i] = place[b.of[i]]
	}
	for i := range b.changes {
		b.changes[i].Device = place[b.changes[i].Device]
	}
	for i := range b.merges {
		b.merges[i].Into = place[b.merges[i].Into]
	}
	for i := range b.ended {
		b.ended[i].Device = place[b.ended[i].Device]
	}
	return result
}

// enter writes what was seen of one device; at -1 it is a new one.
func (b *book) enter(body body, at int) {
	if at < 0 {
		at = len(b.devices)
		b.devices = append(b.devices, Device{ID: b.formerID(body), FirstSeen: body.firstAt(b.sweep.Began)})
		b.touched = append(b.touched, true)
		b.changes = append(b.changes, Change{Kind: Appeared, Device: at, After: addrText(body.addrs())})
	} else {
		b.touched[at] = true
		if kept := b.keptFacts(b.devices[at], body); len(kept) > 0 {
			body.learn(evidence.Renew(kept, b.factsOf(&body)))
			if d := b.devices[at]; d.Facts == body.hash && d.Edition == b.identifier.Edition() {
				body.tell(d.Identity)
			} else {
				body.tell(b.identifier.Identify(body.facts).Brief())
			}
		}
		b.compare(body, at)
	}
	d := &b.devices[at]
	before := *d
	addrs := b.addrsNow(*d, body)
	b.noteMACs(d, body)
	d.Addrs, d.Unit = addrs, body.behind()
	d.Keys = body.keys
	if d.Items = body.facts; d.Facts != body.hash || b.sweep.Facts == nil {
		d.Facts, d.Items = body.hash, b.factsOf(&body)
		d.Told, d.Self, d.Open, d.Silent = body.tale.told, body.tale.self, body.tale.open, body.tale.silent
	}
	d.Identity, d.Edition = body.identity, b.identifier.Edition()
	b.hold(at, body.whos(), before.Presence == Silent)
	// A clock that was set back must not make a device vanish before it appeared.
	d.LastSeen = latest(body.firstAt(b.sweep.Began), d.FirstSeen)
	d.LastSweep = b.sweep.ID
	d.Presence, d.Missed = Seen, 0
	d.Reasons = body.reasons
	d.Was = b.formerNumbers(*d, body)
	d.Contested = b.stillContested(*d, body)
	d.Traits = b.traits(body, *d)
	if segment := b.segment(body); segment.IsValid() || len(d.PresentMACs()) == 0 {
		d.Segment = segment
	}
	d.look(View{Vantage: b.vantage, Addrs: body.addrs(), Seen: b.sweep.Began, Sweep: b.sweep.ID}, body.asked())
	b.endTenures(at)
	b.left = append(b.left, leftBy(before, *d)...)
	for _, i := range body.index {
		b.of[i] = at
	}
}

// leftBy gives the terms that a device has no more.
func leftBy(before, now Device) []Term {
	name := func(d Device) string { return d.Identity.Of(identify.Name) }
	if slices.Equal(before.Addrs, now.Addrs) && slices.Equal(before.MACs, now.MACs) && slices.Equal(before.Told, now.Told) && name(before) == name(now) {
		return nil
	}
	has := now.Terms()
	return slices.DeleteFunc(before.Terms(), func(term Term) bool { return slices.Contains(has, term) })
}

func latest(a, b time.Time) time.Time {
	if a.Before(b) {
		return b
	}
	return a
}

// formerID gives the number that a body's sightings stood under before, so that a ledger that is rebuilt keeps its
// numbers; 0 where there is none, or another device has it.
func (b *book) formerID(body body) uint64 {
	if b.sweep.Devices == nil {
		return 0
	}
	former := uint64(0)
	for _, i := range body.index {
		id := b.sweep.Devices[i]
		if _, taken := b.at[id]; id != 0 && !taken && (former == 0 || id < former) && !b.leaves(body, id) {
			former = id
		}
	}
	if former != 0 {
		b.at[former] = len(b.devices)
	}
	return former
}

func isKnown(value string) bool { return value != "" && value != identify.Unknown }
