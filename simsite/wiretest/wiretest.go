// Package wiretest holds the cases that every wire into the demo building must pass, in process and through a kernel.
package wiretest

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"airdrift/core/hwaddr"
	"airdrift/core/identify"
	"airdrift/core/ledger"
	"airdrift/core/netrange"
	"airdrift/core/probe"
	"airdrift/core/sweep"
	"airdrift/core/wire"
	"airdrift/simsite"
)

// Run puts all cases to a wire that is plugged into the demo building.
func Run(t *testing.T, w wire.Wire, site *simsite.Site) {
	scenario := site.Scenario
	t.Run("link", func(t *testing.T) { link(t, w, scenario) })
	t.Run("arp", func(t *testing.T) { arp(t, w) })
	t.Run("echo", func(t *testing.T) { echo(t, w) })
	t.Run("tcp", func(t *testing.T) { tcp(t, w) })
	t.Run("sweep", func(t *testing.T) { wholeSweep(t, w, scenario) })
	t.Run("stop", func(t *testing.T) { stoppedSweep(t, w, scenario) })
	t.Run("fence", func(t *testing.T) { fence(t, w) })
}

func link(t *testing.T, w wire.Wire, scenario *simsite.Scenario) {
	l := w.Link()
	if l.MAC != scenario.Vantage.MAC || l.Gateway.String() != "10.40.1.1" {
		t.Errorf("MAC %s, gateway %s", l.MAC, l.Gateway)
	}
	if !slices.Contains(l.Prefixes, netip.MustParsePrefix("10.40.1.250/24")) {
		t.Errorf("prefixes %v", l.Prefixes)
	}
}

// arp asks for the address that two devices hold, and wants to hear of both.
func arp(t *testing.T, w wire.Wire) {
	frames, err := w.Frames(t.Context(), wire.EtherTypeARP)
	if err != nil {
		t.Fatal(err)
	}
	defer frames.Close()
	target := netip.MustParseAddr("10.40.1.66")
	if err := frames.WriteFrame(probe.ARPRequest(w.Link().MAC, w.Link().Prefixes[0].Addr(), target)); err != nil {
		t.Fatal(err)
	}
	_ = frames.SetReadDeadline(time.Now().Add(10 * time.Second))
	var macs []hwaddr.MAC
	for buf := make([]byte, 2048); len(macs) < 2; {
		frame, err := frames.ReadFrame(buf)
		if err != nil {
			t.Fatalf("after %v: %v", macs, err)
		}
		if heard, ok := probe.ParseARP(frame.Bytes); ok && heard.Addr == target && !slices.Contains(macs, heard.MAC) {
			macs = append(macs, heard.MAC)
		}
	}
}

// echo asks a device beyond the router and wants its answer with one hop taken off.
func echo(t *testing.T, w wire.Wire) {
	conn, err := w.Echo(t.Context(), "ip4")
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	target := netip.MustParseAddr("10.40.2.10")
	if err := conn.Send(target, 7, []byte("palm house")); err != nil {
		t.Fatal(err)
	}
	_ = conn.SetReadDeadline(time.Now().Add(10 * time.Second))
	reply, err := conn.Receive()
	if err != nil || reply.From != target || reply.Seq != 7 || reply.TTL != 63 || string(reply.Data) != "palm house" {
		t.Errorf("got %+v, %v", reply, err)
	}
	_ = conn.SetReadDeadline(time.Unix(1, 0))
	if _, err := conn.Receive(); err == nil {
		t.Error("a deadline that has passed did not end the reading")
	}
}

