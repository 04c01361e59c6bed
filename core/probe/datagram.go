package probe

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"syscall"
	"time"

	"airdrift/core/evidence"
	"airdrift/core/wire"
)

// datagramTries is how often a question by datagram is sent to a device that keeps silent.
const datagramTries = 2

// maxDatagram is the largest datagram read, in bytes: the most that UDP carries.
const maxDatagram = 65535

// maxAnswers is how many datagrams are looked at for one question, so that a flood does not keep us.
const maxAnswers = 64

var errSilent = errors.New("nothing that fits the question came back in time")

// verdict is what a datagram was worth.
type verdict int

const (
	ignore verdict = iota // it does not belong to the question
	more                  // it is an answer, and others may follow
	enough                // it is the answer
)

// lull is how long further answers to one question are waited for after the last.
const lull = 300 * time.Millisecond

// exchange sends a question and shows each datagram that comes back to take, until it has enough. A question that is not
// answered is sent again with twice the wait. The error says why there was no answer; ECONNREFUSED means that nothing
// listens there.
func exchange(ctx context.Context, d Dialer, addr netip.AddrPort, question []byte, wait time.Duration, take func(answer []byte) verdict) error {
	conn, err := d.Dial(ctx, "udp", addr, wait)
	if err != nil {
		return err
	}
	defer conn.Close()
	for range datagramTries {
		if err := converse(ctx, conn, question, wait, take); !errors.Is(err, errSilent) {
			return err
		}
		wait *= 2
	}
	return errSilent
}

// search puts a question that may be answered from another port than it went to, as those to a group are. One that keeps silent is
// asked again, in the second way, where answers from any of its ports are heard; the first try hears of refusals.
func search(ctx context.Context, d Dialer, addr netip.AddrPort, question, again []byte, wait time.Duration, take func(answer []byte) verdict) error {
	conn, err := d.Dial(ctx, "udp", addr, wait)
	if err != nil {
		return err
	}
	err = converse(ctx, conn, question, wait, take)
	conn.Close()
	if !errors.Is(err, errSilent) {
		return err
	}
	l, ok := d.(listener)
	if !ok {
		return errSilent
	}
	open, err := l.ListenPacket(ctx, "udp", netip.AddrPortFrom(wire.Anywhere(addr.Addr()), 0))
	if err != nil {
		return err
	}
	defer open.Close()
	return converse(ctx, whateverPort{open, addr}, again, 2*wait, take)
}

// listener is a dialer that can hear answers from any port.
type listener interface {
	ListenPacket(ctx context.Context, network string, addr netip.AddrPort) (net.PacketConn, error)
}

// whateverPort is a conversation with one device, whichever of its ports it answers from.
type whateverPort struct {
	net.PacketConn
	to netip.AddrPort
}

func (c whateverPort) Write(question []byte) (int, error) {
	return c.WriteTo(question, net.UDPAddrFromAddrPort(c.to))
}

// Read passes over what others send.
func (c whateverPort) Read(buf []byte) (int, error) {
	for {
		n, from, err := c.ReadFrom(buf)
		if err != nil {
			return 0, err
		}
		if at, err := netip.ParseAddrPort(from.String()); err == nil && at.Addr().Unmap().WithZone("") == c.to.Addr().WithZone("") {
			return n, nil
		}
	}
}

// dialogue is what a question is put by.
type dialogue interface {
	Write(question []byte) (int, error)
	Read(buf []byte) (int, error)
	SetDeadline(t time.Time) error
	SetReadDeadline(t time.Time) error
}

// converse puts a question once, and shows take what comes back until it has enough or nothing more comes; errSilent where
// nothing that fits did.
func converse(ctx context.Context, conn dialogue, question []byte, wait time.Duration, take func(answer []byte) verdict) error {
	stop := context.AfterFunc(ctx, func() { _ = conn.SetDeadline(time.Unix(1, 0)) })
	defer stop()
	if _, err := conn.Write(question); err != nil {
		return errors.Join(err, ctx.Err())
	}
	_ = conn.SetReadDeadline(time.Now().Add(wait))
	buf := make([]byte, maxDatagram)
	result := errSilent
	for range maxAnswers {
		n, err := conn.Read(buf)
		if refusesDatagrams(err) || ctx.Err() != nil {
			return errors.Join(err, ctx.Err())
		}
		if err != nil {
			break
		}
		switch take(buf[:n]) {
		case enough:
			return nil
		case more:
			result = nil
			_ = conn.SetReadDeadline(time.Now().Add(lull))
		}
	}
	return result
}

// refusesDatagrams reports whether a device has said that nothing listens at the port.
func refusesDatagrams(err error) bool { return errors.Is(err, syscall.ECONNREFUSED) }

// byDatagram collects the evidence of one question by datagram.
func byDatagram(d Dialer, addr netip.Addr, port uint16) (*found, netip.AddrPort) {
	return &found{port: evidence.UDP(port), dialer: d, zone: addr.Zone()}, netip.AddrPortFrom(addr, port)
}

func (q Query) byDatagram(port uint16) (*found, netip.AddrPort) {
	return byDatagram(q.Dialer, q.Addr, port)
}
