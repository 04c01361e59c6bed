// Package wire says what a sweep needs of its attachment to a network. The operating system's interfaces and the
// simulated building both provide it, so every probe runs unchanged on either.
package wire

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"time"

	"airdrift/core/hwaddr"
	"airdrift/core/netrange"
)

// ErrNoRights is returned by Frames and Echo where the system does not permit them; what was asked for has then to
// be done without.
var ErrNoRights = errors.New("the operating system does not permit this to the user that runs airdrift")

// Ethernet types that probes ask for (IEEE 802 Numbers, IANA).
const (
	EtherTypeIPv4 uint16 = 0x0800
	EtherTypeARP  uint16 = 0x0806
	EtherTypeIPv6 uint16 = 0x86dd
	EtherTypeLLDP uint16 = 0x88cc
	// EtherTypeLLC stands for frames that have a length in place of a type (IEEE 802.3, 3.2.6; packet(7), ETH_P_802_2).
	EtherTypeLLC uint16 = 0x0004
)

// Link is what an attachment stands on.
type Link struct {
	Name        string         // the interface's name, such as eth0
	MAC         hwaddr.MAC     // zero where the link has none, as loopback
	MTU         int            // bytes of payload a frame may carry
	Prefixes    []netip.Prefix // own addresses with the lengths of their subnets
	Gateway     netip.Addr     // next hop of the default route of IPv4 by this link; invalid where there is none
	Gateway6    netip.Addr     // the same of IPv6
	NameServers []netip.Addr   // in the order the system asks them
	Down        bool           // it is switched off, unplugged, or not there any more
	Others      []netip.Addr   // of the machine's other interfaces
}

// OnLink reports whether the address lies in one of the link's own subnets, and gives the link's address there.
func (l Link) OnLink(a netip.Addr) (self netip.Addr, ok bool) {
	for _, p := range l.Prefixes {
		if p.Contains(a) {
			return p.Addr(), true
		}
	}
	return netip.Addr{}, false
}

// standsForAll reports whether an address stands for all of one of the link's IPv4 subnets (RFC 919; RFC 1122, 3.2.1.3). Subnets of two
// addresses have none such (RFC 3021).
func (l Link) standsForAll(a netip.Addr) bool {
	for _, p := range l.Prefixes {
		if p.Addr().Is4() && p.Bits() <= 30 && p.Contains(a) && (a == p.Masked().Addr() || a == netrange.Last(p)) {
			return true
		}
	}
	return false
}

// LinkLocal6 gives the link's own IPv6 address that is valid on the segment alone (RFC 4291, 2.5.6); invalid where it
// has none.
func (l Link) LinkLocal6() netip.Addr {
	for _, p := range l.Prefixes {
		if a := p.Addr(); a.Is6() && a.IsLinkLocalUnicast() {
			return a
		}
	}
	return netip.Addr{}
}

// GatewayTo gives the next hop towards an address beyond the link; invalid where there is none.
func (l Link) GatewayTo(a netip.Addr) netip.Addr {
	if a.Is6() {
		return l.Gateway6
	}
	return l.Gateway
}

// Within reports whether the segment itself belongs to one of the networks: one of the link's own subnets does.
func (l Link) Within(networks []netip.Prefix) bool {
	for _, own := range l.Prefixes {
		for _, n := range networks {
			if !own.Addr().IsLinkLocalUnicast() && n.Contains(own.Addr()) {
				return true
			}
		}
	}
	return false
}

// Broadcasts reports whether the link has a segment on which frames reach others, so that ARP has sense there.
func (l Link) Broadcasts() bool { return !l.MAC.IsZero() }

// Frame is one that came in.
type Frame struct {
	Bytes []byte    // it shares the buffer that it was read into
	At    time.Time // when the system took it in
	VLAN  uint16    // that it was tagged with; 0 where it was not (IEEE 802.1Q)
}

