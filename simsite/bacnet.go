package simsite

import (
	"encoding/binary"
	"encoding/hex"
	"net"
	"slices"
	"strconv"
	"strings"
	"time"
)

// bacnetStation is a device of BACnet: the one that is asked, or one on a network behind it.
type bacnetStation struct {
	network  uint16
	address  []byte // nil of the device itself
	instance uint32
	tells    map[string]string
}

// Services and errors (ASHRAE 135, 21).
const (
	baReadProperty = 12
	baReadMultiple = 14
	baSegment      = 100 // bytes of an answer in one segment, of a device that has little room
)

// serveBACnet answers as a device of BACnet/IP (ASHRAE 135, annex J): "instance", "name", "vendor" (a number), "maker", "model", "firmware", "application",
// "location", "serial". "behind" lists the devices of an MS/TP network, written "2001/05=1201/Name/Maker/Model/1.2; ..."; "knows: single" makes it one
// that reads a property at a time, "room: little" one that answers in segments, "slow" one that takes its time. "objects" is how many objects it has by the
// number of their type, "0=40 5=20"; "list: cut" makes the second half of that list refuse to be read. "hears: broadcasts" makes it deaf to what is sent to it
// alone, as behind a device that passes on nothing else.
func serveBACnet(conn net.PacketConn, b booth) {
	eachDatagram(conn, bacnetStations(b))
}

// serveBACnet6 is the same over IPv6 (annex U): its virtual address is the number of its device object.
func serveBACnet6(conn net.PacketConn, b booth) {
	answer := bacnetStations(b)
	own := binary.BigEndian.AppendUint32(nil, bacnetInstance(b.service.Tells["instance"]))[1:]
	eachDatagram(conn, func(question []byte) (answers [][]byte) {
		if len(question) < 7 || question[0] != 0x82 {
			return nil
		}
		asker, rest := question[4:7], question[7:]
		switch {
		case question[1] == 6 && len(rest) == 0:
			return [][]byte{slices.Concat([]byte{0x82, 7, 0, 10}, own, asker)}
		case question[1] == 1 && len(rest) > 3 && string(rest[:3]) == string(own):
			rest = rest[3:]
		case question[1] != 2:
			return nil
		}
		for _, a := range answer(slices.Concat([]byte{0x81, 0x0a, 0, 0}, rest)) {
			answers = append(answers, slices.Concat([]byte{0x82, 1, byte((len(a) + 6) >> 8), byte(len(a) + 6)}, own, asker, a[4:]))
		}
		return answers
	})
}

// bacnetStations gives what answers for a device and those behind it.
func bacnetStations(b booth) func(question []byte) [][]byte {
	tells := b.service.Tells
	own := bacnetStation{instance: bacnetInstance(tells["instance"]), tells: tells}
	stations := []bacnetStation{own}
	names, parts := units(tells["behind"])
	for _, name := range names {
		network, address, _ := strings.Cut(name, "/")
		number, _ := strconv.ParseUint(network, 10, 16) // 0 stands for no network
		raw, _ := hex.DecodeString(address)
		p := append(parts[name], "", "", "", "", "")
		stations = append(stations, bacnetStation{uint16(number), raw, bacnetInstance(p[0]), map[string]string{"name": p[1], "maker": p[2], "model": p[3], "firmware": p[4], "vendor": tells["vendor"]}})
	}
	segments := map[byte][]byte{} // what is left of answers in segments, by the number of the question
	deaf := tells["hears"] == "broadcasts"
	return func(question []byte) [][]byte {
		if deaf && len(question) > 1 && question[1] != 0x0b {
			return nil
		}
		if len(question) < 6 || question[0] != 0x81 || question[1] != 0x0a && question[1] != 0x0b {
			if len(question) == 4 && question[0] == 0x81 {
				time.Sleep(slowness(b.service))
				return [][]byte{{0x81, 0, 0, 6, 0, question[1] << 4}} // it has no tables
			}
			return nil
		}
		if question[5]&4 != 0 { // it wants an answer
			time.Sleep(slowness(b.service))
		}
		return bacnetAnswers(question[4:], stations, segments)
	}
}

func bacnetInstance(text string) uint32 {
	n, _ := strconv.ParseUint(text, 10, 22) // 0 where it is none
	return uint32(n)
}

