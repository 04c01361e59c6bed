package simsite

import (
	"encoding/binary"
	"fmt"
	"net/netip"

	"gvisor.dev/gvisor/pkg/buffer"
	"gvisor.dev/gvisor/pkg/tcpip"
	"gvisor.dev/gvisor/pkg/tcpip/header"
	"gvisor.dev/gvisor/pkg/tcpip/link/channel"
	"gvisor.dev/gvisor/pkg/tcpip/link/ethernet"
	"gvisor.dev/gvisor/pkg/tcpip/network/arp"
	"gvisor.dev/gvisor/pkg/tcpip/network/ipv4"
	"gvisor.dev/gvisor/pkg/tcpip/network/ipv6"
	"gvisor.dev/gvisor/pkg/tcpip/stack"
	"gvisor.dev/gvisor/pkg/tcpip/transport/icmp"
	"gvisor.dev/gvisor/pkg/tcpip/transport/tcp"
	"gvisor.dev/gvisor/pkg/tcpip/transport/udp"

	"airdrift/core/hwaddr"
	"airdrift/core/wire"
)

const (
	frameMTU   = 1500
	queuedSize = 256 // frames a stack may have ready to send before it drops
)

// host is one TCP/IP stack with an interface on one or more segments.
type host struct {
	stack    *stack.Stack
	forwards bool // it is a router
	nics     []*nic
}

// nic joins one interface of a stack to a port of a segment.
type nic struct {
	endpoint *channel.Endpoint
	mac      hwaddr.MAC
	port     *port
	stack    *stack.Stack
	forwards bool
}

// newHost builds a stack with no interface yet. forwards makes it a router.
func newHost(forwards bool) (*host, error) {
	s := stack.New(stack.Options{
		NetworkProtocols:   []stack.NetworkProtocolFactory{ipv4.NewProtocol, arp.NewProtocol, ipv6.NewProtocol},
		TransportProtocols: []stack.TransportProtocolFactory{tcp.NewProtocol, udp.NewProtocol, icmp.NewProtocol4, icmp.NewProtocol6},
	})
	if forwards {
		if err := s.SetForwardingDefaultAndAllNICs(ipv4.ProtocolNumber, true); err != nil {
			return nil, fmt.Errorf("switch forwarding on: %s", err)
		}
	}
	return &host{stack: s, forwards: forwards}, nil
}

// plug is how an interface of a host is set up.
type plug struct {
	mac        hwaddr.MAC
	addresses  []netip.Prefix
	conditions Conditions         // of its own cable, besides the segment's
	accepts    func([]byte) bool  // may hold frames back; nil takes all
	sees       func(*nic, []byte) // is shown each frame that comes in; may be nil
}

// join gives the host an interface on a segment.
func (h *host) join(seg *segment, p plug) (*nic, error) {
	n := &nic{endpoint: channel.New(queuedSize, frameMTU+ethernetHeader, tcpip.LinkAddress(p.mac[:])), mac: p.mac, stack: h.stack, forwards: h.forwards}
	id := tcpip.NICID(len(h.nics) + 1)
	if err := h.stack.CreateNIC(id, ethernet.New(n.endpoint)); err != nil {
		return nil, fmt.Errorf("interface %d: %s", id, err)
	}
	for _, address := range p.addresses {
		protocol := ipv4.ProtocolNumber
		if address.Addr().Is6() {
			protocol = ipv6.ProtocolNumber
		}
		addr := tcpip.ProtocolAddress{
			Protocol: protocol,
			AddressWithPrefix: tcpip.AddressWithPrefix{
				Address:   tcpip.AddrFromSlice(address.Addr().AsSlice()),
				PrefixLen: address.Bits(),
			},
		}
		if err := h.stack.AddProtocolAddress(id, addr, stack.AddressProperties{}); err != nil {
			return nil, fmt.Errorf("address %s: %s", address, err)
		}
		h.stack.AddRoute(tcpip.Route{Destination: addr.AddressWithPrefix.Subnet(), NIC: id})
	}
	if id == 1 {
		h.stack.AddRoute(tcpip.Route{Destination: groups, NIC: id})
	}
	n.port = seg.attach(n.inject, n.hears(p), p.conditions)
	n.endpoint.AddNotify(n)
	h.nics = append(h.nics, n)
	return n, nil
}

// groups are the addresses of IPv4 that stand for several (RFC 5771).
var groups = tcpip.AddressWithPrefix{Address: tcpip.AddrFrom4([4]byte{224, 0, 0, 0}), PrefixLen: 4}.Subnet()

// linkLocal6 makes the address of a segment that an interface forms from its MAC (RFC 4291, appendix A).
func linkLocal6(mac hwaddr.MAC) netip.Prefix {
	return netip.PrefixFrom(netip.AddrFrom16([16]byte{
		0xfe, 0x80, 8: mac[0] ^ 2, 9: mac[1], 10: mac[2], 11: 0xff, 12: 0xfe, 13: mac[3], 14: mac[4], 15: mac[5],
	}), 64)
}

// route adds the default route by the host's first interface.
func (h *host) route(gateway netip.Addr) {
	h.stack.AddRoute(tcpip.Route{
		Destination: header.IPv4EmptySubnet,
		Gateway:     tcpip.AddrFromSlice(gateway.AsSlice()),
		NIC:         1,
	})
}

func (h *host) close() {
	for _, n := range h.nics {
		n.port.detach()
		n.endpoint.Close()
	}
	h.stack.Destroy()
}

// hears is the interface's own address filter, with the device's faults behind it.
func (n *nic) hears(p plug) func([]byte) bool {
	return func(frame []byte) bool {
		dst := hwaddr.MAC(frame[0:6])
		if dst != n.mac && !dst.IsGroup() {
			return false
		}
		if p.sees != nil {
			p.sees(n, frame)
		}
		return p.accepts == nil || p.accepts(frame)
	}
}

// inject hands a frame from the segment to the stack.
func (n *nic) inject(frame []byte) {
	pkt := stack.NewPacketBuffer(stack.PacketBufferOptions{Payload: buffer.MakeWithData(frame)})
	defer pkt.DecRef()
	n.endpoint.InjectInbound(0, pkt)
}

// startTTL is the time to live that packets begin with, of simulated devices as of the systems that the auditor may sit at.
const startTTL = 64

// isSpoiled reports whether a packet that is passed on has a time to live that it cannot have: the stack's library reads that of the packet that came in
// after it has given its memory away, so that now and then it is another's, or 0, of which one less is 255. Such a packet is lost, as packets are.
func (n *nic) isSpoiled(frame []byte) bool {
	if !n.forwards || len(frame) < ethernetHeader+header.IPv4MinimumSize || binary.BigEndian.Uint16(frame[12:]) != wire.EtherTypeIPv4 {
		return false
	}
	ip := header.IPv4(frame[ethernetHeader:])
	return ip.TTL() >= startTTL && n.stack.CheckLocalAddress(0, ipv4.ProtocolNumber, ip.SourceAddress()) == 0
}

// WriteNotify takes what the stack has ready to the segment; the stack calls it.
func (n *nic) WriteNotify() {
	for pkt := n.endpoint.Read(); pkt != nil; pkt = n.endpoint.Read() {
		view := pkt.ToView()
		if frame := view.AsSlice(); !n.isSpoiled(frame) {
			n.port.send(frame)
		}
		pkt.DecRef()
	}
}
