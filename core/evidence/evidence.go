// Package evidence holds what probes obtain: single facts, and the sightings they make up.
package evidence

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"airdrift/core/hwaddr"
)

// Source is the way of looking that obtained a fact. Facts of one source are one witness.
type Source string

// MaxValue is the longest value kept, in bytes. What a device says beyond it is cut off.
const MaxValue = 1024

// Item is one fact that one probe obtained.
type Item struct {
	Source Source        `json:"source"`
	Key    string        `json:"key"`
	Port   Port          `json:"port,omitzero"` // the port it was learned at; zero where it is not about one
	Value  string        `json:"value"`         // valid UTF-8 of at most MaxValue bytes
	At     time.Time     `json:"at"`            // UTC
	RTT    time.Duration `json:"rtt,omitempty"` // from the question to the answer; 0 where none was measured
}

// Port is a transport protocol and a port number, written "tcp/80".
type Port struct {
	Proto  string
	Number uint16
}

// TCP gives the TCP port of that number.
func TCP(number uint16) Port { return Port{"tcp", number} }

// UDP gives the UDP port of that number.
func UDP(number uint16) Port { return Port{"udp", number} }

// IsZero reports whether no port is meant.
func (p Port) IsZero() bool { return p == Port{} }

// String gives the form "tcp/80", or "" for the zero Port.
func (p Port) String() string {
	if p.IsZero() {
		return ""
	}
	return p.Proto + "/" + strconv.Itoa(int(p.Number))
}

// MarshalText writes the form of String.
func (p Port) MarshalText() ([]byte, error) { return []byte(p.String()), nil }

// UnmarshalText reads the form of String.
func (p *Port) UnmarshalText(text []byte) error {
	if len(text) == 0 {
		*p = Port{}
		return nil
	}
	proto, number, _ := strings.Cut(string(text), "/")
	n, err := strconv.ParseUint(number, 10, 16)
	if err != nil || (proto != "tcp" && proto != "udp") {
		return fmt.Errorf("%q is not a port such as tcp/80 or udp/161", text)
	}
	*p = Port{proto, uint16(n)}
	return nil
}

// Who tells the sightings of a sweep apart. A device without an IP address is told by its MAC alone; one that stands behind a gateway
// and has no address of its own, by the gateway's and its unit.
type Who struct {
	Addr netip.Addr
	MAC  hwaddr.MAC
	Unit string
}

// String gives address, MAC and unit, as far as there are such.
func (w Who) String() string {
	var parts []string
	if w.Addr.IsValid() {
		parts = append(parts, w.Addr.String())
	}
	if !w.MAC.IsZero() {
		parts = append(parts, w.MAC.String())
	}
	if w.Unit != "" {
		parts = append(parts, w.Unit)
	}
	return strings.Join(parts, " ")
}

// Sighting is one address and MAC, or one device without an address, seen in one sweep, with all the evidence for it.
type Sighting struct {
	Addr        netip.Addr `json:"addr"`                 // the zero Addr where it has none
	MAC         hwaddr.MAC `json:"mac,omitzero"`         // zero beyond a router, where no MAC can be seen
	Unit        string     `json:"unit,omitzero"`        // what stands behind Addr and has none of its own, such as "modbus/7"; at most MaxUnit bytes
	Ring        int        `json:"ring"`                 // 0: in the ranges given
	LearnedFrom string     `json:"learnedFrom,omitzero"` // which table told the address; empty in ring 0
	Answered    bool       `json:"answered"`             // false where others told of it and it kept silent
	Whole       bool       `json:"whole,omitzero"`       // it has been asked all there was to ask; false for who was only heard or called
	FirstAt     time.Time  `json:"firstAt"`              // UTC
	Items       []Item     `json:"items"`
}

// MaxUnit is the longest name of a unit, in bytes.
const MaxUnit = 64

// Who tells the sighting from all others of its sweep.
func (s Sighting) Who() Who { return Who{s.Addr, s.MAC, s.Unit} }

// Values gives the values of all items with that key, in the order they were obtained.
func Values(items []Item, key string) []string {
	var values []string
	for _, it := range items {
		if it.Key == key {
			values = append(values, it.Value)
		}
	}
	return values
}

// First gives the first value of a key, or "".
func First(items []Item, key string) string {
	for _, it := range items {
		if it.Key == key {
			return it.Value
		}
	}
	return ""
}

// Renew puts fresh items in the place of old ones of the same key at the same port, and keeps the old ones that nothing
// fresh speaks of.
func Renew(old, fresh []Item) []Item {
	type place struct {
		key  string
		port Port
	}
	renewed := make(map[place]bool, len(fresh))
	for _, it := range fresh {
		renewed[place{it.Key, it.Port}] = true
	}
	var kept []Item
	for _, it := range old {
		if !renewed[place{it.Key, it.Port}] {
			kept = append(kept, it)
		}
	}
	return Merge(slices.Clone(fresh), kept, Asked)
}

// Clean makes a value out of bytes a device sent: valid UTF-8, white space at the ends removed, at most MaxValue
// bytes. Control bytes stay in, since they tell something; every way out escapes them.
func Clean(raw []byte) string {
	text := strings.TrimSpace(strings.ToValidUTF8(string(raw), "\uFFFD"))
	if len(text) <= MaxValue {
		return text
	}
	cut := MaxValue
	for !utf8.RuneStart(text[cut]) {
		cut--
	}
	return text[:cut]
}