// bacnetAnswers answers one message of the network layer (6.2).
func bacnetAnswers(npdu []byte, stations []bacnetStation, segments map[byte][]byte) (answers [][]byte) {
	control, rest := npdu[1], npdu[2:]
	network, address := uint16(0), []byte(nil)
	if control&0x20 != 0 && len(rest) >= 4 && len(rest) >= 4+int(rest[2]) {
		network, address = binary.BigEndian.Uint16(rest), rest[3:3+int(rest[2])]
		rest = rest[4+int(rest[2]):]
	}
	send := func(from bacnetStation, control byte, body []byte) {
		head := []byte{1, control}
		if from.network != 0 {
			head[1] |= 8
			head = binary.BigEndian.AppendUint16(head, from.network)
			head = append(append(head, byte(len(from.address))), from.address...)
		}
		all := append(head, body...)
		answers = append(answers, append([]byte{0x81, 0x0a, byte((len(all) + 4) >> 8), byte(len(all) + 4)}, all...))
	}
	if control&0x80 != 0 {
		if len(rest) > 0 && rest[0] == 0 && len(stations) > 1 { // who leads anywhere?
			send(stations[0], 0x80, binary.BigEndian.AppendUint16([]byte{1}, stations[1].network))
		}
		return answers
	}
	if len(rest) < 2 {
		return nil
	}
	for _, s := range stations {
		all := network == 0xffff || s.network == network && len(address) == 0
		if !all && (s.network != network || string(s.address) != string(address)) {
			continue
		}
		switch rest[0] >> 4 {
		case 1:
			if rest[1] == 8 && bacnetMeant(rest[2:], s.instance) {
				send(s, 0, bacnetHere(s))
			}
		case 0:
			if body := bacnetConfirmed(rest, s, segments); body != nil {
				send(s, 0, body)
			}
		case 4:
			if len(rest) >= 4 {
				if body := bacnetSegment(rest[1], rest[2]+1, segments[rest[1]]); body != nil {
					send(s, 0, body)
				}
			}
		}
	}
	return answers
}

// bacnetMeant reports whether a call for a range of numbers means one (16.10.1).
func bacnetMeant(limits []byte, instance uint32) bool {
	var numbers []uint32
	for len(limits) > 0 {
		length := int(limits[0] & 7)
		if len(limits) < 1+length {
			return false
		}
		n := uint32(0)
		for _, c := range limits[1 : 1+length] {
			n = n<<8 | uint32(c)
		}
		numbers, limits = append(numbers, n), limits[1+length:]
	}
	return len(numbers) < 2 || numbers[0] <= instance && instance <= numbers[1]
}

// bacnetHere says that a device is there (16.10.2).
func bacnetHere(s bacnetStation) []byte {
	body := binary.BigEndian.AppendUint32([]byte{0x10, 0, 0xc4}, 8<<22|s.instance)
	return append(append(body, 0x22, 0x05, 0xc4, 0x91, 0), bacnetUnsigned(uint32(bacnetInstance(s.tells["vendor"])))...)
}

func bacnetUnsigned(n uint32) []byte {
	raw := binary.BigEndian.AppendUint32(nil, n)
	for len(raw) > 1 && raw[0] == 0 {
		raw = raw[1:]
	}
	return append([]byte{0x20 | byte(len(raw))}, raw...)
}

// bacnetObjects gives the objects of a device beside its own, from "objects".
func bacnetObjects(tells map[string]string) (objects []uint32) {
	for _, one := range strings.Fields(tells["objects"]) {
		kind, count, _ := strings.Cut(one, "=")
		number, _ := strconv.ParseUint(kind, 10, 10) // 0 where it is none
		many, _ := strconv.ParseUint(count, 10, 16)
		for i := range uint32(many) {
			objects = append(objects, uint32(number)<<22|(i+1))
		}
	}
	return objects
}

// bacnetList gives a place of the list of objects, its length for the place 0, or all of it for one below (12.1.5); nil where it is refused.
func bacnetList(s bacnetStation, place int) []byte {
	objects := append([]uint32{8<<22 | s.instance}, bacnetObjects(s.tells)...)
	last := len(objects)
	if s.tells["list"] == "cut" {
		last /= 2
	}
	name := func(object uint32) []byte { return binary.BigEndian.AppendUint32([]byte{0xc4}, object) }
	switch {
	case place == 0:
		return bacnetUnsigned(uint32(len(objects)))
	case place > 0 && place <= last:
		return name(objects[place-1])
	case place > 0 || last < len(objects) || len(objects)*5 > 1400:
		return nil
	}
	var all []byte
	for _, object := range objects {
		all = append(all, name(object)...)
	}
	return all
}

