package identify

import "strings"

// Attribute is what a claim is about.
type Attribute string

// The attributes that code speaks of by name.
const (
	Kind     Attribute = "kind"
	Vendor   Attribute = "vendor"
	Model    Attribute = "model"
	OS       Attribute = "os"
	Firmware Attribute = "firmware"
	Serial   Attribute = "serial"
	Name     Attribute = "name"
	Location Attribute = "location"
)

// Attributes holds all attributes in the order in which they are shown. What a rule may tell stands here; how it is listed, filtered and compared stands in the
// catalogue of fields (core/inventory).
var Attributes = []Attribute{Kind, Vendor, Model, OS, Firmware, Serial, Name, Location}

// Stays reports whether an attribute stays with a device, so that another value at the next visit is a change. A serial number tells devices apart:
// where it is another one, so is the device.
func (a Attribute) Stays() bool { return a != Serial }

// Same reports whether two values of an attribute mean the same.
func (a Attribute) Same(one, other string) bool {
	switch a {
	case Name:
		return SameName(one, other)
	case OS:
		return SameSystem(one, other)
	case Location:
		return strings.EqualFold(strings.Join(strings.Fields(one), " "), strings.Join(strings.Fields(other), " "))
	}
	return one == other
}

// SameName compares host names: capitals aside, and by the first label where one of them has no domain.
func SameName(a, b string) bool {
	if strings.EqualFold(a, b) {
		return true
	}
	firstA, _, qualifiedA := strings.Cut(a, ".")
	firstB, _, qualifiedB := strings.Cut(b, ".")
	return qualifiedA != qualifiedB && strings.EqualFold(firstA, firstB)
}
