package probe

import (
	"bufio"
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"io"
	"net"
	"net/netip"
	"net/textproto"
	"net/url"
	"regexp"
	"strings"

	"airdrift/core/evidence"
)

// Keys of the facts.
const (
	keySIPStatus = "sip.status"
	keySIPAgent  = "sip.agent"
	keySIPServer = "sip.server"
	keySIPAllow  = "sip.allow"
	keySIPNumber = "sip.extension"
)

var _ = register(Protocol{
	Name: "sip", Source: evidence.SourceSIP, Cost: Light,
	Port: evidence.UDP(sipPort), Ask: askSIP,
	Ports: []uint16{sipPort}, Telling: []uint16{sipPort}, Talk: talkSIP,
	Hear: hearSIP,
	Facts: []evidence.Fact{
		{Key: keySIPStatus, Says: "answer to OPTIONS, which rings nowhere", Standard: "RFC 3261, 11.2", Example: "200 OK"},
		{Key: keySIPAgent, Says: "what the telephone calls itself", Standard: "RFC 3261, 11.2", Example: "Calla 10 3.1.4", Names: 12, Describes: true},
		{Key: keySIPServer, Says: "what the server calls itself", Standard: "RFC 3261, 11.2", Example: "Exchange 7", Names: 8, Describes: true},
		{Key: keySIPAllow, Says: "what may be asked of it", Standard: "RFC 3261, 11.2", Example: "INVITE, ACK, BYE"},
		{Key: keySIPNumber, Says: "extension, by the place where it is called, or as it registers", Standard: "RFC 3261, 10.2 and 11.2", Example: "201"},
	},
})

const sipPort = 5060

// askSIP asks what a telephone or its server can do, which rings nowhere (RFC 3261, 11).
func askSIP(ctx context.Context, q Query) ([]evidence.Item, bool) {
	f, to := q.byDatagram(sipPort)
	request, call := sipOptions("UDP", to)
	err := exchange(ctx, q.Dialer, to, request, q.Wait, func(answer []byte) verdict { return readSIP(bytes.NewReader(answer), call, f) })
	return f.items, err == nil
}

// talkSIP is SIP over TCP.
func talkSIP(_ context.Context, conn net.Conn, addr netip.AddrPort, f *found) {
	request, call := sipOptions("TCP", addr)
	if _, err := conn.Write(request); err == nil {
		readSIP(io.LimitReader(conn, maxAnswer), call, f)
	}
}

// sipOptions makes the request, and the identifier by which the answer is known. Where it comes from is not told: the answer
// goes back to where the request came from (RFC 3581).
func sipOptions(transport string, to netip.AddrPort) (request []byte, call string) {
	var random [12]byte
	_, _ = rand.Read(random[:]) // never fails (crypto/rand)
	call = hex.EncodeToString(random[:])
	host := netip.AddrPortFrom(to.Addr().WithZone(""), to.Port())
	return fmt.Appendf(nil, "OPTIONS sip:%[1]s SIP/2.0\r\nVia: SIP/2.0/%[2]s airdrift.invalid;rport;branch=z9hG4bK%[3]s\r\nMax-Forwards: 70\r\n"+
		"From: <sip:airdrift@airdrift.invalid>;tag=%[3]s\r\nTo: <sip:%[1]s>\r\nCall-ID: %[3]s\r\nCSeq: 1 OPTIONS\r\n"+
		"Contact: <sip:airdrift@airdrift.invalid>\r\nAccept: application/sdp\r\nUser-Agent: airdrift\r\nContent-Length: 0\r\n\r\n", host, transport, call), call
}

func readSIP(r io.Reader, call string, f *found) verdict {
	reader := textproto.NewReader(bufio.NewReader(r))
	status, err := reader.ReadLine()
	if err != nil || !strings.HasPrefix(status, "SIP/2.0 ") {
		return ignore
	}
	header, _ := reader.ReadMIMEHeader() // one that breaks off still gives the fields before
	if id := header.Get("Call-Id"); id != call && header.Get("I") != call {
		return ignore
	}
	code := strings.TrimPrefix(status, "SIP/2.0 ")
	if strings.HasPrefix(code, "1") {
		return ignore // provisional (RFC 3261, 7.2)
	}
	f.add(evidence.SourceSIP, keySIPStatus, []byte(code))
	f.add(evidence.SourceSIP, keySIPAgent, []byte(header.Get("User-Agent")))
	f.add(evidence.SourceSIP, keySIPServer, []byte(header.Get("Server")))
	f.add(evidence.SourceSIP, keySIPAllow, []byte(strings.Join(header.Values("Allow"), ", ")))
	f.add(evidence.SourceSIP, keySIPNumber, sipUser(header.Get("Contact")))
	return enough
}

var sipPlace = regexp.MustCompile(`(?i)\bsips?:([^@;>\s:]{1,64})(?::[^@>\s]*)?@`)

// sipUser gives the user of the address in a field (RFC 3261, 19.1.1); empty where it has none, or none that a person is called by.
func sipUser(field string) []byte {
	m := sipPlace.FindStringSubmatch(field)
	if m == nil {
		return nil
	}
	user, err := url.PathUnescape(m[1])
	if err != nil || strings.EqualFold(user, "anonymous") {
		return nil
	}
	return []byte(user)
}

// hearSIP reads a telephone that registers, where it is heard: on a port that mirrors others, say (RFC 3261, 10.2). What its keeper calls
// it, and what it calls itself, is taken; how it proves who it is, is not.
func hearSIP(d Datagram) ([]evidence.Item, bool) {
	if d.To != sipPort {
		return nil, false
	}
	reader := textproto.NewReader(bufio.NewReader(bytes.NewReader(d.Message)))
	request, err := reader.ReadLine()
	if err != nil || !strings.HasPrefix(request, "REGISTER ") || !strings.HasSuffix(request, " SIP/2.0") {
		return nil, false
	}
	header, _ := reader.ReadMIMEHeader() // one that breaks off still gives the fields before
	f := &found{port: evidence.UDP(sipPort)}
	to := header.Get("To")
	if to == "" {
		to = header.Get("T")
	}
	f.addOnce(evidence.SourceSIP, keySIPNumber, sipUser(to))
	f.addOnce(evidence.SourceSIP, keySIPAgent, []byte(header.Get("User-Agent")))
	return f.items, len(f.items) > 0
}
