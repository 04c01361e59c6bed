// Package hostwire attaches a sweep to one interface of the operating system.
package hostwire

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/net/ipv4"
	"golang.org/x/net/ipv6"

	"airdrift/core/hwaddr"
	"airdrift/core/wire"
)

// UnknownInterfaceError says that there is no interface of that name, and which there are.
type UnknownInterfaceError struct {
	Name  string
	Known []string
}

func (e *UnknownInterfaceError) Error() string {
	return fmt.Sprintf("there is no interface %q on this machine: it has %s", e.Name, strings.Join(e.Known, ", "))
}

// Wire is one interface of this machine.
type Wire struct {
	name string

	mu        sync.Mutex // guards both
	link      wire.Link
	linkUntil time.Time
}

// linkLife is how long the interface's addresses are taken as known: a sweep opens hundreds of connections a second, and
// each look costs system calls.
const linkLife = 2 * time.Second

var _ wire.Wire = (*Wire)(nil)

// New makes a wire of the interface of that name. One that is not there gives *UnknownInterfaceError.
func New(name string) (*Wire, error) {
	names, err := Interfaces()
	if err != nil {
		return nil, err
	}
	if !slices.Contains(names, name) {
		return nil, &UnknownInterfaceError{name, names}
	}
	return &Wire{name: name}, nil
}

// Interfaces gives the names of the interfaces that are up and have an address.
func Interfaces() ([]string, error) {
	all, err := net.Interfaces()
	if err != nil {
		return nil, fmt.Errorf("interfaces of this machine: %w", err)
	}
	var names []string
	for _, i := range all {
		if addrs, err := i.Addrs(); err == nil && len(addrs) > 0 && i.Flags&net.FlagUp != 0 {
			names = append(names, i.Name)
		}
	}
	return names, nil
}

// Link tells what the interface stands on now. One that has gone away has a name and nothing else.
func (w *Wire) Link() wire.Link {
	link := wire.Link{Name: w.name, NameServers: servers(), Others: othersThan(w.name)}
	device, err := net.InterfaceByName(w.name)
	if err != nil {
		link.Down = true
		return link
	}
	link.Down = !isUp(device)
	link.MAC, link.MTU = hwaddr.FromHardware(device.HardwareAddr), device.MTU
	addrs, _ := device.Addrs() // none where the interface has just gone away
	for _, a := range addrs {
		if p, err := netip.ParsePrefix(a.String()); err == nil {
			link.Prefixes = append(link.Prefixes, p)
		}
	}
	// What is valid on the segment alone is the last resort.
	slices.SortStableFunc(link.Prefixes, func(a, b netip.Prefix) int {
		return rank(a.Addr()) - rank(b.Addr())
	})
	link.Gateway, link.Gateway6 = gateways(device.Index)
	return link
}

// othersThan gives the addresses of all other interfaces but loopback.
func othersThan(name string) []netip.Addr {
	devices, _ := net.Interfaces() // none where the system does not tell
	var others []netip.Addr
	for _, device := range devices {
		if device.Name == name || device.Flags&net.FlagLoopback != 0 {
			continue
		}
		addrs, _ := device.Addrs() // none where it has just gone away
		for _, a := range addrs {
			if p, err := netip.ParsePrefix(a.String()); err == nil && !p.Addr().IsLinkLocalUnicast() {
				others = append(others, p.Addr())
			}
		}
	}
	return others
}

// gone says of an interface that is not there what the system says of one that is down.
func gone(err error) error {
	if errors.As(err, new(*net.OpError)) {
		return fmt.Errorf("%w: %w", syscall.ENETDOWN, err)
	}
	return err
}

// rank orders addresses by what they are good for: IPv4, IPv6, and those of the segment alone.
func rank(a netip.Addr) int {
	switch {
	case a.IsLinkLocalUnicast():
		return 2
	case a.Is6():
		return 1
	}
	return 0
}

// servers gives the name servers that the system asks. Where it asks a stub of its own on loopback, those are meant that the stub
// asks in turn (systemd-resolved(8) writes them down beside).
func servers() []netip.Addr {
	listed := nameServers("/etc/resolv.conf")
	if !slices.ContainsFunc(listed, netip.Addr.IsLoopback) {
		return listed
	}
	behind := nameServers("/run/systemd/resolve/resolv.conf")
	for _, a := range listed {
		if !a.IsLoopback() && !slices.Contains(behind, a) {
			behind = append(behind, a)
		}
	}
	return behind
}

