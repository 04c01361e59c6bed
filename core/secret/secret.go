// Package secret keeps what must not be told: a Text shows itself to nobody who prints, logs or encodes it.
package secret

import (
	"fmt"
	"log/slog"
)

// shown is what is printed in a secret's place.
const shown = "(secret)"

// Text is a password, a key or a community. Every usual way out gives "(secret)"; Reveal alone gives the text.
type Text struct{ text string }

// New takes a text in keeping.
func New(text string) Text { return Text{text} }

// Reveal gives the text, for the exchange it is meant for and for sealing.
func (t Text) Reveal() string { return t.text }

// IsZero reports whether there is no text.
func (t Text) IsZero() bool { return t.text == "" }

// String hides the text.
func (t Text) String() string {
	if t.IsZero() {
		return ""
	}
	return shown
}

// GoString hides the text from %#v.
func (t Text) GoString() string { return t.String() }

// Format hides the text from every verb.
func (t Text) Format(f fmt.State, _ rune) { fmt.Fprint(f, t.String()) }

// MarshalText hides the text from JSON, YAML and the rest.
func (t Text) MarshalText() ([]byte, error) { return []byte(t.String()), nil }

// LogValue hides the text from logs.
func (t Text) LogValue() slog.Value { return slog.StringValue(t.String()) }
