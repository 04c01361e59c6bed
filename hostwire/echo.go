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

	"airdrift/core/wire"
)

// Echo opens a raw socket where that is permitted, else the system's unprivileged echo socket.
func (w *Wire) Echo(context.Context) (wire.EchoConn, error) {
	self, err := w.self()
	if err != nil {
		return nil, err
	}
	conn, err := icmp.ListenPacket("ip4:icmp", self.String())
	raw := err == nil
	if errors.Is(err, os.ErrPermission) {
		conn, err = icmp.ListenPacket("udp4", self.String())
	}
	if err != nil {
		return nil, noRights(err)
	}
	if err := conn.IPv4PacketConn().SetControlMessage(ipv4.FlagTTL, true); err != nil {
		_ = conn.Close()
		return nil, fmt.Errorf("echo socket: %w", err)
	}
	return &echoConn{conn: conn, raw: raw, id: int(rand.Uint32N(1 << 16))}, nil
}

type echoConn struct {
	conn *icmp.PacketConn
	raw  bool // a raw socket hears every answer on the machine; the other kind only its own
	id   int
}

func (c *echoConn) Send(dst netip.Addr, seq uint16, data []byte) error {
	message := icmp.Message{Type: ipv4.ICMPTypeEcho, Body: &icmp.Echo{ID: c.id, Seq: int(seq), Data: data}}
	packet, err := message.Marshal(nil)
	if err != nil {
		return err
	}
	var to net.Addr = &net.UDPAddr{IP: dst.AsSlice()}
	if c.raw {
		to = &net.IPAddr{IP: dst.AsSlice()}
	}
	_, err = c.conn.WriteTo(packet, to)
	return err
}

func (c *echoConn) Receive() (wire.EchoReply, error) {
	buf := make([]byte, 2048)
	for {
		n, control, from, err := c.conn.IPv4PacketConn().ReadFrom(buf)
		if err != nil {
			return wire.EchoReply{}, err
		}
		message, err := icmp.ParseMessage(ipv4.ICMPTypeEchoReply.Protocol(), buf[:n])
		if err != nil || message.Type != ipv4.ICMPTypeEchoReply {
			continue
		}
		echo, ok := message.Body.(*icmp.Echo)
		if !ok || c.raw && echo.ID != c.id {
			continue
		}
		reply := wire.EchoReply{From: addrOf(from), Seq: uint16(echo.Seq), Data: echo.Data}
		if control != nil {
			reply.TTL = control.TTL
		}
		return reply, nil
	}
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
