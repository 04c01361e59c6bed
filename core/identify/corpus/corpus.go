// Package corpus holds evidence with the right answer, to measure how well devices are identified. One half may be used to
// write rules by; the figures that are quoted are of the other half.
package corpus

import (
	"embed"
	"fmt"
	"hash/fnv"
	"io/fs"
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
	From  string            `yaml:"from"`  // the standard, or the program that was run, that the facts are taken from
	Is    map[string]string `yaml:"is"`    // the right value of each attribute that is asked for; "" or unknown where nothing tells it
	Facts []string          `yaml:"facts"` // each a key, a space and a value
	Half  string            `yaml:"half"`  // "held" or "rules" where it is one of these whatever its name
}

// Held reports whether a case is of the half that rules are not written by. It hangs on the name alone where the case does not
// say.
func (c Case) Held() bool {
	if c.Half != "" {
		return c.Half == "held"
	}
	hash := fnv.New32a()
	_, _ = hash.Write([]byte(c.Name)) // never fails
	return hash.Sum32()>>7&1 == 1
}

// Items gives the facts as evidence.
func (c Case) Items() []evidence.Item {
	items := make([]evidence.Item, len(c.Facts))
	for i, fact := range c.Facts {
		key, value, _ := strings.Cut(fact, " ")
		source, _, _ := strings.Cut(key, ".")
		items[i] = evidence.Item{Source: sources[source], Key: key, Value: value}
		if key == evidence.KeyTCPOpen {
			var port uint16
			_, _ = fmt.Sscan(value, &port) // what is no number has no port
			items[i].Port = evidence.TCP(port)
		}
	}
	return items
}

// sources gives the source of a key by its first part, where they differ.
var sources = map[string]evidence.Source{}

func init() {
	for _, s := range []evidence.Source{
		evidence.SourceARP, evidence.SourceND, evidence.SourceEcho, evidence.SourceTCP, evidence.SourceStack, evidence.SourceHTTP, evidence.SourceTLS,
		evidence.SourceSSH, evidence.SourceFTP, evidence.SourceMail, evidence.SourceRTSP, evidence.SourceDNS, evidence.SourceText, evidence.SourceSNMP,
		evidence.SourceMDNS, evidence.SourceLLMNR, evidence.SourceNetBIOS, evidence.SourceUPnP, evidence.SourceWSD, evidence.SourceSIP, evidence.SourceLLDP,
		evidence.SourceSMB, evidence.SourceRDP, evidence.SourceVNC, evidence.SourceMQTT, evidence.SourceIPP, evidence.SourcePJL, evidence.SourceNTP,
		evidence.SourceLDAP, evidence.SourceLease, evidence.SourceONVIF, evidence.SourceCDP, evidence.SourceRPC, evidence.SourceModbus, evidence.SourceBACnet,
		evidence.SourceKNX, evidence.SourceCIP, evidence.SourceUPS, evidence.SourceCoAP, evidence.SourceOPCUA, evidence.SourceArtNet, evidence.SourcePJLink,
		evidence.SourceRedfish, evidence.SourceIPMI, evidence.SourceS7, evidence.SourcePTP, evidence.SourceSACN, evidence.SourceSAP, evidence.SourcePROFINET,
	} {
		sources[string(s)] = s
	}
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
	return all, nil
}

func read(name string, data []byte) ([]Case, error) {
	var file struct {
		Cases []Case `yaml:"cases"`
	}
	doc, err := yamlfile.Read(name, data, &file)
	if err != nil {
		return nil, err
	}
	for i, c := range file.Cases {
		path := fmt.Sprintf("$.cases[%d]", i)
		if c.Name == "" || c.From == "" || len(c.Is) == 0 || len(c.Facts) == 0 {
			doc.Refuse(path, "a case needs a name, where it is from, what it is, and facts")
		}
		for attribute := range c.Is {
			if !slices.Contains(identify.Attributes, identify.Attribute(attribute)) {
				doc.Refuse(path+".is", "%q is not an attribute", attribute)
			}
		}
	}
	return file.Cases, doc.Faults.Err()
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
	Calibration []Bucket
	Wrong       []string // each wrong claim, in words
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
		Calibration: []Bucket{{From: 6, To: 10}, {From: 10, To: 15}, {From: 15, To: 20}, {From: 20, To: 1000}},
	}
	for _, c := range cases {
		if !pick(c) {
			continue
		}
		result.Cases++
		identity := engine.Identify(c.Items())
		for _, attribute := range identify.Attributes {
			if want, asked := c.Is[string(attribute)]; asked {
				result.count(c.Name, attribute, identity, want)
			}
		}
	}
	return result
}

func (r *Result) count(name string, attribute identify.Attribute, identity identify.Identity, want string) {
	score := r.Scores[attribute]
	if score == nil {
		score = &Score{}
		r.Scores[attribute] = score
	}
	got := identity.Of(attribute)
	if got == identify.Unknown {
		got = ""
	}
	if want == identify.Unknown {
		want = ""
	}
	switch {
	case got == "" && want == "":
		score.Silent++
		return
	case got == "":
		score.Unknown++
		return
	case strings.EqualFold(got, want):
		score.Right++
	default:
		score.Wrong++
		r.Wrong = append(r.Wrong, fmt.Sprintf("%s: %s is told to be %q, and is %q", name, attribute, got, want))
	}
	strength := identity.Strength(attribute)
	for i := range r.Calibration {
		if b := &r.Calibration[i]; strength >= b.From && strength < b.To {
			b.Claims++
			b.Promised += probability(strength)
			if strings.EqualFold(got, want) {
				b.Right++
			}
		}
	}
}

// probability is what decibans of odds come to.
func probability(decibans int) float64 {
	odds := math.Pow(10, float64(decibans)/10)
	return odds / (1 + odds)
}
