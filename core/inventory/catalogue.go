package inventory

import (
	"fmt"
	"net/netip"
	"slices"

	"airdrift/core/hwaddr"
	"airdrift/core/identify"
	"airdrift/core/ledger"
	"airdrift/core/register"
)

// Fields is the catalogue, in the order in which fields are shown. Nobody changes it while the program runs.
var Fields = []*Field{
	{
		Name: "number", JSON: "id", Heading: "No", Doc: "By which the device is named in addresses and commands", Type: Number, Listed: true,
		Of: func(d ledger.Device) any { return int(d.ID) }, Shown: []Place{Terminal},
	},
	{
		Name: "address", JSON: "addresses", Heading: "Address", Doc: "Held when it was seen last", Type: Texts, Width: 2, Listed: true, Sorted: true,
		Of:    func(d ledger.Device) any { return texts(d.Addrs, netip.Addr.String) },
		Drift: addressDrift, Shown: []Place{Terminal, Narrow, Medium, Wide, Sheet, Extract, Report},
	},
	{
		Name: "unit", Heading: "Unit", Doc: "Which unit it is, and behind which address, where it has none of its own, such as modbus/7 behind 10.40.1.9", Type: Text,
		Of: func(d ledger.Device) any { return d.Unit },
	},
	{
		Name: "name", Heading: "Name", Doc: "As the register calls it, else as it calls itself", Type: Text, Width: 2.4, Listed: true, Sorted: true, Search: OwnWords,
		Of:    func(d ledger.Device) any { return NameOf(d) },
		Drift: believedDrift(identify.Name, func(e *register.Entry) *string { return &e.Name }, sameText(sameName)),
		Shown: []Place{Terminal, Medium, Wide, Sheet, Extract, Report},
	},
	{
		Name: "kind", Heading: "Kind", Type: Text, Width: 1.8, Always: true, Choices: identify.Kinds, Listed: true, Sorted: true, Search: SharedWords, Filter: OneOf, Only: "of these kinds",
		Of: func(d ledger.Device) any {
			if kind := believedOr(d, identify.Kind, func(e register.Entry) string { return e.Kind }); kind == "" || slices.Contains(identify.Kinds, kind) {
				return kind
			}
			return identify.Unknown
		},
		Drift: believedDrift(identify.Kind, func(e *register.Entry) *string { return &e.Kind }, sameKind),
		Shown: []Place{Terminal, Narrow, Medium, Wide, Sheet, Extract, Report},
	},
	{
		Name: "vendor", Heading: "Vendor", Type: Text, Width: 2, Listed: true, Sorted: true, Search: SharedWords, Filter: OneOf, Only: "by these makers",
		Of: func(d ledger.Device) any {
			return believedOr(d, identify.Vendor, func(e register.Entry) string { return e.Vendor })
		},
		Drift: believedDrift(identify.Vendor, func(e *register.Entry) *string { return &e.Vendor }, sameVendor),
		Shown: []Place{Terminal, Medium, Wide, Sheet, Extract, Report},
	},
	{
		Name: "model", Heading: "Model", Type: Text, Width: 1.8, Listed: true, Sorted: true, Search: SharedWords, Filter: OneOf, Only: "of these models",
		Of: func(d ledger.Device) any {
			return believedOr(d, identify.Model, func(e register.Entry) string { return e.Model })
		},
		Drift: believedDrift(identify.Model, func(e *register.Entry) *string { return &e.Model }, sameModel),
		Shown: []Place{Terminal, Wide, Sheet, Extract, Report},
	},
	believed(identify.OS, "System", SharedWords, "with these systems", Sheet),
	believed(identify.Firmware, "Firmware", SharedWords, "with these versions of firmware", Sheet, Extract),
	believed(identify.Serial, "Serial", OwnWords, "with these serial numbers", Sheet, Extract),
	{
		Name: "strength", Heading: "Confidence", Doc: "What speaks for its kind, in decibans: 20 are odds of 100 to 1", Type: Number, Always: true, Listed: true, Sorted: true,
		Filter: AtLeast, Only: "for whose kind at least this much speaks, in decibans", Shown: []Place{Sheet},
		Of: func(d ledger.Device) any { return d.Identity.Strength(identify.Kind) },
	},
	{
		Name: "standing", Heading: "Standing", Doc: "Against the register", Type: Text, Width: 1.6, Always: true, Choices: asTexts(ledger.Standings), Listed: true, Sorted: true,
		Filter: OneOf, Only: "of these standings", Shown: []Place{Terminal, Narrow, Medium, Wide, Sheet, Extract},
		Of: func(d ledger.Device) any { return string(d.Standing) },
	},
	{
		Name: "presence", Heading: "Presence", Doc: "In the last sweep that covered it", Type: Text, Always: true, Choices: asTexts(ledger.Presences), Listed: true, Sorted: true,
		Filter: OneOf, Only: "of these presences", Shown: []Place{Terminal, Sheet},
		Of: func(d ledger.Device) any { return string(d.Presence) },
	},
	{
		Name: "mac", Heading: "MAC", Doc: "The one seen last", Type: Text, Width: 2.1, Listed: true, Sorted: true,
		Of: func(d ledger.Device) any {
			if len(d.MACs) == 0 {
				return ""
			}
			return d.MACs[0].String()
		},
		Drift: macDrift, Shown: []Place{Terminal, Report},
	},
	{
		Name: "firstSeen", Heading: "First seen", Type: Time, Listed: true, Sorted: true, Shown: []Place{Sheet, Report},
		Of: func(d ledger.Device) any { return d.FirstSeen },
	},
	{
		Name: "lastSeen", Heading: "Last seen", Type: Time, Listed: true, Sorted: true, Shown: []Place{Terminal, Wide, Sheet, Extract, Report},
		Of: func(d ledger.Device) any {
			if d.FirstSeen.IsZero() {
				return d.FirstSeen
			}
			return d.LastSeen
		},
	},
	{
		Name: "group", Heading: "Group", Doc: "What it belongs to, as somebody has said: a floor, a rack", Type: Text, Listed: true, Sorted: true, Search: OwnWords,
		Filter: OneOf, Only: "of these groups", Shown: []Place{Sheet},
		Of: func(d ledger.Device) any { return d.Group },
	},
	{
		Name: "responsible", Heading: "Responsible", Doc: "Whom the register names", Type: Text, Listed: true, Sorted: true, Search: OwnWords,
		Filter: OneOf, Only: "for which the register names one of these", Shown: []Place{Sheet},
		Of: registered(func(e register.Entry) string { return e.Responsible }),
	},
	{
		Name: "location", Heading: "Location", Doc: "Where it says that it stands, else as the register has it", Type: Text, Listed: true, Sorted: true, Search: OwnWords,
		Filter: OneOf, Only: "at these locations", Shown: []Place{Sheet},
		Of: func(d ledger.Device) any {
			if place := d.Identity.Of(identify.Location); place != "" || d.Entry == nil {
				return place
			}
			return d.Entry.Location
		},
	},
	{
		Name: "traits", Heading: "Flags", Doc: "What to know of it before believing the rest", Type: Texts, Choices: asTexts(ledger.Traits), Listed: true, Search: SharedWords,
		Filter: OneOf, Asked: "trait", Only: "with one of these flags", Shown: []Place{Terminal},
		Of: func(d ledger.Device) any { return asTexts(d.Traits) },
	},
	{
		Name: "contested", Heading: "Shared address", Doc: "It shares an address with another device", Type: Flag, Always: true,
		Filter: IsSet, Only: "that share an address",
		Of: func(d ledger.Device) any { return len(d.Contested) > 0 },
	},
	// What lists are narrowed by besides; the database knows how.
	{Name: "network", Heading: "Network", Type: Text, Filter: OneOf, Only: "with an address in one of these networks of the site, by name or subnet"},
	{Name: "service", Heading: "Service", Doc: "A port (tcp/80 or 80), a name (http) or a type (_ipp._tcp)", Type: Text, Filter: OneOf, Only: "that offer one of these: a port (tcp/80 or 80), a name (http) or a type (_ipp._tcp)"},
	{Name: "severity", Heading: "Severity", Type: Text, Choices: []string{"info", "low", "medium", "high", "critical"}, Filter: AtLeast, Only: "with an open finding that is as bad or worse"},
}

