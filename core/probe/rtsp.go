package probe

import (
	"bufio"
	"context"
	"io"
	"net"
	"net/netip"
	"net/textproto"
	"strings"

	"airdrift/core/evidence"
)

// talkRTSP asks what a media server can do (RFC 7826, 13.1), which needs no sign-in.
func talkRTSP(_ context.Context, conn net.Conn, _ netip.AddrPort, f *found) {
	if _, err := io.WriteString(conn, "OPTIONS * RTSP/1.0\r\nCSeq: 1\r\nUser-Agent: airdrift\r\n\r\n"); err != nil {
		return
	}
	readRTSP(conn, f)
}

func readRTSP(r io.Reader, f *found) {
	reader := textproto.NewReader(bufio.NewReader(io.LimitReader(r, maxAnswer)))
	status, err := reader.ReadLine()
	if err != nil || !strings.HasPrefix(status, "RTSP/") {
		return
	}
	_, code, _ := strings.Cut(status, " ")
	f.add(evidence.SourceRTSP, evidence.KeyRTSPStatus, []byte(code))
	// A header that breaks off still gives the fields before the break.
	header, _ := reader.ReadMIMEHeader()
	f.add(evidence.SourceRTSP, evidence.KeyRTSPServer, []byte(header.Get("Server")))
}
