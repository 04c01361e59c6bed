// Package finding judges a site: rules look at its devices, at what they share, and at what the register says of them, and remark what is wrong,
// how bad that is, on what evidence, and what is to be done. It is a pure function of what is stored.
package finding

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Severity is how bad a finding is. The zero value is none.
type Severity int

// The severities there are, the mildest first.
const (
	Info     Severity = iota + 1 // worth knowing
	Low                          // to be mended when somebody is there anyway
	Medium                       // to be mended
	High                         // to be mended soon
	Critical                     // to be mended now
)

var severityNames = []string{"", "info", "low", "medium", "high", "critical"}

// Severities are all there are, the worst first.
var Severities = []Severity{Critical, High, Medium, Low, Info}

func (s Severity) String() string {
	if s < 0 || int(s) >= len(severityNames) {
		return fmt.Sprintf("Severity(%d)", int(s))
	}
	return severityNames[s]
}

// ParseSeverity reads the name of a severity.
func ParseSeverity(text string) (Severity, error) {
	at := slices.Index(severityNames, strings.ToLower(text))
	if at < 1 {
		return 0, fmt.Errorf("%q is no severity: want one of %s", text, strings.Join(severityNames[1:], ", "))
	}
	return Severity(at), nil
}

// MarshalText writes the name.
func (s Severity) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

// UnmarshalText reads what MarshalText has written.
func (s *Severity) UnmarshalText(text []byte) (err error) {
	*s, err = ParseSeverity(string(text))
	return err
}

// Remark is what a rule has to say, as things are.
type Remark struct {
	Rule     string
	Severity Severity
	Group    string            // what the devices share, by which they were judged together; "" of one judged alone
	About    string            // what of the device, or what the devices share: a port, an address, a name; "" where the rule says it all
	Devices  []uint64          // that it concerns, in ascending order
	Alone    bool              // it is of its one device, so that another's like it is another finding
	Values   map[string]string // that its text speaks of
	Evidence []string          // the facts that it rests on, in words, at most maxEvidence
}

const (
	// maxEvidence is how many facts a remark names.
	maxEvidence = 8
	// maxAbout is the longest About, in bytes; the rest of a longer one is cut.
	maxAbout = 200
)

// Key tells remarks apart over time: what has the same is the same finding.
type Key struct {
	Rule   string
	Group  string
	About  string
	Device uint64 // of a remark on one device; 0 of what several share
}

// Key gives by what the remark is known again.
func (r Remark) Key() Key {
	k := Key{Rule: r.Rule, Group: r.Group, About: r.About}
	if r.Alone {
		k.Device = r.Devices[0]
	}
	return k
}

// State is how far a finding has come.
type State string

// The states there are.
const (
	Open     State = "open"
	Accepted State = "accepted" // somebody takes it upon them until some day
	Closed   State = "closed"
)

// Why says by what a finding was closed.
type Why string

// The ways there are.
const (
	BySweep    Why = "sweep"    // one looked, and it is no longer so
	ByRegister Why = "register" // the register, or what people say of the device, has changed
	BySettings Why = "settings" // the rules, their parameters or the site's networks have changed
	ByTime     Why = "time"     // it was so up to some day
	ByLeaving  Why = "device"   // the device is no more: it was merged into another, or its sweep was discarded
)

// Acceptance says who takes a finding upon them, why, and until when.
type Acceptance struct {
	By     string
	At     time.Time
	Reason string
	Until  time.Time // the day on which it ends
}

// Confirmation says who has confirmed that a finding is so, and is to be put right.
type Confirmation struct {
	By string
	At time.Time
}

// Finding is a remark with its life.
type Finding struct {
	ID uint64 // 0 until it is stored
	Remark
	State     State
	Since     time.Time // when it was opened, last
	Sweep     uint64    // that opened it, last; 0 where none did
	Times     int       // how often it was opened
	ClosedAt  time.Time // zero of one that is not closed
	ClosedBy  Why
	Closing   uint64 // the sweep that closed it; 0 where none did
	Accepted  *Acceptance
	Confirmed *Confirmation // nil where nobody has; gone when it is opened again
}
