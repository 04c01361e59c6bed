package hostwire

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"syscall"

	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"

	"airdrift/core/hwaddr"
	"airdrift/core/wire"
)

// bindToInterface keeps a socket's packets on this interface whatever the routes say.
func (w *Wire) bindToInterface(_, _ string, raw syscall.RawConn) error {
	var failed error
	err := raw.Control(func(fd uintptr) {
		failed = unix.BindToDevice(int(fd), w.name)
		// The port is chosen when it is connected, so that one port serves connections to many places (ip(7)); older systems lack it.
		_ = unix.SetsockoptInt(int(fd), unix.IPPROTO_IP, unix.IP_BIND_ADDRESS_NO_PORT, 1)
	})
	return errors.Join(err, failed)
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

// Neighbours reads the kernel's table over netlink.
func (w *Wire) Neighbours(context.Context) ([]wire.Neighbour, error) {
	device, err := net.InterfaceByName(w.name)
	if err != nil {
		return nil, fmt.Errorf("interface %s: %w", w.name, gone(err))
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

// Pin has what is sent to an address of the segment go to one MAC, by a fixed entry of the kernel's table, which needs
// CAP_NET_ADMIN. restore puts back what was there.
func (w *Wire) Pin(_ context.Context, a netip.Addr, mac hwaddr.MAC) (restore func() error, err error) {
	device, err := net.InterfaceByName(w.name)
	if err != nil {
		return nil, fmt.Errorf("interface %s: %w", w.name, gone(err))
	}
	family := netlink.FAMILY_V4
	if a.Is6() {
		family = netlink.FAMILY_V6
	}
	entry := func(state int, mac net.HardwareAddr) *netlink.Neigh {
		return &netlink.Neigh{LinkIndex: device.Index, Family: family, State: state, IP: a.AsSlice(), HardwareAddr: mac}
	}
	before, err := netlink.NeighList(device.Index, family)
	if err != nil {
		return nil, fmt.Errorf("neighbour table of %s: %w", w.name, err)
	}
	if err := netlink.NeighSet(entry(netlink.NUD_PERMANENT, mac.Hardware())); err != nil {
		return nil, noRights(fmt.Errorf("fix the neighbour %s on %s: %w", a, w.name, err))
	}
	return func() error {
		for _, e := range before {
			if is, _ := netip.AddrFromSlice(e.IP); is.Unmap() == a && len(e.HardwareAddr) > 0 {
				return netlink.NeighSet(entry(e.State, e.HardwareAddr))
			}
		}
		return netlink.NeighDel(entry(netlink.NUD_PERMANENT, mac.Hardware()))
	}, nil
}

// Changes tells of changes of links, addresses and routes (rtnetlink(7)).
func (w *Wire) Changes(ctx context.Context) <-chan struct{} {
	changed := make(chan struct{}, 1)
	tell := func() {
		select {
		case changed <- struct{}{}:
		default: // it is to be told already
		}
	}
	links, addrs, routes := make(chan netlink.LinkUpdate), make(chan netlink.AddrUpdate), make(chan netlink.RouteUpdate)
	if netlink.LinkSubscribe(links, ctx.Done()) != nil || netlink.AddrSubscribe(addrs, ctx.Done()) != nil || netlink.RouteSubscribe(routes, ctx.Done()) != nil {
		return nil // the link is looked at now and then all the same
	}
	go func() {
		for {
			select {
			case _, open := <-links:
				if !open {
					links = nil
				}
			case _, open := <-addrs:
				if !open {
					addrs = nil
				}
			case _, open := <-routes:
				if !open {
					routes = nil
				}
			case <-ctx.Done():
				return
			}
			tell()
		}
	}()
	return changed
}

// isUp reports whether frames can pass an interface: it is switched on and plugged in (netdevice(7), IFF_LOWER_UP).
func isUp(device *net.Interface) bool {
	return device.Flags&net.FlagUp != 0 && device.Flags&net.FlagRunning != 0
}

// plainEcho opens the system's unprivileged echo socket (icmp(7)).
func (w *Wire) plainEcho(f family) (net.PacketConn, error) {
	domain, protocol := unix.AF_INET, unix.IPPROTO_ICMP
	if f.any.Is6() {
		domain, protocol = unix.AF_INET6, unix.IPPROTO_ICMPV6
	}
	fd, err := unix.Socket(domain, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC|unix.SOCK_NONBLOCK, protocol)
	if err != nil {
		return nil, os.NewSyscallError("socket", err)
	}
	file := os.NewFile(uintptr(fd), "echo:"+w.name)
	defer file.Close() // what is made of it has a copy
	if err := unix.BindToDevice(fd, w.name); err != nil {
		return nil, os.NewSyscallError("bind to "+w.name, err)
	}
	return net.FilePacketConn(file)
}
