package ledger

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"net/netip"
	"reflect"
	"slices"
	"testing"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
	"airdrift/core/netrange"
	"airdrift/core/register"
)

// drawer is a shelf that gives what it is asked for and nothing else, as a store does.
type drawer struct {
	devices map[uint64]Device
	next    uint64
	asked   int // devices that were given
}

func (s *drawer) give(wanted func(Device) bool) ([]Device, error) {
	var devices []Device
	for _, id := range slices.Sorted(maps.Keys(s.devices)) {
		if d := s.devices[id]; wanted(d) {
			d.Items = nil
			devices = append(devices, d)
			s.asked++
		}
	}
	return devices, nil
}

func (s *drawer) KnownBy(terms []Term) ([]Device, error) {
	return s.give(func(d Device) bool {
		return slices.ContainsFunc(d.Terms(), func(t Term) bool { return slices.Contains(terms, t) })
	})
}

func (s *drawer) Expected(vantage string, _ netrange.Set, _ []netip.Prefix) ([]Device, error) {
	return s.give(func(d Device) bool {
		_, seen := d.view(vantage)
		return seen && d.Presence == Seen && !d.FirstSeen.IsZero()
	})
}

func (s *drawer) Missing() ([]Device, error) {
	return s.give(func(d Device) bool { return d.FirstSeen.IsZero() })
}

func (s *drawer) Items(d Device) ([]evidence.Item, error) { return s.devices[d.ID].Items, nil }

// keep puts away what came of a sweep.
func (s *drawer) keep(result Result, gone []uint64) {
	for _, m := range result.Merges {
		delete(s.devices, m.From)
	}
	for _, id := range gone {
		delete(s.devices, id)
	}
	for i := range result.Devices {
		d := &result.Devices[i]
		if d.ID == 0 {
			s.next++
			d.ID = s.next
		}
		if d.Items == nil {
			d.Items = s.devices[d.ID].Items
		}
		s.devices[d.ID] = *d
	}
}

// summary is a ledger as it is compared: without numbers and evidence, which differ by no fault.
func summary(devices []Device) []string {
	var texts []string
	for _, d := range devices {
		entry := ""
		if d.Entry != nil {
			entry = fmt.Sprint(d.Entry.ID, " ", d.MatchedBy)
		}
		slices.SortFunc(d.Holds, func(a, b Tenure) int {
			return slices.Compare([]string{a.Addr.String(), a.MAC.String(), a.Vantage}, []string{b.Addr.String(), b.MAC.String(), b.Vantage})
		})
		var holds []string
		for _, h := range d.Holds {
			holds = append(holds, fmt.Sprint(h.Addr, h.MAC, h.SinceSweep, h.UntilSweep))
		}
		texts = append(texts, fmt.Sprint(d.Addrs, d.MACs, d.Former, d.Presence, d.Standing, entry, d.Note, d.FirstSeen.Unix(), d.LastSweep, d.Keys, d.Facts, d.Contested, d.Traits, holds))
	}
	slices.Sort(texts)
	return texts
}

