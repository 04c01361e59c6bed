package identify

import (
	"embed"
	"fmt"
	"io/fs"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"unicode"
	"unicode/utf8"

	"airdrift/core/evidence"
	"airdrift/core/registry"
	"airdrift/core/yamlfile"
)

// Rule says what a fact, or several together, tell of a device. docs/rules.md documents the format.
type Rule struct {
	Name    string      `yaml:"rule"`
	Because string      `yaml:"because"` // what the rule rests on, in a sentence for the auditor
	When    []Condition `yaml:"when"`    // all must hold, each for some fact
	Unless  []Condition `yaml:"unless"`  // none may hold for any fact
	Says    []Statement `yaml:"says"`
}

// Condition asks for a fact. Exactly one of Is, Words and Like is given.
type Condition struct {
	Keys  []string `yaml:"keys"`  // the fact has one of these keys
	Is    string   `yaml:"is"`    // its value is this, capitals aside
	Words []string `yaml:"words"` // its value holds one of these words or phrases; print* stands for all that start so
	Like  string   `yaml:"like"`  // its value matches this regular expression (RE2), capitals aside

	form    *regexp.Regexp
	pieces  []string // texts in lower case of which whatever form matches holds one; none where there are no such texts
	lower   string   // Is in lower case
	anyText bool     // it asks for any text in which a device describes itself
	grabs   bool     // what a group of form matched is wanted
	whole   bool     // the only group of form is all of the value
	span    span     // where Like takes any text of some length
	phrases []string // Words folded; one that is open at its end has no space there
}

// Statement is what a rule says when it holds.
type Statement struct {
	Attribute Attribute `yaml:"attribute"`
	Value     string    `yaml:"value"`    // ${1} stands for the first group that Like matched in the first condition
	Strength  int       `yaml:"strength"` // in decibans, 1 to 30
}

const maxStrength = 30

// What stands among keys for all facts in which a device describes itself, and for all that are host names (evidence.Fact).
const (
	described = "described"
	named     = "named"
)

// Rules is a checked set of rules, indexed so that a fact meets only the rules that could rest on it.
type Rules struct {
	all   []Rule
	keyed map[string]*index // by the key of the fact
	tried sync.Pool         // of *marks
}

//go:embed rules/*.yaml
var ruleFiles embed.FS

// Default gives the rules that ship with the program. The first call reads all tables that identifying needs, which takes most of a second of one core: it is made
// when a program begins, so that the time of a sweep's first questions is its own.
var Default = sync.OnceValue(func() *Rules {
	names, err := fs.Glob(ruleFiles, "rules/*.yaml")
	if err != nil {
		panic("identify: " + err.Error())
	}
	var all []Rule
	for _, name := range names {
		data, err := ruleFiles.ReadFile(name)
		if err != nil {
			panic("identify: " + err.Error())
		}
		rules, err := ReadRules(name, data)
		if err != nil {
			panic("identify: the rules that ship with the program are broken: " + err.Error())
		}
		all = append(all, rules...)
	}
	registry.IEEE()
	publicBrands()
	kin()
	registeredHouses()
	plainWords()
	publicFamilies()
	publicShares()
	macKeys()
	return NewRules(all)
})

// ReadRules reads and checks one file of rules. Where it fails the error is a *fault.List with lines and columns.
func ReadRules(name string, data []byte) ([]Rule, error) {
	var file struct {
		Rules []Rule `yaml:"rules"`
	}
	doc, err := yamlfile.Read(name, data, &file)
	if err != nil {
		return nil, err
	}
	named := map[string]bool{}
	for i := range file.Rules {
		path := fmt.Sprintf("$.rules[%d]", i)
		checkRule(doc, path, &file.Rules[i])
		if name := file.Rules[i].Name; named[name] {
			doc.Refuse(path+".rule", "there is a rule %q already", name)
		}
		named[file.Rules[i].Name] = true
	}
	return file.Rules, doc.Faults.Err()
}

func checkRule(doc *yamlfile.Document, path string, r *Rule) {
	if r.Name == "" || r.Because == "" {
		doc.Refuse(path, "a rule needs a name (rule) and a reason (because)")
	}
	if len(r.When) == 0 {
		doc.Refuse(path+".when", "a rule needs at least one condition")
	}
	if len(r.Says) == 0 {
		doc.Refuse(path+".says", "a rule needs something to say")
	}
	for i := range r.When {
		checkCondition(doc, fmt.Sprintf("%s.when[%d]", path, i), &r.When[i])
	}
	for i := range r.Unless {
		checkCondition(doc, fmt.Sprintf("%s.unless[%d]", path, i), &r.Unless[i])
	}
	if len(r.When) > 0 {
		r.When[0].grabs = slices.ContainsFunc(r.Says, func(s Statement) bool { return strings.Contains(s.Value, "${") })
	}
	for i, s := range r.Says {
		checkStatement(doc, fmt.Sprintf("%s.says[%d]", path, i), s)
		if s.Attribute == Vendor && !strings.Contains(s.Value, "${") {
			r.Says[i].Value = VendorName(s.Value)
		}
	}
}

