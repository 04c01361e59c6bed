package probe

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"airdrift/core/evidence"
)

// rpcWords makes the words of a message.
func rpcWords(words ...uint32) []byte {
	var raw []byte
	for _, w := range words {
		raw = binary.BigEndian.AppendUint32(raw, w)
	}
	return raw
}

// rpcServer answers each call with what results gives for its program, in fragments of a few bytes.
func rpcServer(results func(program uint32) []byte) func(net.Conn) {
	return func(conn net.Conn) {
		for {
			head := make([]byte, 4)
			if _, err := io.ReadFull(conn, head); err != nil {
				return
			}
			call := make([]byte, binary.BigEndian.Uint32(head)&^rpcLast)
			if _, err := io.ReadFull(conn, call); err != nil {
				return
			}
			answer := slices.Concat(call[:4], rpcWords(1, 0, 0, 0, 0), results(binary.BigEndian.Uint32(call[12:])))
			for len(answer) > 0 {
				n, last := min(len(answer), 100), uint32(0)
				if n == len(answer) {
					last = rpcLast
				}
				if _, err := conn.Write(append(rpcWords(uint32(n)|last), answer[:n]...)); err != nil {
					return
				}
				answer = answer[n:]
			}
		}
	}
}

// pipeDialer hands out conversations with devices, by port.
type pipeDialer struct {
	devices map[uint16]func(net.Conn)
	dialled []uint16
}

func (d *pipeDialer) Dial(_ context.Context, _ string, addr netip.AddrPort, _ time.Duration) (net.Conn, error) {
	d.dialled = append(d.dialled, addr.Port())
	ours, theirs := net.Pipe()
	device := d.devices[addr.Port()]
	go func() {
		defer theirs.Close()
		if device != nil {
			device(theirs)
		}
	}()
	return ours, nil
}

// talkOver has a device talk at a port, with others to dial.
func talkOver(t *testing.T, d *pipeDialer, port uint16, device func(net.Conn)) []evidence.Item {
	t.Helper()
	ours, theirs := net.Pipe()
	go func() {
		defer theirs.Close()
		device(theirs)
	}()
	return At(port).FirstWords(t.Context(), Query{Dialer: d}, ours, netip.AddrPortFrom(netip.MustParseAddr("10.40.1.9"), port), true)
}

func TestDirectoriesThatAreGivenOut(t *testing.T) {
	mountAt := func(port uint32) func(uint32) []byte {
		return func(uint32) []byte { return rpcWords(1, 100005, 1, 6, port, 1, 100005, 3, 6, port, 0) }
	}
	endless := func(word uint32) func(uint32) []byte {
		return func(uint32) []byte { return bytes.Repeat(rpcWords(word), maxAnswer/8) }
	}
	give := func(uint32) []byte {
		return slices.Concat(rpcWords(1, 4), []byte("/srv"), rpcWords(1, 1), []byte("*\x00\x00\x00"), rpcWords(0, 1, 2), []byte("/a\x00\x00"), rpcWords(0, 0))
	}
	for _, tt := range []struct {
		name        string
		list, mount func(uint32) []byte
		dials       int
		want        string
	}{
		{"as it is meant", mountAt(635), give, 1, "rpc.program=mount 1 tcp/635|rpc.program=mount 3 tcp/635|nfs.export=/srv to everybody|nfs.export=/a to everybody"},
		{"at a port at which machines are moved", mountAt(102), give, 0, "rpc.program=mount 1 tcp/102|rpc.program=mount 3 tcp/102"},
		{"at a port that another protocol is spoken at", mountAt(1883), give, 0, "rpc.program=mount 1 tcp/1883|rpc.program=mount 3 tcp/1883"},
		{"a list of programs without an end", endless(1), give, 0, ""},
		{"a list of directories without an end", mountAt(635), endless(1), 1, "rpc.program=mount 1 tcp/635|rpc.program=mount 3 tcp/635"},
		{"a text longer than the answer", mountAt(635), func(uint32) []byte { return rpcWords(1, 1<<31-1, 0) }, 1, "rpc.program=mount 1 tcp/635|rpc.program=mount 3 tcp/635"},
		{"an answer that breaks off", func(uint32) []byte { return rpcWords(1, 100005) }, give, 0, ""},
	} {
		d := &pipeDialer{devices: map[uint16]func(net.Conn){635: rpcServer(tt.mount), 102: rpcServer(tt.mount), 1883: rpcServer(tt.mount)}}
		items := talkOver(t, d, 111, rpcServer(tt.list))
		if got := texts(items); got != "" && tt.want == "" || len(d.dialled) != tt.dials || !strings.HasPrefix(got, tt.want) || len(items) > 4 {
			t.Errorf("%s: %s with %d further connections, want %s with %d", tt.name, got, len(d.dialled), tt.want, tt.dials)
		}
	}
}

