package finding

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"airdrift/core/evidence"
	"airdrift/core/identify"
	"airdrift/core/ledger"
)

// placeRules are about addresses, names and where devices stand.
var placeRules = []Rule{
	{
		ID: "shared-address", Severity: High, Source: "RFC 5227", aside: true,
		marks: func(c *caseOf) {
			for _, a := range c.Device.Contested {
				c.mark(a.String(), "")
			}
		},
		together: func(r *ruling, group string, members []Member) { r.shared(group, members, "address", group) },
	},
	{
		ID: "moving-address", Severity: Medium, Source: "RFC 5227, 2.4",
		Params: []Param{
			{Name: "days", Kind: Number, Default: "14", Min: 1, Max: 3650, Text: "how far back it is looked, in days"},
			{Name: "holders", Kind: Number, Default: "3", Min: 2, Max: 100, Text: "how many times it has to have passed from one MAC address to another in that time"},
		},
		alone: movingAddress,
	},
	{
		ID: "shared-name", Severity: Low, Source: "RFC 1178",
		marks: func(c *caseOf) {
			if c.Device.Unit == "" { // what stands behind another is named by that
				c.mark(firstLabel(c.believed(identify.Name)), "")
			}
		},
		together: func(r *ruling, group string, members []Member) {
			r.shared(group, members, "name", group, "devices", fmt.Sprint(len(members)))
		},
	},
	{
		ID: "factory-address", Severity: Medium, Source: "what makers set their devices to",
		Params: []Param{{Name: "addresses", Kind: Words, Text: "more addresses that devices come with here"}},
		alone:  factoryAddress,
	},
	{
		ID: "wrong-subnet", Severity: Medium, Source: "RFC 950",
		alone: func(c *caseOf) {
			if !slices.Contains(c.Device.Traits, ledger.WrongSubnet) || !c.Device.Segment.IsValid() {
				return
			}
			for _, a := range c.Device.Addrs {
				if a.Is4() && !c.Device.Segment.Contains(a) {
					c.remark(a.String(), nil, "address", a.String(), "segment", c.Device.Segment.String())
				}
			}
		},
	},
	{
		ID: "mask-or-gateway", Severity: Medium, Source: "RFC 950", facts: []string{"profinet.mask", "profinet.gateway"},
		alone: maskOrGateway,
	},
	{
		ID: "static-in-pool", Severity: Medium, Source: "RFC 2131, 3.1",
		alone: staticInPool,
	},
	{
		ID: "stale-name", Severity: Low, Source: "RFC 1912, 2.1", marks: ownAndGivenNames,
		together: staleName,
	},
	{
		ID: "answers-for-others", Severity: Low, Source: "RFC 1027", aside: true,
		alone: func(c *caseOf) {
			if slices.Contains(c.Device.Traits, ledger.AnswersForOthers) {
				c.remark("", nil, "addresses", fmt.Sprint(len(c.Device.Addrs)))
			}
		},
	},
	{
		ID: "every-port", Severity: Info, Source: "RFC 6335, 6", facts: []string{evidence.KeyTCPEvery},
		alone: func(c *caseOf) {
			for it := range c.each(evidence.KeyTCPEvery) {
				c.remark("", []string{fact(it)})
				return
			}
		},
	},
}

// movingAddress looks at addresses that pass from one MAC address to another and on.
func movingAddress(c *caseOf) {
	since := c.now().Add(-time.Duration(c.number("days") * 24 * float64(time.Hour)))
	for _, a := range c.Device.Addrs {
		if slices.Contains(c.Device.Contested, a) {
			continue // several hold it at the same time, which is another finding
		}
		var held []ledger.Tenure
		for _, t := range c.Moves {
			if t.Addr == a && !t.MAC.IsZero() && !t.MAC.IsShared() && (t.Until.IsZero() || t.Until.After(since)) {
				held = append(held, t)
			}
		}
		slices.SortFunc(held, func(a, b ledger.Tenure) int { return a.Since.Compare(b.Since) })
		var evidence []string
		moves := 0
		for i, t := range held {
			if i > 0 && t.MAC != held[i-1].MAC && !held[i-1].Until.IsZero() && !t.Since.Before(held[i-1].Until) {
				moves++
			}
			evidence = append(evidence, fmt.Sprintf("%s held it from %s", t.MAC, t.Since.UTC().Format(time.DateOnly)))
		}
		if float64(moves) >= c.number("holders") {
			c.remark(a.String(), evidence, "address", a.String(), "times", fmt.Sprint(moves))
		}
	}
}

