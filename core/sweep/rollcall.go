package sweep

import (
	"context"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"net/netip"
	"os"
	"strconv"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
	"airdrift/core/netrange"
	"airdrift/core/probe"
	"airdrift/core/wire"
)

// knockPorts are tried at addresses beyond the segment that do not answer an echo request: between them they meet
// most of what drops echo. A refusal is an answer too.
var knockPorts = []uint16{80, 443, 22, 445, 9100, 502}

// rollCall finds out who answers at all: by ARP on the own segment, by echo and by TCP beyond it.
func (r *run) rollCall(ctx context.Context) error {
	segment, beyond := r.split()
	if r.link.Broadcasts() {
		frames, err := r.wire.Frames(ctx, wire.EtherTypeARP)
		switch {
		case err == nil:
			defer frames.Close()
			return r.bothCalls(ctx, frames, segment, beyond)
		case !errors.Is(err, wire.ErrNoRights):
			return err
		}
		r.warn("No right to send frames: the segment is called by echo and TCP, MAC addresses come from the system's own table, " +
			"and a device that answers ARP alone is missed. Run the service with CAP_NET_RAW to mend this.")
	}
	if _, err := r.wire.Neighbours(ctx); err != nil {
		r.warn("The system's table of neighbours cannot be read: %v. MAC addresses stay unknown.", err)
	}
	return r.callBeyond(ctx, r.order.Ranges)
}

func (r *run) bothCalls(ctx context.Context, frames wire.FrameConn, segment, beyond netrange.Set) error {
	g, ctx := errgroup.WithContext(ctx)
	g.Go(func() error { return r.callSegment(ctx, frames, segment) })
	g.Go(func() error { return r.callBeyond(ctx, beyond) })
	return g.Wait()
}

// split parts the ranges into what lies on the own segment and what lies beyond it.
func (r *run) split() (segment, beyond netrange.Set) {
	var own []netip.Prefix
	for _, p := range r.link.Prefixes {
		if p.Addr().Is4() {
			own = append(own, p.Masked())
		}
	}
	beyond = r.order.Ranges.Without(netrange.FromPrefixes(own...))
	return r.order.Ranges.Without(beyond), beyond
}

// rounds visits every address of the set that has not answered, once a round, and waits for the stragglers after
// each. ask sends one question.
func (r *run) rounds(ctx context.Context, set netrange.Set, ask func(a netip.Addr, round int) error) error {
	visit := netrange.NewVisit(set, r.order.Seed)
	r.meter.expect(set.Count() * uint64(r.order.Pace.Rounds))
	for round := range r.order.Pace.Rounds {
		asked := false
		for i := range visit.Len() {
			a, _ := visit.At(i)
			index, _ := r.order.Ranges.Index(a)
			if !r.self[a] && !r.roster.hasAnswered(index) {
				if err := r.turn(ctx); err != nil {
					return err
				}
				if err := ask(a, round); err != nil {
					return err
				}
				r.meter.send()
				asked = true
			}
			r.meter.settle(1)
		}
		if asked {
			if err := pause(ctx, r.timers.longest()); err != nil {
				return err
			}
		}
	}
	return nil
}

// turn waits until the pace permits one more question. The limiter's own Wait fails before a deadline that it would
// miss, and a sweep that is to end at a time goes on until then.
func (r *run) turn(ctx context.Context) error {
	return pause(ctx, r.pace.Reserve().Delay())
}

func pause(ctx context.Context, d time.Duration) error {
	timer := time.NewTimer(d)
	defer timer.Stop()
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-timer.C:
		return nil
	}
}

// callSegment calls the own segment by ARP. Everything that speaks ARP answers, a device that drops all else too.
func (r *run) callSegment(ctx context.Context, frames wire.FrameConn, set netrange.Set) error {
	if set.Count() == 0 {
		return nil
	}
	sent := &sendTimes{at: map[netip.Addr]time.Time{}}
	stop := r.listen(frames.SetReadDeadline, func() error {
		buf := make([]byte, 2048)
		n, err := frames.ReadFrame(buf)
		if err == nil {
			r.heardARP(buf[:n], sent)
		}
		return err
	})
	err := r.rounds(ctx, set, func(a netip.Addr, round int) error {
		self, _ := r.link.OnLink(a)
		sent.note(a, round)
		return frames.WriteFrame(probe.ARPRequest(r.link.MAC, self, a))
	})
	return errors.Join(err, stop())
}

