package ledger

import (
	"net/netip"
	"slices"
	"time"

	"airdrift/core/hwaddr"
	"airdrift/core/identify"
)

// DecisionKind is what a person has decided of a device.
type DecisionKind string

// The kinds of decision there are.
const (
	DecidedNote  DecisionKind = "note"  // its text is free
	DecidedAside DecisionKind = "aside" // the device is set aside; its text is the reason
	DecidedMerge DecisionKind = "merge" // what Other means is the same device
	DecidedSplit DecisionKind = "split" // what Other means, a part of it so far, is another device
	DecidedPin   DecisionKind = "pin"   // whatever is met at an address, or with a MAC address, of Other is the device
	DecidedLink  DecisionKind = "link"  // the device is the one that the register's entry of Other means
	DecidedGroup DecisionKind = "group" // its text is the name of the group that the device belongs to
)

// Decision is what a person has said of a device. It is kept apart from what is computed, so that no rebuild loses it, and applies to a
// device that is not there yet as soon as that is seen.
type Decision struct {
	ID     uint64
	Kind   DecisionKind
	Device uint64 // the number that the device had then
	Holder uint64 // the device that it applies to now; 0 for none yet
	Known  Known  // by what it was known then
	Other  Known  // of a merge, a split, a pin and a link: what it is about beside the device
	Text   string // empty where what was said before is taken back
	By     string
	At     time.Time
}

// Known is what a device is known by: it finds the device of a decision where the number has gone, as after a merge or a rebuild.
type Known struct {
	Entry uint64       `json:"entry,omitempty"` // its number in the register
	Unit  string       `json:"unit,omitempty"`
	MACs  []hwaddr.MAC `json:"macs,omitempty"`
	Keys  []Key        `json:"keys,omitempty"`
	Name  string       `json:"name,omitempty"`
	Addrs []netip.Addr `json:"addrs,omitempty"` // at most maxKnown
	Since time.Time    `json:"since,omitzero"`  // of a pin: sweeps that began before are not meant
}

// maxKnown is how many addresses of a device are kept with a decision.
const maxKnown = 32

// KnownBy gives what a device is known by.
func KnownBy(d Device) Known {
	k := Known{Unit: d.Unit, MACs: d.PresentMACs(), Keys: d.Keys, Name: d.Identity.Of(identify.Name), Addrs: d.Addrs[:min(len(d.Addrs), maxKnown)]}
	if d.Entry != nil {
		k.Entry = d.Entry.ID
	}
	return k
}

// knownWays are the ways to find the device of a decision, the surest first.
var knownWays = []func(Known) []string{
	func(k Known) []string { return texts(k.Unit) },
	func(k Known) []string { return macTexts(k.MACs, false) },
	func(k Known) []string { return keyTexts(k.Keys, true) },
	func(k Known) []string { return keyTexts(k.Keys, false) },
	func(k Known) []string { return macTexts(k.MACs, true) },
	func(k Known) []string { return addrTexts(k.Addrs) },
}

// Decide gives devices what people have said of them, and their standing with it. decisions are those that hold, in the order in which
// they were made. It gives the device of each by its index, -1 where the device is not there.
func Decide(devices []Device, decisions []Decision) (of []int) {
	for i := range devices {
		devices[i].Note, devices[i].Aside, devices[i].Group, devices[i].Decisions = "", nil, "", nil
	}
	of = locate(devices, decisions)
	for n, decision := range decisions {
		if of[n] >= 0 {
			devices[of[n]].take(decision)
		}
	}
	for i := range devices {
		devices[i].settle()
	}
	return of
}

// take applies one decision. The notes of two that turned out to be one device are both kept.
func (d *Device) take(decision Decision) {
	d.Decisions = append(d.Decisions, decision.ID)
	switch {
	case decision.Text == "":
	case decision.Kind == DecidedNote && d.Note != "":
		d.Note += "\n" + decision.Text
	case decision.Kind == DecidedNote:
		d.Note = decision.Text
	case decision.Kind == DecidedAside:
		d.Aside = &Aside{Reason: decision.Text, By: decision.By, At: decision.At}
	case decision.Kind == DecidedGroup:
		d.Group = decision.Text
	}
}

// settle gives a device its standing.
func (d *Device) settle() {
	switch {
	case d.Aside != nil:
		d.Standing = SetAside
	case d.Entry != nil && (d.FirstSeen.IsZero() || d.Presence == Silent):
		d.Standing = Missing
	case d.Entry != nil:
		d.Standing = Managed
	case slices.Contains(d.Traits, OwnMachine):
		d.Standing = SetAside
	default:
		d.Standing = Unmanaged
	}
}

// locate finds the device of each decision: by its number, else by what it was known by.
func locate(devices []Device, decisions []Decision) []int {
	if len(decisions) == 0 {
		return nil
	}
	numbers := make(map[uint64]int, len(devices))
	for i, d := range devices {
		for _, former := range d.Was {
			numbers[former] = i
		}
	}
	for i, d := range devices {
		if d.ID != 0 {
			numbers[d.ID] = i
		}
	}
	of := make([]int, len(decisions))
	var byEntry map[uint64]int
	var byWay []map[string][]int
	for n, decision := range decisions {
		at, found := numbers[decision.Device]
		if !found || decision.Device == 0 {
			at, found = numbers[decision.Holder]
			found = found && decision.Holder != 0
		}
		if !found {
			if byWay == nil {
				byEntry, byWay = indexKnown(devices)
			}
			at = find(devices, decision.Known, byEntry, byWay)
		}
		of[n] = at
	}
	return of
}

func indexKnown(devices []Device) (byEntry map[uint64]int, byWay []map[string][]int) {
	byEntry, byWay = map[uint64]int{}, make([]map[string][]int, len(knownWays))
	for w := range byWay {
		byWay[w] = map[string][]int{}
	}
	for i, d := range devices {
		known := KnownBy(d)
		if known.Entry != 0 {
			byEntry[known.Entry] = i
		}
		for w, way := range knownWays {
			for _, text := range distinct(way(known)) {
				byWay[w][text] = append(byWay[w][text], i)
			}
		}
	}
	return byEntry, byWay
}

func find(devices []Device, known Known, byEntry map[uint64]int, byWay []map[string][]int) int {
	if at, ok := byEntry[known.Entry]; ok && known.Entry != 0 {
		return at
	}
	for w, way := range knownWays {
		for _, text := range way(known) {
			// What several are known by tells none of them apart.
			if held := byWay[w][text]; len(held) == 1 && mayBe(devices[held[0]], known) {
				return held[0]
			}
		}
	}
	return -1
}

// mayBe reports whether the names do not speak against a device's being the one that was known.
func mayBe(d Device, known Known) bool {
	name := d.Identity.Of(identify.Name)
	return name == "" || known.Name == "" || identify.SameName(name, known.Name) ||
		slices.ContainsFunc(d.PresentMACs(), func(m hwaddr.MAC) bool { return identifies(m) && slices.Contains(known.MACs, m) })
}
