package identify

import (
	"embed"
	"fmt"
	"io/fs"
	"regexp"
	"regexp/syntax"
	"slices"
	"strconv"
	"strings"
	"sync"
	"unicode"

	"airdrift/core/evidence"
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
	piece   string   // a text in lower case that whatever form matches must hold; "" where there is none
	lower   string   // Is in lower case
	phrases []string // Words folded; one that is open at its end has no space there
}

// Statement is what a rule says when it holds.
type Statement struct {
	Attribute Attribute `yaml:"attribute"`
	Value     string    `yaml:"value"`    // ${1} stands for the first group that Like matched in the first condition
	Strength  int       `yaml:"strength"` // in decibans, 1 to 30
}

const maxStrength = 30

// described stands among keys for all facts in which a device describes itself (evidence.Described).
const described = "described"

// Rules is a checked set of rules, indexed so that a fact meets only the rules that could rest on it.
type Rules struct {
	all []Rule
	// lead conditions by key of the fact, and within it by exact value or first word; the rest are tried one by one.
	byValue map[keyed][]int
	byWord  map[keyed][]int
	byPiece map[keyed][]int  // expressions by the first bytes of a text that all they match holds
	byStem  map[keyed][]int  // open-ended words by their first bytes
	rest    map[string][]int // lead conditions that have nothing to be found by
}

// indexed is how many bytes of a text expressions and open-ended words are found by.
const indexed = 3

type keyed struct{ key, text string }

//go:embed rules/*.yaml
var ruleFiles embed.FS

// Default gives the rules that ship with the program.
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
	for i, s := range r.Says {
		checkStatement(doc, fmt.Sprintf("%s.says[%d]", path, i), s)
	}
}

func checkCondition(doc *yamlfile.Document, path string, c *Condition) {
	if at := slices.Index(c.Keys, described); at >= 0 {
		c.Keys = slices.Concat(c.Keys[:at], evidence.Described, c.Keys[at+1:])
	}
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
		c.form, c.piece = form, fixedPiece(c.Like)
	}
}

// fixedPiece gives the longest text that every match of an expression holds, in lower case. Looking for it first spares
// most matching, which would grow with the number of rules.
func fixedPiece(expression string) string {
	tree, err := syntax.Parse(expression, syntax.Perl)
	if err != nil {
		return ""
	}
	parts := []*syntax.Regexp{tree}
	if tree.Op == syntax.OpConcat {
		parts = tree.Sub
	}
	longest := ""
	for _, part := range parts {
		if piece := strings.ToLower(string(part.Rune)); part.Op == syntax.OpLiteral && len(piece) > len(longest) {
			longest = piece
		}
	}
	return longest
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
	r := &Rules{all: all, byValue: map[keyed][]int{}, byWord: map[keyed][]int{}, byPiece: map[keyed][]int{}, byStem: map[keyed][]int{}, rest: map[string][]int{}}
	for i, rule := range all {
		lead := rule.When[0]
		for _, key := range lead.Keys {
			switch {
			case lead.Is != "":
				at := keyed{key, lead.lower}
				r.byValue[at] = append(r.byValue[at], i)
			case lead.form != nil && len(lead.piece) >= indexed:
				at := keyed{key, lead.piece[:indexed]}
				r.byPiece[at] = append(r.byPiece[at], i)
			case lead.form != nil:
				r.rest[key] = append(r.rest[key], i)
			default:
				r.indexWords(key, lead.phrases, i)
			}
		}
	}
	return r
}

func (r *Rules) indexWords(key string, phrases []string, rule int) {
	for _, phrase := range phrases {
		first, _, whole := strings.Cut(phrase[1:], " ")
		if !whole {
			r.indexStem(key, first, rule)
			continue
		}
		at := keyed{key, first}
		if !slices.Contains(r.byWord[at], rule) {
			r.byWord[at] = append(r.byWord[at], rule)
		}
	}
}

func (r *Rules) indexStem(key, stem string, rule int) {
	if len(stem) < indexed {
		if !slices.Contains(r.rest[key], rule) {
			r.rest[key] = append(r.rest[key], rule)
		}
		return
	}
	at := keyed{key, stem[:indexed]}
	if !slices.Contains(r.byStem[at], rule) {
		r.byStem[at] = append(r.byStem[at], rule)
	}
}

