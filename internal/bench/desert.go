package main

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"os"
	"sync"
	"syscall"
	"time"

	"airdrift/core/wire"
)

// desert is a network beyond a router in which hardly anybody lives. It counts the packets that each address costs.
type desert struct {
	mu   sync.Mutex // guards sent
	sent map[netip.Addr]int
}

var _ wire.Wire = (*desert)(nil)

// dweller is who lives at an address.
type dweller int

const (
	nobody  dweller = iota
	echoes          // answers echo requests
	refuses         // drops echo requests and refuses connections
	shy             // drops all but connections to one port
)

// lives gives who lives at an address.
func (d *desert) lives(a netip.Addr) dweller {
	switch n := a.As4(); (int(n[2])<<8 | int(n[3])) % 90 {
	case 7:
		return echoes
	case 37:
		return refuses
	case 67:
		return shy
	}
	return nobody
}

func (d *desert) count(a netip.Addr, packets int) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.sent[a] += packets
}

func (d *desert) Link() wire.Link {
	return wire.Link{Name: "desert0", Prefixes: []netip.Prefix{netip.MustParsePrefix("10.9.0.2/24")}, Gateway: netip.MustParseAddr("10.9.0.1")}
}

// Frames are not to be had.
func (d *desert) Frames(context.Context, uint16) (wire.FrameConn, error) {
	return nil, wire.ErrNoRights
}

func (d *desert) Echo(context.Context, string) (wire.EchoConn, error) {
	return &desertEcho{desert: d, answers: make(chan wire.EchoReply, 1<<12), over: make(chan struct{})}, nil
}

type desertEcho struct {
	desert  *desert
	answers chan wire.EchoReply
	over    chan struct{}
	once    sync.Once
}

func (e *desertEcho) Send(dst netip.Addr, seq uint16, data []byte) error {
	e.desert.count(dst, 1)
	if e.desert.lives(dst) == echoes {
		e.answers <- wire.EchoReply{From: dst, Seq: seq, TTL: 63, Data: append([]byte(nil), data...)}
	}
	return nil
}

func (e *desertEcho) Receive() (wire.EchoReply, error) {
	select {
	case reply := <-e.answers:
		return reply, nil
	case <-e.over:
		return wire.EchoReply{}, os.ErrDeadlineExceeded
	}
}

func (e *desertEcho) SetReadDeadline(time.Time) error {
	e.once.Do(func() { close(e.over) })
	return nil
}

func (e *desertEcho) Close() error { return nil }

// synRepeats are the times after which a system sends its request for a connection again (RFC 6298, 2.1 and 5.5).
var synRepeats = []time.Duration{time.Second, 3 * time.Second, 7 * time.Second}

// DialContext counts a packet, and one for each time that the system would repeat it before the caller gives up.
func (d *desert) DialContext(ctx context.Context, network string, addr netip.AddrPort) (net.Conn, error) {
	if network == "udp" {
		return nil, syscall.ECONNREFUSED
	}
	who := d.lives(addr.Addr())
	if who == refuses || who == echoes || who == shy && addr.Port() == 443 {
		d.count(addr.Addr(), 1)
		return nil, syscall.ECONNREFUSED
	}
	began := time.Now()
	<-ctx.Done()
	packets := 1
	for _, again := range synRepeats {
		if time.Since(began) >= again {
			packets++
		}
	}
	d.count(addr.Addr(), packets)
	return nil, ctx.Err()
}

// ListenPacket is not to be had.
func (d *desert) ListenPacket(context.Context, string, netip.AddrPort) (net.PacketConn, error) {
	return nil, errors.ErrUnsupported
}

// Neighbours knows nobody.
func (d *desert) Neighbours(context.Context) ([]wire.Neighbour, error) { return nil, nil }
