// Package inventory is the catalogue of what can be said of a device in a list: each field with its name, type, heading and meaning, how it is read from a
// device, whether lists are sorted and filtered by it, what it is compared with, and where it is shown. Filters, queries of the database, files, the API,
// the command line, reports and the console all go by it, so that a new field is spelled here and nowhere else.
package inventory

import (
	"slices"
	"time"

	"airdrift/core/identify"
	"airdrift/core/ledger"
	"airdrift/core/register"
)

// Type is what the values of a field are.
type Type string

// The types there are, each with the Go type of its values.
const (
	Text   Type = "text"   // string; "" for none
	Texts  Type = "texts"  // []string
	Number Type = "number" // int
	Flag   Type = "flag"   // bool
	Time   Type = "time"   // time.Time, UTC; zero for none
)

// Filter is how a list is narrowed by a field.
type Filter string

// The ways there are to narrow a list.
const (
	NoFilter Filter = ""
	OneOf    Filter = "one-of"   // the field has one of some values
	AtLeast  Filter = "at-least" // the field is a number that is not smaller, or a degree that is not lower
	IsSet    Filter = "is-set"   // the flag is set
)

// Search is how a field is found by words.
type Search int

// The ways there are to find a field by words.
const (
	NotSearched Search = iota
	OwnWords           // hardly another device has them
	SharedWords        // many devices have them
)

// Place is somewhere a field is shown where nobody has chosen.
type Place string

// The places there are.
const (
	Terminal Place = "terminal" // the command line's table
	Narrow   Place = "narrow"   // a window as narrow as a phone's
	Medium   Place = "medium"
	Wide     Place = "wide"
	Sheet    Place = "sheet"   // the workbook of an extract
	Extract  Place = "extract" // the page of an extract
	Report   Place = "report"  // the report's tables of devices
)

// Field is one thing that can be said of a device.
type Field struct {
	Name    string // in files, filters, addresses and flags
	JSON    string // in the API, where it is not Name
	Heading string
	Doc     string // what it is; "" where the heading says it
	Type    Type
	Always  bool     // the API gives it also where it is empty
	Choices []string // the only values it has; nil for any

	// Of reads the field from a device; nil for what a list is filtered by alone.
	Of func(ledger.Device) any
	// Listed says that lists have it; what is not is for filters and for the API's lines.
	Listed bool
	// Sorted says that lists can be sorted by it.
	Sorted bool
	Search Search

	Filter Filter
	Asked  string // in filters, where it is not Name
	Only   string // which devices its filter lets through, in words

	// Width is how wide it stands beside others on a page; 1 is a short word. 0 for the usual one.
	Width float64

	// Drift is how the field is held against the register; nil where it is not.
	Drift *Drift
	// Shown are the places where it is shown where nobody has chosen.
	Shown []Place
}

// Param gives the name of the field in filters.
func (f *Field) Param() string {
	if f.Asked != "" {
		return f.Asked
	}
	return f.Name
}

// Key gives the name of the field in the API.
func (f *Field) Key() string {
	if f.JSON != "" {
		return f.JSON
	}
	return f.Name
}

// usualWidth is the width of a field that has none of its own.
const usualWidth = 1.5

// Weight gives how wide the field stands beside others on a page.
func (f *Field) Weight() float64 {
	if f.Width > 0 {
		return f.Width
	}
	return usualWidth
}

// ShownIn reports whether the field is shown in a place where nobody has chosen.
func (f *Field) ShownIn(p Place) bool { return slices.Contains(f.Shown, p) }

// Text gives the value of a device as one text: several separated by spaces where they are addresses, else by commas, and times as RFC 3339 has them.
func (f *Field) Text(value any) string { return textOf(f, value) }

// Drift is how a field is held against the register.
type Drift struct {
	// Expected gives what the register says; "" where it leaves that open.
	Expected func(register.Entry) string
	// Observed gives what was observed, of what is like that which the register says; "" where that is not known.
	Observed func(ledger.Device) string
	// Same reports whether they agree.
	Same func(ledger.Device) bool
	// Take puts what was observed in the place of what the entry says.
	Take func(*register.Entry, ledger.Device)
	// Certain says that it is seen on the network itself, which is no matter of belief.
	Certain bool
	// Attribute is what is believed where it is one.
	Attribute identify.Attribute
}

// Named gives a field by its name.
func Named(name string) (*Field, bool) {
	i := slices.IndexFunc(Fields, func(f *Field) bool { return f.Name == name })
	if i < 0 {
		return nil, false
	}
	return Fields[i], true
}

// where gives the fields for which something holds, in the order of the catalogue.
func where(holds func(*Field) bool) (list []*Field) {
	for _, f := range Fields {
		if holds(f) {
			list = append(list, f)
		}
	}
	return list
}

// Names gives the names of fields.
func Names(fields []*Field) []string {
	names := make([]string, len(fields))
	for i, f := range fields {
		names[i] = f.Name
	}
	return names
}

// Listed gives the fields that lists and files can have as columns.
func Listed() []*Field { return where(func(f *Field) bool { return f.Listed }) }

// Sorted gives the fields that lists can be sorted by.
func Sorted() []*Field { return where(func(f *Field) bool { return f.Sorted }) }

// Filtered gives the fields that lists can be narrowed by.
func Filtered() []*Field { return where(func(f *Field) bool { return f.Filter != NoFilter }) }

// Read gives the fields that are read from devices.
func Read() []*Field { return where(func(f *Field) bool { return f.Of != nil }) }

// Drifting gives the fields that are held against the register.
func Drifting() []*Field { return where(func(f *Field) bool { return f.Drift != nil }) }

// ShownIn gives the fields that are shown in a place where nobody has chosen.
func ShownIn(p Place) []*Field { return where(func(f *Field) bool { return f.ShownIn(p) }) }

// Changing gives the names of what a change of a device may be of.
func Changing() []string {
	var names []string
	for _, a := range identify.Attributes {
		if a.Stays() {
			names = append(names, string(a))
		}
	}
	return append(names, ledger.ChangedMAC, ledger.ChangedPort)
}

// Line is what a list shows of a device: its number, and the value of each field that has one by the field's name.
type Line struct {
	ID     uint64
	Values map[string]any
}

// LineOf reads all fields of a device.
func LineOf(d ledger.Device) Line {
	line := Line{d.ID, make(map[string]any, len(Fields))}
	for _, f := range Fields {
		if f.Of == nil {
			continue
		}
		if value := f.Of(d); !isNone(value) {
			line.Values[f.Name] = value
		}
	}
	return line
}

// Text gives the value of a field of text; "" where it has none.
func (l Line) Text(name string) string { return get[string](l, name) }

// Texts gives the values of a field that has several.
func (l Line) Texts(name string) []string { return get[[]string](l, name) }

// Number gives the value of a field of numbers.
func (l Line) Number(name string) int { return get[int](l, name) }

// Flag reports whether a flag is set.
func (l Line) Flag(name string) bool { return get[bool](l, name) }

// Time gives the value of a field of times; zero where it has none.
func (l Line) Time(name string) time.Time { return get[time.Time](l, name) }

func get[T any](l Line, name string) T {
	value, _ := l.Values[name].(T)
	return value
}

func isNone(value any) bool {
	switch v := value.(type) {
	case string:
		return v == ""
	case []string:
		return len(v) == 0
	case int:
		return v == 0
	case bool:
		return !v
	case time.Time:
		return v.IsZero()
	}
	return value == nil
}
