package probe

import (
	"bytes"
	"crypto/tls"
	"encoding/binary"
	"io"
	"net"
	"slices"
	"strings"
	"testing"

	"airdrift/core/evidence"
)

// reads is a device that waits for so many bytes before it answers.
func reads(n int, answer string) func(net.Conn) {
	return func(conn net.Conn) {
		if _, err := io.ReadFull(conn, make([]byte, n)); err == nil {
			_, _ = io.WriteString(conn, answer)
		}
		_, _ = io.Copy(io.Discard, conn)
	}
}

// converses is a device that takes turns: each answer follows one read.
func converses(turns ...string) func(net.Conn) {
	return func(conn net.Conn) {
		buf := make([]byte, 4096)
		for i, turn := range turns {
			if i > 0 {
				if _, err := conn.Read(buf); err != nil {
					return
				}
			}
			if turn == "" {
				continue
			}
			if _, err := io.WriteString(conn, turn); err != nil {
				return
			}
		}
		_, _ = io.Copy(io.Discard, conn)
	}
}

func smbAnswer(mode byte) string {
	answer := make([]byte, smbHeader+smbNegotiate)
	copy(answer, "\xfeSMB")
	body := answer[smbHeader:]
	body[2] = mode
	binary.LittleEndian.PutUint16(body[4:], 0x0311)
	copy(body[8:24], "acornacornacorn!")
	binary.LittleEndian.PutUint64(body[40:], 133600000000000000)
	return string(binary.BigEndian.AppendUint32(nil, uint32(len(answer)))) + string(answer)
}

func TestServicesTellWhoTheyAre(t *testing.T) {
	rootEntry := der(0x30, der(2, []byte{1}), der(0x64, der(4), der(0x30,
		der(0x30, der(4, []byte("namingContexts")), der(0x31, der(4, []byte("dc=garden")))),
		der(0x30, der(4, []byte("structuralObjectClass")), der(0x31, der(4, []byte("OpenLDAProotDSE")))),
	)))
	config := &tls.Config{Certificates: []tls.Certificate{selfSigned(t, "acorn")}}
	desktop := func(conn net.Conn) {
		if _, err := io.ReadFull(conn, make([]byte, 19)); err != nil {
			return
		}
		_, _ = io.WriteString(conn, "\x03\x00\x00\x13\x0e\xd0\x00\x00\x12\x34\x00\x02\x00\x08\x00\x02\x00\x00\x00")
		_ = tls.Server(conn, config).HandshakeContext(t.Context())
	}
	for _, tt := range []struct {
		name   string
		port   uint16
		device func(net.Conn)
		want   string
	}{
		{"files", 21, converses("220-Welcome\r\n220 Climate 900\r\n", "215 UNIX Type: L8\r\n", "221 bye\r\n"), "ftp.greeting=220-Welcome ftp.system=UNIX Type: L8"},
		{"files that are full", 21, converses("421 too many\r\n"), "ftp.greeting=421 too many"},
		{"mail", 25, converses("220 acorn ESMTP\r\n", "250-acorn.example\r\n250 SIZE\r\n"), "mail.smtp=220 acorn ESMTP mail.hello=acorn.example"},
		{"a desktop that wants a sign-in first", 3389, desktop, "rdp.security=network level authentication tls.version=TLS 1.3 tls.subject=acorn"},
		{"a desktop of old", 3389, reads(19, "\x03\x00\x00\x0b\x06\xd0\x00\x00\x12\x34\x00"), "rdp.security=standard"},
		{"a desktop that refuses", 3389, reads(19, "\x03\x00\x00\x13\x0e\xd0\x00\x00\x12\x34\x00\x03\x00\x08\x00\x05\x00\x00\x00"), "rdp.security=refused (code 5)"},
		{"a screen for all", 5900, converses("RFB 003.008\n", "\x02\x01\x13"), "vnc.version=RFB 003.008 vnc.security=none, VeNCrypt"},
		{"a screen of old", 5900, converses("RFB 003.003\n"), "vnc.version=RFB 003.003"},
		{"a broker", 1883, reads(len(mqttConnect), "\x20\x02\x00\x05"), "mqtt.answer=refused: not authorised"},
		{"an open broker", 1883, reads(len(mqttConnect), "\x20\x02\x00\x00"), "mqtt.answer=accepted without a name"},
		{"an open broker that tells what it is", 1883, converses("", "\x20\x02\x00\x00", "\x90\x03\x00\x01\x00\x31\x1d\x00\x13$SYS/broker/versionacorn 20"), "mqtt.answer=accepted without a name mqtt.version=acorn 20"},
		{"a file share", 445, reads(len(smbRequest()), smbAnswer(3)), "smb.dialect=3.1.1 smb.signing=required smb.id=61636f726e61636f726e61636f726e21 smb.time=2024-05-12T15:06:40Z"},
		{"a directory", 389, reads(len(rootRequest()), string(rootEntry)), "ldap.context=dc=garden ldap.directory=structuralObjectClass OpenLDAProotDSE"},
		{"a stream with a name", 554, converses("", "RTSP/1.0 200 OK\r\nCSeq: 1\r\n\r\n", "RTSP/1.0 401 No\r\nWWW-Authenticate: Digest realm=\"Gaze 5\"\r\nServer: Stream 1\r\n\r\n"), "rtsp.status=200 OK rtsp.realm=Gaze 5 rtsp.server=Stream 1"},
		{"a page that tells more", 80, answers("HTTP/1.1 200 OK\r\nLink: </d.xml>; rel=\"describedby\"\r\n\r\n<meta name=Generator content='Press 3'><link rel=icon href=/i.png><link rel='manifest' href=/m.json><script>var x</script><p>Hello <b>there</b>"),
			"http.status=200 http.generator=Press 3 http.text=Hello there http.link=manifest /m.json http.link=describedby /d.xml"},
	} {
		if got := strings.Join(hear(t, tt.port, tt.device), " "); got != tt.want && !(strings.Contains(tt.want, "tls.") && strings.HasPrefix(got, tt.want)) {
			t.Errorf("%s: %q, want %q", tt.name, got, tt.want)
		}
	}
}

