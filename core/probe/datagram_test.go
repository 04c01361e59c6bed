package probe

import (
	"bufio"
	"bytes"
	"context"
	"encoding/asn1"
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"os"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"testing/synctest"
	"time"

	"github.com/gosnmp/gosnmp"
	"github.com/miekg/dns"

	"airdrift/core/evidence"
)

// texts writes items as "key=value" texts separated by bars.
func texts(items []evidence.Item) string {
	all := make([]string, len(items))
	for i, item := range items {
		all[i] = item.Key + "=" + item.Value
	}
	return strings.Join(all, "|")
}

// queryOf is a question to the device that the tests ask.
func queryOf(d Dialer) Query { return Query{Dialer: d, Addr: asked, Wait: time.Second} }

// responder is a device that answers each datagram with what answer gives, in as many datagrams.
type responder struct {
	answer func(port uint16, question []byte) [][]byte
}

func (r responder) Dial(_ context.Context, network string, addr netip.AddrPort, _ time.Duration) (net.Conn, error) {
	if network != "udp" {
		return nil, syscall.ECONNREFUSED
	}
	ours, theirs := net.Pipe()
	go func() {
		defer theirs.Close()
		buf := make([]byte, 1<<16)
		for {
			n, err := theirs.Read(buf)
			if err != nil {
				return
			}
			for _, answer := range r.answer(addr.Port(), buf[:n]) {
				// Who does not listen any more loses a datagram, and the sender does not wait.
				_ = theirs.SetWriteDeadline(time.Now().Add(5 * time.Millisecond))
				_, _ = theirs.Write(answer)
			}
		}
	}()
	return ours, nil
}

var asked = netip.MustParseAddr("10.40.1.9")

func one(answer []byte) [][]byte { return [][]byte{answer} }

func TestQuestionsByDatagram(t *testing.T) {
	for _, tt := range []struct {
		name   string
		ask    func(ctx context.Context, q Query) ([]evidence.Item, bool)
		answer func(question []byte) [][]byte
		want   string
	}{
		{"a clock", askNTP, func(q []byte) [][]byte {
			a := append([]byte{4<<3 | 4, 1, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 'G', 'P', 'S', 0}, make([]byte, 32)...)
			copy(a[24:32], q[40:48])
			return one(a)
		}, "ntp.version=4|ntp.stratum=1|ntp.reference=GPS"},
		{"somebody else's clock", askNTP, func([]byte) [][]byte { return one(append([]byte{4<<3 | 4, 1}, make([]byte, 46)...)) }, ""},
		{"a telephone", askSIP, func(q []byte) [][]byte {
			_, rest, _ := strings.Cut(string(q), "Call-ID: ")
			call, _, _ := strings.Cut(rest, "\r\n")
			return [][]byte{[]byte("SIP/2.0 100 Trying\r\nCall-ID: " + call + "\r\n\r\n"), []byte("SIP/2.0 200 OK\r\nCall-ID: " + call + "\r\nUser-Agent: Calla 10\r\nAllow: INVITE\r\nAllow: ACK\r\n\r\n")}
		}, "sip.status=200 OK|sip.agent=Calla 10|sip.allow=INVITE, ACK"},
		{"another call's answer", askSIP, func([]byte) [][]byte { return one([]byte("SIP/2.0 200 OK\r\nCall-ID: x\r\nServer: liar\r\n\r\n")) }, ""},
		{"a search", askSSDP, func([]byte) [][]byte {
			answer := []byte("HTTP/1.1 200 OK\r\nST: upnp:rootdevice\r\nSERVER: vspr/2\r\nLOCATION: http://10.40.1.9:80/d.xml\r\n\r\n")
			return [][]byte{answer, answer, []byte("HTTP/1.1 404 No\r\n\r\n"), []byte("junk")}
		}, "upnp.server=vspr/2|upnp.target=upnp:rootdevice|upnp.location=http://10.40.1.9:80/d.xml"},
		{"a camera's match", askWSD, func([]byte) [][]byte {
			return one([]byte(`<e><b><ProbeMatches><ProbeMatch><EndpointReference><Address>urn:uuid:7</Address></EndpointReference><Types>dn:NetworkVideoTransmitter</Types><Scopes>onvif://www.onvif.org/hardware/Gaze%205 x</Scopes></ProbeMatch></ProbeMatches></b></e>`))
		}, "wsd.id=urn:uuid:7|wsd.type=dn:NetworkVideoTransmitter|wsd.scope=onvif://www.onvif.org/hardware/Gaze 5|wsd.scope=x"},
		{"a node's names", askNetBIOS, func(q []byte) [][]byte {
			a := append(append([]byte{}, q[:2]...), 0x84, 0, 0, 0, 0, 1, 0, 0, 0, 0)
			a = append(append(a, q[12:46]...), 0, 0x21, 0, 1, 0, 0, 0, 0, 0, 65, 3)
			a = append(a, "DESK           \x00\x04\x00GARDEN         \x00\x84\x00DESK           \x20\x04\x00"...)
			return one(append(a, 0x90, 0xb8, 0x8d, 0, 0, 1, 0, 0, 0, 0))
		}, "netbios.name=DESK|netbios.group=GARDEN|netbios.role=file server|netbios.mac=90:b8:8d:00:00:01"},
	} {
		synctest.Test(t, func(t *testing.T) { // on fake time
			items, answered := tt.ask(t.Context(), queryOf(responder{func(_ uint16, q []byte) [][]byte { return tt.answer(q) }}))
			if got := texts(items); got != tt.want || answered != (tt.want != "") {
				t.Errorf("%s: %s, %v; want %s", tt.name, got, answered, tt.want)
			}
		})
	}
}

