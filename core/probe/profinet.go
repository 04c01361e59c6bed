package probe

import (
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"net/netip"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
)

// Keys of the facts.
const (
	keyPROFINETName   = "profinet.name"
	keyPROFINETType   = "profinet.type"
	keyPROFINETVendor = "profinet.vendor-id"
	keyPROFINETDevice = "profinet.device-id"
	keyPROFINETRole   = "profinet.role"
	keyPROFINETAddr   = "profinet.addr"
	keyPROFINETMask   = "profinet.mask"
	keyPROFINETRouter = "profinet.gateway"
)

// etherTypePROFINET is the Ethernet type of PROFINET (IEEE registration authority).
const etherTypePROFINET = 0x8892

var _ = register(Protocol{
	Name: "profinet", Source: evidence.SourcePROFINET, Cost: Light,
	Frames: []uint16{etherTypePROFINET}, HearFrame: hearPROFINET,
	Casts: []Cast{{EtherType: etherTypePROFINET, To: hwaddr.MAC{0x01, 0x0e, 0xcf, 0, 0, 0}, Message: identifyAll}},
	Facts: []evidence.Fact{
		{Key: keyPROFINETName, Says: "name of the station", Standard: "IEC 61158-6-10, 4.3", Example: "borehole-drive"},
		{Key: keyPROFINETType, Says: "its maker's name for the type of station", Standard: "IEC 61158-6-10, 4.3", Example: "Spindle 45", Names: 9, Describes: true},
		{Key: keyPROFINETVendor, Says: "number that PROFIBUS & PROFINET International has given its maker, in hexadecimal", Standard: "IEC 61158-6-10, 4.3", Example: "002a"},
		{Key: keyPROFINETDevice, Says: "number of the device, in hexadecimal", Standard: "IEC 61158-6-10, 4.3", Example: "0101"},
		{Key: keyPROFINETRole, Says: "what it is there", Standard: "IEC 61158-6-10, 4.3", Example: "device"},
		{Key: keyPROFINETAddr, Says: "the address that it is set up with", Standard: "IEC 61158-6-10, 4.3", Example: "10.40.2.123"},
		{Key: keyPROFINETMask, Says: "the mask that it is set up with", Standard: "IEC 61158-6-10, 4.3", Example: "255.255.255.0"},
		{Key: keyPROFINETRouter, Says: "the gateway that it is set up with", Standard: "IEC 61158-6-10, 4.3", Example: "10.40.2.1"},
	},
})

// Of the discovery and configuration protocol (IEC 61158-6-10, 4.3).
const (
	dcpIdentify = 0xfefe // frame: a question to all
	dcpAnswer   = 0xfeff
	dcpService  = 5 // identify
	dcpSuccess  = 1
	dcpHeader   = 12 // from the frame's identifier to the length of the blocks
	dcpSpread   = 64 // within so many times 10 ms answers are spread

	dcpIP      = 1<<8 | 2
	dcpType    = 2<<8 | 1
	dcpName    = 2<<8 | 2
	dcpNumbers = 2<<8 | 3
	dcpRole    = 2<<8 | 4
)

// dcpRoles are what a station is, from the lowest bit on.
var dcpRoles = []string{"device", "controller", "multidevice", "supervisor"}

// identifyAll asks every station of the segment what it is; it sets nothing.
func identifyAll() []byte {
	message := binary.BigEndian.AppendUint16(nil, dcpIdentify)
	message = binary.BigEndian.AppendUint32(append(message, dcpService, 0), rand.Uint32())
	message = binary.BigEndian.AppendUint16(message, dcpSpread)
	return append(message, 0, 4, 0xff, 0xff, 0, 0)
}

// hearPROFINET reads the answer to that question.
func hearPROFINET(frame []byte) (heard Neighbour, ok bool) {
	const head = 14
	if len(frame) < head+dcpHeader || binary.BigEndian.Uint16(frame[12:]) != etherTypePROFINET {
		return heard, false
	}
	message := frame[head:]
	if binary.BigEndian.Uint16(message) != dcpAnswer || message[2] != dcpService || message[3] != dcpSuccess {
		return heard, false
	}
	heard.MAC = hwaddr.MAC(frame[6:12])
	rest := message[dcpHeader:]
	if length := int(binary.BigEndian.Uint16(message[10:])); length < len(rest) {
		rest = rest[:length]
	}
	f := &found{}
	for blocks := 0; len(rest) >= 4 && blocks < maxTLVs; blocks++ {
		kind, length := binary.BigEndian.Uint16(rest), int(binary.BigEndian.Uint16(rest[2:]))
		if length > len(rest)-4 {
			break
		}
		if length >= 2 {
			heard.takeDCP(f, kind, rest[6:4+length])
		}
		rest = rest[min(len(rest), 4+length+length&1):] // blocks begin at even places
	}
	heard.Items = f.items
	return heard, len(f.items) > 0
}

// takeDCP takes in one block, without its head.
func (h *Neighbour) takeDCP(f *found, kind uint16, value []byte) {
	add := func(key string, raw []byte) { f.addOnce(evidence.SourcePROFINET, key, raw) }
	switch {
	case kind == dcpName:
		h.Name = evidence.Clean(value)
		add(keyPROFINETName, value)
	case kind == dcpType:
		add(keyPROFINETType, value)
	case kind == dcpNumbers && len(value) >= 4:
		add(keyPROFINETVendor, fmt.Appendf(nil, "%x", value[:2]))
		add(keyPROFINETDevice, fmt.Appendf(nil, "%x", value[2:4]))
	case kind == dcpRole && len(value) >= 1:
		for bit, role := range dcpRoles {
			if value[0]&(1<<bit) != 0 {
				add(keyPROFINETRole, []byte(role))
			}
		}
	case kind == dcpIP && len(value) >= 4:
		if a := netip.AddrFrom4([4]byte(value)); !a.IsUnspecified() && !a.IsMulticast() {
			h.Addr = a
			add(keyPROFINETAddr, []byte(a.String()))
			if len(value) >= 12 { // address, mask and gateway stand behind one another
				add(keyPROFINETMask, []byte(netip.AddrFrom4([4]byte(value[4:8])).String()))
				add(keyPROFINETRouter, []byte(netip.AddrFrom4([4]byte(value[8:12])).String()))
			}
		}
	}
}
