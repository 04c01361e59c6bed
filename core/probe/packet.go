package probe

import (
	"encoding/binary"
	"fmt"
	"net/netip"
	"strings"

	"airdrift/core/hwaddr"
)

// PacketHeard is an IP packet that came in on the segment.
type PacketHeard struct {
	MAC     hwaddr.MAC // of the one that sent it on: a router where the sender lies beyond
	From    netip.Addr
	Target  netip.Addr // that it was sent to
	Group   bool       // it was sent to all of a group, which no router passes on
	ToAll   bool       // its frame went to everybody on the segment
	Stack   string     // how the sender's TCP is set up, where it accepts a connection; else ""
	TCP     uint16     // port that a connection was accepted at; 0 where none was
	Port    uint16     // that a datagram came from; 0 where it is none
	To      uint16     // that a datagram went to
	Message []byte     // of a datagram; it shares the frame's bytes
	Refusal *Refusal   // that the sender tells; nil where it tells none
}

// Refusal says that a packet could not be delivered (RFC 792, RFC 4443).
type Refusal struct {
	From, To netip.Addr // of the packet that was not delivered
	Text     string     // why; "" where it says no more than that nothing listens at the port
}

// packet is an IP packet of which the header has been read.
type packet struct {
	from, to     netip.Addr
	protocol     byte // IANA Protocol Numbers
	hops         byte // left
	dontFragment bool
	body         []byte
}

// IANA Protocol Numbers.
const (
	protoICMP, protoTCP, protoUDP, protoICMPv6 = 1, 6, 17, 58
)

// readPacket reads the header of an IP packet. ok is false for one that is cut up: a part is not the whole.
func readPacket(raw []byte) (p packet, ok bool) {
	const fixed4, fixed6, fragmented = 20, 40, 0x3fff // more to follow, or not the first
	switch {
	case len(raw) >= fixed4 && raw[0]>>4 == 4:
		size, total := int(raw[0]&15)*4, int(binary.BigEndian.Uint16(raw[2:]))
		if size < fixed4 || total < size || total > len(raw) || binary.BigEndian.Uint16(raw[6:])&fragmented != 0 {
			return packet{}, false
		}
		return packet{
			from: netip.AddrFrom4([4]byte(raw[12:16])), to: netip.AddrFrom4([4]byte(raw[16:20])), protocol: raw[9], hops: raw[8],
			dontFragment: raw[6]&0x40 != 0, body: raw[size:total],
		}, true
	case len(raw) >= fixed6 && raw[0]>>4 == 6:
		total := fixed6 + int(binary.BigEndian.Uint16(raw[4:]))
		if total > len(raw) {
			return packet{}, false
		}
		return packet{
			from: netip.AddrFrom16([16]byte(raw[8:24])), to: netip.AddrFrom16([16]byte(raw[24:40])), protocol: raw[6], hops: raw[7], body: raw[fixed6:total],
		}, true
	}
	return packet{}, false
}

// ParsePacket reads of a whole Ethernet frame what tells of its sender: the acceptance of a TCP connection, datagrams, and that
// something could not be delivered. ok is false for all else.
func ParsePacket(frame []byte) (heard PacketHeard, ok bool) {
	const header = 14
	if len(frame) < header {
		return PacketHeard{}, false
	}
	p, ok := readPacket(frame[header:])
	if !ok {
		return PacketHeard{}, false
	}
	heard = PacketHeard{MAC: hwaddr.MAC(frame[6:12]), From: p.from, Target: p.to, Group: p.to.IsMulticast(), ToAll: hwaddr.MAC(frame[:6]) == hwaddr.Broadcast}
	switch {
	case p.protocol == protoTCP && len(p.body) >= 20:
		heard.TCP = binary.BigEndian.Uint16(p.body)
		heard.Stack, ok = stackOf(p.body, p.hops, p.dontFragment)
		return heard, ok && p.from.Is4()
	case p.protocol == protoUDP && len(p.body) >= 8:
		heard.Port, heard.To, heard.Message = binary.BigEndian.Uint16(p.body), binary.BigEndian.Uint16(p.body[2:]), p.body[8:]
		return heard, true
	case p.protocol == protoICMP || p.protocol == protoICMPv6:
		heard.Refusal = readRefusal(p)
		return heard, heard.Refusal != nil
	}
	return heard, false
}

