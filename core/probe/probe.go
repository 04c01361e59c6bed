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
	port  evidence.Port
	items []evidence.Item
}

// add notes a value; an empty one tells nothing and is left out.
func (f *found) add(source evidence.Source, key string, raw []byte) {
	if value := evidence.Clean(raw); value != "" {
		f.items = append(f.items, evidence.Item{Source: source, Key: key, Port: f.port, Value: value, At: time.Now().UTC()})
	}
}

// FirstWords asks an accepted connection what is behind it, in the way the port number suggests, and closes it.
// A device that says nothing, or nonsense, gives no evidence; that is no error.
func FirstWords(ctx context.Context, conn net.Conn, addr netip.AddrPort) []evidence.Item {
	defer conn.Close()
	_ = conn.SetDeadline(time.Now().Add(exchangeWait))
	stop := context.AfterFunc(ctx, func() { _ = conn.SetDeadline(time.Unix(1, 0)) })
	defer stop()
	f := &found{port: evidence.TCP(addr.Port())}
	if talk := talkers[addr.Port()]; talk != nil {
		talk(ctx, conn, addr, f)
	}
	return f.items
}

// talker leads one exchange.
type talker func(ctx context.Context, conn net.Conn, addr netip.AddrPort, f *found)

// talkers tell how to speak to a port. A port that is not here is only connected to: some services print, move or
// fall over when they are sent what they do not know.
var talkers = map[uint16]talker{
	21:    greeting(evidence.SourceFTP, evidence.KeyFTPGreeting),
	22:    talkSSH,
	23:    talkTelnet,
	25:    greeting(evidence.SourceMail, evidence.KeySMTP),
	80:    talkHTTP,
	110:   greeting(evidence.SourceMail, evidence.KeyPOP),
	143:   greeting(evidence.SourceMail, evidence.KeyIMAP),
	443:   talkHTTPS,
	554:   talkRTSP,
	587:   greeting(evidence.SourceMail, evidence.KeySMTP),
	631:   talkHTTP,
	2222:  talkSSH,
	3306:  greeting(evidence.SourceText, evidence.KeyText),
	5000:  talkHTTP,
	5900:  greeting(evidence.SourceText, evidence.KeyText),
	8000:  talkHTTP,
	8008:  talkHTTP,
	8080:  talkHTTP,
	8081:  talkHTTP,
	8088:  talkHTTP,
	8443:  talkHTTPS,
	8554:  talkRTSP,
	8888:  talkHTTP,
	10000: talkHTTP,
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
