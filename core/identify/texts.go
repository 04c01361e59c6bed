package identify

import (
	"slices"
	"strings"

	"airdrift/core/evidence"
)

// Not every text of a device is about it: people name things by what stands beside them, and a page may be a shop for cameras. What follows tells whose
// words a text is in, and whether a page is the device's own.

// weakened is what a text says that may be about something else: a third of what one of the device's own does.
func weakened(strength int) int { return max(strength/3, 1) }

// pageWords are words on a device's own page that tell nothing of what it is.
var pageWords = wordSet(`login log in on sign web interface ui gui webui page pages home homepage index main start status overview setup settings configuration config
	configurator configure management manager admin administration administrator control panel console server service system device viewer view live client monitor monitoring
	utility tool tools information info welcome to the of for a an and site local remote access menu network wireless series model version firmware ver v user users account
	password please loading html built embedded smart digital easy pro plus mini portal application app module card unit ip name terminal reader station adapter appliance box bridge repeater extender
	anmeldung anmelden konfiguration startseite weboberfläche übersicht verwaltung einstellungen konfigurationsprogramm willkommen accueil connexion inicio`)

// aboutWords are words of pages that are about products and their makers, and of no device's own.
var aboutWords = wordSet(`shop store buy cart order orders training course courses learning academy helpdesk warranty wiki blog forum ticket tickets intranet news magazine howto how
	tutorial guide documentation docs manual manuals knowledge community gallery booking reservation restaurant repair catalog catalogue careers install team press download downloads`)

func wordSet(text string) map[string]bool {
	set := map[string]bool{}
	for word := range strings.FieldsSeq(text) {
		set[word] = true
	}
	return set
}

// isAbout reports whether a folded text is about products rather than of one.
func isAbout(folded string) bool {
	for word := range strings.FieldsSeq(folded) {
		if aboutWords[word] {
			return true
		}
	}
	return false
}

// beginsWith reports whether a folded text begins with the first word of a maker's name, or with one of the words by which texts tell it, as names that devices leave
// the factory with do.
func beginsWith(folded, maker string) bool {
	first, _, _ := strings.Cut(strings.TrimPrefix(folded, " "), " ")
	own, _, _ := strings.Cut(strings.TrimPrefix(fold(maker), " "), " ")
	return first != "" && first == own || slices.ContainsFunc(publicBrands().byFirst[first], func(b brand) bool { return b.vendor == maker && strings.HasPrefix(folded, b.phrase) })
}

// beginsWithMaker reports whether a text begins with the name of a maker of our list, or of one that it has been found to name.
func beginsWithMaker(f *fact, votes []vote) bool {
	folded := f.folded()
	first, _, _ := strings.Cut(strings.TrimPrefix(folded, " "), " ")
	if slices.ContainsFunc(publicBrands().byFirst[first], func(b brand) bool { return strings.HasPrefix(folded, b.phrase) }) {
		return true
	}
	return slices.ContainsFunc(votes, func(v vote) bool {
		return v.attribute == Vendor && v.item == &f.Item && v.rule == ruleNamesMaker && beginsWith(f.folded(), v.value)
	})
}

// namesPage reports whether a word of the condition is the name of a page: the page begins with it, or what follows is a number of a type, a maker, or a
// word of pages that tells nothing. In "Camera shop" and "Switch to HTTPS" it is not.
func (c *Condition) namesPage(f *fact) bool {
	folded := f.folded()
	if isAbout(folded) {
		return false
	}
	for _, phrase := range c.phrases {
		at := strings.Index(folded, phrase)
		if at < 0 {
			continue
		}
		end := at + len(phrase) - 1
		if !strings.HasSuffix(phrase, " ") { // the word goes on
			end += strings.IndexByte(folded[end:], ' ')
		}
		if rest := folded[end:]; at == 0 && !strings.HasPrefix(rest, " to ") || tellsNothing(rest) {
			return true
		}
	}
	return false
}

// tellsNothing reports whether all words of a folded text are words of pages, makers, or numbers of types.
func tellsNothing(folded string) bool {
	for word := range strings.FieldsSeq(folded) {
		if !pageWords[word] && !strings.ContainsAny(word, digits) && len(publicBrands().byFirst[word]) == 0 {
			return false
		}
	}
	return true
}

// isWeak reports whether a rule rests on a text that may be about something else: on a page about products, or, where any text would do, on a keeper's words
// or a page that is not named so.
func (r *Rule) isWeak(f *fact, votes []vote) bool {
	lead, phrased := &r.When[0], len(r.When[0].phrases) > 0
	switch f.about.By {
	case evidence.TheKeeper:
		return lead.anyText && !beginsWithMaker(f, votes)
	case evidence.ThePage:
		return isAbout(f.folded()) || lead.anyText && phrased && !lead.namesPage(f)
	}
	return false
}

// recordNames are the names of the pairs in records of services that give what a product is called.
var recordNames = []string{"ty", "product", "usb_mdl", "md", "model", "am", "mdl", "modelname", "name"}

// productText gives where in a fact names of products are looked for, and whose words it is in; ok is false where they are not.
func productText(f *fact) (from int, by evidence.Author, ok bool) {
	if len(f.lower) != len(f.Value) {
		return 0, 0, false
	}
	switch f.Key {
	case evidence.KeyMDNSText:
		at := strings.IndexByte(f.lower, ' ')
		is := strings.IndexByte(f.lower, '=')
		if at < 0 || is < at || !slices.Contains(recordNames, f.lower[at+1:is]) {
			return 0, 0, false
		}
		return is + 1, evidence.TheMaker, true
	case evidence.KeyWSDScope:
		for _, scope := range []string{"/hardware/", "/name/"} {
			if at := strings.Index(f.lower, scope); at >= 0 {
				return at + len(scope), evidence.TheMaker, true
			}
		}
		return 0, 0, false
	}
	return 0, f.about.By, f.about.Describes || f.about.By == evidence.TheHost
}
