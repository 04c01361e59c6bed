package netrange

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"strings"
	"testing"
)

// randomSet makes a set of a few small ranges, and the same as a plain list.
func randomSet(t *testing.T, random *rand.Rand) (Set, map[netip.Addr]bool) {
	t.Helper()
	var parts []string
	members := map[netip.Addr]bool{}
	for range 1 + random.IntN(5) {
		from, length := random.IntN(200), random.IntN(30)
		to := min(from+length, 255)
		parts = append(parts, fmt.Sprintf("10.0.0.%d-%d", from, to))
		for i := from; i <= to; i++ {
			members[netip.AddrFrom4([4]byte{10, 0, 0, byte(i)})] = true
		}
	}
	return mustParse(t, strings.Join(parts, ",")), members
}

// TestSetsAgreeWithPlainLists holds every operation against the same on plain lists of addresses.
func TestSetsAgreeWithPlainLists(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	for range 300 {
		a, inA := randomSet(t, random)
		b, inB := randomSet(t, random)
		union, without := a.Union(b), a.Without(b)
		inUnion, inWithout := 0, 0
		for i := range 256 {
			x := netip.AddrFrom4([4]byte{10, 0, 0, byte(i)})
			if a.Contains(x) != inA[x] {
				t.Fatalf("%s holds %s: %v", a, x, a.Contains(x))
			}
			if union.Contains(x) != (inA[x] || inB[x]) {
				t.Fatalf("%s with %s holds %s: %v", a, b, x, union.Contains(x))
			}
			if without.Contains(x) != (inA[x] && !inB[x]) {
				t.Fatalf("%s without %s holds %s: %v", a, b, x, without.Contains(x))
			}
			if inA[x] || inB[x] {
				inUnion++
			}
			if inA[x] && !inB[x] {
				inWithout++
			}
		}
		if union.Count() != uint64(inUnion) || without.Count() != uint64(inWithout) || a.Count() != uint64(len(inA)) {
			t.Fatalf("counts of %s and %s: %d, %d, %d", a, b, a.Count(), union.Count(), without.Count())
		}
	}
}

func TestLast(t *testing.T) {
	for prefix, want := range map[string]string{
		"10.40.1.0/24": "10.40.1.255", "10.40.1.9/30": "10.40.1.11", "10.40.1.9/32": "10.40.1.9", "0.0.0.0/0": "255.255.255.255",
		"2001:db8::/120": "2001:db8::ff",
	} {
		if got := Last(netip.MustParsePrefix(prefix)); got.String() != want {
			t.Errorf("the last of %s is %s, want %s", prefix, got, want)
		}
	}
}