// A message whose fragments have no end is given up, and so is one that claims to be huge.
func TestFragmentsWithoutAnEnd(t *testing.T) {
	for name, piece := range map[string]string{"empty": "\x00\x00\x00\x00", "small": "\x00\x00\x00\x04abcd", "huge": "\xff\xff\xff\xff"} {
		synctest.Test(t, func(t *testing.T) {
			began := time.Now()
			items := hear(t, 111, func(conn net.Conn) {
				go func() { _, _ = io.Copy(io.Discard, conn) }()
				for {
					if _, err := io.WriteString(conn, piece); err != nil {
						return
					}
				}
			})
			if len(items) > 0 || time.Since(began) > 2*exchangeWait {
				t.Errorf("%s: %v after %v", name, items, time.Since(began))
			}
		})
	}
}

// lines is a server that answers each line by its first word.
func lines(greeting string, answers map[string]string) func(net.Conn) {
	return func(conn net.Conn) {
		if _, err := io.WriteString(conn, greeting); err != nil {
			return
		}
		buf := make([]byte, 512)
		for {
			n, err := conn.Read(buf)
			if err != nil {
				return
			}
			verb, _, _ := strings.Cut(strings.TrimSpace(string(buf[:n])), " ")
			if _, err := io.WriteString(conn, answers[verb]); err != nil {
				return
			}
		}
	}
}

func TestWhetherFTPLetsAnybodyIn(t *testing.T) {
	for _, tt := range []struct{ name, user, pass, want string }{
		{"at once", "230 in\r\n", "", "let in"},
		{"behind any password", "331 and?\r\n", "230-hello\r\n 230 is not the end\r\n230 in\r\n", "let in"},
		{"not at all", "530 no\r\n", "", "refused"},
		{"not with that password", "331 and?\r\n", "530 no\r\n", "refused"},
		{"only with an account", "332 which?\r\n", "", "refused"},
		{"nonsense", "331 and?\r\n", "hello\r\n", ""},
		{"a reply that does not end", "331 and?\r\n", "230-hello\r\n231 other\r\n", ""},
	} {
		synctest.Test(t, func(t *testing.T) {
			items := hear(t, 21, lines("220 ready\r\n", map[string]string{"SYST": "215 UNIX\r\n", "USER": tt.user, "PASS": tt.pass}))
			want := []string{"ftp.greeting=220 ready", "ftp.system=UNIX", "ftp.anonymous=" + tt.want}
			if tt.want == "" {
				want = want[:2]
			}
			if !slices.Equal(items, want) {
				t.Errorf("%s: %v, want %v", tt.name, items, want)
			}
		})
	}
}

