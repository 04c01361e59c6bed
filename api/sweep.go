package api

import "time"

// NewSweep says what to sweep.
type NewSweep struct {
	Name       string `json:"name,omitempty" maxLength:"200" doc:"Name for people" example:"Tuesday, after the power cut"`
	Vantage    string `json:"vantage,omitempty" doc:"Interface to sweep from; left out where there is only one"`
	Ranges     string `json:"ranges,omitempty" doc:"Addresses, CIDR prefixes, from-to pairs and short ones (10.40.1.20-80), separated by commas; all networks of the site where left out" example:"10.40.1.0/24, 10.40.2.20-80"`
	Exclusions string `json:"exclusions,omitempty" doc:"What to leave out, written in the same way" example:"10.40.2.13"`
	Pace       string `json:"pace,omitempty" enum:"gentle,steady,brisk,own" default:"steady" doc:"How hard to push; own takes the figures"`
	Figures    *Pace  `json:"figures,omitempty" doc:"Of a pace of one's own"`
	Ports      string `json:"ports,omitempty" doc:"TCP ports to ask: telling, usual, all, or a list" example:"22, 80, 8000-8100"`
	Plan       *Plan  `json:"plan,omitempty" doc:"What else is asked of it"`
}

// Plan is what may be asked of a sweep beside where, how hard and at which ports.
type Plan struct {
	LeaveOut []string   `json:"leaveOut,omitempty" doc:"Protocols, and parts of them, that are not used" example:"[\"sip\", \"snmp.default-community\"]"`
	Never    []uint16   `json:"never,omitempty" doc:"Ports that are never sent anything" example:"[9100]"`
	Paces    []PartPace `json:"paces,omitempty" doc:"Paces for parts of the ranges; the first that holds an address counts"`
	Quiet    []string   `json:"quiet,omitempty" doc:"Hours of each day, by the clock of the service's machine, in which nothing is sent" example:"[\"07:00-18:30\"]"`
	Waits    *Waits     `json:"waits,omitempty" doc:"How long answers are waited for"`
	Patience *Patience  `json:"patience,omitempty" doc:"How long a device that keeps silent is taken to be there still"`
	Read     bool       `json:"read,omitempty" doc:"Count how much systems offer, such as the objects of BACnet, once all have been asked"`
}

// Patience is how long a device that keeps silent is taken to be there still; both have to be used up.
type Patience struct {
	Sweeps int `json:"sweeps,omitempty" minimum:"0" maximum:"400" doc:"Sweeps in a row that looked for it in vain"`
	Days   int `json:"days,omitempty" minimum:"0" maximum:"400" doc:"Days since it was seen last"`
}

// PartPace is a named pace for a part of the ranges.
type PartPace struct {
	Ranges string `json:"ranges" example:"10.40.3.0/24"`
	Pace   string `json:"pace" enum:"gentle,steady,brisk"`
}

// Waits are how long answers are waited for, in milliseconds.
type Waits struct {
	First int `json:"first" doc:"Before anything was measured" example:"1000"`
	Least int `json:"least" doc:"Whatever was measured" example:"300"`
	Most  int `json:"most" doc:"Whatever was measured" example:"4000"`
	Last  int `json:"last" doc:"At least, at the last try" example:"2000"`
}

// Protocol is one way to learn of devices.
type Protocol struct {
	Name  string   `json:"name"`
	Cost  string   `json:"cost" enum:"light,middling,demanding" doc:"How much it asks of a device; the gentle pace asks nothing demanding"`
	Parts []string `json:"parts" nullable:"false" doc:"What of it can be left out by itself"`
}

// Pace is how hard a sweep pushes, in figures.
type Pace struct {
	Rate       float64 `json:"rate" doc:"Probes/s, all together"`
	Devices    int     `json:"devices" doc:"Devices asked at the same time"`
	PerDevice  int     `json:"perDevice" doc:"Questions in flight to one device"`
	PerNetwork int     `json:"perNetwork" doc:"Questions in flight to one network"`
	Rounds     int     `json:"rounds" doc:"Times an address that keeps silent is called"`
	Broadcasts float64 `json:"broadcasts,omitempty" doc:"ARP requests and neighbour solicitations a second, which every device of the segment has to take in; as many as probes where left out"`
	Gap        int     `json:"gap,omitempty" doc:"Least time between two connections to one device, in milliseconds"`
}

// SweepPin says whether a sweep's evidence stays, whatever the site keeps.
type SweepPin struct {
	Pinned bool `json:"pinned"`
}

