package identify

import (
	_ "embed"
	"regexp"
	"slices"
	"strings"
	"sync"
	"unicode"

	"airdrift/core/yamlfile"
)

// legalForms are the words at the end of a company's name that tell its legal form and not who it is.
var legalForms = map[string]bool{
	"inc": true, "incorporated": true, "corp": true, "corporation": true, "co": true, "company": true, "ltd": true,
	"limited": true, "llc": true, "lp": true, "plc": true, "gmbh": true, "ag": true, "kg": true, "mbh": true, "sa": true,
	"sas": true, "sarl": true, "srl": true, "spa": true, "bv": true, "nv": true, "ab": true, "as": true, "oy": true,
	"aps": true, "kk": true, "pty": true, "pte": true, "sdn": true, "bhd": true, "jsc": true, "ooo": true,
	"doo": true, "sro": true, "zoo": true, "spzoo": true, "oo": true, "international": true, "the": true, "holdings": true,
	"pvt": true, "private": true, "ltda": true, "lda": true, "sl": true, "sau": true, "slu": true, "cv": true, "sadecv": true, "kft": true, "zrt": true, "nyrt": true,
	"bvba": true, "vof": true, "llp": true, "lllp": true, "pllc": true, "se": true, "kgaa": true, "gmbhco": true, "cokg": true, "gmbhcokg": true, "ohg": true, "gbr": true, "ug": true,
	"asa": true, "aş": true, "ltdşti": true, "şti": true, "sti": true, "uab": true, "oü": true, "ou": true, "sia": true, "ood": true, "eood": true, "ead": true, "dd": true, "zao": true,
	"oao": true, "pao": true, "ao": true, "tov": true, "snc": true, "scs": true, "scrl": true, "sprl": true, "sasu": true, "eurl": true, "kaisha": true, "coltd": true, "colimited": true, "corpltd": true,
	"incltd": true, "pteltd": true, "ptyltd": true, "ptyl": true, "pvtltd": true, "sdnbhd": true, "pl": true, "berhad": true, "tbk": true, "spj": true, "spk": true, "vos": true, "ehf": true, "osakeyhtiö": true,
}

// gluedForms are legal forms that registers have written on to the word before them, as in "TechnologyCo." and "MFG.CORP".
var gluedForms = regexp.MustCompile(`(?:[.+](?i:co\.?,?ltd|co\.?limited|co\.?gmbh|co|ltd|limited|inc|corp|gmbh|llc)|(\p{Ll}|）)(?:Corp\.Limited|Co\.?,?Ltd|CO\.?,?LTD|Co|CO|Corp|Ltd|LTD|Inc|INC|LLC|GmbH))\.?$`)

// maxFormWords is of how many words a legal form may be: "Sp. z o. o." is one.
const maxFormWords = 4

//go:embed vendors.yaml
var vendorFile []byte

// maker is one company under the name that we give it.
type maker struct {
	Name  string   `yaml:"name"`
	Also  []string `yaml:"also"`
	Words []string `yaml:"words"`
}

// companies is the list of companies.
type companies struct {
	Vendors []maker    `yaml:"vendors"`
	Kin     [][]string `yaml:"kin"` // companies of which one is no word against another
}

// companyList reads the list once.
var companyList = sync.OnceValue(func() companies {
	var file companies
	doc, err := yamlfile.Read("vendors.yaml", vendorFile, &file)
	if err == nil {
		err = doc.Faults.Err()
	}
	if err != nil {
		panic("identify: the list of makers is broken: " + err.Error())
	}
	return file
})

func makers() []maker { return companyList().Vendors }

// kin gives the groups that a company is of, by the name that we give it.
var kin = sync.OnceValue(func() map[string][]int {
	groups := map[string][]int{}
	for i, group := range companyList().Kin {
		for _, name := range group {
			groups[VendorName(name)] = append(groups[VendorName(name)], i)
		}
	}
	return groups
})

// areKin reports whether two companies, by the names that we give them, are of one house, or use each other's names.
func areKin(a, b string) bool {
	return sameHouse(a, b) || slices.ContainsFunc(kin()[a], func(group int) bool { return slices.Contains(kin()[b], group) })
}

// aliases gives the one name of a company by each of its folded names.
var aliases = sync.OnceValue(func() map[string]string {
	names := map[string]string{}
	for _, m := range makers() {
		for _, name := range append([]string{m.Name}, m.Also...) {
			names[fold(strings.Join(ownWords(name), " "))] = m.Name
		}
	}
	return names
})

