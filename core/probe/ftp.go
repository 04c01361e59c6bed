package probe

import (
	"bufio"
	"context"
	"io"
	"net"
	"net/netip"
	"strings"

	"airdrift/core/evidence"
)

// Keys of the facts.
const (
	keyFTPSystem = "ftp.system"
)

var _ = register(Protocol{
	Name: "ftp", Source: evidence.SourceFTP, Cost: Light,
	Ports: []uint16{21, 2121}, Usual: []uint16{21}, Telling: []uint16{21}, Talk: talkFTP,
	Facts: []evidence.Fact{
		{Key: evidence.KeyFTPGreeting, Says: "first line", Standard: "RFC 959", Example: "220 ready", Names: 9, Describes: true},
		{Key: keyFTPSystem, Says: "answer to SYST", Standard: "RFC 959, 4.1.3", Example: "UNIX Type: L8"},
	},
})

// talkFTP hears the greeting and asks for the system, which servers tell before anybody signs in (RFC 959, 4.1.3).
func talkFTP(_ context.Context, conn net.Conn, _ netip.AddrPort, f *found) {
	line := ask(conn, bufio.NewReader(io.LimitReader(conn, maxAnswer)), f, evidence.SourceFTP, evidence.KeyFTPGreeting, "SYST\r\n", "220")
	if strings.HasPrefix(line, "215 ") {
		f.add(evidence.SourceFTP, keyFTPSystem, []byte(strings.TrimPrefix(line, "215 ")))
	}
	_, _ = io.WriteString(conn, "QUIT\r\n") // a courtesy; we are going anyway
}
