package probe

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"net/netip"
	"strings"
	"time"

	"airdrift/core/evidence"
)

// rdpSecurity are the protocols that a server of remote desktops may choose (MS-RDPBCGR, 2.2.1.2.1).
var rdpSecurity = map[uint32]string{0: "standard", 1: "TLS", 2: "network level authentication", 4: "RDSTLS", 8: "network level authentication"}

// rdpRequest asks to connect by TLS or network level authentication (MS-RDPBCGR, 2.2.1.1, in the envelope of RFC 1006).
var rdpRequest = []byte{3, 0, 0, 19, 14, 0xe0, 0, 0, 0, 0, 0, 1, 0, 8, 0, 3, 0, 0, 0}

// talkRDP learns which security a remote desktop wants, and where that begins with TLS the certificate, which as a rule names the
// machine (MS-RDPBCGR, 5.4.5).
func talkRDP(ctx context.Context, conn net.Conn, _ netip.AddrPort, f *found) {
	if _, err := conn.Write(rdpRequest); err != nil {
		return
	}
	head := make([]byte, 11) // RFC 1006 header of 4 bytes, connection confirm of 7
	if _, err := io.ReadFull(conn, head); err != nil {
		return
	}
	var rest []byte
	if length := binary.BigEndian.Uint16(head[2:]); length >= 19 {
		rest = make([]byte, 8)
		if _, err := io.ReadFull(conn, rest); err != nil {
			return
		}
	}
	choice := rdpChoice(head, rest)
	f.add(evidence.SourceRDP, evidence.KeyRDPSecurity, []byte(choice))
	if choice == rdpSecurity[1] || choice == rdpSecurity[2] {
		secure(ctx, conn, f)
	}
}

// rdpChoice reads a connection confirm and the negotiation behind it, where there is one.
func rdpChoice(head, rest []byte) string {
	const confirm, response, failure = 0xd0, 2, 3
	if len(head) < 11 || head[0] != 3 || head[5] != confirm {
		return ""
	}
	if len(rest) < 8 {
		return rdpSecurity[0]
	}
	choice := binary.LittleEndian.Uint32(rest[4:])
	switch rest[0] {
	case response:
		return rdpSecurity[choice]
	case failure:
		return fmt.Sprintf("refused (code %d)", choice)
	}
	return rdpSecurity[0]
}

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
	f.add(evidence.SourceVNC, evidence.KeyVNCVersion, version)
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
	f.add(evidence.SourceVNC, evidence.KeyVNCSecurity, []byte(strings.Join(names, ", ")))
}
