package probe

import (
	"bufio"
	"context"
	"io"
	"net"
	"net/netip"
	"strings"
	"time"

	"airdrift/core/evidence"
)

// Keys of the facts.
const (
	keyFTPSystem = "ftp.system"
	keyFTPNobody = "ftp.anonymous"
)

var _ = register(Protocol{
	Name: "ftp", Source: evidence.SourceFTP, Cost: Light,
	Ports: []uint16{21, 2121}, Usual: []uint16{21}, Telling: []uint16{21}, Talk: talkFTP,
	Parts: []string{"anonymous"},
	Facts: []evidence.Fact{
		{Key: evidence.KeyFTPGreeting, Says: "first line", Standard: "RFC 959", Example: "220 ready", Names: 9, Describes: true},
		{Key: keyFTPSystem, Says: "answer to SYST", Standard: "RFC 959, 4.1.3", Example: "UNIX Type: L8"},
		{Key: keyFTPNobody, Says: "whether it lets anybody in without a name: `let in` or `refused`", Standard: "RFC 1635", Example: "refused"},
	},
})

// talkFTP hears the greeting and asks for the system, which servers tell before anybody signs in (RFC 959, 4.1.3).
func talkFTP(_ context.Context, conn net.Conn, _ netip.AddrPort, f *found) {
	lines := bufio.NewReader(io.LimitReader(conn, maxAnswer))
	line := ask(conn, lines, f, evidence.SourceFTP, evidence.KeyFTPGreeting, "SYST\r\n", "220")
	if strings.HasPrefix(line, "215 ") {
		f.add(evidence.SourceFTP, keyFTPSystem, []byte(strings.TrimPrefix(line, "215 ")))
	}
	if line != "" && !f.off("anonymous") {
		f.add(evidence.SourceFTP, keyFTPNobody, []byte(asNobody(conn, lines)))
	}
	_, _ = io.WriteString(conn, "QUIT\r\n") // a courtesy; we are going anyway
}

// asNobody signs in as nobody in particular, which tells whether anybody may (RFC 1635); no file is looked at. "" where that is not told.
func asNobody(conn net.Conn, lines *bufio.Reader) string {
	for _, command := range []string{"USER anonymous", "PASS airdrift@airdrift.invalid"} {
		_ = conn.SetDeadline(time.Now().Add(exchangeWait)) // servers take seconds over a refusal
		if _, err := io.WriteString(conn, command+"\r\n"); err != nil {
			return ""
		}
		switch reply := readFTP(lines); {
		case strings.HasPrefix(reply, "230"), strings.HasPrefix(reply, "232"):
			return "let in"
		case strings.HasPrefix(reply, "331") && strings.HasPrefix(command, "USER"):
		case strings.HasPrefix(reply, "5"), strings.HasPrefix(reply, "4"), strings.HasPrefix(reply, "332"):
			return "refused"
		default:
			return ""
		}
	}
	return ""
}

// readFTP reads a reply and gives its last line, which has a space behind its code (RFC 959, 4.2).
func readFTP(lines *bufio.Reader) string {
	line := readLine(lines)
	if len(line) < 4 || line[3] != '-' {
		return line
	}
	for next := readLine(lines); next != ""; next = readLine(lines) {
		if strings.HasPrefix(next, line[:3]+" ") {
			return next
		}
	}
	return ""
}