// A web server is asked for its files once, at the pace that allows it, and what it says decides.
func TestWhoGivesOutFilesByWebDAV(t *testing.T) {
	for _, tt := range []struct{ name, answer, want string }{
		{"to anybody", "HTTP/1.1 207 Multi-Status\r\nDAV: 1, 2\r\nContent-Length: 0\r\n\r\n", "dav.class=1, 2|dav.answer=open"},
		{"to who signs in", "HTTP/1.1 401 Unauthorized\r\nDAV: 1\r\nContent-Length: 0\r\n\r\n", "dav.class=1|dav.answer=sign-in"},
		{"a server that wants a sign-in for everything", "HTTP/1.1 401 Unauthorized\r\nContent-Length: 0\r\n\r\n", ""},
		{"one that does not know the question", "HTTP/1.1 405 Method Not Allowed\r\nContent-Length: 0\r\n\r\n", ""},
		{"one whose head has no end", "HTTP/1.1 207 Multi-Status\r\nDAV: " + strings.Repeat("1, ", maxAnswer), ""},
	} {
		f := &found{}
		readDAV(strings.NewReader(tt.answer), f)
		if got := texts(f.items); got != tt.want {
			t.Errorf("%s: %s, want %s", tt.name, got, tt.want)
		}
	}
}

func TestRootOfAManager(t *testing.T) {
	f := &found{}
	readRedfish([]byte(`{"@odata.type":"#ServiceRoot.v1_5_0.ServiceRoot","RedfishVersion":"1.6.0","Vendor":"Harrowgate","Product":"Harrow R2","UUID":"92384634-29AA","Oem":{"Harrowgate":{}}}`), f)
	slices.SortFunc(f.items, func(a, b evidence.Item) int { return strings.Compare(a.Key, b.Key) })
	if got := texts(f.items); got != "redfish.id=92384634-29aa|redfish.maker=Harrowgate|redfish.own=Harrowgate|redfish.product=Harrow R2|redfish.version=1.6.0" {
		t.Error(got)
	}
	for _, page := range []string{"<html>", `{"RedfishVersion":"1.0"}`, `{"@odata.type":"#Chassis"}`, `{"@odata.type":["ServiceRoot"]}`, "null"} {
		f := &found{}
		if readRedfish([]byte(page), f); len(f.items) > 0 {
			t.Errorf("%s told %s", page, texts(f.items))
		}
	}
	many := strings.Builder{}
	many.WriteString(`{"@odata.type":"ServiceRoot","Oem":{`)
	for i := range 1000 {
		fmt.Fprintf(&many, `"o%d":{},`, i)
	}
	f = &found{}
	readRedfish([]byte(strings.TrimSuffix(many.String(), ",")+"}}"), f)
	if len(f.items) != maxOwn {
		t.Errorf("%d extensions are kept, want %d", len(f.items), maxOwn)
	}
}

func TestTelephonesThatRegister(t *testing.T) {
	register := "REGISTER sip:pbx.example SIP/2.0\r\nVia: SIP/2.0/UDP 10.40.1.9\r\nFrom: <sip:201@pbx.example>;tag=1\r\nTo: \"Fern house\" <sip:201@pbx.example>\r\nUser-Agent: Calla 10 3.1\r\nAuthorization: Digest response=\"secret\"\r\n\r\n"
	for _, tt := range []struct {
		name, message string
		to            uint16
		want          string
	}{
		{"a telephone", register, 5060, "sip.extension=201|sip.agent=Calla 10 3.1"},
		{"in short form", "REGISTER sip:p SIP/2.0\r\nT: <sip:2%300@p>\r\n\r\n", 5060, "sip.extension=200"},
		{"nobody in particular", "REGISTER sip:p SIP/2.0\r\nTo: <sip:anonymous@p>\r\n\r\n", 5060, ""},
		{"another request", strings.Replace(register, "REGISTER", "INVITE", 1), 5060, ""},
		{"elsewhere", register, 5061, ""},
		{"broken", "REGISTER sip:p SIP/2.0\r\nTo: <sip:" + strings.Repeat("a", 5000), 5060, ""},
	} {
		_, items, _ := SetWithout(nil).Hear(Datagram{From: netip.MustParseAddrPort("10.40.1.9:5060"), To: tt.to, Message: []byte(tt.message)})
		if got := texts(items); got != tt.want {
			t.Errorf("%s: %s, want %s", tt.name, got, tt.want)
		}
		for _, it := range items {
			if strings.Contains(it.Value, "secret") {
				t.Errorf("%s tells how it proves who it is", tt.name)
			}
		}
	}
}

