package netrange

import (
	"errors"
	"net/netip"
	"strings"
	"testing"
)

func mustParse(t *testing.T, text string) Set {
	t.Helper()
	set, err := Parse(text)
	if err != nil {
		t.Fatalf("Parse(%q): %v", text, err)
	}
	return set
}

func TestParse(t *testing.T) {
	tests := []struct {
		text, want string
		count      uint64
	}{
		{"10.40.1.9", "10.40.1.9", 1},
		{"10.40.1.0/24", "10.40.1.0/24", 256},
		{"10.40.1.20-10.40.2.3", "10.40.1.20-10.40.2.3", 240},
		{"10.40.1.20-80", "10.40.1.20-10.40.1.80", 61},
		{"10.40.1.0/25, 10.40.1.128/25", "10.40.1.0/24", 256},
		{"10.40.1.5 10.40.1.4\n10.40.1.4-6", "10.40.1.4-10.40.1.6", 3},
		{"10.40.1.0/32", "10.40.1.0", 1},
		{"2001:db8::/120", "2001:db8::/120", 256},
		{"2001:db8::1-2001:db8::3,10.0.0.1", "10.0.0.1, 2001:db8::1-2001:db8::3", 4},
		{"255.255.255.254-255", "255.255.255.254/31", 2},
		{"::ffff:10.0.0.1", "10.0.0.1", 1},
		{"10.0.0.0/8", "10.0.0.0/8", 1 << 24},
	}
	for _, tt := range tests {
		set := mustParse(t, tt.text)
		if set.String() != tt.want || set.Count() != tt.count {
			t.Errorf("Parse(%q) = %s with %d addresses, want %s with %d", tt.text, set, set.Count(), tt.want, tt.count)
		}
	}
}

func TestParseNamesTheFaultyPart(t *testing.T) {
	tests := []struct{ text, part, why string }{
		{"10.40.1.0/24, 10.40.300.1", "10.40.300.1", "not an address"},
		{"10.40.1.5/24", "10.40.1.5/24", "10.40.1.0/24"},
		{"10.40.1.0/33", "10.40.1.0/33", "CIDR"},
		{"10.40.1.80-20", "10.40.1.80-20", "before it starts"},
		{"10.40.1.80-300", "10.40.1.80-300", "last octet"},
		{"10.40.1.80-", "10.40.1.80-", "last octet"},
		{"10.40.1.1-2001:db8::1", "10.40.1.1-2001:db8::1", "mixes"},
		{"2001:db8::1-9", "2001:db8::1-9", "not an address"},
		{"palmhouse", "palmhouse", "not an address"},
		{"fe80::1%eth0", "fe80::1%eth0", "not an address"},
		{"2001:db8::/88", "2001:db8::/88", "1099511627776 addresses"},
		{"2001:db8::/32", "2001:db8::/32", "2^64"},
		{"0.0.0.0/0", "0.0.0.0/0", "4294967296 addresses"},
		{"10.0.0.0/8,11.0.0.0/8", "10.0.0.0/8,11.0.0.0/8", "33554432 addresses"},
	}
	for _, tt := range tests {
		_, err := Parse(tt.text)
		var part *PartError
		if !errors.As(err, &part) || part.Part != tt.part || !strings.Contains(part.Why, tt.why) {
			t.Errorf("Parse(%q) gave %v; want a fault in %q saying %q", tt.text, err, tt.part, tt.why)
		}
	}
	if _, err := Parse(" ,\n"); !errors.Is(err, ErrEmpty) {
		t.Errorf("an empty list gave %v, want ErrEmpty", err)
	}
}

func TestIndexAndAtAgree(t *testing.T) {
	set := mustParse(t, "10.0.0.250-10.0.1.5, 10.9.0.0/30, 2001:db8::ff-2001:db8::101")
	for i := range set.Count() {
		a := set.At(i)
		if got, ok := set.Index(a); !ok || got != i {
			t.Errorf("Index(At(%d)=%s) = %d, %v", i, a, got, ok)
		}
	}
	for _, text := range []string{"10.0.0.249", "10.0.1.6", "10.9.0.4", "2001:db8::fe", "2001:db8::102", "::1"} {
		if set.Contains(netip.MustParseAddr(text)) {
			t.Errorf("%s is said to be in %s", text, set)
		}
	}
}

