// Package plain writes what devices and people say so that whatever shows it does nothing but show it.
package plain

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Text makes control and format characters, and bytes that are no text, visible as escapes, such as \x1b; lines keeps ends of lines.
func Text(s string, lines bool) string {
	clean := func(r rune) bool { return unicode.IsPrint(r) || lines && r == '\n' }
	if utf8.ValidString(s) && strings.IndexFunc(s, func(r rune) bool { return !clean(r) }) < 0 {
		return s
	}
	var b strings.Builder
	for i, r := range s {
		switch {
		case r == utf8.RuneError && !strings.HasPrefix(s[i:], string(utf8.RuneError)):
			fmt.Fprintf(&b, `\x%02x`, s[i])
		case clean(r):
			b.WriteRune(r)
		case r < 0x100:
			fmt.Fprintf(&b, `\x%02x`, r)
		default:
			fmt.Fprintf(&b, `\u%04x`, r)
		}
	}
	return b.String()
}
