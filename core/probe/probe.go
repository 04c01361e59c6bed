// Package probe asks one device one thing at a time and turns what it says into evidence. One file per protocol.
// Whatever a device says is hostile: every exchange has a deadline and every answer a size.
package probe

import (
	"bytes"
	"context"
	"errors"
	"io"
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
	items  []evidence.Item
}

// add notes a value; an empty one tells nothing and is left out.
func (f *found) add(source evidence.Source, key string, raw []byte) {
	if value := evidence.Clean(raw); value != "" {
		f.items = append(f.items, evidence.Item{Source: source, Key: key, Port: f.port, Value: value, At: time.Now().UTC()})
	}
}

// FirstWords asks an accepted connection what is behind it, in the way the port number suggests, and closes it.
// A device that says nothing, or nonsense, gives no evidence; that is no error. The dialer serves exchanges that are sent
// on to another place of the same device.
func FirstWords(ctx context.Context, dialer Dialer, conn net.Conn, addr netip.AddrPort) []evidence.Item {
	defer conn.Close()
	_ = conn.SetDeadline(time.Now().Add(exchangeWait))
	stop := context.AfterFunc(ctx, func() { _ = conn.SetDeadline(time.Unix(1, 0)) })
	defer stop()
	f := &found{port: evidence.TCP(addr.Port()), dialer: dialer, zone: addr.Addr().Zone()}
	if talk := talkerFor(addr.Port()); talk != nil {
		talk(ctx, conn, addr, f)
	}
	return f.items
}

// talker leads one exchange.
type talker func(ctx context.Context, conn net.Conn, addr netip.AddrPort, f *found)

// clientFirst are ports whose services wait for the client, so that there is no greeting to wait for (IANA Service Name
// and Transport Protocol Port Number Registry).
var clientFirst = []uint16{53, 102, 135, 139, 389, 445, 502, 515, 636, 1883, 2049, 2404, 3389, 4840, 5060, 5061, 8883, 9100, 20000, 44818, 47808}

// talkerFor tells how to speak to a port. Where no protocol is known for it, nothing is sent and a greeting waited for:
// some services print, move or fall over when they are sent what they do not know.
func talkerFor(port uint16) talker {
	switch port {
	case 21, 2121:
		return greeting(evidence.SourceFTP, evidence.KeyFTPGreeting)
	case 22, 2222:
		return talkSSH
	case 23, 2323:
		return talkTelnet
	case 25, 587:
		return greeting(evidence.SourceMail, evidence.KeySMTP)
	case 110:
		return greeting(evidence.SourceMail, evidence.KeyPOP)
	case 143:
		return greeting(evidence.SourceMail, evidence.KeyIMAP)
	case 80, 81, 631, 3000, 5000, 5985, 7080, 8000, 8008, 8080, 8081, 8088, 8888, 9000, 9090, 10000:
		return talkHTTP
	case 443, 4443, 5001, 5986, 8443, 8843, 9443:
		return talkHTTPS
	case 554, 8554:
		return talkRTSP
	}
	if slices.Contains(clientFirst, port) {
		return nil
	}
	return greeting(evidence.SourceText, evidence.KeyText)
}

// Speaks reports whether there is a way to speak to a port of that number, rather than only to listen.
func Speaks(port uint16) bool {
	switch port {
	case 21, 22, 23, 25, 80, 110, 143, 443, 554, 587, 631, 8000, 8080, 8443:
		return true
	}
	return false
}

// greeting waits for what a service says of its own accord.
func greeting(source evidence.Source, key string) talker {
	return func(_ context.Context, conn net.Conn, _ netip.AddrPort, f *found) {
		_ = conn.SetReadDeadline(time.Now().Add(greetingWait))
		f.add(source, key, firstLine(readGreeting(conn, plain)))
	}
}

// talkTelnet waits for what a terminal would show; options that the device offers are left open (RFC 854).
func talkTelnet(_ context.Context, conn net.Conn, _ netip.AddrPort, f *found) {
	_ = conn.SetReadDeadline(time.Now().Add(greetingWait))
	f.add(evidence.SourceText, evidence.KeyTelnet, firstLine(readGreeting(conn, stripTelnet)))
}

func plain(raw []byte) []byte { return raw }

// readGreeting reads until a line of the text within is whole, or the time is up, and gives the text.
func readGreeting(r io.Reader, text func(raw []byte) []byte) []byte {
	buf := make([]byte, 0, evidence.MaxValue)
	for len(buf) < cap(buf) {
		n, err := r.Read(buf[len(buf):cap(buf)])
		buf = buf[:len(buf)+n]
		if err != nil || bytes.IndexByte(bytes.TrimLeft(text(buf), "\r\n"), '\n') >= 0 {
			break
		}
	}
	return text(buf)
}

// firstLine gives the first line that is not blank.
func firstLine(text []byte) []byte {
	line, _, _ := bytes.Cut(bytes.TrimLeft(text, "\r\n"), []byte("\n"))
	return bytes.TrimRight(line, "\r")
}

// Telnet commands (RFC 854): IAC starts one, WILL to DONT take one option byte, SB runs to IAC SE.
const (
	telnetIAC  = 255
	telnetDont = 254
	telnetWill = 251
	telnetSB   = 250
	telnetSE   = 240
)

// stripTelnet takes option negotiation out of a text.
func stripTelnet(raw []byte) []byte {
	if bytes.IndexByte(raw, telnetIAC) < 0 {
		return raw
	}
	text := make([]byte, 0, len(raw))
	for i := 0; i < len(raw); i++ {
		if raw[i] != telnetIAC || i+1 == len(raw) {
			text = append(text, raw[i])
			continue
		}
		i++
		switch command := raw[i]; {
		case command == telnetIAC:
			text = append(text, telnetIAC)
		case command >= telnetWill && command <= telnetDont:
			i++
		case command == telnetSB:
			end := bytes.Index(raw[i:], []byte{telnetIAC, telnetSE})
			if end < 0 {
				return text
			}
			i += end + 1
		}
	}
	return text
}
