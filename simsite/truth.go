package simsite

import (
	"net/netip"
	"slices"

	"airdrift/core/hwaddr"
	"airdrift/core/ledger"
)

// Truth is what there is to know of one device of a building, to hold an inventory against.
type Truth struct {
	Device   Device
	Model    Model
	OnLink   bool // it has a leg on the vantage's segment, so its MAC can be seen
	Visible  bool // it is switched on and answers something that can reach it
	Standing string
}

// Traits gives what an auditor must come to know of how the device appears.
func (t Truth) Traits() []ledger.Trait {
	var traits []ledger.Trait
	if t.Device.AnswersFor != "" {
		traits = append(traits, ledger.AnswersForOthers)
	}
	if slices.Contains(t.Device.Faults, FaultAcceptsAll) {
		traits = append(traits, ledger.AcceptsEverything)
	}
	if slices.ContainsFunc(t.Device.Legs, func(l Leg) bool { return l.MAC.IsShared() }) {
		traits = append(traits, ledger.VirtualRouter)
	}
	if slices.ContainsFunc(t.Device.Legs, func(l Leg) bool { return l.Subnet.IsValid() }) {
		traits = append(traits, ledger.WrongSubnet)
	}
	return traits
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

// Answering gives how many addresses of a network have a device that the vantage could come to know, and how many devices hold them.
func (s *Scenario) Answering(network string) (addrs, devices int) {
	held := map[netip.Addr]bool{}
	for _, t := range s.Truth() {
		legs := 0
		for _, leg := range t.Device.Legs {
			if t.Visible && leg.Network == network && leg.Address.IsValid() && !leg.Subnet.IsValid() {
				held[leg.Address] = true
				legs++
			}
		}
		devices += min(legs, 1)
	}
	return len(held), devices
}
