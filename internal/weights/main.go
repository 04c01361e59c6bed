// Command weights counts, on the half of the corpus that rules are written by, how often each rule's word was right, and proposes strengths by that. It changes
// nothing: make weights writes the rules with the proposed strengths to build/weights and shows the difference, for a person to take over what convinces.
package main

import (
	"cmp"
	"flag"
	"fmt"
	"io"
	"log"
	"maps"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"airdrift/core/identify"
	"airdrift/core/identify/corpus"
)

func main() {
	rules := flag.String("rules", "core/identify/rules", "directory with the rules")
	target := flag.String("target", "build/weights", "directory to write the proposals to")
	flag.Parse()
	if err := run(*rules, *target, os.Stdout); err != nil {
		log.Fatal(err)
	}
}

func run(rules, target string, out io.Writer) error {
	cases, err := corpus.Load()
	if err != nil {
		return err
	}
	files, err := filepath.Glob(filepath.Join(rules, "*.yaml"))
	if err != nil {
		return err
	}
	familyOf := map[string]string{} // the files of rules and of what they say, by rule and by rule and value
	for _, file := range files {
		data, err := os.ReadFile(file)
		if err != nil {
			return err
		}
		read, err := identify.ReadRules(file, data)
		if err != nil {
			return err
		}
		for _, r := range read {
			familyOf[r.Name] = filepath.Base(file)
			for _, s := range r.Says {
				familyOf[r.Name+" "+s.Value] = filepath.Base(file)
			}
		}
	}
	counted := count(identify.New(identify.Default(), nil), cases, familyOf)
	proposed := propose(counted, familyOf)
	tell(out, counted, proposed, familyOf)
	if err := os.MkdirAll(target, 0o755); err != nil {
		return err
	}
	for _, file := range files {
		if err := rewrite(file, filepath.Join(target, filepath.Base(file)), proposed); err != nil {
			return err
		}
	}
	diff := exec.Command("diff", "-u", rules, target)
	diff.Stdout, diff.Stderr = out, os.Stderr
	if err := diff.Run(); diff.ProcessState == nil || diff.ProcessState.ExitCode() > 1 {
		return err
	}
	return nil
}

// word is what one rule says.
type word struct {
	rule      string
	attribute identify.Attribute
	value     string // "" where it is not the rule's own, but taken from a fact or a table
	strength  int    // in decibans
}

// tally is how often a word was right and wrong.
type tally struct{ right, wrong int }

func (t tally) all() int { return t.right + t.wrong }

// count tallies each word that is said of the cases of the half that rules are written by.
func count(engine *identify.Engine, cases []corpus.Case, familyOf map[string]string) map[word]tally {
	counted := map[word]tally{}
	for _, c := range cases {
		if c.Held() {
			continue
		}
		for _, claim := range engine.Identify(c.Items()) {
			want, asked := c.Is[string(claim.Attribute)]
			if !asked || want == "" || want == identify.Unknown {
				continue
			}
			for _, candidate := range claim.Others {
				for _, reason := range candidate.Reasons {
					w := word{reason.Rule, claim.Attribute, candidate.Value, reason.Strength}
					if familyOf[w.rule+" "+w.value] == "" {
						w.value = ""
					}
					t := counted[w]
					switch {
					case corpus.IsRight(candidate.Value, want):
						t.right++
					case candidate.Besides || candidate.BuiltOn != "" || identify.IsPartOf(want, candidate.Value): // no word against it
						continue
					default:
						t.wrong++
					}
					counted[w] = t
				}
			}
		}
	}
	return counted
}

// How much the counts have to go against what is there: a rule's word is taken for that of so many cases of the strength that it has, and a family of rules'
// for so many; what comes of it is no further from what was there than mostChange.
const (
	rulesOwn     = 12.0
	familysOwn   = 40.0
	leastCounted = 5
	mostChange   = 3
)

