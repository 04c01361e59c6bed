// Package sweep looks through ranges of addresses on a wire: what answers at all, and what each one offers and says. It takes an
// order and gives a stream of events, and knows neither a store nor a service. A caller finds out what is there, an interviewer asks
// what has answered, and a hearer takes in what is said on the segment anyway; all three work at the same time.
package sweep

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
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
	RollCall Stage = "roll call" // what answers at all; what has answered is asked meanwhile
	Asking   Stage = "asking"    // what does each one offer and say
	Reading  Stage = "reading"   // how much do systems offer; where the order wants it
)

// Order is what a sweep is to do.
type Order struct {
	Ranges      netrange.Set   // what to look through, exclusions taken out already
	Excluded    netrange.Set   // what was left out of the ranges, and is not asked for names either
	Fence       []netip.Prefix // the site's networks; nothing outside them is ever sent a packet
	Pace        Pace
	Paces       []RangePace // for parts of the ranges; the first that holds an address counts
	Waits       Waits
	Off         []string              // protocols, and parts of them, that are not used (probe.Switches)
	Never       []uint16              // ports that are never sent anything
	Quiet       []Hours               // in which nothing is sent
	Ports       []uint16              // TCP ports to ask each one that answers
	Credentials []probe.Credential    // of the site, for agents of SNMP
	Preferred   map[netip.Addr]uint64 // the credential that worked at an address before, by its ID
	Expected    []netip.Addr          // at which somebody was when they were looked at last: called more often before they count as silent
	NameServers []netip.Addr          // to be asked for names; those outside the fence are not
	Read        bool                  // count what systems offer, once all have been asked
	Seed        uint64                // of the order of visit
	Resume      Resume                // where to go on; the zero value begins at the beginning
	Known       []evidence.Sighting   // what was seen before the place to go on from
}

// RangePace is a pace for a part of the ranges.
type RangePace struct {
	Ranges netrange.Set
	Pace   Pace
}

// ErrNoDevice is returned where an order names addresses at which no device can be.
var ErrNoDevice = errors.New("addresses of groups, of everybody and of nobody cannot be looked through")

// Check reports what is wrong with an order before anything is sent.
func (o Order) Check() error {
	if o.Ranges.Count() == 0 && (len(o.Fence) == 0 || slices.ContainsFunc(o.Fence, func(n netip.Prefix) bool { return !unnamed(n) })) {
		return netrange.ErrEmpty
	}
	if o.Ranges.Count() > netrange.MaxCount {
		return fmt.Errorf("a sweep takes at most %d addresses, an IPv4 /8: who is in a larger IPv6 network is found without naming its addresses", netrange.MaxCount)
	}
	for name, set := range map[string]netrange.Set{"the ranges": o.Ranges, "what is left out": o.Excluded} {
		if a, found := set.NoDevice(); found {
			return fmt.Errorf("%w: %s hold %s", ErrNoDevice, name, a)
		}
	}
	if a, outside := o.Ranges.Outside(o.Fence); outside {
		return &wire.OutsideError{Addr: a, Fence: o.Fence}
	}
	if err := (Plan{Off: o.Off}).Check(); err != nil {
		return err
	}
	for _, p := range o.Paces {
		if err := p.Pace.Check(); err != nil {
			return fmt.Errorf("the pace for %s: %w", p.Ranges, err)
		}
	}
	for _, h := range o.Quiet {
		if err := h.Check(); err != nil {
			return err
		}
	}
	return errors.Join(o.Pace.Check(), o.Waits.Check())
}

// unnamed reports whether a network is so large that nobody in it is called by name: what is there is found on the segment.
func unnamed(p netip.Prefix) bool {
	return p.Addr().Is6() && netrange.FromPrefixes(p).Count() > netrange.MaxCount
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

// Run carries out an order. emit is called from one goroutine at a time and should return soon. When ctx ends the
// sweep stops, keeps what it has and says so in the summary; that is no error.
func Run(ctx context.Context, w wire.Wire, order Order, emit func(Event)) (Summary, error) {
	if err := order.Check(); err != nil {
		return Summary{}, err
	}
	started := time.Now()
	e := newEngine(w, order, emit)
	err := e.run(ctx)
	answered, heard := e.roster.addresses()
	summary := Summary{
		Addresses: e.order.Ranges.Count(),
		Answered:  answered,
		Heard:     heard,
		Sent:      e.meter.sent(),
		Took:      time.Since(started),
		Stopped:   ctx.Err() != nil,
		At:        e.resume.snapshot(),
	}
	if err != nil && ctx.Err() == nil {
		return summary, err
	}
	return summary, nil
}

// withoutEnds takes out the addresses that stand for a whole subnet, so that nothing is ever sent to all of it at once.
// Subnets of two addresses have none (RFC 3021).
func withoutEnds(set netrange.Set, networks ...netip.Prefix) netrange.Set {
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
