package sweep

import (
	"context"
	"crypto/rand"
	"encoding/binary"
	"net/netip"
	"slices"
	"sync"
	"time"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
	"airdrift/core/probe"
	"airdrift/core/wire"
)

// vitals find out whether a device is still there after it was asked, by the way in which it answered before: ARP, echo, or a port.
type vitals struct {
	*engine
	hears *hearer

	mu    sync.Mutex // guards all below
	echo  map[bool]*pinger
	stops ears
}

func newVitals(e *engine, hears *hearer) *vitals {
	return &vitals{engine: e, hears: hears, echo: map[bool]*pinger{}}
}

// lookTries is how often a device is called before it is taken to be gone.
const lookTries = 3

// look reports whether the device is there. One that has answered in no way that can be asked for again is taken to be.
func (v *vitals) look(ctx context.Context, t *target) (alive bool, err error) {
	has := func(key string) bool {
		return slices.ContainsFunc(v.roster.holders(t.addr), func(mac hwaddr.MAC) bool { return v.roster.countOf(t.addr, mac, key) > 0 })
	}
	_, onLink := v.link().OnLink(t.addr)
	switch {
	case onLink && v.hears.canSend() && (has(evidence.KeyMAC) || has(evidence.KeyNDMAC)):
		return v.lookOnSegment(ctx, t)
	case has(evidence.KeyEchoTTL):
		return v.lookByEcho(ctx, t)
	}
	t.pulse.mu.Lock()
	port := t.pulse.good
	t.pulse.mu.Unlock()
	if port == 0 {
		return true, nil
	}
	for range lookTries {
		outcome, _, err := v.touch(ctx, netip.AddrPortFrom(t.addr, port), patient(v.timers.last(v.timers.wait(t.addr))), asking)
		if err != nil || outcome != probe.Silent {
			return true, err
		}
	}
	return false, nil
}

func (v *vitals) lookOnSegment(ctx context.Context, t *target) (bool, error) {
	answered, forget := v.hears.alive.await(t.addr)
	defer forget()
	return v.call(ctx, t, answered, func() error {
		v.roster.call(t.addr)
		return v.hears.writeCall(ctx, t.addr)
	})
}

func (v *vitals) lookByEcho(ctx context.Context, t *target) (bool, error) {
	p, err := v.pinger(ctx, t.addr.Is4())
	if err != nil || p == nil {
		return true, err
	}
	answered, forget := p.alive.await(t.addr)
	defer forget()
	return v.call(ctx, t, answered, func() error {
		return v.sendEcho(ctx, p.conn, t.addr, 0, func() []byte { return p.nonce[:] })
	})
}

// call sends a call up to lookTries times, until it is answered.
func (v *vitals) call(ctx context.Context, t *target, answered <-chan struct{}, send func() error) (bool, error) {
	for try := range lookTries {
		if err := v.turn(ctx, t.addr, asking); err != nil {
			return false, err
		}
		if err := send(); err != nil {
			return false, err
		}
		v.meter.send(asking)
		wait := v.timers.wait(t.addr)
		if try == lookTries-1 {
			wait = v.timers.last(wait)
		}
		over := make(chan struct{})
		stop := v.stalls.after(wait, func() { close(over) })
		select {
		case <-answered:
			stop()
			return true, nil
		case <-ctx.Done():
			stop()
			return false, ctx.Err()
		case <-over:
		}
	}
	return false, nil
}

// pinger sends echo requests to single addresses and hears what answers.
type pinger struct {
	conn  wire.EchoConn
	nonce [16]byte
	alive awaited
}

// pinger gives the one of a family; nil where there is no right to one.
func (v *vitals) pinger(ctx context.Context, four bool) (*pinger, error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if p, opened := v.echo[four]; opened {
		return p, nil
	}
	network := "ip6"
	if four {
		network = "ip4"
	}
	p := &pinger{}
	if _, err := rand.Read(p.nonce[:]); err != nil {
		return nil, err
	}
	binary.BigEndian.PutUint64(p.nonce[8:], uint64(time.Now().UnixNano()))
	err := v.persist(ctx, func() (err error) {
		p.conn, err = v.wire.Echo(ctx, network)
		return err
	})
	if err != nil {
		v.echo[four] = nil // without the right to it nobody is looked after this way
		return nil, ctx.Err()
	}
	v.stops.add(p.conn.Close)
	v.stops.add(listen(p.conn.SetReadDeadline, p.hear))
	v.echo[four] = p
	return p, nil
}

func (p *pinger) hear() error {
	reply, err := p.conn.Receive()
	if err != nil || len(reply.Data) != len(p.nonce) || [16]byte(reply.Data) != p.nonce {
		return err
	}
	p.alive.isThere(reply.From)
	return nil
}

func (v *vitals) close() error {
	v.mu.Lock()
	defer v.mu.Unlock()
	return v.stops.close()
}
