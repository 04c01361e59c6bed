// Package corpus holds evidence with the right answer, to measure how well devices are identified. One half may be used to
// write rules by; the figures that are quoted are of the other half.
package corpus

import (
	"cmp"
	"embed"
	"fmt"
	"hash/fnv"
	"io/fs"
	"maps"
	"math"
	"slices"
	"strings"

	"airdrift/core/evidence"
	"airdrift/core/identify"
	"airdrift/core/yamlfile"
)

// Case is what is known of one device, and what it is.
type Case struct {
	Name  string            `yaml:"name"`
	From  string            `yaml:"from"`  // the standard, or the program that was run, that the facts are taken from; its file's where it does not say
	Maker string            `yaml:"maker"` // who made it, where that is not asked for: no maker stands in both halves
	Is    map[string]string `yaml:"is"`    // the right value of each attribute that is asked for, or several separated by |; "" or unknown where nothing tells it
	Facts []string          `yaml:"facts"` // each a key, a space and a value
	Half  string            `yaml:"half"`  // "rules" where rules were written by it, so that its maker is not held back

	held   bool
	family string
}

// Held reports whether a case is of the half that rules are not written by.
func (c Case) Held() bool { return c.held }

// Family is the family of kinds that a case belongs to, by its kind or else by its file.
func (c Case) Family() string {
	for family, kinds := range families {
		if slices.Contains(kinds, c.Is[string(identify.Kind)]) {
			return family
		}
	}
	return c.family
}

// families are the kinds that belong together in a report.
var families = map[string][]string{
	"network":    {"router", "switch", "firewall", "access-point", "modem"},
	"power":      {"ups", "pdu", "meter"},
	"computing":  {"server", "storage", "workstation", "laptop"},
	"virtual":    {"hypervisor", "virtual-machine"},
	"printing":   {"printer", "label-printer", "scanner"},
	"voice":      {"phone", "voice-gateway", "pbx", "intercom", "paging-speaker"},
	"media":      {"display", "media-player", "stage-node"},
	"cameras":    {"camera", "video-recorder"},
	"industry":   {"plc", "hmi", "drive", "gateway", "serial-server"},
	"building":   {"plant-controller", "thermostat", "sensor", "lighting-controller", "irrigation-controller", "smart-plug"},
	"hand-held":  {"mobile", "tablet"},
	"doors":      {"till", "access-controller"},
	"laboratory": {"lab-instrument", "time-server"},
	"unknown":    {identify.Unknown},
}

// Families are the names of the families, in their order.
func Families() []string { return slices.Sorted(maps.Keys(families)) }

// maker is who made what a case is of. What no maker is known of stands by itself.
func (c Case) maker() string {
	return cmp.Or(c.Maker, c.Is[string(identify.Vendor)], c.Name)
}

// halve draws the half that is held back by maker, so that what is learned of a maker from one half is no help in the other.
func halve(cases []Case) {
	seen := map[string]bool{}
	for _, c := range cases {
		if c.Half == "rules" {
			seen[c.maker()] = true
		}
	}
	for i := range cases {
		hash := fnv.New32a()
		_, _ = hash.Write([]byte(cases[i].maker())) // never fails
		cases[i].held = !seen[cases[i].maker()] && hash.Sum32()>>7&1 == 1
	}
}

// Items gives the facts as evidence.
func (c Case) Items() []evidence.Item {
	items := make([]evidence.Item, len(c.Facts))
	for i, fact := range c.Facts {
		key, value, _ := strings.Cut(fact, " ")
		documented, _ := evidence.FactOf(key)
		items[i] = evidence.Item{Source: documented.Source, Key: key, Value: value}
		if key == evidence.KeyTCPOpen {
			var port uint16
			_, _ = fmt.Sscan(value, &port) // what is no number has no port
			items[i].Port = evidence.TCP(port)
		}
	}
	return items
}

//go:embed *.yaml
var files embed.FS

// Load reads all cases.
func Load() ([]Case, error) {
	names, err := fs.Glob(files, "*.yaml")
	if err != nil {
		return nil, err
	}
	var all []Case
	for _, name := range names {
		data, err := files.ReadFile(name)
		if err != nil {
			return nil, err
		}
		cases, err := read(name, data)
		if err != nil {
			return nil, err
		}
		all = append(all, cases...)
	}
	halve(all)
	return all, nil
}

func read(name string, data []byte) ([]Case, error) {
	var file struct {
		From  string `yaml:"from"` // of those that do not say themselves
		Cases []Case `yaml:"cases"`
	}
	doc, err := yamlfile.Read(name, data, &file)
	if err != nil {
		return nil, err
	}
	for i := range file.Cases {
		c := &file.Cases[i]
		c.From, c.family = cmp.Or(c.From, file.From), strings.TrimSuffix(name, ".yaml")
		path := fmt.Sprintf("$.cases[%d]", i)
		if c.Name == "" || c.From == "" || len(c.Is) == 0 || len(c.Facts) == 0 {
			doc.Refuse(path, "a case needs a name, where it is from, what it is, and facts")
		}
		for _, fact := range c.Facts {
			if key, _, _ := strings.Cut(fact, " "); !isDocumented(key) {
				doc.Refuse(path+".facts", "%q is no key of a fact", key)
			}
		}
		for attribute := range c.Is {
			if !slices.Contains(identify.Attributes, identify.Attribute(attribute)) {
				doc.Refuse(path+".is", "%q is not an attribute", attribute)
			}
		}
	}
	return file.Cases, doc.Faults.Err()
}

