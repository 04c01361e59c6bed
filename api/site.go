package api

// Site is a building or facility.
type Site struct {
	ID       uint64    `json:"id" doc:"Number of the site" readOnly:"true"`
	Name     string    `json:"name" minLength:"1" maxLength:"200" doc:"Name that no other site has"`
	Networks []Network `json:"networks" nullable:"false" doc:"The fence: the networks the site may be swept in, and nowhere else"`

	NameServers []string `json:"nameServers" nullable:"false" doc:"Asked for the names of addresses, where they lie within the fence"`

	Keeping Keeping `json:"keeping" doc:"For how long the evidence of sweeps is kept"`
	Zone    string  `json:"zone" readOnly:"true" doc:"Its time zone, in which people are shown times; empty for that of whoever looks. What programs read is in UTC." example:"Europe/Lisbon"`
}

// Zone is the time zone of a site.
type Zone struct {
	Zone string `json:"zone" maxLength:"64" doc:"Name in the tz database (RFC 6557); empty for that of whoever looks" example:"Europe/Lisbon"`
}

// Keeping says for how long the evidence of sweeps is kept. What came of it, the history of devices, stays in any case.
type Keeping struct {
	Days       int `json:"days" minimum:"0" maximum:"36500" doc:"All of it for so many days; 0 keeps it for good"`
	WeeklyDays int `json:"weeklyDays" minimum:"0" maximum:"36500" doc:"Then of one sweep a week up to so many days, and behind them of one a month"`
}

// NewSite is a site to be entered.
type NewSite struct {
	Name     string      `json:"name" minLength:"1" maxLength:"200" doc:"Name that no other site has"`
	Networks []Network   `json:"networks,omitempty" nullable:"false" doc:"The networks the site may be swept in"`
	Prefixes []MACPrefix `json:"prefixes,omitempty" nullable:"false" doc:"MAC prefixes of the site's own"`

	NameServers []string `json:"nameServers,omitempty" nullable:"false" doc:"Asked for the names of addresses, where they lie within the fence" example:"[\"10.40.1.10\"]"`
}

// SiteName is the name of a site.
type SiteName struct {
	Name string `json:"name" minLength:"1" maxLength:"200" doc:"Name that no other site has"`
}

// Network is one IP subnet of a site.
type Network struct {
	Name   string `json:"name" maxLength:"200" doc:"Name for people" example:"offices"`
	Subnet string `json:"subnet" doc:"CIDR prefix" example:"10.40.1.0/24"`

	Purpose string `json:"purpose,omitempty" enum:"offices,visitors,plant,voice,cameras,servers" doc:"What it is for; left out where nobody has said"`
	Gateway string `json:"gateway,omitempty" doc:"Its router; left out where nobody has said" example:"10.40.1.1"`
	Pool    string `json:"pool,omitempty" maxLength:"2000" doc:"The addresses that its DHCP server gives out" example:"10.40.1.100-10.40.1.199"`
}

// MACPrefix gives a MAC prefix to a maker.
type MACPrefix struct {
	Prefix string `json:"prefix" example:"48:9b:34"`
	Maker  string `json:"maker" minLength:"1" maxLength:"200"`
}

// Vantage is a place sweeps are made from, and what it stands on: its footing.
type Vantage struct {
	Name        string   `json:"name" doc:"Name of the interface" example:"eth0"`
	MAC         string   `json:"mac,omitempty"`
	Prefixes    []string `json:"prefixes" nullable:"false" doc:"Own addresses with the lengths of their subnets"`
	Masks       []string `json:"masks" nullable:"false" doc:"The masks of the IPv4 subnets, in the same order; empty for IPv6"`
	Gateway     string   `json:"gateway,omitempty"`
	Gateway6    string   `json:"gateway6,omitempty" doc:"Of IPv6"`
	NameServers []string `json:"nameServers" nullable:"false"`
	Rights      Rights   `json:"rights"`
}

