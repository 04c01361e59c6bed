package simsite

import (
	"bufio"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"io"
	"net"
	"slices"
	"strconv"
	"strings"
	"time"

	"airdrift/core/netrange"
)

// What plant and machines speak by connection: Modbus, the management of power supplies, projectors, and controllers on ISO transport.

// units reads what stands behind a device, written "1=Maker/Model/2.11; 2=...", to the parts of each by its name.
func units(text string) (names []string, parts map[string][]string) {
	parts = map[string][]string{}
	for unit := range strings.SplitSeq(text, ";") {
		name, what, ok := strings.Cut(strings.TrimSpace(unit), "=")
		if ok {
			names, parts[name] = append(names, name), strings.Split(what, "/")
		}
	}
	return names, parts
}

// serveModbus identifies itself and those behind it (Modbus Application Protocol 1.1b3, 6.21): "maker", "code", "revision", "product",
// "model" and "application" are its own objects, "units" those behind it, "answers: any" makes it answer for every unit as itself, and "knows: server"
// makes it one that has nothing but an identifier of the server (6.13).
func serveModbus(conn net.Conn, s Service) {
	tells := s.Tells
	_, behind := units(tells["units"])
	for {
		head := make([]byte, 7)
		if _, err := io.ReadFull(conn, head); err != nil {
			return
		}
		length := int(head[4])<<8 | int(head[5])
		if length < 2 || length > 254 {
			return
		}
		pdu := make([]byte, length-1)
		if _, err := io.ReadFull(conn, pdu); err != nil {
			return
		}
		objects := []string{tells["maker"], tells["code"], tells["revision"], "", tells["product"], tells["model"], tells["application"]}
		unit := strconv.Itoa(int(head[6]))
		answer := []byte{pdu[0] | 0x80, 11}
		switch {
		case behind[unit] != nil:
			p := append(behind[unit], "", "", "")
			answer = modbusAnswer(pdu, []string{p[0], p[1], p[2]}, "")
		case head[6] == 255 || head[6] == 0 || head[6] == 1 && len(behind) == 0 || tells["answers"] == "any":
			answer = modbusAnswer(pdu, objects, tells["knows"])
		case len(behind) == 0:
			continue // a device that stands alone keeps silent to what is meant for others
		}
		message := append(head[:4:4], byte((len(answer)+1)>>8), byte(len(answer)+1), head[6])
		if _, err := conn.Write(append(message, answer...)); err != nil {
			return
		}
	}
}

// modbusAnswer answers one question, with two objects at a time where a stream is asked for.
func modbusAnswer(pdu []byte, objects []string, knows string) []byte {
	refuse := func(code byte) []byte { return []byte{pdu[0] | 0x80, code} }
	switch {
	case pdu[0] == 17 && knows == "server":
		text := objects[5]
		return append(append([]byte{17, byte(len(text) + 2), 7}, text...), 0xff)
	case pdu[0] != 43 || knows == "server":
		return refuse(1)
	case len(pdu) < 4 || pdu[1] != 14:
		return refuse(3)
	}
	last := 2
	if pdu[2] >= 2 && len(objects) > 3 {
		last = 6
	}
	if pdu[2] == 4 {
		last = int(pdu[3])
	}
	var list []byte
	count, next := 0, -1
	for object := int(pdu[3]); object <= last && object < len(objects); object++ {
		if objects[object] == "" {
			continue
		}
		if count == 2 {
			next = object
			break
		}
		count++
		list = append(append(list, byte(object), byte(len(objects[object]))), objects[object]...)
	}
	more, at := byte(0), byte(0)
	if next > 0 {
		more, at = 0xff, byte(next)
	}
	return append([]byte{43, 14, pdu[2], 0x82, more, at, byte(count)}, list...)
}

