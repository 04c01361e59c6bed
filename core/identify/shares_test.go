package identify

import (
	"errors"
	"testing"

	"airdrift/core/fault"
)

// Agents tell more than blocks of addresses, and these more than a maker's name; all of them only where the device leaves its kind open.
func TestSharesFromTheClosestTable(t *testing.T) {
	engine := New(Default(), nil)
	for _, test := range []struct {
		name, kind string
		facts      []string
	}{
		{"an agent's number", "firewall", []string{"snmp.enterprise 25461"}},
		{"an agent's number beside its own words", "switch", []string{"snmp.enterprise 25461", "snmp.sysDescr Example managed switch"}},
		{"a maker by name", "camera", []string{"onvif.maker Mobotix"}},
		{"a family of kinds by its protocol, one of them by its maker", "intercom", []string{"sip.agent Zenitel 8.0.3.1"}},
		{"the same where the device says otherwise", "phone", []string{"sip.agent Zenitel IP Phone 8.0.3.1"}},
	} {
		if got := engine.Identify(facts(test.facts...)).Of(Kind); got != test.kind {
			t.Errorf("%s: %q, want %q", test.name, got, test.kind)
		}
	}
}

// A house's blocks of addresses may differ: what one of them says is a candidate, and no claim.
func TestSharesOfABlock(t *testing.T) {
	engine := New(Default(), nil)
	for mac, want := range map[string]string{"18:b4:30:11:22:33": "thermostat", "3c:5a:b4:11:22:33": ""} { // Nest Labs, Google
		claim := engine.Identify(facts("arp.mac " + mac))[0]
		got := ""
		if len(claim.Others) > 0 {
			got = claim.Others[0].Value
		}
		if claim.Value != Unknown || got != want {
			t.Errorf("%s: %q, first of all %q, want none and %q", mac, claim.Value, got, want)
		}
	}
}

func TestSharesThatAreRefused(t *testing.T) {
	for _, text := range []string{
		"makers:\n  - {maker: Example, kinds: {toaster: 50}}\n",
		"agents:\n  - {number: 9, kinds: {camera: 60, printer: 50}}\n",
		"blocks:\n  - {registered: Example, kinds: {camera: 0}}\n",
		"blocks:\n  - {registered: Example, sort: {camera: 50}}\n",
		"agents:\n  - {number: nine, kinds: {camera: 50}}\n",
	} {
		var list *fault.List
		if _, err := readShares("x.yaml", []byte(text)); !errors.As(err, &list) || len(list.Faults) == 0 || list.Faults[0].Line != 2 {
			t.Errorf("%q gave %v, want a fault in line 2", text, err)
		}
	}
}

func TestProductsThatAreRefused(t *testing.T) {
	f := &families{exact: map[string][]name{}}
	if err := f.addProducts([]byte("no archive")); err == nil {
		t.Error("what is no archive was taken")
	}
	if len(publicFamilies().exact) < 5000 {
		t.Errorf("there are %d first words of products", len(publicFamilies().exact))
	}
}
