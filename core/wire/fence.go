package wire

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
)

// OutsideError says that something would have been sent outside the fence; nothing was.
type OutsideError struct {
	Addr  netip.Addr
	Fence []netip.Prefix
}

func (e *OutsideError) Error() string {
	return fmt.Sprintf("%s lies outside the networks this site may be swept in (%s)", e.Addr, prefixList(e.Fence))
}

func prefixList(prefixes []netip.Prefix) string {
	if len(prefixes) == 0 {
		return "none are entered"
	}
	text := ""
	for i, p := range prefixes {
		if i > 0 {
			text += ", "
		}
		text += p.String()
	}
	return text
}

// Fenced is a Wire that refuses every destination outside its fence, whoever asks for it. It is the last gate before
// the network: probes get no other way out.
type Fenced struct {
	wire  Wire
	fence []netip.Prefix
}

var _ Wire = (*Fenced)(nil)

// Fence puts a fence before a wire.
func Fence(w Wire, fence []netip.Prefix) *Fenced { return &Fenced{wire: w, fence: fence} }

// check refuses an address outside. Addresses that are valid on the segment alone are inside where the segment itself
// belongs to one of the networks: what is sent to them goes no further.
func (f *Fenced) check(a netip.Addr) error {
	a = a.Unmap().WithZone("")
	for _, p := range f.fence {
		if p.Contains(a) {
			return nil
		}
	}
	if isOfSegment(a) && f.wire.Link().Within(f.fence) {
		return nil
	}
	return &OutsideError{Addr: a, Fence: f.fence}
}

// siteLocal holds the groups that routers keep within a site (RFC 2365, 6.1), in which devices announce themselves. What is
// sent to them leaves with a time to live of 1 and goes no further than the segment.
var siteLocal = netip.MustParsePrefix("239.255.0.0/16")

// isOfSegment reports whether what is sent to an address stays on the segment.
func isOfSegment(a netip.Addr) bool {
	return a.IsLinkLocalMulticast() || a.Is6() && a.IsLinkLocalUnicast() || siteLocal.Contains(a)
}

// Link tells what the attachment stands on.
func (f *Fenced) Link() Link { return f.wire.Link() }

// Neighbours reads the system's table; it sends nothing.
func (f *Fenced) Neighbours(ctx context.Context) ([]Neighbour, error) { return f.wire.Neighbours(ctx) }

// Frames opens the segment; an ARP request for an address outside the fence is refused when it is written, and so is
// an IPv6 packet to one.
func (f *Fenced) Frames(ctx context.Context, etherType uint16) (FrameConn, error) {
	target, known := frameTargets[etherType]
	if !known {
		return nil, fmt.Errorf("frames of type %#04x cannot be held to a fence", etherType)
	}
	conn, err := f.wire.Frames(ctx, etherType)
	if err != nil {
		return nil, err
	}
	return &fencedFrames{FrameConn: conn, target: target, check: f.check}, nil
}

// Echo opens an echo socket that refuses addresses outside the fence.
func (f *Fenced) Echo(ctx context.Context, network string) (EchoConn, error) {
	conn, err := f.wire.Echo(ctx, network)
	if err != nil {
		return nil, err
	}
	return &fencedEcho{EchoConn: conn, check: f.check}, nil
}

// DialContext refuses addresses outside the fence with *OutsideError.
func (f *Fenced) DialContext(ctx context.Context, network string, addr netip.AddrPort) (net.Conn, error) {
	if err := f.check(addr.Addr()); err != nil {
		return nil, err
	}
	return f.wire.DialContext(ctx, network, addr)
}

// ListenPacket opens a datagram socket whose writes are held to the fence.
func (f *Fenced) ListenPacket(ctx context.Context, network string, addr netip.AddrPort) (net.PacketConn, error) {
	conn, err := f.wire.ListenPacket(ctx, network, addr)
	if err != nil {
		return nil, err
	}
	return &fencedPackets{PacketConn: conn, check: f.check}, nil
}

type fencedEcho struct {
	EchoConn
	check func(netip.Addr) error
}

func (c *fencedEcho) Send(dst netip.Addr, seq uint16, data []byte) error {
	if err := c.check(dst); err != nil {
		return err
	}
	return c.EchoConn.Send(dst, seq, data)
}

type fencedPackets struct {
	net.PacketConn
	check func(netip.Addr) error
}

func (c *fencedPackets) WriteTo(b []byte, to net.Addr) (int, error) {
	dst, err := netip.ParseAddrPort(to.String())
	if err != nil {
		return 0, fmt.Errorf("datagram to %s: %w", to, err)
	}
	if err := c.check(dst.Addr()); err != nil {
		return 0, err
	}
	return c.PacketConn.WriteTo(b, to)
}

type fencedFrames struct {
	FrameConn
	target func(frame []byte) (netip.Addr, error)
	check  func(netip.Addr) error
}

func (c *fencedFrames) WriteFrame(frame []byte) error {
	target, err := c.target(frame)
	if err != nil {
		return err
	}
	if err := c.check(target); err != nil {
		return err
	}
	return c.FrameConn.WriteFrame(frame)
}

// frameTargets read out of a frame whom it is for, by its Ethernet type.
var frameTargets = map[uint16]func(frame []byte) (netip.Addr, error){
	EtherTypeARP:  arpTarget,
	EtherTypeIPv4: ipv4Target,
	EtherTypeIPv6: ipv6Target,
	EtherTypeLLDP: noTarget,
}

const ethernetHeader = 14

// arpTarget gives the target protocol address of an ARP packet for IPv4 over Ethernet (RFC 826).
func arpTarget(frame []byte) (netip.Addr, error) {
	const start, end = ethernetHeader + 24, ethernetHeader + 28
	if len(frame) < end {
		return netip.Addr{}, fmt.Errorf("an ARP frame of %d bytes is too short", len(frame))
	}
	return netip.AddrFrom4([4]byte(frame[start:end])), nil
}

// ipv4Target gives the destination of an IPv4 packet (RFC 791, 3.1).
func ipv4Target(frame []byte) (netip.Addr, error) {
	const start, end = ethernetHeader + 16, ethernetHeader + 20
	if len(frame) < end {
		return netip.Addr{}, fmt.Errorf("an IPv4 frame of %d bytes is too short", len(frame))
	}
	return netip.AddrFrom4([4]byte(frame[start:end])), nil
}

// noTarget refuses frames that are only heard.
func noTarget([]byte) (netip.Addr, error) {
	return netip.Addr{}, errors.New("frames of this type are heard and never sent")
}

// ipv6Target gives the destination of an IPv6 packet (RFC 8200, 3), and where it is a neighbour solicitation the
// address that it asks for (RFC 4861, 4.3).
func ipv6Target(frame []byte) (netip.Addr, error) {
	const (
		nextHeader, icmpv6, solicitation = ethernetHeader + 6, 58, 135
		destination                      = ethernetHeader + 24
		payload                          = ethernetHeader + 40
		asked                            = payload + 8
	)
	if len(frame) < payload+8 {
		return netip.Addr{}, fmt.Errorf("an IPv6 frame of %d bytes is too short", len(frame))
	}
	if frame[nextHeader] == icmpv6 && frame[payload] == solicitation && len(frame) >= asked+16 {
		return netip.AddrFrom16([16]byte(frame[asked : asked+16])), nil
	}
	return netip.AddrFrom16([16]byte(frame[destination : destination+16])), nil
}
