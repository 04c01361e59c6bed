package identify

import (
	"strings"
	"unicode"
)

// legalForms are the words at the end of a company's name that tell its legal form and not who it is.
var legalForms = map[string]bool{
	"inc": true, "incorporated": true, "corp": true, "corporation": true, "co": true, "company": true, "ltd": true,
	"limited": true, "llc": true, "lp": true, "plc": true, "gmbh": true, "ag": true, "kg": true, "mbh": true, "sa": true,
	"sas": true, "sarl": true, "srl": true, "spa": true, "bv": true, "nv": true, "ab": true, "as": true, "oy": true,
	"aps": true, "kk": true, "pty": true, "pte": true, "sdn": true, "bhd": true, "jsc": true, "ooo": true,
	"doo": true, "sro": true, "zoo": true, "spzoo": true, "international": true, "the": true,
}

// VendorName brings a company's name to one form: legal forms at its end are dropped, and a name in capitals alone is
// written as a name. "XEROX CORPORATION" and "Xerox Corp." are both "Xerox".
func VendorName(organisation string) string {
	words := strings.Fields(strings.NewReplacer(",", " ", "(", " ", ")", " ").Replace(organisation))
	for len(words) > 1 && legalForms[letters(words[len(words)-1])] {
		words = words[:len(words)-1]
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
