//go:build !linux

package hostwire

import (
	"context"
	"net/netip"
	"syscall"

	"airdrift/core/wire"
)

// bindToInterface does nothing here: the local address alone chooses the way out.
func (w *Wire) bindToInterface(_, _ string, _ syscall.RawConn) error { return nil }

// gateway is not known here.
func gateway(int) netip.Addr { return netip.Addr{} }

// Frames is not to be had on this system; sweeps do without.
func (w *Wire) Frames(context.Context, uint16) (wire.FrameConn, error) { return nil, wire.ErrNoRights }

// Neighbours is not to be had on this system.
func (w *Wire) Neighbours(context.Context) ([]wire.Neighbour, error) { return nil, wire.ErrNoRights }
