package corpus

import (
	"testing"

	"airdrift/core/identify"
)

// TestHeldBackHalf measures on the half that no rule was written by.
func TestHeldBackHalf(t *testing.T) {
	cases, err := Load()
	if err != nil {
		t.Fatal(err)
	}
	if len(cases) < 300 {
		t.Errorf("there are %d cases, want 300 at least", len(cases))
	}
	names := map[string]bool{}
	for _, c := range cases {
		if names[c.Name] {
			t.Errorf("there are two cases %q", c.Name)
		}
		names[c.Name] = true
		for _, item := range c.Items() {
			if item.Source == "" {
				t.Errorf("%s: the fact %q has no source", c.Name, item.Key)
			}
		}
	}
	engine := identify.New(identify.Default(), nil)
	held := Measure(engine, cases, Case.Held)
	tuned := Measure(engine, cases, func(c Case) bool { return !c.Held() })
	if held.Cases < len(cases)/3 || tuned.Cases < len(cases)/3 {
		t.Errorf("the halves are %d and %d", held.Cases, tuned.Cases)
	}
	for _, wrong := range tuned.Wrong {
		t.Log("tuned: ", wrong)
	}
	for _, wrong := range held.Wrong {
		t.Log("held: ", wrong)
	}
	all := held.All()
	t.Logf("held: precision %.3f, recall %.3f; tuned: precision %.3f, recall %.3f", all.Precision(), all.Recall(), tuned.All().Precision(), tuned.All().Recall())
	// An engine that says nothing is never wrong; it has to speak as well.
	if all.Recall() < 0.94 {
		t.Errorf("recall on the half that is held back is %.3f, want 0.94", all.Recall())
	}
	if all.Precision() < 0.97 {
		t.Errorf("precision on the half that is held back is %.3f, want 0.97", all.Precision())
	}
}