// expand puts the keys of the facts that are so in the place of the word that stands for them.
func expand(keys []string, word string, isSo func(evidence.Fact) bool) []string {
	at := slices.Index(keys, word)
	if at < 0 {
		return keys
	}
	var all []string
	for _, fact := range evidence.Catalogue() {
		if isSo(fact) {
			all = append(all, fact.Key)
		}
	}
	return slices.Concat(keys[:at], all, keys[at+1:])
}

func checkCondition(doc *yamlfile.Document, path string, c *Condition) {
	c.anyText = slices.Contains(c.Keys, described)
	c.Keys = expand(c.Keys, described, func(f evidence.Fact) bool { return f.Describes })
	c.Keys = expand(c.Keys, named, func(f evidence.Fact) bool { return f.By == evidence.TheHost })
	if len(c.Keys) == 0 {
		doc.Refuse(path, "a condition needs the keys of the facts it asks for")
	}
	ways := 0
	for _, given := range []bool{c.Is != "", len(c.Words) > 0, c.Like != ""} {
		if given {
			ways++
		}
	}
	if ways != 1 {
		doc.Refuse(path, "a condition needs exactly one of is, words and like")
	}
	c.lower = strings.ToLower(c.Is)
	for i, w := range c.Words {
		phrase := strings.TrimSuffix(fold(w), "* ")
		if phrase == " " || phrase == "" {
			doc.Refuse(fmt.Sprintf("%s.words[%d]", path, i), "%q holds no letter or digit", w)
		}
		c.phrases = append(c.phrases, phrase)
	}
	if c.Like != "" {
		form, err := regexp.Compile("(?i)" + c.Like)
		if err != nil {
			doc.Refuse(path+".like", "not a regular expression: %v", err)
		}
		c.form, c.pieces, c.span, c.whole = form, fixedPieces(c.Like), spanOf(c.Like), isWhole(c.Like)
	}
}

func checkStatement(doc *yamlfile.Document, path string, s Statement) {
	if !slices.Contains(Attributes, s.Attribute) {
		doc.Refuse(path+".attribute", "%q is not an attribute: want one of %v", s.Attribute, Attributes)
	}
	if s.Value == "" || s.Attribute == Kind && !slices.Contains(Kinds, s.Value) {
		doc.Refuse(path+".value", "%q is not a value of %s", s.Value, s.Attribute)
	}
	if s.Strength < 1 || s.Strength > maxStrength {
		doc.Refuse(path+".strength", "want 1 to %d decibans, got %d", maxStrength, s.Strength)
	}
}

// NewRules indexes rules that ReadRules has checked.
func NewRules(all []Rule) *Rules {
	r := &Rules{all: all, keyed: map[string]*index{}}
	r.tried.New = func() any { return &marks{by: make([]uint32, len(all))} }
	for i, rule := range all {
		for _, key := range rule.When[0].Keys {
			if r.keyed[key] == nil {
				r.keyed[key] = &index{byValue: map[string][]int{}, byWord: map[string][]phrased{}, byStem: map[gram][]phrased{}, byPiece: map[gram][]pieced{}}
			}
			r.keyed[key].add(rule.When[0], i)
		}
	}
	return r
}

// All gives the rules in their order.
func (r *Rules) All() []Rule { return r.all }

// fact is an item with its value prepared for comparison, once and where it is needed.
type fact struct {
	evidence.Item
	about evidence.Fact // what is documented of its key
	lower string
	words string // use folded
}

// folded gives the words of the value (see fold).
func (f *fact) folded() string {
	if f.words == "" {
		f.words = fold(withoutHost(f.Key, f.lower))
	}
	return f.words
}

// prepare makes facts of items, behind those that there are.
func prepare(facts []fact, items []evidence.Item) []fact {
	facts = slices.Grow(facts, len(items))
	for _, item := range items {
		documented, _ := evidence.FactOf(item.Key)
		facts = append(facts, fact{Item: item, about: documented, lower: strings.ToLower(item.Value)})
	}
	return facts
}

// unameForm is how systems describe themselves with the name that their keeper gave the host (POSIX.1-2017, uname).
var unameForm = regexp.MustCompile(`^(?:linux|freebsd|netbsd|openbsd|sunos|darwin|hp-ux|gnu/linux) (\S+) \d\S* (?:#\d|freebsd|netbsd|openbsd|darwin|sun4|generic|\S+ #\d)`)

// withoutHost blanks the host's name in a system's description in lower case: a host that is called "printserver" is no printer.
func withoutHost(key, lower string) string {
	if key != evidence.KeySNMPDescr {
		return lower
	}
	if at := unameForm.FindStringSubmatchIndex(lower); at != nil {
		return lower[:at[2]] + strings.Repeat(" ", at[3]-at[2]) + lower[at[3]:]
	}
	return lower
}

