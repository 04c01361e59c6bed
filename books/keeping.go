package books

import (
	"context"
	"fmt"
	"time"

	"airdrift/store"
)

// Due gives the sweeps whose evidence goes by what a site keeps: all of it for some days, then of each week's sweeps from one vantage the last
// whole one up to others, then of each month's. What is pinned stays, and so does the latest sweep.
func Due(sweeps []store.Sweep, keeping store.Keeping, now time.Time) []uint64 {
	if keeping.Days <= 0 {
		return nil
	}
	days := func(n int) time.Time { return now.AddDate(0, 0, -n) }
	stays := map[string]store.Sweep{} // by vantage and time
	var old []store.Sweep
	for i, s := range sweeps { // the oldest first
		if i == len(sweeps)-1 || !s.Began.Before(days(keeping.Days)) {
			break
		}
		old = append(old, s)
		period := periodOf(s, keeping, days)
		if kept, is := stays[period]; !is || s.State == store.Done || kept.State != store.Done {
			stays[period] = s
		}
	}
	var due []uint64
	for _, s := range old {
		if !s.Pinned && !s.Thinned && stays[periodOf(s, keeping, days)].ID != s.ID {
			due = append(due, s.ID)
		}
	}
	return due
}

// periodOf names the week or the month of which one sweep stays.
func periodOf(s store.Sweep, keeping store.Keeping, days func(int) time.Time) string {
	if s.Began.Before(days(keeping.WeeklyDays)) {
		return s.Vantage + s.Began.UTC().Format(" 2006-01")
	}
	year, week := s.Began.UTC().ISOWeek()
	return fmt.Sprintf("%s %d week %d", s.Vantage, year, week)
}

// Due gives the sweeps of a site whose evidence goes.
func (k *Books) Due(ctx context.Context, site store.Site, now time.Time) ([]uint64, error) {
	sweeps, err := k.store.AllSweeps(ctx, site.ID)
	return Due(sweeps, site.Keeping, now), err
}

// Thin deletes the evidence of sweeps that a site no longer keeps, and gives their numbers. What came of them stays. Who calls it holds the
// site, of which no sweep runs.
func (k *Books) Thin(ctx context.Context, siteID uint64, now time.Time) ([]uint64, error) {
	site, err := k.store.Site(ctx, siteID)
	if err != nil {
		return nil, err
	}
	due, err := k.Due(ctx, site, now)
	if err != nil || len(due) == 0 {
		return nil, err
	}
	b, err := k.bookkeeper(ctx, site)
	if err != nil {
		return nil, err
	}
	return due, k.store.Thin(ctx, siteID, due, k.rebuildingOf(siteID, b, nil))
}
