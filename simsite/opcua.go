package simsite

import (
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"slices"
	"strings"
)

// opcuaSuite is the suite by which nothing is secured.
const opcuaSuite = "http://opcfoundation.org/UA/SecurityPolicy#None"

// opcuaWords puts together the values of a message (IEC 62541-6, 5.2).
type opcuaWords []byte

func (w opcuaWords) number(n uint32) opcuaWords { return binary.LittleEndian.AppendUint32(w, n) }
func (w opcuaWords) null() opcuaWords           { return w.number(0xffffffff) }
func (w opcuaWords) text(t string) opcuaWords   { return append(w.number(uint32(len(t))), t...) }

// opcuaAnswer begins an answer: its type, and the head that says how it went (IEC 62541-4, 7.34).
func opcuaAnswer(kind uint16, result uint32) opcuaWords {
	w := append(opcuaWords{1, 0, byte(kind), byte(kind >> 8)}, make([]byte, 8)...)
	w = w.number(1).number(result)
	return append(append(w, 0).null(), 0, 0, 0)
}

// serveOPCUA opens a channel without security and tells its ways in (IEC 62541-4, 5.4.4): "name", "uri", "product"; "open: yes" lets
// anybody in without security, else signed and encrypted messages with a name and a password are wanted. "root" is what hangs below its folder of
// objects, by class, "object=5 variable=2".
func serveOPCUA(conn net.Conn, s Service) {
	station := opcuaStation{tells: s.Tells}
	for {
		head := make([]byte, 8)
		if _, err := io.ReadFull(conn, head); err != nil {
			return
		}
		length := binary.LittleEndian.Uint32(head[4:])
		if length < 8 || length > 1<<16 {
			return
		}
		body := make([]byte, length-8)
		if _, err := io.ReadFull(conn, body); err != nil {
			return
		}
		kind, answer := station.message(string(head[:3]), body)
		if answer == nil {
			return
		}
		message := binary.LittleEndian.AppendUint32([]byte(kind+"F"), uint32(len(answer)+8))
		if _, err := conn.Write(append(message, answer...)); err != nil {
			return
		}
	}
}

// opcuaStation is a server within one connection.
type opcuaStation struct {
	tells        map[string]string
	there, comes bool // a session has been opened; somebody has come in by it
}

// message answers one message; nil ends the connection.
func (o *opcuaStation) message(kind string, body []byte) (string, opcuaWords) {
	switch {
	case kind == "HEL" && len(body) >= 16:
		return "ACK", append(opcuaWords(body[:16:16]), 0, 0, 0, 0)
	case kind == "OPN":
		w := opcuaWords(nil).number(7).text(opcuaSuite).null().null().number(1).number(1)
		w = append(w, opcuaAnswer(449, 0)...)
		w = append(w.number(0).number(7).number(9), make([]byte, 8)...)
		return kind, w.number(60000).null()
	case kind == "MSG" && len(body) > 22 && body[16] == 1:
		return kind, append(opcuaWords(body[:16:16]), o.answer(binary.LittleEndian.Uint16(body[18:]), body[20:])...)
	}
	return "", nil
}

// opcuaToken is the name by which the one session is called in requests, as a number in four bytes.
const opcuaToken = "\x01\x00\x2a\x00"

// answer answers a request; what wants a session, and comes without, is refused (Bad_SessionIdInvalid, Bad_SessionNotActivated).
func (o *opcuaStation) answer(request uint16, rest []byte) opcuaWords {
	const fault, invalid, inactive = 397, 0x80250000, 0x80270000
	ours := strings.HasPrefix(string(rest), opcuaToken)
	switch {
	case request == 428:
		return o.ways(opcuaAnswer(431, 0))
	case request == 461:
		o.there = true
		w := append(opcuaAnswer(464, 0), 1, 0, 7, 0)
		w = append(append(w, opcuaToken...), make([]byte, 8)...)
		return o.ways(w.null().null()).null().null().null().number(0)
	case !o.there || !ours:
		return opcuaAnswer(fault, invalid)
	case request == 467 && o.tells["open"] == "yes" && strings.Contains(string(rest), "\x01\x00\x41\x01\x01\x07\x00\x00\x00\x03\x00\x00\x00one"):
		o.comes = true
		return opcuaAnswer(470, 0).null().null().null()
	case request == 473:
		o.there, o.comes = false, false
		return opcuaAnswer(476, 0)
	case !o.comes:
		return opcuaAnswer(fault, inactive)
	case request == 527:
		return o.root()
	}
	return nil
}

// ways tells of the one way in.
func (o *opcuaStation) ways(w opcuaWords) opcuaWords {
	w = w.number(1).text("opc.tcp://nowhere.example:4840").text(o.tells["uri"]).text(o.tells["product"])
	w = append(w, 3).text("en").text(o.tells["name"]).number(0).null().null().null().null()
	mode, suite, who := uint32(3), "http://opcfoundation.org/UA/SecurityPolicy#Basic256Sha256", uint32(1)
	if o.tells["open"] == "yes" {
		mode, suite, who = 1, opcuaSuite, 0
	}
	w = w.number(mode).text(suite).number(1).text("one").number(who).null().null().null()
	return append(w.text("http://opcfoundation.org/UA-Profile/Transport/uatcp-uasc-uabinary"), 0)
}

// opcuaClasses are classes of nodes (IEC 62541-3, 8.30).
var opcuaClasses = map[string]uint32{"object": 1, "variable": 2, "method": 4}

// root gives what hangs below the folder of objects: the server's object of itself first, as in every server.
func (o *opcuaStation) root() opcuaWords {
	var list opcuaWords
	listed := uint32(0)
	add := func(node opcuaWords, class uint32) {
		listed++
		list = append(append(list, 0, 35, 1), node...)
		list = append(list, 0, 0).null()
		list = append(append(list, 0).number(class), 0, 0)
	}
	add(opcuaWords{1, 0, 0xcd, 0x08}, 1)
	for _, part := range strings.Fields(o.tells["root"]) {
		class, count, _ := strings.Cut(part, "=")
		n := 0
		_, _ = fmt.Sscan(count, &n) // none where it is none
		for i := range n {
			add(append(opcuaWords{3, 1, 0}.text(fmt.Sprintf("%s %d", class, i)), nil...), opcuaClasses[class])
		}
	}
	w := opcuaAnswer(530, 0).number(1).number(0).null().number(listed)
	return slices.Concat(w, list).null()
}
