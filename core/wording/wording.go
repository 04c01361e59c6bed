// Package wording is the catalogue of what findings, reports and decisions say to people, by language.
package wording

import (
	_ "embed"
	"maps"
	"slices"
	"strings"
	"sync"

	"airdrift/core/yamlfile"
)

// Rule is what a rule says to people.
type Rule struct {
	Title   string `yaml:"title"`
	Says    string `yaml:"says"`    // what is so, with values in braces
	Because string `yaml:"because"` // what follows of it, for the owner
	Do      string `yaml:"do"`      // what is to be done
}

// Catalogue is what is said in one language.
type Catalogue struct {
	Rules       map[string]Rule   `yaml:"rules"`       // by their names
	Ways        map[string]string `yaml:"ways"`        // of looking
	Advice      map[string]string `yaml:"advice"`      // what makes the estimate of what was missed smaller or surer
	Assumptions []string          `yaml:"assumptions"` // that it rests on
	Report      map[string]string `yaml:"report"`      // headings and sentences of reports
	Columns     map[string]string `yaml:"columns"`     // headings of their tables
	Severities  map[string]string `yaml:"severities"`
	Standings   map[string]string `yaml:"standings"`
	States      map[string]string `yaml:"states"`    // of findings
	Cells       map[string]string `yaml:"cells"`     // states of addresses
	Decisions   map[string]string `yaml:"decisions"` // what people have said of devices, by kind, and by kind-none where it was taken back
}

//go:embed en.yaml
var english []byte

// catalogues are by language (RFC 5646).
var catalogues = sync.OnceValue(func() map[string]*Catalogue {
	all := map[string]*Catalogue{}
	for language, file := range map[string][]byte{"en": english} {
		c := &Catalogue{}
		if _, err := yamlfile.Read(language+".yaml", file, c); err != nil {
			panic("wording: the catalogue is broken: " + err.Error())
		}
		all[language] = c
	}
	return all
})

// Default is the language where no other is wanted.
const Default = "en"

// Languages gives the languages there are texts in.
func Languages() []string { return slices.Sorted(maps.Keys(catalogues())) }

// In gives the catalogue of a language, the default one where there is none.
func In(language string) *Catalogue {
	if c, ok := catalogues()[language]; ok {
		return c
	}
	return catalogues()[Default]
}

// Decision says what a person has said of a device, by its kind, without the text of it: an empty text takes back what was said before, where the kind has
// such.
func (c *Catalogue) Decision(kind, text string) string {
	if none, takenBack := c.Decisions[kind+"-none"]; takenBack && text == "" {
		return none
	}
	return c.Decisions[kind]
}

// Fill puts values into a text. What a device has said is made of one line.
func Fill(text string, values map[string]string) string {
	pairs := make([]string, 0, 2*len(values))
	for _, name := range slices.Sorted(maps.Keys(values)) {
		pairs = append(pairs, "{"+name+"}", strings.Join(strings.Fields(values[name]), " "))
	}
	return strings.NewReplacer(pairs...).Replace(text)
}
