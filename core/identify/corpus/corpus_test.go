package corpus

import (
	"testing"

	"airdrift/core/identify"
)

// TestCasesAreHardEnough holds what makes the corpus worth measuring by: many cases, poor evidence among them, what must stay unknown, and halves that
// share no maker.
func TestCasesAreHardEnough(t *testing.T) {
	cases, err := Load()
	if err != nil {
		t.Fatal(err)
	}
	names, held := map[string]bool{}, map[string]bool{}
	single, unknown := 0, 0
	for _, c := range cases {
		if names[c.Name] {
			t.Errorf("there are two cases %q", c.Name)
		}
		names[c.Name] = true
		if before, known := held[c.maker()]; known && before != c.Held() {
			t.Errorf("%s: its maker, %s, is in both halves", c.Name, c.maker())
		}
		held[c.maker()] = c.Held()
		if len(c.Facts) == 1 {
			single++
		}
		if c.Is["kind"] == identify.Unknown {
			unknown++
		}
	}
	if len(cases) < 1400 || single < 450 || unknown < 90 {
		t.Errorf("of %d cases %d have one fact and %d must stay unknown, want 1,400, 450, 90", len(cases), single, unknown)
	}
}

// TestHeldBackHalf measures on the half that no rule was written by.
func TestHeldBackHalf(t *testing.T) {
	cases, err := Load()
	if err != nil {
		t.Fatal(err)
	}
	engine := identify.New(identify.Default(), nil)
	held := Measure(engine, cases, Case.Held)
	tuned := Measure(engine, cases, func(c Case) bool { return !c.Held() })
	if held.Cases < len(cases)/5 || tuned.Cases < len(cases)/5 {
		t.Errorf("the halves are %d and %d", held.Cases, tuned.Cases)
	}
	for _, wrong := range tuned.Wrong {
		t.Log("tuned: ", wrong)
	}
	all := held.All()
	t.Logf("held: precision %.3f, recall %.3f; tuned: precision %.3f, recall %.3f", all.Precision(), all.Recall(), tuned.All().Precision(), tuned.All().Recall())
	// An engine that says nothing is never wrong; it has to speak as well.
	for attribute, least := range map[identify.Attribute]struct{ precision, recall float64 }{
		identify.Kind: {0.97, 0.85}, identify.Vendor: {0.95, 0.85}, identify.Model: {0.92, 0.75}, identify.OS: {0.95, 0.90},
	} {
		if s := held.Scores[attribute]; s.Precision() < least.precision || s.Recall() < least.recall {
			t.Errorf("%s on the half that is held back: precision %.3f, recall %.3f; want %.2f, %.2f", attribute, s.Precision(), s.Recall(), least.precision, least.recall)
		}
	}
	for _, b := range held.Calibration {
		promised, right := b.Promised/float64(b.Claims), float64(b.Right)/float64(b.Claims)
		t.Logf("from %d decibans: %.3f promised, %.3f right of %d", b.From, promised, right, b.Claims)
		if right < promised-calibrated || b.From == 10 && right > promised+modest {
			t.Errorf("of the claims from %d decibans %.3f are right, and %.3f are promised", b.From, right, promised)
		}
	}
}

// calibrated is how far the share of claims that are right may be below what their strength promises, and modest how far above: who writes the cases and the
// rules knows both, and devices that nobody here has met are told less well.
const (
	calibrated = 0.03
	modest     = 0.05
)
