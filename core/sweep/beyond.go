package sweep

import (
	"context"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"net/netip"
	"slices"
	"strconv"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sync/errgroup"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
	"airdrift/core/netrange"
	"airdrift/core/probe"
	"airdrift/core/wire"
)

// callBeyond calls addresses by echo, and those that stay silent by TCP.
func (c *caller) callBeyond(ctx context.Context, set netrange.Set, name string) (err error) {
	if set.Count() == 0 {
		return nil
	}
	// What is called by echo is heard until the TCP probes are over, so that what answers late is not missed.
	var ears ears
	defer func() { err = errors.Join(err, ears.close()) }()
	g, groupCtx := errgroup.WithContext(ctx)
	four, six := families(set)
	g.Go(func() error { return c.callFamily(groupCtx, "ip4", name, four, &ears) })
	g.Go(func() error { return c.callFamily(groupCtx, "ip6", name, six, &ears) })
	if err := g.Wait(); err != nil {
		return err
	}
	return c.byPace(ctx, set, func(ctx context.Context, part netrange.Set, pace *pacing, of string) error {
		return c.callByTCP(ctx, part, pace, name+of, &ears)
	})
}

// ears are the readers of a call that are to be ended with it.
type ears struct {
	mu        sync.Mutex // guards all below
	stops     []func() error
	four, six bool // the families that are called by echo
}

// hear takes note that a family is called by echo.
func (e *ears) hear(network string) {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.four = e.four || network == "ip4"
	e.six = e.six || network == "ip6"
}

// hearsFrom reports whether an address was called by echo.
func (e *ears) hearsFrom(a netip.Addr) bool {
	e.mu.Lock()
	defer e.mu.Unlock()
	return a.Is4() && e.four || a.Is6() && e.six
}

func (e *ears) add(stop func() error) {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.stops = append(e.stops, stop)
}

func (e *ears) close() error {
	var errs []error
	for _, stop := range slices.Backward(e.stops) { // readers end before their socket closes
		errs = append(errs, stop())
	}
	return errors.Join(errs...)
}

// callFamily calls the addresses of one family by echo; network is that of wire.Wire.Echo.
func (c *caller) callFamily(ctx context.Context, network, name string, set netrange.Set, ears *ears) error {
	if set.Count() == 0 {
		return nil
	}
	var echo wire.EchoConn
	err := c.persist(ctx, func() (err error) {
		echo, err = c.wire.Echo(ctx, network)
		return err
	})
	switch {
	case errors.Is(err, wire.ErrNoRights):
		c.warn("No right to send echo requests: addresses are called by TCP alone. Run the service with CAP_NET_RAW to mend this.")
		return nil
	case errors.Is(err, syscall.ENETUNREACH), errors.Is(err, syscall.EAFNOSUPPORT):
		c.warn("There is no way to %s from here: %v.", set, err)
		return nil
	case err != nil:
		return err
	}
	ears.add(echo.Close)
	ears.hear(network)
	return c.callByEcho(ctx, echo, network+name, set, ears)
}

// callByEcho carries the time of sending in each request, with a nonce before it that strangers cannot guess.
func (c *caller) callByEcho(ctx context.Context, echo wire.EchoConn, call string, set netrange.Set, ears *ears) error {
	var nonce [8]byte
	if _, err := rand.Read(nonce[:]); err != nil {
		return err
	}
	start := time.Now()
	ears.add(listen(echo.SetReadDeadline, func() error {
		reply, err := echo.Receive()
		if err == nil && len(reply.Data) == 16 && [8]byte(reply.Data) == nonce && set.Contains(reply.From) {
			c.heardEcho(context.WithoutCancel(ctx), reply, time.Since(start)-time.Duration(binary.BigEndian.Uint64(reply.Data[8:])))
		}
		return err
	}))
	return c.byPace(ctx, set, func(ctx context.Context, part netrange.Set, pace *pacing, name string) error {
		return c.rounds(ctx, call+name, part, pace, false, func(a netip.Addr, round int) error {
			return c.sendEcho(ctx, echo, a, uint16(round), func() []byte {
				return binary.BigEndian.AppendUint64(nonce[:len(nonce):len(nonce)], uint64(time.Since(start)))
			})
		})
	})
}

