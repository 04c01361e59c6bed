// Package csvtext writes CSV (RFC 4180) that a spreadsheet shows as it is: what devices and people say is text there and
// never a formula.
package csvtext

import (
	"encoding/csv"
	"io"
	"strings"
)

// formulaStarts are what a spreadsheet takes for the beginning of a formula.
const formulaStarts = "=+-@\t\r"

// Mark puts an apostrophe before a text that a spreadsheet would take for a formula, so that it stays text.
func Mark(text string) string {
	if text != "" && strings.ContainsRune(formulaStarts, rune(text[0])) {
		return "'" + text
	}
	return text
}

// Unmark takes the apostrophe of Mark away.
func Unmark(text string) string {
	if len(text) > 1 && text[0] == '\'' && strings.ContainsRune(formulaStarts, rune(text[1])) {
		return text[1:]
	}
	return text
}

// Write writes headings and rows, every cell of the rows marked.
func Write(out io.Writer, headings []string, rows [][]string) error {
	lines := csv.NewWriter(out)
	if err := lines.Write(headings); err != nil {
		return err
	}
	for _, row := range rows {
		marked := make([]string, len(row))
		for i, cell := range row {
			marked[i] = Mark(cell)
		}
		if err := lines.Write(marked); err != nil {
			return err
		}
	}
	lines.Flush()
	return lines.Error()
}
