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
	"unicode/utf8"

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
	pieces  []string // texts in lower case of which whatever form matches holds one; none where there are no such texts
	lower   string   // Is in lower case
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

// described stands among keys for all facts in which a device describes itself (evidence.Described).
const described = "described"

// Rules is a checked set of rules, indexed so that a fact meets only the rules that could rest on it.
type Rules struct {
	all   []Rule
	keyed map[string]*index // by the key of the fact
	tried sync.Pool         // of *marks
}

// index finds rules by their lead conditions, for facts of one key.
type index struct {
	byValue map[string][]int
	byWord  map[string][]phrased // by the longest word of each phrase
	byStem  map[gram][]phrased   // open-ended words, by their first bytes
	byPiece map[gram][]pieced    // expressions, by bytes of a text that all they match holds
	rest    []int                // what has nothing to be found by

	words, pieces sieve // what the words and the expressions begin with or hold
}

// phrased is a rule that holds for a fact with a phrase.
type phrased struct {
	rule   int
	phrase string
}

// pieced is a rule whose expression matches nothing that has not a piece in it, the indexed bytes of which begin at an offset.
type pieced struct {
	rule   int
	piece  string
	offset int
}

// in reports whether a text has the piece, where its indexed bytes are found at a place.
func (p *pieced) in(text string, at int) bool {
	return at >= p.offset && strings.HasPrefix(text[at-p.offset:], p.piece)
}

// sieve says of most bytes at once that nothing is found by them. It is a Bloom filter of one hash.
type sieve [64]uint64

// bit gives the place of a few bytes in the sieve.
func bit(a, b, c byte) (word, mask uint64) {
	hash := (uint64(a)*31+uint64(b))*31 + uint64(c)
	hash ^= hash >> 7
	return hash >> 6 % 64, 1 << (hash % 64)
}

func (s *sieve) add(a, b, c byte) {
	word, mask := bit(a, b, c)
	s[word] |= mask
}

func (s *sieve) may(a, b, c byte) bool {
	word, mask := bit(a, b, c)
	return s[word]&mask != 0
}

// gram is a few bytes of a text.
type gram [indexed]byte

// indexed is how many bytes expressions and open-ended words are found by.
const indexed = 3

// marks are the rules that one fact has been held against.
type marks struct {
	by   []uint32
	fact uint32
}

// fresh reports whether a rule is met for the first time by the present fact.
func (m *marks) fresh(rule int) bool {
	if m.by[rule] == m.fact {
		return false
	}
	m.by[rule] = m.fact
	return true
}

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
		c.form, c.pieces, c.span, c.whole = form, fixedPieces(c.Like), spanOf(c.Like), isWhole(c.Like)
	}
}

// isWhole reports whether an expression is one group from the beginning to the end of what it matches.
func isWhole(expression string) bool {
	tree, err := syntax.Parse(expression, syntax.Perl)
	return err == nil && tree.MaxCap() == 1 && tree.Op == syntax.OpConcat && len(tree.Sub) == 3 &&
		tree.Sub[0].Op == syntax.OpBeginText && tree.Sub[1].Op == syntax.OpCapture && tree.Sub[2].Op == syntax.OpEndText
}

// maxPieces is how many texts one expression is found by at the most.
const maxPieces = 24

// fixedPieces gives texts in lower case of which every match of an expression holds at least one; none where there are no
// such texts that are long enough to look for. Looking for them first spares most matching, which would grow with the number
// of rules.
func fixedPieces(expression string) []string {
	tree, err := syntax.Parse(expression, syntax.Perl)
	if err != nil {
		return nil
	}
	pieces := piecesOf(tree.Simplify())
	if len(pieces) > maxPieces {
		return nil
	}
	return pieces
}

// piecesOf chooses among the parts of an expression that every match has the one whose pieces are longest.
func piecesOf(part *syntax.Regexp) []string {
	switch part.Op {
	case syntax.OpCapture, syntax.OpPlus:
		return piecesOf(part.Sub[0])
	case syntax.OpAlternate:
		var all []string
		for _, sub := range part.Sub {
			pieces := piecesOf(sub)
			if pieces == nil {
				return nil
			}
			all = append(all, pieces...)
		}
		return all
	case syntax.OpConcat:
		return longestRun(part.Sub)
	}
	return longestRun([]*syntax.Regexp{part})
}

