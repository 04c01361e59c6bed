package books

import (
	"context"
	"net/netip"
	"slices"
	"strings"
	"time"

	"airdrift/core/hwaddr"
	"airdrift/core/ledger"
	"airdrift/store"
)

// Saying says who says something of what is one device, and why.
type Saying struct {
	By      string
	Reason  string
	Despite bool // even if something speaks against it
	Preview bool // only find out what would follow
}

// Grouping is what follows of it.
type Grouping struct {
	Decision uint64          // by which it is undone; 0 of a preview
	Devices  []ledger.Device // what the devices that it concerns are then
}

// Merge says that two devices are one. Who calls it holds the site.
func (k *Books) Merge(ctx context.Context, saying Saying, id, otherID uint64) (Grouping, error) {
	device, site, err := k.store.Device(ctx, id)
	if err != nil {
		return Grouping{}, err
	}
	other, otherSite, err := k.store.Device(ctx, otherID)
	if err != nil {
		return Grouping{}, err
	}
	switch why := ledger.Contradiction(device, other); {
	case id == otherID:
		return Grouping{}, refuse("a device is one with itself already")
	case site != otherSite:
		return Grouping{}, refuse("the devices are of two sites")
	case device.FirstSeen.IsZero() || other.FirstSeen.IsZero():
		return Grouping{}, refuse("one of them was never seen: put the other into the register in its place")
	case why != "" && !saying.Despite:
		return Grouping{}, contradicted(why)
	}
	if other.ID < device.ID { // the older one keeps its number
		device, other = other, device
	}
	said := ledger.Decision{Kind: ledger.DecidedMerge, Device: device.ID, Known: ledger.KnownBy(device), Other: ledger.KnownBy(other)}
	return k.regroup(ctx, site, said, saying, device, other)
}

func contradicted(why string) error {
	return conflict(KindContradicted, "it speaks against their being one device that %s; say it despite that, if you know better", why)
}

// Split says that a part of a device, some of its addresses and MAC addresses, is another one. Who calls it holds the site.
func (k *Books) Split(ctx context.Context, saying Saying, id uint64, addrs, macs []string) (Grouping, error) {
	device, site, err := k.store.Device(ctx, id)
	if err != nil {
		return Grouping{}, err
	}
	part, err := partOf(device, addrs, macs)
	if err != nil {
		return Grouping{}, err
	}
	rest := ledger.KnownBy(device)
	rest.Keys = nil // whose they are is not known
	rest.MACs = slices.DeleteFunc(slices.Clone(rest.MACs), func(m hwaddr.MAC) bool { return slices.Contains(part.MACs, m) })
	rest.Addrs = slices.DeleteFunc(slices.Clone(rest.Addrs), func(a netip.Addr) bool { return slices.Contains(part.Addrs, a) })
	switch {
	case len(part.MACs)+len(part.Addrs) == 0:
		return Grouping{}, refuse("say which addresses or MAC addresses are another device's")
	case len(rest.MACs)+len(rest.Addrs) == 0:
		return Grouping{}, refuse("nothing would be left of the device")
	}
	return k.regroup(ctx, site, ledger.Decision{Kind: ledger.DecidedSplit, Device: device.ID, Known: rest, Other: part}, saying, device)
}

// partOf finds addresses and MAC addresses among those of a device.
func partOf(device ledger.Device, addrs, macs []string) (part ledger.Known, err error) {
	for _, text := range addrs {
		a, err := netip.ParseAddr(text)
		if err != nil || !slices.Contains(device.Addrs, a) {
			return part, refuse("%q is no address of the device: it has %s", text, texts(device.Addrs))
		}
		part.Addrs = append(part.Addrs, a)
	}
	for _, text := range macs {
		m, err := hwaddr.Parse(text)
		if err != nil || !slices.Contains(device.MACs, m) {
			return part, refuse("%q is no MAC address of the device", text)
		}
		part.MACs = append(part.MACs, m)
	}
	return part, nil
}

func texts(addrs []netip.Addr) string {
	list := make([]string, len(addrs))
	for i, a := range addrs {
		list[i] = a.String()
	}
	return strings.Join(list, ", ")
}

