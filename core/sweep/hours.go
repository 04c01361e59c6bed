package sweep

import (
	"fmt"
	"time"
)

// Hours are a part of each day, by the clock of the building.
type Hours struct {
	From, Until time.Duration  // since midnight; where Until is not after From they go on past midnight
	Zone        *time.Location // nil stands for UTC
}

// Check reports hours that no day has.
func (h Hours) Check() error {
	const day = 24 * time.Hour
	if h.From < 0 || h.From >= day || h.Until < 0 || h.Until > day || h.From == h.Until {
		return fmt.Errorf("quiet hours go from a time of the day to another, got %s to %s", h.From, h.Until)
	}
	return nil
}

// left gives how long the hours still last at a time; 0 where it lies outside them.
func (h Hours) left(now time.Time) time.Duration {
	zone := h.Zone
	if zone == nil {
		zone = time.UTC
	}
	now = now.In(zone)
	at := now.Sub(time.Date(now.Year(), now.Month(), now.Day(), 0, 0, 0, 0, zone))
	switch {
	case h.From < h.Until && at >= h.From && at < h.Until:
		return h.Until - at
	case h.From > h.Until && at >= h.From:
		return 24*time.Hour - at + h.Until
	case h.From > h.Until && at < h.Until:
		return h.Until - at
	}
	return 0
}

// quietFor gives how long nothing may be sent from a time on, and 0 where it may.
func quietFor(hours []Hours, now time.Time) time.Duration {
	longest := time.Duration(0)
	for _, h := range hours {
		longest = max(longest, h.left(now))
	}
	return longest
}