// elsewhere is a device that answers from another port than it is asked at: only who listens for all its ports hears that.
type elsewhere struct{ asked []string }

func (*elsewhere) Dial(context.Context, string, netip.AddrPort, time.Duration) (net.Conn, error) {
	ours, theirs := net.Pipe()
	go func() { _, _ = io.Copy(io.Discard, theirs) }()
	return ours, nil
}

func (e *elsewhere) ListenPacket(context.Context, string, netip.AddrPort) (net.PacketConn, error) {
	return &answersElsewhere{device: e}, nil
}

// answersElsewhere has a stranger's answer before the device's own.
type answersElsewhere struct {
	net.PacketConn
	device *elsewhere
	reads  int
}

func (c *answersElsewhere) WriteTo(b []byte, to net.Addr) (int, error) {
	c.device.asked = append(c.device.asked, to.String()+" "+string(b))
	return len(b), nil
}

func (c *answersElsewhere) ReadFrom(buf []byte) (int, net.Addr, error) {
	c.reads++
	match := func(id string) int {
		return copy(buf, "<e><ProbeMatch><Address>"+id+"</Address><Types>wsdp:Device</Types></ProbeMatch></e>")
	}
	switch c.reads {
	case 1:
		return match("urn:uuid:stranger"), net.UDPAddrFromAddrPort(netip.MustParseAddrPort("10.40.1.8:3702")), nil
	case 2:
		return match("urn:uuid:7"), net.UDPAddrFromAddrPort(netip.AddrPortFrom(asked, 49152)), nil
	}
	return 0, nil, os.ErrDeadlineExceeded
}

func (*answersElsewhere) SetDeadline(time.Time) error     { return nil }
func (*answersElsewhere) SetReadDeadline(time.Time) error { return nil }
func (*answersElsewhere) Close() error                    { return nil }

func TestAnswerFromAnotherPort(t *testing.T) {
	device := &elsewhere{}
	synctest.Test(t, func(t *testing.T) { // on fake time
		items, answered := askWSD(t.Context(), queryOf(device))
		if got := texts(items); got != "wsd.id=urn:uuid:7|wsd.type=wsdp:Device" || !answered {
			t.Errorf("%s, %v", got, answered)
		}
	})
	if len(device.asked) != 1 || !strings.HasPrefix(device.asked[0], "10.40.1.9:3702 ") || !strings.Contains(device.asked[0], ">wsdp:Device<") {
		t.Errorf("who kept silent was asked again %q", device.asked)
	}
}

