package identify

import "strings"

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