// longestRun looks for pieces in parts that follow one another: what several of them match in a row is one piece.
func longestRun(parts []*syntax.Regexp) []string {
	var best []string
	run := []string{""}
	keep := func(pieces []string) {
		if len(pieces) > 0 && shortest(pieces) >= indexed && (best == nil || shortest(pieces) > shortest(best)) {
			best = pieces
		}
	}
	for _, part := range parts {
		texts := textsOf(part)
		if longer := follow(run, texts); longer != nil {
			run = longer
			continue
		}
		keep(run)
		run = texts
		if texts == nil {
			run = []string{""}
			if part.Op == syntax.OpCapture || part.Op == syntax.OpAlternate || part.Op == syntax.OpPlus || part.Op == syntax.OpConcat {
				keep(piecesOf(part))
			}
		}
	}
	keep(run)
	return best
}

// textsOf gives all texts that a part of an expression matches, in lower case; nil where they are more than maxPieces.
func textsOf(part *syntax.Regexp) []string {
	switch part.Op {
	case syntax.OpLiteral:
		return []string{strings.ToLower(string(part.Rune))}
	case syntax.OpEmptyMatch, syntax.OpBeginText, syntax.OpEndText, syntax.OpWordBoundary:
		return []string{""}
	case syntax.OpCapture:
		return textsOf(part.Sub[0])
	case syntax.OpQuest:
		return either(textsOf(part.Sub[0]), []string{""})
	case syntax.OpCharClass:
		var texts []string
		for i := 0; i+1 < len(part.Rune); i += 2 {
			for r := part.Rune[i]; r <= part.Rune[i+1]; r++ {
				if texts = append(texts, strings.ToLower(string(r))); len(texts) > maxPieces {
					return nil
				}
			}
		}
		return texts
	case syntax.OpAlternate:
		texts := textsOf(part.Sub[0])
		for _, sub := range part.Sub[1:] {
			texts = either(texts, textsOf(sub))
		}
		return texts
	case syntax.OpConcat:
		texts := []string{""}
		for _, sub := range part.Sub {
			texts = follow(texts, textsOf(sub))
		}
		return texts
	}
	return nil
}

// either joins the texts of two parts one of which is there; nil where one of them has none or they are too many.
func either(a, b []string) []string {
	if a == nil || b == nil || len(a)+len(b) > maxPieces {
		return nil
	}
	return slices.Concat(a, b)
}

// follow puts the texts of one part behind those of another; nil as for either.
func follow(a, b []string) []string {
	if a == nil || b == nil || len(a)*len(b) > maxPieces {
		return nil
	}
	joined := make([]string, 0, len(a)*len(b))
	for _, first := range a {
		for _, second := range b {
			joined = append(joined, first+second)
		}
	}
	return joined
}

