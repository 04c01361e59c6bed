package register

import (
	"io"
	"maps"
	"slices"

	"airdrift/core/csvtext"
)

// Columns are the headings of an exported register; Read knows them all.
var Columns = []string{"name", "mac", "address", "vendor", "model", "kind", "location", "responsible", "note"}

// Write writes a register as CSV that Read reads back. Texts that a spreadsheet would take for a formula get a mark that
// makes them text, which Read removes again.
func Write(out io.Writer, entries []Entry) error {
	extra := extraColumns(entries)
	rows := make([][]string, len(entries))
	for i, e := range entries {
		record := columnsOf(e)
		for _, column := range extra {
			record = append(record, e.Extra[column])
		}
		rows[i] = record
	}
	return csvtext.Write(out, slices.Concat(Columns, extra), rows)
}

// columnsOf gives what an entry has in Columns.
func columnsOf(e Entry) []string {
	addr := ""
	if e.Addr.IsValid() {
		addr = e.Addr.String()
	}
	return []string{e.Name, e.MAC.String(), addr, e.Vendor, e.Model, e.Kind, e.Location, e.Responsible, e.Note}
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