// Pin says that whoever is met at an address, or with a MAC address, is a device, from when it was met so first on. Who calls it holds
// the site.
func (k *Books) Pin(ctx context.Context, saying Saying, id uint64, at string) (Grouping, error) {
	device, site, err := k.store.Device(ctx, id)
	if err != nil {
		return Grouping{}, err
	}
	pinned := ledger.Known{Since: time.Now().UTC()}
	query := store.TenureQuery{Site: site, Limit: maxPinned}
	if a, err := netip.ParseAddr(at); err == nil {
		pinned.Addrs, query.Addr = []netip.Addr{a.Unmap()}, a.Unmap()
	} else if m, err := hwaddr.Parse(at); err == nil && !m.IsZero() && !m.IsGroup() {
		pinned.MACs, query.MAC = []hwaddr.MAC{m}, m
	} else {
		return Grouping{}, refuse("%q is neither an IP address nor the MAC address of one device", at)
	}
	if device.FirstSeen.IsZero() || device.Unit != "" {
		return Grouping{}, refuse("only a device that was seen at an address of its own can be pinned to one")
	}
	held, err := k.store.Tenures(ctx, query)
	if err != nil {
		return Grouping{}, err
	}
	devices := []ledger.Device{device}
	for _, t := range held {
		if t.Ended {
			continue
		}
		if t.Since.Before(pinned.Since) {
			pinned.Since = t.Since
		}
		if t.Device == id || slices.ContainsFunc(devices, func(d ledger.Device) bool { return d.ID == t.Device }) {
			continue
		}
		holder, _, err := k.store.Device(ctx, t.Device)
		if err != nil {
			return Grouping{}, err
		}
		if why := ledger.Contradiction(device, holder); why != "" && !saying.Despite {
			return Grouping{}, contradicted(why)
		}
		devices = append(devices, holder)
	}
	return k.regroup(ctx, site, ledger.Decision{Kind: ledger.DecidedPin, Device: id, Known: ledger.KnownBy(device), Other: pinned}, saying, devices...)
}

// maxPinned is how many tenures of an address are looked at to see who holds it.
const maxPinned = 100

// regroup computes a site's ledger anew with what somebody has said, and gives what some devices are then.
func (k *Books) regroup(ctx context.Context, site uint64, d ledger.Decision, saying Saying, devices ...ledger.Device) (out Grouping, err error) {
	d.Text, d.By, d.At = saying.Reason, saying.By, time.Now().UTC()
	if saying.Preview {
		out.Devices, err = k.preview(ctx, site, d, devices)
		return out, err
	}
	if out.Decision, err = k.store.DecideTold(ctx, site, d); err != nil {
		return out, err
	}
	if err := k.Rewrite(ctx, site, 0, nil); err != nil {
		if forgot := k.store.Forget(context.WithoutCancel(ctx), out.Decision); forgot != nil {
			return out, forgot
		}
		return out, err
	}
	all, err := k.store.Devices(ctx, site)
	out.Devices = concerned(all, devices)
	return out, err
}

// preview gives what some devices would be if somebody said something of them.
func (k *Books) preview(ctx context.Context, siteID uint64, d ledger.Decision, devices []ledger.Device) ([]ledger.Device, error) {
	site, err := k.store.Site(ctx, siteID)
	if err != nil {
		return nil, err
	}
	b, err := k.bookkeeper(ctx, site)
	if err != nil {
		return nil, err
	}
	b.decisions = append(b.decisions, d)
	all, err := k.store.Preview(ctx, siteID, nil, store.Rebuilding{Begin: b.begin, Enter: b.enter, Match: b.match, Settle: b.settleAll})
	return concerned(all, devices), err
}

// concerned gives of all devices those that hold something that some of them held before.
func concerned(all, before []ledger.Device) []ledger.Device {
	return slices.DeleteFunc(all, func(d ledger.Device) bool {
		return !slices.ContainsFunc(before, func(b ledger.Device) bool {
			return d.ID == b.ID || slices.Contains(d.Was, b.ID) || slices.ContainsFunc(d.MACs, func(m hwaddr.MAC) bool { return slices.Contains(b.MACs, m) }) ||
				slices.ContainsFunc(d.Addrs, func(a netip.Addr) bool { return slices.Contains(b.Addrs, a) })
		})
	})
}
