// Package spread tells how many values lie: between which of them most are, and where that is drawn.
package spread

import (
	"cmp"
	"maps"
	"math"
	"slices"
)

// Share gives the smallest of the values in order that at least a share of them, from 0 to 1, does not exceed: the percentile by the nearest rank. There
// must be a value.
func Share[T cmp.Ordered](sorted []T, share float64) T {
	return sorted[max(0, int(math.Ceil(share*float64(len(sorted))))-1)]
}

// Spread is how some values lie: half of them between the quartiles Low and High, nine of ten between Least and Most.
type Spread struct {
	Count  int     `json:"count"`
	Least  float64 `json:"least"`  // 5th percentile
	Low    float64 `json:"low"`    // 25th
	Middle float64 `json:"middle"` // median
	High   float64 `json:"high"`   // 75th
	Most   float64 `json:"most"`   // 95th
}

// Of tells how values lie, in any order; the zero Spread of none.
func Of(values []float64) Spread {
	if len(values) == 0 {
		return Spread{}
	}
	sorted := slices.Sorted(slices.Values(values))
	at := func(share float64) float64 { return Share(sorted, share) }
	return Spread{Count: len(sorted), Least: at(0.05), Low: at(0.25), Middle: at(0.5), High: at(0.75), Most: at(0.95)}
}

// Named is how the values lie that go by one name.
type Named struct {
	Name string
	Spread
}

// ByName tells how values lie that go by names: the name with most values first, like ones in the order of their names.
func ByName(values map[string][]float64) []Named {
	list := make([]Named, 0, len(values))
	for _, name := range slices.Sorted(maps.Keys(values)) {
		list = append(list, Named{name, Of(values[name])})
	}
	slices.SortStableFunc(list, func(a, b Named) int { return b.Count - a.Count })
	return list
}

// Scale is a logarithmic one between two powers of ten, as times differ by factors.
type Scale struct{ from, to int }

// finest is the smallest value that is told from smaller ones where it is drawn.
const finest = 0.01

// ScaleOf gives the scale on which all of some spreads of values above zero have their place.
func ScaleOf(all []Named) Scale {
	s := Scale{math.MaxInt, math.MinInt}
	for _, one := range all {
		if one.Count > 0 {
			s.from = min(s.from, int(math.Floor(log(one.Least))))
			s.to = max(s.to, int(math.Ceil(log(one.Most))))
		}
	}
	if s.from > s.to { // there is none
		s = Scale{0, 1}
	}
	s.to = max(s.to, s.from+1)
	return s
}

func log(v float64) float64 { return math.Log10(max(v, finest)) }

// Place gives where a value lies, from 0 at the beginning of the scale to 1 at its end.
func (s Scale) Place(v float64) float64 {
	return min(1, max(0, (log(v)-float64(s.from))/float64(s.to-s.from)))
}

// Marks gives the powers of ten on the scale, both ends among them.
func (s Scale) Marks() (marks []float64) {
	for power := s.from; power <= s.to; power++ {
		marks = append(marks, math.Pow10(power))
	}
	return marks
}
