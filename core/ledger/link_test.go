package ledger

import (
	"net/netip"
	"slices"
	"testing"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
	"airdrift/core/netrange"
	"airdrift/core/register"
)

// A person's word on which device an entry means goes before all that speaks for another, and leaves nothing behind when it is undone.
func TestLink(t *testing.T) {
	entries := []register.Entry{{ID: 7, Name: "gate camera", MAC: hwaddr.MustParse(macA)}, {ID: 8, Name: "yard camera"}}
	devices := stored(Apply(nil, entries, sweepOf(1, sight("10.40.1.5", macA), sight("10.40.1.6", macB)), engine).Devices)
	entryOf := func(devices []Device) map[string]uint64 {
		of := map[string]uint64{}
		for _, d := range devices {
			if d.Entry != nil && !d.FirstSeen.IsZero() {
				of[d.MACs[0].String()] = d.Entry.ID
			}
		}
		return of
	}
	link := func(d Device, entry uint64) Decision {
		return Decision{ID: d.ID, Kind: DecidedLink, Device: d.ID, Known: KnownBy(d), Other: Known{Entry: entry}, By: "head"}
	}
	at := func(mac string) Device {
		return devices[slices.IndexFunc(devices, func(d Device) bool { return slices.Contains(d.MACs, hwaddr.MustParse(mac)) })]
	}
	crossed := Match(slices.Clone(devices), entries, []Decision{link(at(macA), 8), link(at(macB), 7)}, netrange.Set{})
	if of := entryOf(crossed); of[macA] != 8 || of[macB] != 7 {
		t.Errorf("linked crosswise, the entries are %v", of)
	}
	last := Match(slices.Clone(devices), entries, []Decision{link(at(macA), 8), link(at(macB), 8)}, netrange.Set{})
	if of := entryOf(last); of[macA] != 7 || of[macB] != 8 {
		t.Errorf("with two linked to one entry, the last counts: %v", of)
	}
	if of := entryOf(Match(slices.Clone(crossed), entries, nil, netrange.Set{})); of[macA] != 7 || of[macB] != 0 {
		t.Errorf("undone, the entries are %v", of)
	}
}

// Whoever is met at an address that is pinned to a device is that device, from then on.
func TestPin(t *testing.T) {
	first := sweepOf(1, sight("10.40.2.9", macA, "tls.subject pump.example"))
	devices := stored(Apply(nil, nil, first, engine).Devices)
	pin := Decision{Kind: DecidedPin, Device: 1, Known: KnownBy(devices[0]), Other: Known{Addrs: []netip.Addr{netip.MustParseAddr("10.40.2.9")}}, By: "head"}
	enter := func(pin Decision, sightings ...evidence.Sighting) Result {
		next := sweepOf(2, sightings...)
		verdict, _ := VerdictOf(pin)
		next.Told = []Verdict{verdict}
		return Apply(slices.Clone(devices), nil, next, engine)
	}
	other := sight("10.40.2.9", macB, "tls.subject boiler.example")
	if got := enter(pin, other).Devices; len(got) != 1 || got[0].ID != 1 || got[0].MACs[0].String() != macB {
		t.Errorf("what answers at the pinned address is %+v", got)
	}
	if got := enter(pin, other, sight("10.40.2.10", macA)).Devices; len(got) != 1 || len(got[0].Addrs) != 2 {
		t.Errorf("the device and what answers at the pinned address are %+v", got)
	}
	late := pin
	late.Other.Since = sweepOf(3).Began
	if got := enter(late, other).Devices; len(got) != 2 {
		t.Errorf("a pin that holds from later on made one device: %+v", got)
	}
	withoutAddr := pin
	withoutAddr.Other = Known{MACs: []hwaddr.MAC{hwaddr.MustParse(macB)}}
	if got := enter(withoutAddr, sight("10.40.2.77", macB)).Devices; len(got) != 1 || got[0].ID != 1 {
		t.Errorf("what has the pinned MAC address is %+v", got)
	}
}