// printer is an answer to Get-Printer-Attributes.
func printer() []byte {
	answer := []byte{2, 0, 0, 0, 0, 0, 0, 1, ippOperation}
	add := func(tag byte, name, value string) {
		answer = append(answer, tag, 0, byte(len(name)))
		answer = append(answer, name...)
		answer = append(answer, 0, byte(len(value)))
		answer = append(answer, value...)
	}
	add(ippCharset, "attributes-charset", "utf-8")
	add(0x41, "printer-make-and-model", "not in the right group")
	answer = append(answer, ippPrinter)
	add(0x41, "printer-make-and-model", "Marrowby Inkwell 220")
	add(0x44, "ipp-versions-supported", "1.1")
	add(0x44, "", "2.0")
	add(0x23, "printer-state", "\x00\x00\x00\x05")
	add(0x35, "printer-info", "\x00\x02en\x00\x09palm hall")
	add(0x41, "printer-device-id", "MFG:Marrowby;CMD:PJL,PS;")
	return append(answer, ippEnd)
}

func TestPrinter(t *testing.T) {
	f := &found{}
	if !readPrinter(printer(), f) {
		t.Error("it is not taken for a printer")
	}
	const want = "ipp.model=Marrowby Inkwell 220|ipp.version=1.1|ipp.version=2.0|ipp.state=stopped|ipp.info=palm hall|ipp.device=MFG:Marrowby;CMD:PJL,PS;"
	if got := texts(f.items); got != want {
		t.Errorf("%s\nwant %s", got, want)
	}
	if !printsByPJL(f.items) || printsByPJL([]evidence.Item{{Key: evidence.KeyIPPDevice, Value: "MFG:Tag;CMD:ZPL;"}}) {
		t.Error("who understands the language of jobs is not told from who would print it")
	}
	readPJL([]byte("@PJL INFO ID\r\n\"Inkwell 220\"\r\n\f@PJL INFO STATUS\r\nCODE=10001\r\nONLINE=TRUE\r\n\f"), f)
	if got := texts(f.items[6:]); got != "pjl.id=Inkwell 220|pjl.status=CODE=10001 ONLINE=TRUE" {
		t.Error(got)
	}
}

