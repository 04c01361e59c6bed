// Package identify weighs evidence: from the facts about one device it makes claims about what the device is, each
// with its strength and the reasons for it. It is a pure function of the facts and the rules.
package identify

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"sync"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
	"airdrift/core/registry"
)

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
	// BuiltOn is the system that is believed, where this is one of those that are built on it, or the kind, where this is a special case of it.
	BuiltOn string `json:"builtOn,omitempty"`
	// Besides says that a device of the kind that is believed does this besides: it is no word against it.
	Besides bool `json:"besides,omitempty"`
}

// Claim is what is believed of one attribute.
type Claim struct {
	Attribute Attribute   `json:"attribute"`
	Value     string      `json:"value"` // empty (for the kind: "unknown") where no candidate is strong enough
	Strength  int         `json:"strength"`
	Others    []Candidate `json:"candidates"` // all candidates, the strongest first, the one believed among them
	// Perhaps is a special case of the kind believed for which something speaks, but not enough; "" where there is none.
	Perhaps string `json:"perhaps,omitempty"`
	// Conflict says in words what strong evidence contradicts the claim, or keeps it from being made; "" where none does.
	Conflict string `json:"conflict,omitempty"`
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

// Strength gives how strongly the value believed of an attribute is supported, in decibans; 0 where none is.
func (id Identity) Strength(a Attribute) int {
	for _, c := range id {
		if c.Attribute == a {
			return c.Strength
		}
	}
	return 0
}

// Belief is what is believed of one attribute, without what speaks for it.
type Belief struct {
	Attribute Attribute
	Value     string
	Strength  int // in decibans
}

// Beliefs is what is believed of one device.
type Beliefs []Belief

// Brief gives what is believed, without what speaks for it.
func (id Identity) Brief() Beliefs {
	brief := make(Beliefs, len(id))
	for i, c := range id {
		brief[i] = Belief{c.Attribute, c.Value, c.Strength}
	}
	return brief
}

// Of gives the value believed of an attribute, or "".
func (b Beliefs) Of(a Attribute) string {
	for _, belief := range b {
		if belief.Attribute == a {
			return belief.Value
		}
	}
	return ""
}

// Strength gives how strongly the value believed of an attribute is supported, in decibans; 0 where none is.
func (b Beliefs) Strength(a Attribute) int {
	for _, belief := range b {
		if belief.Attribute == a {
			return belief.Strength
		}
	}
	return 0
}

// Engine identifies devices by one set of rules. It may be used from several goroutines.
type Engine struct {
	rules   *Rules
	overlay *registry.Table // the site's own MAC prefixes; may be nil
	site    *brands         // of the makers in the overlay
	makers  map[string]bool // the same by their folded names
	edition func() string
}

// New makes an engine. overlay holds a site's own MAC prefixes and may be nil; its makers are also known by their names.
func New(rules *Rules, overlay *registry.Table) *Engine {
	e := &Engine{rules, overlay, newBrands(), map[string]bool{}, sync.OnceValue(func() string { return editionOf(rules, overlay) })}
	if overlay != nil {
		for _, name := range overlay.Organisations() {
			e.site.add(name, VendorName(name))
			e.makers[fold(name)] = true
		}
	}
	return e
}

// vote is one rule's word for one value. item points into what is being identified.
type vote struct {
	attribute Attribute
	value     string
	rule      string
	because   string
	strength  int
	item      *evidence.Item
	candidate int // the place of its value among the candidates, once it is weighed
}

// desk is the room that one identification takes; it is used again for the next.
type desk struct {
	facts []fact
	votes []vote
	part  []vote // of one attribute
}

var desks = sync.Pool{New: func() any { return &desk{} }}

// Identify weighs the facts about one device.
func (e *Engine) Identify(items []evidence.Item) Identity {
	d := desks.Get().(*desk)
	defer desks.Put(d)
	macs := macFacts(items)
	d.facts = prepare(d.facts[:0], items)
	d.facts = prepare(d.facts, e.derive(macs))
	d.votes = e.macVotes(d.votes[:0], macs)
	d.votes = enterpriseVotes(d.votes, d.facts)
	d.votes = e.brandVotes(d.votes, d.facts)
	d.votes = e.rules.votes(d.votes, d.facts)
	d.votes = fieldVotes(d.votes, d.facts)
	d.votes = familyVotes(d.votes, d.facts)
	d.votes = typeVotes(d.votes, d.facts)
	votes := d.votes
	e.nameModels(votes)
	identity := make(Identity, 0, len(Attributes))
	weighed := func(attribute Attribute) Claim {
		d.part = votesFor(d.part[:0], attribute, votes)
		return weigh(attribute, d.part)
	}
	for _, attribute := range Attributes {
		claim := weighed(attribute)
		if attribute == Kind && claim.Value == Unknown { // what the device says leaves it open
			vendor := weighed(Vendor)
			d.part = e.shareVotes(votesFor(d.part[:0], Kind, votes), vendor, d.facts)
			claim = weigh(Kind, d.part)
		}
		if len(claim.Others) > 0 || attribute == Kind {
			identity = append(identity, claim)
		}
	}
	return identity
}

// nameModels takes the names of makers off the front of models': of the public ones, of the site's own, and of those that the
// device itself tells of.
func (e *Engine) nameModels(votes []vote) {
	var told []string
	isMaker := func(name string) bool {
		if told == nil {
			for _, v := range votes {
				if v.attribute == Vendor {
					told = append(told, fold(v.value))
				}
			}
		}
		return e.makers[name] || slices.Contains(told, name)
	}
	for i := range votes {
		if votes[i].attribute == Model {
			votes[i].value = strings.TrimRight(modelName(votes[i].value, isMaker), ",;: ")
		}
	}
}

// votesFor adds those of one attribute to a part.
func votesFor(part []vote, attribute Attribute, votes []vote) []vote {
	for i := range votes {
		if votes[i].attribute == attribute {
			part = append(part, votes[i])
		}
	}
	return part
}

// KeyMACPrivate is a fact derived from a MAC address, for rules to rest on: its value is "yes".
const KeyMACPrivate = "arp.private"

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

// weigh sums what speaks for each value of an attribute and believes the one that leads clearly. Names are no rivals: of those
// that a device goes by, the best supported is shown.
func weigh(attribute Attribute, votes []vote) Claim {
	claim := Claim{Attribute: attribute}
	if attribute == Kind {
		claim.Value = Unknown
	}
	claim.Others = candidates(attribute, votes)
	slices.SortStableFunc(claim.Others, func(a, b Candidate) int {
		return cmp.Or(cmp.Compare(b.Strength, a.Strength), strings.Compare(a.Value, b.Value))
	})
	switch {
	case attribute == OS && len(claim.Others) > 1:
		believeSystem(&claim)
		return claim
	case attribute == Kind && len(claim.Others) > 1:
		believeKind(&claim)
		return claim
	}
	if len(claim.Others) == 0 || claim.Others[0].Strength < needed {
		return claim
	}
	if attribute != Name {
		claim.Conflict = conflict(attribute, claim.Others)
	}
	if attribute != Name && len(claim.Others) > 1 && claim.Others[0].Strength-claim.Others[1].Strength < margin && !settledByKin(&claim) {
		return claim
	}
	claim.Value, claim.Strength = claim.Others[0].Value, claim.Others[0].Strength
	return claim
}

// settledByKin reports whether two makers that are told about as strongly are of one house, and puts first the one that the device names itself.
func settledByKin(claim *Claim) bool {
	first, second := &claim.Others[0], &claim.Others[1]
	if claim.Attribute != Vendor || !areKin(first.Value, second.Value) || len(claim.Others) > 2 && first.Strength-claim.Others[2].Strength < margin {
		return false
	}
	if first.fromMAC() && !second.fromMAC() {
		*first, *second = *second, *first
	}
	claim.Conflict = ""
	return true
}

// same reports whether two votes are for one value. Names are the same where their first labels are, as a host is known by
// more or less of its domain; models where one holds the other, as "X200" and "X200 series"; versions where their numbers are.
func same(attribute Attribute, a, b string) bool {
	switch attribute {
	case Name:
		a, _, _ = strings.Cut(a, ".")
		b, _, _ = strings.Cut(b, ".")
	case Model:
		if len(a) != len(b) {
			a, b = fold(a), fold(b)
			return strings.Contains(a, b) || strings.Contains(b, a)
		}
	case Firmware:
		if len(a) != len(b) {
			return plainVersion(a) == plainVersion(b)
		}
	case Vendor:
		return sameHouse(a, b)
	}
	return strings.EqualFold(a, b)
}

// fullest gives the fullest form of a candidate's value among those that are told about as strongly as the strongest: a page says more words of a
// product than are its name.
func fullest(votes []vote, candidate int) string {
	strongest := 0
	for i := range votes {
		if votes[i].candidate == candidate {
			strongest = max(strongest, votes[i].strength)
		}
	}
	value := ""
	for i := range votes {
		if v := &votes[i]; v.candidate == candidate && strongest-v.strength < margin && len(v.value) > len(value) {
			value = v.value
		}
	}
	return value
}

// plainVersion writes a version without what some put around its numbers: "V01.09" is "1.9".
func plainVersion(version string) string {
	parts := strings.Split(strings.TrimLeft(strings.ToLower(version), "v "), ".")
	for i, part := range parts {
		if trimmed := strings.TrimLeft(part, "0"); trimmed != "" {
			parts[i] = trimmed
		} else if part != "" {
			parts[i] = "0"
		}
	}
	return strings.Join(parts, ".")
}

// candidates gives each value that something speaks for, with its reasons and what they come to.
func candidates(attribute Attribute, votes []vote) []Candidate {
	var all []Candidate
	for i := range votes {
		v := &votes[i]
		v.candidate = candidateOf(all, v)
		if v.candidate == len(all) {
			all = append(all, Candidate{Value: v.value})
		} else if value := &all[v.candidate].Value; attribute == Name && len(v.value) > len(*value) || attribute == Vendor && len(v.value) < len(*value) {
			*value = v.value
		}
	}
	reasons := make([]Reason, 0, len(votes))
	for i := range all {
		first := len(reasons)
		for j := range votes {
			if v := &votes[j]; v.candidate == i {
				reasons = append(reasons, Reason{Rule: v.rule, Because: v.because, Strength: v.strength, Item: *v.item})
			}
		}
		all[i].Reasons = reasons[first:len(reasons):len(reasons)]
		all[i].sum()
		if attribute == Model {
			all[i].Value = fullest(votes, i)
		}
	}
	return all
}

// candidateOf gives the place of a vote's value among those that there are, and the place behind them where it is not.
func candidateOf(all []Candidate, v *vote) int {
	for i := range all {
		if same(v.attribute, all[i].Value, v.value) {
			return i
		}
	}
	return len(all)
}

// sum puts the strongest reason first and adds them up.
func (c *Candidate) sum() {
	if len(c.Reasons) == 1 {
		c.Strength = c.Reasons[0].Strength
		return
	}
	slices.SortStableFunc(c.Reasons, func(a, b Reason) int { return cmp.Compare(b.Strength, a.Strength) })
	c.Strength = sumOf(c.Reasons)
}

// conflict says in words what contradicts the strongest candidate, where that would be believed if it stood alone.
func conflict(attribute Attribute, candidates []Candidate) string {
	if len(candidates) < 2 || candidates[1].Strength < needed {
		return ""
	}
	first, second := candidates[0], candidates[1]
	switch {
	case attribute == Vendor && second.fromMAC():
		return fmt.Sprintf("The MAC address says %s, %s says %s: likely a network card of %s in a device of %s.",
			second.Value, first.witnesses(), first.Value, second.Value, first.Value)
	case attribute == Vendor && first.fromMAC():
		return fmt.Sprintf("The MAC address says %s, %s says %s.", first.Value, second.witnesses(), second.Value)
	}
	return fmt.Sprintf("%s says %s, %s says %s.", first.witnesses(), first.Value, second.witnesses(), second.Value)
}

// fromMAC reports whether nothing but a MAC prefix speaks for a maker.
func (c Candidate) fromMAC() bool {
	return !slices.ContainsFunc(c.Reasons, func(r Reason) bool { return r.Rule != ruleMACPrefix })
}

// witnesses names the sources that speak for a candidate, the strongest first.
func (c Candidate) witnesses() string {
	var names []string
	for _, r := range c.Reasons {
		if name := string(r.Item.Source); !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	return strings.Join(names, " and ")
}