// FrameConn sends and receives whole Ethernet frames, headers included and check sequence left out.
// One reader and any number of writers may use it at once.
type FrameConn interface {
	ReadFrame(buf []byte) (Frame, error)
	WriteFrame(frame []byte) error
	// SetReadDeadline ends a ReadFrame, waiting or coming, with an error that is os.ErrDeadlineExceeded.
	SetReadDeadline(t time.Time) error
	Close() error
}

// EchoReply is one answer to an echo request.
type EchoReply struct {
	From netip.Addr
	Seq  uint16
	TTL  int // time to live (hop limit) left on arrival; 0 where the system does not tell
	Data []byte
}

// EchoConn sends echo requests and receives the answers to its own requests only (RFC 792, RFC 4443).
// One reader and any number of writers may use it at once.
type EchoConn interface {
	Send(dst netip.Addr, seq uint16, data []byte) error
	Receive() (EchoReply, error)
	// SetReadDeadline ends a Receive, waiting or coming, with an error that is os.ErrDeadlineExceeded.
	SetReadDeadline(t time.Time) error
	Close() error
}

// Neighbour is one entry of a system's ARP or neighbour discovery table.
type Neighbour struct {
	Addr netip.Addr
	MAC  hwaddr.MAC
}

// Wire is one attachment to a network. All methods may be called from several goroutines.
type Wire interface {
	// Link tells what the attachment stands on at this moment.
	Link() Link
	// Frames opens the segment itself for one Ethernet type; ErrNoRights where that is not permitted.
	Frames(ctx context.Context, etherType uint16) (FrameConn, error)
	// Echo opens a socket for echo requests over "ip4" or "ip6"; ErrNoRights where that is not permitted.
	Echo(ctx context.Context, network string) (EchoConn, error)
	// DialContext opens a connection that leaves by this attachment; network is "tcp" or "udp".
	DialContext(ctx context.Context, network string, addr netip.AddrPort) (net.Conn, error)
	// ListenPacket opens a datagram socket on this attachment, for broadcast and multicast. At the address of a group it joins the
	// group for as long as it is open, and hears what is sent to the port from then on.
	ListenPacket(ctx context.Context, network string, addr netip.AddrPort) (net.PacketConn, error)
	// Neighbours reads the system's own table of addresses and MAC addresses on this attachment.
	Neighbours(ctx context.Context) ([]Neighbour, error)
}

// Pinner is a Wire that can fix which MAC an address of the segment is reached by.
type Pinner interface {
	// Pin has what is sent to the address go to that MAC until restore is called, which puts back what was there; ErrNoRights where
	// that is not permitted.
	Pin(ctx context.Context, a netip.Addr, mac hwaddr.MAC) (restore func() error, err error)
}

// Watcher is a Wire that tells when its link may have changed.
type Watcher interface {
	// Changes gives something to receive on whenever the link may have changed, until ctx ends; nil where the system does not tell.
	Changes(ctx context.Context) <-chan struct{}
}

// Rights is what the system permits on an attachment.
type Rights struct {
	Frames     bool // whole Ethernet frames: ARP, neighbour discovery, hearing
	Echo       bool // echo requests, by whichever socket
	Neighbours bool // the system's own table of neighbours
}

// RightsOf finds out what is permitted by trying it; nothing is sent.
func RightsOf(ctx context.Context, w Wire) Rights {
	var rights Rights
	if frames, err := w.Frames(ctx, EtherTypeARP); err == nil {
		rights.Frames = true
		_ = frames.Close() // nothing was sent by it
	}
	if echo, err := w.Echo(ctx, "ip4"); err == nil {
		rights.Echo = true
		_ = echo.Close() // nothing was sent by it
	}
	_, err := w.Neighbours(ctx)
	rights.Neighbours = err == nil
	return rights
}

// Anywhere gives the unspecified address of the family of another (RFC 4291, 2.5.2), for sockets that are to have any address.
func Anywhere(a netip.Addr) netip.Addr {
	if a.Is4() {
		return netip.IPv4Unspecified()
	}
	return netip.IPv6Unspecified()
}
