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
	"airdrift/core/plain"
)

// grid is a result in rows and columns. A heading is what people read, and behind a bar what the column is called in files where that is another name, as in
// "Last seen" and "No|id": those of files are the names that JSON has.
type grid struct {
	headings []string
	rows     [][]cell
}

// cell is one value: as people read it, and as programs do.
type cell struct{ shown, raw string }

// add takes a row of texts and cells.
func (g *grid) add(values ...any) {
	row := make([]cell, len(values))
	for i, value := range values {
		switch v := value.(type) {
		case cell:
			row[i] = v
		default:
			text := fmt.Sprint(v)
			row[i] = cell{text, text}
		}
	}
	g.rows = append(g.rows, row)
}

// at is a time: in the zone of who reads it, and in UTC (RFC 3339).
func at(t *time.Time) cell {
	if t == nil || t.IsZero() {
		return cell{}
	}
	return cell{localTime(t), t.UTC().Format(time.RFC3339)}
}

// to the second, where that tells things apart.
func atSecond(t time.Time) cell {
	return cell{t.Local().Format(time.DateTime), t.UTC().Format(time.RFC3339)}
}

// several is a list: its first value and how many there are besides, and all of them.
func several(values []string) cell { return cell{shortList(values), strings.Join(values, " ")} }

// shownHeadings and rawHeadings give the headings for people, and for programs: the name behind the bar, or the same in one word.
func (g grid) shownHeadings() []string {
	return g.eachHeading(func(shown, _ string) string { return shown })
}

func (g grid) rawHeadings() []string {
	return g.eachHeading(func(shown, raw string) string {
		if raw != "" {
			return raw
		}
		words := strings.Fields(strings.ToLower(shown))
		for i := 1; i < len(words); i++ {
			words[i] = strings.ToUpper(words[i][:1]) + words[i][1:]
		}
		return strings.Join(words, "")
	})
}

func (g grid) eachHeading(name func(shown, raw string) string) []string {
	names := make([]string, len(g.headings))
	for i, heading := range g.headings {
		shown, raw, _ := strings.Cut(heading, "|")
		names[i] = name(shown, raw)
	}
	return names
}

// write puts a result out in the form that was asked for; value is the API's own shape of it, for JSON.
func write(w io.Writer, form string, g grid, value any) error {
	switch form {
	case "json":
		return writeJSON(w, value)
	case "csv":
		rows := make([][]string, len(g.rows))
		for i, row := range g.rows {
			for _, c := range row {
				rows[i] = append(rows[i], c.raw)
			}
		}
		return csvtext.Write(forTerminal(w), g.rawHeadings(), rows)
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
	if isTerminal(w) {
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

// widestCell is how many characters of one value a table on a terminal shows.
const widestCell = 40

// writeTable writes a result for people.
func writeTable(w io.Writer, g grid) error {
	_, err := fmt.Fprintln(w, tableText(g, terminalWidth(w), colourful(w)))
	return err
}

// tableText draws a table that is no wider than a terminal's width; 0 for any width. Columns for which there is no room are left out from the right, and named
// below, where a row over two lines or one cut off would leave a reader to guess.
func tableText(g grid, width int, colours bool) string {
	if len(g.rows) == 0 {
		return "nothing"
	}
	shown := g.shownHeadings()
	rows := []table.Row{toRow(shown)}
	for _, cells := range g.rows {
		row := make([]string, len(cells))
		for i, c := range cells {
			row[i] = c.shown
		}
		rows = append(rows, toRow(row))
	}
	if width > 0 { // one long value must not push others out
		for _, row := range rows {
			for i := range row {
				row[i] = text.Snip(fmt.Sprint(row[i]), widestCell, "…")
			}
		}
	}
	fit := fitting(rows, width)
	if colours {
		for _, row := range rows[1:] {
			paintRow(shown, row)
		}
	}
	t := table.NewWriter()
	t.SetStyle(table.StyleLight)
	t.Style().Options = table.Options{SeparateHeader: true}
	t.Style().Format.Header = text.FormatDefault
	t.Style().Size.WidthMax = width // what even the first columns have no room for is cut off
	t.AppendHeader(rows[0][:fit])
	for _, row := range rows[1:] {
		t.AppendRow(row[:min(fit, len(row))])
	}
	drawn := strings.TrimRight(t.Render(), " ")
	if fit < len(shown) {
		drawn += "\nNo room for: " + strings.Join(shown[fit:], ", ") + ". A wider window or --output csv shows them."
	}
	return drawn
}

// fitting gives how many columns fit into a width, from the left; two at the least.
func fitting(rows []table.Row, width int) int {
	columns := len(rows[0])
	if width <= 0 {
		return columns
	}
	used := 0
	for i := range columns {
		widest := 0
		for _, row := range rows {
			if i < len(row) {
				widest = max(widest, text.StringWidthWithoutEscSequences(fmt.Sprint(row[i])))
			}
		}
		if used += widest + 2; used > width && i >= 2 { // a space on either side
			return i
		}
		used++ // the line between
	}
	return columns
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

// visible writes what a device said so that a terminal does nothing but show it. lines keeps line breaks.
func visible(s string, lines bool) string { return plain.Text(s, lines) }

// localTime writes a time as people in the building read it.
func localTime(t *time.Time) string {
	if t == nil {
		return ""
	}
	return t.Local().Format("2006-01-02 15:04")
}
