package simsite

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"sync"
	"time"

	"github.com/miekg/dns"
	"gvisor.dev/gvisor/pkg/tcpip"
	"gvisor.dev/gvisor/pkg/tcpip/adapters/gonet"
	"gvisor.dev/gvisor/pkg/tcpip/network/ipv4"
	"gvisor.dev/gvisor/pkg/tcpip/network/ipv6"
	"gvisor.dev/gvisor/pkg/tcpip/transport/tcp"
	"gvisor.dev/gvisor/pkg/waiter"

	"airdrift/core/hwaddr"
	"airdrift/core/netrange"
	"airdrift/core/probe"
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
		joined, err := h.join(site.segments[leg.Network], plug{
			mac: leg.MAC, addresses: leg.prefixes(n), conditions: d.Conditions, accepts: ingress(d.Faults, services), sees: seesAll(answersARP(d.AnswersFor), answersDCP(services, leg, n)),
		})
		if err != nil {
			return err
		}
		if d.Announces > 0 {
			site.announce(joined, leg, d.Announces)
		}
	}
	if gateway := site.Scenario.network(d.Legs[0].Network).Gateway; gateway.IsValid() && !d.Forwards {
		h.route(gateway)
	}
	if slices.Contains(d.Faults, FaultAcceptsAll) {
		acceptAll(h)
	}
	for _, s := range services {
		if err := site.serve(h, d, s); err != nil {
			return fmt.Errorf("port %d: %w", s.Port, err)
		}
	}
	return nil
}

// serve offers one service. Of a device that has IPv6 the socket takes connections of both families.
func (site *Site) serve(h *host, d Device, s Service) error {
	protocol := ipv4.ProtocolNumber
	if slices.ContainsFunc(d.Legs, func(l Leg) bool { return l.Address6.IsValid() || l.LinkLocal6 }) {
		protocol = ipv6.ProtocolNumber
	}
	at := tcpip.FullAddress{Port: s.Port}
	if s.Speaks == speaksDNS {
		conn, err := gonet.DialUDP(h.stack, &at, nil, protocol)
		if err != nil {
			return err
		}
		site.closers = append(site.closers, conn.Close)
		server := &dns.Server{PacketConn: conn, Handler: newZone(site.Scenario)}
		site.services.Go(func() { _ = server.ActivateAndServe() }) // ends when its socket is closed
		return nil
	}
	b := booth{device: d, service: s, secret: deviceSecret(site.Scenario.Seed, d.Name)}
	switch spoken, byDatagram := datagramSpeakers[s.Speaks]; {
	case s.Speaks == speaksPROFINET: // in answer to frames
		return nil
	case s.Speaks == speaksCDP:
		site.repeat(h.nics[0], cdpFrame(d.Legs[0], s.Tells), lldpEvery)
		return nil
	case s.Speaks == speaksLLDP:
		site.repeat(h.nics[0], lldpFrame(d.Legs[0], s.Tells), lldpEvery)
		return nil
	case byDatagram:
		conn, err := listenDatagrams(h, s.Port, spoken.group, protocol)
		if err != nil {
			return err
		}
		site.closers = append(site.closers, conn.Close)
		if s.Tells["answers"] == "elsewhere" {
			if b.elsewhere, err = listenDatagrams(h, 0, netip.Addr{}, protocol); err != nil {
				return err
			}
			site.closers = append(site.closers, b.elsewhere.Close)
		}
		site.services.Go(func() { spoken.serve(conn, b) })
		return site.serveBeside(h, b, protocol)
	}
	return site.listen(h, s.Port, protocol, func(l net.Listener) { speakers[s.Speaks](l, s, b.secret) })
}

// serveBeside offers by connection what belongs to a service by datagram.
func (site *Site) serveBeside(h *host, b booth, protocol tcpip.NetworkProtocolNumber) error {
	switch b.service.Speaks {
	case "ssdp":
		return site.listen(h, descriptionPort, protocol, func(l net.Listener) { serveDescription(l, b) })
	case "wsd":
		return site.listen(h, metadataPort, protocol, func(l net.Listener) { serveMetadata(l, b) })
	case "sip":
		return site.listen(h, b.service.Port, protocol, func(l net.Listener) { eachConn(serveSIPConn)(l, b.service, b.secret) })
	case "ethernet-ip":
		return site.listen(h, b.service.Port, protocol, func(l net.Listener) { eachConn(serveCIPConn)(l, b.service, b.secret) })
	}
	return nil
}

