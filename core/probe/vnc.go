package probe

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net"
	"net/netip"
	"strings"
	"time"

	"airdrift/core/evidence"
)

// Keys of the facts.
const (
	keyVNCVersion  = "vnc.version"
	keyVNCSecurity = "vnc.security"
)

var _ = register(Protocol{
	Name: "vnc", Source: evidence.SourceVNC, Cost: Light,
	Ports: []uint16{5900, 5901}, Telling: []uint16{5900}, Talk: talkVNC,
	Facts: []evidence.Fact{
		{Key: keyVNCVersion, Says: "version of the protocol", Standard: "RFC 6143, 7.1", Example: "RFB 003.008"},
		{Key: keyVNCSecurity, Says: "ways to sign in", Standard: "RFC 6143, 7.1", Example: "none"},
	},
})

// vncSecurity are the usual types of security (RFC 6143, 7.1.2, and IANA's register of the remote framebuffer protocol).
var vncSecurity = map[byte]string{1: "none", 2: "password", 5: "RA2", 16: "Tight", 18: "TLS", 19: "VeNCrypt", 20: "SASL", 30: "Apple", 35: "Apple"}

// talkVNC agrees on the version and hears which ways to sign in there are (RFC 6143, 7.1); nobody signs in.
func talkVNC(_ context.Context, conn net.Conn, _ netip.AddrPort, f *found) {
	_ = conn.SetReadDeadline(time.Now().Add(greetingWait))
	version := make([]byte, 12)
	if _, err := io.ReadFull(conn, version); err != nil || !bytes.HasPrefix(version, []byte("RFB ")) {
		f.add(evidence.SourceText, evidence.KeyText, firstLine(version))
		return
	}
	f.add(evidence.SourceVNC, keyVNCVersion, version)
	if string(version[4:11]) < "003.007" {
		return // before that the server decides, and what follows would be the sign-in itself
	}
	if _, err := conn.Write(version); err != nil {
		return
	}
	_ = conn.SetReadDeadline(time.Now().Add(greetingWait))
	count := make([]byte, 1)
	if _, err := io.ReadFull(conn, count); err != nil || count[0] == 0 {
		return
	}
	types := make([]byte, count[0])
	if _, err := io.ReadFull(conn, types); err != nil {
		return
	}
	var names []string
	for _, t := range types {
		name := vncSecurity[t]
		if name == "" {
			name = fmt.Sprintf("type %d", t)
		}
		names = keep(names, name)
	}
	f.add(evidence.SourceVNC, keyVNCSecurity, []byte(strings.Join(names, ", ")))
}
