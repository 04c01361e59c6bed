// Package identify weighs evidence: from the facts about one device it makes claims about what the device is, each
// with its strength and the reasons for it. It is a pure function of the facts and the rules.
package identify

import (
	"bytes"
	"cmp"
	"maps"
	"slices"
	"strings"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
	"airdrift/core/registry"
)

// Attribute is what a claim is about.
type Attribute string

// The attributes, in the order in which they are shown.
const (
	Kind     Attribute = "kind"
	Vendor   Attribute = "vendor"
	Model    Attribute = "model"
	OS       Attribute = "os"
	Firmware Attribute = "firmware"
	Serial   Attribute = "serial"
	Name     Attribute = "name"
)

// Attributes holds all attributes in the order in which they are shown.
var Attributes = []Attribute{Kind, Vendor, Model, OS, Firmware, Serial, Name}

// Unknown is the kind of a device of which the evidence does not tell it.
const Unknown = "unknown"

// Kinds are the kinds of device there are.
var Kinds = []string{
	"router", "switch", "firewall", "access-point", "modem", "server", "hypervisor", "storage", "workstation",
	"laptop", "tablet", "mobile", "printer", "label-printer", "scanner", "camera", "video-recorder", "phone",
	"voice-gateway", "pbx", "intercom", "paging-speaker", "display", "media-player", "stage-node", "till",
	"access-controller", "plant-controller", "plc", "hmi", "drive", "meter", "thermostat", "sensor",
	"lighting-controller", "gateway", "serial-server", "ups", "pdu", "time-server", "irrigation-controller",
	"lab-instrument", "smart-plug", "virtual-machine", Unknown,
}

const (
	// needed is the strength a claim needs before it is made: odds of 4 to 1.
	needed = 6
	// margin is how far a claim must lead the runner-up: odds of 2 to 1 between the two.
	margin = 3
	// vendorFromMAC is what a MAC prefix adds for its holder. Network cards of other makers are common inside devices,
	// so a device that names its maker itself overrules it.
	vendorFromMAC = 10
)

// Reason is one thing that speaks for a value.
type Reason struct {
	Rule     string        `json:"rule"`     // the name of the rule
	Because  string        `json:"because"`  // what the rule rests on
	Strength int           `json:"strength"` // in decibans
	Item     evidence.Item `json:"item"`     // the fact that made it hold
}

// Candidate is one value with all that speaks for it.
type Candidate struct {
	Value    string   `json:"value"`
	Strength int      `json:"strength"` // in decibans: 10 are odds of 10 to 1, 20 of 100 to 1
	Reasons  []Reason `json:"reasons"`  // the strongest first; of each source only the strongest counts
}

// Claim is what is believed of one attribute.
type Claim struct {
	Attribute Attribute   `json:"attribute"`
	Value     string      `json:"value"` // empty (for the kind: "unknown") where no candidate is strong enough
	Strength  int         `json:"strength"`
	Others    []Candidate `json:"candidates"` // all candidates, the strongest first, the one believed among them
}

// Identity is all claims about one device, in the order of Attributes. An attribute that nothing speaks of is left
// out, but for the kind.
type Identity []Claim

// Of gives the value believed of an attribute, or "".
func (id Identity) Of(a Attribute) string {
	for _, c := range id {
		if c.Attribute == a {
			return c.Value
		}
	}
	return ""
}

// Engine identifies devices by one set of rules. It may be used from several goroutines.
type Engine struct {
	rules   *Rules
	overlay *registry.Table // the site's own MAC prefixes; may be nil
}

// New makes an engine. overlay holds a site's own MAC prefixes and may be nil.
func New(rules *Rules, overlay *registry.Table) *Engine { return &Engine{rules, overlay} }

// vote is one rule's word for one value.
type vote struct {
	attribute Attribute
	value     string
	Reason
}

// Identify weighs the facts about one device.
func (e *Engine) Identify(items []evidence.Item) Identity {
	macs := macFacts(items)
	derived := e.derive(macs)
	votes := append(e.vendorVotes(macs), e.rules.votes(append(slices.Clip(items), derived...))...)
	identity := make(Identity, 0, len(Attributes))
	for _, attribute := range Attributes {
		claim := weigh(attribute, votes)
		if len(claim.Others) > 0 || attribute == Kind {
			identity = append(identity, claim)
		}
	}
	return identity
}

