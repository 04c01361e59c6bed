package probe

import (
	"bytes"
	"crypto/tls"
	"crypto/x509"
	"encoding/binary"
	"io"
	"net"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"unicode/utf16"

	"github.com/miekg/dns"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
)

// A server that wants the terminal's type and offers authentication and encryption before it shows anything.
func TestTelnetNegotiatesAsServersWantIt(t *testing.T) {
	texts := hear(t, 23, func(conn net.Conn) {
		_, _ = conn.Write([]byte("\xff\xfd\x25\xff\xfb\x26\xff\xfd\x18")) // DO AUTHENTICATION, WILL ENCRYPT, DO TTYPE
		answers := make([]byte, 9)
		if _, err := io.ReadFull(conn, answers); err != nil || string(answers) != "\xff\xfc\x25\xff\xfe\x26\xff\xfb\x18" {
			t.Errorf("answered % x, %v", answers, err)
			return
		}
		_, _ = conn.Write([]byte("\xff\xfa\x18\x01\xff\xf0"))
		kind := make([]byte, len("\xff\xfa\x18\x00VT100\xff\xf0"))
		if _, err := io.ReadFull(conn, kind); err != nil || !bytes.Contains(kind, []byte("VT100")) {
			t.Errorf("the type is % x, %v", kind, err)
			return
		}
		_, _ = conn.Write([]byte("\r\n\r\nBallast 3000\r\nlogin: "))
	})
	if !slices.Contains(texts, "text.telnet=Ballast 3000") || !slices.Contains(texts, "text.telnet-options=DO:AUTHENTICATION WILL:ENCRYPT DO:TTYPE") {
		t.Errorf("heard %v", texts)
	}
}

// A server that negotiates for ever is answered so often and no more.
func TestTelnetWithoutEnd(t *testing.T) {
	n := &negotiation{conn: discard{}, agreed: map[byte]bool{}}
	for range 10 * maxAnswered {
		n.pending = append(n.pending, telnetIAC, telnetDo, 24, telnetIAC, telnetSB, 24, 1, telnetIAC, telnetSE)
		n.answer()
	}
	if n.answered < maxAnswered || len(n.offered) != 1 || len(n.pending) > 0 {
		t.Errorf("answered %d, offered %v, pending %d", n.answered, n.offered, len(n.pending))
	}
	n.pending = append([]byte{telnetIAC, telnetSB}, make([]byte, 1<<16)...)
	if n.answer(); len(n.pending) > 0 {
		t.Errorf("a command without an end keeps %d bytes", len(n.pending))
	}
}

// discard takes everything.
type discard struct{ net.Conn }

func (discard) Write(b []byte) (int, error) { return len(b), nil }

func TestNameServerSaysWhatItIs(t *testing.T) {
	texts := hear(t, NamePort, func(conn net.Conn) {
		exchange := dns.Conn{Conn: conn}
		for {
			q, err := exchange.ReadMsg()
			if err != nil {
				return
			}
			a := new(dns.Msg).SetReply(q)
			if name := q.Question[0].Name; q.Question[0].Qclass != dns.ClassCHAOS {
				t.Errorf("asked for %v", q.Question)
			} else if name == "version.bind." || name == "id.server." {
				a.Answer = []dns.RR{&dns.TXT{Hdr: dns.RR_Header{Name: name, Rrtype: dns.TypeTXT, Class: dns.ClassCHAOS}, Txt: []string{name + " says"}}}
			} else {
				a.Rcode = dns.RcodeRefused
			}
			if exchange.WriteMsg(a) != nil {
				return
			}
		}
	})
	if !slices.Equal(texts, []string{"dns.version=version.bind. says", "dns.server=id.server. says"}) {
		t.Errorf("heard %v", texts)
	}
}

// request makes a DHCP request of a client (RFC 2131, 2).
func request(mac hwaddr.MAC, client netip.Addr, options ...byte) []byte {
	m := make([]byte, dhcpFixed)
	m[0], m[1], m[2] = 1, 1, 6
	copy(m[12:16], client.AsSlice())
	copy(m[28:34], mac[:])
	return append(append(append(m, 0x63, 0x82, 0x53, 0x63), options...), 255)
}

