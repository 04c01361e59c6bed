// Package sweep looks through ranges of addresses on a wire: first who answers at all, then what each one offers and
// says. It takes an order and gives a stream of events, and knows neither a store nor a service.
package sweep

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"os"
	"slices"
	"sync"
	"time"

	"airdrift/core/evidence"
	"airdrift/core/netrange"
	"airdrift/core/probe"
	"airdrift/core/wire"
)

// Stage is one part of a sweep.
type Stage string

// The stages, in their order.
const (
	RollCall Stage = "roll call" // who answers at all
	Asking   Stage = "asking"    // what does each one offer and say
)

// Order is what a sweep is to do.
type Order struct {
	Ranges      netrange.Set   // what to look through, exclusions taken out already
	Excluded    netrange.Set   // what was left out of the ranges, and is not asked for names either
	Fence       []netip.Prefix // the site's networks; nothing outside them is ever sent a packet
	Pace        Pace
	Ports       []uint16              // TCP ports to ask each one that answers
	Credentials []probe.Credential    // of the site, for agents of SNMP
	Preferred   map[netip.Addr]uint64 // the credential that worked at an address before, by its ID
	NameServers []netip.Addr          // to be asked for names; those outside the fence are not
	Seed        uint64                // of the order of visit
	Resume      Resume                // where to go on; the zero value begins at the beginning
	Known       []evidence.Sighting   // what was seen before the place to go on from
}

// Check reports what is wrong with an order before anything is sent.
func (o Order) Check() error {
	if o.Ranges.Count() == 0 {
		return netrange.ErrEmpty
	}
	if o.Ranges.Count() > netrange.MaxCount {
		return fmt.Errorf("a sweep takes at most %d addresses, an IPv4 /8: who is in a larger IPv6 network is found without naming its addresses", netrange.MaxCount)
	}
	if a, outside := o.Ranges.Outside(o.Fence); outside {
		return &wire.OutsideError{Addr: a, Fence: o.Fence}
	}
	return o.Pace.Check()
}

// Event is something that happened in a sweep: StageStarted, Progress, Sighted or Warning.
type Event interface{ event() }

// StageStarted says that a stage begins.
type StageStarted struct{ Stage Stage }

// Progress says how far a stage is.
type Progress struct {
	Stage Stage
	Done  uint64 // questions settled
	Total uint64 // questions the stage has, those that may turn out needless among them
	Found int    // sightings so far

	Answered int           // addresses that were to be looked at and answered so far
	Rate     float64       // questions sent a second, over the stage so far
	Left     time.Duration // estimate of the time this stage still takes
	At       Resume        // where a sweep that ends now could go on
}

// Sighted says that somebody was seen, or that more is known of them. The sighting is a copy.
type Sighted struct {
	Sighting evidence.Sighting
	Whole    bool // nothing more will come for this sighting in this sweep
}

// Warning says what the sweep could not do, in words for the auditor.
type Warning struct{ Text string }

func (StageStarted) event() {}
func (Progress) event()     {}
func (Sighted) event()      {}
func (Warning) event()      {}

// Summary is how a sweep went.
type Summary struct {
	Addresses uint64        // addresses that were to be looked at
	Answered  int           // those at which somebody answered
	Heard     int           // other addresses that were heard of on the segment
	Sent      uint64        // questions sent
	Took      time.Duration // from the first question to the last answer
	Stopped   bool          // it was stopped; what lies beyond was not looked at and nothing is known of it
	At        Resume        // where it could go on
}

// progressEvery is how often progress is told.
const progressEvery = 200 * time.Millisecond

// run is one sweep under way.
type run struct {
	wire    wire.Wire
	link    wire.Link // as it was when the sweep began; asking for it costs system calls
	order   Order
	emit    func(Event) // calls are serialised by emitMu
	pace    *throttle
	lanes   *lanes
	roster  *roster
	timers  *timers
	resume  *resuming
	segment *segment
	meter   meter
	servers []netip.Addr        // name servers that may be asked
	self    map[netip.Addr]bool // the auditor's own addresses, which are not asked
	stopped stoppers            // who stopped answering while being asked

	emitMu sync.Mutex
}

// Run carries out an order. emit is called from one goroutine at a time and should return soon. When ctx ends the
// sweep stops, keeps what it has and says so in the summary; that is no error.
func Run(ctx context.Context, w wire.Wire, order Order, emit func(Event)) (Summary, error) {
	if err := order.Check(); err != nil {
		return Summary{}, err
	}
	started := time.Now()
	r := newRun(w, order, emit)
	err := r.stages(ctx)
	answered, heard := r.roster.addresses()
	summary := Summary{
		Addresses: r.order.Ranges.Count(),
		Answered:  answered,
		Heard:     heard,
		Sent:      r.meter.sent(),
		Took:      time.Since(started),
		Stopped:   ctx.Err() != nil,
		At:        r.resume.snapshot(),
	}
	if err != nil && ctx.Err() == nil {
		return summary, err
	}
	return summary, nil
}