func (r *run) heardARP(frame []byte, sent *sendTimes) {
	heard, ok := probe.ParseARP(frame)
	if !ok || heard.MAC == r.link.MAC || !r.order.Ranges.Contains(heard.Addr) {
		return
	}
	now := time.Now()
	item := evidence.Item{Source: evidence.SourceARP, Key: evidence.KeyMAC, Value: heard.MAC.String(), At: now.UTC()}
	if at, sure := sent.take(heard.Addr); heard.Reply && sure {
		item.RTT = now.Sub(at)
		r.timers.measured(heard.Addr, item.RTT)
	}
	r.noted(sighting(heard.Addr, heard.MAC, item))
}

// sendTimes remembers when each address was first asked, to measure round trips. Addresses asked again are
// forgotten, since their answer could belong to either question.
type sendTimes struct {
	mu sync.Mutex // guards at
	at map[netip.Addr]time.Time
}

func (s *sendTimes) note(a netip.Addr, round int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if round == 0 {
		s.at[a] = time.Now()
	} else {
		delete(s.at, a)
	}
}

func (s *sendTimes) take(a netip.Addr) (time.Time, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	at, ok := s.at[a]
	delete(s.at, a)
	return at, ok
}

// listen reads in the background until the function it returns is called, which gives the reader's failure if it had
// one.
func (r *run) listen(setDeadline func(time.Time) error, read func() error) (stop func() error) {
	failed := make(chan error, 1)
	go func() {
		for {
			if err := read(); err != nil {
				if errors.Is(err, os.ErrDeadlineExceeded) {
					err = nil
				}
				failed <- err
				return
			}
		}
	}()
	return func() error {
		if err := setDeadline(time.Unix(1, 0)); err != nil {
			return err
		}
		return <-failed
	}
}

// callBeyond calls addresses by echo, and those that stay silent by TCP.
func (r *run) callBeyond(ctx context.Context, set netrange.Set) error {
	if set.Count() == 0 {
		return nil
	}
	r.meter.expect(set.Count() * r.knocks())
	echo, err := r.wire.Echo(ctx)
	switch {
	case errors.Is(err, wire.ErrNoRights):
		r.warn("No right to send echo requests: addresses are called by TCP alone. Run the service with CAP_NET_RAW to mend this.")
	case err != nil:
		return err
	default:
		defer echo.Close()
		if err := r.callByEcho(ctx, echo, set); err != nil {
			return err
		}
	}
	return r.callByTCP(ctx, set)
}

// callByEcho carries the time of sending in each request, with a nonce before it that strangers cannot guess.
func (r *run) callByEcho(ctx context.Context, echo wire.EchoConn, set netrange.Set) error {
	var nonce [8]byte
	if _, err := rand.Read(nonce[:]); err != nil {
		return err
	}
	start := time.Now()
	stop := r.listen(echo.SetReadDeadline, func() error {
		reply, err := echo.Receive()
		if err == nil && len(reply.Data) == 16 && [8]byte(reply.Data) == nonce && set.Contains(reply.From) {
			r.heardEcho(ctx, reply, time.Since(start)-time.Duration(binary.BigEndian.Uint64(reply.Data[8:])))
		}
		return err
	})
	err := r.rounds(ctx, set, func(a netip.Addr, round int) error {
		data := binary.BigEndian.AppendUint64(nonce[:len(nonce):len(nonce)], uint64(time.Since(start)))
		err := echo.Send(a, uint16(round), data)
		if err != nil && isOurFault(err) {
			return err
		}
		return nil
	})
	return errors.Join(err, stop())
}

// isOurFault tells a fence that was hit from a network that has no way to one address, which says nothing of the rest.
func isOurFault(err error) bool {
	var outside *wire.OutsideError
	return errors.As(err, &outside)
}

