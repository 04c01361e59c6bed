package wire

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"sync"
	"syscall"
	"time"

	"airdrift/core/hwaddr"
	"airdrift/core/netrange"
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

// Limits are what a wire is held to.
type Limits struct {
	Networks []netip.Prefix // nothing outside them is ever sent a packet
	Excluded netrange.Set   // what lies within them and is left alone all the same, whoever names it
	Never    []uint16       // ports that are never sent anything, by TCP or by datagram
	ToAll    Allowance      // what may be sent to all of the segment at once; nothing where it is zero
}

// Allowance names what a sweep of a whole segment may send to all of it.
type Allowance struct {
	// Groups are multicast groups, and 255.255.255.255 for everybody, by the broadcast addresses of the link's subnets too. What is sent to them leaves with a time to live of 1 and goes no
	// further than the segment.
	Groups []netip.Addr
	Casts  []Cast // layer-2 groups
}

// Cast is an Ethernet type and the layer-2 group to which frames of it may be sent.
type Cast struct {
	EtherType uint16
	To        hwaddr.MAC
}

// LeftAloneError says that something would have been sent to an address or a port that is to be left alone; nothing was.
type LeftAloneError struct {
	Addr netip.Addr
	Port uint16 // 0 where it is the address that is left alone
}

func (e *LeftAloneError) Error() string {
	if e.Port != 0 {
		return fmt.Sprintf("port %d is never sent anything, and so not that of %s", e.Port, e.Addr)
	}
	return fmt.Sprintf("%s is among what is left out", e.Addr)
}

// Fenced is a Wire that refuses every destination outside its limits, whoever asks for it. It is the last gate before
// the network: probes get no other way out.
type Fenced struct {
	wire   Wire
	limits Limits

	mu    sync.Mutex // guards both
	link  Link
	until time.Time
}

// linkLife is how long the link is taken to be as it was: each packet is held against it, and each look costs system calls.
const linkLife = time.Second

// standing gives what the attachment stands on, as it was a moment ago.
func (f *Fenced) standing() Link {
	f.mu.Lock()
	defer f.mu.Unlock()
	if now := time.Now(); now.After(f.until) {
		f.link, f.until = f.wire.Link(), now.Add(linkLife)
	}
	return f.link
}

var _ Wire = (*Fenced)(nil)

// Fence puts limits before a wire.
func Fence(w Wire, limits Limits) *Fenced { return &Fenced{wire: w, limits: limits} }

// check refuses an address outside. Addresses that are valid on the segment alone are inside where the segment itself
// belongs to one of the networks: what is sent to them goes no further.
func (f *Fenced) check(a netip.Addr) error {
	a = a.Unmap().WithZone("")
	link := f.standing()
	if (isOfMany(a) || isOfSegment(a)) && (link.Down || len(link.Prefixes) == 0) {
		return fmt.Errorf("%s is away: %w", link.Name, syscall.ENETDOWN)
	}
	if isOfMany(a) || link.standsForAll(a) {
		name := a
		if !a.IsMulticast() {
			name = everybody
		}
		switch allowed := slices.Contains(f.limits.ToAll.Groups, name) && !a.IsUnspecified(); {
		case allowed && link.Within(f.limits.Networks):
			return nil
		case allowed: // it was within them when that was allowed
			return fmt.Errorf("%s has moved to another segment: %w", link.Name, syscall.ENETDOWN)
		}
		return &OutsideError{Addr: a, Fence: f.limits.Networks}
	}
	if f.limits.Excluded.Contains(a) {
		return &LeftAloneError{Addr: a}
	}
	for _, p := range f.limits.Networks {
		if p.Contains(a) {
			return nil
		}
	}
	if isOfSegment(a) && link.Within(f.limits.Networks) {
		return nil
	}
	return &OutsideError{Addr: a, Fence: f.limits.Networks}
}