// serveUPS manages power supplies (RFC 9271, 4.2): "program", and "units" as name=maker/model/serial/firmware.
func serveUPS(conn net.Conn, s Service) {
	names, parts := units(s.Tells["units"])
	lines := bufio.NewScanner(io.LimitReader(conn, 64<<10))
	for lines.Scan() {
		words := strings.Fields(lines.Text())
		switch command := strings.Join(words, " "); {
		case command == "VER":
			fmt.Fprintf(conn, "%s\n", s.Tells["program"])
		case command == "LIST UPS":
			fmt.Fprint(conn, "BEGIN LIST UPS\n")
			for _, name := range names {
				fmt.Fprintf(conn, "UPS %s \"the \\\"%s\\\" supply\"\n", name, name)
			}
			fmt.Fprint(conn, "END LIST UPS\n")
		case len(words) == 3 && words[0] == "LIST" && words[1] == "VAR" && parts[words[2]] != nil:
			fmt.Fprintf(conn, "BEGIN LIST VAR %s\n", words[2])
			p := append(parts[words[2]], "", "", "", "")
			for i, variable := range []string{"device.mfr", "device.model", "device.serial", "ups.firmware"} {
				fmt.Fprintf(conn, "VAR %s %s \"%s\"\n", words[2], variable, p[i])
			}
			fmt.Fprintf(conn, "VAR %s ups.status \"OL\"\nEND LIST VAR %s\n", words[2], words[2])
		case command == "LOGOUT":
			fmt.Fprint(conn, "OK Goodbye\n")
			return
		default:
			fmt.Fprint(conn, "ERR UNKNOWN-COMMAND\n")
		}
	}
}

// servePJLink answers the questions of class 1, and of class 2 where it has a serial number (JBMIA PJLink); "locked" wants a password.
func servePJLink(conn net.Conn, s Service) {
	tells := s.Tells
	if tells["locked"] != "" {
		_, _ = io.WriteString(conn, "PJLINK 1 3b79e2a1\r")
		_, _ = io.Copy(io.Discard, conn)
		return
	}
	class := "1"
	if tells["serial"] != "" {
		class = "2"
	}
	values := map[string]string{"%1CLSS": class, "%1NAME": tells["name"], "%1INF1": tells["maker"], "%1INF2": tells["model"], "%1INFO": "ERR3", "%2SNUM": tells["serial"], "%2SVER": tells["firmware"]}
	if _, err := io.WriteString(conn, "PJLINK 0\r"); err != nil {
		return
	}
	reader := bufio.NewReader(io.LimitReader(conn, 64<<10))
	for {
		line, err := reader.ReadString('\r')
		if err != nil {
			return
		}
		command, argument, _ := strings.Cut(strings.TrimSuffix(line, "\r"), " ")
		value, known := values[command]
		switch {
		case !known:
			value = "ERR1"
		case argument != "?":
			value = "ERR2"
		}
		fmt.Fprintf(conn, "%s=%s\r", command, value)
	}
}

// serveISO takes a connection of ISO transport (RFC 1006) to the slot that "slot" names, and gives the status lists of a controller: "order", "firmware",
// "name", "type", "serial", "rights".
func serveISO(conn net.Conn, s Service) {
	for {
		head := make([]byte, 4)
		if _, err := io.ReadFull(conn, head); err != nil || head[0] != 3 {
			return
		}
		body := make([]byte, max(0, int(head[2])<<8+int(head[3])-4))
		if _, err := io.ReadFull(conn, body); err != nil || len(body) < 3 {
			return
		}
		var answer []byte
		switch {
		case body[1] == 0xe0 && strconv.Itoa(int(body[len(body)-1])) != s.Tells["slot"]:
			answer = []byte{6, 0x80, body[4], body[5], 0, 0, 0}
		case body[1] == 0xe0:
			answer = append([]byte{byte(len(body) - 1), 0xd0, body[4], body[5], 0, 9}, body[6:]...)
		case body[1] == 0xf0 && len(body) >= 13 && body[4] == 1:
			answer = []byte{2, 0xf0, 0x80, 0x32, 3, 0, 0, body[7], body[8], 0, 8, 0, 0, 0, 0, 0xf0, 0, 0, 1, 0, 1, 0, 240}
		case body[1] == 0xf0 && len(body) >= 29 && body[4] == 7:
			answer = append([]byte{2, 0xf0, 0x80}, statusList(body[7:9], body[len(body)-3], s.Tells)...)
		default:
			return
		}
		if _, err := conn.Write(append([]byte{3, 0, byte((len(answer) + 4) >> 8), byte(len(answer) + 4)}, answer...)); err != nil {
			return
		}
	}
}

