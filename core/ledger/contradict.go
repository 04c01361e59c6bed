package ledger

import (
	"net/netip"
	"slices"
	"strings"

	"airdrift/core/hwaddr"
	"airdrift/core/identify"
)

// likeness is what a body or a device shows of itself that can speak against its being another.
type likeness struct {
	keys     []Key
	identity identify.Beliefs
	macs     []hwaddr.MAC // those it has now
}

func (b body) likeness() likeness   { return likeness{b.keys, b.identity, b.macs()} }
func (d Device) likeness() likeness { return likeness{d.Keys, d.Identity, d.PresentMACs()} }

// surelyKnown is from what strength on, in decibans, two values of one attribute contradict each other.
const surelyKnown = 20

// contradict reports whether something speaks against two being one device: keys or serial numbers of one sort that have nothing in
// common, kinds or systems that are surely known and differ, or names, where the model does not stay the same.
func contradict(a, b likeness) bool {
	if disagree(a.keys, b.keys) {
		return true
	}
	if kind, other, sure := surely(a, b, identify.Kind); sure && kind != other {
		return true
	}
	if system, other, sure := surely(a, b, identify.OS); sure && !identify.SameSystem(system, other) {
		return true
	}
	name, other := a.identity.Of(identify.Name), b.identity.Of(identify.Name)
	model := a.identity.Of(identify.Model)
	sameModel := isKnown(model) && model == b.identity.Of(identify.Model)
	return name != "" && other != "" && !identify.SameName(name, other) && !sameModel
}

// surely gives what two are known to be; sure is false where one of them is not surely known.
func surely(a, b likeness, attribute identify.Attribute) (x, y string, sure bool) {
	x, y = a.identity.Of(attribute), b.identity.Of(attribute)
	return x, y, isKnown(x) && isKnown(y) && min(a.identity.Strength(attribute), b.identity.Strength(attribute)) >= surelyKnown
}

// disagree reports whether both show keys, or serial numbers, of one sort and have none of them in common. Identifiers of services do
// not count: many are made anew when a device starts.
func disagree(a, b []Key) bool {
	for _, x := range a {
		if x.Key != keySerial && !slices.Contains(keyFacts(), x.Key) {
			continue
		}
		both, common := false, false
		for _, y := range b {
			if x.sort() == y.sort() {
				both = true
				common = common || slices.Contains(a, y)
			}
		}
		if both && !common {
			return true
		}
	}
	return false
}

// sort tells keys that can be held against each other. Serial numbers of two makers cannot: devices tell those of their parts.
func (k Key) sort() string {
	if k.Key == keySerial {
		vendor, _, _ := strings.Cut(k.Value, " ")
		return k.Key + " " + vendor
	}
	return k.Key
}

// shownBy counts by how many bodies of a sweep each key is shown.
func shownBy(bodies []body) map[Key]int {
	shown := map[Key]int{}
	for _, b := range bodies {
		for _, k := range b.keys {
			shown[k]++
		}
	}
	return shown
}

// keepsItsCard tells a device whose key has changed, as after it was set up anew, from one whose network card was put into another:
// then somebody else shows what the device was known by.
func (b *book) keepsItsCard(body body, d Device) bool {
	if !disagree(body.keys, d.Keys) {
		return true
	}
	return !slices.ContainsFunc(d.Keys, func(k Key) bool { return b.shownBy[k] == 1 && !slices.Contains(body.keys, k) })
}

// mayBeBeyond lets a body be a device of which it has no MAC address, where nothing speaks against it.
func (b *book) mayBeBeyond(body body, d Device) bool {
	return !contradict(body.likeness(), d.likeness())
}

// mayBeReplaced lets a body that shows a device's key be the device. Where both have a MAC address of their own, it is either a new
// network card or a clone: a card is believed where the sweep looked for the old one in vain and nothing else speaks against it.
func (b *book) mayBeReplaced(body body, d Device) bool {
	if contradict(body.likeness(), d.likeness()) {
		return false
	}
	if !slices.ContainsFunc(body.macs(), identifies) || !slices.ContainsFunc(d.PresentMACs(), identifies) {
		return true
	}
	return b.covers(d) || slices.ContainsFunc(body.addrs(), func(a netip.Addr) bool { return holds(d.Addrs, a) })
}

// mayHaveNewPrivateMAC lets a body be a device of its name. One that has kept its private MAC address before keeps it still: one
// with another address is another device, whatever its name.
func (b *book) mayHaveNewPrivateMAC(body body, d Device) bool {
	bothPrivate := slices.ContainsFunc(body.macs(), identifies) && slices.ContainsFunc(d.PresentMACs(), identifies)
	return !(bothPrivate && d.KeepsMAC) && !contradict(body.likeness(), d.likeness())
}

// mayBeAtItsAddress lets a body be the device that was at its address, where one of them was met without a MAC address of its own.
func (b *book) mayBeAtItsAddress(body body, d Device) bool {
	if slices.ContainsFunc(body.macs(), identifies) && slices.ContainsFunc(d.PresentMACs(), identifies) {
		return false
	}
	return !contradict(body.likeness(), d.likeness())
}
