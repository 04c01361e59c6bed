package probe

import (
	"bytes"
	"net/netip"
	"strings"

	"airdrift/core/evidence"
)

// Keys of the facts.
const (
	keySAPSession = "sap.session"
	keySAPTool    = "sap.tool"
	keySAPInfo    = "sap.info"
)

const sapPort = 9875

var _ = register(Protocol{
	Name: "sap", Source: evidence.SourceSAP, Cost: Light,
	Hear:   hearSAP,
	Groups: []Group{{At: netip.MustParseAddrPort("239.255.255.255:9875")}, {At: netip.MustParseAddrPort("224.2.127.254:9875")}},
	Facts: []evidence.Fact{
		{Key: keySAPSession, Says: "name of a stream that it announces", Standard: "RFC 2974; RFC 8866, 5.3", Example: "hall microphones : 8", Describes: true, By: evidence.TheKeeper},
		{Key: keySAPTool, Says: "what announces it", Standard: "RFC 4566, 6", Example: "stage box 3", Describes: true},
		{Key: keySAPInfo, Says: "more of the stream, in words", Standard: "RFC 8866, 5.4", Example: "8 channels", Describes: true, By: evidence.TheKeeper},
	},
})

// maxSessions is how many lines of one announcement are read.
const maxSessions = 64

// sapKeys are the lines of a description that are kept (RFC 8866, 5).
var sapKeys = []struct{ start, key string }{{"s=", keySAPSession}, {"a=tool:", keySAPTool}, {"i=", keySAPInfo}}

// hearSAP reads which streams a device announces, as of sound over the network. Nobody is asked. One that announces for another, by
// another address than its own, is passed over.
func hearSAP(d Datagram) ([]evidence.Item, bool) {
	m := d.Message
	if d.To != sapPort || len(m) < 8 || m[0]>>5 != 1 || m[0]&0x07 != 0 {
		return nil, false // another version, a deletion, or one that is encrypted or compressed (RFC 2974, 3)
	}
	origin := 4
	if m[0]&0x10 != 0 {
		origin = 16
	}
	head := 4 + origin + 4*int(m[1])
	if len(m) < head {
		return nil, false
	}
	if from, ok := netip.AddrFromSlice(m[4 : 4+origin]); !ok || from != d.From.Addr().WithZone("") {
		return nil, false
	}
	text := m[head:]
	if kind, rest, ok := bytes.Cut(text, []byte{0}); ok && bytes.Equal(kind, []byte("application/sdp")) {
		text = rest
	}
	if !bytes.HasPrefix(text, []byte("v=0")) {
		return nil, false
	}
	f := &found{port: evidence.UDP(sapPort)}
	lines := 0
	for line := range strings.Lines(string(text)) {
		if lines++; lines > maxSessions {
			break
		}
		for _, k := range sapKeys {
			if value, ok := strings.CutPrefix(line, k.start); ok {
				f.addOnce(evidence.SourceSAP, k.key, []byte(strings.TrimSpace(value)))
			}
		}
	}
	return f.items, len(f.items) > 0
}
