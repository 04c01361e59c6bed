// Package api holds the types that the service and its clients exchange as JSON.
package api

import "time"

// Site is a building or facility.
type Site struct {
	ID       uint64    `json:"id" doc:"Number of the site" readOnly:"true"`
	Name     string    `json:"name" minLength:"1" maxLength:"200" doc:"Name that no other site has"`
	Networks []Network `json:"networks" nullable:"false" doc:"The fence: the networks the site may be swept in, and nowhere else"`

	NameServers []string `json:"nameServers" nullable:"false" doc:"Asked for the names of addresses, where they lie within the fence"`
}

// NewSite is a site to be entered.
type NewSite struct {
	Name     string      `json:"name" minLength:"1" maxLength:"200" doc:"Name that no other site has"`
	Networks []Network   `json:"networks,omitempty" nullable:"false" doc:"The networks the site may be swept in"`
	Prefixes []MACPrefix `json:"prefixes,omitempty" nullable:"false" doc:"MAC prefixes of the site's own"`

	NameServers []string `json:"nameServers,omitempty" nullable:"false" doc:"Asked for the names of addresses, where they lie within the fence" example:"[\"10.40.1.10\"]"`
}

// Network is one IP subnet of a site.
type Network struct {
	Name   string `json:"name" maxLength:"200" doc:"Name for people" example:"offices"`
	Subnet string `json:"subnet" doc:"CIDR prefix" example:"10.40.1.0/24"`
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

// NewSweep says what to sweep.
type NewSweep struct {
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

// LogLine is one entry of a sweep's log.
type LogLine struct {
	At   time.Time `json:"at"`
	Text string    `json:"text"`
}

// Sweep is one run of looking.
type Sweep struct {
	ID         uint64     `json:"id"`
	Site       uint64     `json:"site"`
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
	Appeared   int        `json:"appeared" doc:"Devices that the sweep before did not see"`
	Vanished   int        `json:"vanished" doc:"Devices that the sweep before saw and this one did not"`
	Moved      int        `json:"moved" doc:"Devices at other addresses than before"`
	Changed    int        `json:"changed" doc:"Devices that say something else of themselves than before"`
}

// Progress says how far a sweep is.
type Progress struct {
	Stage   string  `json:"stage" doc:"roll call or asking"`
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

// DeviceLine is what a list shows of a device.
type DeviceLine struct {
	ID        uint64     `json:"id"`
	Name      string     `json:"name,omitempty"`
	Addrs     []string   `json:"addresses" nullable:"false"`
	MAC       string     `json:"mac,omitempty"`
	Kind      string     `json:"kind"`
	Vendor    string     `json:"vendor,omitempty"`
	Model     string     `json:"model,omitempty"`
	OS        string     `json:"os,omitempty"`
	Firmware  string     `json:"firmware,omitempty"`
	Strength  int        `json:"strength" doc:"What speaks for its kind, in decibans"`
	Standing  string     `json:"standing" enum:"managed,unmanaged,missing,set aside"`
	Presence  string     `json:"presence" enum:"seen,silent,uncovered"`
	Contested bool       `json:"contested" doc:"It shares an address with another device"`
	Traits    []string   `json:"traits" nullable:"false" doc:"What to know of it before believing the rest: own machine, answers for others, accepts every port, virtual router, wrong subnet"`
	FirstSeen *time.Time `json:"firstSeen,omitempty"`
	LastSeen  *time.Time `json:"lastSeen,omitempty"`
}

// DeviceList is one page of devices.
type DeviceList struct {
	Devices []DeviceLine `json:"devices" nullable:"false"`
	Total   int64        `json:"total" doc:"Devices on all pages"`
}

// Values are what a site's devices have, for filters to choose from.
type Values struct {
	Vendor   []string `json:"vendor" nullable:"false"`
	Model    []string `json:"model" nullable:"false"`
	OS       []string `json:"os" nullable:"false"`
	Firmware []string `json:"firmware" nullable:"false"`
	Service  []string `json:"service" nullable:"false"`
}

// Device is all that is known of one device.
type Device struct {
	DeviceLine
	Site      uint64   `json:"site"`
	Unit      string   `json:"unit,omitempty" doc:"That it is, and behind which address, where it has none of its own" example:"modbus/7 behind 10.40.1.9"`
	MACs      []MAC    `json:"macs" nullable:"false" doc:"The one seen last first"`
	Shared    []string `json:"sharedAddresses" nullable:"false" doc:"Addresses that another device holds too"`
	Claims    []Claim  `json:"claims" nullable:"false"`
	Ports     []Port   `json:"ports" nullable:"false"`
	Evidence  []Fact   `json:"evidence" nullable:"false" doc:"All facts of the last sweep that saw it"`
	LastSweep uint64   `json:"lastSweep,omitempty"`
	Entry     *Entry   `json:"registerEntry,omitempty"`
	MatchedBy string   `json:"matchedBy,omitempty" doc:"Why the entry is taken to mean this device"`
	Note      string   `json:"note,omitempty"`
	Aside     *Aside   `json:"aside,omitempty" doc:"Who set it aside, and why"`
	Links     []Link   `json:"links" nullable:"false" doc:"Ways to open it: web page, ssh, file share, remote desktop"`
	Reasons   []string `json:"reasons" nullable:"false" doc:"Why what was seen is taken to be this one device"`

	Interfaces   []Interface   `json:"interfaces" nullable:"false" doc:"Told by its agent of SNMP"`
	Parts        []Part        `json:"parts" nullable:"false" doc:"Told by its agent of SNMP"`
	Names        []Name        `json:"names" nullable:"false" doc:"All names it goes by, with who tells them"`
	Certificates []Certificate `json:"certificates" nullable:"false"`
}

// Interface is one interface of a device.
type Interface struct {
	Index int    `json:"index"`
	Name  string `json:"name"`
	Alias string `json:"alias,omitempty" doc:"What its keeper calls it"`
	MAC   string `json:"mac,omitempty"`
	Speed uint64 `json:"speed,omitempty" doc:"Bits a second"`
	State string `json:"state" enum:"up,down,off" doc:"off: switched off by its keeper"`
	In    uint64 `json:"in" doc:"Bytes received since the device started"`
	Out   uint64 `json:"out" doc:"Bytes sent since the device started"`
}

// Part is one physical part of a device.
type Part struct {
	Class    string `json:"class" example:"chassis"`
	Name     string `json:"name,omitempty"`
	Text     string `json:"text,omitempty"`
	Maker    string `json:"maker,omitempty"`
	Model    string `json:"model,omitempty"`
	Serial   string `json:"serial,omitempty"`
	Hardware string `json:"hardware,omitempty"`
	Firmware string `json:"firmware,omitempty"`
	Software string `json:"software,omitempty"`
}

// Name is one name that a device goes by.
type Name struct {
	Name    string   `json:"name"`
	Sources []string `json:"sources" nullable:"false" example:"mdns"`
	Best    bool     `json:"best" doc:"The one it is shown by"`
}

// Certificate is what a device shows for TLS.
type Certificate struct {
	Port    string     `json:"port" example:"tcp/443"`
	Subject string     `json:"subject,omitempty"`
	Issuer  string     `json:"issuer,omitempty"`
	Names   []string   `json:"names" nullable:"false"`
	From    *time.Time `json:"from,omitempty"`
	Until   *time.Time `json:"until,omitempty"`
	Expired bool       `json:"expired"`
	Key     string     `json:"key,omitempty" doc:"SHA-256 of the public key"`
	Version string     `json:"version,omitempty" example:"TLS 1.3"`
}

// Credential is one way to be let in by agents of SNMP, without what is secret of it.
type Credential struct {
	ID        uint64    `json:"id"`
	Name      string    `json:"name"`
	Version   string    `json:"version" enum:"1,2c,3"`
	User      string    `json:"user,omitempty"`
	Auth      string    `json:"authentication,omitempty"`
	Priv      string    `json:"privacy,omitempty"`
	CreatedAt time.Time `json:"createdAt"`
}

// NewCredential is a credential with what is secret of it, which goes in and never comes out again.
type NewCredential struct {
	Name      string `json:"name" minLength:"1" maxLength:"100"`
	Version   string `json:"version" enum:"1,2c,3"`
	Community string `json:"community,omitempty" maxLength:"255" writeOnly:"true"`
	User      string `json:"user,omitempty" maxLength:"100"`
	Auth      string `json:"authentication,omitempty" enum:"MD5,SHA,SHA-224,SHA-256,SHA-384,SHA-512"`
	AuthKey   string `json:"authenticationKey,omitempty" maxLength:"255" writeOnly:"true"`
	Priv      string `json:"privacy,omitempty" enum:"DES,AES,AES-192,AES-256"`
	PrivKey   string `json:"privacyKey,omitempty" maxLength:"255" writeOnly:"true"`
}

// CredentialTrial is what came of trying a credential on a device.
type CredentialTrial struct {
	Taken    bool   `json:"taken" doc:"The device's agent let us in with it"`
	Answered bool   `json:"answered" doc:"The device's agent answered at all"`
	Facts    []Fact `json:"facts" nullable:"false" doc:"The beginning of what it told"`
}

// RuleFile is a file of rules that a site has added.
type RuleFile struct {
	ID        uint64    `json:"id"`
	Name      string    `json:"name"`
	Text      string    `json:"text"`
	Rules     int       `json:"rules"`
	Active    bool      `json:"active"`
	ChangedBy string    `json:"changedBy"`
	ChangedAt time.Time `json:"changedAt"`
}

// NewRuleFile is a file of rules to be tried or added.
type NewRuleFile struct {
	Name string `json:"name" minLength:"1" maxLength:"100"`
	Text string `json:"text" minLength:"1" maxLength:"1000000" doc:"YAML; docs/rules.md has the format"`
}

// RuleTrial is what rules would change of what is believed.
type RuleTrial struct {
	Rules   int          `json:"rules"`
	Devices int          `json:"devices" doc:"How many devices would be believed to be something else"`
	Changes []RuleChange `json:"changes" nullable:"false" doc:"The first of them"`
}

// RuleChange is one claim that rules would change.
type RuleChange struct {
	Device    uint64 `json:"device"`
	Name      string `json:"name"`
	Attribute string `json:"attribute"`
	Before    string `json:"before"`
	After     string `json:"after"`
}

// Activity switches something on or off.
type Activity struct {
	Active bool `json:"active"`
}

// LeaseImport is what came of importing leases.
type LeaseImport struct {
	Leases  int `json:"leases"`
	Devices int `json:"devices" doc:"Devices of which they tell something"`
}

// Aside says who has set a device aside, and why.
type Aside struct {
	Reason string    `json:"reason" minLength:"1" maxLength:"1000"`
	By     string    `json:"by,omitempty" readOnly:"true"`
	At     time.Time `json:"at,omitzero" readOnly:"true"`
}

// Note is free text on a device.
type Note struct {
	Text string `json:"text" maxLength:"10000"`
}

// Link is a way to open a device.
type Link struct {
	Title string `json:"title"`
	URL   string `json:"url"`
}

// Seen is one sighting of a device in the course of time.
type Seen struct {
	Sweep uint64    `json:"sweep"`
	At    time.Time `json:"at"`
	Addr  string    `json:"addr"`
	MAC   string    `json:"mac,omitempty"`
	Facts int       `json:"facts" doc:"How much was learned"`
}

// MAC is a MAC address with what it tells.
type MAC struct {
	MAC     string `json:"mac"`
	Vendor  string `json:"vendor,omitempty"`
	Private bool   `json:"private" doc:"Chosen by the device itself; it tells nothing of the maker"`
	Shared  bool   `json:"shared" doc:"A virtual router's, which several devices take turns at"`
	Former  bool   `json:"former,omitempty" doc:"The device had it once, and was met with others since"`
}

// Decision is what somebody has said of a device. It is kept apart from what is computed, and applies to the device again after every
// rebuild.
type Decision struct {
	ID       uint64     `json:"id"`
	Kind     string     `json:"kind" enum:"note,aside" doc:"A note, or that the device is set aside"`
	Text     string     `json:"text" doc:"The note or the reason; empty where what was said before was taken back"`
	By       string     `json:"by"`
	At       time.Time  `json:"at"`
	Holds    bool       `json:"holds" doc:"It applies now: it was neither undone, nor has another taken its place"`
	UndoneBy string     `json:"undoneBy,omitempty"`
	UndoneAt *time.Time `json:"undoneAt,omitempty"`
}

// Change is what a sweep has found changed of a device.
type Change struct {
	ID        uint64    `json:"id"`
	Sweep     uint64    `json:"sweep"`
	Began     time.Time `json:"began" doc:"When the sweep began"`
	Device    uint64    `json:"device"`
	Name      string    `json:"name,omitempty" doc:"What the device is called now"`
	Addr      string    `json:"address,omitempty" doc:"Its first address now"`
	Kind      string    `json:"kind" enum:"appeared,vanished,moved,changed"`
	Attribute string    `json:"attribute,omitempty" doc:"What of the device has changed; of a port that was opened before is empty, of one that was closed after"`
	Before    string    `json:"before,omitempty"`
	After     string    `json:"after,omitempty"`
}

// ChangeList is a page of changes.
type ChangeList struct {
	Changes []Change `json:"changes" nullable:"false"`
	Next    uint64   `json:"next,omitempty" doc:"Given as below, asks for the next page; left out on the last one"`
}

// Claim is what is believed of one attribute.
type Claim struct {
	Attribute  string      `json:"attribute" enum:"kind,vendor,model,os,firmware,serial,name"`
	Value      string      `json:"value" doc:"Empty, or unknown, where no candidate leads clearly"`
	Strength   int         `json:"strength" doc:"In decibans: 10 are odds of 10 to 1"`
	Candidates []Candidate `json:"candidates" nullable:"false" doc:"The strongest first"`
	Conflict   string      `json:"conflict,omitempty" doc:"What strong evidence contradicts it, in words"`
}

// Candidate is one value with what speaks for it.
type Candidate struct {
	Value    string   `json:"value"`
	Strength int      `json:"strength"`
	Reasons  []Reason `json:"reasons" nullable:"false"`
	BuiltOn  string   `json:"builtOn,omitempty" doc:"The system that is believed, where this is one of those that are built on it"`
}

// Reason is one thing that speaks for a value.
type Reason struct {
	Rule     string `json:"rule"`
	Because  string `json:"because"`
	Strength int    `json:"strength"`
	Fact     Fact   `json:"fact"`
}

// Entry is one device of the register.
type Entry struct {
	ID          uint64            `json:"id"`
	Name        string            `json:"name,omitempty"`
	MAC         string            `json:"mac,omitempty"`
	Addr        string            `json:"address,omitempty"`
	Vendor      string            `json:"vendor,omitempty"`
	Model       string            `json:"model,omitempty"`
	Kind        string            `json:"kind,omitempty"`
	Location    string            `json:"location,omitempty"`
	Responsible string            `json:"responsible,omitempty"`
	Note        string            `json:"note,omitempty"`
	Extra       map[string]string `json:"extra,omitempty" doc:"Columns with a heading of the site's own"`
}

// NewEntry is what somebody says of a device that goes into the register; what is left out is taken from what was seen.
type NewEntry struct {
	Name        string `json:"name,omitempty" maxLength:"1000"`
	Vendor      string `json:"vendor,omitempty" maxLength:"1000"`
	Model       string `json:"model,omitempty" maxLength:"1000"`
	Kind        string `json:"kind,omitempty" maxLength:"1000"`
	Location    string `json:"location,omitempty" maxLength:"1000"`
	Responsible string `json:"responsible,omitempty" maxLength:"1000"`
	Note        string `json:"note,omitempty" maxLength:"1000"`
}

// Imported says what an import of a register did.
type Imported struct {
	Added   int    `json:"added"`
	Updated int    `json:"updated"`
	Faults  []Bad  `json:"faults" nullable:"false" doc:"Of a partial import, the lines that were left out and why; the first hundred"`
	LeftOut int    `json:"leftOut" doc:"Of a partial import, how many lines were left out"`
	Counts  Counts `json:"counts" doc:"The site's devices after it"`
}

// Bad is something wrong in a file, with its place.
type Bad struct {
	Place string `json:"place" example:"line 3, column 2"`
	Field string `json:"field,omitempty"`
	Why   string `json:"why"`
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

// Session is who is signed in.
type Session struct {
	By   string `json:"by" enum:"token,password,local"`
	User string `json:"user"`
	Role string `json:"role" enum:"look,sweep,administer"`

	May []string `json:"may" nullable:"false" enum:"look,sweep,administer" doc:"The roles that this one covers"`

	SecondFactor bool `json:"secondFactor" doc:"A second factor is set up"`
	Limited      bool `json:"limited" doc:"A second factor is to be set up before anything else"`
}

// SignIn is a name and a password.
type SignIn struct {
	User     string `json:"user" maxLength:"100"`
	Password string `json:"password" maxLength:"200"`
	Code     string `json:"code,omitempty" maxLength:"40" doc:"Of the second factor, or a recovery code; only where the user has one"`
}

// Password is a new password.
type Password struct {
	Password string `json:"password" maxLength:"200"`
}

// OwnPassword is a password to be set for oneself.
type OwnPassword struct {
	Password     string `json:"password" maxLength:"200"`
	Present      string `json:"present,omitempty" maxLength:"200" doc:"The password there is; only the local command line may leave it out"`
	RevokeTokens bool   `json:"revokeTokens,omitempty" doc:"Delete one's tokens as well; all other sessions end in any case"`
}

// Confirmation is what a user shows again before something that a page left open must not do.
type Confirmation struct {
	Password string `json:"password" maxLength:"200"`
	Code     string `json:"code,omitempty" maxLength:"40" doc:"Of the second factor, where that is what is changed"`
}

// SecondFactor is the secret of a second factor that is not turned on yet (RFC 6238).
type SecondFactor struct {
	Secret  string `json:"secret" doc:"In base32, for authenticators that are typed into"`
	URL     string `json:"url" doc:"The same as a link"`
	Picture string `json:"picture" doc:"The same as a picture, for authenticators that see: a data URL of a PNG"`
}

// Code is a code of the second factor.
type Code struct {
	Code string `json:"code" maxLength:"40"`
}

// RecoveryCodes stand in for a lost second factor, each once. They are told once.
type RecoveryCodes struct {
	Codes []string `json:"codes" nullable:"false"`
}

// Access is what lets somebody in besides the password itself.
type Access struct {
	Tokens   []Token      `json:"tokens" nullable:"false"`
	Sessions []OpenSignIn `json:"sessions" nullable:"false"`
}

// OpenSignIn is a session of the console.
type OpenSignIn struct {
	Origin string    `json:"origin" doc:"The address it was opened from"`
	Began  time.Time `json:"began"`
	Used   time.Time `json:"used" doc:"When somebody was at it last"`
}

// User is somebody who may sign in.
type User struct {
	Name    string    `json:"name" minLength:"1" maxLength:"100" pattern:"^[\\p{L}\\p{N}._@-]+$" doc:"Letters, digits, dot, dash, underscore and @"`
	Role    string    `json:"role" enum:"look,sweep,administer" doc:"look reads all; sweep also sweeps, writes notes and keeps the register; administer also keeps sites, fences and users"`
	Created time.Time `json:"created,omitzero" readOnly:"true"`

	SecondFactor bool `json:"secondFactor" readOnly:"true" doc:"A second factor is set up"`
}

// NewUser is a user to be entered.
type NewUser struct {
	Name     string `json:"name" minLength:"1" maxLength:"100" pattern:"^[\\p{L}\\p{N}._@-]+$"`
	Role     string `json:"role" enum:"look,sweep,administer"`
	Password string `json:"password" maxLength:"200"`
}

// Role is what a user may do.
type Role struct {
	Role string `json:"role" enum:"look,sweep,administer"`
}

// Token lets a command line act for a user.
type Token struct {
	ID      uint64    `json:"id"`
	Label   string    `json:"label"`
	Created time.Time `json:"created"`
	Expires time.Time `json:"expires"`
	Used    time.Time `json:"used,omitzero" doc:"When it was used last"`
	Secret  string    `json:"secret,omitempty" doc:"Told once, when it is made"`
}

// NewToken names a token to be made.
type NewToken struct {
	Label string `json:"label" minLength:"1" maxLength:"100" doc:"What it is for"`
	Days  int    `json:"days,omitempty" minimum:"1" maximum:"366" default:"90" doc:"For how many days it is good"`
}

// AuditLine says who did what, when and from where.
type AuditLine struct {
	ID      uint64    `json:"id"`
	At      time.Time `json:"at"`
	Who     string    `json:"who"`
	Role    string    `json:"role,omitempty"`
	Origin  string    `json:"origin" doc:"The address it came from"`
	Action  string    `json:"action" example:"start-sweep"`
	Subject string    `json:"subject"`
	Outcome int       `json:"outcome" doc:"HTTP status"`
}
