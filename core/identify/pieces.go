package identify

import (
	"regexp"
	"regexp/syntax"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"
)

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
