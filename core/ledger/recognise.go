package ledger

import (
	"net/netip"
	"slices"
	"strings"

	"airdrift/core/hwaddr"
	"airdrift/core/identify"
)

// recognise finds for each body the device it is, or -1 for a new one. The ways are tried one after the other, the
// surest first, each over all bodies that are left, so that a weak likeness never takes a device from a strong one.
func (b *book) recognise(bodies []body) []int {
	found := make([]int, len(bodies))
	for i := range found {
		found[i] = -1
	}
	taken := make([]bool, len(b.devices))
	ways := []struct {
		reason string
		of     func(i int) []string
		index  map[string][]int
	}{
		{"It has the MAC address it had before.", func(i int) []string { return macTexts(bodies[i].macs(), false) },
			b.index(func(d Device) []string { return macTexts(d.MACs, false) })},
		{"It shows the key it showed before.", func(i int) []string { return keyTexts(bodies[i].keys) },
			b.index(func(d Device) []string { return keyTexts(d.Keys) })},
		{"It has the name it had before.", func(i int) []string { return nameText(bodies[i].identity.Of(identify.Name), bodies[i].macs()) },
			b.index(func(d Device) []string { return nameText(d.Identity.Of(identify.Name), d.MACs) })},
		{"It has the private MAC address it had before.", func(i int) []string { return macTexts(bodies[i].macs(), true) },
			b.index(func(d Device) []string { return macTexts(d.MACs, true) })},
		{"It answers at the same address, and has no MAC address of its own to tell it by.",
			func(i int) []string { return routedText(bodies[i].addrs(), bodies[i].macs()) },
			b.index(func(d Device) []string { return routedText(d.Addrs, d.MACs) })},
	}
	for _, way := range ways {
		shown := map[string]int{}
		for i := range bodies {
			for _, text := range way.of(i) {
				shown[text]++
			}
		}
		for i := range bodies {
			if found[i] >= 0 {
				continue
			}
			for _, text := range way.of(i) {
				// What several show, or several showed before, tells none of them apart.
				if free := untaken(way.index[text], taken); shown[text] == 1 && len(free) == 1 {
					found[i], taken[free[0]] = free[0], true
					bodies[i].reasons = append(bodies[i].reasons, way.reason)
					break
				}
			}
		}
	}
	return found
}

// index maps each text that a device is known by to the devices known by it.
func (b *book) index(of func(Device) []string) map[string][]int {
	index := map[string][]int{}
	for i, d := range b.devices {
		for _, text := range of(d) {
			index[text] = append(index[text], i)
		}
	}
	return index
}

func untaken(devices []int, taken []bool) []int {
	return slices.DeleteFunc(slices.Clone(devices), func(i int) bool { return taken[i] })
}

func macTexts(macs []hwaddr.MAC, private bool) []string {
	var texts []string
	for _, m := range macs {
		if identifies(m) && m.IsPrivate() == private {
			texts = append(texts, m.String())
		}
	}
	return texts
}

func keyTexts(keys []Key) []string {
	texts := make([]string, len(keys))
	for i, k := range keys {
		texts[i] = k.Key + " " + k.Value
	}
	return texts
}

// nameText gives a name to recognise by: a device with a MAC of its own is not taken for another by its name.
func nameText(name string, macs []hwaddr.MAC) []string {
	if name == "" || len(macTexts(macs, false)) > 0 {
		return nil
	}
	return []string{strings.ToLower(name)}
}

// routedText gives the addresses of a device without any MAC of its own.
func routedText(addrs []netip.Addr, macs []hwaddr.MAC) []string {
	if slices.ContainsFunc(macs, identifies) {
		return nil
	}
	texts := make([]string, len(addrs))
	for i, a := range addrs {
		texts[i] = a.String()
	}
	return texts
}
