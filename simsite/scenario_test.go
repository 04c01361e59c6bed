package simsite

import (
	"errors"
	"fmt"
	"net/netip"
	"strings"
	"testing"

	"airdrift/core/fault"
	"airdrift/core/hwaddr"
	"airdrift/core/identify"
	"airdrift/core/register"
	"airdrift/core/registry"
	"airdrift/scenarios"
)

func demo(t *testing.T) *Scenario {
	t.Helper()
	data, err := scenarios.Files.ReadFile(scenarios.Demo)
	if err != nil {
		t.Fatal(err)
	}
	s, err := Load(scenarios.Demo, data)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func TestDemoIsLargeEnoughAndMadeUp(t *testing.T) {
	s := demo(t)
	makers := map[string]bool{}
	for _, m := range s.Models {
		makers[m.Maker] = m.Maker != ""
	}
	delete(makers, "")
	if len(s.Devices) < 150 || len(makers) < 25 || len(s.Networks) < 5 {
		t.Errorf("%d devices of %d makers in %d networks", len(s.Devices), len(makers), len(s.Networks))
	}
	real := map[string]bool{}
	for _, organisation := range registry.IEEE().Organisations() {
		real[strings.ToLower(identify.VendorName(organisation))] = true
	}
	for maker := range makers {
		if real[strings.ToLower(maker)] {
			t.Errorf("the maker %s is in the public register", maker)
		}
	}
	for _, p := range s.Prefixes {
		prefix, err := registry.ParsePrefix(p.Prefix)
		if err != nil {
			t.Fatal(err)
		}
		var mac hwaddr.MAC
		for i := range mac {
			mac[i] = byte(prefix.Bits >> (40 - 8*i))
		}
		if found := registry.Find(mac, nil); found.Organisation != "" || found.Private {
			t.Errorf("the prefix %s belongs to %q, private %v", p.Prefix, found.Organisation, found.Private)
		}
	}
}

// The register beside the scenario names just the devices that the scenario says are managed or missing.
func TestDemoRegisterAgreesWithTheTruth(t *testing.T) {
	s := demo(t)
	text, err := scenarios.Files.Open(s.Register)
	if err != nil {
		t.Fatal(err)
	}
	defer text.Close()
	entries, err := register.Read(s.Register, text)
	if err != nil {
		t.Fatal(err)
	}
	named := map[string]bool{}
	for _, e := range entries {
		named[e.Name] = true
	}
	for _, truth := range s.Truth() {
		if named[truth.Device.Name] != (truth.Standing != "unmanaged") {
			t.Errorf("%s is %s, in the register: %v", truth.Device.Name, truth.Standing, named[truth.Device.Name])
		}
		if truth.Visible == (truth.Standing == "missing") {
			t.Errorf("%s is %s and visible: %v", truth.Device.Name, truth.Standing, truth.Visible)
		}
		delete(named, truth.Device.Name)
	}
	if len(named) > 0 {
		t.Errorf("the register names what is not in the scenario: %v", named)
	}
}

func TestLoadPlacesFaults(t *testing.T) {
	const head = `name: x
networks:
  - {name: a, subnet: 10.1.0.0/24, gateway: 10.1.0.1}
vantage: {network: a, address: 10.1.0.2, mac: "48:9b:34:00:00:01"}
`
	tests := []struct{ name, text, want string }{
		{"a MAC twice", head + "devices:\n  - {name: d, standing: managed, legs: [{network: a, address: 10.1.0.3, mac: \"48:9b:34:00:00:01\"}]}\n", "6:devices[0].legs[0].mac"},
		{"an address of another subnet", head + "devices:\n  - name: d\n    standing: managed\n    legs: [{network: a, address: 10.2.0.3, mac: \"48:9b:34:00:00:02\"}]\n", "8:devices[0].legs[0].address"},
		{"a wrong service", head + "models:\n  - name: m\n    services:\n      - {port: 80, speaks: gopher}\n", "8:models[0].services[0].speaks"},
		{"no standing", head + "devices:\n  - {name: d, legs: [{network: a, address: 10.1.0.3, mac: \"48:9b:34:00:00:03\"}]}\n", "6:devices[0].standing"},
		{"an unknown model", head + "devices:\n  - {name: d, model: m, standing: managed, legs: [{network: a, address: 10.1.0.3, mac: \"48:9b:34:00:00:03\"}]}\n", "6:devices[0].model"},
		{"an unknown fault", head + "devices:\n  - {name: d, standing: managed, faults: [tired], legs: [{network: a, address: 10.1.0.3, mac: \"48:9b:34:00:00:03\"}]}\n", "6:devices[0].faults[0]"},
		{"an unknown network", strings.Replace(head, "network: a", "network: b", 1), "4:vantage.network"},
		{"a subnet with host bits", strings.Replace(head, "10.1.0.0/24", "10.1.0.9/24", 1), "3:networks[0].subnet"},
		{"a gateway elsewhere", strings.Replace(head, "gateway: 10.1.0.1", "gateway: 10.9.0.1", 1), "3:networks[0].gateway"},
		{"an unknown field", head + "colour: red\n", "5:"},
		{"a way to speak that is none", head + "devices:\n  - {name: d, standing: managed, services: [{port: 53, speaks: dnsx}], legs: [{network: a, address: 10.1.0.3, mac: \"48:9b:34:00:00:03\"}]}\n", "6:devices[0].services[0].speaks"},
		{"an IPv6 address of no subnet", head + "devices:\n  - {name: d, standing: managed, legs: [{network: a, address6: \"fd00::3\", mac: \"48:9b:34:00:00:03\"}]}\n", "6:devices[0].legs[0].address6"},
		{"a leg without an address", head + "devices:\n  - {name: d, standing: managed, legs: [{network: a, mac: \"48:9b:34:00:00:03\"}]}\n", "6:devices[0].legs[0].address"},
		{"an address of another subnet than its own", head + "devices:\n  - {name: d, standing: managed, legs: [{network: a, subnet: 192.168.7.0/24, address: 10.1.0.3, mac: \"48:9b:34:00:00:03\"}]}\n", "6:devices[0].legs[0].address"},
		{"a loss of everything", head + "devices:\n  - {name: d, standing: managed, loss: 1, legs: [{network: a, address: 10.1.0.3, mac: \"48:9b:34:00:00:03\"}]}\n", "6:devices[0].loss"},
		{"a malformed range to answer for", head + "devices:\n  - {name: d, standing: managed, answersFor: 10.1.0.999, legs: [{network: a, address: 10.1.0.3, mac: \"48:9b:34:00:00:03\"}]}\n", "6:devices[0].answersFor"},
		{"announcing without a pause", head + "devices:\n  - {name: d, standing: managed, announces: 1ms, legs: [{network: a, address: 10.1.0.3, mac: \"48:9b:34:00:00:03\"}]}\n", "6:devices[0].announces"},
		{"an IPv6 subnet that is IPv4", strings.Replace(head, "gateway: 10.1.0.1", "subnet6: 10.3.0.0/24", 1), "3:networks[0].subnet6"},
		{"a bad prefix", head + "prefixes: [{prefix: zz, maker: m}]\n", "5:prefixes[0].prefix"},
	}
	for _, tt := range tests {
		_, err := Load("x.yaml", []byte(tt.text))
		var list *fault.List
		if !errors.As(err, &list) {
			t.Errorf("%s gave %v, want a fault", tt.name, err)
			continue
		}
		if got := fmt.Sprintf("%d:%s", list.Faults[0].Line, list.Faults[0].Field); got != tt.want {
			t.Errorf("%s is placed at %s, want %s: %v", tt.name, got, tt.want, err)
		}
	}
}

func TestSegmentLosesAsToldTo(t *testing.T) {
	segment := newSegment(Conditions{Loss: 0.5}, 1)
	got := make(chan byte, 1000)
	from := segment.attach(func([]byte) {}, nil, Conditions{})
	segment.attach(func(frame []byte) { got <- frame[14] }, nil, Conditions{})
	for i := range 200 {
		frame := make([]byte, 15)
		copy(frame, "\xff\xff\xff\xff\xff\xff\x02\x00\x00\x00\x00\x01")
		frame[14] = byte(i)
		from.send(frame)
	}
	segment.conditions.Loss = 0
	last := make([]byte, 15)
	copy(last, "\xff\xff\xff\xff\xff\xff\x02\x00\x00\x00\x00\x01")
	last[14] = 255
	from.send(last)
	arrived := 0
	for previous := -1; ; arrived++ {
		n := int(<-got)
		if n == 255 {
			break
		}
		if n <= previous {
			t.Errorf("frame %d came after %d", n, previous)
		}
		previous = n
	}
	segment.close()
	if arrived < 70 || arrived > 130 {
		t.Errorf("%d of 200 frames arrived with a loss of one half", arrived)
	}
}

func TestSegmentLearns(t *testing.T) {
	segment := newSegment(Conditions{}, 1)
	heard := make(chan string, 10)
	port := func(name string) *port {
		return segment.attach(func(frame []byte) { heard <- name }, nil, Conditions{})
	}
	a, b, _ := port("a"), port("b"), port("c")
	frame := func(dst, src string) []byte { return []byte(dst + src + "\x08\x00") }
	const macA, macB = "\x02\x00\x00\x00\x00\x0a", "\x02\x00\x00\x00\x00\x0b"
	b.send(frame("\xff\xff\xff\xff\xff\xff", macB))
	first := <-heard + <-heard
	a.send(frame(macB, macA))
	second := <-heard
	b.send(frame(macA, macB))
	third := <-heard
	segment.close()
	if first != "ac" || second != "b" || third != "a" || len(heard) > 0 {
		t.Errorf("a broadcast went to %s, then frames to %s and %s, and %d more", first, second, third, len(heard))
	}
}

func TestDetachedPortHearsNothingOfWhatIsUnderWay(t *testing.T) {
	segment := newSegment(Conditions{}, 1)
	heard, stays := make(chan string, 2), make(chan string, 1)
	from := segment.attach(func([]byte) {}, nil, Conditions{})
	gone := segment.attach(func([]byte) { heard <- "the detached port" }, nil, Conditions{})
	segment.attach(func([]byte) { stays <- "the other" }, nil, Conditions{})
	segment.mu.Lock()
	segment.scheduleLocked(from, gone, make([]byte, ethernetHeader)) // wakes nobody, so it stays under way
	segment.mu.Unlock()
	gone.detach()
	from.send([]byte("\xff\xff\xff\xff\xff\xff\x02\x00\x00\x00\x00\x01\x08\x00"))
	<-stays
	segment.close()
	if len(heard) > 0 {
		t.Error("a port heard a frame after it was detached")
	}
}

func TestRouterLosesWhatItsStackHasSpoiled(t *testing.T) {
	segment := newSegment(Conditions{}, 1)
	defer segment.close()
	own, foreign := netip.MustParseAddr("10.1.0.1"), netip.MustParseAddr("10.2.0.5")
	for i, tt := range []struct {
		router bool
		from   netip.Addr
		ttl    byte
		lost   bool
	}{{true, foreign, 255, true}, {true, foreign, 64, true}, {true, foreign, 63, false}, {true, own, 64, false}, {false, foreign, 255, false}} {
		h, err := newHost(tt.router)
		if err != nil {
			t.Fatal(err)
		}
		n, err := h.join(segment, plug{mac: hwaddr.MAC{2, 0, 0, 0, 0, byte(i)}, addresses: []netip.Prefix{netip.PrefixFrom(own, 24)}})
		if err != nil {
			t.Fatal(err)
		}
		frame := make([]byte, ethernetHeader+20)
		frame[12], frame[14], frame[ethernetHeader+8] = 8, 0x45, tt.ttl
		copy(frame[ethernetHeader+12:], tt.from.AsSlice())
		if got := n.isSpoiled(frame); got != tt.lost {
			t.Errorf("a router %v passes on what %s began with a time to live of %d: lost %v", tt.router, tt.from, tt.ttl, got)
		}
		h.close()
	}
}