// Entering a sweep with the devices alone that it can concern gives what entering it with all of them gives.
func TestEnteringLooksUpWhatItNeeds(t *testing.T) {
	for seed := range uint64(60) {
		random := rand.New(rand.NewPCG(seed, 7))
		var entries []register.Entry
		for i := range 8 {
			e := register.Entry{ID: uint64(i + 1), Name: fmt.Sprintf("host%d", i)}
			switch random.IntN(3) {
			case 0:
				e.MAC = hwaddr.MustParse(fmt.Sprintf("48:9b:34:00:00:%02x", random.IntN(20)))
			case 1:
				e.Addr = netip.MustParseAddr(fmt.Sprintf("10.40.1.%d", 10+random.IntN(40)))
			}
			entries = append(entries, e)
		}
		shelf := &drawer{devices: map[uint64]Device{}}
		var imported Result
		if _, err := imported.Settle(shelf, Said{Entries: entries}, entries...); err != nil {
			t.Fatal(err)
		}
		shelf.keep(imported, nil)
		whole := Match(nil, entries, nil, netrange.Set{})
		var decisions []Decision
		var covered netrange.Set
		for visit := range uint64(4) {
			sweep := sweepOf(visit+1, building(random)...)
			if random.IntN(3) == 0 {
				sweep.Covered, sweep.Ports = netrange.FromPrefixes(far), []uint16{80}
				sweep.Sightings = slices.DeleteFunc(sweep.Sightings, func(s evidence.Sighting) bool { return !far.Contains(s.Addr) })
			}
			grown := !covered.Covers([]netip.Prefix{segment}) || !covered.Covers([]netip.Prefix{far})
			sweep.CoveredBefore, covered = covered, covered.Union(sweep.Covered)

			sweep.Links = decisions
			full := Apply(whole, entries, sweep, engine)
			whole = full.Devices
			next := uint64(0)
			for _, d := range whole {
				next = max(next, d.ID)
			}
			for i := range whole {
				if whole[i].ID == 0 {
					next++
					whole[i].ID = next
				}
			}
			Decide(whole, decisions)

			result, err := Enter(shelf, sweep, engine)
			if err != nil {
				t.Fatal(err)
			}
			gone, err := result.Settle(shelf, Said{Entries: entries, Decisions: decisions, Covered: covered, Grown: grown})
			if err != nil {
				t.Fatal(err)
			}
			shelf.keep(result, gone)

			if len(full.Changes) != len(result.Changes) {
				t.Fatalf("seed %d, visit %d: %d changes, and %d with all devices at hand", seed, visit, len(result.Changes), len(full.Changes))
			}
			all, _ := shelf.give(func(Device) bool { return true })
			if got, want := summary(all), summary(whole); !reflect.DeepEqual(got, want) {
				for i := range max(len(got), len(want)) {
					if i >= len(got) || i >= len(want) || got[i] != want[i] {
						t.Fatalf("seed %d, visit %d: %d devices, and %d with all at hand; the first that differs\n%s\n%s", seed, visit, len(got), len(want), got[min(i, len(got)-1)], want[min(i, len(want)-1)])
					}
				}
			}
			// Somebody says something of a device that is not there yet, or not any more.
			said := Known{MACs: []hwaddr.MAC{hwaddr.MustParse(fmt.Sprintf("48:9b:34:00:00:%02x", random.IntN(20)))}}
			if of := Decide(slices.Clone(whole), []Decision{{Kind: DecidedNote, Known: said}}); of[0] < 0 {
				decisions = append(decisions, Decision{ID: 2*visit + 1, Kind: DecidedNote, Text: fmt.Sprint("note ", visit), Known: said})
				link := Known{Entry: entries[random.IntN(len(entries))].ID}
				decisions = append(decisions, Decision{ID: 2*visit + 2, Kind: DecidedLink, By: "head", Known: said, Other: link})
			}
		}
	}
}

// A sweep of a few takes few from the shelf, whatever stands there.
func TestEnteringAFewCostsLittle(t *testing.T) {
	shelf := &drawer{devices: map[uint64]Device{}}
	var sightings []evidence.Sighting
	for i := range 200 {
		sightings = append(sightings, sight(fmt.Sprintf("10.40.1.%d", i+10), fmt.Sprintf("48:9b:34:00:00:%02x", i)))
	}
	enter := func(s Sweep) {
		t.Helper()
		result, err := Enter(shelf, s, engine)
		if err != nil {
			t.Fatal(err)
		}
		gone, err := result.Settle(shelf, Said{})
		if err != nil {
			t.Fatal(err)
		}
		shelf.keep(result, gone)
	}
	enter(sweepOf(1, sightings...))
	shelf.asked = 0
	again := sweepOf(2, sightings[:3]...)
	again.Stopped = true // else it says something of all the others
	enter(again)
	if shelf.asked > 12 || len(shelf.devices) != 200 {
		t.Errorf("three sightings took %d devices from the shelf of %d", shelf.asked, len(shelf.devices))
	}
}
