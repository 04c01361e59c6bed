package finding

import (
	"cmp"
	"net/netip"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"airdrift/core/evidence"
	"airdrift/core/identify"
	"airdrift/core/ledger"
	"airdrift/core/netrange"
	"airdrift/core/plain"
)

// Network is what a site says of one of its networks.
type Network struct {
	Name    string
	Subnet  netip.Prefix
	Use     string       // what it is for, one of Uses; "" where nobody has said
	Gateway netip.Addr   // invalid where nobody has said
	Dynamic netrange.Set // the addresses that its DHCP server gives out
}

// What a network can be for.
const (
	Offices  = "offices"
	Visitors = "visitors"
	Plant    = "plant"
	Voice    = "voice"
	Cameras  = "cameras"
	Servers  = "servers"
)

// Uses are all things that a network can be for.
var Uses = []string{Offices, Visitors, Plant, Voice, Cameras, Servers}

// Site is what rules know of a site beside its devices.
type Site struct {
	Networks []Network
	Leases   bool // lists of its DHCP servers have been imported
	Wanted   func(vendor, model string) string
	Ends     []End // of support, of models and systems
	Factory  []FactoryAddress
	Settings []Setting
	Own      []OwnRule
	Now      time.Time
}

// Case is one device with all that rules look at.
type Case struct {
	Device ledger.Device
	Items  []evidence.Item

	Opened   []string // ports that it offers since its last visit and did not before
	Standing []string // ports that were remarked as new before and not closed since
	Times    []evidence.Times
	Moves    []ledger.Tenure // of its addresses, by whom they were held, those that have ended too
}

// Mark is what a device shares with others under one rule.
type Mark struct {
	Rule   string
	Group  string
	Device uint64
	Value  string // what it has to say to the others
}

// Member is a device that shares a mark.
type Member struct {
	Device uint64
	Value  string
}

// Of one device under one rule so many remarks and marks are kept: one that says more is not to fill the store.
const (
	maxMarks   = 64
	maxRemarks = 32
)

// maxNamed is how many devices one remark names.
const maxNamed = 1000

// Ruling is what comes of one case.
type Ruling struct {
	Remarks []Remark
	Marks   []Mark
	Due     time.Time // when it changes by time alone; zero where it does not
}

// Judge judges the devices of one site.
type Judge struct {
	site  Site
	rules []active
	by    map[string]*active
	bits  map[string]uint64 // by fact: one for each fact that rules look for, and for each group of them
	ends  ends
}

// NewJudge makes a judge. Settings are taken to be checked.
func NewJudge(site Site) *Judge {
	j := &Judge{site: site, by: map[string]*active{}, bits: map[string]uint64{}, ends: endsOf(site.Ends)}
	groups := map[string]uint64{}
	j.rules = activate(RulesWith(site.Own), site.Settings, func(facts ...string) uint64 {
		name := strings.Join(facts, " ")
		if _, known := groups[name]; !known {
			groups[name] = 1 << min(len(groups), 63)
		}
		for _, fact := range facts {
			j.bits[fact] |= groups[name]
		}
		return groups[name]
	})
	for i := range j.rules {
		j.by[j.rules[i].ID] = &j.rules[i]
	}
	return j
}

// Of judges one device: what is remarkable of it alone, and what it shares with others.
func (j *Judge) Of(c Case) Ruling {
	o := caseOf{ruling: ruling{judge: j}}
	o.judgeAll(&c)
	return o.out
}

// judgeAll judges one device by all rules. What comes of it goes behind what is there.
func (o *caseOf) judgeAll(c *Case) {
	j := o.judge
	o.Case, o.has, o.network = c, 0, -1
	for i := range c.Items {
		o.has |= j.bits[c.Items[i].Key]
	}
	d := &c.Device
	for i := range j.rules {
		rule := &j.rules[i]
		switch {
		case rule.has != 0 && o.has&rule.has == 0:
		case d.FirstSeen.IsZero() && !rule.unseen:
		default:
			o.rule, o.marked, o.remarked = rule, 0, 0
			if rule.alone != nil && (rule.aside || d.Standing != ledger.SetAside) {
				rule.alone(o)
			}
			if rule.marks != nil {
				rule.marks(o)
			}
		}
	}
}

// Together judges the devices that share a mark under a rule, in ascending order of their numbers. Those under rules that are off say nothing.
func (j *Judge) Together(rule, group string, members []Member) []Remark {
	active := j.by[rule]
	if active == nil || active.together == nil || len(members) < max(active.least, 1) || active.least == 0 && len(members) < 2 {
		return nil
	}
	r := ruling{judge: j, network: -1, rule: active}
	active.together(&r, group, members)
	for i := range r.out.Remarks {
		r.out.Remarks[i].Group = group
	}
	return r.out.Remarks
}