func TestRequestsForAnAddressAreHeard(t *testing.T) {
	mac := hwaddr.MustParse("48:9b:34:00:00:01")
	options := append([]byte{53, 1, 3, 0, 12, 5}, "phone\x3c\x05udhcp\x37\x03\x01\x03\x06"...)
	nobody := netip.IPv4Unspecified()
	about, ok := hearDHCP(Datagram{From: netip.AddrPortFrom(nobody, 68), To: 67, MAC: mac, Message: request(mac, nobody, options...)})
	if got := texts(about.Items); !ok || about.Addr.IsValid() || got != "dhcp.name=phone|dhcp.vendor=udhcp|dhcp.options=1,3,6" {
		t.Errorf("%s, %s, %v", about.Addr, got, ok)
	}
	own := netip.MustParseAddr("10.40.1.30")
	if about, _ = hearDHCP(Datagram{To: 67, MAC: mac, Message: request(mac, own, options...)}); about.Addr != own {
		t.Errorf("it is about %s", about.Addr)
	}
	if _, ok = hearDHCP(Datagram{To: 67, MAC: hwaddr.MAC{2}, Message: request(mac, own, options...)}); ok {
		t.Error("what a relay passes on is put down to the relay")
	}
}

func TestNamesInAChallenge(t *testing.T) {
	pair := func(kind uint16, text string) []byte {
		raw := binary.LittleEndian.AppendUint16(nil, kind)
		units := utf16.Encode([]rune(text))
		raw = binary.LittleEndian.AppendUint16(raw, uint16(2*len(units)))
		for _, u := range units {
			raw = binary.LittleEndian.AppendUint16(raw, u)
		}
		return raw
	}
	pairs := slices.Concat(pair(2, "GARDEN"), pair(1, "ACORN"), pair(3, "acorn.example"), pair(0, ""))
	challenge := append([]byte("NTLMSSP\x00\x02\x00\x00\x00"), make([]byte, 44)...)
	binary.LittleEndian.PutUint16(challenge[40:], uint16(len(pairs)))
	binary.LittleEndian.PutUint32(challenge[44:], 56)
	copy(challenge[48:], []byte{10, 0, 0x7c, 0x4f})
	f := &found{}
	readChallenge(append([]byte("envelope"), append(challenge, pairs...)...), f)
	if got := texts(f.items); got != "smb.version=10.0.20348|smb.domain=GARDEN|smb.name=ACORN|smb.host=acorn.example" {
		t.Error(got)
	}
}

// A server that wants a certificate of ours, or will not at all, is known by that.
func TestRefusalsOfTLSTell(t *testing.T) {
	config := &tls.Config{Certificates: []tls.Certificate{selfSigned(t, "cairn")}, ClientAuth: tls.RequireAnyClientCert, MaxVersion: tls.VersionTLS12}
	texts := hear(t, 443, func(conn net.Conn) { _ = tls.Server(conn, config).Handshake() })
	if !slices.ContainsFunc(texts, func(text string) bool { return strings.HasPrefix(text, "tls.alert=") }) {
		t.Errorf("heard %v", texts)
	}
}

func TestPagesThatGoOnByThemselves(t *testing.T) {
	for text, want := range map[string]string{
		`<meta http-equiv="refresh" content="0; url=/start.html">`:     "/start.html",
		`<META HTTP-EQUIV=Refresh CONTENT="1;URL='main.asp'">`:         "main.asp",
		`<meta http-equiv="refresh" content="30">`:                     "",
		`<frameset><frame src="/top.html"><frame src="/x"></frameset>`: "/top.html",
		`<meta name="x" content="0; url=/no">`:                         "",
	} {
		if got := readPage([]byte(text), "text/html").onward; got != want {
			t.Errorf("%s goes on to %q, want %q", text, got, want)
		}
	}
}

// What a reflector passes on is not put down to it.
func TestReflectedRecordsAreOthers(t *testing.T) {
	message := &dns.Msg{MsgHdr: dns.MsgHdr{Response: true}, Answer: []dns.RR{
		&dns.PTR{Hdr: dns.RR_Header{Name: "_ipp._tcp.local.", Rrtype: dns.TypePTR, Class: dns.ClassINET}, Ptr: "Palm house._ipp._tcp.local."},
		&dns.SRV{Hdr: dns.RR_Header{Name: "Palm house._ipp._tcp.local.", Rrtype: dns.TypeSRV, Class: dns.ClassINET}, Port: 631, Target: "acorn.local."},
		&dns.A{Hdr: dns.RR_Header{Name: "acorn.local.", Rrtype: dns.TypeA, Class: dns.ClassINET}, A: net.IPv4(10, 40, 2, 9)},
	}}
	raw, err := message.Pack()
	if err != nil {
		t.Fatal(err)
	}
	if items, ok := hearMDNS(Datagram{From: netip.MustParseAddrPort("10.40.1.1:5353"), Message: raw}); ok {
		t.Errorf("put down to the reflector: %s", texts(items))
	}
	items, ok := hearMDNS(Datagram{From: netip.MustParseAddrPort("10.40.2.9:5353"), Message: raw})
	if !ok || evidence.First(items, evidence.KeyMDNSHost) != "acorn.local" {
		t.Errorf("the responder itself told %s", texts(items))
	}
	if items, ok = hearMDNS(Datagram{From: netip.MustParseAddrPort("[fe80::9]:5353"), Message: raw}); !ok {
		t.Errorf("a responder that speaks by IPv6 told %s", texts(items))
	}
}