func TestWithout(t *testing.T) {
	tests := []struct{ whole, holes, want string }{
		{"10.0.0.0/24", "10.0.0.0/25", "10.0.0.128/25"},
		{"10.0.0.0/24", "10.0.0.1, 10.0.0.254-255", "10.0.0.0, 10.0.0.2-10.0.0.253"},
		{"10.0.0.0/30", "10.0.0.0/24", ""},
		{"10.0.0.0/30", "11.0.0.0/24", "10.0.0.0/30"},
		{"255.255.255.255", "255.255.255.255", ""},
	}
	for _, tt := range tests {
		got := mustParse(t, tt.whole).Without(mustParse(t, tt.holes))
		if got.String() != tt.want {
			t.Errorf("%s without %s = %q, want %q", tt.whole, tt.holes, got, tt.want)
		}
	}
}

func TestOutside(t *testing.T) {
	networks := []netip.Prefix{netip.MustParsePrefix("10.40.1.0/24"), netip.MustParsePrefix("10.40.2.0/24")}
	if a, out := mustParse(t, "10.40.1.0-10.40.2.255").Outside(networks); out {
		t.Errorf("%s is said to be outside", a)
	}
	if a, out := mustParse(t, "10.40.2.250-10.40.3.1").Outside(networks); !out || a != netip.MustParseAddr("10.40.3.0") {
		t.Errorf("Outside = %v, %v; want 10.40.3.0", a, out)
	}
}

func TestVisitMeetsEachAddressOnce(t *testing.T) {
	for _, text := range []string{"10.0.0.1", "10.0.0.0/31", "10.0.0.1-3", "10.0.0.0-10.0.3.9", "10.1.0.0/18"} {
		set := mustParse(t, text)
		visit := NewVisit(set, 7)
		met := make([]bool, set.Count())
		for i := range visit.Len() {
			a, index := visit.At(i)
			if a != set.At(index) {
				t.Fatalf("%s: place %d is %s with index %d, which is %s", text, i, a, index, set.At(index))
			}
			if met[index] {
				t.Fatalf("%s: %s was visited twice", text, a)
			}
			met[index] = true
		}
	}
}

func TestVisitOrderHangsOnTheSeed(t *testing.T) {
	set := mustParse(t, "10.0.0.0/24")
	same, inPlace := 0, 0
	a, b, again := NewVisit(set, 1), NewVisit(set, 2), NewVisit(set, 1)
	for i := range set.Count() {
		_, x := a.At(i)
		_, y := b.At(i)
		if _, z := again.At(i); x != z {
			t.Fatalf("the same seed gave %d and %d at place %d", x, z, i)
		}
		if x == y {
			same++
		}
		if x == i {
			inPlace++
		}
	}
	if same > 16 || inPlace > 16 {
		t.Errorf("%d of 256 places agree between two seeds and %d are in plain order; want a random few", same, inPlace)
	}
}

func FuzzParse(f *testing.F) {
	for _, seed := range []string{"10.0.0.0/24", "10.0.0.1-9,::1", "1-2", "255.255.255.255/0", "a:b"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		set, err := Parse(text)
		if err != nil {
			return
		}
		again, err := Parse(set.String())
		if err != nil || again.String() != set.String() || again.Count() != set.Count() {
			t.Errorf("%q reads as %s, which reads back as %s, %v", text, set, again, err)
		}
	})
}

