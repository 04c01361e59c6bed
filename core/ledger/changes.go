package ledger

import (
	"net/netip"
	"slices"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
	"airdrift/core/identify"
)

// ChangeKind is a way in which a device differs from the sweep before.
type ChangeKind string

// The kinds of change there are.
const (
	Appeared ChangeKind = "appeared"
	Vanished ChangeKind = "vanished"
	Moved    ChangeKind = "moved"
	Changed  ChangeKind = "changed"
)

// Change is one difference from the sweep before.
type Change struct {
	Kind      ChangeKind
	Device    int    // index into the devices of the result
	Attribute string // of Changed: one that identify tells, or one of those below
	Before    string
	After     string
}

// What of a device a change may be of, besides the attributes that identify tells.
const (
	ChangedMAC  = "mac"
	ChangedPort = "port" // opened where there was none before, closed where there is none after
)

// compare notes what differs from when the device was seen last.
func (b *book) compare(body body, at int) {
	d := b.devices[at]
	if d.Presence == Silent {
		b.changes = append(b.changes, Change{Kind: Appeared, Device: at, After: addrText(body.addrs())})
	}
	before, after := settled(d.Addrs), settled(b.addrsNow(d, body))
	_, seenFromHere := d.view(b.vantage)
	onlyMore := !slices.ContainsFunc(before, func(a netip.Addr) bool { return !slices.Contains(after, a) })
	// From another vantage a device shows other addresses, which it has had all along.
	if !slices.Equal(before, after) && (seenFromHere || !onlyMore) {
		b.changes = append(b.changes, Change{Kind: Moved, Device: at, Before: addrText(before), After: addrText(after)})
	}
	b.compareAttributes(d, body, at)
	// Of several that share an address it is not known which was asked.
	shares := len(d.Contested) > 0 || slices.ContainsFunc(body.addrs(), func(a netip.Addr) bool { return b.shared[a] })
	if !shares && body.asked() && len(d.Views) > 0 && d.Views[0].Vantage == b.vantage && d.Views[0].Asked != 0 {
		b.comparePorts(d, body.tale.open, at)
	}
	// From another vantage it shows another of its cards. The address of a virtual router is nobody's own.
	held, shown := d.PresentMACs(), body.macs()
	was, is := slices.IndexFunc(held, identifies), slices.IndexFunc(shown, identifies)
	if seenFromHere && was >= 0 && is >= 0 && !slices.ContainsFunc(shown, func(m hwaddr.MAC) bool { return identifies(m) && slices.Contains(held, m) }) {
		b.changes = append(b.changes, Change{Kind: Changed, Device: at, Attribute: ChangedMAC, Before: held[was].String(), After: shown[is].String()})
	}
}

// compareAttributes notes what a device is that it was not before. That something is known now and was not before, or the other way
// round, is no change of the device, nor is a general word in the place of a special one.
func (b *book) compareAttributes(d Device, now body, at int) {
	for _, a := range identify.Attributes {
		before, after := d.Identity.Of(a), now.identity.Of(a)
		if a.Stays() && isKnown(before) && isKnown(after) && !a.Same(before, after) {
			b.changes = append(b.changes, Change{Kind: Changed, Device: at, Attribute: string(a), Before: before, After: after})
		}
	}
}

// comparePorts notes the ports that a device offers and did not before, or no more. From another vantage, through other filters, that
// would be no change of the device.
func (b *book) comparePorts(d Device, after []evidence.Port, at int) {
	before := d.Open
	askedBefore := b.sweep.PortsOf
	for _, port := range before {
		if !slices.Contains(after, port) {
			b.changes = append(b.changes, Change{Kind: Changed, Device: at, Attribute: ChangedPort, Before: port.String()})
		}
	}
	for _, port := range after {
		// That it was closed before is known only where it was asked, and refused.
		if !slices.Contains(before, port) && !slices.Contains(d.Silent, port) && askedBefore != nil && askedBefore(d.Views[0].Asked)[port.Number] {
			b.changes = append(b.changes, Change{Kind: Changed, Device: at, Attribute: ChangedPort, After: port.String()})
		}
	}
}
