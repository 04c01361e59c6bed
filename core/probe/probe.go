// Package probe asks one device one thing at a time and turns what it says into evidence. One file per protocol.
// Whatever a device says is hostile: every exchange has a deadline and every answer a size.
package probe

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"slices"
	"syscall"
	"time"

	"airdrift/core/evidence"
)

const (
	// maxAnswer is the most that is read of one answer, in bytes.
	maxAnswer = 64 << 10
	// greetingWait is how long a service that speaks first is given to do so.
	greetingWait = 1500 * time.Millisecond
	// exchangeWait bounds a whole exchange with one service after it has accepted.
	exchangeWait = 6 * time.Second
)

// Dialer opens connections; wire.Wire is one.
type Dialer interface {
	DialContext(ctx context.Context, network string, addr netip.AddrPort) (net.Conn, error)
}

// Outcome is how a port answered an attempt to connect.
type Outcome int

// The outcomes there are.
const (
	Silent      Outcome = iota // nothing came back in time
	Open                       // the connection was accepted
	Refused                    // the device answered that nothing listens there
	Unreachable                // a system on the way, or our own, says there is no way there
)

// Connect tries to open a TCP connection and tells how that went; conn is nil unless the outcome is Open.
// err is set only where the fault is on our side.
func Connect(ctx context.Context, d Dialer, addr netip.AddrPort, wait time.Duration) (conn net.Conn, rtt time.Duration, outcome Outcome, err error) {
	dialCtx, cancel := context.WithTimeout(ctx, wait)
	defer cancel()
	start := time.Now()
	conn, err = d.DialContext(dialCtx, "tcp", addr)
	rtt = time.Since(start)
	switch {
	case err == nil:
		return conn, rtt, Open, nil
	case errors.Is(err, syscall.ECONNREFUSED), errors.Is(err, syscall.ECONNRESET):
		return nil, rtt, Refused, nil
	case errors.Is(err, syscall.EHOSTUNREACH), errors.Is(err, syscall.ENETUNREACH):
		return nil, 0, Unreachable, nil
	case ctx.Err() != nil:
		return nil, 0, Silent, ctx.Err()
	case isTimeout(err):
		return nil, 0, Silent, nil
	}
	return nil, 0, Silent, err
}

func isTimeout(err error) bool {
	var timeout net.Error
	return errors.Is(err, context.DeadlineExceeded) || errors.Is(err, syscall.ETIMEDOUT) ||
		errors.As(err, &timeout) && timeout.Timeout()
}

// found collects the evidence of one exchange at one port.
type found struct {
	port   evidence.Port
	dialer Dialer // for exchanges that need a further connection to the same device
	zone   string // of a link-local address

	thorough bool // more connections than one may be opened to learn more of the same service
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

// FirstWords asks an accepted connection what is behind it, in the way the port number suggests, and closes it.
// A device that says nothing, or nonsense, gives no evidence; that is no error. The dialer serves exchanges that are sent
// on to another place of the same device.
// Further connections are opened only where thorough is set.
func FirstWords(ctx context.Context, dialer Dialer, conn net.Conn, addr netip.AddrPort, thorough bool) []evidence.Item {
	defer conn.Close()
	_ = conn.SetDeadline(time.Now().Add(exchangeWait))
	stop := context.AfterFunc(ctx, func() { _ = conn.SetDeadline(time.Unix(1, 0)) })
	defer stop()
	f := &found{port: evidence.TCP(addr.Port()), dialer: dialer, zone: addr.Addr().Zone(), thorough: thorough}
	if talk := talkerFor(addr.Port()); talk != nil {
		talk(ctx, conn, addr, f)
	}
	return f.items
}

// talker leads one exchange.
type talker func(ctx context.Context, conn net.Conn, addr netip.AddrPort, f *found)

// clientFirst are ports whose services wait for the client, so that there is no greeting to wait for (IANA Service Name
// and Transport Protocol Port Number Registry).
var clientFirst = []uint16{53, 102, 135, 139, 502, 515, 636, 2049, 2404, 4840, 5061, 9100, 20000, 44818, 47808}

// talkers tell how to speak to a port. Where no protocol is known for it, nothing is sent and a greeting waited for: some
// services print, move or fall over when they are sent what they do not know.
var talkers = map[uint16]talker{
	21: talkFTP, 2121: talkFTP,
	22: talkSSH, 2222: talkSSH,
	23: talkTelnet, 2323: talkTelnet,
	25: talkSMTP, 587: talkSMTP,
	110:  greeting(evidence.SourceMail, evidence.KeyPOP),
	143:  greeting(evidence.SourceMail, evidence.KeyIMAP),
	389:  talkLDAP,
	445:  talkSMB,
	554:  talkRTSP,
	8554: talkRTSP,
	631:  talkIPP,
	1883: talkMQTT,
	8883: talkMQTTS,
	3389: talkRDP,
	5060: talkSIP,
	5900: talkVNC, 5901: talkVNC,
}

func init() {
	for _, port := range []uint16{80, 81, 3000, 5000, 5985, 7080, 8000, 8008, 8080, 8081, 8088, 8888, 9000, 9090, 10000} {
		talkers[port] = talkHTTP
	}
	for _, port := range []uint16{443, 4443, 5001, 5986, 8443, 8843, 9443} {
		talkers[port] = talkHTTPS
	}
}

func talkerFor(port uint16) talker {
	if talk := talkers[port]; talk != nil {
		return talk
	}
	if slices.Contains(clientFirst, port) {
		return nil
	}
	return greeting(evidence.SourceText, evidence.KeyText)
}

// HasWords reports whether anything may be heard at an open port of that number.
func HasWords(port uint16) bool { return talkerFor(port) != nil }

// Speaks reports whether there is a way to speak to a port of that number that tells of a device which accepts every
// connection, rather than only to listen.
func Speaks(port uint16) bool {
	switch port {
	case 21, 22, 23, 25, 80, 110, 143, 443, 554, 587, 631, 8000, 8080, 8443:
		return true
	}
	return false
}
