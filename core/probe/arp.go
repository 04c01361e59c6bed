package probe

import (
	"net/netip"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"

	"airdrift/core/hwaddr"
)

// ARPRequest builds the Ethernet frame that asks who has an IPv4 address (RFC 826). A zero sender address makes it a
// probe as in RFC 5227, 2.1.1, which leaves no trace in the tables of those that hear it.
func ARPRequest(from hwaddr.MAC, sender, target netip.Addr) []byte {
	source, wanted := sender.As4(), target.As4()
	buf := gopacket.NewSerializeBuffer()
	err := gopacket.SerializeLayers(buf, gopacket.SerializeOptions{},
		&layers.Ethernet{SrcMAC: from.Hardware(), DstMAC: hwaddr.Broadcast.Hardware(), EthernetType: layers.EthernetTypeARP},
		&layers.ARP{
			AddrType: layers.LinkTypeEthernet, Protocol: layers.EthernetTypeIPv4,
			HwAddressSize: 6, ProtAddressSize: 4, Operation: layers.ARPRequest,
			SourceHwAddress: from[:], SourceProtAddress: source[:],
			DstHwAddress: make([]byte, 6), DstProtAddress: wanted[:],
		})
	if err != nil {
		panic("probe: an ARP request of fixed size could not be built: " + err.Error())
	}
	return buf.Bytes()
}

// ARPHeard is what an ARP packet says of its sender.
type ARPHeard struct {
	Addr  netip.Addr
	MAC   hwaddr.MAC
	Reply bool // false: a request, which tells of its sender as well
}

// ParseARP reads a frame. ok is false where it is no ARP packet for IPv4 over Ethernet, or one that tells nothing of
// its sender (RFC 5227 probes carry no sender address) or tells an impossible MAC.
func ParseARP(frame []byte) (heard ARPHeard, ok bool) {
	var eth layers.Ethernet
	var arp layers.ARP
	if eth.DecodeFromBytes(frame, gopacket.NilDecodeFeedback) != nil || eth.EthernetType != layers.EthernetTypeARP {
		return ARPHeard{}, false
	}
	if arp.DecodeFromBytes(eth.Payload, gopacket.NilDecodeFeedback) != nil {
		return ARPHeard{}, false
	}
	if arp.AddrType != layers.LinkTypeEthernet || arp.Protocol != layers.EthernetTypeIPv4 || len(arp.SourceHwAddress) != 6 || len(arp.SourceProtAddress) != 4 {
		return ARPHeard{}, false
	}
	heard = ARPHeard{
		Addr:  netip.AddrFrom4([4]byte(arp.SourceProtAddress)),
		MAC:   hwaddr.MAC(arp.SourceHwAddress),
		Reply: arp.Operation == layers.ARPReply,
	}
	return heard, !heard.Addr.IsUnspecified() && !heard.MAC.IsZero() && !heard.MAC.IsGroup()
}
