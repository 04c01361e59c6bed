package simsite

import (
	"encoding/binary"
	"net"
	"net/netip"
	"slices"
)

// speaksPROFINET is how a scenario names a station of PROFINET, which has no port.
const speaksPROFINET = "profinet"

// answersDCP makes an interface answer the question who is there (IEC 61158-6-10, 4.3): "name", "type", "vendor" and "device" (numbers). Its "mask"
// and "gateway" are those of its network unless they are told.
func answersDCP(services []Service, leg Leg, network Network) func(*nic, []byte) {
	at := slices.IndexFunc(services, func(s Service) bool { return s.Speaks == speaksPROFINET })
	if at < 0 {
		return nil
	}
	tells := services[at].Tells
	return func(n *nic, frame []byte) {
		if len(frame) < ethernetHeader+16 || binary.BigEndian.Uint16(frame[12:]) != 0x8892 || string(frame[14:18]) != "\xfe\xfe\x05\x00" || string(frame[26:28]) != "\xff\xff" {
			return
		}
		block := func(option, suboption byte, value []byte) []byte {
			b := append([]byte{option, suboption, 0, byte(len(value) + 2), 0, 0}, value...)
			if len(value)%2 == 1 {
				b = append(b, 0)
			}
			return b
		}
		ip := make([]byte, 12)
		if leg.Address.Is4() {
			copy(ip, leg.Address.AsSlice())
			copy(ip[4:], addressOr(tells["mask"], net.CIDRMask(network.Subnet.Bits(), 32)))
			copy(ip[8:], addressOr(tells["gateway"], network.Gateway.AsSlice()))
		}
		vendor, device := bacnetInstance(tells["vendor"]), bacnetInstance(tells["device"])
		blocks := slices.Concat(block(1, 2, ip), block(2, 1, []byte(tells["type"])), block(2, 2, []byte(tells["name"])),
			block(2, 3, []byte{byte(vendor >> 8), byte(vendor), byte(device >> 8), byte(device)}), block(2, 4, []byte{1, 0}))
		answer := slices.Concat(frame[6:12], n.mac[:], []byte{0x88, 0x92, 0xfe, 0xff, 5, 1}, frame[18:22], []byte{0, 0, byte(len(blocks) >> 8), byte(len(blocks))}, blocks)
		n.port.send(answer)
	}
}

// addressOr gives the bytes of an IPv4 address that is told, or others.
func addressOr(told string, others []byte) []byte {
	if a, err := netip.ParseAddr(told); err == nil && a.Is4() {
		return a.AsSlice()
	}
	return others
}

// seesAll shows frames to all of some, of which any may be nil; nil where all are.
func seesAll(all ...func(*nic, []byte)) func(*nic, []byte) {
	all = slices.DeleteFunc(all, func(see func(*nic, []byte)) bool { return see == nil })
	if len(all) == 0 {
		return nil
	}
	return func(n *nic, frame []byte) {
		for _, see := range all {
			see(n, frame)
		}
	}
}
