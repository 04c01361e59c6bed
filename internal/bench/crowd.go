package main

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"net"
	"net/netip"
	"os"
	"sync/atomic"
	"syscall"
	"time"

	"airdrift/core/hwaddr"
	"airdrift/core/wire"
)

// crowd is a segment of any size on which every so manyeth address answers, at no cost worth speaking of: what is measured on
// it is the engine.
type crowd struct {
	prefix  netip.Prefix  // with the auditor's own address
	every   uint32        // every so manyeth address answers
	latency time.Duration // until a port refuses
	frames  atomic.Int64  // sent
	dials   atomic.Int64  // attempts to connect
	first   atomic.Int64  // time of the first and the last of them, in nanoseconds
	last    atomic.Int64
}

var _ wire.Wire = (*crowd)(nil)

var crowdMAC = hwaddr.MustParse("00:00:5e:00:53:01")

func (c *crowd) Link() wire.Link {
	return wire.Link{Name: "crowd0", MAC: crowdMAC, MTU: 1500, Prefixes: []netip.Prefix{c.prefix}}
}

// lives reports whether somebody is at an address.
func (c *crowd) lives(a [4]byte) bool { return binary.BigEndian.Uint32(a[:])%c.every == 7%c.every }

// Frames answers ARP requests for those that live; of anything else nothing is heard.
func (c *crowd) Frames(_ context.Context, etherType uint16) (wire.FrameConn, error) {
	return &crowdFrames{crowd: c, arp: etherType == wire.EtherTypeARP, answers: make(chan []byte, 1<<14), over: make(chan struct{})}, nil
}

type crowdFrames struct {
	crowd   *crowd
	arp     bool
	answers chan []byte
	over    chan struct{}
}

func (f *crowdFrames) WriteFrame(frame []byte) error {
	f.crowd.frames.Add(1)
	if !f.arp || !f.crowd.lives([4]byte(frame[38:42])) {
		return nil
	}
	reply := bytes.Clone(frame)
	mac := hwaddr.MAC{0, 0, 1, frame[39], frame[40], frame[41]}
	copy(reply[0:6], frame[6:12])
	copy(reply[6:12], mac[:])
	reply[21] = 2
	copy(reply[22:28], mac[:])
	copy(reply[28:32], frame[38:42])
	f.answers <- reply
	return nil
}

func (f *crowdFrames) ReadFrame(buf []byte) (wire.Frame, error) {
	select {
	case frame := <-f.answers:
		return wire.Frame{Bytes: buf[:copy(buf, frame)], At: time.Now()}, nil
	case <-f.over:
		return wire.Frame{}, os.ErrDeadlineExceeded
	}
}

func (f *crowdFrames) SetReadDeadline(time.Time) error {
	close(f.over) // the engine sets a deadline once, to end
	return nil
}

func (f *crowdFrames) Close() error { return nil }

// Echo is not to be had; the segment is called by ARP.
func (c *crowd) Echo(context.Context, string) (wire.EchoConn, error) { return nil, wire.ErrNoRights }

// DialContext refuses after the latency.
func (c *crowd) DialContext(ctx context.Context, network string, _ netip.AddrPort) (net.Conn, error) {
	if network == "udp" {
		return nil, syscall.ECONNREFUSED // nobody here listens for datagrams
	}
	c.dials.Add(1)
	c.first.CompareAndSwap(0, time.Now().UnixNano())
	defer func() { c.last.Store(time.Now().UnixNano()) }()
	timer := time.NewTimer(c.latency)
	defer timer.Stop()
	select {
	case <-timer.C:
		return nil, syscall.ECONNREFUSED
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// ListenPacket is not to be had.
func (c *crowd) ListenPacket(context.Context, string, netip.AddrPort) (net.PacketConn, error) {
	return nil, errors.ErrUnsupported
}

// Neighbours knows nobody.
func (c *crowd) Neighbours(context.Context) ([]wire.Neighbour, error) { return nil, nil }
