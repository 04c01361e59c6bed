package hostwire

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"net/netip"
	"os"
	"time"

	"golang.org/x/net/icmp"
	"golang.org/x/net/ipv4"
	"golang.org/x/net/ipv6"

	"airdrift/core/wire"
)

// family is what differs between echo over IPv4 (RFC 792) and over IPv6 (RFC 4443).
type family struct {
	raw, plain     string // what the system calls the raw and the unprivileged socket
	any            netip.Addr
	request, reply icmp.Type
}

var families = map[string]family{
	"ip4": {"ip4:icmp", "udp4", netip.IPv4Unspecified(), ipv4.ICMPTypeEcho, ipv4.ICMPTypeEchoReply},
	"ip6": {"ip6:ipv6-icmp", "udp6", netip.IPv6Unspecified(), ipv6.ICMPTypeEchoRequest, ipv6.ICMPTypeEchoReply},
}

// Echo opens a raw socket where that is permitted, else the system's unprivileged echo socket. What is sent leaves by the interface,
// from the address of it that fits the target.
func (w *Wire) Echo(ctx context.Context, network string) (wire.EchoConn, error) {
	f, known := families[network]
	if !known {
		return nil, fmt.Errorf("network %q: want ip4 or ip6", network)
	}
	if _, err := w.self(f.any); err != nil {
		return nil, err
	}
	config := net.ListenConfig{Control: w.bindToInterface}
	conn, err := config.ListenPacket(ctx, f.raw, f.any.String())
	raw := err == nil
	if errors.Is(err, os.ErrPermission) {
		conn, err = w.plainEcho(f)
	}
	if err != nil {
		return nil, noRights(err)
	}
	c := &echoConn{conn: conn, family: f, raw: raw, id: int(rand.Uint32N(1 << 16))}
	if network == "ip4" {
		c.four = ipv4.NewPacketConn(conn)
		err = c.four.SetControlMessage(ipv4.FlagTTL, true)
	} else {
		c.six = ipv6.NewPacketConn(conn)
		err = c.six.SetControlMessage(ipv6.FlagHopLimit, true)
	}
	if err != nil {
		return nil, errors.Join(fmt.Errorf("echo socket: %w", err), conn.Close())
	}
	return c, nil
}

type echoConn struct {
	conn   net.PacketConn
	four   *ipv4.PacketConn // the one or the other
	six    *ipv6.PacketConn
	family family
	raw    bool // a raw socket hears every answer on the machine; the other kind only its own
	id     int
}

func (c *echoConn) Send(dst netip.Addr, seq uint16, data []byte) error {
	message := icmp.Message{Type: c.family.request, Body: &icmp.Echo{ID: c.id, Seq: int(seq), Data: data}}
	packet, err := message.Marshal(nil)
	if err != nil {
		return err
	}
	var to net.Addr = &net.UDPAddr{IP: dst.AsSlice(), Zone: dst.Zone()}
	if c.raw {
		to = &net.IPAddr{IP: dst.AsSlice(), Zone: dst.Zone()}
	}
	_, err = c.conn.WriteTo(packet, to)
	return err
}

func (c *echoConn) Receive() (wire.EchoReply, error) {
	buf := make([]byte, 2048)
	for {
		n, hops, from, err := c.read(buf)
		if err != nil {
			return wire.EchoReply{}, err
		}
		message, err := icmp.ParseMessage(c.family.reply.Protocol(), buf[:n])
		if err != nil || message.Type != c.family.reply {
			continue
		}
		echo, ok := message.Body.(*icmp.Echo)
		if !ok || c.raw && echo.ID != c.id {
			continue
		}
		return wire.EchoReply{From: addrOf(from), Seq: uint16(echo.Seq), TTL: hops, Data: echo.Data}, nil
	}
}

// read gives one packet and the time to live or hop limit it arrived with, 0 where the system does not tell.
func (c *echoConn) read(buf []byte) (n, hops int, from net.Addr, err error) {
	if c.four != nil {
		n, control, from, err := c.four.ReadFrom(buf)
		if control != nil {
			hops = control.TTL
		}
		return n, hops, from, err
	}
	n, control, from, err := c.six.ReadFrom(buf)
	if control != nil {
		hops = control.HopLimit
	}
	return n, hops, from, err
}

func addrOf(a net.Addr) netip.Addr {
	var ip net.IP
	switch a := a.(type) {
	case *net.IPAddr:
		ip = a.IP
	case *net.UDPAddr:
		ip = a.IP
	}
	addr, _ := netip.AddrFromSlice(ip)
	return addr.Unmap()
}

func (c *echoConn) SetReadDeadline(t time.Time) error { return c.conn.SetReadDeadline(t) }
func (c *echoConn) Close() error                      { return c.conn.Close() }
