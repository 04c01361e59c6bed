package probe

import (
	"encoding/binary"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
	"airdrift/core/wire"
)

// Keys of the facts.
const (
	keyLLDPChassis    = "lldp.chassis"
	keyLLDPPort       = "lldp.port"
	keyLLDPPortText   = "lldp.port-text"
	keyLLDPText       = "lldp.text"
	keyLLDPCapability = "lldp.capability"
	keyLLDPAddr       = "lldp.addr"
	keyLLDPInventory  = "lldp.inventory"
	keyLLDPLocation   = "lldp.location"
)

var _ = register(Protocol{
	Name: "lldp", Source: evidence.SourceLLDP, Cost: Light,
	Frames: []uint16{wire.EtherTypeLLDP}, HearFrame: hearLLDP,
	Facts: []evidence.Fact{
		{Key: keyLLDPChassis, Says: "identifier of the device", Standard: "IEEE 802.1AB-2016, 8.5", Example: "48:9b:34:00:00:01"},
		{Key: keyLLDPPort, Says: "identifier of the port that it speaks from", Standard: "IEEE 802.1AB-2016, 8.5", Example: "p1"},
		{Key: keyLLDPPortText, Says: "what its keeper calls the port", Standard: "IEEE 802.1AB-2016, 8.5", Example: "Uplink"},
		{Key: evidence.KeyLLDPName, Says: "its name", Standard: "IEEE 802.1AB-2016, 8.5", Example: "lab-switch", By: evidence.TheHost},
		{Key: keyLLDPText, Says: "what it is, in words", Standard: "IEEE 802.1AB-2016, 8.5", Example: "Weave 24", Names: 12, Describes: true},
		{Key: keyLLDPCapability, Says: "what it is enabled as", Standard: "IEEE 802.1AB-2016, 8.5.8", Example: "bridge"},
		{Key: keyLLDPAddr, Says: "address for its management", Standard: "IEEE 802.1AB-2016, 8.5", Example: "10.40.1.2"},
		{Key: keyLLDPLocation, Says: "where it stands, as the switch has told it or it is set: the parts of a civic address, the widest first", Standard: "ANSI/TIA-1057, 10.2.4; RFC 4776", Example: "Palm house, 2, 14"},
		{Key: keyLLDPInventory, Says: "a text of the media endpoint extension, behind its name", Standard: "ANSI/TIA-1057, 10.2.6", Example: "model X-1", Describes: true},
	},
})

// Types of TLV (IEEE 802.1AB-2016, table 8-1), and subtypes of identifiers.
const (
	lldpEnd, lldpChassis, lldpPort, lldpPortText      = 0, 1, 2, 4
	lldpName, lldpText, lldpCapabilities, lldpAddress = 5, 6, 7, 8
	lldpOwn                                           = 127
	lldpByMAC, lldpByAddress                          = 4, 5
	lldpPortByMAC, lldpPortByAddress                  = 3, 4
)

// lldpRoles are the capabilities, from the lowest bit on (IEEE 802.1AB-2016, 8.5.8).
var lldpRoles = []string{"other", "repeater", "bridge", "wlan access point", "router", "telephone", "docsis cable device", "station", "c-vlan bridge", "s-vlan bridge", "two-port relay"}

// lldpInventory are the texts of the media endpoint extension by subtype (ANSI/TIA-1057, 10.2.6).
var lldpInventory = map[byte]string{5: "hardware", 6: "firmware", 7: "software", 8: "serial", 9: "maker", 10: "model", 11: "asset"}

// The extension's location (ANSI/TIA-1057, 10.2.4.3): its subtype, and the form that has a civic address.
const lldpLocation, lldpCivic = 3, 2

// civicParts are the types of parts of a civic address that say where in a building a device is (RFC 4776, 3.4), the widest first: landmark, name, building,
// floor, unit, room, seat, additional location.
var civicParts = []byte{21, 23, 25, 27, 26, 28, 33, 22}

// maxTLVs bounds what is read of one frame.
const maxTLVs = 64

// hearLLDP reads a whole Ethernet frame. ok is false where it is none of LLDP, or has no chassis.
func hearLLDP(frame []byte) (heard Neighbour, ok bool) {
	const header = 14
	if len(frame) < header || binary.BigEndian.Uint16(frame[12:]) != wire.EtherTypeLLDP {
		return Neighbour{}, false
	}
	heard.MAC = hwaddr.MAC(frame[6:12])
	f := &found{}
	for rest, count := frame[header:], 0; len(rest) >= 2 && count < maxTLVs; count++ {
		kind, length := rest[0]>>1, int(binary.BigEndian.Uint16(rest)&0x1ff)
		if kind == lldpEnd || length > len(rest)-2 {
			break
		}
		heard.takeLLDP(f, kind, rest[2:2+length])
		rest = rest[2+length:]
		ok = ok || kind == lldpChassis
	}
	heard.Items, heard.Name = f.items, evidence.First(f.items, evidence.KeyLLDPName)
	return heard, ok && len(f.items) > 0
}

