package simsite

import (
	"fmt"
	"slices"
	"strings"

	"airdrift/core/finding"
)

// Wrong is something that is wrong of devices of the building: the truth that findings are held against.
type Wrong struct {
	Rule    string   `yaml:"rule"`
	About   string   `yaml:"about"`
	Devices []string `yaml:"devices"` // and units, by their names
	Perhaps bool     `yaml:"perhaps"` // it may be missed, as answers get lost
	From    int      `yaml:"from"`    // the first visit in which it is so, counted from 1; 0 stands for the first
	Until   int      `yaml:"until"`   // the last; 0 stands for the last
}

func (w Wrong) String() string {
	devices := slices.Sorted(slices.Values(w.Devices))
	return strings.Join(strings.Fields(w.Rule+" "+w.About), " ") + ": " + strings.Join(devices, ", ")
}

func (c *checker) checkWrong(path string, w Wrong) {
	if !slices.ContainsFunc(finding.Rules(), func(r finding.Rule) bool { return r.ID == w.Rule }) {
		c.doc.Refuse(path+".rule", "there is no rule %q", w.Rule)
	}
	for i, name := range w.Devices {
		isDevice := slices.ContainsFunc(c.scenario.Devices, func(d Device) bool { return d.Name == name })
		if !isDevice && !slices.ContainsFunc(c.scenario.Units, func(u Unit) bool { return u.Name == name }) {
			c.doc.Refuse(fmt.Sprintf("%s.devices[%d]", path, i), "there is no device %q", name)
		}
	}
}

// speaksPlant are the protocols of a building's plant, as services are named.
var speaksPlant = []string{"bacnet", "bacnet-ipv6", "modbus", "knx", "ethernet-ip", "opcua", "s7", "iso", "profinet"}

// WrongOn gives what is wrong on a day, counted from 0, of all that the visits up to then could see.
func (s *Scenario) WrongOn(day int) []Wrong {
	met := map[string]bool{}     // by name, on that day or before
	reached := map[string]bool{} // plant that was met from where people sit
	for before := range day + 1 {
		then := s.Day(before)
		from := then.network(then.Vantage.Network).Purpose
		for _, t := range then.Truth() {
			if !t.Visible {
				continue
			}
			met[t.Device.Name] = true
			isPlant := slices.ContainsFunc(then.Services(t.Device), func(service Service) bool { return slices.Contains(speaksPlant, service.Speaks) })
			if isPlant && (from == finding.Offices || from == finding.Visitors) {
				reached[t.Device.Name] = true
			}
		}
	}
	var all []Wrong
	add := func(rule, about string, devices ...string) {
		all = append(all, Wrong{Rule: rule, About: about, Devices: devices})
	}
	of := func(name string, texts ...string) {
		for _, text := range texts {
			rule, about, _ := strings.Cut(text, " ")
			add(rule, about, name)
		}
	}
	on := s.Day(day)
	for _, d := range on.Devices {
		switch {
		case d.Standing == "missing" || d.Standing == "managed" && d.Off:
			add("missing", "", d.Name)
		case d.Standing == "unmanaged" && met[d.Name]:
			add("unmanaged", "", d.Name)
		}
		if met[d.Name] {
			from := len(all)
			of(d.Name, slices.Concat(on.model(d.Model).Wrong, d.Wrong)...)
			for i := range all[from:] {
				all[from+i].Perhaps = d.Loss > 0 || on.sharesAddress(d)
			}
		}
	}
	var plant []string
	for _, u := range on.Units {
		if met[u.Behind] {
			of(u.Name, on.model(u.Model).Wrong...)
			if u.Standing == "unmanaged" {
				add("unmanaged", "", u.Name)
			}
			if reached[u.Behind] {
				plant = append(plant, u.Name)
			}
		}
	}
	for name := range reached {
		plant = append(plant, name)
	}
	if len(plant) > 0 {
		add("plant-reachable", finding.Offices, plant...)
	}
	for _, w := range s.Wrong {
		if day+1 >= w.From && (w.Until == 0 || day+1 <= w.Until) {
			all = append(all, w)
		}
	}
	return all
}

// sharesAddress reports whether another device has one of a device's addresses: which of them answers is chance.
func (s *Scenario) sharesAddress(d Device) bool {
	return slices.ContainsFunc(s.Devices, func(other Device) bool {
		return other.Name != d.Name && slices.ContainsFunc(other.Legs, func(a Leg) bool {
			return slices.ContainsFunc(d.Legs, func(b Leg) bool { return a.Address.IsValid() && a.Address == b.Address })
		})
	})
}
