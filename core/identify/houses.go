package identify

import (
	_ "embed"
	"strings"
	"sync"

	"airdrift/core/evidence"
	"airdrift/core/registry"
)

// Most makers are in no list of ours, and in the IEEE's register. A text that begins with the name of one of them is likely by that maker: devices put
// their makers first.

// plainFile holds the words that registered names begin with and that are words of a language as well, by Debian's wamerican, wngerman, wfrench, wspanish
// and witalian as of 2026-11-27: "Apple" at the beginning of a text may be a fruit.
//
//go:embed data/plain_words.txt
var plainFile string

var plainWords = sync.OnceValue(func() map[string]bool {
	words := wordSet(plainFile)
	for word := range wordSet(`linux unix windows http https ethernet modbus bacnet profinet webserver openssh telnet wifi wlan wireless internet multimedia
		audio video info demo test embedded firmware software hardware android microsoft server client webcam ipcam dante nginx apache lighttpd openwrt freebsd openbsd proxmox debian ubuntu raspbian asterisk kamailio freeswitch grafana docker kodi tasmota`) {
		words[word] = true
	}
	return words
})

// What a text that begins with a registered name says for its holder, in decibans: with all of the name, and with its first word.
const (
	fromWholeName = 7
	fromFirstWord = 6
)

const (
	leastBrand = 4 // signs that the first word of a name has to have
	mostHouses = 6 // second words that registered names may have behind it: more of them are of several companies
	manyNames  = 48
)

// houses finds the holders of registered names by the first words of these.
type houses map[string][]house

// house is a name in the register, as it is written there, and its words.
type house struct{ registered, folded string }

// registeredHouses are the holders of MAC prefixes (IEEE Registration Authority).
var registeredHouses = sync.OnceValue(func() houses {
	all := houses{}
	for _, organisation := range registry.IEEE().Organisations() {
		if folded := fold(organisation); folded != " " {
			first, _, _ := strings.Cut(folded[1:], " ")
			all[first] = append(all[first], house{organisation, folded})
		}
	}
	return all
})

// begin gives whose registered name a folded text begins with, and how strongly that speaks; "" where it begins with none.
func (h houses) begin(folded string) (vendor string, strength int) {
	first, rest, _ := strings.Cut(strings.TrimPrefix(folded, " "), " ")
	of := h[first]
	if len(of) == 0 {
		return "", 0
	}
	plain := plainWords()[first] || len(first) < leastBrand
	second, _, _ := strings.Cut(rest, " ")
	two, longest := " "+first+" "+second+" ", " "+first+" "
	for _, candidate := range of {
		if second == "" || !strings.HasPrefix(candidate.folded, two) {
			continue
		}
		own := foldedOwn(candidate.registered)
		if len(own) > len(longest) && strings.HasPrefix(folded, own) && !(plain && allPlain(own)) {
			vendor, longest = registered(candidate.registered), own
		}
	}
	if vendor != "" {
		return vendor, fromWholeName
	}
	if plain || rest == "" || severalHouses(of) {
		return "", 0
	}
	brand, _, _ := strings.Cut(registered(of[0].registered), " ")
	return registered(brand), fromFirstWord
}

// severalHouses reports whether names that begin with one word are likely of several companies, as they are many.
func severalHouses(of []house) bool {
	if len(of) > manyNames {
		return true
	}
	seconds := map[string]bool{}
	for _, h := range of {
		words := strings.Fields(h.folded)
		if len(words) > 1 && !legalForms[words[1]] {
			seconds[words[1]] = true
		}
	}
	return len(seconds) > mostHouses
}

// allPlain reports whether all words of a name are words of a language.
func allPlain(folded string) bool {
	for word := range strings.FieldsSeq(folded) {
		if !plainWords()[word] && !pageWords[word] {
			return false
		}
	}
	return true
}

// sameHouse reports whether two names of makers are of one house: one is the beginning of the other, as "Sartorius" and "Sartorius Lab Instruments".
func sameHouse(a, b string) bool {
	if len(a) == len(b) || len(a) < leastBrand || len(b) < leastBrand || !strings.EqualFold(a[:leastBrand], b[:leastBrand]) {
		return strings.EqualFold(a, b)
	}
	a, b = fold(a), fold(b)
	first, _, _ := strings.Cut(strings.TrimPrefix(a, " "), " ")
	return (strings.HasPrefix(a, b) || strings.HasPrefix(b, a)) && !plainWords()[first] && len(first) >= leastBrand
}

// houseOf gives the registered maker that a text of a device's own begins with, and how strongly it says so.
func houseOf(f *fact) (vendor string, strength int) {
	folded := trimOpening(f.folded())
	if f.about.By == evidence.TheKeeper || f.about.By == evidence.ThePage && isAbout(folded) {
		return "", 0
	}
	vendor, strength = registeredHouses().begin(folded)
	if f.about.By == evidence.ThePage && strength < fromWholeName && typeBehind(f.Value, 0) == "" { // a page may be a program's; with a type it is a device's
		return "", 0
	}
	return vendor, min(strength, f.about.Names)
}

// openings stand before the words of a greeting.
var openings = []string{" 220 ", " welcome to the ", " welcome to ", " connected ", " ssh 2 0 ", " copyright ", " c ", " the "}

// trimOpening takes what greetings open with off a folded text.
func trimOpening(folded string) string {
	for _, opening := range openings {
		if rest, has := strings.CutPrefix(folded, opening); has {
			folded = " " + rest
		}
	}
	return folded
}