// KeyMACPrivate is a fact derived from a MAC address, for rules to rest on: its value is "yes".
const KeyMACPrivate = "arp.private"

// macFacts gives each MAC address that answered once, with the fact that tells it: by whichever protocol it answered, its
// prefix is one witness.
func macFacts(items []evidence.Item) map[hwaddr.MAC]evidence.Item {
	facts := map[hwaddr.MAC]evidence.Item{}
	for _, item := range items {
		if item.Key != evidence.KeyMAC && item.Key != evidence.KeyNDMAC {
			continue
		}
		mac, err := hwaddr.Parse(item.Value)
		if _, known := facts[mac]; err == nil && (!known || item.Key == evidence.KeyMAC) {
			facts[mac] = item
		}
	}
	return facts
}

// derive makes facts out of others.
func (e *Engine) derive(macs map[hwaddr.MAC]evidence.Item) []evidence.Item {
	for mac, item := range macs {
		if mac.IsPrivate() {
			item.Key, item.Value = KeyMACPrivate, "yes"
			return []evidence.Item{item}
		}
	}
	return nil
}

// vendorVotes looks the makers of MAC addresses up. Several addresses of one maker are one word for it.
func (e *Engine) vendorVotes(macs map[hwaddr.MAC]evidence.Item) []vote {
	var votes []vote
	for _, mac := range slices.SortedFunc(maps.Keys(macs), func(a, b hwaddr.MAC) int { return bytes.Compare(a[:], b[:]) }) {
		if mac.IsShared() {
			continue
		}
		found := registry.Find(mac, e.overlay)
		vendor := VendorName(found.Organisation)
		if vendor == "" || slices.ContainsFunc(votes, func(v vote) bool { return v.value == vendor }) {
			continue
		}
		because := "The IEEE register gives the prefix " + found.Prefix.String() + " to " + found.Organisation + "."
		if found.FromSite {
			because = "The site's own list gives the prefix " + found.Prefix.String() + " to " + found.Organisation + "."
		}
		votes = append(votes, vote{Vendor, vendor, Reason{Rule: "mac-prefix", Because: because, Strength: vendorFromMAC, Item: macs[mac]}})
	}
	return votes
}

// weigh sums what speaks for each value of an attribute and believes the one that leads clearly.
func weigh(attribute Attribute, votes []vote) Claim {
	claim := Claim{Attribute: attribute}
	if attribute == Kind {
		claim.Value = Unknown
	}
	for _, v := range votes {
		if v.attribute == attribute {
			claim.Others = addReason(claim.Others, v)
		}
	}
	for i := range claim.Others {
		claim.Others[i].sum()
	}
	slices.SortStableFunc(claim.Others, func(a, b Candidate) int {
		return cmp.Or(cmp.Compare(b.Strength, a.Strength), strings.Compare(a.Value, b.Value))
	})
	if len(claim.Others) == 0 || claim.Others[0].Strength < needed {
		return claim
	}
	if len(claim.Others) > 1 && claim.Others[0].Strength-claim.Others[1].Strength < margin {
		return claim
	}
	claim.Value, claim.Strength = claim.Others[0].Value, claim.Others[0].Strength
	return claim
}

func addReason(candidates []Candidate, v vote) []Candidate {
	for i := range candidates {
		if strings.EqualFold(candidates[i].Value, v.value) {
			candidates[i].Reasons = append(candidates[i].Reasons, v.Reason)
			return candidates
		}
	}
	return append(candidates, Candidate{Value: v.value, Reasons: []Reason{v.Reason}})
}

// sum adds the strongest reason of each source, so that one banner seen twice is not two witnesses.
func (c *Candidate) sum() {
	slices.SortStableFunc(c.Reasons, func(a, b Reason) int { return cmp.Compare(b.Strength, a.Strength) })
	heard := map[evidence.Source]bool{}
	for _, r := range c.Reasons {
		if !heard[r.Item.Source] {
			heard[r.Item.Source] = true
			c.Strength += r.Strength
		}
	}
}
