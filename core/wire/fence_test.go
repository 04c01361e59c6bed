package wire

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"strings"
	"testing"
	"time"

	"airdrift/core/hwaddr"
	"airdrift/core/netrange"
)

// open is a wire that lets everything through and notes where it went.
type open struct {
	sent []string
}

func (o *open) Link() Link {
	return Link{Name: "open0", Prefixes: []netip.Prefix{netip.MustParsePrefix("192.0.2.1/24")}}
}
func (o *open) Frames(context.Context, uint16) (FrameConn, error) {
	return openFrames{o}, nil
}
func (o *open) Echo(context.Context, string) (EchoConn, error) { return openEcho{o}, nil }
func (o *open) DialContext(_ context.Context, network string, addr netip.AddrPort) (net.Conn, error) {
	o.sent = append(o.sent, network+" "+addr.String())
	return nil, nil
}
func (o *open) ListenPacket(context.Context, string, netip.AddrPort) (net.PacketConn, error) {
	return openPackets{o: o}, nil
}
func (o *open) Neighbours(context.Context) ([]Neighbour, error) { return []Neighbour{{}}, nil }

type openFrames struct{ o *open }

func (f openFrames) ReadFrame([]byte) (Frame, error) { return Frame{}, nil }
func (f openFrames) SetReadDeadline(time.Time) error { return nil }
func (f openFrames) Close() error                    { return nil }
func (f openFrames) WriteFrame([]byte) error {
	f.o.sent = append(f.o.sent, "frame")
	return nil
}

type openEcho struct{ o *open }

func (e openEcho) Receive() (EchoReply, error)     { return EchoReply{}, nil }
func (e openEcho) SetReadDeadline(time.Time) error { return nil }
func (e openEcho) Close() error                    { return nil }
func (e openEcho) Send(dst netip.Addr, _ uint16, _ []byte) error {
	e.o.sent = append(e.o.sent, "echo "+dst.String())
	return nil
}

type openPackets struct {
	net.PacketConn
	o *open
}

func (p openPackets) WriteTo(b []byte, to net.Addr) (int, error) {
	p.o.sent = append(p.o.sent, "datagram "+to.String())
	return len(b), nil
}

// arpFor is an ARP frame that asks for an address.
func arpFor(a netip.Addr) []byte {
	frame := make([]byte, 42)
	copy(frame[38:], a.AsSlice())
	return frame
}

func TestFenceHoldsEveryWayOut(t *testing.T) {
	fence := []netip.Prefix{netip.MustParsePrefix("10.40.1.0/24"), netip.MustParsePrefix("2001:db8::/64")}
	for _, tt := range []struct {
		addr string
		in   bool
	}{{"10.40.1.9", true}, {"10.40.2.9", false}, {"2001:db8::9", true}, {"2001:db9::9", false}, {"::ffff:10.40.1.9", true}, {"255.255.255.255", false}, {"224.0.0.251", false}} {
		a := netip.MustParseAddr(tt.addr)
		o := &open{}
		f := Fence(o, Limits{Networks: fence})
		ctx := t.Context()
		_, dial := f.DialContext(ctx, "tcp", netip.AddrPortFrom(a, 80))
		echo, err := f.Echo(ctx, "ip4")
		if err != nil {
			t.Fatal(err)
		}
		packets, err := f.ListenPacket(ctx, "udp", netip.AddrPort{})
		if err != nil {
			t.Fatal(err)
		}
		_, datagram := packets.WriteTo([]byte("x"), net.UDPAddrFromAddrPort(netip.AddrPortFrom(a, 161)))
		ways := map[string]error{"connection": dial, "echo": echo.Send(a, 1, nil), "datagram": datagram}
		if a.Is4() {
			frames, err := f.Frames(ctx, EtherTypeARP)
			if err != nil {
				t.Fatal(err)
			}
			ways["ARP"] = frames.WriteFrame(arpFor(a))
		}
		for way, err := range ways {
			var outside *OutsideError
			if errors.As(err, &outside) == tt.in {
				t.Errorf("%s to %s gave %v", way, tt.addr, err)
			}
		}
		if want := len(ways); tt.in && len(o.sent) != want || !tt.in && len(o.sent) != 0 {
			t.Errorf("to %s there went %v", tt.addr, o.sent)
		}
	}
}

