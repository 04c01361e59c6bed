package inventory

import (
	"net/netip"
	"strconv"
	"strings"
	"time"

	"airdrift/core/identify"
	"airdrift/core/register"
)

// sameText compares as same does, spaces at the ends aside.
func sameText(same func(a, b string) bool) func(e register.Entry, a, b string) bool {
	return func(_ register.Entry, a, b string) bool { return same(strings.TrimSpace(a), strings.TrimSpace(b)) }
}

// sameName compares names as hosts and people write them: "archive scanner" goes by archive-scanner on the network.
func sameName(a, b string) bool {
	first := func(name string) string { label, _, _ := strings.Cut(name, "."); return squeezed(label) }
	return identify.SameName(a, b) || first(a) == first(b)
}

func sameVendor(_ register.Entry, a, b string) bool {
	return strings.EqualFold(identify.VendorName(a), identify.VendorName(b))
}

// sameModel compares names of models: capitals and spaces aside, and with or without the maker in front.
func sameModel(e register.Entry, a, b string) bool {
	a, b, vendor := squeezed(strings.TrimSpace(a)), squeezed(strings.TrimSpace(b)), squeezed(e.Vendor)
	return a == b || strings.TrimPrefix(a, vendor) == strings.TrimPrefix(b, vendor)
}

// sameKind takes a special case of a kind for that kind, and a kind that is not known for any.
func sameKind(_ register.Entry, a, b string) bool {
	return strings.EqualFold(a, b) || b == identify.Unknown || identify.IsPartOf(a, b) || identify.IsPartOf(b, a)
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

// mostNamed is how many addresses are named in one line.
const mostNamed = 4

func firstOf[T any](all []T, text func(T) string) string {
	return strings.Join(texts(all[:min(len(all), mostNamed)], text), ", ")
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

// textOf writes a value as files and tables have it.
func textOf(f *Field, value any) string {
	switch v := value.(type) {
	case string:
		return v
	case []string:
		if f.Choices != nil {
			return strings.Join(v, ", ")
		}
		return strings.Join(v, " ")
	case int:
		return strconv.Itoa(v)
	case bool:
		return strconv.FormatBool(v)
	case time.Time:
		if !v.IsZero() {
			return v.UTC().Format(time.RFC3339)
		}
	}
	return ""
}
