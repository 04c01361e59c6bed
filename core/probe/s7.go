package probe

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"net"
	"net/netip"

	"airdrift/core/evidence"
)

// Keys of the facts.
const (
	keyS7Answer   = "s7.answer"
	keyS7Order    = "s7.order"
	keyS7Hardware = "s7.hardware"
	keyS7Firmware = "s7.firmware"
	keyS7Name     = "s7.name"
	keyS7Module   = "s7.module"
	keyS7Type     = "s7.type"
	keyS7Plant    = "s7.plant"
	keyS7Serial   = "s7.serial"
	keyS7Rights   = "s7.rights"
)

const isoPort = 102

var _ = register(Protocol{
	Name: "s7", Source: evidence.SourceS7, Cost: Middling,
	Ports: []uint16{isoPort}, Usual: []uint16{isoPort}, Telling: []uint16{isoPort}, Talk: talkS7,
	Facts: []evidence.Fact{
		{Key: keyS7Answer, Says: "how it takes a connection of its transport", Standard: "ISO 8073 over RFC 1006", Example: "accepted"},
		{Key: keyS7Order, Says: "order number of the module", Standard: "system status list 0011, index 1", Example: "6ES7 315-2EH14-0AB0", Describes: true},
		{Key: keyS7Hardware, Says: "order number of the hardware", Standard: "system status list 0011, index 6", Example: "6ES7 315-2EH14-0AB0"},
		{Key: keyS7Firmware, Says: "version of its firmware", Standard: "system status list 0011, index 7", Example: "3.2.6"},
		{Key: keyS7Name, Says: "name of the system", Standard: "system status list 001c, index 1", Example: "borehole plant"},
		{Key: keyS7Module, Says: "name of the module", Standard: "system status list 001c, index 2", Example: "CPU 1"},
		{Key: keyS7Type, Says: "type of the module", Standard: "system status list 001c, index 7", Example: "CPU 315-2 PN/DP", Describes: true},
		{Key: keyS7Plant, Says: "its keeper's mark of the plant", Standard: "system status list 001c, index 3", Example: "BH-2"},
		{Key: keyS7Serial, Says: "serial number", Standard: "system status list 001c, index 5", Example: "S C-X4U421302009"},
		{Key: keyS7Rights, Says: "who made it", Standard: "system status list 001c, index 4", Example: "Original Thornquist Equipment", Names: 12},
	},
})

const (
	cotpData = 0xf0
	s7Magic  = 0x32
)

// s7Slots are the places that a connection is asked for: the processor of the older series, and of the newer.
var s7Slots = []byte{2, 1}

// s7Components are the keys of the parts of status list 001c, by their index.
var s7Components = map[uint16]string{1: keyS7Name, 2: keyS7Module, 3: keyS7Plant, 4: keyS7Rights, 5: keyS7Serial, 7: keyS7Type}

// talkS7 opens a connection of the transport and reads the lists by which a controller identifies itself. No value of the plant is
// read, and nothing is written.
func talkS7(ctx context.Context, conn net.Conn, addr netip.AddrPort, f *found) {
	for n, slot := range s7Slots {
		if n > 0 {
			next, err := f.dialer.Dial(ctx, "tcp", addr, exchangeWait)
			if err != nil {
				return
			}
			defer next.Close()
			defer deadline(ctx, next)()
			conn = next
		}
		accepted, answered := openCOTP(conn, slot)
		if !answered {
			return
		}
		if !accepted {
			continue
		}
		f.add(evidence.SourceS7, keyS7Answer, []byte("accepted"))
		readS7(conn, f)
		return
	}
	f.add(evidence.SourceS7, keyS7Answer, []byte("refused"))
}

// openCOTP asks for a connection to a slot of the first rack (ISO 8073, 13.3).
func openCOTP(conn net.Conn, slot byte) (accepted, answered bool) {
	if _, err := conn.Write(tpkt(17, 0xe0, 0, 0, 0, 1, 0, 0xc0, 1, 10, 0xc1, 2, 1, 0, 0xc2, 2, 1, slot)); err != nil {
		return false, false
	}
	answer, err := readTPKT(conn)
	if err != nil {
		return false, false
	}
	return answer[1]&0xf0 == cotpAccept, true
}

// readS7 sets up the conversation and reads the lists.
func readS7(conn net.Conn, f *found) {
	ask := func(pdu ...byte) []byte {
		if _, err := conn.Write(tpkt(append([]byte{2, cotpData, 0x80}, pdu...)...)); err != nil {
			return nil
		}
		answer, err := readTPKT(conn)
		if err != nil || len(answer) < 3+10 || answer[1] != cotpData || answer[3] != s7Magic {
			return nil
		}
		return answer[3:]
	}
	if ask(s7Magic, 1, 0, 0, 0, 1, 0, 8, 0, 0, 0xf0, 0, 0, 1, 0, 1, 1, 0xe0) == nil {
		return
	}
	for n, list := range []byte{0x11, 0x1c} {
		answer := ask(s7Magic, 7, 0, 0, 0, byte(2+n), 0, 8, 0, 8, 0, 1, 0x12, 4, 0x11, 0x44, 1, 0, 0xff, 9, 0, 4, 0, list, 0, 0)
		readStatusList(answer, list, f)
	}
}

// readStatusList reads the answer to a question for a system status list.
func readStatusList(pdu []byte, list byte, f *found) {
	if len(pdu) < 10 || pdu[1] != 7 {
		return
	}
	parameters := int(binary.BigEndian.Uint16(pdu[6:]))
	if len(pdu) < 10+parameters+12 {
		return
	}
	data := pdu[10+parameters:]
	if data[0] != 0xff || binary.BigEndian.Uint16(data[4:]) != uint16(list) {
		return
	}
	width, count := int(binary.BigEndian.Uint16(data[8:])), int(binary.BigEndian.Uint16(data[10:]))
	for rest := data[12:]; count > 0 && width >= 2 && len(rest) >= width; count-- {
		f.takeS7(list, binary.BigEndian.Uint16(rest), rest[2:width])
		rest = rest[width:]
	}
}

// takeS7 takes in one line of a status list.
func (f *found) takeS7(list byte, index uint16, line []byte) {
	text := func(raw []byte) []byte {
		raw, _, _ = bytes.Cut(raw, []byte{0})
		return bytes.TrimSpace(raw)
	}
	switch {
	case list == 0x11 && len(line) >= 26:
		switch index {
		case 1:
			f.addOnce(evidence.SourceS7, keyS7Order, text(line[:20]))
		case 6:
			f.addOnce(evidence.SourceS7, keyS7Hardware, text(line[:20]))
		case 7:
			if line[22] == 'V' {
				f.addOnce(evidence.SourceS7, keyS7Firmware, fmt.Appendf(nil, "%d.%d.%d", line[23], line[24], line[25]))
			}
		}
	case list == 0x1c && s7Components[index] != "":
		f.addOnce(evidence.SourceS7, s7Components[index], text(line))
	}
}