func isDocumented(key string) bool {
	_, ok := evidence.FactOf(key)
	return ok
}

// Score is how well one attribute is told over some cases.
type Score struct {
	Right   int // the right value
	Wrong   int // another one, or one where nothing tells it
	Unknown int // none, where there is one
	Silent  int // none, and there is none
}

// Precision is the share of what is told that is right; 1 where nothing is told.
func (s Score) Precision() float64 { return share(s.Right, s.Right+s.Wrong) }

// Recall is the share of what there is to tell that is told right.
func (s Score) Recall() float64 { return share(s.Right, s.Right+s.Wrong+s.Unknown) }

// UnknownShare is the share of cases in which nothing is told.
func (s Score) UnknownShare() float64 {
	return share(s.Unknown+s.Silent, s.Right+s.Wrong+s.Unknown+s.Silent)
}

func share(part, whole int) float64 {
	if whole == 0 {
		return 1
	}
	return float64(part) / float64(whole)
}

// Bucket holds claims of like strength against how often they were right.
type Bucket struct {
	From, To int // decibans; To is beyond
	Claims   int
	Right    int
	Promised float64 // the sum of the probabilities that the strengths promise
}

// Result is how well a half of the cases was told.
type Result struct {
	Cases       int
	Scores      map[identify.Attribute]*Score
	Families    map[string]*Score // of the kind, by family
	Calibration []Bucket
	Wrong       []string // each wrong claim, in words
	Unknown     []string // each claim that could have been made, in words
}

// All gives the scores of all attributes together.
func (r Result) All() Score {
	var all Score
	for _, s := range r.Scores {
		all.Right += s.Right
		all.Wrong += s.Wrong
		all.Unknown += s.Unknown
		all.Silent += s.Silent
	}
	return all
}

// Measure identifies each case that pick chooses and holds it against what it is.
func Measure(engine *identify.Engine, cases []Case, pick func(Case) bool) Result {
	result := Result{
		Scores:      map[identify.Attribute]*Score{},
		Families:    map[string]*Score{},
		Calibration: []Bucket{{From: 6, To: 10}, {From: 10, To: 15}, {From: 15, To: 20}, {From: 20, To: 1000}},
	}
	for _, c := range cases {
		if !pick(c) {
			continue
		}
		result.Cases++
		identity := engine.Identify(c.Items())
		for _, attribute := range identify.Attributes {
			want, asked := c.Is[string(attribute)]
			if !asked {
				continue
			}
			result.count(c.Name, attribute, identity, want)
			if attribute == identify.Kind {
				if result.Families[c.Family()] == nil {
					result.Families[c.Family()] = &Score{}
				}
				result.Families[c.Family()].add(identity.Of(attribute), want)
			}
		}
	}
	return result
}

// add counts one answer, and reports whether it was a right claim, a wrong one, or none.
func (s *Score) add(got, want string) (claimed, right bool) {
	if got == identify.Unknown {
		got = ""
	}
	if want == identify.Unknown {
		want = ""
	}
	switch {
	case got == "" && want == "":
		s.Silent++
	case got == "":
		s.Unknown++
	case IsRight(got, want):
		s.Right++
		return true, true
	default:
		s.Wrong++
		return true, false
	}
	return false, false
}

func (r *Result) count(name string, attribute identify.Attribute, identity identify.Identity, want string) {
	if r.Scores[attribute] == nil {
		r.Scores[attribute] = &Score{}
	}
	got := identity.Of(attribute)
	claimed, right := r.Scores[attribute].add(got, want)
	if !claimed {
		if want != "" && want != identify.Unknown {
			r.Unknown = append(r.Unknown, fmt.Sprintf("%s: %s is not told, and is %q", name, attribute, want))
		}
		return
	}
	if !right {
		r.Wrong = append(r.Wrong, fmt.Sprintf("%s: %s is told to be %q, and is %q", name, attribute, got, want))
	}
	strength := identity.Strength(attribute)
	for i := range r.Calibration {
		if b := &r.Calibration[i]; strength >= b.From && strength < b.To {
			b.Claims++
			b.Promised += probability(strength)
			if right {
				b.Right++
			}
		}
	}
}

// IsRight reports whether a value is one of those that are right, capitals aside.
func IsRight(got, want string) bool {
	return slices.ContainsFunc(strings.Split(want, "|"), func(one string) bool { return strings.EqualFold(got, one) })
}

// probability is what decibans of odds come to.
func probability(decibans int) float64 {
	odds := math.Pow(10, float64(decibans)/10)
	return odds / (1 + odds)
}
