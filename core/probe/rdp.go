package probe

import (
	"context"
	"encoding/binary"
	"fmt"
	"net"
	"net/netip"

	"airdrift/core/evidence"
)

// Keys of the facts.
const (
	keyRDPSecurity = "rdp.security"
)

var _ = register(Protocol{
	Name: "rdp", Source: evidence.SourceRDP, Cost: Middling,
	Ports: []uint16{3389}, Telling: []uint16{3389}, Talk: talkRDP,
	Facts: []evidence.Fact{
		{Key: keyRDPSecurity, Says: "the security that a remote desktop wants", Standard: "MS-RDPBCGR, 2.2.1.2", Example: "network level authentication"},
	},
})

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
	confirm, err := readTPKT(conn)
	if err != nil {
		return
	}
	choice := rdpChoice(confirm)
	f.add(evidence.SourceRDP, keyRDPSecurity, []byte(choice))
	if choice == rdpSecurity[1] || choice == rdpSecurity[2] {
		secure(ctx, conn, f)
	}
}

// rdpChoice reads a connection confirm and the negotiation behind it, where there is one.
func rdpChoice(confirm []byte) string {
	const head, response, failure = 7, 2, 3
	if len(confirm) < head || confirm[1] != cotpAccept {
		return ""
	}
	rest := confirm[head:]
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
