// Package csvtext writes CSV (RFC 4180) that a spreadsheet shows as it is: what devices and people say is text there and
// never a formula.
package csvtext

import (
	"bufio"
	"io"
	"strings"
	"unicode"
	"unicode/utf8"
)

// formulaStarts are what a spreadsheet takes for the beginning of a formula, the wide forms of East Asian ones among them.
const formulaStarts = "=+-@\uff1d\uff0b\uff0d\uff20\u2212"

// separators part cells in the one or the other locale, when a file is opened there. There the quotes that keep a comma in its
// cell do not count, as they do not stand at the beginning: what stands behind such a sign could be a cell of its own.
const separators = ";|\t\r\n"

// isFormula reports whether a spreadsheet takes a text for a formula: by how it begins, white space and quotes left out, for
// some leave them out as well.
func isFormula(text string) bool {
	text = strings.TrimLeftFunc(text, func(r rune) bool { return unicode.IsSpace(r) || unicode.IsControl(r) || r == '"' || r == '\ufeff' })
	first, _ := utf8.DecodeRuneInString(text)
	return text != "" && strings.ContainsRune(formulaStarts, first)
}

// Mark puts an apostrophe before a text that a spreadsheet would take for a formula, so that it stays text. A formula that
// could become a cell of its own, in a locale with another separator, gets a mark where it begins. Unmark removes them.
func Mark(text string) string {
	return eachCell(text, func(cell string) string {
		if wantsMark(cell) {
			return "'" + cell
		}
		return cell
	})
}

// Unmark takes the apostrophes of Mark away.
func Unmark(text string) string {
	return eachCell(text, func(cell string) string {
		if cell[0] == '\'' && wantsMark(cell) {
			return cell[1:]
		}
		return cell
	})
}

// wantsMark reports whether a cell is a formula, or would be taken for one that is marked already.
func wantsMark(cell string) bool { return isFormula(strings.TrimLeft(cell, "'")) }

// eachCell changes what could become cells, each with the separator behind it.
func eachCell(text string, change func(cell string) string) string {
	var out strings.Builder
	for text != "" {
		end := len(text)
		if i := strings.IndexAny(text, separators); i >= 0 {
			end = i + 1
		}
		out.WriteString(change(text[:end]))
		text = text[end:]
	}
	return out.String()
}

// Write writes headings and rows, every cell marked and quoted, so that no separator of any locale parts it.
func Write(out io.Writer, headings []string, rows [][]string) error {
	lines := bufio.NewWriter(out)
	writeLine(lines, headings)
	for _, row := range rows {
		writeLine(lines, row)
	}
	return lines.Flush() // which gives the first failure
}

func writeLine(lines *bufio.Writer, cells []string) {
	for i, cell := range cells {
		if i > 0 {
			_ = lines.WriteByte(',')
		}
		text := Mark(cell)
		if !isPlain(text) {
			text = `"` + strings.ReplaceAll(text, `"`, `""`) + `"`
		}
		_, _ = lines.WriteString(text)
	}
	_ = lines.WriteByte('\n')
}

// isPlain reports whether a text needs no quotes anywhere.
func isPlain(text string) bool {
	return !strings.ContainsAny(text, separators+`,"`) && !strings.ContainsFunc(text, unicode.IsControl) && !strings.HasPrefix(text, "#") && strings.TrimSpace(text) == text
}
