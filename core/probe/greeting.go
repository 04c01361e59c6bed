package probe

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"io"
	"net"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"airdrift/core/evidence"
)

// greeting waits for what a service says of its own accord.
func greeting(source evidence.Source, key string) talker {
	return func(_ context.Context, conn net.Conn, _ netip.AddrPort, f *found) {
		_ = conn.SetReadDeadline(time.Now().Add(greetingWait))
		f.add(source, key, firstLine(readGreeting(conn, plain)))
	}
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

// talkFTP hears the greeting and asks for the system, which servers tell before anybody signs in (RFC 959, 4.1.3).
func talkFTP(_ context.Context, conn net.Conn, _ netip.AddrPort, f *found) {
	line := ask(conn, bufio.NewReader(io.LimitReader(conn, maxAnswer)), f, evidence.SourceFTP, evidence.KeyFTPGreeting, "SYST\r\n", "220")
	if strings.HasPrefix(line, "215 ") {
		f.add(evidence.SourceFTP, evidence.KeyFTPSystem, []byte(strings.TrimPrefix(line, "215 ")))
	}
	_, _ = io.WriteString(conn, "QUIT\r\n") // a courtesy; we are going anyway
}

// talkSMTP hears the greeting and asks what the server can do (RFC 5321, 4.1.1.1).
func talkSMTP(_ context.Context, conn net.Conn, _ netip.AddrPort, f *found) {
	line := ask(conn, bufio.NewReader(io.LimitReader(conn, maxAnswer)), f, evidence.SourceMail, evidence.KeySMTP, "EHLO airdrift.invalid\r\n", "220")
	if strings.HasPrefix(line, "250") && len(line) > 4 {
		f.add(evidence.SourceMail, evidence.KeySMTPHello, []byte(line[4:]))
	}
	_, _ = io.WriteString(conn, "QUIT\r\n") // a courtesy; we are going anyway
}

// ask notes the greeting, and where it is of the given code sends a command and gives the first line of the answer. A greeting may
// have several lines, of which the last has a space behind its code.
func ask(conn net.Conn, reader *bufio.Reader, f *found, source evidence.Source, key, command, code string) string {
	_ = conn.SetReadDeadline(time.Now().Add(greetingWait))
	first := readLine(reader)
	f.add(source, key, []byte(first))
	for line := first; strings.HasPrefix(line, code+"-"); {
		line = readLine(reader)
		if strings.HasPrefix(line, code+" ") {
			first = line
			break
		}
		if line == "" {
			return ""
		}
	}
	if !strings.HasPrefix(first, code+" ") && first != code {
		return ""
	}
	_ = conn.SetDeadline(time.Now().Add(greetingWait))
	if _, err := io.WriteString(conn, command); err != nil {
		return ""
	}
	return readLine(reader)
}

// readLine reads a line that is not blank, of evidence.MaxValue bytes at most.
func readLine(reader *bufio.Reader) string {
	var line []byte
	for len(line) < evidence.MaxValue {
		b, err := reader.ReadByte()
		if err != nil || b == '\n' && len(line) > 0 {
			break
		}
		if b != '\n' && b != '\r' {
			line = append(line, b)
		}
	}
	return string(line)
}

// Telnet commands (RFC 854): IAC starts one, WILL to DONT take one option byte, SB runs to IAC SE.
const (
	telnetIAC  = 255
	telnetDont = 254
	telnetDo   = 253
	telnetWont = 252
	telnetWill = 251
	telnetSB   = 250
	telnetSE   = 240
)

// telnetOptions are the names of the usual options (IANA Telnet Options).
var telnetOptions = map[byte]string{
	0: "BINARY", 1: "ECHO", 3: "SGA", 5: "STATUS", 24: "TTYPE", 31: "NAWS", 32: "TSPEED", 33: "LFLOW", 34: "LINEMODE", 35: "XDISPLOC",
	36: "ENVIRON", 37: "AUTHENTICATION", 38: "ENCRYPT", 39: "NEW-ENVIRON", 44: "COM-PORT",
}

// talkTelnet declines every option the device offers (RFC 854, RFC 1143), as many show nothing before that, and hears what a
// terminal would show.
func talkTelnet(_ context.Context, conn net.Conn, _ netip.AddrPort, f *found) {
	_ = conn.SetDeadline(time.Now().Add(greetingWait))
	n := &negotiation{conn: conn}
	shown := readGreeting(n, stripTelnet)
	f.add(evidence.SourceText, evidence.KeyTelnet, firstLine(shown))
	f.add(evidence.SourceText, evidence.KeyTelnetOptions, []byte(strings.Join(n.offered, " ")))
}

// maxDeclined bounds the options that are declined, as two sides could go on for ever.
const maxDeclined = 32

// negotiation declines options as they come by.
type negotiation struct {
	conn    net.Conn
	offered []string
	pending []byte // the beginning of a command that is not whole yet
}

func (n *negotiation) Read(b []byte) (int, error) {
	count, err := n.conn.Read(b)
	n.pending = append(n.pending, b[:count]...)
	n.decline()
	return count, err
}

func (n *negotiation) decline() {
	var reply []byte
	for len(n.pending) > 0 {
		start := bytes.IndexByte(n.pending, telnetIAC)
		if start < 0 {
			n.pending = nil
			break
		}
		n.pending = n.pending[start:]
		if len(n.pending) < 3 {
			break
		}
		command, option := n.pending[1], n.pending[2]
		switch command {
		case telnetWill, telnetDo, telnetWont, telnetDont:
			if answer := declined[command]; answer != 0 && len(n.offered) < maxDeclined {
				n.offered = keep(n.offered, optionText(command, option))
				reply = append(reply, telnetIAC, answer, option)
			}
			n.pending = n.pending[3:]
		default:
			n.pending = n.pending[2:]
		}
	}
	if len(reply) > 0 {
		_, _ = n.conn.Write(reply) // who does not listen says nothing more
	}
}

// declined are the answers by which offers and wishes are declined; what is withdrawn needs none.
var declined = map[byte]byte{telnetWill: telnetDont, telnetDo: telnetWont}

func optionText(command, option byte) string {
	verb := "WILL"
	if command == telnetDo {
		verb = "DO"
	}
	name := telnetOptions[option]
	if name == "" {
		name = strconv.Itoa(int(option))
	}
	return fmt.Sprintf("%s:%s", verb, name)
}

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
