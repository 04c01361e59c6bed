package hostwire

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"syscall"
	"time"

	"github.com/mdlayher/packet"
	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"

	"airdrift/core/hwaddr"
	"airdrift/core/wire"
)

// bindToInterface keeps a socket's packets on this interface whatever the routes say.
func (w *Wire) bindToInterface(_, _ string, raw syscall.RawConn) error {
	var failed error
	err := raw.Control(func(fd uintptr) { failed = unix.BindToDevice(int(fd), w.name) })
	if err != nil {
		return err
	}
	return failed
}

// gateways gives the next hops of the default routes by an interface.
func gateways(index int) (four, six netip.Addr) {
	return gateway(index, netlink.FAMILY_V4), gateway(index, netlink.FAMILY_V6)
}

func gateway(index, family int) netip.Addr {
	filter := &netlink.Route{LinkIndex: index, Dst: nil}
	routes, err := netlink.RouteListFiltered(family, filter, netlink.RT_FILTER_OIF|netlink.RT_FILTER_DST)
	if err != nil {
		return netip.Addr{}
	}
	for _, r := range routes {
		if a, ok := netip.AddrFromSlice(r.Gw); ok {
			return a.Unmap()
		}
	}
	return netip.Addr{}
}

// Frames opens a packet socket (packet(7)), which needs CAP_NET_RAW.
func (w *Wire) Frames(_ context.Context, etherType uint16) (wire.FrameConn, error) {
	device, err := net.InterfaceByName(w.name)
	if err != nil {
		return nil, fmt.Errorf("interface %s: %w", w.name, err)
	}
	conn, err := packet.Listen(device, packet.Raw, int(etherType), nil)
	if err != nil {
		return nil, noRights(err)
	}
	if etherType == wire.EtherTypeIPv4 || etherType == wire.EtherTypeLLDP {
		if err := hearGroups(conn, device.Index); err != nil {
			return nil, errors.Join(fmt.Errorf("hear the groups of %s: %w", w.name, err), conn.Close())
		}
	}
	return &frameConn{conn}, nil
}

// hearGroups has the interface take in what is sent to any group, for as long as the socket is open (packet(7)).
func hearGroups(conn *packet.Conn, device int) error {
	raw, err := conn.SyscallConn()
	if err != nil {
		return err
	}
	var failure error
	err = raw.Control(func(fd uintptr) {
		request := unix.PacketMreq{Ifindex: int32(device), Type: unix.PACKET_MR_ALLMULTI}
		failure = unix.SetsockoptPacketMreq(int(fd), unix.SOL_PACKET, unix.PACKET_ADD_MEMBERSHIP, &request)
	})
	return errors.Join(err, failure)
}

type frameConn struct{ conn *packet.Conn }

func (c *frameConn) ReadFrame(buf []byte) (int, error) {
	n, _, err := c.conn.ReadFrom(buf)
	return n, err
}

func (c *frameConn) WriteFrame(frame []byte) error {
	_, err := c.conn.WriteTo(frame, &packet.Addr{HardwareAddr: net.HardwareAddr(frame[0:6])})
	return err
}

func (c *frameConn) SetReadDeadline(t time.Time) error { return c.conn.SetReadDeadline(t) }
func (c *frameConn) Close() error                      { return c.conn.Close() }

// Neighbours reads the kernel's table over netlink.
func (w *Wire) Neighbours(context.Context) ([]wire.Neighbour, error) {
	device, err := net.InterfaceByName(w.name)
	if err != nil {
		return nil, fmt.Errorf("interface %s: %w", w.name, err)
	}
	entries, err := netlink.NeighList(device.Index, netlink.FAMILY_ALL)
	if err != nil {
		return nil, fmt.Errorf("neighbour table of %s: %w", w.name, err)
	}
	const useless = netlink.NUD_FAILED | netlink.NUD_INCOMPLETE | netlink.NUD_NOARP
	var neighbours []wire.Neighbour
	for _, e := range entries {
		addr, ok := netip.AddrFromSlice(e.IP)
		if mac := hwaddr.FromHardware(e.HardwareAddr); ok && !mac.IsZero() && e.State&useless == 0 {
			neighbours = append(neighbours, wire.Neighbour{Addr: addr.Unmap(), MAC: mac})
		}
	}
	return neighbours, nil
}
