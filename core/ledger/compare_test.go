package ledger

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
)

// Two sweeps compared tell what entering the second behind the first has told; with others between them, what differs between the two alone.
func TestCompare(t *testing.T) {
	texts := func(result Result) []string {
		var list []string
		for _, c := range result.Changes {
			list = append(list, fmt.Sprint(result.Devices[c.Device].ID, c.Kind, c.Attribute, c.Before, c.After))
		}
		slices.Sort(list)
		return list
	}
	differ, alike := 0, 0
	for seed := range uint64(40) {
		random := rand.New(rand.NewPCG(seed, 11))
		v := &visits{t: t}
		sweeps := make([]Sweep, 3)
		var told []string
		merged := false // what was two devices when it was entered first
		for i := range sweeps {
			sweeps[i] = sweepOf(uint64(i+1), building(random)...)
			sweeps[i].Devices = v.sweep(sweeps[i])
			for _, number := range sweeps[0].Devices {
				merged = merged || i == 1 && !slices.ContainsFunc(v.devices, func(d Device) bool { return d.ID == number })
			}
			if i == 1 {
				told = texts(Result{Devices: v.devices, Changes: v.changes})
			}
		}
		pair, err := Compare(sweeps[0], sweeps[1], engine)
		if err != nil {
			t.Fatal(err)
		}
		if !merged {
			alike++
		}
		if got := texts(pair); !merged && !slices.Equal(got, told) {
			t.Fatalf("seed %d: compared\n%q\nentered\n%q", seed, got, told)
		}
		same, err := Compare(sweeps[2], sweeps[2], engine)
		if err != nil || len(same.Changes) != 0 {
			t.Errorf("seed %d: a sweep differs from itself: %+v, %v", seed, texts(same), err)
		}
		far, err := Compare(sweeps[0], sweeps[2], engine)
		if err != nil {
			t.Fatal(err)
		}
		differ += len(far.Changes)
	}
	if differ == 0 || alike < 10 {
		t.Errorf("%d differences, %d buildings without a merge", differ, alike)
	}
}
