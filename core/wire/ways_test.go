package wire

import (
	"context"
	"errors"
	"net/netip"
	"strings"
	"testing"

	"airdrift/core/hwaddr"
	"airdrift/core/netrange"
)

// ipv4For is a frame with an IPv4 packet to an address.
func ipv4For(a netip.Addr) []byte {
	frame := make([]byte, ethernetHeader+20)
	copy(frame[ethernetHeader+16:], a.AsSlice())
	return frame
}

// Whole IPv4 frames are held to the fence by the address in their packet, and what is too short to have one is refused.
func TestFenceReadsIPv4Frames(t *testing.T) {
	o := &open{}
	f := Fence(o, Limits{Networks: []netip.Prefix{netip.MustParsePrefix("10.40.1.0/24")}})
	frames, err := f.Frames(t.Context(), EtherTypeIPv4)
	if err != nil {
		t.Fatal(err)
	}
	var outside *OutsideError
	if err := frames.WriteFrame(ipv4For(netip.MustParseAddr("10.40.2.9"))); !errors.As(err, &outside) || outside.Addr != netip.MustParseAddr("10.40.2.9") {
		t.Errorf("a packet to beyond the fence gave %v", err)
	}
	if err := frames.WriteFrame(ipv4For(netip.MustParseAddr("10.40.1.9"))[:ethernetHeader+19]); err == nil {
		t.Error("a packet cut off in its address went out")
	}
	if len(o.sent) != 0 {
		t.Errorf("there went %v", o.sent)
	}
	if err := frames.WriteFrame(ipv4For(netip.MustParseAddr("10.40.1.9"))); err != nil || len(o.sent) != 1 {
		t.Errorf("a packet within the fence: %v, sent %v", err, o.sent)
	}
}

// pinning is a wire that can fix the MAC address of a neighbour.
type pinning struct {
	open
	pinned []netip.Addr
}

func (p *pinning) Pin(_ context.Context, a netip.Addr, _ hwaddr.MAC) (func() error, error) {
	p.pinned = append(p.pinned, a)
	return func() error { return nil }, nil
}

// Only neighbours within the fence are pinned; a wire that cannot says so.
func TestPinIsHeldByTheFence(t *testing.T) {
	limits := Limits{Networks: []netip.Prefix{netip.MustParsePrefix("10.40.1.0/24")}}
	mac := hwaddr.MustParse("48:9b:34:00:00:01")
	p := &pinning{}
	f := Fence(p, limits)
	var outside *OutsideError
	if _, err := f.Pin(t.Context(), netip.MustParseAddr("10.40.2.9"), mac); !errors.As(err, &outside) {
		t.Errorf("an address beyond the fence was pinned: %v", err)
	}
	if restore, err := f.Pin(t.Context(), netip.MustParseAddr("10.40.1.9"), mac); err != nil || restore() != nil {
		t.Errorf("one within it was not: %v", err)
	}
	if len(p.pinned) != 1 {
		t.Errorf("pinned were %v", p.pinned)
	}
	if _, err := Fence(&open{}, limits).Pin(t.Context(), netip.MustParseAddr("10.40.1.9"), mac); !errors.Is(err, ErrNoRights) {
		t.Errorf("a wire that cannot pin says %v", err)
	}
}

// What is left alone is named in the error: the address, or the port.
func TestLeftAloneErrorSaysWhat(t *testing.T) {
	excluded, err := netrange.Parse("10.40.1.66")
	if err != nil {
		t.Fatal(err)
	}
	f := Fence(&open{}, Limits{Networks: []netip.Prefix{netip.MustParsePrefix("10.40.1.0/24")}, Excluded: excluded, Never: []uint16{9100}})
	for addr, want := range map[string]string{
		"10.40.1.66:80":  "10.40.1.66 is among what is left out",
		"10.40.1.9:9100": "port 9100 is never sent anything, and so not that of 10.40.1.9",
	} {
		if _, err := f.DialContext(t.Context(), "tcp", netip.MustParseAddrPort(addr)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", addr, err, want)
		}
	}
}

// mute is a wire that the system permits nothing on.
type mute struct{ open }

func (mute) Frames(context.Context, uint16) (FrameConn, error) { return nil, ErrNoRights }
func (mute) Echo(context.Context, string) (EchoConn, error)    { return nil, ErrNoRights }
func (mute) Neighbours(context.Context) ([]Neighbour, error)   { return nil, ErrNoRights }

// Rights are found by trying, and nothing is sent for it.
func TestRightsAreFoundByTrying(t *testing.T) {
	o := &open{}
	if got, want := RightsOf(t.Context(), o), (Rights{Frames: true, Echo: true, Neighbours: true}); got != want || len(o.sent) != 0 {
		t.Errorf("where all is permitted: %+v, sent %v", got, o.sent)
	}
	if got := RightsOf(t.Context(), &mute{}); got != (Rights{}) {
		t.Errorf("where nothing is: %+v", got)
	}
}

// A link's own addresses and next hops are told by family.
func TestLinkByFamily(t *testing.T) {
	l := Link{
		Prefixes: []netip.Prefix{netip.MustParsePrefix("10.40.1.250/24"), netip.MustParsePrefix("2001:db8::fa/64"), netip.MustParsePrefix("fe80::fa/64")},
		Gateway:  netip.MustParseAddr("10.40.1.1"), Gateway6: netip.MustParseAddr("fe80::1"),
	}
	if got := l.LinkLocal6(); got != netip.MustParseAddr("fe80::fa") {
		t.Errorf("the link-local address is %v", got)
	}
	if got := (Link{Prefixes: l.Prefixes[:2]}).LinkLocal6(); got.IsValid() {
		t.Errorf("without one it is %v", got)
	}
	for beyond, want := range map[string]netip.Addr{"192.0.2.1": l.Gateway, "2001:db8:1::1": l.Gateway6} {
		if got := l.GatewayTo(netip.MustParseAddr(beyond)); got != want {
			t.Errorf("towards %s it goes by %v, want %v", beyond, got, want)
		}
	}
	if Anywhere(l.Gateway) != netip.IPv4Unspecified() || Anywhere(l.Gateway6) != netip.IPv6Unspecified() {
		t.Error("the unspecified address is of the other family")
	}
}
