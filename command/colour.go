package command

import (
	"fmt"
	"io"
	"os"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"golang.org/x/term"
)

// tones are the colours of words that mean something good, something to look at, something bad or something under way. They say nothing that the word does not.
var tones = map[string]text.Color{
	"managed": text.FgGreen, "unmanaged": text.FgYellow, "missing": text.FgRed, "set aside": text.Faint,
	"running": text.FgCyan, "done": text.FgGreen, "stopped": text.FgYellow, "interrupted": text.FgYellow, "failed": text.FgRed,
	"silent": text.FgYellow, "uncovered": text.Faint,
	"open": text.FgYellow, "expired": text.FgRed,
	"appeared": text.FgGreen, "vanished": text.FgRed, "moved": text.FgYellow, "changed": text.FgYellow,
}

// toned are the headings of columns whose words have a tone; a device's name is never taken for one.
var toned = map[string]bool{"Standing": true, "State": true, "Presence": true, "What": true, "Does": true}

// isTerminal reports whether what is written is read by somebody at once.
func isTerminal(w io.Writer) bool {
	file, ok := w.(*os.File)
	return ok && term.IsTerminal(int(file.Fd()))
}

// colourful reports whether colours may be written: to a terminal that has them, unless whoever uses it wants none (https://no-color.org).
func colourful(w io.Writer) bool {
	return isTerminal(w) && os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb"
}

// paintRow colours the words of a row that have a tone.
func paintRow(headings []string, row table.Row) {
	for i := range row {
		word := fmt.Sprint(row[i])
		if colour, known := tones[word]; known && i < len(headings) && toned[headings[i]] {
			row[i] = colour.EscapeSeq() + word + text.EscapeReset
		}
	}
}
