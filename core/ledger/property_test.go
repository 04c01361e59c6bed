package ledger

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"airdrift/core/evidence"
)

// building makes sightings with everything that complicates recognition: several addresses of one MAC, several MACs
// at one address, private and shared MACs, keys that one or many show, and devices beyond a router.
func building(random *rand.Rand) []evidence.Sighting {
	sightings := []evidence.Sighting{sight("10.40.1.1", "48:9b:34:ff:00:01"), sight("10.40.2.1", "", "echo.ttl 64")}
	for i := range 30 {
		mac := fmt.Sprintf("48:9b:34:00:00:%02x", random.IntN(20))
		switch random.IntN(6) {
		case 0:
			mac = fmt.Sprintf("da:3f:91:00:00:%02x", i)
		case 1:
			mac = "00:00:5e:00:01:01"
		}
		var facts []string
		if random.IntN(3) == 0 {
			facts = append(facts, fmt.Sprintf("tls.key K%d", random.IntN(6)))
		}
		if random.IntN(3) == 0 {
			facts = append(facts, fmt.Sprintf("tls.subject host%d.example", random.IntN(8)))
		}
		if random.IntN(2) == 0 {
			sightings = append(sightings, sight(fmt.Sprintf("10.40.1.%d", 10+random.IntN(40)), mac, facts...))
		} else {
			sightings = append(sightings, sight(fmt.Sprintf("10.40.2.%d", 10+i), "", append(facts, "echo.ttl 63")...))
		}
	}
	seen := map[string]bool{}
	return slices.DeleteFunc(sightings, func(s evidence.Sighting) bool {
		key := s.Addr.String() + s.MAC.String()
		twice := seen[key]
		seen[key] = true
		return twice
	})
}

// The same sweep again changes nothing: nobody appears, nobody vanishes, nobody moves.
func TestTheSameSweepAgainChangesNothing(t *testing.T) {
	for seed := range uint64(200) {
		sightings := building(rand.New(rand.NewPCG(seed, 1)))
		first := stored(Apply(nil, nil, sweepOf(1, sightings...), engine).Devices)
		second := Apply(first, nil, sweepOf(2, sightings...), engine)
		for _, d := range second.Devices {
			if d.ID == 0 || d.Presence != Seen {
				t.Fatalf("seed %d: %v is %s with ID %d after the same sweep; changes %+v", seed, d.Addrs, d.Presence, d.ID, second.Changes)
			}
		}
		if len(second.Changes) > 0 {
			t.Fatalf("seed %d: changes %+v", seed, second.Changes)
		}
	}
}

// In which order sightings come makes no difference to which devices there are.
func TestTheOrderOfSightingsDoesNotMatter(t *testing.T) {
	for seed := range uint64(200) {
		random := rand.New(rand.NewPCG(seed, 2))
		sightings := building(random)
		want := addrsOf(Apply(nil, nil, sweepOf(1, sightings...), engine).Devices)
		random.Shuffle(len(sightings), func(i, j int) { sightings[i], sightings[j] = sightings[j], sightings[i] })
		if got := addrsOf(Apply(nil, nil, sweepOf(1, sightings...), engine).Devices); got != want {
			t.Fatalf("seed %d: devices\n%s\nand in another order\n%s", seed, want, got)
		}
	}
}

// Every sighting is in exactly one device: nothing seen is lost, and nothing is counted twice.
func TestNothingSeenIsLost(t *testing.T) {
	for seed := range uint64(200) {
		sightings := building(rand.New(rand.NewPCG(seed, 3)))
		result := Apply(nil, nil, sweepOf(1, sightings...), engine)
		for i, s := range sightings {
			if at := result.Of[i]; at < 0 || at >= len(result.Devices) || !slices.Contains(result.Devices[at].Addrs, s.Addr) || !s.MAC.IsZero() && !slices.Contains(result.Devices[at].MACs, s.MAC) {
				t.Fatalf("seed %d: the sighting of %s %s is not in the device it is taken for", seed, s.Addr, s.MAC)
			}
			if !identifies(s.MAC) {
				continue // others may hold the address, or the virtual MAC, as well
			}
			holders := 0
			for _, d := range result.Devices {
				if slices.Contains(d.MACs, s.MAC) {
					holders++
				}
			}
			if holders != 1 {
				t.Fatalf("seed %d: the MAC of %s %s is in %d devices", seed, s.Addr, s.MAC, holders)
			}
		}
	}
}