// propose gives a strength for each word that was counted often enough, by its family's counts and then its own.
func propose(counted map[word]tally, familyOf map[string]string) map[word]int {
	type sum struct {
		tally
		promised float64
	}
	families := map[string]sum{}
	for w, t := range counted {
		s := families[cmp.Or(familyOf[w.rule], w.rule)]
		s.right, s.wrong = s.right+t.right, s.wrong+t.wrong
		s.promised += float64(t.all()) * probability(float64(w.strength))
		families[cmp.Or(familyOf[w.rule], w.rule)] = s
	}
	proposed := map[word]int{}
	for w, t := range counted {
		if t.all() < leastCounted {
			continue
		}
		f := families[cmp.Or(familyOf[w.rule], w.rule)]
		mean := f.promised / float64(f.all())
		shift := shrunk(f.tally, mean, familysOwn) - decibans(mean)
		before := float64(w.strength)
		after := math.Round(shrunk(t, probability(before+shift), rulesOwn))
		after = max(before-mostChange, min(before+mostChange, after))
		if change := int(after) - w.strength; change != 0 {
			proposed[w] = max(1, min(30, int(after)))
		}
	}
	return proposed
}

// shrunk gives the odds, in decibans, of counts that so many cases of a known share are added to.
func shrunk(t tally, share, weight float64) float64 {
	return decibans((float64(t.right) + weight*share) / (float64(t.all()) + weight))
}

func decibans(share float64) float64 { return 10 * math.Log10(share/(1-share)) }

func probability(decibans float64) float64 {
	odds := math.Pow(10, decibans/10)
	return odds / (1 + odds)
}

// tell prints what was counted of each family, and of each word for which another strength is proposed.
func tell(out io.Writer, counted map[word]tally, proposed map[word]int, familyOf map[string]string) {
	families := map[string]tally{}
	for w, t := range counted {
		name := cmp.Or(familyOf[w.rule], w.rule)
		families[name] = tally{families[name].right + t.right, families[name].wrong + t.wrong}
	}
	fmt.Fprintln(out, "family of rules          right  wrong")
	for _, name := range slices.Sorted(maps.Keys(families)) {
		fmt.Fprintf(out, "%-24s %5d %6d\n", name, families[name].right, families[name].wrong)
	}
	fmt.Fprintln(out, "\nrule                           attribute  value                    right  wrong   now  proposed")
	for _, w := range slices.SortedFunc(maps.Keys(proposed), func(a, b word) int {
		return cmp.Or(cmp.Compare(a.rule, b.rule), cmp.Compare(a.attribute, b.attribute), cmp.Compare(a.value, b.value), a.strength-b.strength)
	}) {
		fmt.Fprintf(out, "%-30s %-10s %-24.24s %5d %6d %5d %9d\n", w.rule, w.attribute, w.value, counted[w].right, counted[w].wrong, w.strength, proposed[w])
	}
}

var (
	ruleLine      = regexp.MustCompile(`^  - rule: (\S+)`)
	statementForm = regexp.MustCompile(`\{attribute: (\w+), value: ([^{}]*(?:\$\{\d\})?[^{}]*), strength: (\d+)\}`)
)

// rewrite writes a file of rules with the proposed strengths.
func rewrite(from, to string, proposed map[word]int) error {
	data, err := os.ReadFile(from)
	if err != nil {
		return err
	}
	rule := ""
	var text strings.Builder
	for line := range strings.Lines(string(data)) {
		if found := ruleLine.FindStringSubmatch(line); found != nil {
			rule = found[1]
		}
		text.WriteString(statementForm.ReplaceAllStringFunc(line, func(statement string) string {
			parts := statementForm.FindStringSubmatch(statement)
			for w, strength := range proposed {
				own := identify.VendorName(strings.Trim(parts[2], `"`)) == identify.VendorName(w.value) || w.value == "" && strings.Contains(parts[2], "${")
				if own && w.rule == rule && string(w.attribute) == parts[1] && fmt.Sprint(w.strength) == parts[3] {
					return strings.Replace(statement, "strength: "+parts[3], fmt.Sprintf("strength: %d", strength), 1)
				}
			}
			return statement
		}))
	}
	return os.WriteFile(to, []byte(text.String()), 0o644)
}
