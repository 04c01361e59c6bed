package probe

import (
	"bytes"
	"encoding/binary"
	"net/netip"
	"strconv"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
	"airdrift/core/wire"
)

// Keys of the facts.
const (
	keyCDPName       = "cdp.name"
	keyCDPPort       = "cdp.port"
	keyCDPText       = "cdp.text"
	keyCDPPlatform   = "cdp.platform"
	keyCDPCapability = "cdp.capability"
	keyCDPAddr       = "cdp.addr"
	keyCDPVLAN       = "cdp.vlan"
)

// It is a maker's own, older than LLDP, and still spoken by switches, telephones and access points; it is heard alone.
var _ = register(Protocol{
	Name: "cdp", Source: evidence.SourceCDP, Cost: Light,
	Frames: []uint16{wire.EtherTypeLLC}, HearFrame: hearCDP,
	Facts: []evidence.Fact{
		{Key: keyCDPName, Says: "its name", Standard: "CDP, device ID", Example: "lab-switch", By: evidence.TheHost},
		{Key: keyCDPPort, Says: "the port that it speaks from", Standard: "CDP, port ID", Example: "Port 1"},
		{Key: keyCDPText, Says: "its software, in words", Standard: "CDP, software version", Example: "Weave software 4.2", Names: 12},
		{Key: keyCDPPlatform, Says: "what it is called by its maker", Standard: "CDP, platform", Example: "Weave 24", Names: 12, Describes: true},
		{Key: keyCDPCapability, Says: "what it is", Standard: "CDP, capabilities", Example: "switch"},
		{Key: keyCDPAddr, Says: "address for its management", Standard: "CDP, addresses", Example: "10.40.1.2"},
		{Key: keyCDPVLAN, Says: "the VLAN of frames without a tag", Standard: "CDP, native VLAN", Example: "40"},
	},
})

// cdpHead is what follows the length of a frame: the link layer's control, and the protocol's number (IEEE 802, 10.5).
var cdpHead = []byte{0xaa, 0xaa, 0x03, 0x00, 0x00, 0x0c, 0x20, 0x00}

// Types of the parts of a message.
const (
	cdpName, cdpAddrs, cdpPort, cdpCapabilities, cdpText, cdpPlatform, cdpVLAN, cdpManagement = 1, 2, 3, 4, 5, 6, 0x0a, 0x16
)

// cdpRoles are the capabilities, from the lowest bit on.
var cdpRoles = []string{"router", "bridge", "source-route bridge", "switch", "host", "igmp", "repeater", "telephone"}

// hearCDP reads a whole frame. ok is false where it is none of the protocol.
func hearCDP(frame []byte) (heard Neighbour, ok bool) {
	const head, message = 14, 4 // the addresses and the length; version, life and check sum
	if len(frame) < head+len(cdpHead)+message || binary.BigEndian.Uint16(frame[12:]) > maxFrameLength || !bytes.HasPrefix(frame[head:], cdpHead) {
		return heard, false
	}
	heard.MAC = hwaddr.MAC(frame[6:12])
	f := &found{}
	for rest, count := frame[head+len(cdpHead)+message:], 0; len(rest) >= 4 && count < maxTLVs; count++ {
		kind, length := binary.BigEndian.Uint16(rest), int(binary.BigEndian.Uint16(rest[2:]))
		if length < 4 || length > len(rest) {
			break
		}
		heard.takeCDP(f, kind, rest[4:length])
		rest = rest[length:]
	}
	heard.Items, heard.Name = f.items, evidence.First(f.items, keyCDPName)
	return heard, len(f.items) > 0
}

// maxFrameLength is the highest length of a frame that has one; above it stands a type (IEEE 802.3, 3.2.6).
const maxFrameLength = 1500

func (h *Neighbour) takeCDP(f *found, kind uint16, value []byte) {
	add := func(key string, raw []byte) { f.addOnce(evidence.SourceCDP, key, raw) }
	switch kind {
	case cdpName:
		add(keyCDPName, value)
	case cdpPort:
		add(keyCDPPort, value)
	case cdpText:
		add(keyCDPText, value)
	case cdpPlatform:
		add(keyCDPPlatform, value)
	case cdpVLAN:
		if len(value) == 2 {
			add(keyCDPVLAN, strconv.AppendUint(nil, uint64(binary.BigEndian.Uint16(value)), 10))
		}
	case cdpCapabilities:
		if len(value) == 4 {
			for bit, role := range cdpRoles {
				if binary.BigEndian.Uint32(value)&(1<<bit) != 0 {
					add(keyCDPCapability, []byte(role))
				}
			}
		}
	case cdpAddrs, cdpManagement:
		for _, a := range cdpAddresses(value) {
			if !h.Addr.IsValid() {
				h.Addr = a
			}
			add(keyCDPAddr, []byte(a.String()))
		}
	}
}

// cdpAddresses reads a list of addresses, each with its protocol before it; those of IPv4 are taken.
func cdpAddresses(value []byte) []netip.Addr {
	if len(value) < 4 {
		return nil
	}
	var addrs []netip.Addr
	for rest := value[4:]; len(rest) >= 2 && len(addrs) < maxNames; {
		protocol := rest[2:min(len(rest), 2+int(rest[1]))]
		rest = rest[2+len(protocol):]
		if len(rest) < 2 || len(rest) < 2+int(binary.BigEndian.Uint16(rest)) {
			return addrs
		}
		length := int(binary.BigEndian.Uint16(rest))
		if bytes.Equal(protocol, []byte{0xcc}) && length == 4 {
			if a := netip.AddrFrom4([4]byte(rest[2:6])); !a.IsUnspecified() && !a.IsMulticast() {
				addrs = append(addrs, a)
			}
		}
		rest = rest[2+length:]
	}
	return addrs
}
