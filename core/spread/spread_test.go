package spread

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"testing"
)

func TestOf(t *testing.T) {
	var hundred []float64
	for i := range 100 {
		hundred = append(hundred, float64(i+1))
	}
	rand.New(rand.NewPCG(1, 2)).Shuffle(len(hundred), func(i, j int) { hundred[i], hundred[j] = hundred[j], hundred[i] })
	for _, c := range []struct {
		values []float64
		want   Spread
	}{
		{hundred, Spread{100, 5, 25, 50, 75, 95}},
		{[]float64{7}, Spread{1, 7, 7, 7, 7, 7}},
		{[]float64{9, 1}, Spread{2, 1, 1, 1, 9, 9}},
		{nil, Spread{}},
	} {
		before := slices.Clone(c.values)
		if got := Of(c.values); got != c.want {
			t.Errorf("Of(%v) = %+v, want %+v", c.values, got, c.want)
		}
		if !slices.Equal(before, c.values) {
			t.Errorf("Of has put the values into another order")
		}
	}
}

func TestScale(t *testing.T) {
	near := func(got, want float64) bool { return math.Abs(got-want) < 1e-9 }
	s := ScaleOf([]Named{{Spread: Spread{Count: 3, Least: 0.4, Most: 30}}, {}, {Spread: Spread{Count: 1, Least: 2, Most: 900}}})
	if got := s.Marks(); !slices.EqualFunc(got, []float64{0.1, 1, 10, 100, 1000}, near) {
		t.Errorf("marks %v", got)
	}
	for value, want := range map[float64]float64{0.1: 0, 10: 0.5, 1000: 1, 0: 0, 1e9: 1, -3: 0} {
		if got := s.Place(value); !near(got, want) {
			t.Errorf("%v lies at %v, want %v", value, got, want)
		}
	}
	for _, all := range [][]Named{nil, {{}}, {{Spread: Spread{Count: 1, Least: 1, Most: 1}}}, {{Spread: Spread{Count: 1}}}} {
		if got := ScaleOf(all).Marks(); len(got) != 2 {
			t.Errorf("the scale of %v has the marks %v, want two", all, got)
		}
	}
}

func TestByName(t *testing.T) {
	var got []string
	for _, n := range ByName(map[string][]float64{"ssh": {3}, "http": {1, 2, 9}, "bacnet": {5}}) {
		got = append(got, fmt.Sprint(n.Name, " ", n.Count, " ", n.Middle))
	}
	if want := []string{"http 3 2", "bacnet 1 5", "ssh 1 3"}; !slices.Equal(got, want) {
		t.Errorf("%q, want %q", got, want)
	}
}
