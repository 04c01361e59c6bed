package netrange

import (
	"net/netip"
	"testing"
)

func TestPrivateNetworksLieWithinOneBlock(t *testing.T) {
	for text, want := range map[string]bool{
		"10.0.0.0/8": true, "10.40.1.0/24": true, "172.16.0.0/12": true, "192.168.0.0/16": true, "100.64.0.0/10": true, "169.254.0.0/16": true,
		"fc00::/7": true, "fd00:40::/48": true, "fe80::/10": true, "10.1.2.3/32": true,
		"10.0.0.0/7": false, "192.168.0.0/13": false, "169.254.0.0/15": false, "fc00::/6": false, "172.16.0.0/11": false, "100.64.0.0/9": false, "0.0.0.0/0": false, "::/0": false,
		"8.8.8.0/24": false, "127.0.0.0/8": false, "::1/128": false, "224.0.0.0/4": false, "ff02::/16": false, "2001:db8::/32": false, "::ffff:10.0.0.0/104": false,
	} {
		if got := IsPrivate(netip.MustParsePrefix(text)); got != want {
			t.Errorf("%s is private: %t, want %t", text, got, want)
		}
	}
	if IsPrivate(netip.Prefix{}) || Within(netip.Prefix{}, []netip.Prefix{{}}) {
		t.Error("no network at all is taken for a private one")
	}
}

func TestNoDevice(t *testing.T) {
	for text, want := range map[string]string{
		"10.40.1.0/24": "", "fd00::/120": "", "239.255.255.250": "239.255.255.250", "10.0.0.1,224.0.0.5-224.0.0.9": "224.0.0.5", "ff02::1": "ff02::1", "255.255.255.255": "255.255.255.255", "0.0.0.0": "0.0.0.0", "::": "::",
	} {
		set, err := Parse(text)
		if err != nil {
			t.Fatal(err)
		}
		got, found := set.NoDevice()
		if found != (want != "") || found && got.String() != want {
			t.Errorf("%s: %s, %t; want %q", text, got, found, want)
		}
	}
}
