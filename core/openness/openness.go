// Package openness tells of the systems of a building which of their devices can be read over an open protocol today, over which, and how
// much they offer; which only in a maker's own way; and which not at all, so that a gateway is needed.
package openness

import (
	"cmp"
	"maps"
	"slices"
	"strconv"
	"strings"

	"airdrift/core/evidence"
)

// State is how a device can be read.
type State string

// The states there are.
const (
	Open   State = "open"   // over an open protocol
	Own    State = "own"    // in its maker's own way alone: it offers services, and none of them is an open protocol for data
	Closed State = "closed" // not at all: no service of it answers
)

// System is a system of a building, with the kinds of device that belong to it.
type System struct {
	Name  string
	Kinds []string
}

// Systems are those that are told of, in their order.
var Systems = []System{
	{"plant", []string{"plant-controller", "plc", "hmi", "drive", "thermostat", "sensor", "gateway"}},
	{"metering", []string{"meter", "smart-plug"}},
	{"lighting", []string{"lighting-controller"}},
	{"access", []string{"access-controller", "intercom"}},
	{"power", []string{"ups", "pdu"}},
	{lifts, nil}, // no kind of device is theirs alone: they are told by what they offer
	{"irrigation", []string{"irrigation-controller"}},
	{"cameras", []string{"camera", "video-recorder"}},
	{"stage and sound", []string{"stage-node", "paging-speaker", "display", "media-player"}},
	{"laboratory", []string{"lab-instrument"}},
}

// SystemOf gives the system that a kind belongs to; "" where it is none of a building.
func SystemOf(kind string) string {
	for _, s := range Systems {
		if slices.Contains(s.Kinds, kind) {
			return s.Name
		}
	}
	return ""
}

// Kinds gives all kinds that belong to a system.
func Kinds() (kinds []string) {
	for _, s := range Systems {
		kinds = append(kinds, s.Kinds...)
	}
	return kinds
}

// protocols are the open ones by which a device gives data, by the source of their facts. Web pages, shells and files are none: what they say is
// for people.
var protocols = []struct {
	source evidence.Source
	name   string
}{
	{evidence.SourceBACnet, "BACnet"}, {evidence.SourceModbus, "Modbus"}, {evidence.SourceKNX, "KNX"}, {evidence.SourceOPCUA, "OPC UA"},
	{evidence.SourceCIP, "EtherNet/IP"}, {evidence.SourcePROFINET, "PROFINET"}, {evidence.SourceCoAP, "CoAP"}, {evidence.SourceMQTT, "MQTT"},
	{evidence.SourceSNMP, "SNMP"}, {evidence.SourceUPS, "UPS management"}, {evidence.SourceRedfish, "Redfish"}, {evidence.SourceIPMI, "IPMI"},
	{evidence.SourceArtNet, "Art-Net"}, {evidence.SourceSACN, "sACN"}, {evidence.SourcePJLink, "PJLink"}, {evidence.SourceONVIF, "ONVIF"}, {evidence.SourceRTSP, "RTSP"},
	{evidence.SourceSIP, "SIP"},
}

// Device is how one device can be read.
type Device struct {
	System    string
	State     State
	Protocols []string // that it answers by, in their order
	Points    int      // that it offers, where that has been counted
	Counted   bool
	Cut       string   // how far its list of objects could be read, such as "60 of 120"; "" where it could be to its end
	Numbers   []string // of its device objects of BACnet
}

// Of tells how a device of some kind can be read, by what is known of it.
func Of(kind string, items []evidence.Item) Device {
	d := Device{System: SystemOf(kind), State: Closed}
	if slices.ContainsFunc(evidence.Values(items, evidence.KeyBACnetObjects), isOfLifts) {
		d.System = lifts
	}
	for _, p := range protocols {
		if slices.ContainsFunc(items, func(it evidence.Item) bool { return it.Source == p.source && tells(it) }) {
			d.Protocols = append(d.Protocols, p.name)
		}
	}
	switch {
	case len(d.Protocols) > 0:
		d.State = Open
	case slices.ContainsFunc(items, func(it evidence.Item) bool { return it.Key == evidence.KeyTCPOpen || it.Source == evidence.SourceS7 }):
		d.State = Own
	}
	for _, points := range evidence.Values(items, evidence.KeyBACnetPoints) {
		if n, err := strconv.Atoi(points); err == nil && n >= 0 {
			d.Points, d.Counted = d.Points+n, true
		}
	}
	d.Cut = evidence.First(items, evidence.KeyBACnetCut)
	d.Numbers = evidence.Values(items, evidence.KeyBACnetInstance)
	return d
}

// Doubles gives the numbers of BACnet that more than one of the devices holds, each with the places of those in the list. A number is to be one device's
// alone in all of an internetwork (ASHRAE 135, 12.11.1): of those that share one, whoever reads by the number gets either.
func Doubles(devices []Device) map[string][]int {
	by := map[string][]int{}
	for i, d := range devices {
		for _, n := range d.Numbers {
			if !slices.Contains(by[n], i) {
				by[n] = append(by[n], i)
			}
		}
	}
	maps.DeleteFunc(by, func(_ string, holders []int) bool { return len(holders) < 2 })
	return by
}

// lifts is the system of what carries people up and down.
const lifts = "lifts"

// isOfLifts reports whether objects of BACnet are of a type that controllers of lifts and escalators alone have (ASHRAE 135-2016, 12.58 to 12.60).
func isOfLifts(objects string) bool {
	name, _, _ := strings.Cut(objects, ":")
	return slices.Contains([]string{"elevator group", "lift", "escalator"}, name)
}

// tells reports whether a fact of a protocol shows that a device can be read by it: what merely says that something is there, and refuses to
// speak, does not.
func tells(it evidence.Item) bool {
	switch it.Source {
	case evidence.SourceSNMP:
		return !strings.HasPrefix(it.Key, "snmp.engine")
	case evidence.SourceMQTT:
		return it.Key != evidence.KeyMQTTAnswer || !strings.HasPrefix(it.Value, "refused")
	}
	return true
}

// Sum is how the devices of one system can be read.
type Sum struct {
	System            string
	Devices           int
	Open, Own, Closed int
	Points            int // counted of those that were read
	Counted           int // devices whose points were counted
	Protocols         []ProtocolSum
}

// ProtocolSum is how many devices of a system can be read by a protocol.
type ProtocolSum struct {
	Name    string
	Devices int
}

// Sums puts devices together by system, in the order of Systems. Systems without devices are left out.
func Sums(devices []Device) []Sum {
	var sums []Sum
	for _, s := range Systems {
		sum := Sum{System: s.Name}
		by := map[string]int{}
		for _, d := range devices {
			if d.System == s.Name {
				sum.add(d, by)
			}
		}
		for name, n := range by {
			sum.Protocols = append(sum.Protocols, ProtocolSum{name, n})
		}
		slices.SortFunc(sum.Protocols, func(a, b ProtocolSum) int {
			return cmp.Or(cmp.Compare(b.Devices, a.Devices), cmp.Compare(a.Name, b.Name))
		})
		if sum.Devices > 0 {
			sums = append(sums, sum)
		}
	}
	return sums
}

func (s *Sum) add(d Device, by map[string]int) {
	s.Devices++
	switch d.State {
	case Open:
		s.Open++
	case Own:
		s.Own++
	default:
		s.Closed++
	}
	if d.Counted {
		s.Counted++
		s.Points += d.Points
	}
	for _, name := range d.Protocols {
		by[name]++
	}
}
