package ledger

import (
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"

	"airdrift/core/hwaddr"
)

// placeOf tells vantages apart: by the name of the interface and the network it stands in.
func placeOf(sweep Sweep) string {
	if len(sweep.OnLink) == 0 {
		return sweep.Vantage
	}
	return strings.TrimSpace(sweep.Vantage + " " + sweep.OnLink[0].Masked().String())
}

// markUnseen tells devices that kept silent from those the sweep did not look for.
func (b *book) markUnseen() {
	for i := range b.devices {
		d := &b.devices[i]
		if d.LastSweep == b.sweep.ID || b.sweep.Stopped || !b.misses(*d) {
			continue
		}
		if d.Presence == Seen {
			if p := b.sweep.Patience; p != nil && !p.UsedUp(d.Missed+1, b.sweep.Began.Sub(d.LastSeen)) {
				d.Missed++
				b.touched[i] = true
				continue
			}
			b.changes = append(b.changes, Change{Kind: Vanished, Device: i, Before: addrText(d.Addrs)})
		}
		b.touched[i] = b.touched[i] || d.Presence != Silent
		d.Presence, d.Missed = Silent, 0
	}
}

// misses reports whether a sweep that did not see a device says something of it: it was seen from this vantage before, and the sweep
// looked wherever that was. Of several that share an address one alone answers beyond a router.
func (b *book) misses(d Device) bool {
	addrs, seen := d.view(b.vantage)
	covered := slices.ContainsFunc(settled(addrs), func(a netip.Addr) bool { return b.beyond[a] && slices.Contains(d.Contested, a) })
	return seen && !covered && b.looked(d, addrs)
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
// seen from this vantage. A sweep that was stopped takes one only from a device that turned up at another, and so does one from a vantage
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

// stillContested gives the addresses of a device that several were known to share, where the sweep could not see what is there: beyond a
// router one of them alone answers.
func (b *book) stillContested(d Device, body body) []netip.Addr {
	if len(body.macs()) > 0 {
		return nil
	}
	return slices.DeleteFunc(slices.Clone(d.Contested), func(a netip.Addr) bool { return !holds(d.Addrs, a) })
}

// lookBeyond notes at which addresses a device answered that has no MAC address, and at which several did.
func (b *book) lookBeyond() {
	b.beyond, b.shared = map[netip.Addr]bool{}, map[netip.Addr]bool{}
	at := make(map[netip.Addr]hwaddr.MAC, len(b.reader.sightings))
	for _, s := range b.reader.sightings {
		if !s.Addr.IsValid() || s.Unit != "" {
			continue
		}
		if s.MAC.IsZero() {
			b.beyond[s.Addr] = true
		}
		if other, known := at[s.Addr]; known && other != s.MAC {
			b.shared[s.Addr] = true
		}
		at[s.Addr] = s.MAC
	}
}

// markContested finds addresses that two devices held in this sweep.
func (b *book) markContested() {
	holders := map[netip.Addr][]int{}
	for i, s := range b.sweep.Sightings {
		if s.Addr.IsValid() && s.Unit == "" {
			holders[s.Addr] = append(holders[s.Addr], b.of[i])
		}
	}
	for _, a := range slices.SortedFunc(maps.Keys(holders), netip.Addr.Compare) {
		devices := holders[a]
		slices.Sort(devices)
		devices = slices.Compact(devices)
		for _, i := range devices {
			if d := &b.devices[i]; len(devices) > 1 && len(d.Contested) < maxAddrs && !slices.Contains(d.Contested, a) {
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
