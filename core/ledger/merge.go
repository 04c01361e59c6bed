package ledger

import (
	"fmt"
	"net/netip"
	"slices"
	"time"

	"airdrift/core/hwaddr"
)

// mergeParts takes out devices that were addresses of another all along. A sweep that was stopped, or that looked at one
// network alone, may have met a router's far side without the router, and taken it for a device of its own. Only what has
// no MAC address of its own is merged, and only where every address of it now belongs to one device with a MAC.
func (b *book) mergeParts() {
	holders := map[netip.Addr]int{}
	for i, d := range b.devices {
		if d.LastSweep == b.sweep.ID && slices.ContainsFunc(d.MACs, identifies) {
			for _, a := range d.Addrs {
				holders[a] = i
			}
		}
	}
	into := make([]int, len(b.devices)) // the device that each is part of; itself where it is none
	merged := false
	for i, d := range b.devices {
		into[i] = i
		if d.LastSweep == b.sweep.ID || len(d.Addrs) == 0 || slices.ContainsFunc(d.MACs, identifies) {
			continue
		}
		holder, held := holders[d.Addrs[0]]
		if held && !slices.ContainsFunc(d.Addrs, func(a netip.Addr) bool { at, ok := holders[a]; return !ok || at != holder }) &&
			!contradict(d.likeness(), b.devices[holder].likeness()) {
			into[i], merged = holder, true
			b.devices[holder].absorb(d)
			b.left = append(b.left, d.Terms()...)
		}
	}
	if merged {
		b.renumber(into)
	}
}

// absorb takes over the number of a part, and since when it is known. What people have said of it follows the number.
func (d *Device) absorb(part Device) {
	d.FirstSeen = earliest(d.FirstSeen, part.FirstSeen)
	d.MACs = newestFirst(d.MACs, slices.DeleteFunc(slices.Clone(part.MACs), hwaddr.MAC.IsZero))
	d.Holds = append(slices.Clip(d.Holds), part.Holds...)
	d.Was = formerNumbers(d.ID, d.Was, part.Was, []uint64{part.ID})
	d.Reasons = append(d.Reasons, fmt.Sprintf("What was known as device %d is a part of it: %s belongs to it.", part.ID, addrText(part.Addrs)))
}

// maxWas is how many former numbers of a device are kept.
const maxWas = 64

// formerNumbers puts lists of numbers together, without the one that a device has now.
func formerNumbers(now uint64, lists ...[]uint64) []uint64 {
	all := slices.Concat(lists...)
	slices.Sort(all)
	all = slices.DeleteFunc(slices.Compact(all), func(id uint64) bool { return id == 0 || id == now })
	return all[:min(len(all), maxWas)]
}

func earliest(a, b time.Time) time.Time {
	if b.Before(a) {
		return b
	}
	return a
}

// renumber takes parts out of the list, and points what pointed to devices to their new places. What is left has the oldest number.
func (b *book) renumber(into []int) {
	former := make([]uint64, len(b.devices))
	for i, d := range b.devices {
		former[i] = d.ID
	}
	for i, at := range into {
		if d := &b.devices[at]; at != i && former[i] != 0 && (d.ID == 0 || former[i] < d.ID) {
			d.ID = former[i]
			d.Was = formerNumbers(d.ID, d.Was, []uint64{former[at]})
		}
	}
	// What takes over a number was there before, as a part.
	b.changes = slices.DeleteFunc(b.changes, func(c Change) bool { return c.Kind == Appeared && former[c.Device] == 0 && b.devices[c.Device].ID != 0 })
	place := make([]int, len(b.devices))
	kept, touched := b.devices[:0:0], b.touched[:0:0]
	for i, d := range b.devices {
		if into[i] == i {
			place[i] = len(kept)
			kept, touched = append(kept, d), append(touched, b.touched[i])
		}
	}
	for i, id := range former {
		if id != 0 && id != kept[place[into[i]]].ID {
			b.merges = append(b.merges, Merge{From: id, Into: place[into[i]]})
		}
	}
	b.devices, b.touched = kept, touched
	for i := range b.of {
		b.of[i] = place[b.of[i]]
	}
	for i := range b.changes {
		b.changes[i].Device = place[b.changes[i].Device]
	}
	for i := range b.ended {
		b.ended[i].Device = place[b.ended[i].Device]
	}
}