// bacnetValue gives the value of a property of the device object; nil where it has none.
func bacnetValue(s bacnetStation, property uint32) []byte {
	text := func(key string) []byte {
		if s.tells[key] == "" {
			return nil
		}
		t := s.tells[key]
		if len(t) < 4 {
			return append([]byte{0x70 | byte(len(t)+1), 0}, t...)
		}
		return append([]byte{0x75, byte(len(t) + 1), 0}, t...)
	}
	switch property {
	case 75:
		return binary.BigEndian.AppendUint32([]byte{0xc4}, 8<<22|s.instance)
	case 77:
		return text("name")
	case 120:
		return bacnetUnsigned(bacnetInstance(s.tells["vendor"]))
	case 121:
		return text("maker")
	case 70:
		return text("model")
	case 44:
		return text("firmware")
	case 12:
		return text("application")
	case 58:
		return text("location")
	case 372:
		return text("serial")
	}
	return nil
}

// bacnetConfirmed answers a question that wants an answer (20.1.2).
func bacnetConfirmed(apdu []byte, s bacnetStation, segments map[byte][]byte) []byte {
	if len(apdu) < 10 || apdu[4] != 0x0c {
		return nil
	}
	id, service := apdu[2], apdu[3]
	object := binary.BigEndian.Uint32(apdu[5:])
	if object != 8<<22|s.instance && object != 8<<22|(1<<22-1) {
		return []byte{0x50, id, service, 0x91, 1, 0x91, 31} // unknown object
	}
	named := binary.BigEndian.AppendUint32([]byte{0x0c}, 8<<22|s.instance)
	property := func(raw []byte) (number uint32, rest []byte) {
		length := int(raw[0] & 7)
		for _, c := range raw[1:min(len(raw), 1+length)] {
			number = number<<8 | uint32(c)
		}
		return number, raw[min(len(raw), 1+length):]
	}
	switch {
	case service == baReadProperty:
		number, rest := property(apdu[9:])
		place := -1
		if len(rest) > 1 && rest[0]&0xf8 == 0x28 {
			at, _ := property(rest)
			place = int(at)
		}
		value := bacnetValue(s, number)
		if number == 76 {
			value = bacnetList(s, place)
		}
		if value == nil {
			return []byte{0x50, id, service, 0x91, 2, 0x91, 32} // unknown property
		}
		body := append(append([]byte{0x30, id, service}, named...), bacnetContext(1, number)...)
		if place >= 0 {
			body = append(body, bacnetContext(2, uint32(place))...)
		}
		return append(append(append(body, 0x3e), value...), 0x3f)
	case service == baReadMultiple && s.tells["knows"] == "single":
		return []byte{0x60, id, 9} // unrecognized service
	case service == baReadMultiple && apdu[9] == 0x1e:
		list := append(append([]byte{}, named...), 0x1e)
		for rest := apdu[10:]; len(rest) > 1 && rest[0] != 0x1f; {
			var number uint32
			number, rest = property(rest)
			list = append(list, bacnetContext(2, number)...)
			value := bacnetValue(s, number)
			if number == 76 && len(rest) > 1 && rest[0]&0xf8 == 0x18 {
				var place uint32
				place, rest = property(rest)
				list = append(list, bacnetContext(3, place)...)
				value = bacnetList(s, int(place))
			}
			if value != nil {
				list = append(append(append(list, 0x4e), value...), 0x4f)
			} else {
				list = append(list, 0x5e, 0x91, 2, 0x91, 32, 0x5f)
			}
		}
		list = append(list, 0x1f)
		if s.tells["room"] != "little" {
			return append([]byte{0x30, id, service}, list...)
		}
		segments[id] = list
		return bacnetSegment(id, 0, list)
	}
	return []byte{0x60, id, 9}
}

func bacnetContext(tag byte, number uint32) []byte {
	if number < 256 {
		return []byte{tag<<4 | 9, byte(number)}
	}
	return []byte{tag<<4 | 10, byte(number >> 8), byte(number)}
}

// bacnetSegment gives one segment of an answer (20.1.5); nothing behind the last.
func bacnetSegment(id, number byte, list []byte) []byte {
	from := int(number) * baSegment
	if from >= len(list) {
		return nil
	}
	to := min(len(list), from+baSegment)
	flags := byte(0x38)
	if to < len(list) {
		flags |= 4
	}
	return append([]byte{flags, id, number, 1, baReadMultiple}, list[from:to]...)
}
