package service

import (
	"testing"

	"airdrift/store"
)

// A check of a few addresses does not take the place of the sweep that shows the site; a sweep of a part of it does.
func TestSweepThatShowsTheSite(t *testing.T) {
	of := func(answered ...uint64) (sweeps []store.Sweep) {
		for i, n := range answered {
			sweeps = append(sweeps, store.Sweep{ID: uint64(i + 1), Answered: n})
		}
		return sweeps
	}
	for _, c := range []struct {
		sweeps []store.Sweep
		want   uint64
	}{
		{of(200, 204, 2, 1), 2}, {of(200, 60, 1), 2}, {of(1, 1), 2}, {of(0), 1}, {of(0, 0), 2},
		{append(of(900), of(2, 2, 2, 2, 2, 2, 2, 2, 2, 2, 2, 2, 2, 2, 2, 2, 2, 2, 2, 3)...), 20}, // the full one is too long ago
	} {
		if got := showsSite(c.sweeps); got.ID != c.want {
			t.Errorf("of %d sweeps the site is shown by %d, want %d", len(c.sweeps), got.ID, c.want)
		}
	}
}
