package ledger

import (
	"net/netip"
	"slices"
	"strings"
	"testing"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
	"airdrift/core/register"
)

// What people have said finds its device by its number, by a number that was merged into it, and where the numbers have gone by what the
// device was known by; it waits for a device that is not there.
func TestDecisionsFindTheirDevice(t *testing.T) {
	seen := func() []Device {
		return stored(Apply(nil, nil, sweepOf(1, sight("10.40.1.5", macA, "ssh.hostkey A"), sight("10.40.1.6", macB), sight("10.40.2.7", "", "tls.subject ash.example")), engine).Devices)
	}
	note := func(d Device) Decision {
		return Decision{ID: 1, Kind: DecidedNote, Device: d.ID, Known: KnownBy(d), Text: "n"}
	}
	devices := seen()
	for i := range devices {
		decision := note(devices[i])
		for name, change := range map[string]func(){
			"by its number": func() {}, "by what it was known by": func() { decision.Device = 999 }, "by a former number": func() { decision.Device = 77; devices[i].Was = []uint64{77}; decision.Known = Known{} },
		} {
			change()
			if of := Decide(devices, []Decision{decision}); of[0] != i || devices[i].Note != "n" || !slices.Equal(devices[i].Decisions, []uint64{1}) {
				t.Errorf("%s: device %d is found as %v", name, i, of)
			}
			devices, decision = seen(), note(devices[i])
		}
	}
	gone := note(devices[0])
	gone.Device = 999
	rest := slices.Clone(devices[1:])
	if of := Decide(rest, []Decision{gone}); of[0] != -1 || rest[0].Note != "" {
		t.Errorf("a note on a device that is not there goes to %v", of)
	}
	renamed := Apply(nil, nil, sweepOf(1, sight("10.40.2.7", "", "tls.subject oak.example")), engine).Devices
	elsewhere := note(devices[2])
	elsewhere.Device = 999
	if of := Decide(renamed, []Decision{elsewhere}); of[0] != -1 {
		t.Errorf("a note goes to another device that is at the address now")
	}
}

// Notes and set-asides on devices that were never seen stay, and are the device's when it is seen.
func TestDecisionsOnDevicesNeverSeen(t *testing.T) {
	entries := []register.Entry{{ID: 7, Name: "spare", MAC: hwaddr.MustParse(macA)}}
	devices := stored(Apply(nil, entries, sweepOf(1), engine).Devices)
	said := []Decision{{ID: 1, Kind: DecidedAside, Device: 1, Known: KnownBy(devices[0]), Text: "in the store room", By: "head"}}
	for visit, sightings := range [][]evidence.Sighting{nil, {sight("10.40.1.5", macA)}} {
		result := Apply(devices, entries, sweepOf(uint64(visit)+2, sightings...), engine)
		Decide(result.Devices, said)
		if d := result.Devices[0]; len(result.Devices) != 1 || d.Standing != SetAside || d.Aside == nil || d.Aside.By != "head" || d.FirstSeen.IsZero() != (visit == 0) {
			t.Errorf("visit %d: %+v", visit, result.Devices)
		}
		devices = stored(result.Devices)
	}
	if Decide(devices, nil); devices[0].Standing != Managed || devices[0].Note != "" {
		t.Errorf("taken back: %s", devices[0].Standing)
	}
}

