package ledger

import (
	"slices"
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