// frameOf makes a frame with an IPv4 packet of a protocol.
func frameOf(protocol byte, fragment uint16, body []byte) []byte {
	frame := append(make([]byte, 12), 8, 0, 0x45, 0)
	frame = binary.BigEndian.AppendUint16(frame, uint16(20+len(body)))
	frame = binary.BigEndian.AppendUint16(frame, 1)
	frame = binary.BigEndian.AppendUint16(frame, fragment)
	frame = append(frame, 64, protocol, 0, 0, 10, 40, 1, 1, 10, 40, 1, 250)
	return append(frame, body...)
}

func TestRefusalsOfPacketsAreRead(t *testing.T) {
	about := append([]byte{0x45, 0, 0, 40, 0, 0, 0, 0, 64, 6, 0, 0, 10, 40, 1, 250, 10, 40, 2, 9}, 0, 80, 1, 187, 0, 0, 0, 0)
	heard, ok := ParsePacket(frameOf(protoICMP, 0, append([]byte{3, 13, 0, 0, 0, 0, 0, 0}, about...)))
	if !ok || heard.Refusal == nil || heard.Refusal.Text != "administratively prohibited" || heard.Refusal.To.String() != "10.40.2.9" || heard.From.String() != "10.40.1.1" {
		t.Errorf("%+v, %v", heard.Refusal, ok)
	}
	if heard, _ = ParsePacket(frameOf(protoICMP, 0, append([]byte{3, 3, 0, 0, 0, 0, 0, 0}, about...))); heard.Refusal == nil || heard.Refusal.Text != "" {
		t.Errorf("that nothing listens is %+v", heard.Refusal)
	}
	datagram := append([]byte{0, 123, 0, 123, 0, 12, 0, 0}, "half"...)
	for fragment, whole := range map[uint16]bool{0: true, 0x4000: true, 0x2000: false, 0x0001: false} {
		if _, ok := ParsePacket(frameOf(protoUDP, fragment, datagram)); ok != whole {
			t.Errorf("a packet with the fragment field %#04x is taken for a whole one: %v", fragment, ok)
		}
	}
}

func FuzzHeard(f *testing.F) {
	mac := hwaddr.MAC{0x48, 0x9b, 0x34, 0, 0, 1}
	f.Add(request(mac, asked, 12, 3, 'a', 'b', 'c', 55, 1, 1))
	f.Add(frameOf(protoICMP, 0, append([]byte{3, 13, 0, 0, 0, 0, 0, 0}, make([]byte, 28)...)))
	f.Add(append([]byte("NTLMSSP\x00\x02\x00\x00\x00"), make([]byte, 60)...))
	f.Fuzz(func(t *testing.T, raw []byte) {
		about, _ := hearDHCP(Datagram{To: 67, MAC: mac, Message: raw})
		clean(t, about.Items)
		found := &found{}
		readChallenge(raw, found)
		clean(t, found.items)
		_, _ = ParsePacket(raw)
		n := &negotiation{conn: discard{}, agreed: map[byte]bool{}, pending: bytes.Clone(raw)}
		n.answer()
		_ = readPage(raw, "text/html")
	})
}

// A certificate with a negative serial number, which no authority may issue and some devices have, tells all the same.
func TestOddCertificatesTell(t *testing.T) {
	odd := selfSigned(t, "cairn")
	leaf, err := x509.ParseCertificate(odd.Certificate[0])
	if err != nil {
		t.Fatal(err)
	}
	serial := leaf.SerialNumber.Bytes()
	at := bytes.Index(odd.Certificate[0], append([]byte{2, byte(len(serial))}, serial...))
	if at < 0 || serial[0]&0x80 != 0 {
		t.Fatalf("the serial number %x is not found", serial)
	}
	raw := bytes.Clone(odd.Certificate[0])
	raw[at+2] |= 0x80
	odd.Certificate = [][]byte{raw}
	if negative, err := x509.ParseCertificate(raw); err != nil || negative.SerialNumber.Sign() >= 0 {
		t.Fatalf("the number is %v, %v", negative, err)
	}
	config := &tls.Config{Certificates: []tls.Certificate{odd}}
	texts := hear(t, 443, func(conn net.Conn) { _ = tls.Server(conn, config).Handshake() })
	if !slices.Contains(texts, "tls.subject=cairn") {
		t.Errorf("heard %v", texts)
	}
}