// All gives the rules in their order.
func (r *Rules) All() []Rule { return r.all }

// fact is an item with its value folded for comparison, once.
type fact struct {
	evidence.Item
	lower  string
	folded string
}

// foldFacts prepares facts for comparison.
func foldFacts(items []evidence.Item) []fact {
	facts := make([]fact, len(items))
	for i, item := range items {
		facts[i] = fact{item, strings.ToLower(item.Value), fold(item.Value)}
	}
	return facts
}

// votes gives the word of every rule that holds.
func (r *Rules) votes(facts []fact) []vote {
	var votes []vote
	var tried []int
	for _, f := range facts {
		tried = tried[:0]
		r.candidates(f, func(i int) {
			if slices.Contains(tried, i) {
				return
			}
			tried = append(tried, i)
			if groups, holds := r.all[i].holds(f, facts); holds {
				votes = append(votes, r.all[i].speak(f.Item, groups)...)
			}
		})
	}
	return votes
}

// candidates calls try with each rule whose lead condition this fact may meet.
func (r *Rules) candidates(f fact, try func(int)) {
	each := func(rules []int) {
		for _, i := range rules {
			try(i)
		}
	}
	each(r.byValue[keyed{f.Key, f.lower}])
	for word := range strings.FieldsSeq(f.folded) {
		each(r.byWord[keyed{f.Key, word}])
		if len(word) >= indexed {
			each(r.byStem[keyed{f.Key, word[:indexed]}])
		}
	}
	for i := range max(0, len(f.lower)-indexed+1) {
		each(r.byPiece[keyed{f.Key, f.lower[i : i+indexed]}])
	}
	each(r.rest[f.Key])
}

// holds reports whether the rule's first condition holds for the fact and all others hold for some fact.
func (r *Rule) holds(lead fact, facts []fact) (groups []string, holds bool) {
	groups, holds = r.When[0].meets(lead)
	if !holds {
		return nil, false
	}
	for _, c := range r.When[1:] {
		if !slices.ContainsFunc(facts, c.met) {
			return nil, false
		}
	}
	for _, c := range r.Unless {
		if slices.ContainsFunc(facts, c.met) {
			return nil, false
		}
	}
	return groups, true
}

func (c *Condition) met(f fact) bool {
	_, ok := c.meets(f)
	return ok
}

func (c *Condition) meets(f fact) (groups []string, ok bool) {
	if !slices.Contains(c.Keys, f.Key) {
		return nil, false
	}
	switch {
	case c.Is != "":
		return nil, f.lower == c.lower
	case c.form != nil:
		if !strings.Contains(f.lower, c.piece) {
			return nil, false
		}
		groups = c.form.FindStringSubmatch(f.Value)
		return groups, groups != nil
	}
	for _, phrase := range c.phrases {
		if strings.Contains(f.folded, phrase) {
			return nil, true
		}
	}
	return nil, false
}

// fold gives the words of a text in lower case, each with a space before and behind it. Stars are kept.
func fold(text string) string {
	var b strings.Builder
	b.Grow(len(text) + 2)
	b.WriteByte(' ')
	gap := true
	for _, r := range text {
		switch {
		case unicode.IsLetter(r) || unicode.IsDigit(r) || r == '*':
			b.WriteRune(unicode.ToLower(r))
			gap = false
		case !gap:
			b.WriteByte(' ')
			gap = true
		}
	}
	if !gap {
		b.WriteByte(' ')
	}
	return b.String()
}

// speak gives the rule's votes on the fact that made it hold.
func (r *Rule) speak(item evidence.Item, groups []string) []vote {
	votes := make([]vote, 0, len(r.Says))
	for _, s := range r.Says {
		value := fill(s.Value, groups)
		if value == "" {
			continue
		}
		if s.Attribute == Vendor {
			value = VendorName(value)
		}
		votes = append(votes, vote{s.Attribute, value, Reason{Rule: r.Name, Because: r.Because, Strength: s.Strength, Item: item}})
	}
	return votes
}

// fill puts what groups matched into a value.
func fill(value string, groups []string) string {
	for i := 1; i < len(groups); i++ {
		value = strings.ReplaceAll(value, "${"+strconv.Itoa(i)+"}", groups[i])
	}
	return strings.TrimSpace(value)
}