// believed is a field that evidence alone tells.
func believed(a identify.Attribute, heading string, search Search, only string, shown ...Place) *Field {
	return &Field{
		Name: string(a), Heading: heading, Type: Text, Listed: true, Sorted: true, Search: search, Filter: OneOf, Only: only, Shown: shown,
		Of: func(d ledger.Device) any { return d.Identity.Of(a) },
	}
}

// believedOr gives what evidence tells of an attribute, or of a device that was never seen what the register says.
func believedOr(d ledger.Device, a identify.Attribute, says func(register.Entry) string) string {
	if value := d.Identity.Of(a); value != "" || d.Entry == nil || !d.FirstSeen.IsZero() {
		return value
	}
	return says(*d.Entry)
}

// registered reads what the register says of a device.
func registered(says func(register.Entry) string) func(ledger.Device) any {
	return func(d ledger.Device) any {
		if d.Entry == nil {
			return ""
		}
		return says(*d.Entry)
	}
}

// NameOf gives the name that a device is shown by: the register's, or its own; "" where it has none.
func NameOf(d ledger.Device) string {
	if d.Entry != nil && d.Entry.Name != "" {
		return d.Entry.Name
	}
	return d.Identity.Of(identify.Name)
}

// Called gives what a device is called: its name, or else what it is behind another, an address, a MAC address or its number.
func Called(d ledger.Device) string {
	switch name := NameOf(d); {
	case name != "":
		return name
	case d.Unit != "":
		return d.Unit
	case len(d.Addrs) > 0:
		return d.Addrs[0].String()
	case len(d.MACs) > 0:
		return d.MACs[0].String()
	}
	return fmt.Sprintf("device %d", d.ID)
}

