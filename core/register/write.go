package register

import (
	"encoding/csv"
	"io"
	"maps"
	"slices"
	"strings"
)

// Columns are the headings of an exported register; Read knows them all.
var Columns = []string{"name", "mac", "address", "vendor", "model", "kind", "location", "responsible", "note"}

// Write writes a register as CSV that Read reads back. Texts that a spreadsheet would take for a formula get a mark that
// makes them text, which Read takes away again.
func Write(out io.Writer, entries []Entry) error {
	extra := extraColumns(entries)
	lines := csv.NewWriter(out)
	if err := lines.Write(slices.Concat(Columns, extra)); err != nil {
		return err
	}
	for _, e := range entries {
		addr := ""
		if e.Addr.IsValid() {
			addr = e.Addr.String()
		}
		record := []string{e.Name, e.MAC.String(), addr, e.Vendor, e.Model, e.Kind, e.Location, e.Responsible, e.Note}
		for _, column := range extra {
			record = append(record, e.Extra[column])
		}
		for i, text := range record {
			record[i] = NoFormula(text)
		}
		if err := lines.Write(record); err != nil {
			return err
		}
	}
	lines.Flush()
	return lines.Error()
}

// extraColumns gives the headings of the site's own, in order.
func extraColumns(entries []Entry) []string {
	names := map[string]bool{}
	for _, e := range entries {
		for name := range e.Extra {
			names[name] = true
		}
	}
	return slices.Sorted(maps.Keys(names))
}

// formulaStarts are what a spreadsheet takes for the beginning of a formula.
const formulaStarts = "=+-@\t\r"

// NoFormula marks a text that a spreadsheet would take for a formula, so that it stays text.
func NoFormula(text string) string {
	if text != "" && strings.ContainsRune(formulaStarts, rune(text[0])) {
		return "'" + text
	}
	return text
}

// plain takes the mark of NoFormula away.
func plain(text string) string {
	if len(text) > 1 && text[0] == '\'' && strings.ContainsRune(formulaStarts, rune(text[1])) {
		return text[1:]
	}
	return text
}