// sendEcho sends one request. That there is no way to one address says nothing of the rest.
func (e *engine) sendEcho(ctx context.Context, echo wire.EchoConn, a netip.Addr, seq uint16, data func() []byte) error {
	err := e.persist(ctx, func() error { return echo.Send(a, seq, data()) })
	if isFatal(err) || errors.As(probe.OwnFault(err), new(*probe.OwnFaultError)) || ctx.Err() != nil {
		return errors.Join(err, ctx.Err())
	}
	return nil
}

func (c *caller) heardEcho(ctx context.Context, reply wire.EchoReply, rtt time.Duration) {
	c.timers.measured(reply.From, rtt)
	c.paceAt(reply.From).pace.answered(reply.Seq > 0)
	c.noted(c.routed(ctx, reply.From, evidence.Item{
		Source: evidence.SourceEcho, Key: evidence.KeyEchoTTL, Value: strconv.Itoa(reply.TTL), At: time.Now().UTC(), RTT: rtt,
	}))
}

// callByTCP probes those that gave no echo.
func (c *caller) callByTCP(ctx context.Context, set netrange.Set, pace *pacing, name string, ears *ears) error {
	call := "tcp" + name
	visit, of := netrange.NewVisit(set, c.order.Seed+1), fingerprint(call, set, c.order.Seed+1)
	g, groupCtx := errgroup.WithContext(ctx)
	together := pace.tcpCalls()
	g.SetLimit(together)
	place, since := c.resume.place(call, of)
	from := place.At
	c.meter.expect(calling, set.Count())
	c.meter.settle(calling, min(from, set.Count()))
	for i := from; i < visit.Len(); i++ {
		a, _ := visit.At(i)
		if c.isSelf(a) || c.standsForMany(a) || c.over(a) {
			c.meter.settle(calling, 1)
			continue
		}
		if groupCtx.Err() != nil {
			break
		}
		g.Go(func() error {
			defer c.meter.settle(calling, 1)
			echoes := 0
			if ears.hearsFrom(a) {
				echoes = pace.Rounds
			}
			return c.callTCP(groupCtx, a, pace, echoes)
		})
		// Those under way when a sweep ends have to be probed again.
		c.resume.reach(call, Place{At: i - min(i, uint64(together)), Of: of}, since)
	}
	return errors.Join(g.Wait(), ctx.Err())
}

// routed makes a sighting of an answer that came through the system's own stack. Where the address lies on the own
// segment, which then could not be called by ARP, the stack has had to learn its MAC to get that answer.
func (e *engine) routed(ctx context.Context, a netip.Addr, item evidence.Item) evidence.Sighting {
	s := sighting(a, hwaddr.MAC{}, item)
	if _, onLink := e.link().OnLink(a); !onLink {
		return s
	}
	if holders := e.roster.answering(a); len(holders) == 1 {
		s.MAC = holders[0]
		return s
	}
	neighbours, _ := e.wire.Neighbours(ctx) // the roll call has warned where that fails
	for _, n := range neighbours {
		if n.Addr == a && !n.MAC.IsGroup() {
			s.MAC = n.MAC
			s.Items = append(s.Items, evidence.Item{Source: evidence.SourceARP, Key: evidence.KeyMAC, Value: n.MAC.String(), At: item.At})
			break
		}
	}
	return s
}

func tcpItem(port uint16, outcome probe.Outcome, rtt time.Duration) evidence.Item {
	key := evidence.KeyTCPOpen
	if outcome == probe.Refused {
		key = evidence.KeyTCPRefused
	}
	return evidence.Item{
		Source: evidence.SourceTCP, Key: key, Port: evidence.TCP(port), Value: strconv.Itoa(int(port)), At: time.Now().UTC(), RTT: rtt,
	}
}
