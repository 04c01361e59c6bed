// Package drift tells where the register and what was observed of a device disagree, field by field.
package drift

import (
	"airdrift/core/inventory"
	"airdrift/core/ledger"
	"airdrift/core/register"
)

// Line is one field in which they disagree.
type Line struct {
	Attribute string // the name of the field, which is a column of the register
	Expected  string // by the register
	Observed  string
	Strength  int  // of the observation, in decibans
	Certain   bool // it was seen on the network itself, which is no matter of belief
}

// certain is the strength of what was seen on the network itself, for who sorts by strength.
const certain = 40

// Of gives the lines of a device. What the register leaves open, and what was not observed, is no disagreement; nor is anything of a device that was
// never seen, which is missing.
func Of(d ledger.Device) []Line {
	if d.Entry == nil || d.FirstSeen.IsZero() {
		return nil
	}
	var lines []Line
	for _, f := range inventory.Drifting() {
		expected, observed := f.Drift.Expected(*d.Entry), f.Drift.Observed(d)
		if expected == "" || observed == "" || f.Drift.Same(d) {
			continue
		}
		line := Line{f.Name, expected, observed, certain, f.Drift.Certain}
		if !line.Certain {
			line.Strength = d.Identity.Strength(f.Drift.Attribute)
		}
		lines = append(lines, line)
	}
	return lines
}

// Take gives the entry as it is with what was observed in the place of what it says of a field.
func Take(e register.Entry, d ledger.Device, attribute string) register.Entry {
	for _, line := range Of(d) {
		if f, _ := inventory.Named(attribute); line.Attribute == attribute {
			f.Drift.Take(&e, d)
		}
	}
	return e
}