func TestNeighboursOfOldKind(t *testing.T) {
	part := func(kind byte, value string) string {
		return "\x00" + string(kind) + "\x00" + string(rune(len(value)+4)) + value
	}
	head := "\x01\x00\x0c\xcc\xcc\xcc\x48\x9b\x34\x00\x00\x02\x00\x40\xaa\xaa\x03\x00\x00\x0c\x20\x00\x02\xb4\x00\x00"
	for _, tt := range []struct{ name, frame, want string }{
		{"a switch", head + part(1, "weave") + part(6, "Weave 24") + part(4, "\x00\x00\x00\x0a"), "cdp.name=weave|cdp.platform=Weave 24|cdp.capability=bridge|cdp.capability=switch"},
		{"addresses", head + part(2, "\x00\x00\x00\x02\x01\x01\xcc\x00\x04\x0a\x28\x01\x02\x01\x01\xcc\x00\x04\xe0\x00\x00\x01"), "cdp.addr=10.40.1.2"},
		{"addresses that break off", head + part(2, "\x00\x00\xff\xff\x01\xff\xcc"), ""},
		{"a part longer than the frame", head + part(1, "weave") + "\x00\x06\xff\xffx", "cdp.name=weave"},
		{"a part shorter than its head", head + "\x00\x06\x00\x01x", ""},
		{"one with a type in place of a length", strings.Replace(head, "\x00\x40\xaa", "\x08\x00\xaa", 1) + part(1, "weave"), ""},
		{"one of another protocol", strings.Replace(head, "\x0c\x20\x00", "\x0c\x20\x04", 1) + part(1, "weave"), ""},
	} {
		heard, _ := hearCDP([]byte(tt.frame))
		if got := texts(heard.Items); got != tt.want {
			t.Errorf("%s: %s, want %s", tt.name, got, tt.want)
		}
	}
	endless := head + strings.Repeat("\x00\x01\x00\x05x", 1000)
	if heard, _ := hearCDP([]byte(endless)); len(heard.Items) != 1 {
		t.Errorf("%d facts of a frame that repeats itself", len(heard.Items))
	}
}

// The tables of devices are asked for net by net, once for each universe that a node has told.
func TestTablesOfAStage(t *testing.T) {
	told := func(values ...string) (items []evidence.Item) {
		for _, v := range values {
			items = append(items, evidence.Item{Source: evidence.SourceArtNet, Key: keyArtNetUniverse, Value: v})
		}
		return items
	}
	questions, err := artTables([][]evidence.Item{told("0.1.3", "0.1.4"), told("0.1.3", "2.0.0"), told("200.1.1", "0.16.1", "nonsense")})
	if err != nil || len(questions) != 2 {
		t.Fatalf("%x %v", questions, err)
	}
	if q := questions[0]; len(q) != 56 || q[21] != 0 || q[23] != 2 || !bytes.Equal(q[24:27], []byte{0x13, 0x14, 0}) {
		t.Errorf("%x", q)
	}
	if q := questions[1]; q[21] != 2 || q[23] != 1 || q[24] != 0 {
		t.Errorf("%x", q)
	}
	var many []evidence.Item
	for i := range 256 {
		many = append(many, told(fmt.Sprintf("0.%d.%d", i/16, i%16))...)
	}
	if questions, _ := artTables([][]evidence.Item{many}); len(questions) != 1 || questions[0][23] != maxArtTables {
		t.Errorf("of 256 universes %d are asked for", questions[0][23])
	}
	f := &found{}
	table := append([]byte("Art-Net\x00\x00\x81\x00\x0e"), make([]byte, 16)...)
	table[27] = 200
	if !readArtTable(append(table, bytes.Repeat([]byte{0x7f, 0xf0, 0, 0, 0, 1}, 200)...), f) || texts(f.items) != "artnet.rdm=7ff0:00000001" {
		t.Error(texts(f.items))
	}
}

