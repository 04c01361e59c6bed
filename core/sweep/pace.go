package sweep

import (
	"fmt"
	"strings"
	"time"

	"airdrift/core/probe"
)

// Pace is how hard a sweep pushes.
type Pace struct {
	Name       string
	Rate       float64 // probes/s, all together
	Devices    int     // devices asked at the same time
	PerDevice  int     // questions in flight to one device, whichever of its addresses they go to
	PerNetwork int     // questions in flight to one network
	Rounds     int     // times an address that keeps silent is called

	// Broadcasts are ARP requests and neighbour solicitations a second. Every device of a segment has to take each of them in, those
	// asked for and all others, so they have a rate of their own. 0 stands for the rate of the questions.
	Broadcasts float64
	Gap        time.Duration // least time between two connections to one device
	Most       probe.Cost    // the most that a protocol may cost a device; 0 stands for any
}

// The paces with a name. Old controllers have small tables and slow processors: gentle never asks one thing more
// before the last is answered.
var (
	Gentle = Pace{Name: "gentle", Rate: 25, Devices: 8, PerDevice: 1, PerNetwork: 32, Rounds: 4, Broadcasts: 10, Gap: 250 * time.Millisecond, Most: probe.Middling}
	Steady = Pace{Name: "steady", Rate: 300, Devices: 24, PerDevice: 4, PerNetwork: 400, Rounds: 3, Broadcasts: 150, Gap: 20 * time.Millisecond}
	Brisk  = Pace{Name: "brisk", Rate: 3000, Devices: 64, PerDevice: 12, PerNetwork: 1500, Rounds: 3}
)

// Paces are the named paces, from the most careful on.
var Paces = []Pace{Gentle, Steady, Brisk}

// PaceNamed finds a pace by its name.
func PaceNamed(name string) (Pace, error) {
	names := make([]string, len(Paces))
	for i, p := range Paces {
		if p.Name == name {
			return p, nil
		}
		names[i] = p.Name
	}
	return Pace{}, fmt.Errorf("there is no pace %q: want one of %s", name, strings.Join(names, ", "))
}

// lets reports whether the pace lets a device be asked by a protocol of that cost.
func (p Pace) lets(cost probe.Cost) bool { return p.Most == 0 || cost <= p.Most }

// maxTCPCalls bounds the addresses probed by TCP at the same time: each holds a socket of the system.
const maxTCPCalls = 2000

// tcpCalls is how many silent addresses a sweep probes by TCP at the same time. Hardly any is a device, so what bounds them
// is the rate, and not the care for devices: a second's worth of questions is under way.
func (p Pace) tcpCalls() int {
	return max(1, min(max(p.Devices*p.PerDevice, int(p.Rate)), maxTCPCalls))
}

// The largest figures a pace may have. Beyond them a sweep would only lose what it sends.
const (
	maxRate    = 20000
	maxDevices = 1000
	maxFlight  = 256
	maxRounds  = 10
	maxGap     = 10 * time.Second
)

// Check reports figures that make no sense.
func (p Pace) Check() error {
	switch {
	case !(p.Rate > 0 && p.Rate <= maxRate):
		return fmt.Errorf("a pace needs a rate above 0 and up to %d probes/s, got %g", maxRate, p.Rate)
	case p.Devices < 1 || p.Devices > maxDevices:
		return fmt.Errorf("a pace asks from 1 to %d devices at the same time, got %d", maxDevices, p.Devices)
	case p.PerDevice < 1 || p.PerDevice > maxFlight:
		return fmt.Errorf("a pace has from 1 to %d questions in flight to one device, got %d", maxFlight, p.PerDevice)
	case p.PerNetwork < p.PerDevice:
		return fmt.Errorf("a pace lets at least as many questions be in flight to a network as to a device (%d), got %d", p.PerDevice, p.PerNetwork)
	case p.Broadcasts < 0 || p.Broadcasts > p.Rate:
		return fmt.Errorf("a pace broadcasts no more than it asks in all (%g a second), and 0 stands for as much; got %g", p.Rate, p.Broadcasts)
	case p.Gap < 0 || p.Gap > maxGap:
		return fmt.Errorf("a pace leaves from 0 to %s between two connections to one device, got %s", maxGap, p.Gap)
	case p.Most < 0 || p.Most > probe.Demanding:
		return fmt.Errorf("what a protocol may cost a device is light, middling or demanding, got %d", p.Most)
	case p.Rounds < 1 || p.Rounds > maxRounds:
		return fmt.Errorf("a pace calls silent addresses from 1 to %d times, got %d", maxRounds, p.Rounds)
	}
	return nil
}

// Waits are how long a sweep waits for answers. The zero value stands for DefaultWaits.
type Waits struct {
	First time.Duration `json:"first"` // before anything was measured (RFC 6298, 2.1)
	Least time.Duration `json:"least"` // whatever was measured: small controllers answer late now and then
	Most  time.Duration `json:"most"`  // whatever was measured
	Last  time.Duration `json:"last"`  // at least, for the last try: one slow device among fast ones is far beyond what was measured
}

// DefaultWaits are the waits of orders that name none.
var DefaultWaits = Waits{First: time.Second, Least: 300 * time.Millisecond, Most: 4 * time.Second, Last: 2 * time.Second}

// maxWait is the longest that one answer is waited for.
const maxWait = 30 * time.Second

func (w Waits) orDefault() Waits {
	if w == (Waits{}) {
		return DefaultWaits
	}
	return w
}

// Check reports waits that contradict each other.
func (w Waits) Check() error {
	w = w.orDefault()
	if w.Least <= 0 || w.Least > w.First || w.First > w.Most || w.Last < w.Least || w.Most > maxWait || w.Last > maxWait {
		return fmt.Errorf("waits want least (%s) <= first (%s) <= most (%s) <= %s, and a last (%s) between least and that", w.Least, w.First, w.Most, maxWait, w.Last)
	}
	return nil
}

const (
	// firstTimeout and minTimeout are those of DefaultWaits.
	firstTimeout = time.Second
	minTimeout   = 300 * time.Millisecond
)
