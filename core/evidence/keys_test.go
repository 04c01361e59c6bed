package evidence

import (
	"os"
	"regexp"
	"strings"
	"testing"
)

// TestEveryKeyIsDocumented holds the list of keys against the document that explains them.
func TestEveryKeyIsDocumented(t *testing.T) {
	code, err := os.ReadFile("keys.go")
	if err != nil {
		t.Fatal(err)
	}
	doc, err := os.ReadFile("../../docs/evidence.md")
	if err != nil {
		t.Fatal(err)
	}
	keys := regexp.MustCompile(`(?m)^\tKey\w+ +(?:Source )?= "([a-z]+\.[A-Za-z-]+)"`).FindAllStringSubmatch(string(code), -1)
	if len(keys) < 100 {
		t.Fatalf("only %d keys were found", len(keys))
	}
	for _, key := range keys {
		if !strings.Contains(string(doc), "`"+key[1]+"`") {
			t.Errorf("docs/evidence.md does not tell of %s", key[1])
		}
	}
}
