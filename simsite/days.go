package simsite

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync"

	"airdrift/core/hwaddr"
	"airdrift/core/wire"
)

// Visit is one day on which the auditor comes, with what has happened since the visit before. The first day of a building without visits is
// the building as it is described.
type Visit struct {
	Name    string    `yaml:"name"`
	Vantage *Vantage  `yaml:"vantage"` // where the auditor plugs in that day; as in the scenario where it is left out
	Events  []Event   `yaml:"events"`  // since the visit before
	Finds   []Finding `yaml:"finds"`   // the truth: all that the visit must find changed, and nothing else; none on the first
}

// Event is what happens to one device. What is left out stays as it was.
type Event struct {
	Device   string     `yaml:"device"` // by its name
	Off      *bool      `yaml:"off"`
	Address  netip.Addr `yaml:"address"`  // of its first leg
	MAC      hwaddr.MAC `yaml:"mac"`      // of its first leg: it has a new network card
	Firmware string     `yaml:"firmware"` // it was brought to another version
	Called   string     `yaml:"called"`   // it was given another name
	Arrives  *Device    `yaml:"arrives"`  // a device that was not there before
}

// Finding is one change as the inventory must tell it.
type Finding struct {
	Device    string `yaml:"device"`
	Change    string `yaml:"change"`    // appeared, vanished, moved or changed
	Attribute string `yaml:"attribute"` // of what has changed
	Before    string `yaml:"before"`
	After     string `yaml:"after"`
}

// Days gives how many visits there are, at least one.
func (s *Scenario) Days() int { return max(len(s.Visits), 1) }

// Day gives the building as it is on a day, counted from 0: a scenario of its own.
func (s *Scenario) Day(day int) *Scenario {
	on := *s
	on.Devices = slices.Clone(s.Devices)
	for i, visit := range s.Visits[:min(day+1, len(s.Visits))] {
		for _, e := range visit.Events {
			on.happen(e)
		}
		if i == day && visit.Vantage != nil {
			on.Vantage = *visit.Vantage
			on.Vantage.NameServers = s.Vantage.NameServers
		}
	}
	return &on
}

// happen does one event to the devices.
func (s *Scenario) happen(e Event) {
	if e.Arrives != nil {
		s.Devices = append(s.Devices, *e.Arrives)
		return
	}
	d := &s.Devices[s.deviceAt(e.Device)]
	d.Legs = slices.Clone(d.Legs)
	if e.Off != nil {
		d.Off = *e.Off
	}
	if e.Address.IsValid() {
		d.Legs[0].Address = e.Address
	}
	if !e.MAC.IsZero() {
		d.Legs[0].MAC = e.MAC
	}
	if e.Firmware != "" {
		d.Firmware = e.Firmware
	}
	if e.Called != "" {
		d.Called = e.Called
	}
}

// deviceAt gives the place of a device; -1 where there is none of that name.
func (s *Scenario) deviceAt(name string) int {
	return slices.IndexFunc(s.Devices, func(d Device) bool { return d.Name == name })
}

// checkVisits checks the days in their order, as a device may arrive on one of them.
func (c *checker) checkVisits() {
	so := *c.scenario
	so.Devices = slices.Clone(c.scenario.Devices)
	for i, v := range c.scenario.Visits {
		path := fmt.Sprintf("$.visits[%d]", i)
		if v.Name == "" {
			c.doc.Refuse(path+".name", "a visit needs a name, such as Tuesday")
		}
		if v.Vantage != nil {
			first, taken := c.macs[v.Vantage.MAC]
			delete(c.macs, v.Vantage.MAC) // it may be the same machine each time
			c.checkLeg(path+".vantage", Leg{Network: v.Vantage.Network, Address: v.Vantage.Address, Address6: v.Vantage.Address6, MAC: v.Vantage.MAC})
			if taken && !strings.HasSuffix(first, "vantage") {
				c.doc.Refuse(path+".vantage.mac", "%s is the MAC address of %s already", v.Vantage.MAC, first)
			}
		}
		for n, e := range v.Events {
			at := fmt.Sprintf("%s.events[%d]", path, n)
			if e.Arrives != nil {
				c.checkDevice(at+".arrives", *e.Arrives)
			} else if so.deviceAt(e.Device) < 0 {
				c.doc.Refuse(at+".device", "there is no device %q by then", e.Device)
				continue
			}
			so.happen(e)
			if e.Arrives == nil {
				d := so.Devices[so.deviceAt(e.Device)]
				if e.Address.IsValid() && !c.networks[d.Legs[0].Network].Subnet.Contains(e.Address) {
					c.doc.Refuse(at+".address", "%s is not in %s, the subnet of %s", e.Address, c.networks[d.Legs[0].Network].Subnet, d.Legs[0].Network)
				}
				if first, twice := c.macs[e.MAC]; twice && !e.MAC.IsZero() {
					c.doc.Refuse(at+".mac", "%s is the MAC address of %s already", e.MAC, first)
				}
			}
		}
		for n, f := range v.Finds {
			if so.deviceAt(f.Device) < 0 {
				c.doc.Refuse(fmt.Sprintf("%s.finds[%d].device", path, n), "there is no device %q by then", f.Device)
			}
		}
	}
}

// Calendar plays a building day after day, and plugs the auditor in where he is that day.
type Calendar struct {
	scenario *Scenario

	mu   sync.Mutex // guards all below
	site *Site
	wire *Wire
}

// NewCalendar starts a building on its first day.
func NewCalendar(scenario *Scenario) (*Calendar, error) {
	c := &Calendar{scenario: scenario}
	return c, c.Turn(0)
}

// Turn makes it another day, counted from 0. Nothing may be plugged in while it turns.
func (c *Calendar) Turn(day int) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.site != nil {
		if err := c.site.Close(); err != nil {
			return err
		}
	}
	var err error
	if c.site, err = Start(c.scenario.Day(day)); err != nil {
		return err
	}
	c.wire, err = c.site.Wire()
	return err
}

// Links tells on what the auditor stands.
func (c *Calendar) Links() ([]wire.Link, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	return []wire.Link{c.wire.Link()}, nil
}

// Open gives the auditor's wire.
func (c *Calendar) Open(name string) (wire.Wire, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if own := c.wire.Link().Name; name != own {
		return nil, fmt.Errorf("there is no interface %q: the simulated building has %s", name, own)
	}
	return c.wire, nil
}

// Close switches the building off.
func (c *Calendar) Close() error {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.site.Close()
}
