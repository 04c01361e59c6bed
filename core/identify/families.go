package identify

import (
	_ "embed"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"

	"airdrift/core/evidence"
	"airdrift/core/yamlfile"
)

// family is a line of products: who makes them, what they are, and by which names their devices call themselves.
type family struct {
	Maker string   `yaml:"maker"`
	Kind  string   `yaml:"kind"`
	Names []string `yaml:"names"`
}

// What a name of a family adds in a text of the device's own, in decibans.
const (
	kindFromFamily   = 10
	vendorFromFamily = 9
	modelFromFamily  = 7
)

// shortName is how many signs a name of one word has to have to be told from others.
const shortName = 5

//go:embed families.yaml
var familyFile []byte

// name is a name of a family as it is looked for: the words of a text, in lower case.
type name struct {
	words  []string // # stands for a digit
	open   bool     // more may follow in the last word
	common bool     // others use it too: it counts where something else tells the maker
	family *family
}

// families finds names of families in texts, by the first bytes of their first words.
type families struct{ by map[[2]byte][]name }

// publicFamilies are those of the table that ships with the program.
var publicFamilies = sync.OnceValue(func() *families {
	f, err := readFamilies("families.yaml", familyFile)
	if err != nil {
		panic("identify: the table of families is broken: " + err.Error())
	}
	return f
})

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
	all := &families{by: map[[2]byte][]name{}}
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
			n.common = len(n.words) == 1 && (len(n.words[0]) < shortName || slices.Contains(table.Common, n.words[0]))
			if len(n.words) == 0 || len(n.words[0]) < 2 {
				doc.Refuse(path+".names["+strconv.Itoa(j)+"]", "%q is too short to be told from other words", text)
				continue
			}
			all.add(n)
		}
	}
	return all, doc.Faults.Err()
}

// add notes a name under each pair of bytes that its first word can begin with.
func (f *families) add(n name) {
	first := n.words[0]
	for _, a := range alternatives(first[0]) {
		for _, b := range alternatives(first[1]) {
			f.by[[2]byte{a, b}] = append(f.by[[2]byte{a, b}], n)
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
	case ' ', '\t', '\n', '\r', ',', ';', '(', ')', '"', '\'', '<', '>', '|', '=', '{', '}':
		return true
	}
	return false
}

// wordAt is a word's place in a text.
type wordAt struct{ from, to int }

// find gives the family of the name that takes most of a text in lower case, and the place of the name; nil where there is none, or where two names that
// take as much tell of different makers or kinds.
func (f *families) find(text string, words []wordAt, isMaker func(vendor string) bool) (found *family, at wordAt) {
	longest := 0
	ambiguous := false
	try := func(rest []wordAt, within bool) {
		w := rest[0]
		if w.to-w.from < 2 {
			return
		}
		for _, n := range f.by[[2]byte{text[w.from], text[w.from+1]}] {
			if within && len(n.words) > 1 {
				continue
			}
			last, ok := n.matches(text, rest)
			if !ok || n.common && !isMaker(n.family.Maker) {
				continue
			}
			switch size := n.size(); {
			case size > longest:
				found, at, longest, ambiguous = n.family, wordAt{w.from, last.to}, size, false
			case size == longest && (n.family.Kind != found.Kind || n.family.Maker != found.Maker):
				ambiguous = true
			}
		}
	}
	for i, w := range words {
		try(words[i:], false)
		for j := w.from + 1; j < w.to; j++ { // as in "Maker-X200" and "Maker/X200"
			if b := text[j-1]; b == '/' || b == '-' || b == '_' || b == ':' {
				try([]wordAt{{j, w.to}}, true)
			}
		}
	}
	if ambiguous {
		return nil, at
	}
	return found, at
}

// size is how much of a text a name takes for sure.
func (n *name) size() (size int) {
	for _, w := range n.words {
		size += len(w) + 1
	}
	return size
}

// matches reports whether a name stands at the beginning of words, and gives the last that it takes.
func (n *name) matches(text string, words []wordAt) (last wordAt, ok bool) {
	if len(words) < len(n.words) {
		return last, false
	}
	for i, want := range n.words {
		last = words[i]
		have := strings.TrimRight(text[last.from:last.to], ".:!")
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

// wordsOf gives the words of a text, at most so many.
func wordsOf(words []wordAt, text string, most int) []wordAt {
	from := -1
	for i := 0; i <= len(text) && len(words) < most; i++ {
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

// familyVotes finds families of products in what a device says of itself.
func familyVotes(votes []vote, facts []fact) []vote {
	var room [maxFamilyWords]wordAt
	all := publicFamilies()
	told := votes
	isMaker := func(vendor string) bool {
		return slices.ContainsFunc(told, func(v vote) bool { return v.attribute == Vendor && v.value == vendor })
	}
	for i := range facts {
		f := &facts[i]
		if documented, _ := evidence.FactOf(f.Key); !documented.Describes || len(f.lower) != len(f.Value) {
			continue
		}
		text := withoutHost(f.Key, f.lower)
		words := wordsOf(room[:0], text, maxFamilyWords)
		of, at := all.find(text, words, isMaker)
		if of == nil {
			continue
		}
		because := "The name is that of a family of products of " + of.Maker + "."
		model := strings.Trim(versionBehind.ReplaceAllString(f.Value[at.from:withNumber(text, words, at)], ""), ".:!*")
		votes = append(votes, vote{Kind, of.Kind, "family-of-products", because, kindFromFamily, &f.Item, 0},
			vote{Vendor, of.Maker, "family-of-products", because, vendorFromFamily, &f.Item, 0},
			vote{Model, model, "family-of-products", because, modelFromFamily, &f.Item, 0})
	}
	return votes
}

// versionBehind is a version that stands behind a model's name without a gap, as user agents have it.
var versionBehind = regexp.MustCompile(`[-/_][vV]?\d+(?:\.\d+)+.*$`)

// sizeForm is a number that belongs to a model's name, as its power or its ports.
var sizeForm = regexp.MustCompile(`^\d{3,5}$`)

// withNumber gives where a model's name ends: a name without a digit takes words that have one behind it, as "ProCurve 2510" and "LaserJet 400 M401n", one
// that has a digit a number, as "5PX 1500"; versions and what is put together are none of it.
func withNumber(text string, words []wordAt, at wordAt) int {
	end, taken := at.to, 0
	plain := !strings.ContainsAny(text[at.from:at.to], digits)
	for _, w := range words {
		if w.from <= end {
			continue
		}
		next := text[w.from:w.to]
		isPart := plain && taken < 2 && strings.ContainsAny(next, digits) && !strings.ContainsAny(next, "_/:#") && !isVersion(next) || !plain && taken == 0 && sizeForm.MatchString(next)
		if !isPart || strings.TrimSpace(text[end:w.from]) != "" {
			break
		}
		end, taken = w.to, taken+1
	}
	return end
}
