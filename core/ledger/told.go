package ledger

import (
	"fmt"
	"net/netip"
	"slices"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
	"airdrift/core/identify"
)

// Verdict is what a person has said of two things that were seen: that they are one device, or that they are not.
type Verdict struct {
	One    bool
	Pin    bool // B is an address or a MAC address: whatever is met there is A
	A, B   Known
	Device uint64 // of which B is, where they are not one; it keeps its number
	By     string
}

// VerdictOf gives the verdict of a decision; ok is false for decisions of other kinds.
func VerdictOf(d Decision) (v Verdict, ok bool) {
	switch d.Kind {
	case DecidedMerge:
		return Verdict{One: true, A: d.Known, B: d.Other, By: d.By}, true
	case DecidedPin:
		return Verdict{One: true, Pin: true, A: d.Known, B: d.Other, Device: d.Device, By: d.By}, true
	case DecidedSplit:
		return Verdict{A: d.Other, B: d.Known, Device: d.Device, By: d.By}, true
	}
	return Verdict{}, false
}

// means reports whether what was seen under an address and a MAC address, with a tale, is what was known.
func (k Known) means(who evidence.Who, t *tale) bool {
	switch {
	case who.Unit != "" || k.Unit != "":
		return who.Unit != "" && k.Unit == who.Unit+" behind "+who.Addr.String()
	case identifies(who.MAC):
		return slices.Contains(k.MACs, who.MAC)
	case slices.ContainsFunc(t.told, func(m hwaddr.MAC) bool { return slices.Contains(k.MACs, m) }):
		return true
	case len(t.keys) > 0 && len(k.Keys) > 0:
		return slices.ContainsFunc(t.keys, func(key Key) bool { return slices.Contains(k.Keys, key) })
	}
	return slices.Contains(k.Addrs, who.Addr)
}

// meets reports whether something was met at an address, or with a MAC address, that is pinned to a device.
func (k Known) meets(who evidence.Who) bool {
	return who.Unit == "" && (slices.Contains(k.Addrs, who.Addr) || !who.MAC.IsZero() && slices.Contains(k.MACs, who.MAC))
}

// isOf reports whether a device is what was known.
func (k Known) isOf(d Device) bool {
	if k.Unit != "" || d.Unit != "" {
		return k.Unit == d.Unit
	}
	macs := d.PresentMACs()
	if slices.ContainsFunc(macs, identifies) && len(k.MACs) > 0 {
		return slices.ContainsFunc(macs, func(m hwaddr.MAC) bool { return slices.Contains(k.MACs, m) })
	}
	if len(d.Keys) > 0 && len(k.Keys) > 0 {
		return slices.ContainsFunc(d.Keys, func(key Key) bool { return slices.Contains(k.Keys, key) })
	}
	return slices.ContainsFunc(d.Addrs, func(a netip.Addr) bool { return slices.Contains(k.Addrs, a) })
}

// sides are on which sides of each verdict something is: bit 0 for A, bit 1 for B.
type sides []uint8

const onA, onB = 1, 2

// sidesOf gives the sides of a sighting; nil where it is on none.
func (b *book) sidesOf(sighting int) sides {
	var s sides
	for n, v := range b.sweep.Told {
		for side, known := range map[uint8]Known{onA: v.A, onB: v.B} {
			who := b.reader.sightings[sighting].Who()
			means := known.means(who, b.reader.tales[sighting])
			if v.Pin && side == onB {
				means = known.meets(who) && !b.sweep.Began.Before(known.Since)
			}
			if means {
				if s == nil {
					s = make(sides, len(b.sweep.Told))
				}
				s[n] |= side
			}
		}
	}
	return s
}

// joinTold joins what somebody has said to be one device.
func (j *joiner) joinTold() {
	for n, v := range j.told {
		if !v.One {
			continue
		}
		first := -1
		for i := range j.sightings {
			if s := j.sides[i]; s != nil && s[n] != 0 {
				if first >= 0 {
					j.join(first, i, fmt.Sprintf("%s has said that %s and %s are one device.", v.By, j.sightings[first].Who(), j.sightings[i].Who()))
				} else {
					first = i
				}
			}
		}
	}
}

// toldApart reports whether somebody has said that the bodies of two roots are not one device.
func (j *joiner) toldApart(a, b int) bool {
	x, y := j.sides[a], j.sides[b]
	for n, v := range j.told {
		if !v.One && x != nil && y != nil && x[n]|y[n] == onA|onB && x[n] != y[n] {
			return true
		}
	}
	return false
}

// unite puts the sides of two bodies together that have been joined.
func (j *joiner) unite(into, from int) {
	if j.sides[from] == nil {
		return
	}
	if j.sides[into] == nil {
		j.sides[into] = make(sides, len(j.told))
	}
	for n, s := range j.sides[from] {
		j.sides[into][n] |= s
	}
}

// toldTexts gives for each verdict that says so which device a body is, by the sides that it is on.
func (b *book) toldTexts(s sides) []string {
	var texts []string
	for n, v := range b.sweep.Told {
		if v.One && s != nil && s[n] != 0 {
			texts = append(texts, fmt.Sprintf("told %d", n))
		}
	}
	return texts
}

// toldDevice gives the same of a device.
func (b *book) toldDevice(d Device) []string {
	var texts []string
	for n, v := range b.sweep.Told {
		if v.One && (v.A.isOf(d) || v.Pin && d.isNumber(v.Device) || !v.Pin && v.B.isOf(d)) {
			texts = append(texts, fmt.Sprintf("told %d", n))
		}
	}
	return texts
}

