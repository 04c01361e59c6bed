package probe

import (
	"net/netip"
	"testing"

	"airdrift/core/hwaddr"
)

var (
	ndMAC    = hwaddr.MustParse("48:9b:34:00:00:01")
	ndSelf   = netip.MustParseAddr("fd00:40:1::250")
	ndTarget = netip.MustParseAddr("fd00:40:1::61")
)

// advertisement turns a solicitation into the answer to it (RFC 4861, 4.4), as a device with that MAC gives it.
func advertisement(mac hwaddr.MAC, target netip.Addr, flags byte) []byte {
	frame := NeighbourSolicitation(mac, target, target)
	frame[14+40] = 136
	frame[14+44] = flags
	frame[14+64] = 2 // the option tells the target's own MAC
	return frame
}

func TestParseND(t *testing.T) {
	tests := []struct {
		name  string
		frame []byte
		want  NDHeard
	}{
		{"a solicitation tells of its sender", NeighbourSolicitation(ndMAC, ndSelf, ndTarget), NDHeard{Addr: ndSelf, MAC: ndMAC, Solicits: true}},
		{"an advertisement tells of its target", advertisement(ndMAC, ndTarget, 0), NDHeard{Addr: ndTarget, MAC: ndMAC}},
		{"a router says so", advertisement(ndMAC, ndTarget, 0x80), NDHeard{Addr: ndTarget, MAC: ndMAC, Router: true}},
	}
	for _, tt := range tests {
		if got, ok := ParseND(tt.frame); !ok || got != tt.want {
			t.Errorf("%s: %+v, %v; want %+v", tt.name, got, ok, tt.want)
		}
	}
	nonce := [8]byte{1, 2, 3}
	echo := AllNodesEcho(ndMAC, ndSelf, nonce)
	if _, ok := ParseND(echo); ok {
		t.Error("an echo request is taken for an answer")
	}
	echo[14+40] = 129
	if got, ok := ParseND(echo); !ok || !got.Echo || got.Nonce != nonce || got.Addr != ndSelf {
		t.Errorf("an echo answer gave %+v, %v", got, ok)
	}
}

func TestParseNDRefusesWhatHasPassedARouter(t *testing.T) {
	for name, change := range map[string]func(frame []byte) []byte{
		"a hop limit below 255": func(f []byte) []byte { f[14+7] = 254; return f },
		"a group's MAC":         func(f []byte) []byte { f[6] |= 1; f[14+64] = 0; return f },
		"no sender":             func(f []byte) []byte { clear(f[14+8 : 14+24]); f[14+40] = 135; return f },
		"a header that is cut":  func(f []byte) []byte { return f[:50] },
		"another protocol":      func(f []byte) []byte { f[14+6] = 17; return f },
		"IPv4":                  func(f []byte) []byte { f[12], f[13] = 8, 0; return f },
	} {
		if heard, ok := ParseND(change(advertisement(ndMAC, ndTarget, 0))); ok {
			t.Errorf("%s is taken for %+v", name, heard)
		}
	}
}

func FuzzParseND(f *testing.F) {
	f.Add(NeighbourSolicitation(ndMAC, ndSelf, ndTarget))
	f.Add(advertisement(ndMAC, ndTarget, 0x80))
	f.Add(AllNodesEcho(ndMAC, ndSelf, [8]byte{1}))
	f.Fuzz(func(t *testing.T, frame []byte) {
		heard, ok := ParseND(frame)
		if ok && (!heard.Addr.Is6() || heard.Addr.IsMulticast() || heard.Addr.IsUnspecified() || heard.MAC.IsZero() || heard.MAC.IsGroup()) {
			t.Errorf("%x tells of %+v", frame, heard)
		}
	})
}
