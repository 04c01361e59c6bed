package probe

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"net/netip"
	"strings"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
	"airdrift/core/wire"
)

// PacketHeard is an IPv4 packet that came in on the segment.
type PacketHeard struct {
	MAC     hwaddr.MAC // of who sent it on: a router where the sender lies beyond
	From    netip.Addr
	Group   bool   // it was sent to all of a group, which no router passes on
	Stack   string // how the sender's TCP is set up, where it accepts a connection; else ""
	Port    uint16 // that a datagram came from; 0 where it is none
	Message []byte // of a datagram; it shares the frame's bytes
}

// ParsePacket reads of a whole Ethernet frame what tells of its sender: the acceptance of a TCP connection, and datagrams. ok is
// false for all else.
func ParsePacket(frame []byte) (heard PacketHeard, ok bool) {
	const header, fixed = 14, 20
	if len(frame) < header+fixed || binary.BigEndian.Uint16(frame[12:]) != wire.EtherTypeIPv4 || frame[header]>>4 != 4 {
		return PacketHeard{}, false
	}
	packet := frame[header:]
	size, total := int(packet[0]&15)*4, int(binary.BigEndian.Uint16(packet[2:]))
	if size < fixed || total < size || total > len(packet) || binary.BigEndian.Uint16(packet[6:])&0x1fff != 0 {
		return PacketHeard{}, false
	}
	heard = PacketHeard{MAC: hwaddr.MAC(frame[6:12]), From: netip.AddrFrom4([4]byte(packet[12:16])), Group: packet[16]>>4 == 14}
	const tcp, udp = 6, 17
	switch body := packet[size:total]; {
	case packet[9] == tcp && len(body) >= 20 && binary.BigEndian.Uint16(body) != llmnrPort: // which keeps to a time to live of 1 (RFC 4795, 2.5)
		heard.Stack, ok = stackOf(body, packet[8], packet[6]&0x40 != 0)
	case packet[9] == udp && len(body) >= 8:
		heard.Port, heard.Message, ok = binary.BigEndian.Uint16(body), body[8:], true
	}
	return heard, ok
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

// Announced reads a datagram that a device sent without being asked by itself, or in answer to a question to all. Multicast DNS
// comes from a port of its own (RFC 6762, 6); answers to searches may come from any, and are known by how they begin. ok is
// false where it tells nothing.
func Announced(port uint16, message []byte) (items []evidence.Item, ok bool) {
	switch {
	case port == mdnsPort:
		return HeardMDNS(message)
	case bytes.HasPrefix(message, []byte("HTTP/1.")), bytes.HasPrefix(message, []byte("NOTIFY ")):
		return HeardSSDP(message)
	case bytes.HasPrefix(bytes.TrimLeft(message, "\ufeff \t\r\n"), []byte("<")):
		return HeardWSD(message)
	}
	return nil, false
}
