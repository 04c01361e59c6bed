// Package drift tells where the register and what was observed of a device disagree, attribute by attribute.
package drift

import (
	"net/netip"
	"slices"
	"strings"

	"airdrift/core/hwaddr"
	"airdrift/core/identify"
	"airdrift/core/ledger"
	"airdrift/core/register"
)

// Line is one attribute in which they disagree.
type Line struct {
	Attribute string // a column of the register
	Expected  string // by the register
	Observed  string
	Strength  int  // of the observation, in decibans
	Certain   bool // it was seen on the network itself, which is no matter of belief
}

// certain is the strength of what was seen on the network itself, for who sorts by strength.
const certain = 40

// Attributes are those that are compared, in the order in which they are listed.
var Attributes = []string{"name", "mac", "address", "vendor", "model", "kind"}

// Of gives the lines of a device. What the register leaves open, and what was not observed, is no disagreement; nor is anything of a device that was
// never seen, which is missing.
func Of(d ledger.Device) []Line {
	if d.Entry == nil || d.FirstSeen.IsZero() {
		return nil
	}
	var lines []Line
	add := func(attribute, expected, observed string, strength int) {
		lines = append(lines, Line{attribute, expected, observed, strength, attribute == "mac" || attribute == "address"})
	}
	believed := func(attribute string, a identify.Attribute, expected string, same func(a, b string) bool) {
		if observed := d.Identity.Of(a); expected != "" && observed != "" && !same(expected, observed) {
			add(attribute, expected, observed, d.Identity.Strength(a))
		}
	}
	e := d.Entry
	believed("name", identify.Name, e.Name, sameText(sameName))
	if macs := d.PresentMACs(); !e.MAC.IsZero() && len(macs) > 0 && !slices.Contains(macs, e.MAC) {
		add("mac", e.MAC.String(), joined(macs, hwaddr.MAC.String), certain)
	}
	if e.Addr.IsValid() && len(d.Addrs) > 0 && !slices.Contains(d.Addrs, e.Addr) {
		add("address", e.Addr.String(), joined(alike(d.Addrs, e.Addr), netip.Addr.String), certain)
	}
	believed("vendor", identify.Vendor, e.Vendor, func(a, b string) bool {
		return strings.EqualFold(identify.VendorName(a), identify.VendorName(b))
	})
	believed("model", identify.Model, e.Model, sameText(func(a, b string) bool { return sameModel(e.Vendor, a, b) }))
	believed("kind", identify.Kind, e.Kind, func(a, b string) bool {
		return strings.EqualFold(a, b) || b == identify.Unknown || identify.IsPartOf(a, b) || identify.IsPartOf(b, a)
	})
	return lines
}

// sameText compares as same does, spaces at the ends aside.
func sameText(same func(a, b string) bool) func(a, b string) bool {
	return func(a, b string) bool { return same(strings.TrimSpace(a), strings.TrimSpace(b)) }
}

// sameName compares names as hosts and people write them: "archive scanner" goes by archive-scanner on the network.
func sameName(a, b string) bool {
	first := func(name string) string { label, _, _ := strings.Cut(name, "."); return squeezed(label) }
	return ledger.SameName(a, b) || first(a) == first(b)
}

// sameModel compares names of models: capitals and spaces aside, and with or without the maker in front.
func sameModel(vendor, a, b string) bool {
	a, b, vendor = squeezed(a), squeezed(b), squeezed(vendor)
	return a == b || strings.TrimPrefix(a, vendor) == strings.TrimPrefix(b, vendor)
}

// squeezed leaves letters and digits, in lower case.
func squeezed(text string) string {
	return strings.Map(func(r rune) rune {
		if strings.ContainsRune(" -_./", r) {
			return -1
		}
		return r
	}, strings.ToLower(text))
}

// most is how many addresses are named in one line.
const most = 4

func joined[T any](all []T, text func(T) string) string {
	var texts []string
	for _, one := range all[:min(len(all), most)] {
		texts = append(texts, text(one))
	}
	return strings.Join(texts, ", ")
}

// alike gives the addresses of the family of one, or all where there are none of it.
func alike(all []netip.Addr, of netip.Addr) []netip.Addr {
	var like []netip.Addr
	for _, a := range all {
		if a.Is4() == of.Is4() && !a.IsLinkLocalUnicast() {
			like = append(like, a)
		}
	}
	if like == nil {
		return all
	}
	return like
}

// Take gives the entry as it is with what was observed in the place of what it says of an attribute.
func Take(e register.Entry, d ledger.Device, attribute string) register.Entry {
	for _, line := range Of(d) {
		if line.Attribute != attribute {
			continue
		}
		switch attribute {
		case "name":
			e.Name = line.Observed
		case "mac":
			e.MAC = d.PresentMACs()[0]
		case "address":
			e.Addr = alike(d.Addrs, e.Addr)[0]
		case "vendor":
			e.Vendor = line.Observed
		case "model":
			e.Model = line.Observed
		case "kind":
			e.Kind = line.Observed
		}
	}
	return e
}
