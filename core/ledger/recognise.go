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

// way is one way of recognising a device: by texts that both a sighted body and a known device are known by.
type way struct {
	reason string
	body   func(body) []string
	device func(Device) []string
	lets   func(body, Device) bool // whether a like text may make the body the device; nil where it always does
}

// ways are the ways of recognising, the surest first.
func (b *book) ways() []way {
	return []way{
		{"It is the unit it was before, behind the same address.",
			func(x body) []string { return texts(x.behind()) }, func(d Device) []string { return texts(d.Unit) }, nil},
		{"It has the MAC address it had before.",
			func(x body) []string { return macTexts(x.macs(), false) }, func(d Device) []string { return macTexts(d.presentMACs(), false) }, b.keepsItsCard},
		{"It is the machine that the sweep was made from, as before.",
			func(x body) []string { return texts(selfName(x.facts)) }, func(d Device) []string { return texts(selfName(d.Items)) }, nil},
		{"It tells the MAC address by which it was known before.",
			func(x body) []string { return append(macTexts(x.macs(), false), toldMACs(x.facts)...) },
			func(d Device) []string { return append(macTexts(d.presentMACs(), false), toldMACs(d.Items)...) }, b.mayBeBeyond},
		{"It shows the key it showed before.",
			func(x body) []string { return keyTexts(x.keys, true) }, func(d Device) []string { return keyTexts(d.Keys, true) }, b.mayBeReplaced},
		{"It tells the serial number or identifier it told before.",
			func(x body) []string { return keyTexts(x.keys, false) }, func(d Device) []string { return keyTexts(d.Keys, false) }, b.mayBeReplaced},
		{"It has the private MAC address it had before.",
			func(x body) []string { return macTexts(x.macs(), true) }, func(d Device) []string { return macTexts(d.presentMACs(), true) }, nil},
		{"It has the name it had before.",
			func(x body) []string { return nameText(x.identity.Of(identify.Name), x.macs()) },
			func(d Device) []string { return nameText(d.Identity.Of(identify.Name), d.MACs) }, b.mayHaveNewPrivateMAC},
		{"It has a MAC address it had at some time before.",
			func(x body) []string { return anyMACTexts(x.macs()) }, func(d Device) []string { return anyMACTexts(d.Former) }, b.mayBeBeyond},
		{"It answers at the same address, and has no MAC address of its own to tell it by.",
			func(x body) []string { return routedText(x.addrs(), x.macs()) }, func(d Device) []string { return routedText(d.Addrs, d.presentMACs()) }, b.mayBeBeyond},
		{"It answers at the same address, and nothing speaks against it.",
			func(x body) []string { return addrTexts(x.addrs()) }, func(d Device) []string { return addrTexts(d.Addrs) }, b.mayBeAtItsAddress},
	}
}

// recognise finds for each body the device it is, or -1 for a new one. The ways are tried one after the other, the
// surest first, each over all bodies that are left, so that a weak likeness never takes a device from a strong one.
func (b *book) recognise(bodies []body) []int {
	found := make([]int, len(bodies))
	for i := range found {
		found[i] = -1
	}
	b.shownBy = shownBy(bodies)
	taken := make([]bool, len(b.devices))
	for _, way := range b.ways() {
		shows := make([][]string, len(bodies))
		wanted := map[string]*candidates{}
		for i, body := range bodies {
			if found[i] >= 0 {
				continue
			}
			shows[i] = distinct(way.body(body))
			for _, text := range shows[i] {
				if wanted[text] == nil {
					wanted[text] = &candidates{}
				}
			}
		}
		if len(wanted) == 0 {
			continue // nobody who is left shows anything of the kind
		}
		for i, body := range bodies {
			if found[i] >= 0 {
				shows[i] = distinct(way.body(body))
			}
		}
		b.lookFor(wanted, way, shows, taken)
		for i := range bodies {
			if found[i] >= 0 {
				continue
			}
			for _, text := range shows[i] {
				// What several show, or several showed before, tells none of them apart.
				c := wanted[text]
				free := slices.DeleteFunc(slices.Clone(c.devices), func(d int) bool { return taken[d] })
				if c.shown == 1 && len(free) == 1 && (way.lets == nil || way.lets(bodies[i], b.devices[free[0]])) {
					found[i], taken[free[0]] = free[0], true
					bodies[i].reasons = append(bodies[i].reasons, way.reason)
					break
				}
			}
		}
	}
	return found
}

// candidates are the devices known by a text, and how many bodies show it.
type candidates struct {
	shown   int
	devices []int
}

// lookFor finds the candidates of texts: all bodies that show one, and the devices known by it that no body was taken for.
func (b *book) lookFor(wanted map[string]*candidates, way way, shows [][]string, taken []bool) {
	for _, texts := range shows {
		for _, text := range texts {
			if c := wanted[text]; c != nil {
				c.shown++
			}
		}
	}
	for i, d := range b.devices {
		if taken[i] {
			continue
		}
		for _, text := range distinct(way.device(d)) {
			if c := wanted[text]; c != nil {
				c.devices = append(c.devices, i)
			}
		}
	}
}

func distinct(texts []string) []string {
	slices.Sort(texts)
	return slices.Compact(texts)
}

// texts gives a list of one text, or of none where it is empty.
func texts(text string) []string {
	if text == "" {
		return nil
	}
	return []string{text}
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
	return addrTexts(addrs)
}

func addrTexts(addrs []netip.Addr) []string {
	texts := make([]string, len(addrs))
	for i, a := range addrs {
		texts[i] = a.String()
	}
	return texts
}

func anyMACTexts(macs []hwaddr.MAC) []string {
	return append(macTexts(macs, false), macTexts(macs, true)...)
}

// selfName gives the name by which the auditor's own machine is known, "" of any other.
func selfName(facts []evidence.Item) string { return evidence.First(facts, evidence.KeySelf) }

// hardwareFacts gives the facts by which a device, or a list of leases, tells a MAC address of the device.
var hardwareFacts = sync.OnceValue(func() []string { return evidence.KeysFor(evidence.HardwareAddress) })

// toldMACs gives the MAC addresses that are told of a device, by which one seen on its segment is known beyond a router.
func toldMACs(facts []evidence.Item) []string {
	var macs []hwaddr.MAC
	for _, key := range hardwareFacts() {
		for _, text := range evidence.Values(facts, key) {
			if mac, err := hwaddr.Parse(text); err == nil {
				macs = append(macs, mac)
			}
		}
	}
	return macTexts(macs, false)
}