// What somebody has said to be one device is one, whether it is seen at once or one time after the other; what was said not to be is not.
// Taken back, everything is as if it had never been said.
func TestMergeAndSplit(t *testing.T) {
	wired, wireless, other := "48:9b:34:00:00:05", "48:9b:34:00:00:06", "48:9b:34:00:00:07"
	sweeps := [][]evidence.Sighting{
		{sight("10.40.1.5", wired, "ssh.hostkey A"), sight("10.40.1.6", wireless), sight("10.40.1.7", other), sight("10.40.1.8", other)},
		{sight("10.40.1.5", wired, "ssh.hostkey A"), sight("10.40.1.7", other), sight("10.40.1.8", other)},
		{sight("10.40.1.16", wireless), sight("10.40.1.7", other), sight("10.40.1.8", other)},
	}
	// replay enters all sweeps anew, with the numbers that sightings have had.
	numbers := make([][]uint64, len(sweeps))
	replay := func(told ...Verdict) []Device {
		var devices []Device
		next := uint64(0)
		for _, of := range numbers {
			for _, id := range of {
				next = max(next, id)
			}
		}
		for i, sightings := range sweeps {
			s := sweepOf(uint64(i)+1, sightings...)
			s.Told, s.Devices = told, numbers[i]
			if numbers[i] == nil {
				s.Devices = make([]uint64, len(sightings))
			}
			result := Apply(devices, nil, s, engine)
			for n := range result.Devices {
				if d := &result.Devices[n]; d.ID == 0 {
					next++
					d.ID = next
				}
			}
			devices = result.Devices
			if of := make([]uint64, len(sightings)); numbers[i] == nil {
				for n, at := range result.Of {
					of[n] = devices[at].ID
				}
				numbers[i] = of
			}
		}
		return devices
	}
	find := func(devices []Device, mac string) Device {
		t.Helper()
		for _, d := range devices {
			if slices.Contains(d.MACs, hwaddr.MustParse(mac)) {
				return d
			}
		}
		t.Fatalf("nobody has %s", mac)
		return Device{}
	}
	before := replay()
	laptop, card := find(before, wired), find(before, wireless)
	if why := Contradiction(laptop, card); why != "" {
		t.Errorf("nothing speaks against it, and yet: %s", why)
	}
	merge, _ := VerdictOf(Decision{Kind: DecidedMerge, Known: KnownBy(laptop), Other: KnownBy(card), By: "head"})
	merged := replay(merge)
	one := find(merged, wired)
	if len(merged) != len(before)-1 || one.ID != find(merged, wireless).ID || one.ID != min(laptop.ID, card.ID) || !slices.Equal(one.Was, []uint64{max(laptop.ID, card.ID)}) || !strings.Contains(strings.Join(replayReasons(sweeps[0], merge), " "), "head has said") {
		t.Errorf("merged: %+v", one)
	}
	two := find(before, other)
	rest, part := KnownBy(two), Known{Addrs: []netip.Addr{netip.MustParseAddr("10.40.1.8")}}
	if split, _ := VerdictOf(Decision{Kind: DecidedSplit, Device: two.ID, Known: rest, Other: part}); split.One {
		t.Error("a split joins")
	}
	if again := replay(); !slices.Equal(summary(again), summary(before)) {
		t.Errorf("taken back:\n%v\nwant\n%v", summary(again), summary(before))
	}
	for _, d := range replay() {
		if i := slices.IndexFunc(before, func(b Device) bool { return b.ID == d.ID }); i < 0 || !slices.Equal(before[i].MACs, d.MACs) {
			t.Errorf("device %d has %v", d.ID, d.MACs)
		}
	}
}

func replayReasons(sightings []evidence.Sighting, told Verdict) []string {
	s := sweepOf(1, sightings...)
	s.Told = []Verdict{told}
	for _, d := range Apply(nil, nil, s, engine).Devices {
		if len(d.MACs) > 1 {
			return d.Reasons
		}
	}
	return nil
}

// A card that was joined by mistake stands by itself once somebody has said so, and the rest keeps the number.
func TestSplitByMAC(t *testing.T) {
	a := "48:9b:34:00:00:05"
	seen := []evidence.Sighting{sight("10.40.1.5", a, "ssh.hostkey K"), sight("10.40.2.6", "", "ssh.hostkey K", "echo.ttl 63")}
	before := stored(Apply(nil, nil, sweepOf(1, seen...), engine).Devices)
	if len(before) != 1 {
		t.Fatalf("%+v", before)
	}
	part := Known{Addrs: []netip.Addr{netip.MustParseAddr("10.40.2.6")}}
	rest := Known{MACs: before[0].MACs, Addrs: []netip.Addr{netip.MustParseAddr("10.40.1.5")}}
	split, _ := VerdictOf(Decision{Kind: DecidedSplit, Device: 1, Known: rest, Other: part})
	s := sweepOf(1, seen...)
	s.Told, s.Devices = []Verdict{split}, []uint64{1, 1}
	after := Apply(nil, nil, s, engine)
	if len(after.Devices) != 2 || after.Devices[after.Of[0]].ID != 1 || after.Devices[after.Of[1]].ID != 0 {
		t.Errorf("split: %v of %d devices", after.Of, len(after.Devices))
	}
	next := sweepOf(2, seen...)
	next.Told = []Verdict{split}
	if again := Apply(stored(after.Devices), nil, next, engine); len(again.Devices) != 2 || len(again.Changes) != 0 {
		t.Errorf("at the next visit: %+v", again.Changes)
	}
}
