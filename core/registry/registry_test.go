package registry

import (
	"testing"

	"airdrift/core/hwaddr"
)

func TestFindLongestPrefix(t *testing.T) {
	tests := []struct{ mac, prefix, organisation string }{
		{"00:00:01:12:34:56", "00:00:01", "XEROX CORPORATION"},
		{"00:00:5e:00:53:01", "00:00:5e", "ICANN, IANA Department"},
		{"00:55:da:00:00:01", "00:55:da:00/28", "Shinko Technos co.,ltd."},
		{"48:9b:34:00:00:01", "", ""},
		{"00:50:c2:ff:f0:00", "", ""},
	}
	for _, tt := range tests {
		v := Find(hwaddr.MustParse(tt.mac), nil)
		prefix := ""
		if v.Organisation != "" {
			prefix = v.Prefix.String()
		}
		if v.Organisation != tt.organisation || prefix != tt.prefix {
			t.Errorf("%s is of %q by %q, want %q by %q", tt.mac, v.Organisation, prefix, tt.organisation, tt.prefix)
		}
	}
}

// Every row must be found again by an address within it, unless a longer prefix was cut from it just there.
func TestEveryPrefixIsFound(t *testing.T) {
	table := IEEE()
	if table.Len() < 50_000 {
		t.Fatalf("the table has %d prefixes, want the whole register", table.Len())
	}
	seen := map[int]int{}
	for n, rows := range table.byLen {
		for _, row := range rows {
			p, _, ok := table.find(row.bits | 1)
			if !ok || p.Len < n {
				t.Fatalf("%x/%d is found as %v, %v", row.bits, n, p, ok)
			}
			seen[n]++
		}
	}
	for _, n := range []int{24, 28, 36} {
		if seen[n] == 0 {
			t.Errorf("no prefix of %d bits", n)
		}
	}
}

func TestPrivateAndOverlay(t *testing.T) {
	private := hwaddr.MustParse("da:3f:91:5c:20:17")
	if v := Find(private, nil); !v.Private || v.Organisation != "" {
		t.Errorf("a private MAC gave %+v", v)
	}
	overlay := &Table{}
	for text, name := range map[string]string{"00:00:01": "Site Maker", "00:00:01:4/28": "Small Block", "da:3f:91": "Site Bridge"} {
		p, err := ParsePrefix(text)
		if err != nil {
			t.Fatal(err)
		}
		overlay.Add(p, name)
	}
	overlay.Finish()
	for mac, want := range map[string]string{"00:00:01:00:00:01": "Site Maker", "00:00:01:4f:00:01": "Small Block", "da:3f:91:5c:20:17": "Site Bridge", "00:00:02:00:00:01": "XEROX CORPORATION"} {
		if v := Find(hwaddr.MustParse(mac), overlay); v.Organisation != want {
			t.Errorf("%s is of %q, want %q", mac, v.Organisation, want)
		}
	}
}

func TestParsePrefixRefuses(t *testing.T) {
	for _, text := range []string{"", "3", "3c:5a:zz", "3c:5a:b4/30", "3c:5a:b4/x", "3c:5a:b4:01:02:03:04"} {
		if p, err := ParsePrefix(text); err == nil {
			t.Errorf("%q reads as %v, want an error", text, p)
		}
	}
}

func BenchmarkFind(b *testing.B) {
	mac := hwaddr.MustParse("00:55:da:00:00:01")
	IEEE()
	for b.Loop() {
		Find(mac, nil)
	}
}