// Messages name the question that they are to, and who leaves out where its pages are is asked for that.
func TestResolving(t *testing.T) {
	match := func(address string) []evidence.Item {
		message := "<e><Header><MessageID>urn:uuid:9</MessageID><RelatesTo>urn:uuid:1</RelatesTo></Header><Body><ProbeMatch><Address>urn:uuid:&lt;7></Address><XAddrs>" + address + "</XAddrs></ProbeMatch></Body></e>"
		if id, to := wsdMessage([]byte(message)); id != "urn:uuid:9" || to != "urn:uuid:1" {
			t.Errorf("the message is %q to %q", id, to)
		}
		items, ok := hearWSD(Datagram{Message: []byte(message)})
		if !ok {
			t.Fatalf("no match in %s", message)
		}
		return items
	}
	questions, err := resolveQuestions([][]evidence.Item{match(""), match("")})
	if err != nil || len(questions) != 1 || !strings.Contains(string(questions[0]), "urn:uuid:&lt;7&gt;") {
		t.Errorf("to be asked is %q, %v", questions, err)
	}
	if questions, _ = resolveQuestions([][]evidence.Item{match("http://10.40.1.5/x")}); len(questions) > 0 {
		t.Errorf("still to be asked is %q", questions)
	}
}

// A name is asked for by connection, as devices discard what is asked of them alone by datagram.
func TestNameOnTheSegment(t *testing.T) {
	const reverse = "9.1.40.10.in-addr.arpa."
	answers := func(change func(answer *dns.Msg)) dialFunc {
		return func() (net.Conn, error) {
			ours, theirs := net.Pipe()
			go func() {
				defer theirs.Close()
				exchange := dns.Conn{Conn: theirs}
				question, err := exchange.ReadMsg()
				if err != nil {
					return
				}
				answer := new(dns.Msg).SetReply(question)
				answer.Answer = []dns.RR{&dns.PTR{Hdr: dns.RR_Header{Name: reverse, Rrtype: dns.TypePTR, Class: dns.ClassINET}, Ptr: "desk."}}
				change(answer)
				_ = exchange.WriteMsg(answer)
			}()
			return ours, nil
		}
	}
	for _, tt := range []struct {
		name   string
		change func(answer *dns.Msg)
		want   string
	}{
		{"its name", func(*dns.Msg) {}, "llmnr.name=desk"},
		{"another question's answer", func(a *dns.Msg) { a.Id++ }, ""},
		{"another address's name", func(a *dns.Msg) { a.Answer[0].Header().Name = "8.1.40.10.in-addr.arpa." }, ""},
	} {
		if items, _ := askLLMNR(t.Context(), queryOf(answers(tt.change))); texts(items) != tt.want {
			t.Errorf("%s: %s; want %s", tt.name, texts(items), tt.want)
		}
	}
}

// What a device says of itself is read at the places it has named, where those are its own.
func TestMetadata(t *testing.T) {
	const device = `<e><Body><Metadata><MetadataSection><ThisDevice><FriendlyName>Palm house</FriendlyName><FirmwareVersion>9.4</FirmwareVersion><SerialNumber>S-1</SerialNumber></ThisDevice></MetadataSection>` +
		`<MetadataSection><ThisModel><Manufacturer>Lab</Manufacturer><ModelName>Scan 9</ModelName></ThisModel></MetadataSection></Metadata></Body></e>`
	const computer = `<e><Body><Metadata><ThisModel><Manufacturer>Somebody</Manufacturer><ModelName>Publisher</ModelName></ThisModel>` +
		`<Relationship><Host><Types>pub:Computer</Types><Computer>ACORN/Workgroup:GARDEN</Computer></Host></Relationship></Metadata></Body></e>`
	for _, tt := range []struct{ name, place, document, want string }{
		{"a device", "http://10.40.1.9:5357/7", device, "wsd.name=Palm house|wsd.firmware=9.4|wsd.serial=S-1|wsd.maker=Lab|wsd.model=Scan 9"},
		{"a computer's program is not the computer", "http://10.40.1.9:5357/7", computer, "wsd.type=pub:Computer|wsd.computer=ACORN|wsd.program=Somebody"},
		{"another's place", "http://10.40.1.8:5357/7", device, ""},
		{"a place by name", "http://acorn/7", device, ""},
		{"none", "", device, ""},
	} {
		var request string
		dial := dialFunc(func() (net.Conn, error) {
			ours, theirs := net.Pipe()
			go func() {
				defer theirs.Close()
				r, err := http.ReadRequest(bufio.NewReader(theirs))
				if err != nil {
					return
				}
				body, _ := io.ReadAll(r.Body)
				request = r.Method + " " + r.URL.Path + " " + string(body)
				fmt.Fprintf(theirs, "HTTP/1.1 200 OK\r\nContent-Length: %d\r\n\r\n%s", len(tt.document), tt.document)
			}()
			return ours, nil
		})
		told := []evidence.Item{{Key: evidence.KeyWSDID, Value: "urn:uuid:<7>"}, {Key: evidence.KeyWSDAddress, Value: tt.place}}
		if got := texts(metadata(t.Context(), dial, asked, told)); got != tt.want {
			t.Errorf("%s: %s; want %s", tt.name, got, tt.want)
		}
		if tt.want != "" && (!strings.HasPrefix(request, "POST /7 ") || !strings.Contains(request, "<w:To>urn:uuid:&lt;7&gt;</w:To>")) {
			t.Errorf("%s: it was asked %s", tt.name, request)
		}
	}
}

