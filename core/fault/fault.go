// Package fault says what is wrong in a file that somebody wrote, where, and what to do about it.
package fault

import (
	"fmt"
	"strings"
)

// Fault is one thing wrong in a file.
type Fault struct {
	Line   int    `json:"line"`            // from 1; 0 where the whole file is meant
	Column int    `json:"column"`          // from 1: a character in YAML, a field in CSV; 0 where the whole line is meant
	Field  string `json:"field,omitempty"` // the name of the field, as the file has it
	Why    string `json:"why"`             // what is wrong and what to write instead
}

// String gives "line 3, column 5 (mac): why".
func (f Fault) String() string {
	var place strings.Builder
	if f.Line > 0 {
		fmt.Fprintf(&place, "line %d", f.Line)
	}
	if f.Column > 0 {
		fmt.Fprintf(&place, ", column %d", f.Column)
	}
	if f.Field != "" {
		fmt.Fprintf(&place, " (%s)", f.Field)
	}
	if place.Len() == 0 {
		return f.Why
	}
	return strings.TrimPrefix(place.String(), " ") + ": " + f.Why
}

// MaxListed is how many faults a List keeps; of the rest only their number is told.
const MaxListed = 100

// List is all that is wrong in one file. It is an error when it is not empty; see Err.
type List struct {
	Name   string  // the file's name, where it has one
	Faults []Fault // the first MaxListed
	More   int     // how many more there were

	lines, lastLine int
}

// Add notes one more fault.
func (l *List) Add(f Fault) {
	if f.Line != l.lastLine {
		l.lines, l.lastLine = l.lines+1, f.Line
	}
	if len(l.Faults) == MaxListed {
		l.More++
		return
	}
	l.Faults = append(l.Faults, f)
}

// Count gives the number of faults.
func (l *List) Count() int { return len(l.Faults) + l.More }

// Lines gives the number of lines with faults, where they were noted line by line.
func (l *List) Lines() int { return l.lines }

// Err gives the list as an error, or nil where nothing is wrong.
func (l *List) Err() error {
	if len(l.Faults) == 0 {
		return nil
	}
	return l
}

// Error puts each fault on a line of its own.
func (l *List) Error() string {
	lines := make([]string, 0, len(l.Faults)+2)
	if l.Name != "" {
		lines = append(lines, l.Name+":")
	}
	for _, f := range l.Faults {
		lines = append(lines, f.String())
	}
	if l.More > 0 {
		lines = append(lines, fmt.Sprintf("and %d more", l.More))
	}
	return strings.Join(lines, "\n")
}
