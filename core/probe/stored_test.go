package probe

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"airdrift/core/evidence"
)

const storedFormFile = "testdata/stored-form.txt"

// Facts are stored by their source, and by whether they pass: where either of a key changed, what is stored would be read as another's, and every device would
// seem to say something else. A key that is new is added to the list with -update; one that is there stays as it is, and one that is no longer told
// stays in the list, as it may be stored still.
func TestStoredFormOfFactsStays(t *testing.T) {
	text, err := os.ReadFile(storedFormFile)
	if err != nil && !*update {
		t.Fatal(err)
	}
	stored := map[string]string{}
	for line := range strings.Lines(string(text)) {
		key, form, _ := strings.Cut(strings.TrimSpace(line), " ")
		stored[key] = form
	}
	for _, f := range evidence.Catalogue() {
		form := fmt.Sprintf("%s %t", f.Source, f.Passing)
		switch was, known := stored[f.Key]; {
		case known && was != form:
			t.Errorf("%s was stored as %q and would be as %q: give it another key", f.Key, was, form)
		case !known && !*update:
			t.Errorf("%s is not in %s: write it anew with -update", f.Key, storedFormFile)
		case !known:
			text = fmt.Appendf(text, "%s %s\n", f.Key, form)
		}
	}
	if *update {
		if err := os.WriteFile(storedFormFile, text, 0o644); err != nil {
			t.Fatal(err)
		}
	}
}
