package sweep

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"sync"
	"time"

	"airdrift/core/probe"
	"airdrift/core/wire"
)

// dialer opens connections to devices with care for them and within the pace. What has to be waited for first is no part of the
// wait for the device.
type dialer struct {
	*engine
	clock *clock // that keeps the times of answers
}

var _ probe.Dialer = dialer{}

// Dial connects. Datagrams wait for their turn when they are written.
func (d dialer) Dial(ctx context.Context, network string, addr netip.AddrPort, wait time.Duration) (conn net.Conn, err error) {
	addr = d.zoned(addr)
	err = d.persist(ctx, func() error {
		if network == "udp" {
			conn, err = d.wire.DialContext(ctx, network, addr)
			return err
		}
		if err := d.mayConnect(ctx, addr.Addr(), asking); err != nil {
			return err
		}
		conn, err = d.stalls.dial(ctx, wait, func(ctx context.Context) (net.Conn, error) { return d.wire.DialContext(ctx, network, addr) })
		return err
	})
	if err != nil {
		return nil, err
	}
	if network == "udp" {
		conn = &pacedConn{Conn: conn, paced: paced{ctx: ctx, engine: d.engine}, to: addr.Addr()}
	}
	return newTimedConn(conn, d.clock, &d.stalls), nil
}

// mayConnect waits for the device's gap and for a turn.
func (e *engine) mayConnect(ctx context.Context, a netip.Addr, c class) error {
	turn := func() error { return e.turn(ctx, a, c) }
	if c == asking { // probes of addresses where there may be nothing are further apart than any gap
		wait := turn
		turn = func() error { return e.care.connect(ctx, e.deviceOf(a), e.paceAt(a).Pace, wait) }
	}
	if err := turn(); err != nil {
		return err
	}
	e.meter.send(c)
	return nil
}

// ListenPacket opens a datagram socket that hears answers from any port.
func (d dialer) ListenPacket(ctx context.Context, network string, addr netip.AddrPort) (net.PacketConn, error) {
	var conn net.PacketConn
	err := d.persist(ctx, func() (err error) {
		conn, err = d.wire.ListenPacket(ctx, network, addr)
		return err
	})
	if err != nil {
		return nil, err
	}
	packets := &pacedPackets{PacketConn: conn, paced: paced{ctx: ctx, engine: d.engine}}
	return &timedPackets{PacketConn: packets, question: question{clock: d.clock}, drawnOut: drawnOut{stalls: &d.stalls}}, nil
}

// zoned says by which link a link-local address is reached (RFC 4007, 11).
func (e *engine) zoned(addr netip.AddrPort) netip.AddrPort {
	if a := addr.Addr(); a.Is6() && a.IsLinkLocalUnicast() {
		return netip.AddrPortFrom(a.WithZone(e.link().Name), addr.Port())
	}
	return addr
}

// paced lets datagrams leave in their turn. A deadline that was set before begins to run when the datagram leaves: what is left of it
// when it is set is what there is after the turn.
type paced struct {
	ctx    context.Context
	engine *engine

	mu     sync.Mutex // guards both
	left   time.Duration
	waited time.Duration // for turns
}

// Waited gives how long was waited for turns so far, which is no time of the device's.
func (p *paced) Waited() time.Duration {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.waited
}

func (p *paced) set(t time.Time) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.left = 0
	if until := time.Until(t); !t.IsZero() && until > 0 {
		p.left = until
	}
}

// send waits for a turn towards an address and has write send; renew is given the deadline that counts from then on.
func (p *paced) send(to netip.Addr, renew func(time.Time) error, write func() (int, error)) (n int, err error) {
	err = p.engine.persist(p.ctx, func() error {
		began := time.Now()
		if err := p.engine.turn(p.ctx, to, asking); err != nil {
			return err
		}
		p.engine.meter.send(asking)
		p.mu.Lock()
		left := p.left
		p.waited += time.Since(began)
		p.mu.Unlock()
		if left > 0 {
			_ = renew(time.Now().Add(left))
		}
		n, err = write()
		return err
	})
	return n, err
}

