package report

import (
	"slices"
	"time"

	"airdrift/core/inventory"
)

// deviceTable has devices in a table under a heading.
func (w *writer) deviceTable(key, text string, devices []Device) {
	if len(devices) == 0 {
		return
	}
	w.heading(1, w.say(key))
	w.text(text)
	fields := inventory.ShownIn(inventory.Report)
	t := &table{name: w.say(key), columns: columnsOf(fields)}
	about := ""
	switch {
	case slices.ContainsFunc(devices, func(d Device) bool { return d.Aside != "" }):
		about = "reason"
	case slices.ContainsFunc(devices, func(d Device) bool { return d.Text("responsible") != "" }):
		about = "responsible"
	}
	if about != "" {
		t.columns = append(t.columns, column{about, 1.6})
	}
	for _, d := range devices {
		row := w.cells(d, fields)
		switch about {
		case "reason":
			row = append(row, d.Aside)
		case "responsible":
			row = append(row, d.Text("responsible"))
		}
		t.rows = append(t.rows, row)
	}
	w.add(block{table: t})
}

// extracted has the devices of an extract with what their keeper wants to know.
func (w *writer) extracted() {
	w.heading(1, w.say("devices"))
	fields := inventory.ShownIn(inventory.Extract)
	t := &table{name: w.say("devices"), columns: append(columnsOf(fields), column{"wanted", 1.1})}
	for _, d := range w.Devices {
		t.rows = append(t.rows, append(w.cells(d, fields), d.Wanted))
	}
	w.add(block{table: t})
}

func columnsOf(fields []*inventory.Field) []column {
	columns := make([]column, len(fields))
	for i, f := range fields {
		columns[i] = column{f.Name, f.Weight()}
	}
	return columns
}

// cells gives the fields of a device for reading: of several addresses the first, and of times the day.
func (w *writer) cells(d Device, fields []*inventory.Field) []any {
	row := make([]any, len(fields))
	for i, f := range fields {
		switch value := d.Values[f.Name].(type) {
		case []string:
			row[i] = list(value)
		case time.Time:
			row[i] = date(value)
		default:
			row[i] = f.Text(value)
		}
		switch {
		case f.Name == "standing":
			row[i] = w.words.Standings[d.Text(f.Name)]
		case f.Name == "mac":
			row[i] = list(d.MACs)
		case f.Type == inventory.Time && row[i] == "":
			row[i] = date{}
		}
	}
	return row
}