// All judges devices that are all in memory. The remarks are in no order.
func (j *Judge) All(cases []Case) []Remark {
	o := caseOf{ruling: ruling{judge: j}}
	// Of each device so much is said: lists that grow as they are filled would be copied again and again.
	o.out.Remarks, o.out.Marks = make([]Remark, 0, 5*len(cases)), make([]Mark, 0, 5*len(cases))
	for i := range cases {
		o.judgeAll(&cases[i])
	}
	all, by, count := o.out.Remarks, map[string][]Mark{}, map[string]int{}
	for i := range o.out.Marks {
		count[o.out.Marks[i].Rule]++
	}
	for rule, n := range count {
		by[rule] = make([]Mark, 0, n)
	}
	for _, m := range o.out.Marks {
		by[m.Rule] = append(by[m.Rule], m)
	}
	var members []Member
	for rule, marks := range by {
		slices.SortFunc(marks, func(a, b Mark) int { return cmp.Or(strings.Compare(a.Group, b.Group), cmp.Compare(a.Device, b.Device)) })
		for from := 0; from < len(marks); {
			members = members[:0]
			to := from
			for ; to < len(marks) && marks[to].Group == marks[from].Group; to++ {
				members = append(members, Member{marks[to].Device, marks[to].Value})
			}
			all = append(all, j.Together(rule, marks[from].Group, members)...)
			from = to
		}
	}
	return all
}

// ruling collects what one rule says.
type ruling struct {
	judge   *Judge
	rule    *active
	out     Ruling
	network int // where the device stands among the site's networks; -1 while that is not looked up
}

// number gives a figure of the rule.
func (r *ruling) number(name string) float64 { return r.rule.numbers[name] }

// words gives a list of the rule.
func (r *ruling) words(name string) []string { return r.rule.words[name] }

// now gives the time of the judgement.
func (r *ruling) now() time.Time { return r.judge.site.Now }

// due notes that the judgement changes at a time by itself.
func (r *ruling) due(at time.Time) {
	if at.After(r.now()) && (r.out.Due.IsZero() || at.Before(r.out.Due)) {
		r.out.Due = at
	}
}

// of remarks something on devices. values are names and values, one after the other.
func (r *ruling) of(devices []uint64, alone bool, about string, evidence []string, values ...string) *Remark {
	remark := Remark{
		Rule: r.rule.ID, Severity: r.rule.severity, About: cut(about, maxAbout), Devices: devices, Alone: alone, Evidence: evidence[:min(len(evidence), maxEvidence)],
	}
	if len(values) > 0 {
		remark.Values = map[string]string{}
		for i := 0; i+1 < len(values); i += 2 {
			remark.Values[values[i]] = cut(plain.Text(values[i+1], false), maxAbout)
		}
	}
	r.out.Remarks = append(r.out.Remarks, remark)
	return &r.out.Remarks[len(r.out.Remarks)-1]
}

// shared remarks something that members have together.
func (r *ruling) shared(group string, members []Member, values ...string) *Remark {
	devices := make([]uint64, 0, len(members))
	for i, m := range members { // which stand in the order of their devices
		if (i == 0 || m.Device != members[i-1].Device) && len(devices) < maxNamed {
			devices = append(devices, m.Device)
		}
	}
	return r.of(devices, false, group, nil, values...)
}

// caseOf is one case under one rule.
type caseOf struct {
	*Case
	ruling
	has      uint64
	marked   int // marks and remarks under the rule so far
	remarked int
}

// remark remarks something on the device.
func (c *caseOf) remark(about string, evidence []string, values ...string) *Remark {
	if c.remarked++; c.remarked > maxRemarks {
		return &Remark{}
	}
	return c.of([]uint64{c.Device.ID}, true, about, evidence, values...)
}

// mark says what the device shares.
func (c *caseOf) mark(group, value string) {
	if group == "" || c.marked >= maxMarks {
		return
	}
	c.marked++
	c.out.Marks = append(c.out.Marks, Mark{Rule: c.rule.ID, Group: cut(group, maxAbout), Device: c.Device.ID, Value: cut(value, maxAbout)})
}

// values gives the values of a fact.
func (c *caseOf) values(key string) []string { return evidence.Values(c.Items, key) }

// believed gives what is believed of an attribute.
func (c *caseOf) believed(a identify.Attribute) string { return c.Device.Identity.Of(a) }

// each gives the items of a key.
func (c *caseOf) each(key string) func(yield func(evidence.Item) bool) {
	return func(yield func(evidence.Item) bool) {
		for i := range c.Items {
			if c.Items[i].Key == key && !yield(c.Items[i]) {
				return
			}
		}
	}
}

// at gives the network in which the device stands; nil where that is none of the site's.
func (c *caseOf) at() *Network {
	if c.network == -1 {
		c.network = -2
		for _, a := range c.Device.Addrs {
			if i := c.judge.networkOf(a); i >= 0 {
				c.network = i
				break
			}
		}
	}
	if c.network < 0 {
		return nil
	}
	return &c.judge.site.Networks[c.network]
}

// networkOf gives the narrowest network that an address is in, by its index; -1 for none.
func (j *Judge) networkOf(a netip.Addr) int {
	best := -1
	for i, n := range j.site.Networks {
		if n.Subnet.Contains(a.WithZone("")) && (best < 0 || n.Subnet.Bits() > j.site.Networks[best].Subnet.Bits()) {
			best = i
		}
	}
	return best
}

// fact writes an item as evidence of a remark.
func fact(it evidence.Item) string {
	text := it.Key + " " + it.Value
	if !it.Port.IsZero() {
		text = it.Key + " at " + it.Port.String() + ": " + it.Value
	}
	return cut(plain.Text(text, false), maxAbout)
}

func cut(text string, most int) string {
	if len(text) <= most {
		return text
	}
	at := most
	for at > 0 && !utf8.RuneStart(text[at]) {
		at--
	}
	return text[:at]
}
