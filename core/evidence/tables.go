package evidence

import (
	"encoding/json"
)

// Interface is one interface of a device, the value of snmp.interface (RFC 2863).
type Interface struct {
	Index int    `json:"index"`
	Name  string `json:"name"`
	Alias string `json:"alias,omitempty"` // what its keeper calls it
	MAC   string `json:"mac,omitempty"`
	Type  int    `json:"type,omitempty"`  // IANAifType
	Speed uint64 `json:"speed,omitempty"` // bits a second
	Up    bool   `json:"up"`
	Off   bool   `json:"off,omitempty"` // switched off by its keeper
	In    uint64 `json:"in,omitempty"`  // bytes since the device started
	Out   uint64 `json:"out,omitempty"`
}

// Part is one physical part of a device, the value of snmp.part (RFC 6933, entPhysicalTable).
type Part struct {
	Class    string `json:"class"` // chassis, module, power supply, ...
	Name     string `json:"name,omitempty"`
	Text     string `json:"text,omitempty"`
	Maker    string `json:"maker,omitempty"`
	Model    string `json:"model,omitempty"`
	Serial   string `json:"serial,omitempty"`
	Hardware string `json:"hardware,omitempty"`
	Firmware string `json:"firmware,omitempty"`
	Software string `json:"software,omitempty"`
}

// maxCell is the longest text of one field of a row, in bytes, so that a row fits a value.
const maxCell = 96

// Cell makes a field of a row out of bytes a device sent.
func Cell(raw []byte) string {
	if len(raw) > maxCell {
		raw = raw[:maxCell]
	}
	return Clean(raw)
}

// Row writes a row of a table as a value.
func Row(row any) string {
	text, err := json.Marshal(row)
	if err != nil || len(text) > MaxValue {
		return ""
	}
	return string(text)
}

// Rows reads the rows of one key; those that cannot be read are left out.
func Rows[T any](items []Item, key string) []T {
	var rows []T
	for _, item := range items {
		var row T
		if item.Key == key && json.Unmarshal([]byte(item.Value), &row) == nil {
			rows = append(rows, row)
		}
	}
	return rows
}

// counts are the counters of an interface, which go on between two visits.
type counts struct{ in, out uint64 }

func (c counts) any() bool { return c.in != 0 || c.out != 0 }

// withoutCounters gives the value of a fact with the counters of an interface taken out of it.
func withoutCounters(it Item) (string, counts) {
	var row Interface
	if it.Key != KeySNMPInterface || json.Unmarshal([]byte(it.Value), &row) != nil {
		return it.Value, counts{}
	}
	c := counts{row.In, row.Out}
	row.In, row.Out = 0, 0
	// What another program wrote in another form stays as it is: it could not be put back.
	if steady := Row(row); c.any() && withCounters(steady, c) == it.Value {
		return steady, c
	}
	return it.Value, counts{}
}

// withCounters puts the counters back into the value of an interface.
func withCounters(value string, c counts) string {
	var row Interface
	if json.Unmarshal([]byte(value), &row) != nil {
		return value
	}
	row.In, row.Out = c.in, c.out
	return Row(row)
}