func shortest(pieces []string) int {
	least := len(pieces[0])
	for _, p := range pieces[1:] {
		least = min(least, len(p))
	}
	return least
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

func (x *index) add(lead Condition, rule int) {
	switch {
	case lead.Is != "":
		x.byValue[lead.lower] = append(x.byValue[lead.lower], rule)
	case len(lead.pieces) > 0:
		for _, piece := range lead.pieces {
			at, offset := rarest(x.byPiece, piece)
			x.byPiece[at] = append(x.byPiece[at], pieced{rule, piece, offset})
			x.pieces.add(at[0], at[1], at[2])
		}
	case lead.form != nil || lead.span.most > 0:
		x.rest = append(x.rest, rule)
	default:
		for _, phrase := range lead.phrases {
			x.addPhrase(phrase, rule)
		}
	}
}

// rarest chooses the bytes of a piece that fewest rules are found by so far, and tells where in it they are.
func rarest(taken map[gram][]pieced, piece string) (best gram, offset int) {
	best = gram([]byte(piece[:indexed]))
	for i := range len(piece) - indexed + 1 {
		if g := gram([]byte(piece[i : i+indexed])); len(taken[g]) < len(taken[best]) {
			best, offset = g, i
		}
	}
	return best, offset
}

// addPhrase finds a phrase by its longest word that is whole, or by its only word's stem.
func (x *index) addPhrase(phrase string, rule int) {
	words := strings.Fields(phrase)
	if !strings.HasSuffix(phrase, " ") {
		if len(words) == 1 && len(words[0]) >= indexed {
			at := gram([]byte(words[0][:indexed]))
			x.byStem[at] = append(x.byStem[at], phrased{rule, phrase})
			x.words.add(at[0], at[1], at[2])
			return
		}
		words = words[:len(words)-1]
	}
	longest := ""
	for _, w := range words {
		if len(w) > len(longest) {
			longest = w
		}
	}
	if longest == "" {
		x.rest = append(x.rest, rule)
		return
	}
	x.byWord[longest] = append(x.byWord[longest], phrased{rule, phrase})
	if len(longest) >= indexed {
		x.words.add(longest[0], longest[1], longest[2])
	}
}

// All gives the rules in their order.
func (r *Rules) All() []Rule { return r.all }

// fact is an item with its value prepared for comparison, once and where it is needed.
type fact struct {
	evidence.Item
	lower string
	words string // use folded
}

// folded gives the words of the value (see fold).
func (f *fact) folded() string {
	if f.words == "" {
		f.words = fold(f.Value)
	}
	return f.words
}

// prepare makes facts of items, behind those that there are.
func prepare(facts []fact, items []evidence.Item) []fact {
	facts = slices.Grow(facts, len(items))
	for _, item := range items {
		facts = append(facts, fact{Item: item, lower: strings.ToLower(item.Value)})
	}
	return facts
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
				votes = r.all[rule].speak(votes, &f.Item, groups)
			}
		})
	}
	return votes
}

// candidates calls try with each rule whose lead condition this fact may meet; led says that it does.
func (x *index) candidates(f *fact, try func(rule int, led bool)) {
	each := func(rules []int, led bool) {
		for _, i := range rules {
			try(i, led)
		}
	}
	spoken := func(rules []phrased) {
		for _, p := range rules {
			if strings.Contains(f.folded(), p.phrase) {
				try(p.rule, true)
			}
		}
	}
	each(x.byValue[f.lower], true)
	if len(x.byWord)+len(x.byStem) > 0 {
		for word := range strings.FieldsSeq(f.folded()) {
			if len(word) < indexed {
				spoken(x.byWord[word])
			} else if x.words.may(word[0], word[1], word[2]) {
				spoken(x.byWord[word])
				spoken(x.byStem[gram{word[0], word[1], word[2]}])
			}
		}
	}
	if len(x.byPiece) > 0 {
		for i := range len(f.lower) - indexed + 1 {
			if x.pieces.may(f.lower[i], f.lower[i+1], f.lower[i+2]) {
				found := x.byPiece[gram{f.lower[i], f.lower[i+1], f.lower[i+2]}]
				for j := range found {
					if found[j].in(f.lower, i) {
						try(found[j].rule, false)
					}
				}
			}
		}
	}
	each(x.rest, false)
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

// span stands for an expression that takes any one line of so many characters; there are many of those, and they are not worth
// matching.
type span struct{ least, most int }

var spanForm = regexp.MustCompile(`^\^\(\.\{(\d+),(\d+)\}\)\$$`)

// spanOf gives the span of an expression of the form ^(.{2,64})$, and the zero span for others.
func spanOf(expression string) span {
	m := spanForm.FindStringSubmatch(expression)
	if m == nil {
		return span{}
	}
	least, _ := strconv.Atoi(m[1]) // digits
	most, _ := strconv.Atoi(m[2])  // digits
	return span{least, most}
}

func (s span) holds(text string) bool {
	n := utf8.RuneCountInString(text)
	return n >= s.least && n <= s.most && !strings.Contains(text, "\n")
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
func (r *Rule) speak(votes []vote, item *evidence.Item, groups []string) []vote {
	for _, s := range r.Says {
		value := s.Value
		if strings.Contains(value, "${") {
			if value = fill(value, groups); value == "" {
				continue
			}
			if s.Attribute == Vendor {
				value = VendorName(value)
			}
		}
		votes = append(votes, vote{s.Attribute, value, r.Name, r.Because, s.Strength, item, 0})
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
