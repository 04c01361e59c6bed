package ledger

import (
	"net/netip"
	"slices"
	"strings"

	"airdrift/core/hwaddr"
	"airdrift/core/identify"
	"airdrift/core/netrange"
	"airdrift/core/register"
)

// Match holds devices against the register and gives each its standing: by what people have said first (of decisions those that link
// count), then by the MAC address it has, by what it was matched by before, by a MAC address it had, by address and name, and by a name
// alone. An entry keeps its device once matched, whatever address that gets, and whether it is seen or not. An entry that means no device
// that was seen becomes a device that is missing; it is silent where its address is among those that whole sweeps have covered, else
// uncovered. It takes the list of devices over.
func Match(devices []Device, entries []register.Entry, decisions []Decision, covered netrange.Set) []Device {
	m := newMatcher(slices.DeleteFunc(devices, func(d Device) bool { return d.FirstSeen.IsZero() }), entries)
	m.byLink(decisions)
	m.byMAC(Device.PresentMACs)
	m.again()
	m.byMAC(func(d Device) []hwaddr.MAC { return d.Former })
	m.byAddr()
	m.byName()
	for _, e := range entries {
		if !m.used[e.ID] {
			m.devices = append(m.devices, missing(e, covered))
		}
	}
	return m.devices
}

// missing makes the device that an unseen entry stands for.
func missing(e register.Entry, covered netrange.Set) Device {
	d := Device{Standing: Missing, Presence: Uncovered, Entry: &e, MatchedBy: "known from the register alone"}
	if !e.MAC.IsZero() {
		d.MACs = []hwaddr.MAC{e.MAC}
	}
	if e.Addr.IsValid() {
		d.Addrs = []netip.Addr{e.Addr}
	}
	if covered.Count() > 0 && (!e.Addr.IsValid() || covered.Contains(e.Addr)) {
		d.Presence = Silent
	}
	return d
}

type matcher struct {
	devices []Device
	entries []register.Entry
	used    map[uint64]bool  // entries by ID
	before  map[uint64]match // by the ID of the entry, how it was matched before
}

// match says of which device an entry was, and why.
type match struct {
	device int
	why    string
}

func newMatcher(devices []Device, entries []register.Entry) *matcher {
	before := map[uint64]match{}
	for i := range devices {
		d := &devices[i]
		if d.Entry != nil && !d.Linked { // a link that was undone leaves nothing behind
			before[d.Entry.ID] = match{i, d.MatchedBy}
		}
		d.Entry, d.MatchedBy, d.Linked = nil, "", false
		d.settle()
	}
	return &matcher{devices: devices, entries: entries, used: map[uint64]bool{}, before: before}
}

// byLink matches what people have linked. What was said last counts, of a device as of an entry.
func (m *matcher) byLink(decisions []Decision) {
	links := slices.DeleteFunc(slices.Clone(decisions), func(d Decision) bool { return d.Kind != DecidedLink })
	of := locate(m.devices, links)
	for n, link := range slices.Backward(links) {
		at := slices.IndexFunc(m.entries, func(e register.Entry) bool { return e.ID == link.Other.Entry })
		if at >= 0 && of[n] >= 0 && m.devices[of[n]].Entry == nil && !m.used[link.Other.Entry] {
			m.take(of[n], m.entries[at], link.By+" has linked them")
			m.devices[of[n]].Linked = true
		}
	}
}

// again matches entries to the devices that they had, unless the entry now gives a MAC address that the device never had.
func (m *matcher) again() {
	for _, e := range m.entries {
		was, matched := m.before[e.ID]
		if !matched || m.used[e.ID] || m.devices[was.device].Entry != nil {
			continue
		}
		macs := m.devices[was.device].MACs
		if e.MAC.IsZero() || slices.Contains(macs, e.MAC) || !slices.ContainsFunc(macs, identifies) {
			m.take(was.device, e, was.why)
		}
	}
}

// byName matches entries that give nothing but a name, where one device alone has it.
func (m *matcher) byName() {
	entries := map[string]int{}
	for _, e := range m.entries {
		entries[strings.ToLower(e.Name)]++
	}
	for _, e := range m.entries {
		if m.used[e.ID] || e.Name == "" || !e.MAC.IsZero() || e.Addr.IsValid() || entries[strings.ToLower(e.Name)] > 1 {
			continue
		}
		var named []int
		for i, d := range m.devices {
			if name := d.Identity.Of(identify.Name); d.Entry == nil && name != "" && identify.SameName(name, e.Name) {
				named = append(named, i)
			}
		}
		if len(named) == 1 {
			m.take(named[0], e, "same name; no other device has it")
		}
	}
}

func (m *matcher) take(device int, entry register.Entry, why string) {
	d := &m.devices[device]
	d.Entry, d.MatchedBy = &entry, why
	d.settle()
	m.used[entry.ID] = true
}

// byMAC matches on MACs of each device.
func (m *matcher) byMAC(of func(Device) []hwaddr.MAC) {
	entries := map[hwaddr.MAC]register.Entry{}
	for _, e := range m.entries {
		if !e.MAC.IsZero() {
			entries[e.MAC] = e
		}
	}
	for i, d := range m.devices {
		if d.Entry != nil {
			continue
		}
		for _, mac := range of(d) {
			if e, ok := entries[mac]; ok && !m.used[e.ID] {
				m.take(i, e, "same MAC address "+mac.String())
				break
			}
		}
	}
}

// byAddr matches what is left on the address, where neither the names nor the MACs speak against it. Where several
// devices could be meant, only one that has the entry's name is.
func (m *matcher) byAddr() {
	holders := map[netip.Addr][]int{}
	for i, d := range m.devices {
		for _, a := range d.Addrs {
			if d.Entry == nil && d.Presence == Seen {
				holders[a] = append(holders[a], i)
			}
		}
	}
	for _, e := range m.entries {
		if m.used[e.ID] || !e.Addr.IsValid() {
			continue
		}
		if i, why, ok := m.choose(e, holders[e.Addr]); ok {
			m.take(i, e, why)
		}
	}
}

func (m *matcher) choose(e register.Entry, candidates []int) (device int, why string, ok bool) {
	var silent []int
	for _, i := range candidates {
		d := m.devices[i]
		if d.Entry != nil || !e.MAC.IsZero() && slices.ContainsFunc(d.MACs, identifies) {
			continue
		}
		name := d.Identity.Of(identify.Name)
		switch {
		case name != "" && e.Name != "" && identify.SameName(name, e.Name):
			return i, "same address and name", true
		case name == "" || e.Name == "" || strings.ContainsFunc(e.Name, isSpace):
			silent = append(silent, i)
		}
	}
	if len(silent) == 1 {
		return silent[0], "same address; there is no MAC address and no name to compare", true
	}
	return 0, "", false
}

// isSpace tells a title such as "palm house climate" from a host name: only host names can contradict each other.
func isSpace(r rune) bool { return r == ' ' }
