package simsite

import (
	"encoding/binary"
	"fmt"
	"net/netip"
	"slices"
	"sync"

	"gvisor.dev/gvisor/pkg/tcpip"
	"gvisor.dev/gvisor/pkg/tcpip/adapters/gonet"
	"gvisor.dev/gvisor/pkg/tcpip/network/ipv4"

	"airdrift/core/wire"
)

// Site is a simulated building that runs.
type Site struct {
	Scenario *Scenario

	segments map[string]*segment
	hosts    []*host
	services sync.WaitGroup
	closers  []func() error
}

// Start builds every device of the scenario that is switched on.
func Start(scenario *Scenario) (*Site, error) {
	site := &Site{Scenario: scenario, segments: map[string]*segment{}}
	for i, n := range scenario.Networks {
		site.segments[n.Name] = newSegment(n.Conditions, scenario.Seed+uint64(i))
	}
	for _, d := range scenario.Devices {
		if d.Off {
			continue
		}
		if err := site.switchOn(d); err != nil {
			_ = site.Close()
			return nil, fmt.Errorf("device %s: %w", d.Name, err)
		}
	}
	return site, nil
}

func (site *Site) switchOn(d Device) error {
	h, err := newHost(d.Forwards)
	if err != nil {
		return err
	}
	site.hosts = append(site.hosts, h)
	services := site.Scenario.Services(d)
	for _, leg := range d.Legs {
		n := site.Scenario.network(leg.Network)
		address := netip.PrefixFrom(leg.Address, n.Subnet.Bits())
		if _, err := h.join(site.segments[leg.Network], leg.MAC, address, ingress(d.Faults, services)); err != nil {
			return err
		}
	}
	if gateway := site.Scenario.network(d.Legs[0].Network).Gateway; gateway.IsValid() && !d.Forwards {
		h.route(gateway)
	}
	for _, s := range services {
		if err := site.serve(h, d, s); err != nil {
			return fmt.Errorf("port %d: %w", s.Port, err)
		}
	}
	return nil
}

func (site *Site) serve(h *host, d Device, s Service) error {
	l, err := gonet.ListenTCP(h.stack, tcpip.FullAddress{Port: s.Port}, ipv4.ProtocolNumber)
	if err != nil {
		return err
	}
	site.closers = append(site.closers, l.Close)
	secret := deviceSecret(site.Scenario.Seed, d.Name)
	site.services.Go(func() { speakers[s.Speaks](l, s, secret) })
	return nil
}

// Wire plugs the auditor's machine into the network of the scenario's vantage.
func (site *Site) Wire() (*Wire, error) {
	w, err := newWire(site.segments[site.Scenario.Vantage.Network], site.Link())
	if err != nil {
		return nil, err
	}
	site.closers = append(site.closers, w.Close)
	return w, nil
}

// Link gives what the auditor's machine stands on in this building.
func (site *Site) Link() wire.Link {
	v := site.Scenario.Vantage
	n := site.Scenario.network(v.Network)
	return wire.Link{
		Name:     "sim0",
		MAC:      v.MAC,
		MTU:      frameMTU,
		Prefixes: []netip.Prefix{netip.PrefixFrom(v.Address, n.Subnet.Bits())},
		Gateway:  n.Gateway,
	}
}

// Close switches everything off and waits for the services to end.
func (site *Site) Close() error {
	for _, closeOne := range slices.Backward(site.closers) {
		_ = closeOne() // a listener closed twice is no loss: the building is going away
	}
	for _, h := range site.hosts {
		h.close()
	}
	for _, s := range site.segments {
		s.close()
	}
	site.services.Wait()
	return nil
}

// ingress makes the filter that stands for a device's faults; nil where it has none.
func ingress(faults []string, services []Service) func([]byte) bool {
	dropsEcho := slices.Contains(faults, FaultDropsEcho)
	dropsRefusal := slices.Contains(faults, FaultDropsRefusal)
	if !dropsEcho && !dropsRefusal {
		return nil
	}
	return func(frame []byte) bool {
		ip, ok := ipv4Payload(frame)
		switch {
		case !ok:
			return true
		case dropsEcho && ip.protocol == protocolICMP:
			return ip.payload[0] != icmpEchoRequest
		case dropsRefusal && ip.protocol == protocolTCP:
			port := binary.BigEndian.Uint16(ip.payload[2:4])
			// Ephemeral ports are let in, so that the device's own connections work.
			return port >= 32768 || slices.ContainsFunc(services, func(s Service) bool { return s.Port == port })
		}
		return true
	}
}

const (
	protocolICMP    = 1
	protocolTCP     = 6
	icmpEchoRequest = 8
)

type ipv4Packet struct {
	protocol byte
	payload  []byte // at least 8 bytes
}

// ipv4Payload finds the transport header of an IPv4 frame (RFC 791, 3.1).
func ipv4Payload(frame []byte) (ipv4Packet, bool) {
	if len(frame) < ethernetHeader+20 || binary.BigEndian.Uint16(frame[12:14]) != wire.EtherTypeIPv4 {
		return ipv4Packet{}, false
	}
	start := ethernetHeader + int(frame[ethernetHeader]&0x0f)*4
	if len(frame) < start+8 {
		return ipv4Packet{}, false
	}
	return ipv4Packet{frame[ethernetHeader+9], frame[start:]}, true
}
