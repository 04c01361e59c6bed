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
)

// open is a wire that lets everything through and notes where it went.
type open struct {
	sent []string
}

func (o *open) Link() Link { return Link{Name: "open0"} }
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

func (f openFrames) ReadFrame([]byte) (int, error)   { return 0, nil }
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
		f := Fence(o, fence)
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
	f := Fence(o, []netip.Prefix{netip.MustParsePrefix("0.0.0.0/0")})
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
	if _, err := f.Frames(t.Context(), 0x88b5); err == nil {
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
		frames, err := Fence(o, fence).Frames(t.Context(), EtherTypeIPv6)
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