func firstLabel(name string) string {
	label, _, _ := strings.Cut(strings.ToLower(strings.TrimSpace(name)), ".")
	if _, err := netip.ParseAddr(name); err == nil {
		return "" // an address for want of a name
	}
	return label
}

func maskOrGateway(c *caseOf) {
	n := c.at()
	if n == nil || !n.Subnet.Addr().Is4() {
		return
	}
	for it := range c.each("profinet.mask") {
		if ones, ok := maskLength(it.Value); !ok || ones != n.Subnet.Bits() {
			c.remark("mask", []string{fact(it)}, "what", "mask", "is", it.Value, "network", n.Subnet.String())
		}
	}
	for it := range c.each("profinet.gateway") {
		gateway, err := netip.ParseAddr(it.Value)
		if err != nil || gateway.IsUnspecified() || slices.Contains(c.Device.Addrs, gateway) { // none is set, which the standard writes so too
			continue
		}
		if !n.Subnet.Contains(gateway) || n.Gateway.IsValid() && gateway != n.Gateway {
			c.remark("gateway", []string{fact(it)}, "what", "gateway", "is", it.Value, "network", n.Subnet.String())
		}
	}
}

// maskLength gives the length of a mask; ok is false where it is none (RFC 950).
func maskLength(text string) (bits int, ok bool) {
	a, err := netip.ParseAddr(text)
	if err != nil || !a.Is4() {
		return 0, false
	}
	p := a.As4()
	mask := uint32(p[0])<<24 | uint32(p[1])<<16 | uint32(p[2])<<8 | uint32(p[3])
	for bits = 0; bits < 32 && mask&(1<<(31-bits)) != 0; bits++ {
	}
	return bits, bits == 0 && mask == 0 || mask<<bits == 0
}

// staticInPool looks for devices at addresses that the DHCP server gives out, without having been given them.
func staticInPool(c *caseOf) {
	n := c.at()
	if n == nil || !c.judge.site.Leases || len(c.values(evidence.KeyLeaseMAC)) > 0 {
		return
	}
	for _, a := range c.Device.Addrs {
		if n.Dynamic.Contains(a) {
			c.remark(a.String(), nil, "address", a.String(), "network", cmp.Or(n.Name, n.Subnet.String()))
		}
	}
}

// hostFacts are the facts in which a host gives its own name.
var hostFacts = []string{"snmp.sysName", "netbios.name", "smb.name", "mdns.host", "dhcp.name", evidence.KeyLeaseName, "wsd.computer", "llmnr.name"}

// Marks of names.
const (
	givenName = "given " // by the name server, behind it the address
	ownName   = "own"
)

func ownAndGivenNames(c *caseOf) {
	var own []string
	for i := range c.Items {
		it := &c.Items[i]
		if !slices.Contains(hostFacts, it.Key) {
			continue
		}
		if name := firstLabel(it.Value); !slices.Contains(own, name) {
			own = append(own, name)
			c.mark(name, ownName)
		}
	}
	for it := range c.each(evidence.KeyPTR) {
		// Of a host that says no name of its own it is not known whether the record is right.
		if label := firstLabel(it.Value); len(own) > 0 && !slices.Contains(own, label) && len(c.Device.Addrs) > 0 {
			c.mark(label, givenName+c.Device.Addrs[0].String())
		}
	}
}

// staleName looks for names that the name server gives to one host while another says that it is its own.
func staleName(r *ruling, group string, members []Member) {
	for _, given := range members {
		addr, is := strings.CutPrefix(given.Value, givenName)
		owner := slices.IndexFunc(members, func(m Member) bool { return m.Value == ownName && m.Device != given.Device })
		if is && owner >= 0 {
			r.of([]uint64{given.Device}, true, group, nil, "name", group, "address", addr, "other", fmt.Sprint(members[owner].Device))
		}
	}
}
