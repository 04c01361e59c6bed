package netrange

import (
	"net/netip"
	"slices"
)

// private are the blocks of addresses that belong to nobody in the world, and so to any building: RFC 1918; RFC 6598, which
// some large buildings use as well; RFC 4193; and what is valid on one segment alone (RFC 3927, RFC 4291).
var private = []netip.Prefix{
	netip.MustParsePrefix("10.0.0.0/8"), netip.MustParsePrefix("172.16.0.0/12"), netip.MustParsePrefix("192.168.0.0/16"),
	netip.MustParsePrefix("100.64.0.0/10"), netip.MustParsePrefix("169.254.0.0/16"), netip.MustParsePrefix("fc00::/7"), netip.MustParsePrefix("fe80::/10"),
}

// Within reports whether a network lies in whole within one of the others.
func Within(p netip.Prefix, others []netip.Prefix) bool {
	return p.IsValid() && slices.ContainsFunc(others, func(o netip.Prefix) bool { return o.Bits() <= p.Bits() && o.Contains(p.Addr()) })
}

// IsPrivate reports whether a network lies in whole within one block of private addresses.
func IsPrivate(p netip.Prefix) bool { return Within(p, private) }

// special are addresses at which no device is: those of groups (RFC 5771, RFC 4291), of everybody (RFC 919), and of nobody.
var special = FromPrefixes(netip.MustParsePrefix("224.0.0.0/3"), netip.MustParsePrefix("0.0.0.0/8"), netip.MustParsePrefix("ff00::/8"), netip.MustParsePrefix("::/128"))

// NoDevice gives an address of a set at which no device can be, the first there is; found is false where there is none.
func (s Set) NoDevice() (a netip.Addr, found bool) {
	for _, span := range s.spans {
		for _, bad := range special.spans {
			if span.from.Is4() == bad.from.Is4() && !span.to.Less(bad.from) && !bad.to.Less(span.from) {
				return maxAddr(span.from, bad.from), true
			}
		}
	}
	return netip.Addr{}, false
}

func maxAddr(a, b netip.Addr) netip.Addr {
	if a.Less(b) {
		return b
	}
	return a
}