func (h *Neighbour) takeLLDP(f *found, kind byte, value []byte) {
	add := func(key string, raw []byte) { f.add(evidence.SourceLLDP, key, raw) }
	switch kind {
	case lldpChassis:
		id, mac := lldpID(value, lldpByMAC, lldpByAddress)
		h.Chassis = mac
		add(keyLLDPChassis, id)
	case lldpPort:
		id, _ := lldpID(value, lldpPortByMAC, lldpPortByAddress)
		add(keyLLDPPort, id)
	case lldpPortText:
		add(keyLLDPPortText, value)
	case lldpName:
		add(evidence.KeyLLDPName, value)
	case lldpText:
		add(keyLLDPText, value)
	case lldpCapabilities:
		if len(value) >= 4 {
			enabled := binary.BigEndian.Uint16(value[2:])
			for bit, role := range lldpRoles {
				if enabled&(1<<bit) != 0 {
					add(keyLLDPCapability, []byte(role))
				}
			}
		}
	case lldpAddress:
		if a, ok := lldpAddr(value); ok && !h.Addr.IsValid() {
			h.Addr = a
			add(keyLLDPAddr, []byte(a.String()))
		}
	case lldpOwn:
		tia := []byte{0x00, 0x12, 0xbb}
		switch {
		case len(value) <= 4 || [3]byte(value) != [3]byte(tia):
		case lldpInventory[value[3]] != "":
			add(keyLLDPInventory, fmt.Appendf(nil, "%s %s", lldpInventory[value[3]], value[4:]))
		case value[3] == lldpLocation && value[4] == lldpCivic:
			if place := civicAddress(value[5:]); place != "" {
				add(keyLLDPLocation, []byte(place))
			}
		}
	}
}

// civicAddress writes the parts of a civic address that say where in a building it is (RFC 4776, 3.1, without the option's head): its length, what it is of, a
// country, and parts with their types and lengths.
func civicAddress(value []byte) string {
	const head = 4
	if len(value) < head || int(value[0]) != len(value)-1 {
		return ""
	}
	parts := map[byte]string{}
	for rest := value[head:]; len(rest) >= 2 && int(rest[1]) <= len(rest)-2; rest = rest[2+int(rest[1]):] {
		parts[rest[0]] = strings.TrimSpace(string(rest[2 : 2+int(rest[1])]))
	}
	var place []string
	for _, part := range civicParts {
		if parts[part] != "" {
			place = append(place, parts[part])
		}
	}
	return strings.Join(place, ", ")
}

// lldpID reads an identifier of a chassis or a port; byMAC and byAddress are the subtypes that hold a MAC and a network address.
func lldpID(value []byte, byMAC, byAddress byte) (text []byte, mac hwaddr.MAC) {
	if len(value) < 2 {
		return nil, mac
	}
	switch id := value[1:]; {
	case value[0] == byMAC && len(id) == len(mac):
		mac = hwaddr.MAC(id)
		return []byte(mac.String()), mac
	case value[0] == byAddress:
		if a, ok := familyAddr(id); ok {
			return []byte(a.String()), mac
		}
		return nil, mac
	default:
		return []byte(strings.TrimRight(string(id), "\x00")), mac
	}
}

// lldpAddr reads a management address (8.5.9).
func lldpAddr(value []byte) (netip.Addr, bool) {
	if len(value) < 2 || int(value[0]) > len(value)-1 || value[0] < 2 {
		return netip.Addr{}, false
	}
	return familyAddr(value[1 : 1+int(value[0])])
}

// familyAddr reads an address with its family before it (IANA Address Family Numbers).
func familyAddr(value []byte) (netip.Addr, bool) {
	switch {
	case len(value) == 5 && value[0] == 1:
		return netip.AddrFrom4([4]byte(value[1:])), true
	case len(value) == 17 && value[0] == 2:
		return netip.AddrFrom16([16]byte(value[1:])), true
	}
	return netip.Addr{}, false
}

// SpokenFrom gives the ports from which a device announces itself, by their identifiers and names (IEEE 802.1AB-2016, 8.5.3 and 8.5.5): what hears it is
// plugged in there, as such frames are not passed on.
func SpokenFrom(items []evidence.Item) []string {
	return slices.Concat(evidence.Values(items, keyLLDPPort), evidence.Values(items, keyLLDPPortText), evidence.Values(items, keyCDPPort))
}
