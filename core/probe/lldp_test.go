package probe

import (
	"net/netip"
	"testing"
)

// Identifiers are of many kinds (IEEE 802.1AB-2016, 8.5.2 and 8.5.3); one that lies about its length or its family is none.
func TestLLDPIdentifiers(t *testing.T) {
	const byMAC, byAddress = 4, 5
	for name, tt := range map[string]struct {
		value []byte
		text  string
		mac   bool
	}{
		"a MAC address":              {[]byte{byMAC, 0x48, 0x9b, 0x34, 0, 0, 1}, "48:9b:34:00:00:01", true},
		"one that is cut off":        {[]byte{byMAC, 0x48, 0x9b, 0x34}, "H\x9b4", false},
		"an IPv4 address":            {[]byte{byAddress, 1, 10, 40, 1, 2}, "10.40.1.2", false},
		"an IPv6 address":            {append([]byte{byAddress, 2}, netip.MustParseAddr("2001:db8::2").AsSlice()...), "2001:db8::2", false},
		"one of another family":      {[]byte{byAddress, 9, 10, 40, 1, 2}, "", false},
		"one longer than its family": {[]byte{byAddress, 1, 10, 40, 1, 2, 3}, "", false},
		"a name":                     {append([]byte{7}, "port 12\x00\x00"...), "port 12", false},
		"nothing":                    {[]byte{byMAC}, "", false},
		"not even a kind":            {nil, "", false},
	} {
		text, mac := lldpID(tt.value, byMAC, byAddress)
		if string(text) != tt.text || mac.IsZero() == tt.mac {
			t.Errorf("%s: %q and %s, want %q", name, text, mac, tt.text)
		}
	}
	for name, tt := range map[string]struct {
		value []byte
		want  string
	}{
		"a management address":         {[]byte{5, 1, 10, 40, 1, 2, 2, 0, 0, 0, 1, 0}, "10.40.1.2"},
		"longer than what it came in":  {[]byte{200, 1, 10, 40, 1, 2}, "invalid IP"},
		"shorter than a family":        {[]byte{1, 1, 10, 40, 1, 2}, "invalid IP"},
		"without an address behind it": {[]byte{5}, "invalid IP"},
	} {
		if got, ok := lldpAddr(tt.value); got.String() != tt.want || ok != (tt.want != "invalid IP") {
			t.Errorf("%s: %s, want %s", name, got, tt.want)
		}
	}
}
