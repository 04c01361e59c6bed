package ledger

import (
	"cmp"
	"slices"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
)

// maxViews is from how many vantages it is kept where a device was seen.
const maxViews = 32

// look notes where the device was seen from a vantage now, and whether it was asked all there was to ask.
func (d *Device) look(now View, asked bool) {
	now.Addrs = now.Addrs[:min(len(now.Addrs), maxAddrs)]
	if asked {
		now.Asked = now.Sweep
	}
	views := []View{now}
	for _, v := range d.Views {
		switch {
		case v.Vantage == now.Vantage:
			views[0].Asked = max(views[0].Asked, v.Asked)
		case len(views) < maxViews:
			views = append(views, v)
		}
	}
	d.Views = views
}

// hold notes what a device holds now, as seen from the sweep's vantage. A tenure goes on for as long as the device is met so at each visit
// that says anything of it; of what it was not met with it was the view before that saw it last. absent says that the device was missed
// since it was seen last.
func (b *book) hold(at int, now []evidence.Who, absent bool) {
	d := &b.devices[at]
	var before View
	if i := slices.IndexFunc(d.Views, func(v View) bool { return v.Vantage == b.vantage }); i >= 0 {
		before = d.Views[i]
	}
	var holds []Tenure
	still := make(map[evidence.Who]bool, len(d.Holds))
	for _, t := range d.Holds {
		who := evidence.Who{Addr: t.Addr, MAC: t.MAC, Unit: t.Unit}
		if t.Vantage == b.vantage {
			seen := slices.Contains(now, who)
			if t.Until.IsZero() && (!seen || absent) {
				t.Until, t.UntilSweep = before.Seen, before.Sweep
			}
			if seen && !t.Until.IsZero() {
				b.ended = append(b.ended, Ended{at, t}) // it begins anew
				continue
			}
			still[who] = seen
		}
		holds = append(holds, t)
	}
	for _, who := range now {
		if !still[who] {
			holds = append(holds, Tenure{Addr: who.Addr, MAC: who.MAC, Unit: who.Unit, Vantage: b.vantage, Since: b.sweep.Began, SinceSweep: b.sweep.ID})
		}
	}
	d.Holds = holds
}

// endTenures takes from what a device holds the addresses that it has left, and the MAC addresses that it has no more.
func (b *book) endTenures(at int) {
	d := &b.devices[at]
	left := func(t Tenure) bool {
		gone := t.Unit == "" && t.Addr.IsValid() && !holds(d.Addrs, t.Addr) || slices.Contains(d.Former, t.MAC)
		return gone && !(t.Vantage == b.vantage && t.Until.IsZero())
	}
	for _, t := range d.Holds {
		if left(t) {
			if i := slices.IndexFunc(d.Views, func(v View) bool { return v.Vantage == t.Vantage }); t.Until.IsZero() && i >= 0 {
				t.Until, t.UntilSweep = d.Views[i].Seen, d.Views[i].Sweep
			}
			b.ended = append(b.ended, Ended{at, t})
		}
	}
	d.Holds = slices.DeleteFunc(d.Holds, left)
}

// noteMACs takes in the MACs a body shows. One that the device had is former where the sweep looked at the device's segment, asked for
// all of its addresses, and met it with others.
func (b *book) noteMACs(d *Device, body body) {
	now := body.macs()
	for _, m := range now {
		d.KeepsMAC = d.KeepsMAC || m.IsPrivate() && slices.Contains(d.PresentMACs(), m)
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
	beyond := d.Segment.IsValid() && len(body.macs()) == 0
	asked := body.asked()
	uncertain := d.uncertain(body)
	if asked && !beyond && len(uncertain) == 0 && len(b.sweep.Off) == 0 && !b.asksLess(d) {
		return nil
	}
	items := b.itemsOf(d)
	if !asked {
		return items // it was only heard, or the sweep ended before it was asked
	}
	var kept []evidence.Item
	for _, it := range items {
		keep := beyond || slices.Contains(b.sweep.Off, string(it.Source))
		if slices.Contains(d.Open, it.Port) {
			keep = b.sweep.Ports != nil && !b.ports[it.Port.Number] || slices.Contains(uncertain, it.Port)
		}
		if keep {
			kept = append(kept, it)
		}
	}
	return kept
}

// uncertain gives the ports that a device offered and that were silent now, for the first time: what was sent there may have been lost.
func (d Device) uncertain(body body) []evidence.Port {
	return slices.DeleteFunc(slices.Clone(body.tale.silent), func(p evidence.Port) bool { return !slices.Contains(d.Open, p) || slices.Contains(d.Silent, p) })
}

// itemsOf gives the evidence of a device.
func (b *book) itemsOf(d Device) []evidence.Item {
	if d.Items != nil || d.Facts.IsZero() {
		return d.Items
	}
	items, err := b.shelf.Items(d)
	b.err = cmp.Or(b.err, err)
	return items
}

// asksLess reports whether the sweep leaves out a port at which the device was open.
func (b *book) asksLess(d Device) bool {
	return b.sweep.Ports != nil && slices.ContainsFunc(d.Open, func(p evidence.Port) bool { return !b.ports[p.Number] })
}
