package probe

import (
	"context"
	"encoding/binary"
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

// isoDevice answers each message of ISO transport (RFC 1006) with what answer gives; nil hangs up.
func isoDevice(answer func(message []byte) []byte) func(net.Conn) {
	return func(conn net.Conn) {
		for {
			head := make([]byte, 4)
			if _, err := io.ReadFull(conn, head); err != nil {
				return
			}
			message := make([]byte, int(binary.BigEndian.Uint16(head[2:]))-4)
			if _, err := io.ReadFull(conn, message); err != nil {
				return
			}
			a := answer(message)
			if a == nil {
				return
			}
			if _, err := conn.Write(append([]byte{3, 0, byte((len(a) + 4) >> 8), byte(len(a) + 4)}, a...)); err != nil {
				return
			}
		}
	}
}

// listAnswer makes the answer to a question for a status list, of lines of one width.
func listAnswer(list byte, width int, lines ...string) []byte {
	data := []byte{0xff, 9, 0, 0, 0, list, 0, 0, byte(width >> 8), byte(width), byte(len(lines) >> 8), byte(len(lines))}
	for _, line := range lines {
		data = append(data, line...)
		data = append(data, make([]byte, max(0, width-len(line)))...)
	}
	head := []byte{2, 0xf0, 0x80, 0x32, 7, 0, 0, 0, 0, 0, 4, byte(len(data) >> 8), byte(len(data)), 0, 1, 0x12, 8}
	return append(head, data...)
}

// controller is one that takes a connection to a slot, sets up a conversation, and gives lists.
func controller(slot byte, lists map[byte][]byte) func(net.Conn) {
	return isoDevice(func(m []byte) []byte {
		switch {
		case m[1] == 0xe0 && m[len(m)-1] == slot:
			return []byte{6, 0xd0, 0, 1, 0, 2, 0}
		case m[1] == 0xe0:
			return []byte{6, 0x80, 0, 1, 0, 0, 0}
		case m[4] == 1:
			return []byte{2, 0xf0, 0x80, 0x32, 3, 0, 0, 0, 0, 0, 8, 0, 0, 0, 0, 0xf0, 0, 0, 1, 0, 1, 0, 240}
		}
		return lists[m[len(m)-3]]
	})
}

// Controllers say what they are in two lists; those of the newer series at another slot. Nothing else is asked for.
func TestControllersOfISOTransport(t *testing.T) {
	module := listAnswer(0x11, 28, "\x00\x016ES7 315-2EH14-0AB0 ", "\x00\x07"+strings.Repeat(" ", 20)+"\x00\x00V\x03\x02\x06", "\x00\x066ES7 315-2EH14-0AB0 ")
	names := listAnswer(0x1c, 34, "\x00\x01borehole", "\x00\x05S C-X4U421302009", "\x00\x07CPU 315-2 PN/DP", "\x00\x09unknown")
	whole := "s7.answer=accepted|s7.order=6ES7 315-2EH14-0AB0|s7.firmware=3.2.6|s7.hardware=6ES7 315-2EH14-0AB0|s7.name=borehole|s7.serial=S C-X4U421302009|s7.type=CPU 315-2 PN/DP"
	huge := slices.Clone(module)
	binary.BigEndian.PutUint16(huge[3+10+4+8:], 0xffff) // the width of a line
	endless := slices.Clone(module)
	binary.BigEndian.PutUint16(endless[3+10+4+10:], 0xffff) // how many there are
	flat := slices.Clone(module)
	binary.BigEndian.PutUint16(flat[3+10+4+8:], 0)
	for _, tt := range []struct {
		name   string
		device func(net.Conn)
		dials  int
		want   string
	}{
		{"of the older series", controller(2, map[byte][]byte{0x11: module, 0x1c: names}), 0, whole},
		{"of the newer series", controller(1, map[byte][]byte{0x11: module, 0x1c: names}), 1, whole},
		{"at no slot", controller(9, nil), 1, "s7.answer=refused"},
		{"one that hangs up", controller(2, nil), 0, "s7.answer=accepted"},
		{"lines wider than the list", controller(2, map[byte][]byte{0x11: huge, 0x1c: names}), 0, "s7.answer=accepted|s7.name=borehole|s7.serial=S C-X4U421302009|s7.type=CPU 315-2 PN/DP"},
		{"more lines than there are", controller(2, map[byte][]byte{0x11: endless}), 0, "s7.answer=accepted|s7.order=6ES7 315-2EH14-0AB0|s7.firmware=3.2.6|s7.hardware=6ES7 315-2EH14-0AB0"},
		{"lines of no width", controller(2, map[byte][]byte{0x11: flat}), 0, "s7.answer=accepted"},
		{"another list than was asked for", controller(2, map[byte][]byte{0x11: names}), 0, "s7.answer=accepted"},
		{"one that answers as nobody should", isoDevice(func(m []byte) []byte { return []byte{2, 0xf0, 0x80} }), 1, "s7.answer=refused"},
	} {
		d := &pipeDialer{devices: map[uint16]func(net.Conn){isoPort: tt.device}}
		items := talkOver(t, d, isoPort, tt.device)
		if got := texts(items); got != tt.want || len(d.dialled) != tt.dials {
			t.Errorf("%s: %s with %d further connections, want %s", tt.name, texts(items), len(d.dialled), tt.want)
		}
	}
}

// uaDevice answers each message of OPC UA with what answer gives for its kind; nil keeps silent.
func uaDevice(answer func(kind string, body []byte) (string, []byte)) func(net.Conn) {
	return func(conn net.Conn) {
		for {
			head := make([]byte, 8)
			if _, err := io.ReadFull(conn, head); err != nil {
				return
			}
			body := make([]byte, binary.LittleEndian.Uint32(head[4:])-8)
			if _, err := io.ReadFull(conn, body); err != nil {
				return
			}
			kind, a := answer(string(head[:3]), body)
			if kind == "" {
				continue
			}
			message := binary.LittleEndian.AppendUint32([]byte(kind+"F"), uint32(len(a)+8))
			if _, err := conn.Write(append(message, a...)); err != nil {
				return
			}
		}
	}
}

// A server of OPC UA that breaks off, refuses, or gives lengths that are not, is left in time and tells nothing that it has not said.
func TestServersOfOPCUAThatLie(t *testing.T) {
	ack := func(body []byte) []byte { return append(slices.Clone(body[:16]), 0, 0, 0, 0) }
	for name, answer := range map[string]func(kind string, body []byte) (string, []byte){
		"refuses": func(string, []byte) (string, []byte) {
			return "ERR", []byte{0, 0, 0x80, 0x80, 0xff, 0xff, 0xff, 0xff}
		},
		"keeps silent": func(string, []byte) (string, []byte) { return "", nil },
		"accepts, and gives a channel that is none": func(kind string, body []byte) (string, []byte) {
			if kind == "HEL" {
				return "ACK", ack(body)
			}
			return "OPN", []byte{1, 0, 0, 0, 0xff, 0xff, 0xff, 0x7f}
		},
		"gives lengths without an end": func(kind string, body []byte) (string, []byte) {
			if kind == "HEL" {
				return "ACK", ack(body)
			}
			return kind, slices.Repeat([]byte{0xff, 0xff, 0xff, 0x7f}, 64)
		},
		"gives a short acknowledgement": func(string, []byte) (string, []byte) { return "ACK", []byte{0} },
	} {
		synctest.Test(t, func(t *testing.T) {
			began := time.Now()
			ours, theirs := net.Pipe()
			go func() {
				defer theirs.Close()
				uaDevice(answer)(theirs)
			}()
			ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
			defer cancel()
			items := At(opcuaPort).FirstWords(ctx, Query{}, ours, netip.MustParseAddrPort("10.40.1.9:4840"), true)
			if slices.ContainsFunc(items, func(it evidence.Item) bool { return it.Key == "opcua.uri" || it.Key == "opcua.name" }) || time.Since(began) > 2*exchangeWait {
				t.Errorf("%s: %s after %v", name, texts(items), time.Since(began))
			}
		})
	}
}
