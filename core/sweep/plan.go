package sweep

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"airdrift/core/netrange"
	"airdrift/core/probe"
)

// Plan is what somebody may ask of a sweep beside where, how hard and at which ports. It is stored with the sweep; its zero value asks
// for nothing in particular.
type Plan struct {
	Off   []string   `json:"off,omitempty"`   // protocols, and parts of them, that are not used (probe.Switches)
	Never []uint16   `json:"never,omitempty"` // ports that are never sent anything
	Paces []PartPace `json:"paces,omitempty"` // for parts of the ranges
	Quiet []string   `json:"quiet,omitempty"` // hours of each day in which nothing is sent, such as 07:00-18:30
	Waits Waits      `json:"waits,omitzero"`
	Read  bool       `json:"read,omitempty"` // count how much systems offer, once all have been asked

	Patience Patience `json:"patience,omitzero"`
}

// Patience is how long a device that keeps silent is taken to be there still: until so many sweeps in a row have looked for it in vain, and so
// many days have passed since it was seen. The zero value takes the first sweep's word for it.
type Patience struct {
	Sweeps int `json:"sweeps,omitempty"`
	Days   int `json:"days,omitempty"`
}

// maxPatience bounds both figures.
const maxPatience = 400

// Check reports what is wrong with the figures.
func (p Patience) Check() error {
	if p.Sweeps < 0 || p.Sweeps > maxPatience || p.Days < 0 || p.Days > maxPatience {
		return fmt.Errorf("patience is from 0 to %d sweeps and days, got %d and %d", maxPatience, p.Sweeps, p.Days)
	}
	return nil
}

// UsedUp reports whether a device is no longer waited for that so many sweeps have missed, and that was seen last so long ago.
func (p Patience) UsedUp(missed int, ago time.Duration) bool {
	return missed >= p.Sweeps && ago >= time.Duration(p.Days)*24*time.Hour
}

// PartPace is a named pace for a part of the ranges.
type PartPace struct {
	Ranges string `json:"ranges"` // in the form that netrange reads
	Pace   string `json:"pace"`
}

// Into puts the plan into an order. Hours are by the clock of the zone. An error says which part of the plan is at fault.
func (p Plan) Into(o *Order, zone *time.Location) error {
	o.Off, o.Never, o.Waits, o.Read = p.Off, p.Never, p.Waits, p.Read
	for i, part := range p.Paces {
		set, err := netrange.Parse(part.Ranges)
		if err != nil {
			return fmt.Errorf("pace %d for a part: %w", i+1, err)
		}
		pace, err := PaceNamed(part.Pace)
		if err != nil {
			return fmt.Errorf("pace %d for a part, %s: %w", i+1, part.Ranges, err)
		}
		o.Paces = append(o.Paces, RangePace{Ranges: set, Pace: pace})
	}
	for _, text := range p.Quiet {
		hours, err := parseHours(text)
		if err != nil {
			return err
		}
		hours.Zone = zone
		o.Quiet = append(o.Quiet, hours)
	}
	return nil
}

// parseHours reads hours such as 07:00-18:30, or 22:00-06:00 for those past midnight.
func parseHours(text string) (Hours, error) {
	from, until, _ := strings.Cut(strings.TrimSpace(text), "-")
	var times [2]time.Duration
	for i, part := range []string{from, until} {
		at, err := time.Parse("15:04", strings.TrimSpace(part))
		if err != nil {
			return Hours{}, fmt.Errorf("quiet hours %q: want two times of the day, such as 07:00-18:30", text)
		}
		times[i] = time.Duration(at.Hour())*time.Hour + time.Duration(at.Minute())*time.Minute
	}
	hours := Hours{From: times[0], Until: times[1]}
	return hours, hours.Check()
}

// Check reports what is wrong with a plan before anything is sent.
func (p Plan) Check() error {
	for _, name := range p.Off {
		if !slices.Contains(probe.Switches(), name) {
			return fmt.Errorf("there is no protocol %q to be left out: want some of %s", name, strings.Join(probe.Switches(), ", "))
		}
	}
	var o Order
	if err := p.Into(&o, nil); err != nil {
		return err
	}
	if err := p.Patience.Check(); err != nil {
		return err
	}
	return p.Waits.Check()
}