// The place is told as a civic address; one whose lengths do not fit tells nothing.
func TestLLDPTellsThePlace(t *testing.T) {
	head := append([]byte{1, 0x80, 0xc2, 0, 0, 0x0e, 2, 0, 0, 0, 0, 1, 0x88, 0xcc}, 2, 7, 4, 2, 0, 0, 0, 0, 9)
	told := func(civic ...byte) string {
		value := append([]byte{0x00, 0x12, 0xbb, lldpLocation, lldpCivic}, civic...)
		heard, _ := hearLLDP(append(slices.Clone(head), append([]byte{254, byte(len(value))}, value...)...))
		return evidence.First(heard.Items, keyLLDPLocation)
	}
	if got := told(17, 1, 'X', 'X', 28, 2, '1', '4', 25, 5, 'h', 'o', 'u', 's', 'e', 27, 1, '2'); got != "house, 2, 14" {
		t.Errorf("the place is %q", got)
	}
	for what, civic := range map[string][]byte{"nothing": {}, "no parts": {3, 1, 'X', 'X'}, "another length": {9, 1, 'X', 'X', 28, 2, '1', '4'}, "a part that is cut": {6, 1, 'X', 'X', 28, 20, '1'}} {
		if got := told(civic...); got != "" {
			t.Errorf("%s: the place is %q", what, got)
		}
	}
}

func TestLLDPTells(t *testing.T) {
	frame := append(append([]byte{1, 0x80, 0xc2, 0, 0, 0x0e, 2, 0, 0, 0, 0, 1}, 0x88, 0xcc),
		2, 7, 4, 2, 0, 0, 0, 0, 9, 4, 3, 5, 'p', '1', 10, 5, 'w', 'e', 'a', 'v', 'e', 14, 4, 0, 0x24, 0, 0x20, 16, 12, 5, 1, 10, 40, 1, 2, 2, 0, 0, 0, 1, 0,
		254, 7, 0x00, 0x12, 0xbb, 10, 'X', '-', '1', 0, 0)
	heard, ok := hearLLDP(frame)
	const want = "lldp.chassis=02:00:00:00:00:09|lldp.port=p1|lldp.name=weave|lldp.capability=telephone|lldp.addr=10.40.1.2|lldp.inventory=model X-1"
	if got := texts(heard.Items); !ok || got != want || heard.Addr.String() != "10.40.1.2" || heard.Chassis.String() != "02:00:00:00:00:09" {
		t.Errorf("%s %v\nwant %s", got, ok, want)
	}
	if _, ok := hearLLDP(frame[:14]); ok {
		t.Error("a frame without a chassis is taken for one")
	}
}

func FuzzTables(f *testing.F) {
	f.Add(printer())
	f.Add(rootRequest())
	f.Add([]byte(smbAnswer(1)))
	f.Add([]byte("@PJL INFO ID\r\n\"a\"\r\n\f"))
	f.Fuzz(func(t *testing.T, answer []byte) {
		f := &found{}
		readPrinter(answer, f)
		readRootEntry(answer, f)
		readSMB(answer, f)
		readPJL(answer, f)
		clean(t, f.items)
		_ = rdpChoice(answer)
		if offer, ok := sshOffer(answer); ok && len(offer.hostKeys) == 0 {
			t.Error("an offer without keys")
		}
	})
}

func FuzzPage(f *testing.F) {
	f.Add([]byte("<title>a</title><link rel=icon href=x><meta name=generator content=y>"), "text/html")
	f.Add([]byte("<TITLE"), "text/html; charset=utf-16")
	f.Fuzz(func(t *testing.T, body []byte, contentType string) {
		p := readPage(body, contentType)
		if len(p.text) > maxText+1 || len(p.links) > maxLinks {
			t.Errorf("%d bytes of text and %d links", len(p.text), len(p.links))
		}
		if bytes.Contains(body, []byte("<script")) && strings.Contains(p.text, "<script") && !bytes.Contains(body, []byte("&lt;")) {
			t.Logf("text with markup: %q", p.text) // it is escaped on every way out
		}
	})
}
