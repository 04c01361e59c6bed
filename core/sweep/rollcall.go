package sweep

import (
	"context"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"net"
	"net/netip"
	"os"
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

// knockPorts are tried at addresses beyond the segment that do not answer an echo request: between them they meet
// most of what drops echo. A refusal is an answer too.
var knockPorts = []uint16{80, 443, 22, 445, 9100, 502}

// rollCall finds out who answers at all: by ARP and neighbour discovery on the own segment, by echo and TCP beyond it.
func (r *run) rollCall(ctx context.Context) error {
	segment, beyond := r.split()
	if r.segment.arp == nil {
		if _, err := r.wire.Neighbours(ctx); err != nil {
			r.warn("The system's table of neighbours cannot be read: %v. MAC addresses stay unknown.", err)
		}
		g, ctx := errgroup.WithContext(ctx)
		g.Go(func() error { return r.callGroups(ctx) })
		g.Go(func() error { return r.callBeyond(ctx, r.order.Ranges) })
		return g.Wait()
	}
	g, ctx := errgroup.WithContext(ctx)
	four, six := families(segment)
	g.Go(func() error { return r.callARP(ctx, r.segment, four) })
	g.Go(func() error { return r.callND(ctx, r.segment, six) })
	g.Go(func() error { return r.callAllNodes(ctx, r.segment) })
	g.Go(func() error { return r.callGroups(ctx) })
	g.Go(func() error { return r.callBeyond(ctx, beyond) })
	return g.Wait()
}

// split parts the ranges into what lies on the own segment and what lies beyond it.
func (r *run) split() (segment, beyond netrange.Set) {
	var own []netip.Prefix
	for _, p := range r.link.Prefixes {
		own = append(own, p.Masked())
	}
	beyond = r.order.Ranges.Without(netrange.FromPrefixes(own...))
	return r.order.Ranges.Without(beyond), beyond
}

var allIPv6 = netrange.FromPrefixes(netip.MustParsePrefix("::/0"))

// families parts a set into its IPv4 and its IPv6 addresses.
func families(set netrange.Set) (four, six netrange.Set) {
	four = set.Without(allIPv6)
	return four, set.Without(four)
}

// rounds visits every address of the set that has not answered, once a round, and waits for the stragglers after
// each. Where answers get lost there are more rounds than the pace says. ask sends one question.
// The call's name keeps its place for a sweep that goes on later.
func (r *run) rounds(ctx context.Context, call string, set netrange.Set, ask func(a netip.Addr, round int) error) error {
	if set.Count() == 0 {
		return nil
	}
	visit := netrange.NewVisit(set, r.order.Seed)
	from := r.resume.place(call)
	r.meter.expect(set.Count() * uint64(r.order.Pace.Rounds))
	r.meter.settle(min(uint64(from.Round)*set.Count()+from.At, set.Count()*uint64(r.order.Pace.Rounds)))
	for round := from.Round; round < r.order.Pace.Rounds || round < maxRounds && r.pace.tries(r.order.Pace.Rounds, maxRounds) > round; round++ {
		asked := false
		if round >= r.order.Pace.Rounds {
			r.meter.expect(set.Count())
		}
		for i := from.At; i < visit.Len(); i++ {
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
			r.resume.reach(call, Place{round, i + 1})
		}
		from.At = 0
		if asked {
			if err := pause(ctx, r.timers.longest()); err != nil {
				return err
			}
		}
		r.resume.reach(call, Place{round + 1, 0})
	}
	return nil
}

// turn waits until the pace permits one more question. The limiter's own Wait fails before a deadline that it would
// miss, and a sweep that is to end at a time goes on until then.
func (r *run) turn(ctx context.Context) error {
	return pause(ctx, r.pace.limiter.Reserve().Delay())
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

// listen reads in the background until the function it returns is called, which gives the reader's failure if it had
// one.
func (r *run) listen(setDeadline func(time.Time) error, read func() error) (stop func() error) {
	failed := make(chan error, 1)
	go func() {
		for {
			if err := read(); err != nil {
				var late net.Error
				if errors.Is(err, os.ErrDeadlineExceeded) || errors.As(err, &late) && late.Timeout() {
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
func (r *run) callBeyond(ctx context.Context, set netrange.Set) (err error) {
	if set.Count() == 0 {
		return nil
	}
	r.meter.expect(set.Count() * r.knocks())
	// What is called by echo is heard until the knocking is over, so that who answers late is not missed.
	var ears ears
	defer func() { err = errors.Join(err, ears.close()) }()
	g, groupCtx := errgroup.WithContext(ctx)
	four, six := families(set)
	g.Go(func() error { return r.callFamily(groupCtx, "ip4", four, &ears) })
	g.Go(func() error { return r.callFamily(groupCtx, "ip6", six, &ears) })
	if err := g.Wait(); err != nil {
		return err
	}
	return r.callByTCP(ctx, set)
}

// ears are the readers of a call that are to be ended with it.
type ears struct {
	mu    sync.Mutex // guards stops
	stops []func() error
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
func (r *run) callFamily(ctx context.Context, network string, set netrange.Set, ears *ears) error {
	if set.Count() == 0 {
		return nil
	}
	echo, err := r.wire.Echo(ctx, network)
	if errors.Is(err, wire.ErrNoRights) {
		r.warn("No right to send echo requests: addresses are called by TCP alone. Run the service with CAP_NET_RAW to mend this.")
		return nil
	}
	if errors.Is(err, syscall.ENETUNREACH) || errors.Is(err, syscall.EAFNOSUPPORT) {
		r.warn("There is no way to %s from here: %v.", set, err)
		return nil
	}
	if err != nil {
		return err
	}
	ears.add(echo.Close)
	return r.callByEcho(ctx, echo, network, set, ears)
}

// callByEcho carries the time of sending in each request, with a nonce before it that strangers cannot guess.
func (r *run) callByEcho(ctx context.Context, echo wire.EchoConn, call string, set netrange.Set, ears *ears) error {
	var nonce [8]byte
	if _, err := rand.Read(nonce[:]); err != nil {
		return err
	}
	start := time.Now()
	ears.add(r.listen(echo.SetReadDeadline, func() error {
		reply, err := echo.Receive()
		if err == nil && len(reply.Data) == 16 && [8]byte(reply.Data) == nonce && set.Contains(reply.From) {
			r.heardEcho(context.WithoutCancel(ctx), reply, time.Since(start)-time.Duration(binary.BigEndian.Uint64(reply.Data[8:])))
		}
		return err
	}))
	return r.rounds(ctx, call, set, func(a netip.Addr, round int) error {
		data := binary.BigEndian.AppendUint64(nonce[:len(nonce):len(nonce)], uint64(time.Since(start)))
		err := echo.Send(a, uint16(round), data)
		if err != nil && isOurFault(err) {
			return err
		}
		return nil
	})
}

// isOurFault tells a fence that was hit from a network that has no way to one address, which says nothing of the rest.
func isOurFault(err error) bool {
	var outside *wire.OutsideError
	return errors.As(err, &outside)
}

func (r *run) heardEcho(ctx context.Context, reply wire.EchoReply, rtt time.Duration) {
	r.timers.measured(reply.From, rtt)
	r.pace.answered(reply.Seq > 0)
	r.noted(r.routed(ctx, reply.From, evidence.Item{
		Source: evidence.SourceEcho, Key: evidence.KeyEchoTTL, Value: strconv.Itoa(reply.TTL), At: time.Now().UTC(), RTT: rtt,
	}))
}

// callByTCP knocks at those that gave no echo.
func (r *run) callByTCP(ctx context.Context, set netrange.Set) error {
	const call = "knock"
	visit := netrange.NewVisit(set, r.order.Seed+1)
	g, groupCtx := errgroup.WithContext(ctx)
	together := r.order.Pace.knocking()
	g.SetLimit(together)
	from := r.resume.place(call).At
	r.meter.settle(from * r.knocks())
	for i := from; i < visit.Len(); i++ {
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
		// Those under way when a sweep ends have to be knocked at again.
		r.resume.reach(call, Place{At: i - min(i, uint64(together))})
	}
	return errors.Join(g.Wait(), ctx.Err())
}

// knocks is how many questions knocking at one address can take.
func (r *run) knocks() uint64 { return uint64(r.order.Pace.Rounds * len(knockPorts)) }

// knock tries the knock ports of one address in rounds, until one answers. A device may have but one of them open and
// keep silent at the others, so a single lost packet must not hide it.
func (r *run) knock(ctx context.Context, a netip.Addr, index uint64) error {
	done := uint64(0)
	defer func() { r.meter.settle(r.knocks() - min(done, r.knocks())) }()
	wait := r.timers.wait(a)
	rounds := r.pace.tries(r.order.Pace.Rounds, maxRounds)
	for round := range rounds {
		if round == rounds-1 {
			wait = max(wait, patience)
		}
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
		if done < r.knocks() { // further rounds were not expected
			r.meter.settle(uint64(len(knockPorts)))
		}
		done += uint64(len(knockPorts))
		wait = backOff(wait)
	}
	return nil
}

func (r *run) knockOnce(ctx context.Context, addr netip.AddrPort, wait time.Duration) error {
	outcome, rtt, err := r.touch(ctx, addr, wait)
	if err != nil {
		return err
	}
	if outcome == probe.Open || outcome == probe.Refused {
		r.timers.measured(addr.Addr(), rtt)
		r.noted(r.routed(ctx, addr.Addr(), tcpItem(addr.Port(), outcome, rtt)))
	}
	return nil
}

// touch connects to a port, within the pace and the network's cap, and hangs up at once.
func (r *run) touch(ctx context.Context, addr netip.AddrPort, wait time.Duration) (probe.Outcome, time.Duration, error) {
	conn, rtt, outcome, err := r.connect(ctx, addr, wait)
	if conn != nil {
		conn.Close()
	}
	return outcome, rtt, err
}

// connect is probe.Connect within the pace and the network's cap.
func (r *run) connect(ctx context.Context, addr netip.AddrPort, wait time.Duration) (net.Conn, time.Duration, probe.Outcome, error) {
	leave, err := r.lanes.enter(ctx, r.timers.networkOf(addr.Addr()))
	if err != nil {
		return nil, 0, probe.Silent, err
	}
	defer leave()
	if err := r.turn(ctx); err != nil {
		return nil, 0, probe.Silent, err
	}
	r.meter.send()
	return probe.Connect(ctx, r.wire, r.zoned(addr), wait)
}

// zoned says by which link a link-local address is reached (RFC 4007, 11).
func (r *run) zoned(addr netip.AddrPort) netip.AddrPort {
	if a := addr.Addr(); a.Is6() && a.IsLinkLocalUnicast() {
		return netip.AddrPortFrom(a.WithZone(r.link.Name), addr.Port())
	}
	return addr
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
