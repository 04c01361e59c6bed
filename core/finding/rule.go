package finding

import (
	"airdrift/core/evidence"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
)

// Rule is one way in which a device, or several together, can be remarkable. Its words stand in the catalogue (TextOf).
type Rule struct {
	ID       string
	Severity Severity // unless a site gives it another
	Source   string   // the standard it rests on, or the reason
	Params   []Param

	facts    []string                                        // it looks at devices that have one of these facts; nil stands for all
	sources  []evidence.Source                               // likewise, any fact from one of these
	unseen   bool                                            // it looks at entries of the register of which no device was seen, too
	aside    bool                                            // and at devices that are set aside
	alone    func(c *caseOf)                                 // judges one device
	marks    func(c *caseOf)                                 // says what it shares with others
	least    int                                             // from how many marks on those who share it are judged; 0 stands for 2
	together func(r *ruling, group string, members []Member) // judges them
}

// Param is one figure or list that a site can give a rule.
type Param struct {
	Name    string
	Kind    ParamKind
	Default string
	Min     float64 // of a number
	Max     float64
	Text    string // what it is, with its unit
}

// ParamKind is what the values of a parameter are.
type ParamKind string

// The kinds there are.
const (
	Number ParamKind = "number"
	Words  ParamKind = "words" // separated by commas
)

// maxWords is how many words a parameter may have.
const maxWords = 200

// check says what is wrong with a value; "" where nothing is.
func (p Param) check(value string) string {
	switch p.Kind {
	case Number:
		n, err := strconv.ParseFloat(value, 64)
		if err != nil || math.IsNaN(n) || n < p.Min || n > p.Max {
			return fmt.Sprintf("%q: want a number from %g to %g", value, p.Min, p.Max)
		}
	case Words:
		if words := wordsOf(value); len(words) > maxWords {
			return fmt.Sprintf("%d words: at most %d are taken", len(words), maxWords)
		}
	}
	return ""
}

func wordsOf(value string) []string {
	var words []string
	for word := range strings.SplitSeq(value, ",") {
		if word = strings.TrimSpace(word); word != "" {
			words = append(words, word)
		}
	}
	return words
}

// Setting is what a site says of a rule.
type Setting struct {
	Rule     string            `json:"rule"`
	Off      bool              `json:"off,omitempty"`
	Severity Severity          `json:"severity,omitempty"` // 0 stands for the rule's own
	Params   map[string]string `json:"params,omitempty"`   // those left out keep their defaults
}

// Check says what is wrong with a setting, by field, as an error for whoever made it.
func (s Setting) Check(rules []Rule) error {
	at := slices.IndexFunc(rules, func(r Rule) bool { return r.ID == s.Rule })
	if at < 0 {
		return fmt.Errorf("there is no rule %q: the list of rules names all", s.Rule)
	}
	for name, value := range s.Params {
		i := slices.IndexFunc(rules[at].Params, func(p Param) bool { return p.Name == name })
		if i < 0 {
			return fmt.Errorf("the rule %s has no parameter %q%s", s.Rule, name, hasParams(rules[at].Params))
		}
		if why := rules[at].Params[i].check(value); why != "" {
			return fmt.Errorf("the parameter %s of the rule %s is %s", name, s.Rule, why)
		}
	}
	return nil
}

func hasParams(params []Param) string {
	if len(params) == 0 {
		return ": it has none"
	}
	names := make([]string, len(params))
	for i, p := range params {
		names[i] = p.Name
	}
	return ": it has " + strings.Join(names, ", ")
}

// active is a rule as a site has set it.
type active struct {
	*Rule
	severity Severity
	numbers  map[string]float64
	words    map[string][]string
	has      uint64 // a bit for each of its facts
}

// activate gives the rules that a site has on.
func activate(rules []Rule, settings []Setting, bit func(facts ...string) uint64) []active {
	var on []active
	for i := range rules {
		rule := &rules[i]
		s := Setting{}
		if at := slices.IndexFunc(settings, func(s Setting) bool { return s.Rule == rule.ID }); at >= 0 {
			s = settings[at]
		}
		if s.Off {
			continue
		}
		a := active{Rule: rule, severity: rule.Severity, numbers: map[string]float64{}, words: map[string][]string{}}
		if s.Severity != 0 {
			a.severity = s.Severity
		}
		for _, p := range rule.Params {
			value, given := s.Params[p.Name]
			if !given || p.check(value) != "" {
				value = p.Default
			}
			if p.Kind == Number {
				a.numbers[p.Name], _ = strconv.ParseFloat(value, 64)
			} else {
				a.words[p.Name] = wordsOf(value)
			}
		}
		for _, fact := range rule.facts {
			a.has |= bit(fact)
		}
		for _, source := range rule.sources {
			a.has |= bit(factsFrom(source)...)
		}
		on = append(on, a)
	}
	return on
}

// factsFrom gives the keys of all facts that a source tells.
func factsFrom(source evidence.Source) (keys []string) {
	for _, f := range evidence.Catalogue() {
		if strings.HasPrefix(f.Key, string(source)+".") {
			keys = append(keys, f.Key)
		}
	}
	return keys
}
