package probe

import (
	"context"
	"net"
	"net/netip"

	"airdrift/core/evidence"
)

// The facts of HTTPS are those of HTTP and of TLS.
var _ = register(Protocol{
	Name: "https", Source: evidence.SourceHTTP, Cost: Middling,
	Ports: []uint16{443, 4443, 5001, 5986, 8443, 8843, 9443}, Usual: []uint16{443, 8443}, Telling: []uint16{443, 8443}, RollCall: []uint16{443}, Talk: talkHTTPS,
	Parts: []string{"redfish", "webdav"},
	Facts: redfishFacts,
})

// talkHTTPS notes what the certificate says is there, and asks for the start page.
func talkHTTPS(ctx context.Context, conn net.Conn, addr netip.AddrPort, f *found) {
	secured := secure(ctx, conn, f, webProtocols...)
	if secured == nil {
		return
	}
	talkPages(ctx, secured, startPage("https", addr), f)
	askDAV(ctx, startPage("https", addr), f)
	askRedfish(ctx, addr, f)
}

// webProtocols are what we would speak over TLS to a web server (RFC 7301, 6).
var webProtocols = []string{"http/1.1", "http/1.0"}
