// Package report makes documents of a site for people: the whole of it for its owner, and extracts of some devices for somebody. A report is data;
// pages of HTML, PDF, workbooks and CSV are made of it, all from the same blocks.
package report

import (
	"encoding/json"
	"time"

	"airdrift/core/finding"
	"airdrift/core/inventory"
)

// Report is what is known of a site, or of some of its devices, for a reader. Texts that devices have said are taken as they are; who writes them makes
// them harmless.
type Report struct {
	Site         string         `json:"site"`
	Extract      string         `json:"extract,omitempty"`  // its name, where it is of some devices only
	Audience     string         `json:"audience,omitempty"` // whom it is for
	At           time.Time      `json:"at"`                 // UTC; the day that it shows
	Since        time.Time      `json:"since,omitzero"`     // from when on changes are told
	Made         time.Time      `json:"made"`
	Version      string         `json:"version"` // of the program
	Devices      []Device       `json:"devices"`
	Findings     []Finding      `json:"findings"` // open and accepted ones, the worst first
	Changes      []Change       `json:"changes,omitempty"`
	Completeness []Completeness `json:"completeness,omitempty"`
	Unswept      []string       `json:"unswept,omitempty"` // networks that were not looked through
	Networks     []Network      `json:"networks,omitempty"`
	Sweeps       []Sweep        `json:"sweeps,omitempty"` // the oldest first
	Credentials  []string       `json:"credentials,omitempty"`
}

// Device is one device of a report: its fields, where the address is the unit that it is, and behind which, of one without an address of its own; and
// what a report tells besides.
type Device struct {
	inventory.Line
	Wanted   string // the version of firmware that the site wants on its model
	Note     string
	Aside    string // why it is set aside
	MACs     []string
	Networks []string
	Services []string
	Times    []Times
}

// MarshalJSON writes a device with its fields by their names in the API.
func (d Device) MarshalJSON() ([]byte, error) {
	out := map[string]any{"id": d.ID, "macs": d.MACs, "networks": d.Networks, "services": d.Services, "addresses": d.Texts("address"), "strength": d.Number("strength")}
	for name, text := range map[string]string{"wantedFirmware": d.Wanted, "note": d.Note, "aside": d.Aside} {
		if text != "" {
			out[name] = text
		}
	}
	for _, f := range inventory.ShownIn(inventory.Sheet) {
		if value, has := d.Values[f.Name]; has {
			out[f.Key()] = value
		}
	}
	if len(d.Times) > 0 {
		out["responseTimes"] = d.Times
	}
	return json.Marshal(out)
}

// Times is how long a device took over its answers in one protocol, in milliseconds.
type Times struct {
	Protocol string  `json:"protocol"`
	Answers  int     `json:"answers"`
	Lost     int     `json:"lost"`
	Median   float64 `json:"median"`
	Most     float64 `json:"most"` // the 95th percentile
	Worst    float64 `json:"worst"`
}

// Finding is one finding of a report, in words.
type Finding struct {
	ID       uint64           `json:"id"`
	Rule     string           `json:"rule"`
	Severity finding.Severity `json:"severity"`
	State    string           `json:"state"` // open, accepted or confirmed
	Title    string           `json:"title"`
	Says     string           `json:"says"`
	Because  string           `json:"because"`
	Do       string           `json:"do"`
	Devices  []Named          `json:"devices"`
	Evidence []string         `json:"evidence,omitempty"`
	Since    time.Time        `json:"since"`
	Until    time.Time        `json:"until,omitzero"` // of one that is accepted
	Reason   string           `json:"reason,omitempty"`
}

// Named is a device as it is called.
type Named struct {
	ID   uint64 `json:"id"`
	Name string `json:"name,omitempty"`
	Addr string `json:"address,omitempty"`
}

// Change is what a sweep has found changed.
type Change struct {
	At        time.Time `json:"at"`
	Sweep     uint64    `json:"sweep"`
	Kind      string    `json:"kind"`
	Device    Named     `json:"device"`
	Attribute string    `json:"attribute,omitempty"`
	Before    string    `json:"before,omitempty"`
	After     string    `json:"after,omitempty"`
}

// Completeness is the estimate of what was missed in one network.
type Completeness struct {
	Network string   `json:"network"`
	Subnet  string   `json:"subnet"`
	Sweep   uint64   `json:"sweep"`
	Seen    int      `json:"seen"`
	Told    bool     `json:"told"` // whether there is an estimate
	Missed  float64  `json:"missed"`
	Low     float64  `json:"low"`
	High    float64  `json:"high"`
	Ways    []string `json:"ways"`   // each with how many it has seen
	Advice  []string `json:"advice"` // keys of the catalogue
}

// Network is one network of the fence, with what is at each of its addresses where it has no more of them than are shown.
type Network struct {
	Name    string `json:"name"`
	Subnet  string `json:"subnet"`
	Purpose string `json:"purpose,omitempty"`
	Cells   []Cell `json:"-"` // in order of the addresses
	Block   int    `json:"-"` // how many addresses one cell stands for
}

// Cell is what is at an address: the most telling of what is in it, where it stands for several.
type Cell string

// The states of a cell, the least telling first.
const (
	Free     Cell = "free"
	Dynamic  Cell = "dynamic"  // free, and given out by a DHCP server
	Register Cell = "register" // in the register only
	Silent   Cell = "silent"   // a device was there and did not answer
	Seen     Cell = "seen"
	Conflict Cell = "conflict" // of two devices
)

// Sweep is a sweep as the method tells it.
type Sweep struct {
	ID        uint64    `json:"id"`
	Began     time.Time `json:"began"`
	Ended     time.Time `json:"ended,omitzero"`
	State     string    `json:"state"`
	Vantage   string    `json:"vantage"`
	Ranges    string    `json:"ranges"`
	LeftOut   string    `json:"leftOut,omitempty"` // ranges and protocols
	Pace      string    `json:"pace"`
	Answered  uint64    `json:"answered"`
	Sent      uint64    `json:"sent"`
	Seen      int       `json:"-"` // devices, and those of them that nobody managed, where it is known
	Unmanaged int       `json:"-"`
	Signature string    `json:"signature"` // SHA-256 over what it has seen; "" where that was deleted
}
