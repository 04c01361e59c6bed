package identify

import (
	"bytes"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"sync"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
	"airdrift/core/registry"
)

const (
	// vendorFromMAC is what a MAC prefix adds for its holder. Network cards of other makers are common inside devices,
	// so a device that names its maker itself overrules it.
	vendorFromMAC = 10
	// vendorFromPart is the same for the makers of parts.
	vendorFromPart = 3
	// vendorFromObject is what an agent's object identifier adds for whom its number belongs to, and vendorFromEngine what its
	// engine's does: engines are often bought in.
	vendorFromObject = 14
	vendorFromEngine = 8
)

// agentMakers are the enterprises whose agents run on the devices of all makers, so that their numbers tell nothing of the
// device: the makers of agents and of operating systems.
var agentMakers = map[uint32]bool{
	99: true, 311: true, 2021: true, 8072: true, // SNMP Research, Microsoft, UCD, Net-SNMP
	4413: true, 1751: true, // Broadcom's switch software, and Avaya's embedded one
	6876: true, 12325: true, // VMware, FreeBSD
}

// dividedNumbers are the enterprises that have been divided since they were given their numbers, with what that still adds: both
// parts go on using it.
var dividedNumbers = map[uint32]int{11: 8} // Hewlett-Packard

// brandVotes finds makers in what a device says. Where one text names several, none of them is believed by it.
func (e *Engine) brandVotes(votes []vote, facts []fact) []vote {
	for i := range facts {
		f := &facts[i]
		strength := f.about.Names
		if strength == 0 {
			continue
		}
		var named []string
		if len(e.site.byFirst) > 0 {
			named = e.site.find(f.folded())
		}
		for _, vendor := range publicBrands().find(f.folded()) {
			if !slices.Contains(named, vendor) {
				named = append(named, vendor)
			}
		}
		switch len(named) {
		case 0:
			if vendor, strength := houseOf(f); vendor != "" {
				votes = append(votes, vote{Vendor, vendor, ruleBeginsWithMaker, "The text begins with the name of a registered maker, " + vendor + ".", strength, &f.Item, 0})
			}
		case 1:
			if by := f.about.By; by != evidence.TheMaker && isAbout(f.folded()) || by == evidence.TheKeeper && !beginsWith(f.folded(), named[0]) {
				strength = weakened(strength)
			}
			votes = append(votes, vote{Vendor, named[0], ruleNamesMaker, "The text names " + named[0] + ".", strength, &f.Item, 0})
		}
	}
	return votes
}

// enterpriseVotes looks up whose numbers an agent bears.
func enterpriseVotes(votes []vote, facts []fact) []vote {
	for i := range facts {
		item := &facts[i].Item
		strength, rule, what := 0, "", ""
		switch item.Key {
		case evidence.KeySNMPEnterprise:
			strength, rule, what = vendorFromObject, "enterprise-of-object", "the number in the agent's object identifier"
		case evidence.KeySNMPEngineFrom:
			strength, rule, what = vendorFromEngine, "enterprise-of-engine", "the number in the agent's engine"
		default:
			continue
		}
		number, err := strconv.ParseUint(item.Value, 10, 32)
		if err != nil || agentMakers[uint32(number)] {
			continue
		}
		if left, divided := dividedNumbers[uint32(number)]; divided {
			strength = min(strength, left)
		}
		organisation := registry.Enterprise(uint32(number))
		if vendor := registered(organisation); vendor != "" {
			because := fmt.Sprintf("IANA gave enterprise number %d, %s, to %s.", number, what, organisation)
			votes = append(votes, vote{Vendor, vendor, rule, because, strength, item, 0})
		}
	}
	return votes
}

// macFacts gives each MAC address that answered once, with the fact that tells it: by whichever protocol it answered, its
// prefix is one witness.
func macFacts(items []evidence.Item) map[hwaddr.MAC]evidence.Item {
	facts := map[hwaddr.MAC]evidence.Item{}
	for _, item := range items {
		rank := slices.Index(macKeys(), item.Key)
		if rank < 0 {
			continue
		}
		mac, err := hwaddr.Parse(item.Value)
		known, has := facts[mac]
		if err == nil && (!has || rank < slices.Index(macKeys(), known.Key)) {
			facts[mac] = item
		}
	}
	return facts
}

// macKeys are the facts that tell a device's own MAC address, the surest first: those of the segment, what devices say, and last
// what others have written down.
var macKeys = sync.OnceValue(func() []string {
	keys := evidence.KeysFor(evidence.HardwareAddress)
	slices.SortStableFunc(keys, func(a, b string) int { return writtenDown(a) - writtenDown(b) })
	return keys
})

func writtenDown(key string) int {
	if fact, _ := evidence.FactOf(key); fact.Source == evidence.SourceLease {
		return 1
	}
	return 0
}

// macVotes looks the makers of MAC addresses up. Several addresses of one maker are one word for it.
func (e *Engine) macVotes(votes []vote, macs map[hwaddr.MAC]evidence.Item) []vote {
	for _, mac := range slices.SortedFunc(maps.Keys(macs), func(a, b hwaddr.MAC) int { return bytes.Compare(a[:], b[:]) }) {
		if mac.IsShared() {
			continue
		}
		found := registry.Find(mac, e.overlay)
		vendor := registered(found.Organisation)
		if vendor == "" || slices.ContainsFunc(votes, func(v vote) bool { return v.value == vendor }) {
			continue
		}
		because := "The IEEE register gives the prefix " + found.Prefix.String() + " to " + found.Organisation + "."
		if found.FromSite {
			because = "The site's own list gives the prefix " + found.Prefix.String() + " to " + found.Organisation + "."
		}
		strength := vendorFromMAC
		if !found.FromSite && publicShares().parts[vendor] {
			strength = vendorFromPart
		}
		item := macs[mac]
		item.Source = evidence.SourceARP // a prefix is one witness, by whichever protocol the address was told
		votes = append(votes, vote{Vendor, vendor, ruleMACPrefix, because, strength, &item, 0})
	}
	return votes
}

// registeredNames keeps what names of organisations come to. Those of the registers and of a site's list are so many and no more.
var registeredNames sync.Map

// registered is VendorName for the names in registers, which come back with each device of a maker.
func registered(organisation string) string {
	if name, known := registeredNames.Load(organisation); known {
		return name.(string)
	}
	name := VendorName(organisation)
	registeredNames.Store(organisation, name)
	return name
}

// The names under which what is no rule of a file speaks.
const (
	ruleFamily          = "family-of-products"
	ruleVersion         = "version-of-product"
	ruleMACPrefix       = "mac-prefix"
	ruleNamesMaker      = "names-its-maker"
	ruleBeginsWithMaker = "begins-with-maker"
)
