package sweep

import (
	"slices"
	"testing"

	"airdrift/core/probe"
)

// What every device is asked hangs on the pace and on what is left out, and not on what others are asked about it.
func TestAskedOfAll(t *testing.T) {
	names := func(p Pace, off ...string) (list []string) {
		for _, each := range AskedOfAll(p, off) {
			list = append(list, each.Name)
		}
		return list
	}
	all := names(Steady)
	if !slices.Contains(all, "snmp") || !slices.Contains(all, "bacnet") || slices.Contains(all, "http") || slices.Contains(all, "dns") {
		t.Errorf("every device is asked by %v", all)
	}
	if without := names(Steady, "snmp"); slices.Contains(without, "snmp") || len(without) != len(all)-1 {
		t.Errorf("without snmp every device is asked by %v", without)
	}
	for _, p := range probe.Protocols() {
		if p.Cost == probe.Demanding && slices.Contains(names(Gentle), p.Name) {
			t.Errorf("at the gentle pace every device is asked by %s", p.Name)
		}
	}
}
