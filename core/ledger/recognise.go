package ledger

import (
	"cmp"
	"net/netip"
	"slices"
	"strings"

	"airdrift/core/hwaddr"
	"airdrift/core/identify"
)

// way is one way of recognising a device: by texts that both a sighted body and a known device are known by.
type way struct {
	reason string
	any    bool // where several devices are known by a text, it is one of them
	body   func(body) []string
	device func(Device) []string
	lets   func(body, Device) bool // whether a like text may make the body the device; nil where it always does
}

// ways are the ways of recognising, the surest first.
func (b *book) ways() []way {
	return []way{
		{"Somebody has said that it is one device.", false,
			func(x body) []string { return b.toldTexts(x.sides) }, b.toldDevice, nil},
		{"It is the unit it was before, behind the same address.", false,
			func(x body) []string { return texts(x.behind()) }, func(d Device) []string { return texts(d.Unit) }, nil},
		{"It has the MAC address it had before.", false,
			func(x body) []string { return macTexts(x.macs(), false) }, func(d Device) []string { return macTexts(d.PresentMACs(), false) }, b.keepsItsCard},
		{"It is the machine that the sweep was made from, as before.", false,
			func(x body) []string { return texts(x.tale.self) }, func(d Device) []string { return texts(d.Self) }, nil},
		{"It tells the MAC address by which it was known before.", false,
			func(x body) []string { return append(macTexts(x.macs(), false), macTexts(x.tale.told, false)...) },
			func(d Device) []string { return append(macTexts(d.PresentMACs(), false), macTexts(d.Told, false)...) }, b.mayBeBeyond},
		{"It shows the key it showed before.", false,
			func(x body) []string { return keyTexts(x.keys, true) }, func(d Device) []string { return keyTexts(d.Keys, true) }, b.mayBeReplaced},
		{"It tells the serial number or identifier it told before.", false,
			func(x body) []string { return keyTexts(x.keys, false) }, func(d Device) []string { return keyTexts(d.Keys, false) }, b.mayBeReplaced},
		{"It has the private MAC address it had before.", false,
			func(x body) []string { return macTexts(x.macs(), true) }, func(d Device) []string { return macTexts(d.PresentMACs(), true) }, nil},
		{"It has the name it had before.", false,
			func(x body) []string { return nameText(x.identity.Of(identify.Name), x.macs()) },
			func(d Device) []string { return nameText(d.Identity.Of(identify.Name), d.MACs) }, b.mayHaveNewPrivateMAC},
		{"It has a MAC address it had at some time before.", false,
			func(x body) []string { return anyMACTexts(x.macs()) }, func(d Device) []string { return anyMACTexts(d.Former) }, b.mayBeBeyond},
		{"It answers at the same address, and has no MAC address of its own to tell it by.", false,
			func(x body) []string { return routedText(x.addrs(), x.macs()) }, func(d Device) []string { return routedText(d.Addrs, d.PresentMACs()) }, b.mayBeBeyond},
		{"It answers at the same address, and nothing speaks against it.", false,
			func(x body) []string { return addrTexts(x.addrs()) }, func(d Device) []string { return addrTexts(d.Addrs) }, b.mayBeAtItsAddress},
		{"It answers beyond a router at an address that several share, and is one of them.", true,
			func(x body) []string { return routedText(x.addrs(), x.macs()) }, func(d Device) []string { return addrTexts(d.Contested) }, b.mayBeAtItsAddress},
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
			continue // none that is left shows anything of the kind
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
				if way.any {
					free = b.likeliest(bodies[i], free, way)
				}
				if c.shown == 1 && len(free) == 1 && (way.lets == nil || way.lets(bodies[i], b.devices[free[0]])) && !b.isToldApart(bodies[i], b.devices[free[0]]) {
					found[i], taken[free[0]] = free[0], true
					bodies[i].reasons = append(bodies[i].reasons, way.reason)
					break
				}
			}
		}
	}
	return found
}

// likeliest gives the one device, of several that share an address, that a body is taken for: one that nothing speaks against, if possible
// one that was seen from the same vantage before, else the one that is known longest.
func (b *book) likeliest(body body, devices []int, way way) []int {
	devices = slices.DeleteFunc(devices, func(d int) bool { return !way.lets(body, b.devices[d]) })
	rank := func(d int) (rank int) {
		if _, seen := b.devices[d].view(b.vantage); !seen {
			rank = 1
		}
		return rank
	}
	slices.SortFunc(devices, func(x, y int) int {
		return cmp.Or(cmp.Compare(rank(x), rank(y)), cmp.Compare(b.devices[x].ID, b.devices[y].ID))
	})
	return devices[:min(len(devices), 1)]
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

// keySerial stands for the serial number that is believed of a device, with its maker.
const keySerial = "serial"

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
