package main

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// The counts move a strength towards themselves, no further than is allowed, and the less the fewer they are.
func TestProposals(t *testing.T) {
	often, seldom, wrong, few := word{"often", "kind", "camera", 8}, word{"seldom", "kind", "camera", 8}, word{"wrong", "kind", "camera", 12}, word{"few", "kind", "camera", 8}
	counted := map[word]tally{often: {200, 0}, seldom: {6, 1}, wrong: {5, 10}, few: {4, 0}}
	files := map[string]string{"often": "a.yaml", "seldom": "b.yaml", "wrong": "c.yaml", "few": "a.yaml"}
	proposed := propose(counted, files)
	if proposed[often] != 8+mostChange || proposed[wrong] != 12-mostChange {
		t.Errorf("%v: want %d and %d for what was right and wrong often", proposed, 8+mostChange, 12-mostChange)
	}
	if strength, has := proposed[seldom]; has && (strength < 7 || strength > 9) {
		t.Errorf("seven cases of which one is wrong give %d, want about 8", strength)
	}
	if _, has := proposed[few]; has {
		t.Error("there is a proposal by four cases")
	}
	for range 20 {
		if again := propose(counted, files); len(again) != len(proposed) || again[often] != proposed[often] || again[wrong] != proposed[wrong] {
			t.Fatalf("another run proposes %v, and the first %v", again, proposed)
		}
	}
}

func TestProposalsAreWrittenBesideTheRules(t *testing.T) {
	target := t.TempDir()
	var out, again bytes.Buffer
	rules := filepath.Join("..", "..", "core", "identify", "rules")
	before, err := os.ReadFile(filepath.Join(rules, "voice.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	if err := run(rules, target, &out); err != nil {
		t.Fatal(err)
	}
	if err := run(rules, target, &again); err != nil || withoutTimes(out.String()) != withoutTimes(again.String()) {
		t.Errorf("another run says something else, %v", err)
	}
	after, err := os.ReadFile(filepath.Join(rules, "voice.yaml"))
	if err != nil || !bytes.Equal(before, after) {
		t.Errorf("the rules were changed, %v", err)
	}
	written, err := os.ReadFile(filepath.Join(target, "voice.yaml"))
	if err != nil || bytes.Count(written, []byte("\n")) != bytes.Count(before, []byte("\n")) {
		t.Errorf("the proposal is no file of as many lines, %v", err)
	}
	if err := run(rules, filepath.Join(rules, "voice.yaml", "x"), &out); err == nil {
		t.Error("a directory that cannot be made was no fault")
	}
}

// withoutTimes takes the lines of a difference that name files away: they have times.
func withoutTimes(text string) string {
	var kept []string
	for line := range strings.Lines(text) {
		if !strings.HasPrefix(line, "---") && !strings.HasPrefix(line, "+++") {
			kept = append(kept, line)
		}
	}
	return strings.Join(kept, "")
}
