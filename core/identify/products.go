package identify

import (
	"regexp"
	"slices"
	"strings"

	"airdrift/core/evidence"
)

// What a name of a family adds in a text of the device's own, in decibans.
const (
	kindFromFamily   = 11
	vendorFromFamily = 10
	modelFromFamily  = 7
	lineFromFamily   = 5 // where the name has no number
	lessFromHost     = 3 // as a host's name may be somebody's
)

// minHostLetters is how many letters of a host's name have to be a product's for it to be taken for one.
const minHostLetters = 3

// familyVotes finds families of products in what a device says of itself.
func familyVotes(votes []vote, facts []fact) []vote {
	for i := range facts {
		f := &facts[i]
		found := productOf(f, votes)
		if found == nil {
			continue
		}
		// What was taken for a maker at the beginning of the text was the product's name.
		votes = slices.DeleteFunc(votes, func(v vote) bool {
			return v.rule == ruleBeginsWithMaker && v.item == &f.Item && v.value != found.of.Maker
		})
		votes = found.speak(votes, &f.Item)
	}
	return votes
}

// product is a product whose name was found in a text.
type product struct {
	of   *family
	by   evidence.Author
	name string // as it stands there, with what belongs to it
}

// productOf finds a product in a fact; nil where it names none, or where the name may be somebody's.
func productOf(f *fact, told []vote) *product {
	from, by, ok := productText(f)
	if !ok {
		return nil
	}
	text := withoutHost(f.Key, f.lower)
	if by == evidence.TheHost {
		text, _, _ = strings.Cut(text, ".")
	} else if f.Key == evidence.KeyMDNSInstance {
		text, _, _ = strings.Cut(text, "._") // the type of its service
	}
	isMaker := func(vendor string) bool {
		return slices.ContainsFunc(told, func(v vote) bool { return v.attribute == Vendor && v.rule != ruleFamily && v.value == vendor })
	}
	var room [maxFamilyWords]wordAt
	words := wordsOf(room[:0], text, from, maxFamilyWords)
	of, at := publicFamilies().find(text, words, isMaker)
	if of == nil || by != evidence.TheMaker && !isProductsName(by, text, at, of, isMaker) {
		return nil
	}
	return &product{of, by, f.Value[at.from:withNumber(text, words, at)]}
}

// speak adds what a product tells of kind, maker, model and version.
func (p *product) speak(votes []vote, item *evidence.Item) []vote {
	because := "The name is that of a family of products of " + p.of.Maker + "."
	say := func(strength int) int { return strength }
	switch {
	case saysAnother(votes, p.of.Maker, item):
		say = weakened
	case p.by == evidence.TheHost:
		say = func(strength int) int { return strength - lessFromHost }
	}
	byKin := namesKin(votes, p.of.Maker, item)
	votes = append(votes, vote{Kind, p.of.Kind, ruleFamily, because, say(kindFromFamily), item, 0})
	if !byKin {
		votes = append(votes, vote{Vendor, p.of.Maker, ruleFamily, because, say(vendorFromFamily), item, 0})
	}
	if model := p.model(); model != "" {
		strength := modelFromFamily
		if !strings.ContainsAny(model, digits+"- ") { // of the family rather than of one of it
			strength = lineFromFamily
		}
		if p.by == evidence.TheHost {
			strength -= lessFromHost
		}
		votes = append(votes, vote{Model, model, ruleFamily, because, strength, item, 0})
	}
	if version := versionBehind.FindStringSubmatch(p.name); version != nil && version[1] != "" && p.by == evidence.TheMaker {
		votes = append(votes, vote{Firmware, version[1], ruleVersion, "It stands behind the product's name without a gap.", versionWithWord, item, 0})
	}
	return votes
}

// model gives the product's name without a version, and without what tells one piece from another; "" where it is but its maker's name.
func (p *product) model() string {
	model := strings.Trim(versionBehind.ReplaceAllString(p.name, ""), ".:!*")
	if p.by == evidence.TheHost || p.by == evidence.TheKeeper {
		model = addressBehind.ReplaceAllString(model, "$1")
	}
	if strings.EqualFold(model, p.of.Maker) || !strings.ContainsAny(model, digits) && sameHouse(model, p.of.Maker) {
		return ""
	}
	return model
}

// namesKin reports whether a text names another house of the maker's kin: it knows better under which name its device was made.
func namesKin(told []vote, maker string, item *evidence.Item) bool {
	return slices.ContainsFunc(told, func(v vote) bool {
		return v.attribute == Vendor && v.item == item && v.rule == ruleNamesMaker && v.value != maker && areKin(v.value, maker)
	})
}

// sure is how strongly a device has to say who made it for the products of others to be told from its own by that, in decibans.
const sure = 11

// saysAnother reports whether a device says for sure, or in the same text, that another made it than the maker of a family: its product is then one that has the
// same name.
func saysAnother(told []vote, maker string, item *evidence.Item) bool {
	another := false
	for i := range told {
		if v := &told[i]; v.attribute == Vendor && v.rule != ruleMACPrefix && v.rule != ruleFamily {
			if v.value == maker || areKin(v.value, maker) {
				return false
			}
			another = another || v.strength >= sure || v.item == item && v.rule == ruleNamesMaker
		}
	}
	return another
}

// isProductsName reports whether the name of a family that stands in somebody's words is what the device was called at the factory: a host's begins with
// it and has letters and numbers, what its keeper sees begins with it or with its maker, and a page is not about products.
func isProductsName(by evidence.Author, text string, at wordAt, of *family, isMaker func(vendor string) bool) bool {
	switch by {
	case evidence.TheHost:
		letters := 0
		for i := at.from; i < at.to; i++ {
			if text[i] >= 'a' && text[i] <= 'z' {
				letters++
			}
		}
		before := strings.TrimRight(text[:at.from], "-_")
		return (before == "" || standsBehind(before, of.Maker)) && (letters >= minHostLetters || isMaker(of.Maker)) && (strings.ContainsAny(text, digits) || at.to == len(text))
	case evidence.TheKeeper:
		return strings.TrimSpace(text[:at.from]) == "" || standsBehind(text[:at.from], of.Maker)
	}
	return !isAbout(fold(text))
}

// versionBehind is a version that stands behind a model's name without a gap, as user agents have it.
var versionBehind = regexp.MustCompile(`[-/_][vV]?\.?(\d+(?:\.\d+)+.*)$|\.(?:com|lan|local)$|-UA(?:/.*)?$`)

// addressBehind is the end of a MAC address, or a number of a piece, behind a model in a name.
var addressBehind = regexp.MustCompile(`^(.*\d.*?)(?:[-_ ][0-9A-Fa-f]{6,12}|(?:-\d{3}){2,})$`)

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
		if plain && taken == 0 && text[w.from:w.to] == "switch" { // as in "ProCurve Switch 2848"
			taken++
			continue
		}
		isPart := plain && taken < 2 && strings.ContainsAny(next, digits) && !strings.ContainsAny(versionBehind.ReplaceAllString(next, ""), "_/:#") && !isVersion(next) || !plain && taken == 0 && sizeForm.MatchString(next)
		if gap := strings.TrimSpace(text[end:w.from]); !isPart || gap != "" && gap != "switch" {
			break
		}
		end, taken = w.to, taken+1
	}
	return end
}
