// Package probe asks one device one thing at a time and turns what it says into evidence. One file per protocol.
// Whatever a device says is hostile: every exchange has a deadline and every answer a size.
package probe

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"os"
	"slices"
	"syscall"
	"time"

	"airdrift/core/evidence"
	"airdrift/core/wire"
)

const (
	// maxAnswer is the most that is read of one answer, in bytes.
	maxAnswer = 64 << 10
	// greetingWait is how long a service that speaks first is given to do so.
	greetingWait = 1500 * time.Millisecond
	// exchangeWait bounds a whole exchange with one service after it has accepted.
	exchangeWait = 6 * time.Second
)

// Dialer opens connections. The wait begins when the attempt leaves: what has to be waited for before that, such as a turn, is no
// affair of the device.
type Dialer interface {
	Dial(ctx context.Context, network string, addr netip.AddrPort, wait time.Duration) (net.Conn, error)
}

// Over dials on a wire without a pace.
func Over(w wire.Wire) Dialer { return plainDialer{w} }

type plainDialer struct{ wire.Wire }

// Dial connects within the wait.
func (d plainDialer) Dial(ctx context.Context, network string, addr netip.AddrPort, wait time.Duration) (net.Conn, error) {
	ctx, cancel := context.WithTimeout(ctx, wait)
	defer cancel()
	return d.DialContext(ctx, network, addr)
}

// Outcome is how a port answered an attempt to connect.
type Outcome int

// The outcomes there are.
const (
	Silent      Outcome = iota // nothing came back in time
	Open                       // the connection was accepted
	Refused                    // the device answered that nothing listens there
	Filtered                   // a system on the way, or the device, says that this is not permitted
	Unreachable                // a system on the way, or our own, says there is no way there
)

// OwnFaultError says that our own machine could not ask: it says nothing of the device, and the question may be put again.
type OwnFaultError struct{ Err error }

func (e *OwnFaultError) Error() string { return "this machine could not ask: " + e.Err.Error() }
func (e *OwnFaultError) Unwrap() error { return e.Err }

// ownFaults are the errors by which a system says that it lacks something itself.
var ownFaults = []error{
	syscall.EMFILE, syscall.ENFILE, syscall.ENOBUFS, syscall.ENOMEM, syscall.EADDRNOTAVAIL, syscall.ENETDOWN, syscall.ENODEV, syscall.EAGAIN,
}

// OwnFault wraps an error that says that our own machine lacks something in *OwnFaultError, and gives any other as it is.
func OwnFault(err error) error {
	if err != nil && slices.ContainsFunc(ownFaults, func(fault error) bool { return errors.Is(err, fault) }) && !isTimeout(err) {
		return &OwnFaultError{err}
	}
	return err
}

// OutcomeOf tells from the error of an attempt to connect how the port answered. err is set where the fault is on our side: the
// fence was hit (*wire.OutsideError), our own machine could not ask (*OwnFaultError), or ctx has ended. Whatever else a system may
// report of one device ends nothing.
func OutcomeOf(ctx context.Context, dialled error) (outcome Outcome, err error) {
	var outside *wire.OutsideError
	switch {
	case dialled == nil:
		return Open, nil
	case errors.As(dialled, &outside):
		return Silent, dialled
	case errors.Is(dialled, syscall.ECONNREFUSED), errors.Is(dialled, syscall.ECONNRESET):
		return Refused, nil
	case ctx.Err() != nil:
		return Silent, ctx.Err()
	case isTimeout(dialled):
		return Silent, nil
	case errors.Is(dialled, syscall.EACCES), errors.Is(dialled, syscall.EPERM), errors.Is(dialled, syscall.ENOPROTOOPT):
		return Filtered, nil
	}
	if fault := OwnFault(dialled); fault != dialled {
		return Silent, fault
	}
	return Unreachable, nil
}

// Connect tries to open a TCP connection and tells how that went; conn is nil unless the outcome is Open.
// err is set only where the fault is on our side (OutcomeOf).
func Connect(ctx context.Context, d Dialer, addr netip.AddrPort, wait time.Duration) (conn net.Conn, outcome Outcome, err error) {
	conn, err = d.Dial(ctx, "tcp", addr, wait)
	outcome, err = OutcomeOf(ctx, err)
	return conn, outcome, err
}

func isTimeout(err error) bool {
	var timeout net.Error
	return errors.Is(err, context.DeadlineExceeded) || errors.Is(err, os.ErrDeadlineExceeded) || errors.Is(err, syscall.ETIMEDOUT) ||
		errors.As(err, &timeout) && timeout.Timeout()
}

// found collects the evidence of one exchange at one port.
type found struct {
	port   evidence.Port
	dialer Dialer // for exchanges that need a further connection to the same device
	zone   string // of a link-local address

	thorough bool                                     // more connections than one may be opened to learn more of the same service
	unit     func(unit string, items []evidence.Item) // as in Query; nil where nobody listens
	off      func(part string) bool                   // as in Query
	items    []evidence.Item
}

// add notes a value; an empty one tells nothing and is left out.
func (f *found) add(source evidence.Source, key string, raw []byte) {
	if value := evidence.Clean(raw); value != "" {
		f.items = append(f.items, evidence.Item{Source: source, Key: key, Port: f.port, Value: value, At: time.Now().UTC()})
	}
}

// addOnce is add for what may be met several times in one answer, of which it keeps maxTargets values.
func (f *found) addOnce(source evidence.Source, key string, raw []byte) {
	value, like := evidence.Clean(raw), 0
	for _, it := range f.items {
		if it.Key == key && it.Value == value {
			return
		}
		if it.Key == key {
			like++
		}
	}
	if like < maxTargets {
		f.add(source, key, raw)
	}
}

// FirstWords asks an accepted connection what is behind it, in the protocol of its port, and closes it.
// A device that says nothing, or nonsense, gives no evidence; that is no error. The query's dialer serves exchanges that are sent
// on to another place of the same device.
// Further connections to learn more of the same service are opened only where thorough is set.
func (p *Protocol) FirstWords(ctx context.Context, q Query, conn net.Conn, addr netip.AddrPort, thorough bool) []evidence.Item {
	defer conn.Close()
	defer deadline(ctx, conn)()
	f := &found{port: evidence.TCP(addr.Port()), dialer: q.Dialer, zone: addr.Addr().Zone(), thorough: thorough, unit: q.Unit, off: q.off}
	if p.Talk != nil {
		p.Talk(ctx, conn, addr, f)
	}
	return f.items
}

// deadline bounds a further exchange with a device, as FirstWords bounds the first.
func deadline(ctx context.Context, conn net.Conn) (stop func() bool) {
	_ = conn.SetDeadline(time.Now().Add(exchangeWait))
	return context.AfterFunc(ctx, func() { _ = conn.SetDeadline(time.Unix(1, 0)) })
}
