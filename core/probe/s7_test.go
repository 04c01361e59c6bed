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

// A server's root is read as slowly as the pace wants it: each question has its time after its turn. A server that closes to anybody meanwhile tells nothing.
func TestRootOfOPCUAIsReadAtASlowPace(t *testing.T) {
	known := []evidence.Item{
		{Key: keyOPCUASecurity, Value: "sign, Basic256Sha256", Port: evidence.TCP(4841)}, {Key: keyOPCUASecurity, Value: opcuaUnsecured, Port: evidence.TCP(opcuaPort)},
		{Key: keyOPCUAIdentity, Value: opcuaAnybody, Port: evidence.TCP(opcuaPort)},
	}
	if !readsOPCUA(known) || readsOPCUA(known[:1]) {
		t.Fatal("who lets anybody in is read, and nobody else")
	}
	head := func(kind uint16) []byte {
		return append(append([]byte{1, 0, byte(kind), byte(kind >> 8)}, make([]byte, 17)...), 0, 0, 0, 0, 0, 0, 0)
	}
	null := []byte{0xff, 0xff, 0xff, 0xff}
	synctest.Test(t, func(t *testing.T) {
		var asked []uint16
		server := uaDevice(func(kind string, body []byte) (string, []byte) {
			switch kind {
			case "HEL":
				return "ACK", append(slices.Clone(body[:16]), 0, 0, 0, 0)
			case "OPN":
				opened := slices.Concat([]byte{7, 0, 0, 0}, null, null, null, make([]byte, 8), head(opcuaOpened), make([]byte, 4), []byte{7, 0, 0, 0, 9, 0, 0, 0}, make([]byte, 12), null)
				return kind, opened
			case "CLO":
				return "", nil
			}
			request := binary.LittleEndian.Uint16(body[18:])
			asked = append(asked, request)
			at := body[:16]
			switch request {
			case opcuaCreateSession:
				way := slices.Concat(null, null, null, []byte{0}, make([]byte, 4), null, null, null, null, []byte{1, 0, 0, 0}, null, []byte{1, 0, 0, 0}, null, make([]byte, 4), null, null, null, null, []byte{0})
				return kind, slices.Concat(at, head(opcuaSessionCreated), []byte{0, 7, 0, 8}, make([]byte, 8), null, null, []byte{1, 0, 0, 0}, way)
			case opcuaActivateSession:
				return kind, slices.Concat(at, head(opcuaActivated))
			case opcuaBrowse:
				node := slices.Concat([]byte{0, 35, 1, 0, 9, 0, 0}, null, []byte{0, 1, 0, 0, 0, 0, 0})
				return kind, slices.Concat(at, head(opcuaBrowsed), []byte{1, 0, 0, 0}, make([]byte, 4), null, []byte{1, 0, 0, 0}, node)
			}
			return "", nil
		})
		q := Query{Addr: netip.MustParseAddr("10.40.1.9"), Wait: time.Second, Dialer: pipedTo(server), Pause: func(ctx context.Context) error {
			time.Sleep(exchangeWait) // on fake time
			return ctx.Err()
		}}
		items := readOPCUARoot(t.Context(), q, known, &Reading{})
		if got := texts(items); got != "opcua.root=object: 1" {
			t.Errorf("%s, having asked %v", got, asked)
		}
		if items := readOPCUARoot(t.Context(), q, known[:1], &Reading{}); items != nil {
			t.Errorf("a server that lets nobody in told %s", texts(items))
		}
	})
}

// pipedTo is a dialer behind which a device answers.
type pipedTo func(conn net.Conn)

func (p pipedTo) Dial(context.Context, string, netip.AddrPort, time.Duration) (net.Conn, error) {
	ours, theirs := net.Pipe()
	go func() {
		defer theirs.Close()
		p(theirs)
	}()
	return ours, nil
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
