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
	keySMTP      = "mail.smtp"
	keySMTPHello = "mail.hello"
)

var _ = register(Protocol{
	Name: "smtp", Source: evidence.SourceMail, Cost: Light,
	Ports: []uint16{25, 587}, Usual: []uint16{25, 587}, Telling: []uint16{25}, Talk: talkSMTP,
	Facts: []evidence.Fact{
		{Key: keySMTP, Says: "first line of port 25 or 587", Standard: "RFC 5321", Example: "220 acorn.example ESMTP", Names: 5, Describes: true, By: evidence.TheKeeper},
		{Key: keySMTPHello, Says: "the name in the answer to EHLO", Standard: "RFC 5321, 4.1.1.1", Example: "acorn.example"},
	},
})

// talkSMTP hears the greeting and asks what the server can do (RFC 5321, 4.1.1.1).
func talkSMTP(_ context.Context, conn net.Conn, _ netip.AddrPort, f *found) {
	line := ask(conn, bufio.NewReader(io.LimitReader(conn, maxAnswer)), f, evidence.SourceMail, keySMTP, "EHLO airdrift.invalid\r\n", "220")
	if strings.HasPrefix(line, "250") && len(line) > 4 {
		f.add(evidence.SourceMail, keySMTPHello, []byte(line[4:]))
	}
	_, _ = io.WriteString(conn, "QUIT\r\n") // a courtesy; we are going anyway
}