// nameServers reads the addresses out of a resolver's file (resolv.conf(5)).
func nameServers(path string) []netip.Addr {
	file, err := os.Open(path)
	if err != nil {
		return nil
	}
	defer file.Close()
	var servers []netip.Addr
	lines := bufio.NewScanner(file)
	for lines.Scan() {
		fields := strings.Fields(lines.Text())
		if len(fields) < 2 || fields[0] != "nameserver" {
			continue
		}
		if a, err := netip.ParseAddr(fields[1]); err == nil {
			servers = append(servers, a)
		}
	}
	return servers
}

// self gives the interface's address to speak to another from: in the same subnet where there is one, else the first of
// the same family.
func (w *Wire) self(to netip.Addr) (netip.Addr, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if time.Now().After(w.linkUntil) {
		w.link, w.linkUntil = w.Link(), time.Now().Add(linkLife)
	}
	if own, onLink := w.link.OnLink(to.WithZone("")); onLink {
		return own.WithZone(to.Zone()), nil
	}
	for _, p := range w.link.Prefixes {
		if p.Addr().Is4() == to.Is4() && !p.Addr().IsLinkLocalUnicast() {
			return p.Addr(), nil
		}
	}
	family := "IPv4"
	if to.Is6() {
		family = "IPv6"
	}
	return netip.Addr{}, fmt.Errorf("interface %s has no %s address to speak from: %w", w.name, family, syscall.ENETUNREACH)
}

// DialContext opens a connection that leaves by this interface and from its address.
func (w *Wire) DialContext(ctx context.Context, network string, addr netip.AddrPort) (net.Conn, error) {
	self, err := w.self(addr.Addr())
	if err != nil {
		return nil, err
	}
	dialer := net.Dialer{Control: w.bindToInterface, KeepAlive: -1}
	switch network {
	case "tcp":
		dialer.LocalAddr = net.TCPAddrFromAddrPort(netip.AddrPortFrom(self, 0))
	case "udp":
		dialer.LocalAddr = net.UDPAddrFromAddrPort(netip.AddrPortFrom(self, 0))
	default:
		return nil, fmt.Errorf("network %q: want tcp or udp", network)
	}
	return dialer.DialContext(ctx, network, addr.String())
}

// ListenPacket opens a UDP socket on this interface; at the address of a group it joins it (RFC 1112, RFC 2710).
func (w *Wire) ListenPacket(ctx context.Context, network string, addr netip.AddrPort) (net.PacketConn, error) {
	if network != "udp" {
		return nil, fmt.Errorf("network %q: want udp", network)
	}
	config := net.ListenConfig{Control: w.bindToInterface}
	group := addr.Addr()
	if !group.IsMulticast() {
		return config.ListenPacket(ctx, network, addr.String())
	}
	device, err := net.InterfaceByName(w.name)
	if err != nil {
		return nil, fmt.Errorf("interface %s: %w", w.name, err)
	}
	// Not every system lets a socket have the address of a group, so it has any.
	family := "udp4"
	if group.Is6() {
		family = "udp6"
	}
	conn, err := config.ListenPacket(ctx, family, netip.AddrPortFrom(wire.Anywhere(group), addr.Port()).String())
	if err != nil {
		return nil, err
	}
	if err := join(conn, device, group); err != nil {
		return nil, errors.Join(fmt.Errorf("join %s on %s: %w", group, w.name, err), conn.Close())
	}
	return conn, nil
}

func join(conn net.PacketConn, device *net.Interface, group netip.Addr) error {
	at := &net.UDPAddr{IP: group.AsSlice()}
	if group.Is4() {
		return ipv4.NewPacketConn(conn).JoinGroup(device, at)
	}
	return ipv6.NewPacketConn(conn).JoinGroup(device, at)
}

// noRights turns the system's refusals into wire.ErrNoRights and keeps the cause.
func noRights(err error) error {
	if errors.Is(err, os.ErrPermission) {
		return fmt.Errorf("%w: %w", wire.ErrNoRights, err)
	}
	return err
}