// statusList makes the answer to a question for one list.
func statusList(reference []byte, list byte, tells map[string]string) []byte {
	width := 34
	var lines []byte
	line := func(index byte, text string, rest ...byte) {
		one := make([]byte, width)
		one[1] = index
		copy(one[2:], text)
		if rest != nil {
			copy(one[22:], rest)
		}
		lines = append(lines, one...)
	}
	if list == 0x11 {
		width = 28
		digits := strings.Split(tells["firmware"]+".0.0.0", ".")
		version := make([]byte, 3)
		for i := range version {
			n, _ := strconv.ParseUint(digits[i], 10, 8) // 0 where it is none
			version[i] = byte(n)
		}
		line(1, fmt.Sprintf("%-20s", tells["order"]))
		line(7, strings.Repeat(" ", 20), 0, 0, 'V', version[0], version[1], version[2])
	} else {
		line(1, tells["name"])
		line(4, tells["rights"])
		line(5, tells["serial"])
		line(7, tells["type"])
	}
	data := append([]byte{0xff, 9, byte((len(lines) + 8) >> 8), byte(len(lines) + 8), 0, list, 0, 0, 0, byte(width), 0, byte(len(lines) / width)}, lines...)
	parameters := []byte{0, 1, 0x12, 8, 0x12, 0x84, 1, 1, 0, 0, 0, 0}
	return append(append([]byte{0x32, 7, 0, 0, reference[0], reference[1], 0, byte(len(parameters)), byte(len(data) >> 8), byte(len(data))}, parameters...), data...)
}

// serveKNX answers descriptions and searches (ISO 22510, 7.6): "name", "address" such as 1.1.0, "serial" in hexadecimal.
func serveKNX(conn net.PacketConn, b booth) {
	tells := b.service.Tells
	eachDatagram(conn, func(question []byte) [][]byte {
		if len(question) != 14 || question[0] != 6 || question[1] != 0x10 || question[2] != 2 {
			return nil
		}
		device := make([]byte, 54)
		device[0], device[1], device[2] = 54, 1, 2
		var area, line, number int
		if _, err := fmt.Sscanf(tells["address"], "%d.%d.%d", &area, &line, &number); err == nil {
			device[4], device[5] = byte(area<<4|line), byte(number)
		}
		serial, _ := hex.DecodeString(tells["serial"]) // none where it is none
		copy(device[8:14], serial)
		copy(device[14:18], []byte{224, 0, 23, 12})
		copy(device[18:24], b.device.Legs[0].MAC[:])
		copy(device[24:53], tells["name"])
		body := append(device, 8, 2, 2, 1, 3, 1, 4, 1)
		service := byte(4)
		if question[3] == 1 {
			at := b.addr().As4()
			service, body = 2, append([]byte{8, 1, at[0], at[1], at[2], at[3], 0x0e, 0x57}, body...)
		} else if question[3] != 3 {
			return nil
		}
		return [][]byte{append([]byte{6, 0x10, 2, service, 0, byte(len(body) + 6)}, body...)}
	})
}

