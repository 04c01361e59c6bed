package probe

import (
	"slices"
	"testing"

	"airdrift/core/evidence"
)

// A datagram that several protocols understand is read by each; one that is left out keeps it from no other.
func TestADatagramIsReadByAll(t *testing.T) {
	reads := func(name string) *Protocol {
		return &Protocol{Name: name, Hear: func(Datagram) ([]evidence.Item, bool) {
			return []evidence.Item{{Key: name}}, name != "deaf"
		}}
	}
	s := Set{{Name: "mute"}, reads("deaf"), reads("first"), reads("second")}
	by, items, ok := s.Hear(Datagram{})
	if !ok || by.Name != "first" || len(items) != 2 || items[1].Key != "second" {
		t.Errorf("read by %v as %v, %t", by, items, ok)
	}
	if by, items, ok := s[:2].Hear(Datagram{}); ok || by != nil || len(items) > 0 {
		t.Errorf("what nobody understands tells %v of %v", items, by)
	}
	all, some := SetWithout(nil), SetWithout([]string{"modbus", "no such"})
	if len(some) != len(all)-1 || slices.ContainsFunc(some, func(p *Protocol) bool { return p.Name == "modbus" }) {
		t.Errorf("%d of %d are left", len(some), len(all))
	}
	if ports := some.RollCallPorts([]uint16{80}); slices.Contains(ports, 502) || slices.Contains(ports, 80) || !slices.Contains(ports, 443) {
		t.Errorf("the roll call probes %v", ports)
	}
}
