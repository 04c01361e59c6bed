package ledger

import (
	"net/netip"
	"slices"
	"strings"
	"sync"

	"airdrift/core/evidence"
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
		{"It is the unit it was before, behind the same address.", func(i int) []string { return texts(bodies[i].behind()) },
			b.index(func(d Device) []string { return texts(d.Unit) })},
		{"It has the MAC address it had before.", func(i int) []string { return macTexts(bodies[i].macs(), false) },
			b.index(func(d Device) []string { return macTexts(d.MACs, false) })},
		{"It shows the key it showed before.", func(i int) []string { return keyTexts(bodies[i].keys, true) },
			b.index(func(d Device) []string { return keyTexts(d.Keys, true) })},
		{"It tells the serial number or identifier it told before.", func(i int) []string { return keyTexts(bodies[i].keys, false) },
			b.index(func(d Device) []string { return keyTexts(d.Keys, false) })},
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

// texts gives a list of one text, or of none where it is empty.
func texts(text string) []string {
	if text == "" {
		return nil
	}
	return []string{text}
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

// keyTexts gives the keys that a device proves to hold, or those that it only tells.
func keyTexts(keys []Key, proven bool) []string {
	var texts []string
	for _, k := range keys {
		if slices.Contains(keyFacts(), k.Key) == proven {
			texts = append(texts, k.Key+" "+k.Value)
		}
	}
	return texts
}

// identifierFacts gives the facts that tell devices of one model apart and stay with a device: the engine of its agent (RFC 3411, 5)
// and the identifiers by which its services know it.
var identifierFacts = sync.OnceValue(func() []string { return evidence.KeysFor(evidence.Identifier) })

// keySerial stands for the serial number that is believed of a device, with its maker.
const keySerial = "serial"

// identifiersOf gives what a device tells of itself that hardly another one tells.
func identifiersOf(facts []evidence.Item, identity identify.Identity) []Key {
	var keys []Key
	vendor, serial := identity.Of(identify.Vendor), identity.Of(identify.Serial)
	if vendor != "" && len(serial) >= minSerial {
		keys = append(keys, Key{keySerial, vendor + " " + serial})
	}
	for _, fact := range identifierFacts() {
		for _, value := range evidence.Values(facts, fact) {
			if value = strings.ToLower(value); isUnique(value) {
				keys = append(keys, Key{fact, value})
			}
		}
	}
	return keys
}

const (
	// minSerial is the least length of a serial number that tells a device.
	minSerial = 5
	// minDigits is how many hexadecimal digits an identifier has at least, and minDistinct how many of them differ: shorter ones,
	// and those made up of few, come with a program or from a factory (RFC 9562, 5.9: the identifier of zeros).
	minDigits, minDistinct = 18, 5
)

// isUnique reports whether an identifier is of a form that is made for one device alone.
func isUnique(identifier string) bool {
	identifier = strings.TrimPrefix(strings.TrimPrefix(identifier, "urn:"), "uuid:")
	digits, distinct := 0, map[rune]bool{}
	for _, r := range identifier {
		switch {
		case strings.ContainsRune("0123456789abcdef", r):
			digits++
			distinct[r] = true
		case r != '-' && r != ':':
			return false
		}
	}
	return digits >= minDigits && len(distinct) >= minDistinct
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
