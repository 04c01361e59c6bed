package probe

import (
	"bufio"
	"bytes"
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

// Answers here are written from the standards, byte by byte.

const (
	knxDescribed = "\x06\x10\x02\x04\x00\x44" + "\x36\x01\x02\x00\x11\xfa\x00\x11\x00\xab\x12\x34\x56\x78\xe0\x00\x17\x0c\x20\xe8\xbb\x00\x00\x01" +
		"K\xfcche coupler\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00" + "\x08\x02\x02\x01\x04\x02\xee\x01"
	bacnetIAmHere = "\x81\x0b\x00\x18\x01\x20\xff\xff\x00\xff\x10\x00\xc4\x02\x00\x04\xb1\x22\x05\xc4\x91\x03\x21\x0f"
	bacnetFarAway = "\x81\x0a\x00\x1a\x01\x08\x07\xd1\x01\x05\x10\x00\xc4\x02\x00\x07\xd5\x22\x01\xe0\x91\x03\x22\x01\x04\x00"
	artNetSaid    = "Art-Net\x00\x00\x21\x0a\x28\x01\x0a\x36\x19\x02\x0e\x00\x00\x12\x34\x00\x00\xf0\x7f"
)

func artNetAnswer() []byte {
	reply := make([]byte, 214)
	copy(reply, artNetSaid)
	copy(reply[26:], "balcony")
	copy(reply[44:], "Wick 16")
	reply[173], reply[200] = 2, 1
	copy(reply[201:], "\x20\xe8\xbb\x00\x00\x01")
	return reply
}

func cipAnswer() []byte {
	name := "Spindle 45"
	item := append([]byte{1, 0}, make([]byte, 16)...)
	item = append(item, 0x84, 3, 0x0e, 0, 45, 0, 3, 7, 0, 0, 0xee, 0xff, 0xc0, 0, byte(len(name)))
	item = append(append(item, name...), 3)
	answer := cipListIdentity(1)
	answer[2] = byte(len(item) + 6)
	return append(append(answer, 1, 0, 0x0c, 0, byte(len(item)), 0), item...)
}

// ptpAnswer is an announcement of a clock; other is added to the identity of the clock that it goes by.
func ptpAnswer(other byte) []byte {
	m := make([]byte, 64)
	m[0], m[1], m[3], m[48], m[63] = 0x0b, 2, 64, 6, 0x20
	copy(m[20:], "\xf0\xe7\xc7\xff\xfe\x00\x00\x01")
	copy(m[53:], m[20:28])
	m[60] += other
	return m
}

func sacnAnswer() []byte {
	m := make([]byte, 124)
	copy(m, "\x00\x10\x00\x00ASC-E1.17\x00\x00\x00")
	m[21], m[43], m[121], m[123] = 8, 2, 1, 7
	for i := range 16 {
		m[22+i] = byte(i)
	}
	copy(m[44:], "main console")
	return m
}

func TestPlantIsHeard(t *testing.T) {
	far := []byte(bacnetFarAway)
	far = far[:25]
	far[3] = 25
	for _, tt := range []struct {
		name    string
		from    string
		to      uint16
		message []byte
		want    string
	}{
		{"a device of BACnet", "10.40.1.9:47808", 47808, []byte(bacnetIAmHere), "bacnet.instance=1201|bacnet.vendor-id=15"},
		{"one behind a router", "10.40.1.9:47808", 50000, far, "bacnet.behind=2001/05 2005"},
		{"a router", "10.40.1.9:47808", 47808, []byte("\x81\x0b\x00\x0b\x01\x80\x01\x07\xd1\x07\xd2"), "bacnet.router=2001|bacnet.router=2002"},
		{"what is passed on for another", "10.40.1.9:47808", 47808, []byte("\x81\x04\x00\x1e\x0a\x28\x02\x01\xba\xc0" + bacnetIAmHere[4:]), ""},
		{"a call", "10.40.1.9:47808", 47808, []byte("\x81\x0b\x00\x08\x01\x00\x10\x08"), ""},
		{"a length that is not", "10.40.1.9:47808", 47808, []byte(bacnetIAmHere[:20]), ""},
		{"BACnet at another port", "10.40.1.9:4000", 4001, []byte(bacnetIAmHere), ""},
		{"a coupler", "10.40.1.9:3671", 50000, []byte("\x06\x10\x02\x02\x00\x4c\x08\x01\x0a\x28\x01\x09\x0e\x57" + knxDescribed[6:]),
			"knx.name=Küche coupler|knx.medium=twisted pair|knx.address=1.1.250|knx.project=1/1|knx.serial=00ab12345678|knx.mac=20:e8:bb:00:00:01|knx.service=core 1|knx.service=tunnelling 2"},
		{"a drive's controller", "10.40.1.9:44818", 50000, cipAnswer(), "cip.type=programmable logic controller|cip.vendor-id=900|cip.code=45|cip.revision=3.7|cip.serial=00c0ffee|cip.product=Spindle 45"},
		{"a console of light", "10.40.1.9:6454", 6454, artNetAnswer(), "artnet.name=balcony|artnet.text=Wick 16|artnet.firmware=2.14|artnet.maker-id=7ff0|artnet.product=1234|artnet.ports=2|artnet.style=controller|artnet.mac=20:e8:bb:00:00:01"},
		{"a clock of its own", "10.40.1.9:320", 320, ptpAnswer(0), "ptp.clock=f0e7c7fffe000001|ptp.class=6|ptp.source=GNSS|ptp.domain=0|ptp.mac=f0:e7:c7:00:00:01"},
		{"a clock that goes by another", "10.40.1.9:320", 320, ptpAnswer(7), "ptp.clock=f0e7c7fffe000001|ptp.master=f0e7c7fffe000008|ptp.domain=0|ptp.mac=f0:e7:c7:00:00:01"},
		{"a console that lists its universes", "10.40.1.9:5568", 5568, sacnAnswer(), "sacn.name=main console|sacn.component=000102030405060708090a0b0c0d0e0f|sacn.universe=1|sacn.universe=7"},
		{"a box with microphones", "10.40.1.9:9875", 9875, []byte("\x20\x00\x12\x34\x0a\x28\x01\x09application/sdp\x00v=0\r\no=- 1 1 IN IP4 10.40.1.9\r\ns=hall : 8\r\ni=8 channels\r\na=tool:stage box 3\r\n"), "sap.session=hall : 8|sap.info=8 channels|sap.tool=stage box 3"},
		{"one that announces in another's name", "10.40.1.9:9875", 9875, []byte("\x20\x00\x12\x34\x0a\x28\x01\x0aapplication/sdp\x00v=0\r\ns=hall\r\n"), ""},
		{"the end of a stream", "10.40.1.9:9875", 9875, []byte("\x24\x00\x12\x34\x0a\x28\x01\x09v=0\r\ns=hall\r\n"), ""},
		{"a thing", "10.40.1.9:5683", 50000, []byte("\x54\x45\x00\x01\x41\x69\x72\x44\xc1\x28\xff</t>;rt=\"temperature\";obs,</u>;title=\"a, b\""), "coap.answer=2.05|coap.resource=/t|coap.type=temperature|coap.resource=/u|coap.title=a, b"},
		{"a thing that answers somebody else", "10.40.1.9:5683", 50000, []byte("\x54\x45\x00\x01\x41\x69\x72\x45\xff</t>"), ""},
	} {
		_, items, _ := SetWithout(nil).Hear(Datagram{From: netip.MustParseAddrPort(tt.from), To: tt.to, Message: tt.message})
		if got := texts(items); got != tt.want {
			t.Errorf("%s: %s, want %s", tt.name, got, tt.want)
		}
	}
}

// modbusTurn answers one question with what answer gives for its function and what follows.
func modbusDevice(answer func(unit byte, pdu []byte) []byte) func(net.Conn) {
	return func(conn net.Conn) {
		for {
			head := make([]byte, 7)
			if _, err := io.ReadFull(conn, head); err != nil {
				return
			}
			pdu := make([]byte, head[5]-1)
			if _, err := io.ReadFull(conn, pdu); err != nil {
				return
			}
			if a := answer(head[6], pdu); a != nil {
				head[5] = byte(len(a) + 1)
				if _, err := conn.Write(append(head, a...)); err != nil {
					return
				}
			}
		}
	}
}

func TestModbusIsAskedForItsIdentityAlone(t *testing.T) {
	whole := func(object byte) []byte {
		return []byte{43, 14, 3, 0x83, 0xff, object + 1, 1, object, 2, 'v', '0' + object%10}
	}
	asked := map[string]bool{}
	for _, tt := range []struct {
		name   string
		answer func(unit byte, pdu []byte) []byte
		want   string
	}{
		{"a stream", func(_ byte, pdu []byte) []byte {
			return []byte{43, 14, 3, 0x83, 0, 0, 2, 0, 3, 'L', 'a', 'b', 5, 2, 'T', '3'}
		}, "modbus.maker=Lab modbus.model=T3"},
		{"one that never ends", func(_ byte, pdu []byte) []byte { return whole(pdu[3]) }, "modbus.maker=v0 modbus.code=v1 modbus.revision=v2 modbus.page=v3 modbus.product=v4 modbus.model=v5 modbus.application=v6"},
		{"one that goes round", func(_ byte, pdu []byte) []byte { return []byte{43, 14, 3, 0x83, 0xff, 0, 1, 0, 1, 'v'} }, "modbus.maker=v"},
		{"one that knows the basic objects alone", func(_ byte, pdu []byte) []byte {
			if pdu[2] != 1 {
				return []byte{43 | 0x80, 3}
			}
			return []byte{43, 14, 1, 1, 0, 0, 1, 0, 3, 'L', 'a', 'b'}
		}, "modbus.maker=Lab"},
		{"one that knows no streams", func(_ byte, pdu []byte) []byte {
			if pdu[2] != 4 {
				return []byte{43 | 0x80, 3}
			}
			return []byte{43, 14, 4, 0x81, 0, 0, 1, pdu[3], 1, 'a' + pdu[3]}
		}, "modbus.maker=a modbus.code=b modbus.revision=c"},
		{"one that does not know how", func(_ byte, pdu []byte) []byte { return []byte{pdu[0] | 0x80, 1} }, "modbus.answer=illegal function"},
		{"a server's identifier that is no text", func(_ byte, pdu []byte) []byte {
			if pdu[0] == 17 {
				return []byte{17, 3, 1, 2, 0xff}
			}
			return []byte{pdu[0] | 0x80, 1}
		}, "modbus.server=0x0102ff"},
		{"a gateway without anybody", func(_ byte, pdu []byte) []byte { return []byte{pdu[0] | 0x80, 11} }, "modbus.answer=gateway target device failed to respond"},
		{"an object longer than the answer", func(_ byte, pdu []byte) []byte { return []byte{43, 14, 3, 0x83, 0, 0, 1, 0, 200, 'L'} }, ""},
	} {
		got := strings.Join(hear(t, modbusPort, modbusDevice(func(unit byte, pdu []byte) []byte {
			asked[fmt.Sprint(pdu[0])] = true
			return tt.answer(unit, pdu)
		})), " ")
		if got != tt.want {
			t.Errorf("%s: %q, want %q", tt.name, got, tt.want)
		}
	}
	if len(asked) != 2 || !asked["43"] || !asked["17"] {
		t.Errorf("functions %v were asked for", asked)
	}
	if got := hear(t, modbusPort, says("HTTP/1.1 400 Bad Request\r\n\r\n")); len(got) > 0 {
		t.Errorf("of a web server %q was learned", got)
	}
}

// An answer that comes late makes no device out of nothing: the unit is the device itself, asked slowly.
func TestModbusAnswersThatComeLate(t *testing.T) {
	stream := func(pdu []byte) []byte {
		if pdu[3] == 0 {
			return []byte{43, 14, 3, 0x83, 0xff, 1, 1, 0, 3, 'L', 'a', 'b'}
		}
		return []byte{43, 14, 3, 0x83, 0, 0, 1, 1, 2, 'T', '3'}
	}
	for _, tt := range []struct {
		name         string
		unit, object byte // of which the first answer is late
		answers      func(unit byte) bool
		want         string
		units        []string
	}{
		{"the rest of what its own unit says", 1, 1, func(unit byte) bool { return unit == 255 || unit == 1 }, "modbus.maker=Lab|modbus.code=T3", nil},
		{"what it says for any unit", 247, 0, func(byte) bool { return true }, "modbus.maker=Lab|modbus.code=T3|modbus.units=any", nil},
		{"what the device itself says", 255, 0, func(unit byte) bool { return unit == 255 || unit == 1 || unit == 2 }, "modbus.maker=Lab|modbus.code=T3|modbus.units=behind", []string{"modbus/2"}},
	} {
		synctest.Test(t, func(t *testing.T) {
			ours, theirs := net.Pipe()
			var held []byte
			delayed := false
			go func() {
				defer theirs.Close()
				for {
					head := make([]byte, 12)
					if _, err := io.ReadFull(theirs, head[:7]); err != nil {
						return
					}
					pdu := make([]byte, head[5]-1)
					if _, err := io.ReadFull(theirs, pdu); err != nil {
						return
					}
					if !tt.answers(head[6]) {
						continue
					}
					a := stream(pdu)
					head[5] = byte(len(a) + 1)
					message := append(head[:7:7], a...)
					if head[6] == tt.unit && pdu[3] == tt.object && !delayed {
						held, delayed = message, true
						continue
					}
					if _, err := theirs.Write(append(held, message...)); err != nil {
						return
					}
					held = nil
				}
			}()
			var units []string
			p := At(modbusPort)
			q := Query{Dialer: noDialer{}, Unit: func(unit string, _ []evidence.Item) { units = append(units, unit) }}
			got := texts(p.FirstWords(t.Context(), q, ours, netip.MustParseAddrPort("10.40.1.9:502"), false))
			if got != tt.want || !slices.Equal(units, tt.units) {
				t.Errorf("%s: %q with units %v, want %q with %v", tt.name, got, units, tt.want, tt.units)
			}
		})
	}
}

// One that floods with answers to what was never asked is left, and so is one whose list of power supplies has no end.
func TestPlantThatTalksForEver(t *testing.T) {
	flood := func(piece string) func(net.Conn) {
		return func(conn net.Conn) {
			go func() { _, _ = io.Copy(io.Discard, conn) }()
			for {
				if _, err := io.WriteString(conn, piece); err != nil {
					return
				}
			}
		}
	}
	for port, piece := range map[uint16]string{
		modbusPort: "\xff\xff\x00\x00\x00\x03\x01\xab\x01", upsPort: "BEGIN LIST UPS\nUPS a \"b\"\n", 4352: "PJLINK 0\r%1CLSS=1\r", opcuaPort: "ACKC\x08\x00\x00\x00",
		isoPort: "\x03\x00\x00\x07\x02\xd0\x80", cipPort: "\x63\x00\xff\xff\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00",
	} {
		synctest.Test(t, func(t *testing.T) {
			began := time.Now()
			items := hear(t, port, flood(piece))
			if took := time.Since(began); took > modbusTime || len(items) > 2*maxTargets {
				t.Errorf("port %d: %d facts after %v", port, len(items), took)
			}
		})
	}
}

// Blocks of an answer of PROFINET that are longer than it, or without an end, give what stood before them.
func TestPROFINETBlocks(t *testing.T) {
	head := "\x02\x00\x00\x00\x00\x01\x02\x00\x00\x00\x00\x02\x88\x92\xfe\xff\x05\x01\x00\x00\x00\x01\x00\x00\x01\x00"
	for name, tt := range map[string]struct{ blocks, want string }{
		"whole":          {"\x02\x02\x00\x05\x00\x00pu1\x00\x02\x04\x00\x04\x00\x00\x02\x00", "profinet.name=pu1|profinet.role=controller"},
		"longer":         {"\x02\x02\x00\x04\x00\x00pu\x02\x01\xff\xff\x00\x00x", "profinet.name=pu"},
		"empty for ever": {strings.Repeat("\x02\x02\x00\x00", 60), ""},
		"no address":     {"\x01\x02\x00\x0e\x00\x00" + strings.Repeat("\x00", 12), ""},
	} {
		heard, _ := hearPROFINET([]byte(head + tt.blocks))
		if got := texts(heard.Items); got != tt.want {
			t.Errorf("%s: %s, want %s", name, got, tt.want)
		}
	}
	if _, ok := hearPROFINET(append([]byte(head[:14]), identifyAll()...)); ok {
		t.Error("a question is taken for an answer")
	}
}

// readSharesOf reads bytes as what a pipe gives.
func readSharesOf(message []byte) (shares []string) {
	stub, _, ok := rpcPieces(message)
	if ok {
		shares, _ = readShares(stub)
	}
	more, _ := readShares(message)
	return append(shares, more...)
}

func FuzzPlant(f *testing.F) {
	for _, seed := range []string{bacnetIAmHere, bacnetFarAway, knxDescribed, string(artNetAnswer()), string(cipAnswer()), string(ptpAnswer(1)), string(sacnAnswer()), "\x31\x1d\x00\x13$SYS/broker/versionacorn 20", "</t>;rt=\"a b\";title=c,<", "VAR rack ups.model \"a \\\" b\"",
		"\x01\x00\xaf\x01" + strings.Repeat("\x00", 40), "\x06\x00\xff\x06\x00\x00\x11\xbe\x40" + strings.Repeat("\x00", 24), "\x2b\x0e\x03\x83\x00\x00\x01\x00\x03Lab"} {
		f.Add([]byte(seed))
	}
	f.Fuzz(func(t *testing.T, message []byte) {
		all := &found{}
		for _, port := range []uint16{sipPort, bacnetPort, knxPort, cipPort, artNetPort, coapPort, ptpPort, sacnPort, sapPort} {
			_, items, _ := SetWithout(nil).Hear(Datagram{From: netip.MustParseAddrPort(fmt.Sprintf("10.40.1.9:%d", port)), To: port, Message: message})
			clean(t, items)
		}
		all.takeValues(message)
		readKNX(message, all)
		readCIP(message, all)
		readArtNet(message, all)
		readLinks(string(message), all)
		readUPS(strings.Split(string(message), "\n"), all)
		readOPCUAEndpoints(message, all)
		if counts, err := readOPCUARootOf(message); err == nil && len(counts) > len(opcuaClasses) {
			t.Errorf("%d classes of nodes", len(counts))
		}
		readPong(message, all)
		readIPMI(message, all)
		readRedfish(message, all)
		if shares := readSharesOf(message); len(shares) > 2*maxShares {
			t.Errorf("%d shares of one answer", len(shares))
		}
		_ = ntlmGuest(message)
		readONVIF(message, all)
		readDAV(bytes.NewReader(message), all)
		readArtTable(message, all)
		readPrograms(message, all)
		readExports(message, all)
		_, _ = readRPC(bytes.NewReader(message))
		if heard, ok := hearCDP(slices.Concat([]byte("\x01\x00\x0c\xcc\xcc\xcc\x02\x00\x00\x00\x00\x02\x00\x40"), cdpHead, message)); ok {
			clean(t, heard.Items)
		}
		if over4, _, ok := fromBVLC6(message); ok && len(over4) < 4 {
			t.Error("a message without its head")
		}
		readStatusList(message, 0x11, all)
		readStatusList(message, 0x1c, all)
		readMQTTVersion(bufio.NewReader(bytes.NewReader(message)), all)
		if m, ok := readCoAPMessage(message); ok && len(m.token) > 8 {
			t.Error("a token longer than there are")
		}
		unit := &modbusUnit{}
		if len(message) > 1 {
			unit.readObjects(message, map[byte]bool{})
		}
		clean(t, append(all.items, unit.items...))
		if len(all.items) > 100*maxTargets {
			t.Errorf("%d facts of one answer", len(all.items))
		}
		if heard, ok := hearPROFINET(append([]byte("\x02\x00\x00\x00\x00\x01\x02\x00\x00\x00\x00\x02\x88\x92\xfe\xff\x05\x01"), message...)); ok {
			clean(t, heard.Items)
		}
		_, _, _ = parseBehind(string(message))
	})
}

// bacnetFrom is a message that a router passes on from a place behind it.
func bacnetFrom(from bacnetPlace, apdu ...byte) []byte {
	npdu := append([]byte{1, npduFrom, byte(from.network >> 8), byte(from.network), byte(len(from.address))}, from.address...)
	npdu = append(npdu, apdu...)
	return append([]byte{bvlcType, bvlcUnicast, 0, byte(4 + len(npdu))}, npdu...)
}

// Of very many power supplies a few are asked for.
func TestManyPowerSupplies(t *testing.T) {
	asked := 0
	items := hear(t, upsPort, func(conn net.Conn) {
		lines := bufio.NewScanner(conn)
		for lines.Scan() {
			switch line := lines.Text(); {
			case line == "VER":
				fmt.Fprint(conn, "power 1\n")
			case line == "LIST UPS":
				fmt.Fprint(conn, "BEGIN LIST UPS\n")
				for i := range 100 {
					fmt.Fprintf(conn, "UPS u%d \"\"\n", i)
				}
				fmt.Fprint(conn, "END LIST UPS\n")
			case strings.HasPrefix(line, "LIST VAR "):
				asked++
				fmt.Fprintf(conn, "BEGIN %s\nEND %[1]s\n", line)
			}
		}
	})
	if asked != maxUPSUnits || len(items) != 1+maxUPSUnits {
		t.Errorf("%d were asked for, and %d facts learned", asked, len(items))
	}
}

// What is heard of a device behind a router is read again as it was written.
func TestPlacesBehindARouter(t *testing.T) {
	at, instance, ok := parseBehind("2001/0c 2012")
	if !ok || at != (bacnetPlace{2001, "\x0c"}) || instance != 2012 || at.String() != "2001/0c" {
		t.Errorf("%v %d %v", at, instance, ok)
	}
	for _, text := range []string{"", "2001 5", "0/05 1", "2001/0 1", "2001/0102030405060708 1", "2001/05 9999999", "70000/05 1"} {
		if _, _, ok := parseBehind(text); ok {
			t.Errorf("%q is taken for a place", text)
		}
	}
}

// Whoever claims to have objects without end, and takes his time over each, is read for a while, and not for ever.
func TestObjectsWithoutAnEnd(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		asked, began := 0, time.Now()
		q := queryOf(responder{func(_ uint16, question []byte) [][]byte {
			asked++
			id, service := question[8], question[9]
			if service == bacnetRead && bytes.HasSuffix(question, []byte{0x29, 0}) {
				return one(bacnetMessage(bvlcUnicast, bacnetPlace{}, 0, 0x30, id, service, 0x0c, 2, 0, 0, 1, 0x19, 76, 0x29, 0, 0x3e, 0x24, 0xff, 0xff, 0xff, 0xff, 0x3f))
			}
			time.Sleep(5 * time.Second) // on fake time
			return one(bacnetMessage(bvlcUnicast, bacnetPlace{}, 0, 0x30, id, service, 0x0c, 2, 0, 0, 1, 0x1e, 0x29, 76, 0x39, 1, 0x4e, 0xc4, 0, 0, 0, 1, 0x4f, 0x1f))
		}})
		kept := 0
		q.Keep = func(Reading) { kept++ }
		items := readBACnetObjects(t.Context(), q, []evidence.Item{{Key: evidence.KeyBACnetInstance, Value: "1"}}, &Reading{})
		if took := time.Since(began); took > maxReading+time.Minute || asked > 1000 || kept == 0 || !strings.Contains(texts(items), "bacnet.list-cut=") {
			t.Errorf("%s after %d questions and %v, of which %d were kept", texts(items), asked, took, kept)
		}
	})
}
