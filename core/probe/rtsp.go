package probe

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net"
	"net/netip"
	"net/textproto"
	"strings"

	"airdrift/core/evidence"
)

// Keys of the facts.
const (
	keyRTSPServer = "rtsp.server"
	keyRTSPStatus = "rtsp.status"
	keyRTSPRealm  = "rtsp.realm"
)

var _ = register(Protocol{
	Name: "rtsp", Source: evidence.SourceRTSP, Cost: Light,
	Ports: []uint16{554, 8554}, Usual: []uint16{554}, Telling: []uint16{554, 8554}, Talk: talkRTSP,
	Facts: []evidence.Fact{
		{Key: keyRTSPServer, Says: "the field Server", Standard: "RFC 7826", Example: "Stream 1.8", Names: 9, Describes: true},
		{Key: keyRTSPStatus, Says: "answer to OPTIONS", Standard: "RFC 7826", Example: "200 OK"},
		{Key: keyRTSPRealm, Says: "the protection space that a description of the stream is wanted for", Standard: "RFC 7826, 19.1", Example: "Gaze 5", Names: 9, Describes: true},
	},
})

// talkRTSP asks what a media server can do (RFC 7826, 13.1), which needs no sign-in, and for the description of its stream, of
// which the sign-in names the device (13.2 and 19.1). Nothing is played.
func talkRTSP(_ context.Context, conn net.Conn, addr netip.AddrPort, f *found) {
	at := netip.AddrPortFrom(addr.Addr().WithZone(""), addr.Port())
	reader := textproto.NewReader(bufio.NewReader(io.LimitReader(conn, maxAnswer)))
	if _, err := io.WriteString(conn, "OPTIONS * RTSP/1.0\r\nCSeq: 1\r\nUser-Agent: airdrift\r\n\r\n"); err != nil || !readRTSP(reader, f) {
		return
	}
	if _, err := fmt.Fprintf(conn, "DESCRIBE rtsp://%s/ RTSP/1.0\r\nCSeq: 2\r\nAccept: application/sdp\r\nUser-Agent: airdrift\r\n\r\n", at); err == nil {
		readRTSPRealm(reader, f)
	}
}

// readRTSP reads the answer to OPTIONS, and reports whether it was one.
func readRTSP(reader *textproto.Reader, f *found) bool {
	code, header, ok := rtspAnswer(reader)
	if ok {
		f.add(evidence.SourceRTSP, keyRTSPStatus, []byte(code))
		f.add(evidence.SourceRTSP, keyRTSPServer, []byte(header.Get("Server")))
	}
	return ok
}

func readRTSPRealm(reader *textproto.Reader, f *found) {
	if _, header, ok := rtspAnswer(reader); ok {
		f.add(evidence.SourceRTSP, keyRTSPRealm, []byte(realm(header.Values("Www-Authenticate"))))
		if len(evidence.Values(f.items, keyRTSPServer)) == 0 {
			f.add(evidence.SourceRTSP, keyRTSPServer, []byte(header.Get("Server")))
		}
	}
}

// rtspAnswer reads one answer. A header that breaks off still gives the fields before the break.
func rtspAnswer(reader *textproto.Reader) (code string, header textproto.MIMEHeader, ok bool) {
	status, err := reader.ReadLine()
	if err != nil || !strings.HasPrefix(status, "RTSP/") {
		return "", nil, false
	}
	_, code, _ = strings.Cut(status, " ")
	header, _ = reader.ReadMIMEHeader()
	return code, header, true
}