func TestFenceRefusesFramesItCannotRead(t *testing.T) {
	o := &open{}
	f := Fence(o, Limits{Networks: []netip.Prefix{netip.MustParsePrefix("0.0.0.0/0")}})
	frames, err := f.Frames(t.Context(), EtherTypeARP)
	if err != nil {
		t.Fatal(err)
	}
	if err := frames.WriteFrame(make([]byte, 20)); err == nil {
		t.Error("a frame too short to be ARP went through")
	}
	six, err := f.Frames(t.Context(), EtherTypeIPv6)
	if err != nil {
		t.Fatal(err)
	}
	if err := six.WriteFrame(make([]byte, 50)); err == nil {
		t.Error("a frame too short to be IPv6 went through")
	}
	other, err := f.Frames(t.Context(), 0x88b5)
	if err != nil {
		t.Fatal(err)
	}
	if err := other.WriteFrame(make([]byte, 60)); err == nil {
		t.Error("frames of any content were permitted")
	}
	if len(o.sent) > 0 {
		t.Errorf("sent %v", o.sent)
	}
}

// A neighbour solicitation goes to a group; whom it asks for is what the fence looks at.
func TestFenceLooksIntoSolicitations(t *testing.T) {
	fence := []netip.Prefix{netip.MustParsePrefix("2001:db8::/64"), netip.MustParsePrefix("ff02::/16")}
	solicitation := func(asked string) []byte {
		frame := make([]byte, 14+40+24)
		frame[14+6], frame[14+40] = 58, 135
		copy(frame[14+24:], netip.MustParseAddr("ff02::1:ff00:9").AsSlice())
		copy(frame[14+48:], netip.MustParseAddr(asked).AsSlice())
		return frame
	}
	for asked, inside := range map[string]bool{"2001:db8::9": true, "2001:db9::9": false} {
		o := &open{}
		frames, err := Fence(o, Limits{Networks: fence}).Frames(t.Context(), EtherTypeIPv6)
		if err != nil {
			t.Fatal(err)
		}
		if err := frames.WriteFrame(solicitation(asked)); (err == nil) != inside || (len(o.sent) == 1) != inside {
			t.Errorf("asking for %s gave %v and sent %v", asked, err, o.sent)
		}
	}
}

func TestOutsideErrorNamesTheFence(t *testing.T) {
	err := &OutsideError{Addr: netip.MustParseAddr("10.1.1.1"), Fence: []netip.Prefix{netip.MustParsePrefix("10.40.1.0/24"), netip.MustParsePrefix("10.40.2.0/24")}}
	if !strings.Contains(err.Error(), "10.40.1.0/24, 10.40.2.0/24") {
		t.Error(err)
	}
	if err.Fence = nil; !strings.Contains(err.Error(), "none are entered") {
		t.Error(err)
	}
}

func TestLink(t *testing.T) {
	l := Link{MAC: hwaddr.MAC{2}, Prefixes: []netip.Prefix{netip.MustParsePrefix("10.40.1.250/24"), netip.MustParsePrefix("10.50.0.1/16")}}
	if self, ok := l.OnLink(netip.MustParseAddr("10.50.9.9")); !ok || self.String() != "10.50.0.1" {
		t.Errorf("own address towards 10.50.9.9: %s, %v", self, ok)
	}
	if _, ok := l.OnLink(netip.MustParseAddr("10.40.2.1")); ok {
		t.Error("10.40.2.1 is said to be on the link")
	}
	if !l.Broadcasts() || (Link{}).Broadcasts() {
		t.Error("a link with a MAC has a segment, and one without has none")
	}
}

// segmentWire has a link on a segment that lies within the fence.
type segmentWire struct{ open }

func (*segmentWire) Link() Link {
	return Link{Name: "segment0", MAC: hwaddr.MAC{2}, Prefixes: []netip.Prefix{netip.MustParsePrefix("10.40.1.250/24")}}
}

