package finding

import (
	"maps"
	"slices"
	"time"
)

// Look is how devices were judged: when, and which sweep had looked at them last.
type Look struct {
	At    time.Time
	Sweep func(device uint64) (number uint64, there bool) // there is false of a device that is no more
	Why   Why                                             // what has changed since they were judged before
}

// Fold lays what rules remark now over the findings that there were, both of the same devices and of all they share. It gives those that are new,
// with the number 0, and those that are other than they were. A finding is closed by a sweep only where one has looked at its devices since; what
// was accepted stays so until its day.
func Fold(before []Finding, now []Remark, look Look) (changed []Finding) {
	at := map[Key]int{}
	for i, f := range before {
		at[f.Key()] = i
	}
	said := map[Key]bool{}
	for _, r := range now {
		if said[r.Key()] {
			continue
		}
		said[r.Key()] = true
		f := Finding{State: Closed}
		if i, known := at[r.Key()]; known {
			f = before[i]
		}
		if next, differs := f.holds(r, look); differs {
			changed = append(changed, next)
		}
	}
	for _, f := range before {
		if f.State != Closed && !said[f.Key()] {
			changed = append(changed, f.close(look))
		}
	}
	return changed
}

// holds gives the finding as it is where a remark says that it holds, and whether it is other than it was.
func (f Finding) holds(r Remark, look Look) (next Finding, differs bool) {
	next = f
	next.Remark = r
	switch {
	case f.State == Closed:
		next.State, next.Since, next.Times = Open, look.At, f.Times+1
		next.ClosedAt, next.ClosedBy, next.Closing, next.Confirmed = time.Time{}, "", 0, nil
		next.Sweep = latest(r.Devices, look)
		if next.accepts(look.At) {
			next.State = Accepted
		}
		return next, true
	case f.State == Accepted && !f.accepts(look.At):
		next.State = Open
		return next, true
	}
	return next, !f.Remark.equal(r)
}

func (f Finding) close(look Look) Finding {
	f.State, f.ClosedAt, f.ClosedBy, f.Closing = Closed, look.At, look.Why, 0
	gone := len(f.Devices) > 0
	for _, d := range f.Devices {
		_, there := look.Sweep(d)
		gone = gone && !there
	}
	switch sweep := latest(f.Devices, look); {
	case gone:
		f.ClosedBy = ByLeaving
	case look.Why == BySweep && sweep > f.Sweep:
		f.Closing = sweep
	case look.Why == BySweep: // it changes nothing of what it did not look at, so something else has
		f.ClosedBy = ByRegister
	}
	return f
}

// accepts reports whether somebody takes the finding upon them still.
func (f Finding) accepts(at time.Time) bool { return f.Accepted != nil && at.Before(f.Accepted.Until) }

// Due gives when the finding changes by time alone; zero where it does not.
func (f Finding) Due() time.Time {
	if f.State == Accepted && f.Accepted != nil {
		return f.Accepted.Until
	}
	return time.Time{}
}

// latest gives the last sweep that has looked at one of the devices.
func latest(devices []uint64, look Look) (sweep uint64) {
	for _, d := range devices {
		number, _ := look.Sweep(d)
		sweep = max(sweep, number)
	}
	return sweep
}

func (r Remark) equal(other Remark) bool {
	return r.Severity == other.Severity && slices.Equal(r.Devices, other.Devices) && maps.Equal(r.Values, other.Values) && slices.Equal(r.Evidence, other.Evidence)
}
