package store

import "testing"

// A MAC address, and a part of one, is found in whatever form it is written.
func TestMACsInAnyForm(t *testing.T) {
	for word, want := range map[string]string{
		"48-9b-34-00-0a-01": "48:9b:34:00:0a:01", "48:9b:34:00:0a:01": "48:9b:34:00:0a:01", "489b.3400.0a01": "48:9b:34:00:0a:01", "489b34000a01": "48:9b:34:00:0a:01",
		"48-9b-34": "48:9b:34", "-0a-01": ":0a:01", "48-9b-3": "48:9b:3", "489b.34": "48:9b:34", "489b.340": "48:9b:34:0",
		"printer": "", "10.40.1.9": "", "oak-server": "", "adobe": "", "489b340": "",
	} {
		if got := asMAC(word); got != want {
			t.Errorf("%s is sought as %q, want %q", word, got, want)
		}
	}
}