// pacedConn sends datagrams to one address.
type pacedConn struct {
	net.Conn
	paced
	to netip.Addr
}

func (c *pacedConn) Write(b []byte) (int, error) {
	return c.send(c.to, c.Conn.SetReadDeadline, func() (int, error) { return c.Conn.Write(b) })
}

// SetDeadline sets the deadline of reading; writing has none but its turn.
func (c *pacedConn) SetDeadline(t time.Time) error { return c.SetReadDeadline(t) }

func (c *pacedConn) SetWriteDeadline(time.Time) error { return nil }

func (c *pacedConn) SetReadDeadline(t time.Time) error {
	c.set(t)
	return c.Conn.SetReadDeadline(t)
}

// pacedPackets sends datagrams where it is told to.
type pacedPackets struct {
	net.PacketConn
	paced
}

func (c *pacedPackets) WriteTo(b []byte, to net.Addr) (int, error) {
	at, err := netip.ParseAddrPort(to.String())
	if err != nil {
		return 0, err
	}
	return c.send(at.Addr(), c.PacketConn.SetReadDeadline, func() (int, error) { return c.PacketConn.WriteTo(b, to) })
}

func (c *pacedPackets) SetDeadline(t time.Time) error { return c.SetReadDeadline(t) }

func (c *pacedPackets) SetWriteDeadline(time.Time) error { return nil }

func (c *pacedPackets) SetReadDeadline(t time.Time) error {
	c.set(t)
	return c.PacketConn.SetReadDeadline(t)
}

// patience is how long an answer is waited for. One that is overdue no longer counts as in flight, and overdue is called, where it is
// set; it is still heard until the wait is over.
type patience struct {
	wait, due time.Duration
	overdue   func()
}

func patient(wait time.Duration) patience { return patience{wait: wait, due: wait} }

// connect tries to open a TCP connection with care for the device, in the network's lane and within the pace. A silence while
// nothing could be heard says nothing, so the try is made again.
func (e *engine) connect(ctx context.Context, addr netip.AddrPort, patience patience, c class) (conn net.Conn, rtt time.Duration, outcome probe.Outcome, err error) {
	for {
		leave, err := e.lanes.enter(ctx, e.timers.networkOf(addr.Addr()), e.paceAt(addr.Addr()).PerNetwork)
		if err != nil {
			return nil, 0, probe.Silent, err
		}
		leave = sync.OnceFunc(leave)
		var began time.Time
		err = e.persist(ctx, func() error {
			if err := e.mayConnect(ctx, addr.Addr(), c); err != nil {
				return err
			}
			if patience.overdue != nil {
				defer e.stalls.after(patience.due, func() { leave(); patience.overdue() })()
			}
			began = time.Now()
			conn, err = e.stalls.dial(ctx, patience.wait, func(ctx context.Context) (net.Conn, error) { return e.wire.DialContext(ctx, "tcp", e.zoned(addr)) })
			return err
		})
		leave()
		rtt = time.Since(began)
		outcome, err = probe.OutcomeOf(ctx, err)
		if err != nil || outcome == probe.Open || outcome == probe.Refused || !e.attached.deafSince(began) {
			return conn, rtt, outcome, err
		}
		if err := e.gate.wait(ctx); err != nil {
			return nil, 0, probe.Silent, err
		}
	}
}

// touch is connect that hangs up at once.
func (e *engine) touch(ctx context.Context, addr netip.AddrPort, patience patience, c class) (probe.Outcome, time.Duration, error) {
	conn, rtt, outcome, err := e.connect(ctx, addr, patience, c)
	if conn != nil {
		conn.Close()
	}
	return outcome, rtt, err
}

// isFatal reports whether an error ends the sweep: only leaving the fence does.
func isFatal(err error) bool {
	var outside *wire.OutsideError
	return errors.As(err, &outside)
}