// cipIdentity makes the identity of a device (CIP volume 2, 2-4.2.3): "vendor", "type" and "code" are numbers, "revision" two of them.
func cipIdentity(question []byte, tells map[string]string) []byte {
	if len(question) < 24 || question[0] != 0x63 {
		return nil
	}
	number := func(key string) uint16 {
		n, _ := strconv.ParseUint(tells[key], 10, 16) // 0 where it is none
		return uint16(n)
	}
	var major, minor byte
	_, _ = fmt.Sscanf(tells["revision"], "%d.%d", &major, &minor) // 0.0 where it is none
	serial, _ := hex.DecodeString(tells["serial"])
	serial = append(serial, 0, 0, 0, 0)
	le := binary.LittleEndian
	item := append([]byte{1, 0}, make([]byte, 16)...)
	item = le.AppendUint16(item, number("vendor"))
	item = le.AppendUint16(item, number("type"))
	item = le.AppendUint16(item, number("code"))
	item = append(item, major, minor, 0, 0)
	item = append(item, serial[3], serial[2], serial[1], serial[0])
	item = append(append(append(item, byte(len(tells["product"]))), tells["product"]...), 3)
	answer := append([]byte{}, question[:24]...)
	le.PutUint16(answer[2:], uint16(len(item)+6))
	answer = append(answer, 1, 0, 0x0c, 0)
	return append(le.AppendUint16(answer, uint16(len(item))), item...)
}

func serveCIP(conn net.PacketConn, b booth) {
	eachDatagram(conn, func(question []byte) [][]byte {
		if answer := cipIdentity(question, b.service.Tells); answer != nil {
			return [][]byte{answer}
		}
		return nil
	})
}

func serveCIPConn(conn net.Conn, s Service) {
	question := make([]byte, 24)
	for {
		if _, err := io.ReadFull(conn, question); err != nil {
			return
		}
		if answer := cipIdentity(question, s.Tells); answer != nil {
			if _, err := conn.Write(answer); err != nil {
				return
			}
		}
	}
}

// coapBlockSize is the size of the blocks in which a list is given, in bytes.
const coapBlockSize = 64

// serveCoAP gives the list of its resources in blocks of 64 bytes (RFC 6690, RFC 7959): "links" is that list. "maker", "model", "serial" and "firmware" are
// resources of its device object (OMA LwM2M 1.1, E.4).
func serveCoAP(conn net.PacketConn, b booth) {
	list := b.service.Tells["links"]
	eachDatagram(conn, func(question []byte) [][]byte {
		if len(question) < 4 || question[0]>>6 != 1 || question[1] != 1 {
			return nil
		}
		length := int(question[0] & 15)
		token := question[4:min(len(question), 4+length)]
		for resource, key := range []string{"maker", "model", "serial", "firmware"} {
			value := b.service.Tells[key]
			if value != "" && string(question[4+len(token):]) == fmt.Sprintf("\xb13\x010\x01%d\x60", resource) {
				answer := append([]byte{1<<6 | 2<<4 | byte(len(token)), 2<<5 | 5, question[2], question[3]}, token...)
				return [][]byte{append(append(answer, 0xff), value...)}
			}
		}
		if !strings.Contains(string(question), ".well-known") {
			return nil
		}
		at := 0
		if rest, ok := strings.CutPrefix(string(question[4+len(token):]), "\xbb.well-known\x04core"); ok && len(rest) >= 2 {
			for _, c := range []byte(rest[1:]) {
				at = at<<8 | int(c)
			}
			if at &= 0xfffff; at&7 != 2 {
				return nil // by blocks of another size than it was given
			}
			at >>= 4
		}
		from := min(len(list), at*coapBlockSize)
		to := min(len(list), from+coapBlockSize)
		block := byte(at<<4 | 2)
		if to < len(list) {
			block |= 8
		}
		answer := append([]byte{1<<6 | 2<<4 | byte(len(token)), 2<<5 | 5, question[2], question[3]}, token...)
		answer = append(answer, 0xc1, 40, 0xb1, block, 0xff)
		return [][]byte{append(answer, list[from:to]...)}
	})
}

