package api

import (
	"time"

	"airdrift/core/inventory"
)

//go:generate go run ./gen

// DeviceLine is what a list shows of a device.
type DeviceLine struct {
	ID uint64 `json:"id"`
	DeviceFields
}

// LineOf gives what a list shows of a device.
func LineOf(l inventory.Line) DeviceLine { return DeviceLine{l.ID, fieldsOf(l)} }

// Value gives the value of a field by its name, as the catalogue has it.
func (d DeviceLine) Value(field string) any {
	if field == "number" {
		return int(d.ID)
	}
	return d.values()[field]
}

// given gives a time that has come, or the zero time.
func given(t *time.Time) time.Time {
	if t == nil {
		return time.Time{}
	}
	return *t
}

// some gives an empty list rather than none, so that JSON has [] and not null.
func some(list []string) []string {
	if list == nil {
		return []string{}
	}
	return list
}

// known gives nil for a time that has not come.
func known(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t
}

// Field is one field of devices, as the catalogue has it.
type Field struct {
	Name    string   `json:"name" doc:"In files, filters and addresses"`
	Key     string   `json:"key" doc:"Its name in the lines of a list"`
	Heading string   `json:"heading"`
	Doc     string   `json:"doc,omitempty"`
	Type    string   `json:"type" enum:"text,texts,number,flag,time"`
	Choices []string `json:"choices,omitempty" doc:"The only values that it has"`
	Listed  bool     `json:"listed" doc:"Lists and files can have it as a column"`
	Sorted  bool     `json:"sorted" doc:"Lists can be sorted by it"`
	Filter  string   `json:"filter,omitempty" enum:"one-of,at-least,is-set" doc:"How lists are narrowed by it; left out where they are not"`
	Asked   string   `json:"asked,omitempty" doc:"Its name in filters; left out where lists are not narrowed by it"`
	Shown   []string `json:"shown" nullable:"false" doc:"Where it is shown where nobody has chosen"`
}

// Values are what a site's devices have of each field that filters go by, by the name that filters have for it.
type Values map[string][]string

