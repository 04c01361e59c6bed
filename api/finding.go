package api

import "time"

// Finding is what a rule remarks of a device, or of several together.
type Finding struct {
	ID        uint64            `json:"id"`
	Rule      string            `json:"rule" doc:"By its name"`
	Severity  string            `json:"severity" enum:"info,low,medium,high,critical"`
	State     string            `json:"state" enum:"open,accepted,closed"`
	Title     string            `json:"title" doc:"What is wrong, in a few words"`
	Says      string            `json:"says" doc:"What is so, in a sentence"`
	Because   string            `json:"because" doc:"What follows of it"`
	Do        string            `json:"do" doc:"What is to be done"`
	About     string            `json:"about,omitempty" doc:"The port, address, name or key that it is about"`
	Evidence  []string          `json:"evidence" nullable:"false" doc:"The facts that it rests on"`
	Devices   []FindingDevice   `json:"devices" nullable:"false" doc:"That it concerns; those that are no more are left out"`
	Since     time.Time         `json:"since" doc:"When it was opened, last"`
	Sweep     uint64            `json:"sweep,omitempty" doc:"The sweep that opened it"`
	Times     int               `json:"times" doc:"How often it was opened"`
	ClosedAt  *time.Time        `json:"closedAt,omitempty"`
	ClosedBy  string            `json:"closedBy,omitempty" enum:"sweep,register,settings,time,device" doc:"By what: a sweep that looked; the register, or what was said of the device; the rules or networks; time that has passed; or the device is no more"`
	Closing   uint64            `json:"closingSweep,omitempty" doc:"The sweep that closed it"`
	Accepted  *Acceptance       `json:"accepted,omitempty"`
	Confirmed *FindingConfirmed `json:"confirmed,omitempty" doc:"Somebody has confirmed that it is so and is to be put right"`
}

// FindingConfirmed says who has confirmed a finding.
type FindingConfirmed struct {
	By string    `json:"by"`
	At time.Time `json:"at"`
}

// FindingDevice is a device that a finding concerns.
type FindingDevice struct {
	ID     uint64 `json:"id"`
	Name   string `json:"name,omitempty"`
	Addr   string `json:"addr,omitempty" doc:"Of one without an address of its own: which unit it is, and behind which address"`
	Kind   string `json:"kind,omitempty"`
	Vendor string `json:"vendor,omitempty"`
	Model  string `json:"model,omitempty"`
}

// Acceptance says who takes a finding upon them, why, and until when.
type Acceptance struct {
	By     string    `json:"by"`
	At     time.Time `json:"at"`
	Reason string    `json:"reason"`
	Until  time.Time `json:"until" doc:"From then on it is open again"`
}

// FindingNumbers name findings.
type FindingNumbers struct {
	Findings []uint64 `json:"findings" minItems:"1" maxItems:"1000" nullable:"false" doc:"By their numbers"`
}

// FindingCount is how many findings of one rule are in one state.
type FindingCount struct {
	Rule     string `json:"rule"`
	Title    string `json:"title"`
	Severity string `json:"severity" enum:"info,low,medium,high,critical"`
	State    string `json:"state" enum:"open,accepted,closed"`
	Findings int    `json:"findings"`
}

// FindingRule is a rule by which a site is judged.
type FindingRule struct {
	Rule     string         `json:"rule" doc:"Its name"`
	Title    string         `json:"title"`
	Because  string         `json:"because"`
	Do       string         `json:"do"`
	Source   string         `json:"source" doc:"The standard it rests on, or the reason"`
	Own      bool           `json:"own" doc:"The site has written it"`
	On       bool           `json:"on"`
	Severity string         `json:"severity" enum:"info,low,medium,high,critical"`
	Usual    string         `json:"usualSeverity" enum:"info,low,medium,high,critical" doc:"Its severity where a site gives it no other"`
	Params   []FindingParam `json:"params" nullable:"false"`
}

// FindingParam is one figure or list that a site can give a rule.
type FindingParam struct {
	Name  string `json:"name"`
	Kind  string `json:"kind" enum:"number,words" doc:"Words are separated by commas"`
	Value string `json:"value"`
	Usual string `json:"usual" doc:"Its value where a site gives it no other"`
	Text  string `json:"text" doc:"What it is, with its unit"`
}

// FindingSetting is what a site says of a rule.
type FindingSetting struct {
	On       bool              `json:"on"`
	Severity string            `json:"severity,omitempty" enum:"info,low,medium,high,critical" doc:"Left out, the rule's own"`
	Params   map[string]string `json:"params,omitempty" doc:"Those left out have their usual values"`
}

// ListText is a list as CSV.
type ListText struct {
	Text      string     `json:"text" maxLength:"2000000" doc:"CSV (RFC 4180) with headings; empty for none"`
	ChangedBy string     `json:"changedBy,omitempty" readOnly:"true"`
	ChangedAt *time.Time `json:"changedAt,omitempty" readOnly:"true"`
}
