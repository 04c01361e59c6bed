package simsite

import (
	"errors"
	"fmt"
	"io"
	"net"
	"os"

	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"

	"airdrift/core/wire"
)

// TAP is an interface of the operating system that is plugged into a simulated segment.
type TAP struct {
	port *port
	file *os.File
	done chan struct{}
}

// AttachTAP makes a TAP interface of that name, gives it what the link says (MAC, addresses, default route) and plugs
// it into the segment of the scenario's vantage. It needs CAP_NET_ADMIN.
func (site *Site) AttachTAP(name string, link wire.Link) (*TAP, error) {
	device := &netlink.Tuntap{
		LinkAttrs:  netlink.LinkAttrs{Name: name},
		Mode:       netlink.TUNTAP_MODE_TAP,
		Flags:      netlink.TUNTAP_NO_PI | netlink.TUNTAP_ONE_QUEUE,
		NonPersist: true,
		Queues:     1,
	}
	if err := netlink.LinkAdd(device); err != nil {
		return nil, fmt.Errorf("make interface %s: %w", name, err)
	}
	tap := &TAP{file: device.Fds[0], done: make(chan struct{})}
	if err := configure(name, link); err != nil {
		_ = tap.file.Close()
		return nil, fmt.Errorf("set up interface %s: %w", name, err)
	}
	tap.port = site.segments[site.Scenario.Vantage.Network].attach(tap.deliver, nil, Conditions{})
	go tap.run()
	site.closers = append(site.closers, tap.Close)
	return tap, nil
}

func configure(name string, link wire.Link) error {
	device, err := netlink.LinkByName(name)
	if err != nil {
		return err
	}
	if err := netlink.LinkSetHardwareAddr(device, link.MAC.Hardware()); err != nil {
		return fmt.Errorf("MAC: %w", err)
	}
	if err := netlink.LinkSetUp(device); err != nil {
		return fmt.Errorf("up: %w", err)
	}
	for _, p := range link.Prefixes {
		if p.Addr().IsLinkLocalUnicast() {
			continue // the system forms it itself
		}
		addr, err := netlink.ParseAddr(p.String())
		if err != nil {
			return err
		}
		if p.Addr().Is6() {
			addr.Flags |= unix.IFA_F_NODAD // nobody else in the building has it, and it is wanted at once
		}
		if err := netlink.AddrAdd(device, addr); err != nil {
			return fmt.Errorf("address %s: %w", p, err)
		}
	}
	if !link.Gateway.IsValid() {
		return nil
	}
	route := &netlink.Route{LinkIndex: device.Attrs().Index, Gw: net.IP(link.Gateway.AsSlice())}
	if err := netlink.RouteAdd(route); err != nil {
		return fmt.Errorf("route by %s: %w", link.Gateway, err)
	}
	return nil
}

// deliver hands a frame of the segment to the system. One it does not take is lost, as on any cable.
func (t *TAP) deliver(frame []byte) { _, _ = t.file.Write(frame) }

// run hands the system's frames to the segment.
func (t *TAP) run() {
	defer close(t.done)
	for {
		buf := make([]byte, frameMTU+ethernetHeader)
		n, err := t.file.Read(buf)
		if errors.Is(err, os.ErrClosed) || errors.Is(err, io.EOF) {
			return
		}
		if err == nil {
			t.port.send(buf[:n])
		}
	}
}

// Close takes the interface away.
func (t *TAP) Close() error {
	t.port.detach()
	err := t.file.Close()
	<-t.done
	return err
}