// A document without an end of names is not kept whole.
func TestFactsOfOneDocumentAreBounded(t *testing.T) {
	var document strings.Builder
	for i := range 4000 {
		fmt.Fprintf(&document, "<device><ThisModel><deviceType>%d</deviceType><Manufacturer>%[1]d</Manufacturer></ThisModel></device>", i)
	}
	f := &found{}
	readDescription([]byte(document.String()), f)
	readMetadata([]byte(document.String()), f)
	if len(f.items) != 2*maxTargets {
		t.Errorf("%d facts are kept, want %d", len(f.items), 2*maxTargets)
	}
}

// A printer's records come piece by piece, as it is asked: types, then instances, then what those say.
func TestMDNSBrowses(t *testing.T) {
	record := func(name string, kind uint16) dns.RR_Header {
		return dns.RR_Header{Name: name, Rrtype: kind, Class: dns.ClassINET}
	}
	const instance = `Palm\ house\.1._ipp._tcp.local.`
	known := []dns.RR{
		&dns.PTR{Hdr: record("_services._dns-sd._udp.local.", dns.TypePTR), Ptr: "_ipp._tcp.local."},
		&dns.PTR{Hdr: record("_ipp._tcp.local.", dns.TypePTR), Ptr: instance},
		&dns.SRV{Hdr: record(instance, dns.TypeSRV), Port: 631, Target: "acorn.local."},
		&dns.TXT{Hdr: record(instance, dns.TypeTXT), Txt: []string{"ty=Inkwell 220", ""}},
		&dns.TXT{Hdr: record(`Palm\ house\.1._device-info._tcp.local.`, dns.TypeTXT), Txt: []string{"model=Inkwell"}},
	}
	synctest.Test(t, func(t *testing.T) { // on fake time
		questions := 0
		items, answered := askMDNS(t.Context(), queryOf(responder{func(_ uint16, q []byte) [][]byte {
			var question dns.Msg
			if question.Unpack(q) != nil {
				return nil
			}
			questions++
			answer := &dns.Msg{MsgHdr: dns.MsgHdr{Id: question.Id, Response: true}}
			for _, asked := range question.Question {
				for _, r := range known {
					if strings.EqualFold(r.Header().Name, asked.Name) && r.Header().Rrtype == asked.Qtype {
						answer.Answer = append(answer.Answer, r)
					}
				}
			}
			raw, err := answer.Pack()
			if err != nil {
				t.Error(err)
			}
			return one(raw)
		}}))
		const want = "mdns.host=acorn.local|mdns.type=_device-info._tcp|mdns.type=_ipp._tcp|mdns.model=Inkwell|mdns.instance=Palm house.1._ipp._tcp:631|mdns.txt=_ipp._tcp ty=Inkwell 220"
		if got := texts(items); got != want || !answered || questions != 3 {
			t.Errorf("after %d questions: %s\nwant %s", questions, got, want)
		}
	})
}

func TestRefusalEndsAQuestionAtOnce(t *testing.T) {
	refuses := dialFunc(func() (net.Conn, error) { return refusing{}, nil })
	for _, p := range Protocols() {
		if p.Ask == nil {
			continue
		}
		if items, answered := p.Ask(t.Context(), Query{Dialer: refuses, Addr: asked, Wait: time.Hour}); answered || len(items) > 0 {
			t.Errorf("%s: %v", p.Name, items)
		}
	}
}

type dialFunc func() (net.Conn, error)

func (f dialFunc) Dial(context.Context, string, netip.AddrPort, time.Duration) (net.Conn, error) {
	return f()
}

// refusing is a socket at whose other end nobody listens.
type refusing struct{ net.Conn }

