package probe

import (
	"bytes"
	"encoding/binary"
	"net/netip"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"

	"airdrift/core/hwaddr"
)

// AllNodes is every IPv6 node of a segment (RFC 4291, 2.7.1).
var AllNodes = netip.MustParseAddr("ff02::1")

// onSegmentHops is the hop limit of neighbour discovery: a packet that has passed a router has less (RFC 4861, 6.1.1).
const onSegmentHops = 255

// NeighbourSolicitation builds the frame that asks who has an IPv6 address (RFC 4861, 4.3).
func NeighbourSolicitation(from hwaddr.MAC, sender, target netip.Addr) []byte {
	low := target.As16()
	group := netip.MustParseAddr("ff02::1:ff00:0").As16()
	copy(group[13:], low[13:])
	return icmpv6(from, sender, netip.AddrFrom16(group), layers.ICMPv6TypeNeighborSolicitation, &layers.ICMPv6NeighborSolicitation{
		TargetAddress: target.AsSlice(),
		Options:       layers.ICMPv6Options{{Type: layers.ICMPv6OptSourceAddress, Data: from[:]}},
	})
}

// AllNodesEcho builds the echo request that every IPv6 node of the segment hears (RFC 4443, 4.1); those that answer
// requests to groups give themselves away.
func AllNodesEcho(from hwaddr.MAC, sender netip.Addr, nonce [8]byte) []byte {
	return icmpv6(from, sender, AllNodes, layers.ICMPv6TypeEchoRequest, &layers.ICMPv6Echo{Identifier: 1, SeqNumber: 1}, gopacket.Payload(nonce[:]))
}

func icmpv6(from hwaddr.MAC, sender, to netip.Addr, kind uint8, body ...gopacket.SerializableLayer) []byte {
	low := to.As16()
	group := hwaddr.MAC{0x33, 0x33, low[12], low[13], low[14], low[15]} // RFC 2464, 7
	ip := &layers.IPv6{Version: 6, NextHeader: layers.IPProtocolICMPv6, HopLimit: onSegmentHops, SrcIP: sender.AsSlice(), DstIP: to.AsSlice()}
	head := &layers.ICMPv6{TypeCode: layers.CreateICMPv6TypeCode(kind, 0)}
	stack := append([]gopacket.SerializableLayer{
		&layers.Ethernet{SrcMAC: from.Hardware(), DstMAC: group.Hardware(), EthernetType: layers.EthernetTypeIPv6}, ip, head,
	}, body...)
	buf := gopacket.NewSerializeBuffer()
	err := head.SetNetworkLayerForChecksum(ip)
	if err == nil {
		err = gopacket.SerializeLayers(buf, gopacket.SerializeOptions{FixLengths: true, ComputeChecksums: true}, stack...)
	}
	if err != nil {
		panic("probe: an ICMPv6 packet of fixed size could not be built: " + err.Error())
	}
	return buf.Bytes()
}

// NDHeard is what an ICMPv6 packet of the segment says of its sender.
type NDHeard struct {
	Addr     netip.Addr
	MAC      hwaddr.MAC
	Solicits bool    // it asks for another, rather than telling of itself
	Router   bool    // it calls itself a router
	Echo     bool    // it answers an echo request
	Nonce    [8]byte // what the echo request carried
}

// ICMPv6 types that tell of their sender (RFC 4443, RFC 4861).
const (
	icmpEchoReply     = layers.ICMPv6TypeEchoReply
	icmpSolicitation  = layers.ICMPv6TypeNeighborSolicitation
	icmpAdvertisement = layers.ICMPv6TypeNeighborAdvertisement
	icmpRouterAdvert  = layers.ICMPv6TypeRouterAdvertisement
	fixedIPv6Header   = 40
	routerFlag        = 0x80 // of a neighbour advertisement (RFC 4861, 4.4)
)

// ParseND reads a frame. ok is false where it is no neighbour discovery and no answer to an echo request, has passed a
// router, or tells nothing of its sender.
func ParseND(frame []byte) (heard NDHeard, ok bool) {
	var eth layers.Ethernet
	if eth.DecodeFromBytes(frame, gopacket.NilDecodeFeedback) != nil || eth.EthernetType != layers.EthernetTypeIPv6 {
		return NDHeard{}, false
	}
	packet := eth.Payload
	if len(packet) < fixedIPv6Header+8 || packet[6] != byte(layers.IPProtocolICMPv6) {
		return NDHeard{}, false
	}
	icmp := packet[fixedIPv6Header:min(len(packet), fixedIPv6Header+int(binary.BigEndian.Uint16(packet[4:6])))]
	if len(icmp) < 8 {
		return NDHeard{}, false
	}
	heard = NDHeard{Addr: netip.AddrFrom16([16]byte(packet[8:24])), MAC: hwaddr.MAC(frame[6:12])}
	near := packet[7] == onSegmentHops
	switch icmp[0] {
	case icmpEchoReply:
		if len(icmp) != 16 {
			return NDHeard{}, false
		}
		heard.Echo, heard.Nonce, near = true, [8]byte(icmp[8:16]), true
	case icmpSolicitation:
		heard.Solicits = true
	case icmpRouterAdvert:
		heard.Router = true
	case icmpAdvertisement:
		if len(icmp) < 24 {
			return NDHeard{}, false
		}
		heard.Addr, heard.Router = netip.AddrFrom16([16]byte(icmp[8:24])), icmp[4]&routerFlag != 0
		if mac, told := linkLayerOption(icmp[24:], layers.ICMPv6OptTargetAddress); told {
			heard.MAC = mac
		}
	default:
		return NDHeard{}, false
	}
	valid := !heard.Addr.IsUnspecified() && !heard.Addr.IsMulticast() && !heard.Addr.Is4In6() && !heard.MAC.IsZero() && !heard.MAC.IsGroup()
	return heard, near && valid
}

// linkLayerOption finds a MAC among the options of a neighbour discovery packet (RFC 4861, 4.6.1).
func linkLayerOption(options []byte, wanted layers.ICMPv6Opt) (hwaddr.MAC, bool) {
	for len(options) >= 8 {
		size := int(options[1]) * 8
		if size == 0 || size > len(options) {
			break
		}
		if options[0] == byte(wanted) && !bytes.Equal(options[2:8], make([]byte, 6)) {
			return hwaddr.MAC(options[2:8]), true
		}
		options = options[size:]
	}
	return hwaddr.MAC{}, false
}