// Reasons for which a packet is not delivered, by type and code (RFC 792, RFC 1812, 5.2.7.1; RFC 4443, 3.1).
var (
	refusals4 = map[byte]string{
		0: "no way to the network", 1: "no way to the host", 2: "no such protocol", 5: "source route failed", 6: "network unknown", 7: "host unknown",
		9: "network administratively prohibited", 10: "host administratively prohibited", 13: "administratively prohibited",
	}
	refusals6 = map[byte]string{
		0: "no way to the network", 1: "administratively prohibited", 2: "beyond the scope of the address", 3: "no way to the host",
		5: "address refused by policy", 6: "way rejected",
	}
)

// readRefusal reads an ICMP message that something could not be delivered, with the head of the packet that it speaks of; nil where
// it is none.
func readRefusal(p packet) *Refusal {
	const head, unreachable4, port4, unreachable6, port6 = 8, 3, 3, 1, 4
	if len(p.body) < head+20 {
		return nil
	}
	kind, code, about := p.body[0], p.body[1], p.body[head:]
	r := &Refusal{}
	switch {
	case p.protocol == protoICMP && kind == unreachable4 && about[0]>>4 == 4:
		r.From, r.To = netip.AddrFrom4([4]byte(about[12:16])), netip.AddrFrom4([4]byte(about[16:20]))
		if code != port4 {
			r.Text = refusals4[code]
		}
	case p.protocol == protoICMPv6 && kind == unreachable6 && about[0]>>4 == 6 && len(about) >= 40:
		r.From, r.To = netip.AddrFrom16([16]byte(about[8:24])), netip.AddrFrom16([16]byte(about[24:40]))
		if code != port6 {
			r.Text = refusals6[code]
		}
	default:
		return nil
	}
	return r
}

// stackOf writes down how a connection is accepted: the time to live that was left, the window, and the options in their
// order (RFC 9293, 3.1 and 3.2; RFC 7323; RFC 2018). Systems differ in it, though only hints come of that.
func stackOf(segment []byte, ttl byte, dontFragment bool) (string, bool) {
	const synAck, flags = 0x12, 0x3f
	size := int(segment[12]>>4) * 4
	if segment[13]&flags != synAck || size < 20 || size > len(segment) {
		return "", false
	}
	var options []string
	for rest := segment[20:size]; len(rest) > 0; {
		if rest[0] == 0 {
			options = append(options, "end")
			break
		}
		if rest[0] == 1 {
			options, rest = append(options, "nop"), rest[1:]
			continue
		}
		if len(rest) < 2 || int(rest[1]) < 2 || int(rest[1]) > len(rest) {
			break
		}
		options, rest = append(options, optionName(rest[:rest[1]])), rest[rest[1]:]
	}
	df := ""
	if dontFragment {
		df = " df"
	}
	return fmt.Sprintf("ttl=%d%s window=%d options=%s", initialTTL(ttl), df, binary.BigEndian.Uint16(segment[14:]), strings.Join(options, ",")), true
}

// initialTTL gives the value a system most likely began with: the next above of those that are in use.
func initialTTL(left byte) int {
	for _, start := range []int{32, 64, 128} {
		if int(left) <= start {
			return start
		}
	}
	return 255
}

// optionName names an option of TCP (IANA TCP Option Kind Numbers), with the scale of windows.
func optionName(option []byte) string {
	switch {
	case option[0] == 2:
		return "mss"
	case option[0] == 3 && len(option) == 3:
		return fmt.Sprintf("ws%d", option[2])
	case option[0] == 4:
		return "sack"
	case option[0] == 8:
		return "ts"
	}
	return fmt.Sprintf("%d", option[0])
}