func (refusing) Write(b []byte) (int, error)      { return len(b), nil }
func (refusing) Read([]byte) (int, error)         { return 0, syscall.ECONNREFUSED }
func (refusing) SetDeadline(time.Time) error      { return nil }
func (refusing) SetReadDeadline(time.Time) error  { return nil }
func (refusing) SetWriteDeadline(time.Time) error { return nil }
func (refusing) Close() error                     { return nil }

func TestSNMPEngine(t *testing.T) {
	question, err := discovery(77)
	if err != nil {
		t.Fatal(err)
	}
	if _, ok := parseDiscovery(question, 77); ok {
		t.Error("our own question is taken for an answer")
	}
	var message v3Message
	if _, err := asn1.Unmarshal(question, &message); err != nil {
		t.Fatal(err)
	}
	if message.Security, err = asn1.Marshal(v3Security{Engine: []byte{0x80, 0, 0x1f, 0x88, 4, 'a'}, User: []byte{}, Auth: []byte{}, Secret: []byte{}}); err != nil {
		t.Fatal(err)
	}
	answer, err := asn1.Marshal(message)
	if err != nil {
		t.Fatal(err)
	}
	if engine, ok := parseDiscovery(answer, 77); !ok || len(engine) != 6 {
		t.Errorf("engine %x, %v", engine, ok)
	}
	if _, ok := parseDiscovery(answer, 78); ok {
		t.Error("the answer to another question is believed")
	}
	a := &agent{}
	a.noteEngine([]byte{0x80, 0, 0x1f, 0x88, 4, 'a'})
	if got := texts(a.items); got != "snmp.engine=80001f880461|snmp.engine-enterprise=8072" {
		t.Error(got)
	}
}

// An agent that speaks version 3, whose first four answers to it are lost.
func TestSNMPVersionIsNotDeniedForALostAnswer(t *testing.T) {
	synctest.Test(t, func(t *testing.T) { // on fake time
		var asked3 atomic.Int64 // each question is answered by itself
		items, _ := askSNMP(t.Context(), queryOf(responder{func(_ uint16, q []byte) [][]byte {
			if bytes.Contains(q, []byte("public")) {
				answer, err := (&gosnmp.GoSNMP{}).SnmpDecodePacket(q)
				if err != nil {
					return nil
				}
				answer.PDUType = gosnmp.GetResponse
				answer.Variables = []gosnmp.SnmpPDU{{Name: oidDescr, Type: gosnmp.OctetString, Value: "vent"}}
				raw, _ := answer.MarshalMsg()
				return one(raw)
			}
			if asked3.Add(1) <= 4 {
				return nil
			}
			var message v3Message
			if _, err := asn1.Unmarshal(q, &message); err != nil {
				return nil
			}
			security, _ := asn1.Marshal(v3Security{Engine: []byte{0x80, 0, 0x1f, 0x88, 4, 'a'}, User: []byte{}, Auth: []byte{}, Secret: []byte{}})
			message.Security = security
			answer, _ := asn1.Marshal(message)
			return one(answer)
		}}))
		var versions []string
		for _, it := range items {
			if it.Key == keySNMPVersion {
				versions = append(versions, it.Value)
			}
		}
		if got := strings.Join(versions, " "); got != "2c 3" {
			t.Errorf("versions %q in %s", got, texts(items))
		}
	})
}

// clean wants bounded, valid evidence of whatever bytes.
func clean(t *testing.T, items []evidence.Item) {
	t.Helper()
	if len(items) > 2000 {
		t.Errorf("%d items", len(items))
	}
	for _, item := range items {
		if item.Value == "" || item.Value != evidence.Clean([]byte(item.Value)) || item.Source == "" || item.Key == "" {
			t.Errorf("%q=%q is not clean", item.Key, item.Value)
		}
	}
}

func FuzzMDNS(f *testing.F) {
	raw, _ := browseQuestions()
	f.Add(raw[0])
	f.Add([]byte("\x00\x00\x84\x00\x00\x00\x00\x01\x00\x00\x00\x00\x05_http\x04_tcp\x05local\x00\x00\x0c\x00\x01\x00\x00\x00\x78\x00\x02\xc0\x0c"))
	f.Fuzz(func(t *testing.T, message []byte) {
		items, _ := hearMDNS(Datagram{From: netip.AddrPortFrom(asked, mdnsPort), Message: message})
		clean(t, items)
	})
}

