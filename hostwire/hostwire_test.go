package hostwire

import (
	"errors"
	"net/netip"
	"os"
	"strings"
	"syscall"
	"testing"

	"airdrift/core/wire"
)

func TestNoRightsKeepsTheCause(t *testing.T) {
	refused := noRights(&os.SyscallError{Syscall: "socket", Err: syscall.EPERM})
	if !errors.Is(refused, wire.ErrNoRights) || !errors.Is(refused, syscall.EPERM) {
		t.Errorf("got %v", refused)
	}
	if other := noRights(syscall.EMFILE); errors.Is(other, wire.ErrNoRights) {
		t.Errorf("too many open files is taken for missing rights: %v", other)
	}
}

func TestAnInterfaceThatWentAway(t *testing.T) {
	w := &Wire{name: "gone0"}
	if link := w.Link(); link.Name != "gone0" || link.Broadcasts() || len(link.Prefixes) > 0 {
		t.Errorf("its link is %+v", link)
	}
	_, dial := w.DialContext(t.Context(), "tcp", netip.MustParseAddrPort("127.0.0.1:1"))
	_, echo := w.Echo(t.Context(), "ip4")
	for what, err := range map[string]error{"a connection": dial, "echo": echo} {
		if err == nil || !strings.Contains(err.Error(), "gone0 has no IPv4 address") {
			t.Errorf("%s by it gave %v", what, err)
		}
	}
	if _, err := w.Frames(t.Context(), wire.EtherTypeARP); err == nil {
		t.Error("frames by it gave no error")
	}
	if _, err := w.Neighbours(t.Context()); err == nil {
		t.Error("its neighbours gave no error")
	}
}

func TestNetworksThatAreNone(t *testing.T) {
	w, err := New("lo")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := w.DialContext(t.Context(), "sctp", netip.MustParseAddrPort("127.0.0.1:1")); err == nil || !strings.Contains(err.Error(), "want tcp or udp") {
		t.Errorf("dialling sctp gave %v", err)
	}
	if _, err := w.ListenPacket(t.Context(), "tcp", netip.MustParseAddrPort("127.0.0.1:0")); err == nil {
		t.Error("a datagram socket over TCP was opened")
	}
	conn, err := w.ListenPacket(t.Context(), "udp", netip.MustParseAddrPort("127.0.0.1:0"))
	if err != nil {
		t.Fatal(err)
	}
	conn.Close()
}

func TestEchoOverIPv6OnLoopback(t *testing.T) {
	w, err := New("lo")
	if err != nil {
		t.Fatal(err)
	}
	conn, err := w.Echo(t.Context(), "ip6")
	if errors.Is(err, wire.ErrNoRights) || errors.Is(err, syscall.ENETUNREACH) {
		t.Skip("this machine or user cannot send echo requests over IPv6: ", err)
	}
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	target := netip.IPv6Loopback()
	if err := conn.Send(target, 7, []byte("here")); err != nil {
		t.Fatal(err)
	}
	if reply, err := conn.Receive(); err != nil || reply.From != target || reply.Seq != 7 || reply.TTL == 0 || string(reply.Data) != "here" {
		t.Errorf("got %+v, %v", reply, err)
	}
	if _, err := w.Echo(t.Context(), "ipx"); err == nil || !strings.Contains(err.Error(), "want ip4 or ip6") {
		t.Errorf("a family that is none gave %v", err)
	}
}

func TestRightsAreFoundByTrying(t *testing.T) {
	w, err := New("lo")
	if err != nil {
		t.Fatal(err)
	}
	rights := wire.RightsOf(t.Context(), w)
	if os.Geteuid() == 0 && (!rights.Frames || !rights.Echo || !rights.Neighbours) {
		t.Errorf("root has the rights %+v", rights)
	}
	if gone := wire.RightsOf(t.Context(), &Wire{name: "gone0"}); gone.Frames || gone.Neighbours {
		t.Errorf("an interface that is gone gives the rights %+v", gone)
	}
}
