package wording

import (
	"reflect"
	"strings"
	"testing"
)

// Each language says all that the default one does, and nothing is left empty.
func TestLanguagesAreWhole(t *testing.T) {
	whole := reflect.ValueOf(*In(Default))
	for _, language := range Languages() {
		c := reflect.ValueOf(*In(language))
		for i := range c.NumField() {
			name := c.Type().Field(i).Name
			if c.Field(i).Len() != whole.Field(i).Len() || c.Field(i).Len() == 0 {
				t.Errorf("%s: %s has %d texts, and %s has %d", language, name, c.Field(i).Len(), Default, whole.Field(i).Len())
			}
			if c.Field(i).Kind() != reflect.Map {
				continue
			}
			for _, key := range whole.Field(i).MapKeys() {
				if text := c.Field(i).MapIndex(key); !text.IsValid() || text.IsZero() {
					t.Errorf("%s: %s says nothing for %s", language, name, key)
				}
			}
		}
	}
	if In("xx") != In(Default) {
		t.Error("a language that there is not gives another than the default one")
	}
}

// Each kind of decision is told as what it is, and as taken back where it can be.
func TestDecisionsAreTold(t *testing.T) {
	c := In(Default)
	said := map[string]bool{}
	for _, kind := range []string{"note", "aside", "merge", "split", "pin", "link", "group"} {
		says := c.Decision(kind, "a text")
		if says == "" || said[says] {
			t.Errorf("%s is told as %q, as another is or not at all", kind, says)
		}
		said[says] = true
	}
	if c.Decision("note", "") != "Note deleted" || c.Decision("group", "") != "In no group" || c.Decision("merge", "") != c.Decision("merge", "why") {
		t.Error("what was taken back is not told so")
	}
}

func TestFill(t *testing.T) {
	got := Fill("{a} and {b}, not {c}", map[string]string{"a": "one\ntwo", "b": "{a}"})
	if got != "one two and {a}, not {c}" || strings.Contains(got, "\n") {
		t.Error(got)
	}
}
