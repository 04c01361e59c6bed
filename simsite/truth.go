package simsite

import (
	"slices"

	"airdrift/core/hwaddr"
)

// Truth is what there is to know of one device of a building, to hold an inventory against.
type Truth struct {
	Device   Device
	Model    Model
	OnLink   bool // it has a leg on the vantage's segment, so its MAC can be seen
	Visible  bool // it is switched on and answers something that can reach it
	Standing string
}

// Truth gives all devices of the building as the vantage could come to know them at best.
func (s *Scenario) Truth() []Truth {
	truths := make([]Truth, len(s.Devices))
	for i, d := range s.Devices {
		onLink := slices.ContainsFunc(d.Legs, func(l Leg) bool { return l.Network == s.Vantage.Network })
		answers := onLink || !slices.Contains(d.Faults, FaultDropsEcho) ||
			!slices.Contains(d.Faults, FaultDropsRefusal) || len(s.Services(d)) > 0
		truths[i] = Truth{Device: d, Model: s.model(d.Model), OnLink: onLink, Visible: !d.Off && answers, Standing: d.Standing}
	}
	return truths
}

// MACs gives the MAC addresses of a device that the vantage can see.
func (t Truth) MACs(vantage Vantage) []hwaddr.MAC {
	var macs []hwaddr.MAC
	for _, leg := range t.Device.Legs {
		if leg.Network == vantage.Network {
			macs = append(macs, leg.MAC)
		}
	}
	return macs
}