// Device is all that is known of one device.
type Device struct {
	DeviceLine
	Site      uint64   `json:"site"`
	Tag       string   `json:"tag" doc:"The ETag of what people have said of it: given as If-Match, only that is changed which is still so"`
	MACs      []MAC    `json:"macs" nullable:"false" doc:"The one seen last first"`
	Shared    []string `json:"sharedAddresses" nullable:"false" doc:"Addresses that another device holds too"`
	Claims    []Claim  `json:"claims" nullable:"false"`
	Settle    []string `json:"settle" nullable:"false" doc:"What would likely tell its kind, where the evidence leaves it open; the most telling first"`
	Ports     []Port   `json:"ports" nullable:"false"`
	Evidence  []Fact   `json:"evidence" nullable:"false" doc:"All facts of the last sweep that saw it"`
	LastSweep uint64   `json:"lastSweep,omitempty"`
	Entry     *Entry   `json:"registerEntry,omitempty"`
	MatchedBy string   `json:"matchedBy,omitempty" doc:"Why the entry is taken to mean this device"`
	Linked    bool     `json:"linked,omitempty" doc:"Somebody has said that the entry means it"`
	Note      string   `json:"note,omitempty"`
	Aside     *Aside   `json:"aside,omitempty" doc:"Who set it aside, and why"`
	Blinks    string   `json:"blinks,omitempty" doc:"The protocol by which it can be told to show itself"`
	Links     []Link   `json:"links" nullable:"false" doc:"Ways to open it at each of its addresses, by the ports found: web page, secure shell, file share, remote desktop"`
	Reasons   []string `json:"reasons" nullable:"false" doc:"Why what was seen is taken to be this one device"`

	Interfaces   []Interface   `json:"interfaces" nullable:"false" doc:"Told by its agent of SNMP"`
	Parts        []Part        `json:"parts" nullable:"false" doc:"Told by its agent of SNMP"`
	Names        []Name        `json:"names" nullable:"false" doc:"All names it goes by, with who tells them"`
	Certificates []Certificate `json:"certificates" nullable:"false"`
	Unanswered   Unanswered    `json:"unanswered"`
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
	Here  bool   `json:"here,omitempty" doc:"The vantage is behind it, by what the device announces there (IEEE 802.1AB)"`
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

// Group is what a device belongs to.
type Group struct {
	Name string `json:"name" maxLength:"200" doc:"Empty takes it out of its group" example:"second floor"`
}

// Link is a way to open a device.
type Link struct {
	Title   string `json:"title" example:"Web page, port 8080"`
	URL     string `json:"url"`
	Address string `json:"address" doc:"The address of the device that it leads to"`
	Port    string `json:"port" example:"tcp/8080"`
}

// Unanswered is what a device was asked in vain.
type Unanswered struct {
	Sweep     uint64   `json:"sweep,omitempty" doc:"The sweep that asked it last all there was to ask; left out where none has"`
	Protocols []string `json:"protocols" nullable:"false" doc:"By which that sweep asks every device, and of which this one speaks none"`
	Ports     []string `json:"ports" nullable:"false" doc:"Those that neither accepted nor refused a connection: whether they are open is not known" example:"tcp/23"`
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
	Kind     string     `json:"kind" enum:"note,aside,merge,split,pin,link,group" doc:"A note, that the device is set aside, that another is the same, that a part of it is another, that whoever is met at a place is it, that an entry of the register means it, or what it belongs to"`
	Says     string     `json:"says" doc:"The kind in words, and whether what was said before was taken back"`
	Text     string     `json:"text" doc:"The note or the reason; empty where what was said before was taken back"`
	By       string     `json:"by"`
	At       time.Time  `json:"at"`
	Holds    bool       `json:"holds" doc:"It applies now: it was neither undone, nor has another taken its place"`
	UndoneBy string     `json:"undoneBy,omitempty"`
	UndoneAt *time.Time `json:"undoneAt,omitempty"`
}

// Claim is what is believed of one attribute.
type Claim struct {
	Attribute  string      `json:"attribute"`
	Value      string      `json:"value" doc:"Empty, or unknown, where no candidate leads clearly"`
	Strength   int         `json:"strength" doc:"In decibans: 10 are odds of 10 to 1"`
	Candidates []Candidate `json:"candidates" nullable:"false" doc:"The strongest first"`
	Conflict   string      `json:"conflict,omitempty" doc:"What strong evidence contradicts it, in words"`
	Perhaps    string      `json:"perhaps,omitempty" doc:"A special case of the kind for which something speaks, but not enough"`
}

// Candidate is one value with what speaks for it.
type Candidate struct {
	Value    string   `json:"value"`
	Strength int      `json:"strength"`
	Reasons  []Reason `json:"reasons" nullable:"false"`
	BuiltOn  string   `json:"builtOn,omitempty" doc:"The system that is believed, where this is one of those that are built on it; the kind, where this is a special case of it"`
	Besides  bool     `json:"besides,omitempty" doc:"A device of the kind that is believed does this besides: it is no word against it"`
}

// Reason is one thing that speaks for a value.
type Reason struct {
	Rule     string `json:"rule"`
	Because  string `json:"because"`
	Strength int    `json:"strength"`
	Fact     Fact   `json:"fact"`
}

// Merging says that two devices are one.
type Merging struct {
	Other   uint64 `json:"other" doc:"Number of the device that is the same"`
	Reason  string `json:"reason" maxLength:"1000" doc:"Why, for those who come after"`
	Despite bool   `json:"despite,omitempty" doc:"Even if something speaks against it"`
	Preview bool   `json:"preview,omitempty" doc:"Only say what would follow"`
}

// Splitting says that a part of a device is another device.
type Splitting struct {
	Addrs   []string `json:"addrs,omitempty" nullable:"false" doc:"Addresses of the part"`
	MACs    []string `json:"macs,omitempty" nullable:"false" doc:"MAC addresses of the part"`
	Reason  string   `json:"reason" maxLength:"1000" doc:"Why, for those who come after"`
	Preview bool     `json:"preview,omitempty" doc:"Only say what would follow"`
}

// Pinning says that whoever is met at a place is a device.
type Pinning struct {
	At      string `json:"at" doc:"IP address or MAC address" example:"10.40.2.15"`
	Reason  string `json:"reason" maxLength:"1000" doc:"Why, for those who come after"`
	Despite bool   `json:"despite,omitempty" doc:"Even if something speaks against it"`
	Preview bool   `json:"preview,omitempty" doc:"Only say what would follow"`
}

// Grouping is what follows of a merge, a split or a pin.
type Grouping struct {
	Decision uint64       `json:"decision,omitempty" doc:"By which it is undone; left out of a preview"`
	Devices  []DeviceLine `json:"devices" nullable:"false" doc:"What the devices are then"`
}

// Blinked says by which protocol a device was told to show itself.
type Blinked struct {
	By string `json:"by"`
}