// Rights is what the system permits at a vantage, and what that means.
type Rights struct {
	Frames     bool     `json:"frames" doc:"Whole Ethernet frames: ARP, neighbour discovery, hearing the segment"`
	Echo       bool     `json:"echo" doc:"Echo requests"`
	Neighbours bool     `json:"neighbours" doc:"The system's own table of MAC addresses"`
	Missing    []string `json:"missing" nullable:"false" doc:"What cannot be done without those that are not there, and how to mend it"`
}

// Reach says whether an address can be reached from a vantage, and why not.
type Reach struct {
	Vantage string `json:"vantage"`
	OnLink  bool   `json:"onLink" doc:"It lies in a subnet of the vantage"`
	By      string `json:"by,omitempty" doc:"The next hop where it lies beyond"`
	Verdict string `json:"verdict" doc:"In words"`
}

// Fence is where a site may be swept.
type Fence struct {
	Networks    []FenceNetwork `json:"networks" nullable:"false"`
	NameServers []string       `json:"nameServers" nullable:"false"`
	Public      []string       `json:"public" nullable:"false" doc:"Public networks that the service's settings permit"`
}

// FenceNetwork is one network of the fence and how full it is.
type FenceNetwork struct {
	Network
	Addresses string `json:"addresses" doc:"How many it holds; a number too large for JSON is a text" example:"254"`
	Held      int    `json:"held" doc:"Addresses that devices hold"`
	NextFree  string `json:"nextFree,omitempty" doc:"The lowest address that no device holds and the register does not name"`
}

// Addresses is a list of addresses.
type Addresses struct {
	Addresses []string `json:"addresses" nullable:"false"`
}

// Counts is how many devices have each standing.
type Counts struct {
	Managed   int `json:"managed"`
	Unmanaged int `json:"unmanaged"`
	Missing   int `json:"missing"`
	SetAside  int `json:"setAside"`
}

// KindCount is how many devices of a kind there are.
type KindCount struct {
	Kind      string `json:"kind"`
	Devices   int    `json:"devices"`
	Unmanaged int    `json:"unmanaged"`
}

// Count is how many devices share something.
type Count struct {
	Name    string `json:"name"`
	Devices int    `json:"devices"`
}

// Severity is how many findings are of one severity.
type Severity struct {
	Severity string `json:"severity" enum:"info,low,medium,high,critical"`
	Findings int    `json:"findings"`
}

// Overview is what a site's first page shows.
type Overview struct {
	Site      Site        `json:"site"`
	Counts    Counts      `json:"counts"`
	Seen      int         `json:"seen"`
	Silent    int         `json:"silent"`
	Unknown   int         `json:"unknownKind" doc:"Devices seen of which the kind is not known"`
	Contested int         `json:"contested" doc:"Devices that share an address"`
	Traits    []Count     `json:"traits" nullable:"false" doc:"Devices by trait"`
	Register  int         `json:"register" doc:"Entries of the register"`
	Kinds     []KindCount `json:"kinds" nullable:"false" doc:"Of the devices seen, the most frequent first"`
	LastSweep *Sweep      `json:"lastSweep,omitempty"`
	Findings  []Severity  `json:"findings" nullable:"false" doc:"Findings that are open, by severity, the worst first"`
	Notices   []string    `json:"notices" nullable:"false" doc:"What whoever runs the service has to look after"`
}

// Vendor is what a MAC address tells of its maker.
type Vendor struct {
	MAC          string `json:"mac"`
	Vendor       string `json:"vendor,omitempty" doc:"The maker in the form Airdrift uses"`
	Organisation string `json:"organisation,omitempty" doc:"The name as registered"`
	Prefix       string `json:"prefix,omitempty" doc:"The longest prefix that matches"`
	Private      bool   `json:"private"`
	Shared       bool   `json:"shared" doc:"Belongs to a virtual router, not to a device"`
	Group        bool   `json:"group" doc:"Names a group of stations, not a device"`
	FromSite     bool   `json:"fromSite" doc:"Known from the site's own list"`
}
