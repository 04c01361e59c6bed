package simsite

import (
	"fmt"
	"net/netip"

	"gvisor.dev/gvisor/pkg/buffer"
	"gvisor.dev/gvisor/pkg/tcpip"
	"gvisor.dev/gvisor/pkg/tcpip/header"
	"gvisor.dev/gvisor/pkg/tcpip/link/channel"
	"gvisor.dev/gvisor/pkg/tcpip/link/ethernet"
	"gvisor.dev/gvisor/pkg/tcpip/network/arp"
	"gvisor.dev/gvisor/pkg/tcpip/network/ipv4"
	"gvisor.dev/gvisor/pkg/tcpip/stack"
	"gvisor.dev/gvisor/pkg/tcpip/transport/icmp"
	"gvisor.dev/gvisor/pkg/tcpip/transport/tcp"
	"gvisor.dev/gvisor/pkg/tcpip/transport/udp"

	"airdrift/core/hwaddr"
)

const (
	frameMTU   = 1500
	queuedSize = 256 // frames a stack may have ready to send before it drops
)

// host is one TCP/IP stack with an interface on one or more segments.
type host struct {
	stack *stack.Stack
	nics  []*nic
}

// nic joins one interface of a stack to a port of a segment.
type nic struct {
	endpoint *channel.Endpoint
	mac      hwaddr.MAC
	port     *port
}

// newHost builds a stack with no interface yet. forwards makes it a router.
func newHost(forwards bool) (*host, error) {
	s := stack.New(stack.Options{
		NetworkProtocols:   []stack.NetworkProtocolFactory{ipv4.NewProtocol, arp.NewProtocol},
		TransportProtocols: []stack.TransportProtocolFactory{tcp.NewProtocol, udp.NewProtocol, icmp.NewProtocol4},
	})
	if forwards {
		if err := s.SetForwardingDefaultAndAllNICs(ipv4.ProtocolNumber, true); err != nil {
			return nil, fmt.Errorf("switch forwarding on: %s", err)
		}
	}
	return &host{stack: s}, nil
}

// join gives the host an interface on a segment. accepts may hold frames back; nil takes all.
func (h *host) join(seg *segment, mac hwaddr.MAC, address netip.Prefix, accepts func([]byte) bool) (*nic, error) {
	n := &nic{endpoint: channel.New(queuedSize, frameMTU+ethernetHeader, tcpip.LinkAddress(mac[:])), mac: mac}
	id := tcpip.NICID(len(h.nics) + 1)
	if err := h.stack.CreateNIC(id, ethernet.New(n.endpoint)); err != nil {
		return nil, fmt.Errorf("interface %d: %s", id, err)
	}
	addr := tcpip.ProtocolAddress{
		Protocol: ipv4.ProtocolNumber,
		AddressWithPrefix: tcpip.AddressWithPrefix{
			Address:   tcpip.AddrFromSlice(address.Addr().AsSlice()),
			PrefixLen: address.Bits(),
		},
	}
	if err := h.stack.AddProtocolAddress(id, addr, stack.AddressProperties{}); err != nil {
		return nil, fmt.Errorf("address %s: %s", address, err)
	}
	h.stack.AddRoute(tcpip.Route{Destination: addr.AddressWithPrefix.Subnet(), NIC: id})
	n.port = seg.attach(n.inject, n.hears(accepts))
	n.endpoint.AddNotify(n)
	h.nics = append(h.nics, n)
	return n, nil
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
func (n *nic) hears(accepts func([]byte) bool) func([]byte) bool {
	return func(frame []byte) bool {
		dst := hwaddr.MAC(frame[0:6])
		return (dst == n.mac || dst.IsGroup()) && (accepts == nil || accepts(frame))
	}
}

// inject hands a frame from the segment to the stack.
func (n *nic) inject(frame []byte) {
	pkt := stack.NewPacketBuffer(stack.PacketBufferOptions{Payload: buffer.MakeWithData(frame)})
	defer pkt.DecRef()
	n.endpoint.InjectInbound(0, pkt)
}

// WriteNotify takes what the stack has ready to the segment; the stack calls it.
func (n *nic) WriteNotify() {
	for pkt := n.endpoint.Read(); pkt != nil; pkt = n.endpoint.Read() {
		view := pkt.ToView()
		n.port.send(view.AsSlice())
		pkt.DecRef()
	}
}