// Thinned names sweeps whose evidence is no longer kept.
type Thinned struct {
	Sweeps []uint64 `json:"sweeps" nullable:"false"`
}

// LogLine is one entry of a sweep's log.
type LogLine struct {
	At   time.Time `json:"at"`
	Text string    `json:"text"`
}

// Sweep is one run of looking.
type Sweep struct {
	ID         uint64     `json:"id"`
	Site       uint64     `json:"site"`
	Name       string     `json:"name,omitempty" doc:"That somebody gave it"`
	Vantage    string     `json:"vantage"`
	Ranges     string     `json:"ranges"`
	Exclusions string     `json:"exclusions,omitempty"`
	Pace       string     `json:"pace"`
	Figures    Pace       `json:"figures" doc:"Of the pace"`
	Ports      string     `json:"ports"`
	Plan       *Plan      `json:"plan,omitempty"`
	StartedBy  string     `json:"startedBy,omitempty"`
	State      string     `json:"state" enum:"running,done,stopped,interrupted,failed"`
	Began      time.Time  `json:"began"`
	Ended      *time.Time `json:"ended,omitempty"`
	Addresses  uint64     `json:"addresses" doc:"Addresses that were to be looked at"`
	Answered   uint64     `json:"answered" doc:"Addresses at which somebody answered"`
	Sent       uint64     `json:"sent" doc:"Questions sent"`
	Warnings   []string   `json:"warnings" nullable:"false"`
	Failure    string     `json:"failure,omitempty"`
	Pinned     bool       `json:"pinned" doc:"Its evidence stays, whatever the site keeps"`
	Thinned    bool       `json:"thinned" doc:"Its evidence is no longer kept; what came of it is"`
	Appeared   int        `json:"appeared" doc:"Devices that the sweep before did not see"`
	Vanished   int        `json:"vanished" doc:"Devices that the sweep before saw and this one did not"`
	Moved      int        `json:"moved" doc:"Devices at other addresses than before"`
	Changed    int        `json:"changed" doc:"Devices that say something else of themselves than before"`
}

// Alive says that the line holds.
type Alive struct {
	At time.Time `json:"at"`
}

// Behind says that who watches was cut off, as he lags too far behind.
type Behind struct {
	Text string `json:"text"`
}

// Progress says how far a sweep is.
type Progress struct {
	Stage   string  `json:"stage" doc:"roll call, asking or reading"`
	Done    uint64  `json:"done" doc:"Questions settled in this stage"`
	Total   uint64  `json:"total" doc:"Questions of this stage"`
	Found   int     `json:"found" doc:"Sightings so far"`
	Rate    float64 `json:"rate" doc:"Questions sent a second"`
	Seconds float64 `json:"secondsLeft" doc:"Estimate of the time this stage still takes"`
}

// Sighting is one (address, MAC) pair that a sweep saw.
type Sighting struct {
	Addr   string `json:"addr" doc:"Empty where it has none"`
	MAC    string `json:"mac,omitempty"`
	Unit   string `json:"unit,omitempty" doc:"What stands behind the address and has none of its own" example:"modbus/7"`
	Vendor string `json:"vendor,omitempty"`
	Kind   string `json:"kind"`
	Name   string `json:"name,omitempty"`
	Ports  []Port `json:"ports" nullable:"false"`
	Whole  bool   `json:"whole" doc:"Nothing more will come for it in this sweep"`
	Device uint64 `json:"device,omitempty" doc:"The device that held its place then, as far as is known; told by the list alone until the sweep is in the ledger"`
}

// Port is a port that accepted, and what was said there.
type Port struct {
	Port    string `json:"port" example:"tcp/80"`
	Service string `json:"service,omitempty" doc:"Name registered for the port" example:"http"`
	Words   []Fact `json:"words" nullable:"false" doc:"Banners"`
}

// Fact is one thing a probe obtained.
type Fact struct {
	Source string    `json:"source" example:"http"`
	Key    string    `json:"key" example:"http.title"`
	Port   string    `json:"port,omitempty" example:"tcp/80"`
	Value  string    `json:"value"`
	At     time.Time `json:"at"`
	RTT    float64   `json:"milliseconds,omitempty" doc:"From the question to the answer"`
}

// Warning is something a sweep could not do.
type Warning struct {
	Text string `json:"text"`
}

// SweepImport is what came of a file of sweeps.
type SweepImport struct {
	Sweeps    int `json:"sweeps"`
	Sightings int `json:"sightings"`
}

// SweepName is the name of a sweep.
type SweepName struct {
	Name string `json:"name" maxLength:"200" doc:"Empty deletes it"`
}
