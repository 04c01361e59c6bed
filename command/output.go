package command

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strings"
	"time"
	"unicode"
	"unicode/utf16"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"golang.org/x/term"

	"airdrift/core/csvtext"
)

// grid is a result in rows and columns.
type grid struct {
	headings []string
	rows     [][]string
}

func (g *grid) add(cells ...string) { g.rows = append(g.rows, cells) }

// write puts a result out in the form that was asked for; value is the API's own shape of it, for JSON.
func write(w io.Writer, form string, g grid, value any) error {
	switch form {
	case "json":
		return writeJSON(w, value)
	case "csv":
		return csvtext.Write(forTerminal(w), g.headings, g.rows)
	}
	return writeTable(w, g)
}

// writeJSON writes characters that do something to a terminal as JSON escapes, which any reader turns back.
func writeJSON(w io.Writer, value any) error {
	text, err := json.MarshalIndent(value, "", "  ")
	if err != nil {
		return err
	}
	var out bytes.Buffer
	for _, r := range string(text) {
		switch {
		case r == '\n' || unicode.IsPrint(r):
			out.WriteRune(r)
		case r < 0x10000:
			fmt.Fprintf(&out, `\u%04x`, r)
		default:
			high, low := utf16.EncodeRune(r)
			fmt.Fprintf(&out, `\u%04x\u%04x`, high, low)
		}
	}
	out.WriteByte('\n')
	_, err = out.WriteTo(w)
	return err
}

// forTerminal gives a writer that shows control characters instead of carrying them out, where w is a terminal; a file gets
// every byte as it is.
func forTerminal(w io.Writer) io.Writer {
	if file, ok := w.(*os.File); ok && term.IsTerminal(int(file.Fd())) {
		return visibleWriter{w}
	}
	return w
}

// visibleWriter makes control characters visible but for ends of lines. Characters that are cut in two by two calls are shown
// as bytes.
type visibleWriter struct{ w io.Writer }

func (v visibleWriter) Write(p []byte) (int, error) {
	if _, err := io.WriteString(v.w, visible(strings.ReplaceAll(string(p), "\t", "  "), true)); err != nil {
		return 0, err
	}
	return len(p), nil
}

func writeTable(w io.Writer, g grid) error {
	if len(g.rows) == 0 {
		_, err := fmt.Fprintln(w, "nothing")
		return err
	}
	t := table.NewWriter()
	t.SetStyle(table.StyleLight)
	t.Style().Options = table.Options{SeparateHeader: true}
	t.Style().Format.Header = text.FormatDefault
	// A row that is cut off reads better than one that runs over two lines.
	t.Style().Size.WidthMax = terminalWidth(w)
	t.AppendHeader(toRow(g.headings))
	for _, cells := range g.rows {
		t.AppendRow(toRow(cells))
	}
	_, err := fmt.Fprintln(w, strings.TrimRight(t.Render(), " "))
	return err
}

// terminalWidth gives the columns of a terminal, and 0 for anything else.
func terminalWidth(w io.Writer) int {
	file, ok := w.(*os.File)
	if !ok {
		return 0
	}
	width, _, err := term.GetSize(int(file.Fd()))
	if err != nil {
		return 0
	}
	return width
}

func toRow(cells []string) table.Row {
	row := make(table.Row, len(cells))
	for i, cell := range cells {
		row[i] = visible(cell, false)
	}
	return row
}

// visible writes what a device said so that a terminal does nothing but show it: control and format characters become
// escapes. lines keeps line breaks.
func visible(s string, lines bool) string {
	clean := func(r rune) bool { return unicode.IsPrint(r) || lines && r == '\n' }
	if strings.IndexFunc(s, func(r rune) bool { return !clean(r) }) < 0 {
		return s
	}
	var b strings.Builder
	for _, r := range s {
		switch {
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

// localTime writes a time as people in the building read it.
func localTime(t *time.Time) string {
	if t == nil {
		return ""
	}
	return t.Local().Format("2006-01-02 15:04")
}