// Over IPv6 a message stands behind other heads and says the same.
func TestBACnetOverIPv6(t *testing.T) {
	iAm := bacnetMessage(bvlcBroadcast, bacnetPlace{}, 0, 0x10, 0, 0xc4, 2, 0, 0x0f, 0x3d, 0x22, 5, 0xc4, 0x91, 0, 0x22, 3, 0xe7)
	self := vmac{1, 2, 3}
	for _, tt := range []struct {
		name    string
		message []byte
		want    string
	}{
		{"called out", toBVLC6(iAm, self, vmac{}), "bacnet.instance=3901|bacnet.vendor-id=999"},
		{"to one", toBVLC6(bacnetMessage(bvlcUnicast, bacnetPlace{}, 0, iAm[6:]...), self, vmac{9, 9, 9}), "bacnet.instance=3901|bacnet.vendor-id=999"},
		{"passed on", append(append([]byte{0x82, 8, 0, byte(4 + 3 + 18 + len(iAm) - 4)}, make([]byte, 21)...), iAm[4:]...), ""},
		{"of a wrong length", append(toBVLC6(iAm, self, vmac{}), 0), ""},
		{"cut", toBVLC6(iAm, self, vmac{})[:6], ""},
	} {
		_, items, _ := SetWithout(nil).Hear(Datagram{From: netip.MustParseAddrPort("[fe80::9]:47808"), To: bacnetPort, Message: tt.message})
		if got := texts(items); got != tt.want {
			t.Errorf("%s: %s, want %s", tt.name, got, tt.want)
		}
	}
	message, from, ok := fromBVLC6(toBVLC6(iAm, self, vmac{}))
	if !ok || from != self || !bytes.Equal(message, iAm) {
		t.Errorf("%x from %x", message, from)
	}
}

// smbServer answers each message of a server of files with what state and body give for its command.
func smbServer(answer func(command byte, number uint64) (state uint32, body []byte)) func(net.Conn) {
	return func(conn net.Conn) {
		for {
			head := make([]byte, 4)
			if _, err := io.ReadFull(conn, head); err != nil {
				return
			}
			question := make([]byte, binary.BigEndian.Uint32(head))
			if _, err := io.ReadFull(conn, question); err != nil {
				return
			}
			state, body := answer(question[12], binary.LittleEndian.Uint64(question[24:]))
			message := append(bytes.Clone(question[:smbHeader]), body...)
			binary.LittleEndian.PutUint32(message[8:], state)
			if _, err := conn.Write(append(binary.BigEndian.AppendUint32(nil, uint32(len(message))), message...)); err != nil {
				return
			}
		}
	}
}

