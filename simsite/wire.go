package simsite

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"gvisor.dev/gvisor/pkg/tcpip"
	"gvisor.dev/gvisor/pkg/tcpip/adapters/gonet"
	"gvisor.dev/gvisor/pkg/tcpip/header"
	"gvisor.dev/gvisor/pkg/tcpip/network/ipv4"
	"gvisor.dev/gvisor/pkg/tcpip/network/ipv6"
	"gvisor.dev/gvisor/pkg/tcpip/transport/icmp"
	"gvisor.dev/gvisor/pkg/tcpip/transport/tcp"
	"gvisor.dev/gvisor/pkg/tcpip/transport/udp"
	"gvisor.dev/gvisor/pkg/waiter"

	"airdrift/core/hwaddr"
	"airdrift/core/wire"
)

// Wire is the auditor's own machine in the simulated building: a stack with one interface on one segment.
type Wire struct {
	host *host
	nic  *nic
	link wire.Link

	mu    sync.Mutex // guards frames
	conns map[*frameConn]struct{}
}

var _ wire.Wire = (*Wire)(nil)

// newWire plugs a machine into a segment.
func newWire(seg *segment, link wire.Link) (*Wire, error) {
	h, err := newHost(false)
	if err != nil {
		return nil, err
	}
	w := &Wire{host: h, link: link, conns: map[*frameConn]struct{}{}}
	w.nic, err = h.join(seg, plug{mac: link.MAC, addresses: link.Prefixes, accepts: w.overhear})
	if err != nil {
		return nil, err
	}
	if link.Gateway.IsValid() {
		h.route(link.Gateway)
	}
	return w, nil
}

// overhear gives every frame that reaches the machine to the open frame sockets; the stack gets it too.
func (w *Wire) overhear(frame []byte) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	for c := range w.conns {
		c.offer(frame)
	}
	return true
}

// Link tells what the machine stands on.
func (w *Wire) Link() wire.Link { return w.link }

// Close takes the machine off the segment.
func (w *Wire) Close() error {
	w.host.close()
	return nil
}