// checkPort is check for an address and a port at it.
func (f *Fenced) checkPort(addr netip.AddrPort) error {
	if err := f.check(addr.Addr()); err != nil {
		return err
	}
	if slices.Contains(f.limits.Never, addr.Port()) {
		return &LeftAloneError{addr.Addr(), addr.Port()}
	}
	return nil
}

// everybody is who hears what is sent to all of a segment (RFC 919).
var everybody = netip.AddrFrom4([4]byte{255, 255, 255, 255})

// isOfMany reports whether an address is no single device's own.
func isOfMany(a netip.Addr) bool { return a.IsMulticast() || a.IsUnspecified() || a == everybody }

// isOfSegment reports whether what is sent to an address stays on the segment.
func isOfSegment(a netip.Addr) bool { return a.Is6() && a.IsLinkLocalUnicast() }

// Link tells what the attachment stands on.
func (f *Fenced) Link() Link { return f.wire.Link() }

// Neighbours reads the system's table; it sends nothing.
func (f *Fenced) Neighbours(ctx context.Context) ([]Neighbour, error) { return f.wire.Neighbours(ctx) }

// Pin fixes the MAC of an address within the fence; ErrNoRights where the wire cannot.
func (f *Fenced) Pin(ctx context.Context, a netip.Addr, mac hwaddr.MAC) (restore func() error, err error) {
	pinner, can := f.wire.(Pinner)
	if !can {
		return nil, ErrNoRights
	}
	if err := f.check(a); err != nil {
		return nil, err
	}
	return pinner.Pin(ctx, a, mac)
}

// Frames opens the segment; an ARP request for an address outside the fence is refused when it is written, and so is
// an IPv6 packet to one. Frames of other types are heard, and sent to the layer-2 groups that are allowed.
func (f *Fenced) Frames(ctx context.Context, etherType uint16) (FrameConn, error) {
	conn, err := f.wire.Frames(ctx, etherType)
	if err != nil {
		return nil, err
	}
	return &fencedFrames{FrameConn: conn, may: func(frame []byte) error { return f.mayCast(etherType, frame) }}, nil
}

func (f *Fenced) mayCast(etherType uint16, frame []byte) error {
	if target, known := frameTargets[etherType]; known {
		to, err := target(frame)
		if err != nil {
			return err
		}
		return f.check(to)
	}
	if len(frame) < ethernetHeader {
		return fmt.Errorf("a frame of %d bytes is too short", len(frame))
	}
	if !slices.Contains(f.limits.ToAll.Casts, Cast{etherType, hwaddr.MAC(frame[0:6])}) || !f.standing().Within(f.limits.Networks) {
		return fmt.Errorf("frames of type %#04x are heard and not sent to %s", etherType, hwaddr.MAC(frame[0:6]))
	}
	return nil
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
	if err := f.checkPort(addr); err != nil {
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
	return &fencedPackets{PacketConn: conn, check: f.checkPort}, nil
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
	check func(netip.AddrPort) error
}

func (c *fencedPackets) WriteTo(b []byte, to net.Addr) (int, error) {
	dst, err := netip.ParseAddrPort(to.String())
	if err != nil {
		return 0, fmt.Errorf("datagram to %s: %w", to, err)
	}
	if err := c.check(dst); err != nil {
		return 0, err
	}
	return c.PacketConn.WriteTo(b, to)
}

type fencedFrames struct {
	FrameConn
	may func(frame []byte) error
}

func (c *fencedFrames) WriteFrame(frame []byte) error {
	if err := c.may(frame); err != nil {
		return err
	}
	return c.FrameConn.WriteFrame(frame)
}

// frameTargets read out of a frame whom it is for, by its Ethernet type.
var frameTargets = map[uint16]func(frame []byte) (netip.Addr, error){
	EtherTypeARP:  arpTarget,
	EtherTypeIPv4: ipv4Target,
	EtherTypeIPv6: ipv6Target,
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
