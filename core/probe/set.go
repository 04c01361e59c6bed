package probe

import (
	"slices"

	"airdrift/core/evidence"
)

// Set is the protocols that one sweep uses: it asks and hears by these and by no others.
type Set []*Protocol

// SetWithout gives all protocols but those that are left out by name.
func SetWithout(leftOut []string) Set {
	return slices.DeleteFunc(Protocols(), func(p *Protocol) bool { return slices.Contains(leftOut, p.Name) })
}

// RollCallPorts gives the TCP ports that are probed at addresses that do not answer otherwise, without those that are never sent anything: between them they
// meet most of what drops echo. A refusal is an answer too.
func (s Set) RollCallPorts(never []uint16) (ports []uint16) {
	for _, p := range s {
		for _, port := range p.RollCall {
			if !slices.Contains(never, port) {
				ports = append(ports, port)
			}
		}
	}
	return ports
}

// Hear has every protocol read a datagram, as some speak at one port or in one form; by is the first that understands it, and ok is false where none does.
func (s Set) Hear(d Datagram) (by *Protocol, items []evidence.Item, ok bool) {
	for _, p := range s {
		if p.Hear == nil {
			continue
		}
		told, understood := p.Hear(d)
		if !understood {
			continue
		}
		if items = append(items, told...); by == nil {
			by = p
		}
	}
	return by, items, by != nil
}
