package hostwire

import (
	"errors"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"airdrift/core/wire"
	"airdrift/simsite/nstest"
	"airdrift/simsite/simsitetest"
	"airdrift/simsite/wiretest"
)

func TestWireThroughKernel(t *testing.T) {
	if !nstest.Inside(t) {
		return
	}
	scenario := simsitetest.Demo(t)
	site := simsitetest.Start(t, scenario)
	if _, err := site.AttachTAP("fern0", site.Link()); err != nil {
		t.Fatal(err)
	}
	w, err := New("fern0")
	if err != nil {
		t.Fatal(err)
	}
	// First, as the system goes on for a while with what it has begun.
	t.Run("fence on the wire", func(t *testing.T) { wiretest.FenceOnTheWire(t, site, w) })
	wiretest.Run(t, w, site)
}

func TestUnknownInterface(t *testing.T) {
	_, err := New("fern9")
	var unknown *UnknownInterfaceError
	if !errors.As(err, &unknown) || len(unknown.Known) == 0 {
		t.Errorf("got %v, want an error that names the interfaces there are", err)
	}
}

func TestEchoOnLoopback(t *testing.T) {
	w, err := New("lo")
	if err != nil {
		t.Fatal(err)
	}
	if w.Link().Broadcasts() {
		t.Error("loopback is said to have a segment")
	}
	conn, err := w.Echo(t.Context(), "ip4")
	if errors.Is(err, wire.ErrNoRights) {
		t.Skip("this user may not send echo requests: ", err)
	}
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	target := netip.MustParseAddr("127.0.0.9")
	if err := conn.Send(target, 3, []byte("here")); err != nil {
		t.Fatal(err)
	}
	if reply, err := conn.Receive(); err != nil || reply.From != target || reply.Seq != 3 {
		t.Errorf("got %+v, %v", reply, err)
	}
}

func TestNameServers(t *testing.T) {
	path := filepath.Join(t.TempDir(), "resolv.conf")
	text := "# made by hand\nsearch fernhollow.example\nnameserver 10.40.1.10\nnameserver nonsense\nnameserver 2001:db8::53 # second\n"
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	got := nameServers(path)
	if len(got) != 2 || got[0] != netip.MustParseAddr("10.40.1.10") || got[1] != netip.MustParseAddr("2001:db8::53") {
		t.Errorf("got %v", got)
	}
}

// A group is joined for as long as its socket is open; the system keeps a list (IGMP, RFC 3376).
func TestGroupIsJoinedWhileOpen(t *testing.T) {
	w, err := New("lo")
	if err != nil {
		t.Fatal(err)
	}
	const asListed = "07FFFFEF" // 239.255.255.7, as the list writes it on machines of this byte order
	member := func() bool {
		list, err := os.ReadFile("/proc/net/igmp")
		if err != nil {
			t.Skip("this system keeps no such list: ", err)
		}
		return strings.Contains(string(list), asListed) || strings.Contains(string(list), "EFFFFF07")
	}
	conn, err := w.ListenPacket(t.Context(), "udp", netip.MustParseAddrPort("239.255.255.7:0"))
	if err != nil {
		t.Fatal(err)
	}
	if !member() {
		t.Error("the group was not joined")
	}
	if err := conn.Close(); err != nil || member() {
		t.Errorf("it was not left: %v", err)
	}
}