// Frames opens the segment for one Ethernet type.
func (w *Wire) Frames(_ context.Context, etherType uint16) (wire.FrameConn, error) {
	c := &frameConn{
		wire:      w,
		etherType: [2]byte{byte(etherType >> 8), byte(etherType)},
		frames:    make(chan []byte, 4096),
		deadline:  newDeadline(),
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	w.conns[c] = struct{}{}
	return c, nil
}

type frameConn struct {
	wire      *Wire
	etherType [2]byte
	frames    chan []byte
	deadline  *deadline
}

// hasLength reports whether a frame has a length in place of a type (IEEE 802.3, 3.2.6).
func hasLength(frame []byte) bool { return binary.BigEndian.Uint16(frame[12:]) <= 1500 }

func (c *frameConn) offer(frame []byte) {
	if !bytes.Equal(frame[12:14], c.etherType[:]) && (!hasLength(frame) || binary.BigEndian.Uint16(c.etherType[:]) != wire.EtherTypeLLC) {
		return
	}
	select {
	case c.frames <- frame:
	default: // a reader too slow loses frames, as with a socket buffer that is full
	}
}

func (c *frameConn) ReadFrame(buf []byte) (wire.Frame, error) {
	select {
	case frame := <-c.frames:
		return wire.Frame{Bytes: buf[:copy(buf, frame)], At: time.Now()}, nil
	case <-c.deadline.passed():
		return wire.Frame{}, os.ErrDeadlineExceeded
	}
}

func (c *frameConn) WriteFrame(frame []byte) error {
	c.wire.nic.port.send(bytes.Clone(frame))
	return nil
}

func (c *frameConn) SetReadDeadline(t time.Time) error {
	c.deadline.set(t)
	return nil
}

func (c *frameConn) Close() error {
	c.wire.mu.Lock()
	delete(c.wire.conns, c)
	c.wire.mu.Unlock()
	return c.SetReadDeadline(time.Unix(1, 0))
}

// Echo opens a socket for echo requests.
func (w *Wire) Echo(_ context.Context, network string) (wire.EchoConn, error) {
	c := &echoConn{deadline: newDeadline(), six: network == "ip6"}
	transport, protocol := icmp.ProtocolNumber4, ipv4.ProtocolNumber
	if c.six {
		transport, protocol = icmp.ProtocolNumber6, ipv6.ProtocolNumber
	}
	ep, err := w.host.stack.NewEndpoint(transport, protocol, &c.queue)
	if err != nil {
		return nil, fmt.Errorf("echo socket: %w", toErrno(err))
	}
	ep.SocketOptions().SetReceiveTTL(!c.six)
	ep.SocketOptions().SetReceiveHopLimit(c.six)
	if err := ep.Bind(tcpip.FullAddress{}); err != nil {
		return nil, fmt.Errorf("echo socket: %w", toErrno(err))
	}
	c.endpoint = ep
	return c, nil
}

type echoConn struct {
	endpoint tcpip.Endpoint
	six      bool
	queue    waiter.Queue
	deadline *deadline
}

func (c *echoConn) Send(dst netip.Addr, seq uint16, data []byte) error {
	packet := make([]byte, header.ICMPv4MinimumSize+len(data))
	if c.six {
		head := header.ICMPv6(packet)
		head.SetType(header.ICMPv6EchoRequest)
		head.SetSequence(seq)
	} else {
		head := header.ICMPv4(packet)
		head.SetType(header.ICMPv4Echo)
		head.SetSequence(seq)
	}
	copy(packet[header.ICMPv4MinimumSize:], data)
	_, err := c.endpoint.Write(bytes.NewReader(packet), tcpip.WriteOptions{To: fullAddress(netip.AddrPortFrom(dst, 0))})
	if err != nil {
		return toErrno(err)
	}
	return nil
}

func (c *echoConn) Receive() (wire.EchoReply, error) {
	entry, notify := waiter.NewChannelEntry(waiter.ReadableEvents)
	c.queue.EventRegister(&entry)
	defer c.queue.EventUnregister(&entry)
	for {
		var buf bytes.Buffer
		res, err := c.endpoint.Read(&buf, tcpip.ReadOptions{NeedRemoteAddr: true})
		if err == nil {
			return echoReply(buf.Bytes(), res), nil
		}
		if _, empty := err.(*tcpip.ErrWouldBlock); !empty {
			return wire.EchoReply{}, toErrno(err)
		}
		select {
		case <-notify:
		case <-c.deadline.passed():
			return wire.EchoReply{}, os.ErrDeadlineExceeded
		}
	}
}

func echoReply(packet []byte, res tcpip.ReadResult) wire.EchoReply {
	from, _ := netip.AddrFromSlice(res.RemoteAddr.Addr.AsSlice())
	reply := wire.EchoReply{From: from}
	switch {
	case res.ControlMessages.HasTTL:
		reply.TTL = int(res.ControlMessages.TTL)
	case res.ControlMessages.HasHopLimit:
		reply.TTL = int(res.ControlMessages.HopLimit)
	}
	if len(packet) >= header.ICMPv4MinimumSize {
		reply.Seq = header.ICMPv4(packet).Sequence()
		reply.Data = header.ICMPv4(packet).Payload()
	}
	return reply
}

func (c *echoConn) SetReadDeadline(t time.Time) error {
	c.deadline.set(t)
	return nil
}

func (c *echoConn) Close() error {
	c.endpoint.Close()
	return c.SetReadDeadline(time.Unix(1, 0))
}

// DialContext opens a TCP or UDP connection from the machine.
func (w *Wire) DialContext(ctx context.Context, network string, addr netip.AddrPort) (net.Conn, error) {
	remote := fullAddress(addr)
	switch network {
	case "udp":
		return w.dialUDP(remote, protocolOf(addr.Addr()))
	case "tcp":
		conn, err := w.dialTCP(ctx, remote, protocolOf(addr.Addr()))
		if err != nil {
			return nil, &net.OpError{Op: "dial", Net: network, Addr: net.TCPAddrFromAddrPort(addr), Err: err}
		}
		return conn, nil
	}
	return nil, fmt.Errorf("network %q: want tcp or udp", network)
}

// dialTCP connects and keeps the reason of a failure as a system error number, which the adapter's own dialler loses.
func (w *Wire) dialTCP(ctx context.Context, remote *tcpip.FullAddress, protocol tcpip.NetworkProtocolNumber) (net.Conn, error) {
	var queue waiter.Queue
	ep, err := w.host.stack.NewEndpoint(tcp.ProtocolNumber, protocol, &queue)
	if err != nil {
		return nil, toErrno(err)
	}
	entry, notify := waiter.NewChannelEntry(waiter.WritableEvents | waiter.EventErr | waiter.EventHUp)
	queue.EventRegister(&entry)
	defer queue.EventUnregister(&entry)
	err = ep.Connect(*remote)
	if _, started := err.(*tcpip.ErrConnectStarted); started {
		select {
		case <-ctx.Done():
			ep.Abort()
			return nil, ctx.Err()
		case <-notify:
			err = ep.LastError()
		}
	}
	if err != nil {
		ep.Close()
		return nil, toErrno(err)
	}
	return gonet.NewTCPConn(&queue, ep), nil
}

// ListenPacket opens a UDP socket on the machine; at the address of a group it hears that.
func (w *Wire) ListenPacket(_ context.Context, network string, addr netip.AddrPort) (net.PacketConn, error) {
	if network != "udp" {
		return nil, fmt.Errorf("network %q: want udp", network)
	}
	if group := addr.Addr(); group.IsMulticast() {
		return listenDatagrams(w.host, addr.Port(), group, protocolOf(group))
	}
	return w.host.bindUDP(*fullAddress(addr), protocolOf(addr.Addr()))
}

// bindUDP opens a socket for datagrams. It may send to all of a subnet, as Go's sockets on a system may.
func (h *host) bindUDP(at tcpip.FullAddress, protocol tcpip.NetworkProtocolNumber) (net.PacketConn, error) {
	queue := &waiter.Queue{}
	ep, err := h.stack.NewEndpoint(udp.ProtocolNumber, protocol, queue)
	if err != nil {
		return nil, toErrno(err)
	}
	ep.SocketOptions().SetBroadcast(true)
	if err := ep.Bind(at); err != nil {
		ep.Close()
		return nil, toErrno(err)
	}
	return gonet.NewUDPConn(queue, ep), nil
}

// dialUDP connects a datagram socket, so that refusals of the other side reach it.
func (w *Wire) dialUDP(remote *tcpip.FullAddress, protocol tcpip.NetworkProtocolNumber) (net.Conn, error) {
	c := &datagramConn{}
	ep, err := w.host.stack.NewEndpoint(udp.ProtocolNumber, protocol, &c.queue)
	if err != nil {
		return nil, toErrno(err)
	}
	if err := ep.Connect(*remote); err != nil {
		ep.Close()
		return nil, toErrno(err)
	}
	c.UDPConn = gonet.NewUDPConn(&c.queue, ep)
	return c, nil
}

// datagramConn tells of a refusal while it waits, as the kernel does (RFC 1122, 4.1.3.3); the adapter alone would not.
type datagramConn struct {
	*gonet.UDPConn
	queue waiter.Queue
}

func (c *datagramConn) Read(b []byte) (int, error) {
	entry, refused := waiter.NewChannelEntry(waiter.EventErr)
	c.queue.EventRegister(&entry)
	defer c.queue.EventUnregister(&entry)
	over := make(chan struct{})
	defer close(over)
	var told atomic.Bool
	go func() {
		select {
		case <-refused:
			told.Store(true)
			_ = c.UDPConn.SetReadDeadline(time.Unix(1, 0)) // wakes the reader
		case <-over:
		}
	}()
	n, err := c.UDPConn.Read(b)
	if err != nil && told.Load() {
		err = syscall.ECONNREFUSED
	}
	return n, err
}

func (c *datagramConn) Write(b []byte) (int, error) {
	n, err := c.UDPConn.Write(b)
	if err != nil && strings.Contains(err.Error(), (&tcpip.ErrConnectionRefused{}).String()) {
		err = syscall.ECONNREFUSED
	}
	return n, err
}

// Neighbours reads the machine's ARP and neighbour discovery tables.
func (w *Wire) Neighbours(context.Context) ([]wire.Neighbour, error) {
	var neighbours []wire.Neighbour
	for _, protocol := range []tcpip.NetworkProtocolNumber{ipv4.ProtocolNumber, ipv6.ProtocolNumber} {
		entries, err := w.host.stack.Neighbors(1, protocol)
		if err != nil {
			return nil, fmt.Errorf("neighbour table: %w", toErrno(err))
		}
		for _, e := range entries {
			if addr, ok := netip.AddrFromSlice(e.Addr.AsSlice()); ok && len(e.LinkAddr) == len(hwaddr.MAC{}) {
				neighbours = append(neighbours, wire.Neighbour{Addr: addr, MAC: hwaddr.MAC([]byte(e.LinkAddr))})
			}
		}
	}
	return neighbours, nil
}

// protocolOf gives the network protocol of an address; IPv4 where there is none.
func protocolOf(a netip.Addr) tcpip.NetworkProtocolNumber {
	if a.Is6() {
		return ipv6.ProtocolNumber
	}
	return ipv4.ProtocolNumber
}

func fullAddress(addr netip.AddrPort) *tcpip.FullAddress {
	full := &tcpip.FullAddress{Port: addr.Port()}
	if addr.Addr().IsLinkLocalUnicast() {
		full.NIC = 1
	}
	if addr.Addr().IsValid() && !addr.Addr().IsUnspecified() {
		full.Addr = tcpip.AddrFromSlice(addr.Addr().AsSlice())
	}
	return full
}

// toErrno turns the stack's errors into the system error numbers that the kernel gives in the same case.
func toErrno(err tcpip.Error) error {
	switch err.(type) {
	case *tcpip.ErrConnectionRefused:
		return syscall.ECONNREFUSED
	case *tcpip.ErrConnectionReset, *tcpip.ErrConnectionAborted:
		return syscall.ECONNRESET
	case *tcpip.ErrTimeout:
		return syscall.ETIMEDOUT
	case *tcpip.ErrHostUnreachable, *tcpip.ErrHostDown:
		return syscall.EHOSTUNREACH
	case *tcpip.ErrNetworkUnreachable:
		return syscall.ENETUNREACH
	}
	return errors.New(err.String())
}

// deadline is a point in time that a blocked reader waits for, and that can be moved while it waits.
type deadline struct {
	mu    sync.Mutex // guards both
	timer *time.Timer
	ch    chan struct{}
}

func newDeadline() *deadline { return &deadline{ch: make(chan struct{})} }

func (d *deadline) set(t time.Time) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.timer != nil && !d.timer.Stop() {
		d.ch = make(chan struct{})
	}
	d.timer = nil
	if t.IsZero() {
		return
	}
	ch := d.ch
	d.timer = time.AfterFunc(time.Until(t), func() { close(ch) })
}

func (d *deadline) passed() <-chan struct{} {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.ch
}
