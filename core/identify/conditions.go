package identify

import (
	"fmt"

	"airdrift/core/evidence"
	"airdrift/core/yamlfile"
)

// CheckConditions readies conditions that stand at a path of a file for Holds. Faults are noted in the document.
func CheckConditions(doc *yamlfile.Document, path string, all []Condition) {
	for i := range all {
		checkCondition(doc, fmt.Sprintf("%s[%d]", path, i), &all[i])
	}
}

// Holds reports whether all of the first conditions hold for a device, each for some fact, and none of the others. The conditions are
// checked.
func Holds(when, unless []Condition, items []evidence.Item) bool {
	facts := prepare(nil, items)
	for i := range when {
		if !when[i].met(facts) {
			return false
		}
	}
	for i := range unless {
		if unless[i].met(facts) {
			return false
		}
	}
	return true
}
