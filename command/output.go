package command

import (
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strings"
	"time"
	"unicode"

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
		encoder := json.NewEncoder(w)
		encoder.SetIndent("", "  ")
		return encoder.Encode(value)
	case "csv":
		return csvtext.Write(w, g.headings, g.rows)
	}
	return writeTable(w, g)
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
