package firmware

import (
	"fmt"
	"slices"
	"testing"
)

func TestWhichVersionIsOlder(t *testing.T) {
	for _, ascending := range [][]string{
		{"1.0", "1.0.1", "1.2", "1.10", "2"},
		{"4.2-rc1", "4.2-rc2", "4.2", "4.2.1", "v4.3"},
		{"4.2 beta 1", "4.2"},
		{"V1.09", "V1.10a", "V1.10b"},
		{"2023.12.1", "2024.1.0"},
		{"r9", "r10"},
		{"99999999999999999998", "99999999999999999999"},
	} {
		for i := 1; i < len(ascending); i++ {
			a, b := ascending[i-1], ascending[i]
			if Compare(a, b) >= 0 || Compare(b, a) <= 0 {
				t.Errorf("%q is not older than %q: %d, %d", a, b, Compare(a, b), Compare(b, a))
			}
		}
	}
	for _, equal := range [][2]string{{"4.2", "v4.2"}, {"4.2", "4.02"}, {"4.2", "Version 4-2"}, {"", ""}, {"--", ""}} {
		if Compare(equal[0], equal[1]) != 0 {
			t.Errorf("%q and %q are not the same", equal[0], equal[1])
		}
	}
}

// Whatever devices call their versions, they can be put into one order.
func FuzzCompare(f *testing.F) {
	f.Add("4.2-rc1", "4.2", "v4.3b")
	f.Add("", "-", "1a1")
	f.Fuzz(func(t *testing.T, a, b, c string) {
		if Compare(a, b) != -Compare(b, a) || Compare(a, a) != 0 {
			t.Errorf("%q and %q: %d and %d", a, b, Compare(a, b), Compare(b, a))
		}
		if Compare(a, b) <= 0 && Compare(b, c) <= 0 && Compare(a, c) > 0 {
			t.Errorf("%q, %q, %q are in no order", a, b, c)
		}
	})
}

func TestHowVersionsLieOverModels(t *testing.T) {
	counts := []Count{
		{"Thornquist", "Climate 900", "4.2", 3}, {"Thornquist", "Climate 900", "4.10", 1}, {"Thornquist", "Climate 900", "", 2},
		{"Bramblecote", "Tally 3", "2.11", 4}, {"Thornquist", "Panel 7", "", 1},
	}
	wanted := func(_, model string) string { return map[string]string{"Tally 3": "2.12"}[model] }
	var got []string
	for _, s := range Spreads(counts, wanted) {
		got = append(got, fmt.Sprintf("%s %s %d %v unknown=%d newest=%q wanted=%q behind=%d", s.Vendor, s.Model, s.Devices, s.Versions, s.Unknown, s.Newest(), s.Wanted, s.Behind))
	}
	want := []string{
		`Bramblecote Tally 3 4 [{2.11 4}] unknown=0 newest="2.11" wanted="2.12" behind=4`,
		`Thornquist Climate 900 6 [{4.10 1} {4.2 3}] unknown=2 newest="4.10" wanted="" behind=3`,
		`Thornquist Panel 7 1 [] unknown=1 newest="" wanted="" behind=0`,
	}
	if !slices.Equal(got, want) {
		t.Errorf("%q, want %q", got, want)
	}
}