// texts writes all of a list.
func texts[T any](list []T, text func(T) string) []string {
	out := make([]string, len(list))
	for i, one := range list {
		out[i] = text(one)
	}
	return out
}

func asTexts[T ~string](list []T) []string { return texts(list, func(t T) string { return string(t) }) }

var (
	addressDrift = &Drift{
		Expected: func(e register.Entry) string {
			if !e.Addr.IsValid() {
				return ""
			}
			return e.Addr.String()
		},
		Observed: func(d ledger.Device) string { return firstOf(alike(d.Addrs, d.Entry.Addr), netip.Addr.String) },
		Same:     func(d ledger.Device) bool { return slices.Contains(d.Addrs, d.Entry.Addr) },
		Take:     func(e *register.Entry, d ledger.Device) { e.Addr = alike(d.Addrs, e.Addr)[0] },
		Certain:  true,
	}
	macDrift = &Drift{
		Expected: func(e register.Entry) string { return e.MAC.String() },
		Observed: func(d ledger.Device) string { return firstOf(d.PresentMACs(), hwaddr.MAC.String) },
		Same:     func(d ledger.Device) bool { return slices.Contains(d.PresentMACs(), d.Entry.MAC) },
		Take:     func(e *register.Entry, d ledger.Device) { e.MAC = d.PresentMACs()[0] },
		Certain:  true,
	}
)

// believedDrift holds what is believed of an attribute against a column of the register.
func believedDrift(a identify.Attribute, column func(*register.Entry) *string, same func(e register.Entry, expected, observed string) bool) *Drift {
	return &Drift{
		Expected:  func(e register.Entry) string { return *column(&e) },
		Observed:  func(d ledger.Device) string { return d.Identity.Of(a) },
		Same:      func(d ledger.Device) bool { e := *d.Entry; return same(e, *column(&e), d.Identity.Of(a)) },
		Take:      func(e *register.Entry, d ledger.Device) { *column(e) = d.Identity.Of(a) },
		Attribute: a,
	}
}