// isNumber reports whether a device has a number, or had it before it was merged.
func (d Device) isNumber(id uint64) bool {
	return id != 0 && (d.ID == id || slices.Contains(d.Was, id))
}

// isToldApart reports whether somebody has said that a body is not a device.
func (b *book) isToldApart(body body, d Device) bool {
	for n, v := range b.sweep.Told {
		if v.One || body.sides == nil {
			continue
		}
		switch body.sides[n] {
		case onA:
			if v.B.isOf(d) && !v.A.isOf(d) {
				return true
			}
		case onB:
			if v.A.isOf(d) && !v.B.isOf(d) {
				return true
			}
		}
	}
	return false
}

// Contradiction says in words what speaks against two devices being one; "" where nothing does.
func Contradiction(a, b Device) string {
	x, y := a.likeness(), b.likeness()
	kind, otherKind, kindSure := surely(x, y, identify.Kind)
	system, otherSystem, systemSure := surely(x, y, identify.OS)
	switch {
	case disagree(x.keys, y.keys):
		return "they show different keys, or tell different serial numbers"
	case kindSure && kind != otherKind:
		return fmt.Sprintf("one is surely a %s and the other a %s", kind, otherKind)
	case systemSure && !identify.SameSystem(system, otherSystem):
		return fmt.Sprintf("one surely runs %s and the other %s", system, otherSystem)
	case contradict(x, y):
		return "they have different names"
	}
	for _, h := range a.Holds {
		for _, other := range b.Holds {
			if h.Addr == other.Addr && h.Vantage == other.Vantage && h.SinceSweep == other.SinceSweep && h.MAC != other.MAC && h.Addr.IsValid() {
				return fmt.Sprintf("both held %s at the same time", h.Addr)
			}
		}
	}
	return ""
}

// leaves reports whether a body is a part that somebody has split from the device of a number, which keeps it.
func (b *book) leaves(body body, device uint64) bool {
	for n, v := range b.sweep.Told {
		if !v.One && v.Device == device && body.sides != nil && body.sides[n] == onA {
			return true
		}
	}
	return false
}

// formerNumbers gives the numbers of devices that somebody has merged into a device: those that its sightings stood under before.
func (b *book) formerNumbers(d Device, body body) []uint64 {
	if b.sweep.Devices == nil || len(b.toldTexts(body.sides)) == 0 {
		return d.Was
	}
	numbers := make([]uint64, 0, len(body.index))
	for _, i := range body.index {
		numbers = append(numbers, b.sweep.Devices[i])
	}
	return formerNumbers(d.ID, d.Was, numbers)
}

// JoinTold joins devices that people have said to be one, as they are taken up without the sightings that they come of. The lower number
// stays; into says what became of the others.
func JoinTold(devices []Device, told []Verdict) (joined []Device, into map[uint64]uint64) {
	into = map[uint64]uint64{}
	for _, v := range told {
		if !v.One {
			continue
		}
		a := slices.IndexFunc(devices, func(d Device) bool { return v.Pin && d.isNumber(v.Device) || v.A.isOf(d) })
		b := slices.IndexFunc(devices, func(d Device) bool {
			if v.Pin {
				return !d.LastSeen.Before(v.B.Since) && slices.ContainsFunc(d.Holds, func(t Tenure) bool { return v.B.meets(evidence.Who{Addr: t.Addr, MAC: t.MAC, Unit: t.Unit}) })
			}
			return v.B.isOf(d)
		})
		if a < 0 || b < 0 || a == b {
			continue
		}
		if devices[b].ID < devices[a].ID {
			a, b = b, a
		}
		into[devices[b].ID] = devices[a].ID
		devices[a] = both(devices[a], devices[b])
		devices = slices.Delete(devices, b, b+1)
	}
	return devices, into
}

// both gives the device that two are, under the number of the first. What was seen later counts; of one sweep both do.
func both(d, other Device) Device {
	newer, older := d, other
	if newer.LastSeen.Before(older.LastSeen) {
		newer, older = older, newer
	}
	one := newer
	one.ID, one.Was = d.ID, formerNumbers(d.ID, d.Was, append(slices.Clone(other.Was), other.ID))
	if older.FirstSeen.Before(one.FirstSeen) {
		one.FirstSeen = older.FirstSeen
	}
	one.MACs = newestFirst(newer.MACs, older.MACs)
	one.Holds = append(slices.Clone(newer.Holds), older.Holds...)
	if newer.LastSweep == older.LastSweep {
		one.Addrs = slices.Compact(slices.SortedFunc(slices.Values(slices.Concat(newer.Addrs, older.Addrs)), netip.Addr.Compare))
		one.Keys = append(slices.Clone(newer.Keys), older.Keys...)
	} else {
		one.Former = slices.DeleteFunc(append(slices.Clone(newer.Former), older.MACs...), func(m hwaddr.MAC) bool { return slices.Contains(newer.MACs, m) })
	}
	for _, v := range older.Views {
		if !slices.ContainsFunc(one.Views, func(w View) bool { return w.Vantage == v.Vantage }) {
			one.Views = append(slices.Clone(one.Views), v)
		}
	}
	if d.Presence == Seen || other.Presence == Seen {
		one.Presence = Seen
	}
	return one
}

// Reread gives a device as its evidence is read by the rules of now.
func Reread(d Device, items []evidence.Item, identifier Identifier) Device {
	t := taleOf(items)
	d.Identity, d.Edition = identifier.Identify(items).Brief(), identifier.Edition()
	d.Keys = append(slices.Clone(t.keys), t.identifiers(d.Identity)...)
	return d
}