// A server of files that never comes to an answer, or gives nonsense for one, is left within its time, and lets nobody in for all that.
func TestServersOfFilesThatLie(t *testing.T) {
	negotiated := []byte(smbAnswer(1))[smbHeader:]
	challenge := append(make([]byte, 8), append([]byte("NTLMSSP\x00\x02\x00\x00\x00"), bytes.Repeat([]byte{0xff}, 60)...)...)
	for _, tt := range []struct {
		name   string
		answer func(command byte, number uint64) (uint32, []byte)
		want   string
	}{
		{"always pending", func(byte, uint64) (uint32, []byte) { return smbPending, make([]byte, 8) }, ""},
		{"refuses everybody", func(byte, uint64) (uint32, []byte) { return 0xc000006d, make([]byte, 8) }, "smb.anybody=refused"},
		{"lets in, and has no pipe", func(command byte, _ uint64) (uint32, []byte) {
			if command == smbCreate {
				return 0xc0000034, make([]byte, 8)
			}
			return 0, make([]byte, 8)
		}, "smb.anybody=nobody in particular"},
		{"a pipe that points outside", func(command byte, _ uint64) (uint32, []byte) { return 0, bytes.Repeat([]byte{0xff}, 100) }, "smb.anybody=nobody in particular"},
		{"a pipe of pieces without an end", func(command byte, _ uint64) (uint32, []byte) {
			body := make([]byte, 100)
			body[32], body[36] = smbHeader+40, 60 // of a control
			body[2], body[4] = smbHeader+40, 60   // of a reading
			copy(body[40:], []byte{5, 0, 2, 0, 0x10, 0, 0, 0, 30, 0})
			return smbMoreData, body
		}, ""},
	} {
		synctest.Test(t, func(t *testing.T) {
			began, asked := time.Now(), 0
			ours, theirs := net.Pipe()
			go func() {
				defer theirs.Close()
				smbServer(func(command byte, number uint64) (uint32, []byte) {
					asked++
					switch number {
					case 0:
						return 0, negotiated
					case 1:
						return smbMoreToCome, challenge
					}
					return tt.answer(command, number)
				})(theirs)
			}()
			items := At(445).FirstWords(t.Context(), Query{}, ours, netip.MustParseAddrPort("10.40.1.9:445"), true)
			took := time.Since(began)
			ours.Close()
			synctest.Wait() // until the server has gone, and counts no more
			said := slices.DeleteFunc(items, func(it evidence.Item) bool { return it.Key != keySMBAnybody && it.Key != keySMBShare })
			if got := texts(said); got != tt.want && tt.want != "" || strings.Contains(got, "share") || asked > 40 || took > 2*exchangeWait {
				t.Errorf("%s: %s after %d questions and %v, want %s", tt.name, got, asked, took, tt.want)
			}
		})
	}
}

// The lights of a node are told to blink, and after a while to go back to what they do; whatever happens meanwhile, and nothing else is set.
func TestNodeThatShowsItself(t *testing.T) {
	for _, broken := range []bool{false, true} {
		synctest.Test(t, func(t *testing.T) {
			ctx, cancel := context.WithCancel(t.Context())
			var commands []byte
			var at []time.Duration
			began := time.Now()
			q := queryOf(responder{func(_ uint16, message []byte) [][]byte {
				if len(message) != 107 || binary.LittleEndian.Uint16(message[8:]) != artNetAddress || !bytes.Equal(message[14:96], make([]byte, 82)) ||
					!bytes.Equal(message[96:105], bytes.Repeat([]byte{artNetKeep}, 9)) || message[12] != artNetKeep || message[105] != 0xff {
					t.Errorf("something is set: %x", message)
				}
				commands, at = append(commands, message[len(message)-1]), append(at, time.Since(began))
				if broken {
					cancel()
				}
				return nil
			}})
			node := []evidence.Item{{Key: keyArtNetStyle, Value: "node"}}
			by := BlinksBy(node)
			if by == nil || by.Name != "art-net" {
				t.Fatalf("it shows itself by %v", by)
			}
			err := by.ShowItself(ctx, q.Dialer, q.Addr, node)
			synctest.Wait()
			if err != nil || !bytes.Equal(commands, []byte{artNetLocate, artNetNormal}) || !broken && at[1] != artNetBlinks || broken && at[1] > time.Second {
				t.Errorf("%v: told %v after %v, %v", broken, commands, at, err)
			}
			cancel()
		})
	}
	if by := BlinksBy([]evidence.Item{{Key: keyArtNetStyle, Value: "controller"}, {Key: keyIPPURI, Value: "ipp://10.40.1.9/"}}); by != nil {
		t.Errorf("a controller shows itself by %s", by.Name)
	}
}