// votes adds the word of every rule that holds.
func (r *Rules) votes(votes []vote, facts []fact) []vote {
	tried := r.tried.Get().(*marks)
	defer r.tried.Put(tried)
	for i := range facts {
		f := &facts[i]
		x := r.keyed[f.Key]
		if x == nil {
			continue
		}
		if tried.fact++; tried.fact == 0 { // all numbers have been used once
			clear(tried.by)
			tried.fact = 1
		}
		x.candidates(f, func(rule int, led bool) {
			if !tried.fresh(rule) {
				return
			}
			if groups, holds := r.all[rule].holds(f, led, facts); holds {
				votes = r.all[rule].speak(votes, f, groups)
			}
		})
	}
	return votes
}

// holds reports whether the rule's first condition holds for the fact, which is known where it was led here, and all others hold
// for some fact.
func (r *Rule) holds(lead *fact, led bool, facts []fact) (groups []string, holds bool) {
	if !led {
		if groups, holds = r.When[0].meets(lead); !holds {
			return nil, false
		}
	}
	for i := range r.When[1:] {
		if !r.When[i+1].met(facts) {
			return nil, false
		}
	}
	for i := range r.Unless {
		if r.Unless[i].met(facts) {
			return nil, false
		}
	}
	return groups, true
}

// met reports whether the condition holds for some fact.
func (c *Condition) met(facts []fact) bool {
	for i := range facts {
		if f := &facts[i]; slices.Contains(c.Keys, f.Key) && c.may(f) {
			if _, ok := c.meets(f); ok {
				return true
			}
		}
	}
	return false
}

// may reports whether a fact holds one of the pieces of what the condition's expression matches, where there are such.
func (c *Condition) may(f *fact) bool {
	return len(c.pieces) == 0 || slices.ContainsFunc(c.pieces, func(p string) bool { return strings.Contains(f.lower, p) })
}

// meets reports whether the condition holds for a fact that has one of its keys.
func (c *Condition) meets(f *fact) (groups []string, ok bool) {
	switch {
	case c.Is != "":
		return nil, f.lower == c.lower
	case c.span.most > 0:
		return []string{f.Value, f.Value}, c.span.holds(f.Value)
	case c.form != nil:
		if !c.grabs {
			return nil, c.form.MatchString(f.Value)
		}
		if c.whole {
			return []string{f.Value, f.Value}, c.form.MatchString(f.Value)
		}
		groups = c.form.FindStringSubmatch(f.Value)
		return groups, groups != nil
	}
	for _, phrase := range c.phrases {
		if strings.Contains(f.folded(), phrase) {
			return nil, true
		}
	}
	return nil, false
}

// fold gives the words of a text in lower case, each with a space before and behind it. Stars are kept.
func fold(text string) string {
	folded := append(make([]byte, 0, len(text)+2), ' ')
	gap := true
	for _, r := range text {
		switch {
		case 'a' <= r && r <= 'z' || '0' <= r && r <= '9' || r == '*': // most are these
			folded, gap = append(folded, byte(r)), false
		case 'A' <= r && r <= 'Z':
			folded, gap = append(folded, byte(r)|0x20), false
		case r >= utf8.RuneSelf && (unicode.IsLetter(r) || unicode.IsDigit(r)):
			folded, gap = utf8.AppendRune(folded, unicode.ToLower(r)), false
		case !gap:
			folded, gap = append(folded, ' '), true
		}
	}
	if !gap {
		folded = append(folded, ' ')
	}
	return string(folded)
}

// speak adds the rule's votes on the fact that made it hold.
func (r *Rule) speak(votes []vote, f *fact, groups []string) []vote {
	weak := r.isWeak(f, votes)
	for _, s := range r.Says {
		strength := s.Strength
		if weak {
			strength = weakened(strength)
		}
		value := s.Value
		if strings.Contains(value, "${") {
			if value = fill(value, groups); value == "" {
				continue
			}
			if s.Attribute == Vendor {
				value = VendorName(value)
			}
		}
		if s.Attribute == Name && isAnybody(value) {
			continue
		}
		votes = append(votes, vote{s.Attribute, value, r.Name, r.Because, strength, &f.Item, 0})
	}
	return votes
}

// isAnybody reports whether a name is one that every device calls itself (RFC 6761, 6.3), as factory certificates do.
func isAnybody(name string) bool {
	first, _, _ := strings.Cut(strings.ToLower(name), ".")
	return first == "localhost"
}

// fill puts what groups matched into a value.
func fill(value string, groups []string) string {
	for i := 1; i < len(groups); i++ {
		value = strings.ReplaceAll(value, "${"+strconv.Itoa(i)+"}", groups[i])
	}
	return strings.TrimSpace(value)
}
