package probe

import (
	"bytes"
	"context"
	"fmt"
	"net"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"airdrift/core/evidence"
)

// Keys of the facts.
const (
	keyTelnet        = "text.telnet"
	keyTelnetOptions = "text.telnet-options"
)

var _ = register(Protocol{
	Name: "telnet", Source: evidence.SourceText, Cost: Light,
	Ports: []uint16{23, 2323}, Usual: []uint16{23}, Telling: []uint16{23}, Talk: talkTelnet,
	Facts: []evidence.Fact{
		{Key: keyTelnet, Says: "first line on port 23, option negotiation taken out", Standard: "RFC 854", Example: "login:", Names: 9, Describes: true},
		{Key: keyTelnetOptions, Says: "options that it offers (WILL) or wishes (DO)", Standard: "RFC 854, RFC 1143", Example: "WILL:ECHO DO:NAWS"},
	},
})

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

// telnetWait bounds the whole of a negotiation: servers look up who calls, and start a program, before they show anything.
const telnetWait = 5 * time.Second

// talkTelnet negotiates as a plain terminal does (RFC 854, RFC 1143): it has a type and lets the server echo, and declines all else,
// authentication and encryption among it, as many servers show nothing before that is settled. It hears what a terminal would show.
func talkTelnet(_ context.Context, conn net.Conn, _ netip.AddrPort, f *found) {
	_ = conn.SetDeadline(time.Now().Add(telnetWait))
	n := &negotiation{conn: conn, agreed: map[byte]bool{}}
	shown := readShown(n, telnetWait)
	f.add(evidence.SourceText, keyTelnet, firstLine(shown))
	f.add(evidence.SourceText, keyTelnetOptions, []byte(strings.Join(n.offered, " ")))
}

// readShown reads until a line is whole, or nothing more has come for a while after the beginning of one, and gives the text.
func readShown(n *negotiation, most time.Duration) []byte {
	until := time.Now().Add(most)
	buf := make([]byte, 0, 2*evidence.MaxValue)
	for len(buf) < cap(buf) {
		if len(bytes.TrimSpace(stripTelnet(buf))) > 0 {
			if lull := time.Now().Add(2 * lull); lull.Before(until) {
				_ = n.conn.SetReadDeadline(lull)
			}
		}
		count, err := n.Read(buf[len(buf):cap(buf)])
		buf = buf[:len(buf)+count]
		if err != nil || bytes.IndexByte(bytes.TrimLeft(stripTelnet(buf), "\r\n"), '\n') >= 0 {
			break
		}
	}
	return stripTelnet(buf)
}

// maxAnswered bounds the options that are answered, as two sides could go on for ever.
const maxAnswered = 64

// Options that are agreed to: the server echoes and goes on without being asked (RFC 857, RFC 858), and hears the terminal's type
// (RFC 1091).
const (
	optionEcho, optionGoAhead, optionType = 1, 3, 24
	typeIs, typeSend                      = 0, 1
)

// terminalType is what the most servers know.
const terminalType = "VT100"

// negotiation answers options as they come by.
type negotiation struct {
	conn     net.Conn
	offered  []string
	agreed   map[byte]bool
	answered int
	pending  []byte // the beginning of a command that is not whole yet
}

func (n *negotiation) Read(b []byte) (int, error) {
	count, err := n.conn.Read(b)
	n.pending = append(n.pending, b[:count]...)
	n.answer()
	return count, err
}

func (n *negotiation) answer() {
	var reply []byte
	for len(n.pending) > 0 {
		start := bytes.IndexByte(n.pending, telnetIAC)
		if start < 0 {
			n.pending = nil
			break
		}
		n.pending = n.pending[start:]
		more, used := n.command()
		if used == 0 {
			break // it is not whole yet
		}
		reply, n.pending = append(reply, more...), n.pending[used:]
	}
	if len(n.pending) > 2*evidence.MaxValue {
		n.pending = nil // a command without an end
	}
	if len(reply) > 0 {
		_, _ = n.conn.Write(reply) // one that does not listen says nothing more
	}
}

// command reads the command at the beginning of what is pending, and gives the answer to it and its length; 0 where it is not whole.
func (n *negotiation) command() (reply []byte, used int) {
	if len(n.pending) < 2 {
		return nil, 0
	}
	switch command := n.pending[1]; command {
	case telnetWill, telnetDo, telnetWont, telnetDont:
		if len(n.pending) < 3 {
			return nil, 0
		}
		return n.option(command, n.pending[2]), 3
	case telnetSB:
		end := bytes.Index(n.pending, []byte{telnetIAC, telnetSE})
		if end < 0 {
			return nil, 0
		}
		if body := n.pending[2:end]; len(body) >= 2 && body[0] == optionType && body[1] == typeSend && n.mayAnswer() {
			reply = append([]byte{telnetIAC, telnetSB, optionType, typeIs}, terminalType...)
			reply = append(reply, telnetIAC, telnetSE)
		}
		return reply, end + 2
	}
	return nil, 2
}

func (n *negotiation) mayAnswer() bool {
	n.answered++
	return n.answered <= maxAnswered
}

// option answers an offer or a wish; what is withdrawn needs no answer, and nor does what was agreed on before.
func (n *negotiation) option(command, option byte) []byte {
	if command != telnetWill && command != telnetDo || !n.mayAnswer() {
		return nil
	}
	n.offered = keep(n.offered, optionText(command, option))
	agrees := command == telnetWill && (option == optionEcho || option == optionGoAhead) || command == telnetDo && (option == optionType || option == optionGoAhead)
	switch {
	case agrees && n.agreed[command^option]:
		return nil
	case agrees:
		n.agreed[command^option] = true
		return []byte{telnetIAC, map[byte]byte{telnetWill: telnetDo, telnetDo: telnetWill}[command], option}
	}
	return []byte{telnetIAC, map[byte]byte{telnetWill: telnetDont, telnetDo: telnetWont}[command], option}
}

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