// serveArtNet answers polls (Art-Net 4): "name", "text", "revision"; "rdm" lists the devices on the output of its first port, written
// "7ff0:00000012 7ff0:00000013". "replies: broadcast" has it answer to all of its own subnet, as nodes did before Art-Net 4.
func serveArtNet(conn net.PacketConn, b booth) {
	tells := b.service.Tells
	var devices []byte
	for _, uid := range strings.Fields(tells["rdm"]) {
		raw, _ := hex.DecodeString(strings.ReplaceAll(uid, ":", "")) // none where it is none
		devices = append(devices, raw...)
	}
	var to net.IP // who has asked
	if tells["replies"] == "broadcast" {
		to = netrange.Last(b.device.Legs[0].Subnet).AsSlice()
	}
	eachDatagramTo(conn, to, 6454, func(question []byte) []byte {
		if len(question) == 56 && strings.HasPrefix(string(question), "Art-Net\x00\x00\x80\x00\x0e") && devices != nil && question[21] == 0 && slices.Contains(question[24:24+question[23]], 0x13) {
			table := append([]byte("Art-Net\x00\x00\x81\x00\x0e\x01\x01"), make([]byte, 14)...)
			table[23], table[25], table[27] = 0x13, byte(len(devices)/6), byte(len(devices)/6)
			return append(table, devices...)
		}
		if len(question) < 12 || !strings.HasPrefix(string(question), "Art-Net\x00\x00\x20") {
			return nil
		}
		reply := make([]byte, 239)
		copy(reply, "Art-Net\x00\x00\x21")
		at := b.addr().As4()
		copy(reply[10:], at[:])
		reply[14], reply[15] = 0x36, 0x19
		_, _ = fmt.Sscanf(tells["revision"], "%d.%d", &reply[16], &reply[17])
		copy(reply[26:43], tells["name"])
		copy(reply[44:107], tells["text"])
		copy(reply[108:], "#0001 [0001] ready")
		reply[173] = 4
		if devices != nil {
			reply[23], reply[174], reply[19], reply[190] = 2, 0x80, 1, 3
		}
		copy(reply[201:], b.device.Legs[0].MAC[:])
		return reply
	})
}

// eachDatagramTo answers at a port of its own, whatever port the question came from: to an address of its own, or to who asks where that is nil.
func eachDatagramTo(conn net.PacketConn, to net.IP, port int, answer func(question []byte) []byte) {
	buf := make([]byte, 1<<16)
	for {
		n, from, err := conn.ReadFrom(buf)
		if err != nil {
			return
		}
		if asker, ok := from.(*net.UDPAddr); ok {
			if a := answer(buf[:n]); a != nil {
				at := to
				if at == nil {
					at = asker.IP
				}
				_, _ = conn.WriteTo(a, &net.UDPAddr{IP: at, Port: port}) // who has gone away is no loss
			}
		}
	}
}

// serveIPMI answers pings and the question how one signs in (ASF 2.0, IPMI 2.0).
func serveIPMI(conn net.PacketConn, _ booth) {
	eachDatagram(conn, func(question []byte) [][]byte {
		switch {
		case len(question) >= 12 && question[3] == 6 && question[8] == 0x80:
			return [][]byte{{6, 0, 0xff, 6, 0, 0, 0x11, 0xbe, 0x40, question[9], 0, 16, 0, 0, 0x11, 0xbe, 0, 0, 0, 0, 0x81, 0, 0, 0, 0, 0, 0, 0}}
		case len(question) >= 23 && question[3] == 7 && question[19] == 0x38:
			body := []byte{0x81, 0x1c, 0x63, 0x20, question[18], 0x38, 0, 1, 0x94, 4, 3, 0, 0, 0, 0, 0}
			return [][]byte{append([]byte{6, 0, 0xff, 7, 0, 0, 0, 0, 0, 0, 0, 0, 0, byte(len(body))}, body...)}
		}
		return nil
	})
}

// slowness gives how long a service takes over an answer.
func slowness(s Service) time.Duration {
	wait, _ := time.ParseDuration(s.Tells["slow"]) // none where it is none
	return wait
}