func newRun(w wire.Wire, order Order, emit func(Event)) *run {
	r := &run{
		wire:   wire.Fence(w, order.Fence),
		link:   w.Link(),
		order:  order,
		emit:   emit,
		lanes:  newLanes(order.Pace.PerNetwork),
		timers: newTimers(order.Fence),
		resume: newResuming(order.Resume),
		self:   map[netip.Addr]bool{},
	}
	r.pace = newThrottle(order.Pace, func(share float64) {
		r.warn("Answers were getting lost at this pace and are not at a slower one: the sweep goes on at %.0f %% of it.", share*100)
	})
	r.order.Ranges = withoutEnds(order.Ranges, order.Fence)
	r.roster = newRoster(r.order.Ranges)
	for _, s := range order.Known {
		r.roster.note(s)
	}
	return r
}

func (r *run) stages(ctx context.Context) (err error) {
	r.findSelf()
	r.findServers()
	if r.segment, err = r.openSegment(ctx); err != nil {
		return fmt.Errorf("own segment: %w", err)
	}
	defer func() { err = errors.Join(err, r.segment.close()) }()
	if !r.resume.called() {
		if err := r.during(ctx, RollCall, r.rollCall); err != nil {
			return fmt.Errorf("%s: %w", RollCall, err)
		}
		r.resume.endCall()
	}
	if err := r.during(ctx, Asking, r.ask); err != nil {
		return fmt.Errorf("%s: %w", Asking, err)
	}
	r.placeNeighbours()
	r.tellOverheard()
	return nil
}

// findSelf marks the auditor's own machine, which is on the segment like any other and is not asked.
func (r *run) findSelf() {
	name, err := os.Hostname()
	if err != nil {
		name = r.link.Name
	}
	now := time.Now().UTC()
	for _, p := range r.link.Prefixes {
		r.self[p.Addr()] = true
		if !r.order.Ranges.Contains(p.Addr()) {
			continue
		}
		s := sighting(p.Addr(), r.link.MAC, evidence.Item{Source: evidence.SourceSelf, Key: evidence.KeySelf, Value: evidence.Clean([]byte(name)), At: now})
		r.roster.note(s)
		r.roster.finish(s.Addr)
		r.tell(Sighted{Sighting: s, Whole: true})
	}
}

// findServers takes the name servers that lie within the fence, and says which do not.
func (r *run) findServers() {
	for _, server := range r.order.NameServers {
		inside := slices.ContainsFunc(r.order.Fence, func(n netip.Prefix) bool { return n.Contains(server) })
		switch {
		case !inside:
			r.warn("The name server %s lies outside the fence and is not asked for names. Add its network to the site to mend this.", server)
		case r.order.Excluded.Contains(server):
			r.warn("The name server %s is among what is left out, so it is not asked for names.", server)
		default:
			r.servers = append(r.servers, server)
		}
	}
}

// tellOverheard tells of those who were heard after the asking had begun.
func (r *run) tellOverheard() {
	for _, a := range r.roster.all() {
		if !r.roster.settled(a) {
			r.finish(a, false, true)
		}
	}
}

// during runs one stage and tells its progress until it ends.
func (r *run) during(ctx context.Context, stage Stage, work func(context.Context) error) error {
	r.meter.start(stage)
	r.tell(StageStarted{stage})
	done := make(chan struct{})
	var teller sync.WaitGroup
	teller.Go(func() {
		ticker := time.NewTicker(progressEvery)
		defer ticker.Stop()
		for {
			select {
			case <-ticker.C:
				r.tell(r.progress())
			case <-done:
				return
			}
		}
	})
	err := work(ctx)
	close(done)
	teller.Wait()
	r.tell(r.progress())
	return err
}

func (r *run) progress() Progress {
	p := r.meter.progress(r.roster.count())
	p.Answered, _ = r.roster.addresses()
	p.At = r.resume.snapshot()
	return p
}

func (r *run) tell(e Event) {
	r.emitMu.Lock()
	defer r.emitMu.Unlock()
	r.emit(e)
}

func (r *run) warn(format string, args ...any) { r.tell(Warning{fmt.Sprintf(format, args...)}) }

// noted puts a sighting in the roster and tells of it when it is new.
func (r *run) noted(s evidence.Sighting) {
	if r.self[s.Addr] {
		return
	}
	if r.roster.note(s) {
		r.tell(Sighted{Sighting: s})
	}
}

// withoutEnds takes out the addresses that stand for a whole subnet, so that nothing is ever sent to all of it at once.
// Subnets of two addresses have none (RFC 3021).
func withoutEnds(set netrange.Set, networks []netip.Prefix) netrange.Set {
	for _, n := range networks {
		if n.Addr().Is4() && n.Bits() <= 30 {
			ends := []netip.Prefix{
				netip.PrefixFrom(n.Masked().Addr(), 32),
				netip.PrefixFrom(netrange.Last(n), 32),
			}
			set = set.Without(netrange.FromPrefixes(ends...))
		}
	}
	return set
}

// RandomSeed gives a seed for an order of visit.
func RandomSeed() uint64 { return rand.Uint64() }