func TestParseFile(t *testing.T) {
	set, err := ParseFile("# the plant room\n10.40.2.10-12  # three controllers\n\n10.40.2.13, fd00:40:1::1\r\n10.40.2.9\n")
	if err != nil || set.String() != "10.40.2.9-10.40.2.13, fd00:40:1::1" || set.Count() != 6 {
		t.Errorf("read %s, %v", set, err)
	}
	for text, want := range map[string]string{
		"10.40.2.10\n10.40.2.300 # a slip\n": `line 2: range 1, "10.40.2.300"`,
		"# nothing\n\n":                      "no addresses given",
		"10.0.0.0/9\n10.128.0.0/9\n11.0.0.0": "line 3: with this line the list holds 16777217 addresses",
		"fd00::/88\n":                        "line 1: range 1, \"fd00::/88\": holds 1099511627776 addresses",
	} {
		if _, err := ParseFile(text); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q gave %v, want %q", text, err, want)
		}
	}
}

func FuzzParseFile(f *testing.F) {
	f.Add("10.0.0.1 # one\n10.0.0.2-9\n")
	f.Add("#\n\r\n,;")
	f.Fuzz(func(t *testing.T, text string) {
		set, err := ParseFile(text)
		if err == nil && (set.Count() == 0 || set.Count() > MaxCount) {
			t.Errorf("%q holds %d addresses", text, set.Count())
		}
	})
}

func TestHostsAndCounts(t *testing.T) {
	for text, want := range map[string]struct{ hosts, count string }{
		"10.40.1.0/24":   {"10.40.1.1-10.40.1.254", "254"},
		"10.40.1.8/30":   {"10.40.1.9-10.40.1.10", "2"},
		"10.40.1.8/31":   {"10.40.1.8/31", "2"},
		"10.40.1.8/32":   {"10.40.1.8", "1"},
		"fd00::10/126":   {"fd00::11-fd00::13", "3"},
		"fd00:40:1::/64": {"fd00:40:1::1-fd00:40:1:0:ffff:ffff:ffff:ffff", "2^64"},
	} {
		p := netip.MustParsePrefix(text)
		if got := Hosts(p).String(); got != want.hosts || CountText(p) != want.count {
			t.Errorf("%s has %s (%s), want %s (%s)", text, got, CountText(p), want.hosts, want.count)
		}
	}
}

func TestFirstFree(t *testing.T) {
	taken := map[netip.Addr]bool{netip.MustParseAddr("10.40.1.1"): true, netip.MustParseAddr("10.40.1.2"): true}
	held := func(a netip.Addr) bool { return taken[a] }
	if a, ok := Hosts(netip.MustParsePrefix("10.40.1.0/29")).FirstFree(held); !ok || a.String() != "10.40.1.3" {
		t.Errorf("the first free one is %s, %v", a, ok)
	}
	if a, ok := Hosts(netip.MustParsePrefix("10.40.1.0/30")).FirstFree(held); ok {
		t.Errorf("in a full network %s is free", a)
	}
	full := func(netip.Addr) bool { return true }
	if _, ok := Hosts(netip.MustParsePrefix("fd00::/64")).FirstFree(full); ok {
		t.Error("the search through a full IPv6 network found something")
	}
}

func TestCovers(t *testing.T) {
	own := []netip.Prefix{netip.MustParsePrefix("10.40.1.250/24"), netip.MustParsePrefix("fd00::250/64")}
	for text, want := range map[string]bool{"10.40.1.0/24": true, "10.40.1.1-254": true, "10.40.1.1-253": false, "10.40.0.0/16": true, "10.40.2.0/24": false} {
		set, err := Parse(text)
		if err != nil {
			t.Fatal(err)
		}
		if got := set.Covers(own); got != want {
			t.Errorf("%s covers the segment: %v", text, got)
		}
	}
}

func TestUnion(t *testing.T) {
	a, b := FromPrefixes(netip.MustParsePrefix("10.40.1.0/25")), FromPrefixes(netip.MustParsePrefix("10.40.1.128/25"), netip.MustParsePrefix("fd00::/64"))
	if got := a.Union(b).String(); got != "10.40.1.0/24, fd00::-fd00::ffff:ffff:ffff:ffff" {
		t.Errorf("the union is %s", got)
	}
}
