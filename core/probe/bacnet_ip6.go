package probe

import (
	"context"
	"encoding/binary"
	"math/rand/v2"
	"net"
	"net/netip"
	"slices"
	"time"
)

// Of the link layer over IPv6 (ASHRAE 135-2016, U.2). Behind it all is as over IPv4.
const (
	bvlc6Type      = 0x82
	bvlc6Unicast   = 0x01
	bvlc6Broadcast = 0x02
	bvlc6Forwarded = 0x08
	bvlc6WhoAreYou = 0x06 // asks what is at an address for its virtual address
	bvlc6IAm       = 0x07

	vmacLength = 3
)

// bacnetGroup6 is where all of a segment is called (U.4.1).
var bacnetGroup6 = netip.AddrPortFrom(netip.MustParseAddr("ff02::bac0"), bacnetPort)

// vmac is a virtual address, which stands for a device where there are no more than three octets for it (H.7).
type vmac [vmacLength]byte

// randomVMAC is one of those that are drawn, for a device without a device object (H.7.3).
func randomVMAC() vmac {
	n := rand.Uint32()
	return vmac{0x40 | byte(n>>16)&0x3f, byte(n >> 8), byte(n)}
}

// bacnetCalls6 is bacnetCalls for IPv6.
func bacnetCalls6() ([][]byte, error) {
	calls, err := bacnetCalls()
	self := randomVMAC()
	for i, call := range calls {
		calls[i] = toBVLC6(call, self, vmac{})
	}
	return calls, err
}

// toBVLC6 puts a message under the link layer of IPv6; to counts where one device is spoken to.
func toBVLC6(message []byte, self, to vmac) []byte {
	function, head := byte(bvlc6Broadcast), self[:]
	if message[1] == bvlcUnicast {
		function, head = bvlc6Unicast, slices.Concat(self[:], to[:])
	}
	datagram := binary.BigEndian.AppendUint16([]byte{bvlc6Type, function}, uint16(len(message)+len(head)))
	return slices.Concat(datagram, head, message[4:])
}

// fromBVLC6 puts a message under the link layer of IPv4, where it is read. ok is false where it carries nothing.
func fromBVLC6(datagram []byte) (message []byte, from vmac, ok bool) {
	if len(datagram) < 4+vmacLength || datagram[0] != bvlc6Type || int(binary.BigEndian.Uint16(datagram[2:])) != len(datagram) {
		return nil, from, false
	}
	rest := datagram[4+vmacLength:]
	function := byte(bvlcUnicast)
	switch datagram[1] {
	case bvlc6Unicast:
		if len(rest) < vmacLength {
			return nil, from, false
		}
		rest = rest[vmacLength:]
	case bvlc6Broadcast:
		function = bvlcBroadcast
	case bvlc6Forwarded: // reads like one of IPv4, whose place before the message is shorter
		const place6, place4 = 18, 6
		if len(rest) < place6 {
			return nil, from, false
		}
		function, rest = bvlcForwarded, rest[place6-place4:]
	default:
		return nil, from, false
	}
	head := binary.BigEndian.AppendUint16([]byte{bvlcType, function}, uint16(4+len(rest)))
	return append(head, rest...), vmac(datagram[4:]), true
}

// bacnetConn6 is a conversation over IPv6 with one device, in messages as they are over IPv4.
type bacnetConn6 struct {
	net.Conn
	self, peer vmac
}

// overIPv6 asks what is at an address for its virtual address (U.2.7), and gives the conversation with it.
func overIPv6(ctx context.Context, conn net.Conn, wait time.Duration) (net.Conn, error) {
	c := &bacnetConn6{Conn: conn, self: randomVMAC()}
	question := append([]byte{bvlc6Type, bvlc6WhoAreYou, 0, 4 + vmacLength}, c.self[:]...)
	err := converse(ctx, conn, question, wait, func(answer []byte) verdict {
		if len(answer) != 4+2*vmacLength || answer[0] != bvlc6Type || answer[1] != bvlc6IAm || vmac(answer[4+vmacLength:]) != c.self {
			return ignore
		}
		c.peer = vmac(answer[4:])
		return enough
	})
	return c, err
}

// Write sends a message to the device.
func (c *bacnetConn6) Write(message []byte) (int, error) {
	if _, err := c.Conn.Write(toBVLC6(message, c.self, c.peer)); err != nil {
		return 0, err
	}
	return len(message), nil
}

// Read gives the next message; what is none has no bytes.
func (c *bacnetConn6) Read(buf []byte) (int, error) {
	datagram := make([]byte, maxDatagram)
	n, err := c.Conn.Read(datagram)
	if err != nil {
		return 0, err
	}
	message, _, _ := fromBVLC6(datagram[:n])
	return copy(buf, message), nil
}
