package openness

import (
	"fmt"
	"slices"
	"testing"

	"airdrift/core/evidence"
	"airdrift/core/identify"
)

func fact(source evidence.Source, key, value string) evidence.Item {
	return evidence.Item{Source: source, Key: key, Value: value}
}

func TestHowADeviceCanBeRead(t *testing.T) {
	web := fact(evidence.SourceTCP, evidence.KeyTCPOpen, "80")
	for _, tt := range []struct {
		name, kind string
		items      []evidence.Item
		want       string
	}{
		{"a controller that was counted", "plant-controller", []evidence.Item{web, fact(evidence.SourceBACnet, "bacnet.instance", "1"), fact(evidence.SourceBACnet, evidence.KeyBACnetPoints, "63")}, "plant open [BACnet] 63 true"},
		{"a controller of lifts", "plant-controller", []evidence.Item{fact(evidence.SourceBACnet, evidence.KeyBACnetObjects, "analog input: 4"), fact(evidence.SourceBACnet, evidence.KeyBACnetObjects, "lift: 2")}, "lifts open [BACnet] 0 false"},
		{"a meter by two protocols", "meter", []evidence.Item{fact(evidence.SourceSNMP, "snmp.sysDescr", "Tally"), fact(evidence.SourceModbus, "modbus.maker", "B")}, "metering open [Modbus SNMP] 0 false"},
		{"one that has a web page alone", "access-controller", []evidence.Item{web}, "access own [] 0 false"},
		{"one whose agent wants a credential", "ups", []evidence.Item{web, fact(evidence.SourceSNMP, "snmp.engine", "80001f88")}, "power own [] 0 false"},
		{"a broker that lets nobody in", "gateway", []evidence.Item{web, fact(evidence.SourceMQTT, evidence.KeyMQTTAnswer, "refused: not authorised")}, "plant own [] 0 false"},
		{"a controller of a maker's own protocol", "plc", []evidence.Item{fact(evidence.SourceS7, "s7.order", "6ES7")}, "plant own [] 0 false"},
		{"one that answers to its name alone", "thermostat", []evidence.Item{fact(evidence.SourceEcho, evidence.KeyEchoTTL, "64")}, "plant closed [] 0 false"},
		{"one that lies about its points", "plant-controller", []evidence.Item{fact(evidence.SourceBACnet, evidence.KeyBACnetPoints, "-5")}, "plant open [BACnet] 0 false"},
	} {
		d := Of(tt.kind, tt.items)
		if got := fmt.Sprint(d.System, " ", d.State, " ", d.Protocols, " ", d.Points, " ", d.Counted); got != tt.want {
			t.Errorf("%s: %s, want %s", tt.name, got, tt.want)
		}
	}
}

// A number of BACnet that two devices hold is told of both; one that a device tells at two addresses is its own.
func TestNumbersHeldTwice(t *testing.T) {
	number := func(n string) evidence.Item { return fact(evidence.SourceBACnet, evidence.KeyBACnetInstance, n) }
	var devices []Device
	for _, items := range [][]evidence.Item{{number("4711")}, {number("12"), number("12")}, {number("4711"), number("4712")}, {number("4712")}, nil} {
		devices = append(devices, Of("plant-controller", items))
	}
	if got, want := fmt.Sprint(Doubles(devices)), "map[4711:[0 2] 4712:[2 3]]"; got != want {
		t.Errorf("%s, want %s", got, want)
	}
	if d := Of("plant-controller", []evidence.Item{number("1"), fact(evidence.SourceBACnet, evidence.KeyBACnetCut, "60 of 120")}); d.Cut != "60 of 120" {
		t.Errorf("a list that ends too early is told as %q", d.Cut)
	}
}

func TestSystemsTogether(t *testing.T) {
	sums := Sums([]Device{
		{System: "metering", State: Open, Protocols: []string{"Modbus"}}, {System: "plant", State: Open, Protocols: []string{"BACnet", "SNMP"}, Points: 40, Counted: true},
		{System: "plant", State: Open, Protocols: []string{"BACnet"}, Points: 2, Counted: true}, {System: "plant", State: Closed}, {System: "plant", State: Own}, {},
	})
	want := []Sum{
		{"plant", 4, 2, 1, 1, 42, 2, []ProtocolSum{{"BACnet", 2}, {"SNMP", 1}}},
		{"metering", 1, 1, 0, 0, 0, 0, []ProtocolSum{{"Modbus", 1}}},
	}
	if fmt.Sprint(sums) != fmt.Sprint(want) {
		t.Errorf("%+v, want %+v", sums, want)
	}
}

// The systems are of kinds that there are, and no kind belongs to two.
func TestKindsOfSystems(t *testing.T) {
	kinds := Kinds()
	for i, kind := range kinds {
		if !slices.Contains(identify.Kinds, kind) || slices.Contains(kinds[:i], kind) {
			t.Errorf("the kind %q", kind)
		}
	}
}