// VendorName brings a company's name to one form: legal forms at its end are dropped, a name in capitals alone is written as
// a name, and those that have several go by one. "XEROX CORPORATION" and "Xerox Corp." are both "Xerox", "ciscoSystems" is
// "Cisco Systems".
func VendorName(organisation string) string {
	words := ownWords(organisation)
	if name := aliases()[fold(strings.Join(words, " "))]; name != "" {
		return name
	}
	shouted := strings.ToUpper(organisation) == organisation
	for i, word := range words {
		words[i] = strings.TrimRight(word, ".")
		if shouted && len(word) > 3 {
			words[i] = capitalise(words[i])
		}
	}
	return strings.Join(words, " ")
}

// maxMakerWords is how many words of a model's name may be its maker's.
const maxMakerWords = 4

// modelName takes the maker's own name off the front of a model's, so that one model has one name whoever tells it. isMaker
// knows makers besides the public ones, by their folded names.
func modelName(model string, isMaker func(name string) bool) string {
	words := strings.Fields(model)
	for n := min(maxMakerWords, len(words)-1); n > 0; n-- {
		name := fold(strings.Join(words[:n], " "))
		if rest := strings.Join(words[n:], " "); (aliases()[name] != "" || isMaker(name)) && strings.ContainsFunc(rest, unicode.IsLetter) {
			return rest
		}
	}
	return strings.Join(words, " ")
}

var marksAside = strings.NewReplacer(",", " ", ";", " ", "(", " ", ")", " ", "，", " ")

// former is what registers put behind a name, as what the company was called before.
var former = regexp.MustCompile(`\((?:formerly|previous)[^)]*\)`)

// ownWords gives the words of a company's name without those of its legal form.
func ownWords(organisation string) []string {
	if strings.Contains(organisation, "(") {
		organisation = former.ReplaceAllString(organisation, "")
	}
	words := strings.Fields(marksAside.Replace(organisation))
	for len(words) > 0 {
		if n := formAtEnd(words); n > 0 {
			words = words[:len(words)-n]
			continue
		}
		last := len(words) - 1
		bare := gluedForms.ReplaceAllString(words[last], "$1")
		if bare == words[last] || bare == "" {
			break
		}
		words[last] = bare
	}
	return words
}

// formAtEnd gives how many words at the end of a name are a legal form; 0 where none are.
func formAtEnd(words []string) int {
	if last := words[len(words)-1]; len(words) > 1 && (last == "&" || last == "+") {
		return 1
	}
	for n := min(maxFormWords, len(words)-1); n > 0; n-- {
		if legalForms[letters(strings.Join(words[len(words)-n:], ""))] {
			return n
		}
	}
	return 0
}

func letters(word string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsLetter(r) {
			return unicode.ToLower(r)
		}
		return -1
	}, word)
}

func capitalise(word string) string {
	runes := []rune(strings.ToLower(word))
	runes[0] = unicode.ToUpper(runes[0])
	return string(runes)
}

// brand is a phrase by which a text tells a maker.
type brand struct{ phrase, vendor string }

// brands finds makers in texts: by the first word of each phrase.
type brands struct {
	byFirst map[string][]brand
	sieve   sieve
}

func newBrands() *brands { return &brands{byFirst: map[string][]brand{}} }

func (b *brands) add(phrase, vendor string) {
	folded := fold(phrase)
	first, _, _ := strings.Cut(strings.TrimSpace(folded), " ")
	if first != "" {
		b.byFirst[first] = append(b.byFirst[first], brand{folded, vendor})
		if len(first) >= indexed {
			b.sieve.add(first[0], first[1], first[2])
		}
	}
}

// publicBrands are those of the list of companies.
var publicBrands = sync.OnceValue(func() *brands {
	b := newBrands()
	for _, m := range makers() {
		for _, word := range m.Words {
			b.add(word, m.Name)
		}
	}
	return b
})

// find gives the makers that a folded text names, each once, in the order in which it does. Of names that begin alike the longest
// counts.
func (b *brands) find(folded string) []string {
	var vendors []string
	for word := range strings.FieldsSeq(folded) {
		if len(word) >= indexed && !b.sieve.may(word[0], word[1], word[2]) {
			continue
		}
		longest := brand{}
		for _, candidate := range b.byFirst[word] {
			if len(candidate.phrase) > len(longest.phrase) && strings.Contains(folded, candidate.phrase) {
				longest = candidate
			}
		}
		if longest.vendor != "" && !slices.Contains(vendors, longest.vendor) {
			vendors = append(vendors, longest.vendor)
		}
	}
	return vendors
}
