package books

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"airdrift/store"
)

// Of old sweeps the last whole one of a week stays, then of a month, for each vantage; what is pinned, what is gone already and the latest
// are left alone.
func TestDue(t *testing.T) {
	now := time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)
	sweep := func(id uint64, date, vantage string, state store.SweepState) store.Sweep {
		began, err := time.Parse(time.DateOnly, date)
		if err != nil {
			t.Fatal(err)
		}
		return store.Sweep{ID: id, Began: began, Vantage: vantage, State: state}
	}
	pinned := sweep(3, "2026-03-04", "lan", store.Done)
	pinned.Pinned = true
	thinned := sweep(4, "2026-03-05", "lan", store.Done)
	thinned.Thinned = true
	sweeps := []store.Sweep{
		sweep(1, "2026-03-02", "lan", store.Done), sweep(2, "2026-03-03", "plant", store.Done), pinned, thinned,
		sweep(5, "2026-03-30", "lan", store.Done), sweep(6, "2026-03-31", "lan", store.Stopped),
		sweep(7, "2026-09-07", "lan", store.Done), sweep(8, "2026-09-09", "lan", store.Done), sweep(9, "2026-09-14", "lan", store.Interrupted), sweep(10, "2026-09-15", "lan", store.Failed),
		sweep(11, "2026-11-20", "lan", store.Done), sweep(12, "2026-11-21", "lan", store.Done),
	}
	for _, tt := range []struct {
		keeping store.Keeping
		want    []uint64
	}{
		{store.Keeping{}, nil},
		{store.Keeping{Days: 30, WeeklyDays: 120}, []uint64{1, 6, 7, 9}},
		{store.Keeping{Days: 30}, []uint64{1, 6, 7, 9, 10}},
		{store.Keeping{Days: 1, WeeklyDays: 120}, []uint64{1, 6, 7, 9}},
		{store.Keeping{Days: 400, WeeklyDays: 800}, nil},
	} {
		if got := Due(sweeps, tt.keeping, now); !slices.Equal(got, tt.want) {
			t.Errorf("%+v: %v are due, want %v", tt.keeping, got, tt.want)
		}
	}
	if got := Due(sweeps[:1], store.Keeping{Days: 1}, now); len(got) != 0 {
		t.Errorf("the only sweep is due: %v", fmt.Sprint(got))
	}
}