func tcp(t *testing.T, w wire.Wire) {
	conn, outcome, err := probe.Connect(t.Context(), probe.Over(w), netip.MustParseAddrPort("10.40.2.10:21"), 10*time.Second)
	if err != nil || outcome != probe.Open {
		t.Fatalf("an open port: %v, %v", outcome, err)
	}
	defer conn.Close()
	_ = conn.SetDeadline(time.Now().Add(10 * time.Second))
	if said, err := io.ReadAll(io.LimitReader(conn, 3)); err != nil || string(said) != "220" {
		t.Errorf("the greeting begins with %q, %v", said, err)
	}
	if _, outcome, err := probe.Connect(t.Context(), probe.Over(w), netip.MustParseAddrPort("10.40.2.10:99"), 10*time.Second); err != nil || outcome != probe.Refused {
		t.Errorf("a closed port: %v, %v", outcome, err)
	}
	if _, outcome, err := probe.Connect(t.Context(), probe.Over(w), netip.MustParseAddrPort("10.40.2.73:99"), 300*time.Millisecond); err != nil || outcome != probe.Silent {
		t.Errorf("a filtered port: %v, %v", outcome, err)
	}
}

// Order sweeps the whole building.
func Order(scenario *simsite.Scenario) sweep.Order {
	return sweep.Order{Ranges: scenario.Ranges(), Fence: scenario.Subnets(), Pace: sweep.Brisk, Ports: probe.TellingPorts(),
		NameServers: scenario.Vantage.NameServers, Seed: 1}
}

// wholeSweep sweeps the building and holds the devices against the truth, one by one.
func wholeSweep(t *testing.T, w wire.Wire, scenario *simsite.Scenario) {
	collected := ledger.Sweep{ID: 1, Covered: Order(scenario).Ranges, Gateway: w.Link().Gateway, OnLink: w.Link().Prefixes}
	at := map[string]int{}
	summary, err := sweep.Run(t.Context(), w, Order(scenario), func(e sweep.Event) {
		s, ok := e.(sweep.Sighted)
		if !ok || !s.Whole {
			return
		}
		key := s.Sighting.Addr.String() + " " + s.Sighting.MAC.String()
		if known, again := at[key]; again { // what tells more of itself later is told of again
			collected.Sightings[known] = s.Sighting
			return
		}
		at[key] = len(collected.Sightings)
		collected.Sightings = append(collected.Sightings, s.Sighting)
	})
	if err != nil || summary.Stopped {
		t.Fatalf("%+v, %v", summary, err)
	}
	devices := ledger.Apply(nil, nil, collected, identify.New(identify.Default(), nil)).Devices
	for _, truth := range scenario.Truth() {
		var found []ledger.Device
		for _, d := range devices {
			if isDevice(d, truth, scenario.Vantage) {
				found = append(found, d)
			}
		}
		want := 0
		if truth.Visible {
			want = 1
		}
		if len(found) != want {
			t.Errorf("%s is in the inventory %d times, want %d", truth.Device.Name, len(found), want)
		}
		if want == 1 && len(found) == 1 && !slices.Equal(found[0].Traits, truth.Traits()) {
			t.Errorf("%s has the traits %v, want %v", truth.Device.Name, found[0].Traits, truth.Traits())
		}
	}
	visible := slices.DeleteFunc(scenario.Truth(), func(t simsite.Truth) bool { return !t.Visible })
	own := slices.IndexFunc(devices, func(d ledger.Device) bool { return slices.Contains(d.Traits, ledger.OwnMachine) })
	if own < 0 || devices[own].Standing != ledger.SetAside {
		t.Errorf("the auditor's own machine is not marked, or not set aside")
	}
	if len(devices) != len(visible)+1 {
		t.Errorf("%d devices were found besides the auditor's own, and %d can be seen", len(devices)-1, len(visible))
	}
}