func (r *run) heardEcho(ctx context.Context, reply wire.EchoReply, rtt time.Duration) {
	r.timers.measured(reply.From, rtt)
	r.noted(r.routed(ctx, reply.From, evidence.Item{
		Source: evidence.SourceEcho, Key: evidence.KeyEchoTTL, Value: strconv.Itoa(reply.TTL), At: time.Now().UTC(), RTT: rtt,
	}))
}

// callByTCP knocks at those that gave no echo.
func (r *run) callByTCP(ctx context.Context, set netrange.Set) error {
	visit := netrange.NewVisit(set, r.order.Seed+1)
	g, groupCtx := errgroup.WithContext(ctx)
	g.SetLimit(r.order.Pace.knocking())
	for i := range visit.Len() {
		a, _ := visit.At(i)
		index, _ := r.order.Ranges.Index(a)
		if r.self[a] || r.roster.hasAnswered(index) {
			r.meter.settle(r.knocks())
			continue
		}
		if groupCtx.Err() != nil {
			break
		}
		g.Go(func() error { return r.knock(groupCtx, a, index) })
	}
	return errors.Join(g.Wait(), ctx.Err())
}

// knocks is how many questions knocking at one address can take.
func (r *run) knocks() uint64 { return uint64(r.order.Pace.Rounds * len(knockPorts)) }

// knock tries the knock ports of one address in rounds, until one answers. A device may have but one of them open and
// keep silent at the others, so a single lost packet must not hide it.
func (r *run) knock(ctx context.Context, a netip.Addr, index uint64) error {
	done := uint64(0)
	defer func() { r.meter.settle(r.knocks() - done) }()
	wait := r.timers.wait(a)
	for range r.order.Pace.Rounds {
		g, groupCtx := errgroup.WithContext(ctx)
		g.SetLimit(r.order.Pace.PerDevice)
		for _, port := range knockPorts {
			if r.roster.hasAnswered(index) || groupCtx.Err() != nil {
				break
			}
			g.Go(func() error { return r.knockOnce(groupCtx, netip.AddrPortFrom(a, port), wait) })
		}
		if err := errors.Join(g.Wait(), ctx.Err()); err != nil {
			return err
		}
		if r.roster.hasAnswered(index) {
			return nil
		}
		done += uint64(len(knockPorts))
		r.meter.settle(uint64(len(knockPorts)))
		wait = backOff(wait)
	}
	return nil
}

func (r *run) knockOnce(ctx context.Context, addr netip.AddrPort, wait time.Duration) error {
	if err := r.turn(ctx); err != nil {
		return err
	}
	r.meter.send()
	conn, rtt, outcome, err := probe.Connect(ctx, r.wire, addr, wait)
	if err != nil {
		return err
	}
	if conn != nil {
		conn.Close()
	}
	if outcome == probe.Open || outcome == probe.Refused {
		r.timers.measured(addr.Addr(), rtt)
		r.noted(r.routed(ctx, addr.Addr(), tcpItem(addr.Port(), outcome, rtt)))
	}
	return nil
}

// routed makes a sighting of an answer that came through the system's own stack. Where the address lies on the own
// segment, which then could not be called by ARP, the stack has had to learn its MAC to get that answer.
func (r *run) routed(ctx context.Context, a netip.Addr, item evidence.Item) evidence.Sighting {
	s := sighting(a, hwaddr.MAC{}, item)
	if _, onLink := r.link.OnLink(a); !onLink {
		return s
	}
	neighbours, _ := r.wire.Neighbours(ctx) // the roll call has warned where that fails
	for _, n := range neighbours {
		if n.Addr == a && !n.MAC.IsGroup() {
			s.MAC = n.MAC
			s.Items = append(s.Items, evidence.Item{Source: evidence.SourceARP, Key: evidence.KeyMAC, Value: n.MAC.String(), At: item.At})
			break
		}
	}
	return s
}

func sighting(a netip.Addr, mac hwaddr.MAC, item evidence.Item) evidence.Sighting {
	return evidence.Sighting{Addr: a, MAC: mac, Answered: true, FirstAt: item.At, Items: []evidence.Item{item}}
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