// What is sent to all of a segment is allowed by name, and all else is not.
func TestGroupsAreAllowedByName(t *testing.T) {
	everybody := netip.MustParseAddr("255.255.255.255")
	profinet := Cast{0x8892, hwaddr.MAC{0x01, 0x0e, 0xcf, 0, 0, 0}}
	allowed := Allowance{Groups: []netip.Addr{netip.MustParseAddr("224.0.23.12"), netip.MustParseAddr("224.0.1.187"), everybody}, Casts: []Cast{profinet}}
	for _, tt := range []struct {
		name   string
		limits Limits
		to     string
		may    bool
	}{
		{"everybody, allowed", Limits{ToAll: allowed}, "255.255.255.255", true},
		{"a group, allowed", Limits{ToAll: allowed}, "224.0.1.187", true},
		{"a group that routers pass on", Limits{ToAll: allowed}, "224.0.23.12", true},
		{"another group", Limits{ToAll: allowed}, "224.0.0.251", false},
		{"everybody, not allowed", Limits{}, "255.255.255.255", false},
		{"all of the subnet, allowed", Limits{ToAll: allowed}, "10.40.1.255", true},
		{"all of the subnet, not allowed", Limits{}, "10.40.1.255", false},
		{"all of the subnet in the old way, not allowed", Limits{}, "10.40.1.0", false},
		{"nobody", Limits{ToAll: allowed}, "0.0.0.0", false},
	} {
		w := &segmentWire{}
		tt.limits.Networks = []netip.Prefix{netip.MustParsePrefix("10.40.1.0/24")}
		f := Fence(w, tt.limits)
		conn, err := f.ListenPacket(t.Context(), "udp", netip.AddrPort{})
		if err != nil {
			t.Fatal(err)
		}
		_, err = conn.WriteTo([]byte("x"), net.UDPAddrFromAddrPort(netip.AddrPortFrom(netip.MustParseAddr(tt.to), 47808)))
		if (err == nil) != tt.may || (len(w.sent) == 1) != tt.may {
			t.Errorf("%s: %v, sent %v", tt.name, err, w.sent)
		}
		frames, err := f.Frames(t.Context(), profinet.EtherType)
		if err != nil {
			t.Fatal(err)
		}
		frame := append(append([]byte{}, profinet.To[:]...), make([]byte, 54)...)
		if err := frames.WriteFrame(frame); (err == nil) != (len(tt.limits.ToAll.Casts) > 0) {
			t.Errorf("%s: a frame to its layer-2 group gave %v", tt.name, err)
		}
		if frame[5]++; frames.WriteFrame(frame) == nil {
			t.Errorf("%s: a frame went to a layer-2 group that nobody named", tt.name)
		}
	}
}

// What is left out is left alone by every way, whoever names it.
func TestExclusionsAndPortsAreHeldByTheFence(t *testing.T) {
	excluded, err := netrange.Parse("10.40.1.66")
	if err != nil {
		t.Fatal(err)
	}
	w := &segmentWire{}
	f := Fence(w, Limits{Networks: []netip.Prefix{netip.MustParsePrefix("10.40.1.0/24")}, Excluded: excluded, Never: []uint16{9100}})
	for _, to := range []string{"10.40.1.66:80", "10.40.1.5:9100"} {
		at := netip.MustParseAddrPort(to)
		_, dial := f.DialContext(t.Context(), "tcp", at)
		conn, err := f.ListenPacket(t.Context(), "udp", netip.AddrPort{})
		if err != nil {
			t.Fatal(err)
		}
		_, datagram := conn.WriteTo([]byte("x"), net.UDPAddrFromAddrPort(at))
		var left *LeftAloneError
		if !errors.As(dial, &left) || !errors.As(datagram, &left) || len(w.sent) > 0 {
			t.Errorf("%s: %v and %v, sent %v", to, dial, datagram, w.sent)
		}
	}
	frames, err := f.Frames(t.Context(), EtherTypeARP)
	if err != nil {
		t.Fatal(err)
	}
	if err := frames.WriteFrame(arpFor(netip.MustParseAddr("10.40.1.66"))); err == nil {
		t.Error("who is left out was called by ARP")
	}
}