// FenceOnTheWire sweeps inside a narrow fence, while everything in the building tempts to leave it, and looks at each
// frame that the machine sends.
func FenceOnTheWire(t *testing.T, site *simsite.Site, w wire.Wire) {
	fence := []netip.Prefix{netip.MustParsePrefix("10.40.1.0/26"), netip.MustParsePrefix("10.40.2.8/29")}
	var mu sync.Mutex
	var strays []string
	frames := 0
	site.Watch(func(frame []byte) {
		target, err := targetOf(frame)
		mu.Lock()
		defer mu.Unlock()
		frames++
		inside := err == nil && slices.ContainsFunc(fence, func(p netip.Prefix) bool { return p.Contains(target) })
		// What the system itself says on the segment (RFC 4861, RFC 9777) and to find its gateway is not the sweep's.
		own := target.IsLinkLocalMulticast() || target.IsLinkLocalUnicast() || target.IsMulticast() || target == w.Link().Gateway
		if !inside && !own {
			strays = append(strays, target.String())
		}
	})
	defer site.Watch(nil)
	order := Order(site.Scenario)
	order.Ranges, order.Fence, order.NameServers = netrange.FromPrefixes(fence...), fence, []netip.Addr{netip.MustParseAddr("10.40.1.200")}
	summary, err := sweep.Run(t.Context(), w, order, func(sweep.Event) {})
	if err != nil || summary.Answered < 20 {
		t.Fatalf("%+v, %v", summary, err)
	}
	mu.Lock()
	defer mu.Unlock()
	if len(strays) > 0 || frames < 500 {
		t.Errorf("of %d frames %d went outside the fence: %v", frames, len(strays), strays[:min(len(strays), 10)])
	}
}

// targetOf gives whom a frame is for.
func targetOf(frame []byte) (netip.Addr, error) {
	switch etherType := binary.BigEndian.Uint16(frame[12:14]); etherType {
	case wire.EtherTypeARP:
		return netip.AddrFrom4([4]byte(frame[38:42])), nil
	case wire.EtherTypeIPv4:
		return netip.AddrFrom4([4]byte(frame[30:34])), nil
	case wire.EtherTypeIPv6:
		return netip.AddrFrom16([16]byte(frame[38:54])), nil
	default:
		return netip.Addr{}, fmt.Errorf("frames of type %#04x", etherType)
	}
}

// isDevice tells by the MAC on the vantage's local segment and by the address beyond it.
func isDevice(d ledger.Device, truth simsite.Truth, vantage simsite.Vantage) bool {
	if truth.OnLink {
		return slices.ContainsFunc(truth.MACs(vantage), func(m hwaddr.MAC) bool { return slices.Contains(d.MACs, m) })
	}
	return slices.Contains(d.Addrs, truth.Device.Legs[0].Address)
}

// stoppedSweep stops as soon as somebody was seen, and wants what was seen.
func stoppedSweep(t *testing.T, w wire.Wire, scenario *simsite.Scenario) {
	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	seen := 0
	summary, err := sweep.Run(ctx, w, Order(scenario), func(e sweep.Event) {
		if _, ok := e.(sweep.Sighted); ok {
			seen++
			stop()
		}
	})
	if err != nil || !summary.Stopped || seen == 0 {
		t.Errorf("stopped %v after %d sightings, %v", summary.Stopped, seen, err)
	}
}

// fence holds every way out to the fence.
func fence(t *testing.T, w wire.Wire) {
	fenced := wire.Fence(w, wire.Limits{Networks: []netip.Prefix{netip.MustParsePrefix("10.40.1.0/25")}})
	outside := netip.MustParseAddr("10.40.2.10")
	refused := func(what string, err error) {
		var o *wire.OutsideError
		if !errors.As(err, &o) || o.Addr != outside {
			t.Errorf("%s outside the fence gave %v", what, err)
		}
	}
	_, err := fenced.DialContext(t.Context(), "tcp", netip.AddrPortFrom(outside, 80))
	refused("a connection", err)
	echo, err := fenced.Echo(t.Context(), "ip4")
	if err != nil {
		t.Fatal(err)
	}
	defer echo.Close()
	refused("an echo request", echo.Send(outside, 1, nil))
	frames, err := fenced.Frames(t.Context(), wire.EtherTypeARP)
	if err != nil {
		t.Fatal(err)
	}
	defer frames.Close()
	refused("an ARP request", frames.WriteFrame(probe.ARPRequest(w.Link().MAC, w.Link().Prefixes[0].Addr(), outside)))
	other, err := fenced.Frames(t.Context(), 0x88b5)
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close()
	if err := other.WriteFrame(make([]byte, 60)); err == nil || !strings.Contains(err.Error(), "heard and not sent") {
		t.Errorf("a frame of any content gave %v", err)
	}
}