func FuzzAnnounced(f *testing.F) {
	f.Add([]byte("NOTIFY * HTTP/1.1\r\nNT: upnp:rootdevice\r\nSERVER: a\r\n\r\n"))
	f.Add([]byte("<a><ProbeMatch><Types>a b</Types><Scopes>%zz</Scopes></ProbeMatch></a>"))
	f.Add([]byte("<m><ThisModel><Manufacturer>A</Manufacturer></ThisModel><Relationship><Types>pub:Computer</Types><Computer>B/C</Computer></Relationship></m>"))
	f.Add([]byte("<root><device><deviceType>x</deviceType><manufacturer>&amp;</manufacturer></device></root>"))
	f.Fuzz(func(t *testing.T, message []byte) {
		for _, port := range []uint16{ssdpPort, wsdPort} {
			_, items, _ := SetWithout(nil).Hear(Datagram{From: netip.AddrPortFrom(asked, port), Message: message})
			clean(t, items)
		}
		found := &found{}
		readDescription(message, found)
		readMetadata(message, found)
		clean(t, found.items)
	})
}

func FuzzNodeStatus(f *testing.F) {
	f.Add(append(nodeStatus(0), make([]byte, 40)...))
	f.Add([]byte("\x00\x00\x84\x00\x00\x00\x00\x01\x00\x00\x00\x00\xc0\x0c\x00\x21\x00\x01\x00\x00\x00\x00\x00\x13\x01ACORN          \x00\x04\x00"))
	f.Fuzz(func(t *testing.T, answer []byte) {
		found := &found{}
		readNodeStatus(answer, 0, found)
		readNTP(answer, make([]byte, 8), found)
		readSIP(strings.NewReader(string(answer)), "call", found)
		clean(t, found.items)
	})
}

// FuzzAgent lets an agent answer every question with the same bytes.
func FuzzAgent(f *testing.F) {
	question, _ := discovery(1)
	f.Add(question)
	f.Add([]byte("\x30\x26\x02\x01\x01\x04\x06public\xa2\x19\x02\x01\x01\x02\x01\x00\x02\x01\x00\x30\x0e\x30\x0c\x06\x08\x2b\x06\x01\x02\x01\x01\x05\x00\x04\x00"))
	f.Fuzz(func(t *testing.T, answer []byte) {
		items, _ := askSNMP(t.Context(), Query{Dialer: responder{func(uint16, []byte) [][]byte { return one(answer) }}, Addr: asked, Wait: time.Millisecond})
		clean(t, items)
		_, _ = parseDiscovery(answer, 1)
	})
}

func FuzzLLDP(f *testing.F) {
	frame := append(make([]byte, 12), 0x88, 0xcc)
	f.Add(append(frame, 2, 7, 4, 2, 0, 0, 0, 0, 1, 10, 2, 'a', 'b', 16, 12, 5, 1, 10, 40, 1, 2, 2, 0, 0, 0, 1, 0, 0, 0))
	f.Fuzz(func(t *testing.T, frame []byte) {
		if heard, ok := hearLLDP(frame); ok {
			clean(t, heard.Items)
		}
		if heard, ok := ParsePacket(frame); ok && !heard.From.Is4() {
			t.Errorf("a packet from %s", heard.From)
		}
	})
}

func TestPacketsThatTell(t *testing.T) {
	frame := make([]byte, 14+20+32)
	binary.BigEndian.PutUint16(frame[12:], 0x0800)
	ip := frame[14:]
	ip[0], ip[8], ip[9], ip[6] = 0x45, 61, 6, 0x40
	binary.BigEndian.PutUint16(ip[2:], 52)
	copy(ip[12:], []byte{10, 40, 1, 9, 10, 40, 1, 250})
	tcp := ip[20:]
	tcp[12], tcp[13] = 8<<4, 0x12
	binary.BigEndian.PutUint16(tcp[14:], 65160)
	copy(tcp[20:], []byte{2, 4, 5, 0xb4, 1, 3, 3, 7, 4, 2, 1, 0})
	heard, ok := ParsePacket(frame)
	if want := "ttl=64 df window=65160 options=mss,nop,ws7,sack,nop,end"; !ok || heard.Stack != want || heard.From.String() != "10.40.1.9" || heard.Group {
		t.Errorf("got %+v, %v; want %s", heard, ok, want)
	}
	tcp[13] = 0x02
	if heard, ok := ParsePacket(frame); ok {
		t.Errorf("a request to connect is taken for %+v", heard)
	}
}