// listen takes connections at a port until the building closes.
func (site *Site) listen(h *host, port uint16, protocol tcpip.NetworkProtocolNumber, serve func(net.Listener)) error {
	l, err := gonet.ListenTCP(h.stack, tcpip.FullAddress{Port: port}, protocol)
	if err != nil {
		return err
	}
	site.closers = append(site.closers, l.Close)
	site.services.Go(func() { serve(l) })
	return nil
}

// maxAccepted bounds the connections that a device which accepts all of them is setting up at once.
const maxAccepted = 256

// acceptAll makes a host accept connections to ports at which nothing listens.
func acceptAll(h *host) {
	forwarder := tcp.NewForwarder(h.stack, 0, maxAccepted, func(request *tcp.ForwarderRequest) {
		var queue waiter.Queue
		endpoint, err := request.CreateEndpoint(&queue)
		request.Complete(err != nil)
		if err != nil {
			return
		}
		conn := gonet.NewTCPConn(&queue, endpoint)
		_ = conn.SetDeadline(time.Now().Add(exchangeTime))
		go func() {
			defer conn.Close()
			serveSink(conn, Service{})
		}()
	})
	h.stack.SetTransportProtocolHandler(tcp.ProtocolNumber, forwarder.HandlePacket)
}

// answersARP makes an interface answer ARP requests for a range of addresses that are not its own (RFC 1027).
func answersARP(text string) func(*nic, []byte) {
	if text == "" {
		return nil
	}
	set, err := netrange.Parse(text)
	if err != nil {
		panic("simsite: a range that Load has read could not be read again: " + err.Error())
	}
	return func(n *nic, frame []byte) {
		if len(frame) < ethernetHeader+28 || binary.BigEndian.Uint16(frame[12:14]) != wire.EtherTypeARP || frame[21] != 1 {
			return
		}
		wanted := netip.AddrFrom4([4]byte(frame[38:42]))
		if !set.Contains(wanted) {
			return
		}
		reply := bytes.Clone(frame[:ethernetHeader+28])
		copy(reply[0:6], frame[6:12])
		copy(reply[6:12], n.mac[:])
		reply[21] = 2
		copy(reply[22:28], n.mac[:])
		copy(reply[28:32], frame[38:42])
		copy(reply[32:42], frame[22:32])
		n.port.send(reply)
	}
}

// announce asks by ARP for the first address of the leg's subnet, over and over, as a device does that looks for its
// gateway on a network it was not set up for.
func (site *Site) announce(n *nic, leg Leg, every time.Duration) {
	subnet := leg.prefixes(site.Scenario.network(leg.Network))[0]
	site.repeat(n, probe.ARPRequest(leg.MAC, leg.Address, subnet.Masked().Addr().Next()), every)
}

// repeat sends a frame over and over until the building closes.
func (site *Site) repeat(n *nic, frame []byte, every time.Duration) {
	done := make(chan struct{})
	site.closers = append(site.closers, func() error { close(done); return nil })
	site.services.Go(func() {
		ticker := time.NewTicker(every)
		defer ticker.Stop()
		for {
			n.port.send(bytes.Clone(frame))
			select {
			case <-ticker.C:
			case <-done:
				return
			}
		}
	})
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
	leg := Leg{Network: v.Network, Address: v.Address, Address6: v.Address6, MAC: v.MAC}
	return wire.Link{
		Name:        "sim0",
		MAC:         v.MAC,
		MTU:         frameMTU,
		Prefixes:    leg.prefixes(n),
		Gateway:     n.Gateway,
		NameServers: v.NameServers,
	}
}

// Watch shows each frame that the auditor's machine sends on its segment, until it is called with nil. seen must not keep
// the frame, and return soon.
func (site *Site) Watch(seen func(frame []byte)) {
	v := site.Scenario.Vantage
	segment := site.segments[v.Network]
	segment.mu.Lock()
	defer segment.mu.Unlock()
	segment.watch = nil
	if seen != nil {
		segment.watch = func(_ *port, frame []byte) {
			if hwaddr.MAC(frame[6:12]) == v.MAC {
				seen(frame)
			}
		}
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
