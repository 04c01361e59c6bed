//go:build !linux

package hostwire

import (
	"context"
	"net"
	"net/netip"
	"syscall"

	"golang.org/x/net/icmp"

	"airdrift/core/wire"
)

// bindToInterface does nothing here: the local address alone chooses the way out.
func (w *Wire) bindToInterface(_, _ string, _ syscall.RawConn) error { return nil }

// gateways are not known here.
func gateways(int) (four, six netip.Addr) { return netip.Addr{}, netip.Addr{} }

// Frames is not to be had on this system; sweeps do without.
func (w *Wire) Frames(context.Context, uint16) (wire.FrameConn, error) { return nil, wire.ErrNoRights }

// Neighbours is not to be had on this system.
func (w *Wire) Neighbours(context.Context) ([]wire.Neighbour, error) { return nil, wire.ErrNoRights }

// isUp reports whether an interface is switched on.
func isUp(device *net.Interface) bool { return device.Flags&net.FlagUp != 0 }

// plainEcho opens the system's unprivileged echo socket.
func (w *Wire) plainEcho(f family) (net.PacketConn, error) {
	self, err := w.self(f.any)
	if err != nil {
		return nil, err
	}
	return icmp.ListenPacket(f.plain, self.String())
}
