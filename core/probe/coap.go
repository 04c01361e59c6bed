package probe

import (
	"bytes"
	"context"
	"encoding/binary"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"

	"airdrift/core/evidence"
)

// Keys of the facts.
const (
	keyCoAPAnswer   = "coap.answer"
	keyCoAPResource = "coap.resource"
	keyCoAPType     = "coap.type"
	keyCoAPTitle    = "coap.title"
)

const coapPort = 5683

var _ = register(Protocol{
	Name: "coap", Source: evidence.SourceCoAP, Cost: Light,
	Port: evidence.UDP(coapPort), Ask: askCoAP, Hear: hearCoAP,
	Groups: []Group{{At: netip.MustParseAddrPort("224.0.1.187:5683"), Questions: func() ([][]byte, error) {
		return [][]byte{coapQuestion(coapUnconfirmed, uint16(rand.Uint32()), coapCallToken, 0, 0)}, nil
	}, Sparing: true}},
	Parts: []string{"lwm2m"},
	Facts: slices.Concat(lwm2mFacts, []evidence.Fact{
		{Key: keyCoAPAnswer, Says: "answer to the question for its resources", Standard: "RFC 7252, 12.1.2", Example: "2.05"},
		{Key: keyCoAPResource, Says: "path of a resource", Standard: "RFC 6690", Example: "/3/0"},
		{Key: keyCoAPType, Says: "type of a resource", Standard: "RFC 6690, 3.1", Example: "oma.lwm2m", Describes: true},
		{Key: keyCoAPTitle, Says: "title of a resource", Standard: "RFC 8288, 3.4.1", Example: "room temperature", Describes: true, By: evidence.TheKeeper},
	}),
})

const (
	coapConfirmable = 0
	coapUnconfirmed = 1
	coapReset       = 3

	coapPath      = 11 // the option that holds a part of the path (RFC 7252, 5.10)
	coapFormat    = 12 // of the payload
	coapWants     = 17 // the format that is wanted
	coapPlain     = 0  // plain text (RFC 7252, 12.3)
	coapBlock     = 23 // the option that counts blocks of an answer (RFC 7959, 2.1)
	maxCoAPBlocks = 16
	maxCoAPLinks  = 64
	coapCallToken = 0x41697244 // of the question to all
	coapContent   = 2<<5 | 5
)

// coapQuestion asks for the list of resources, or a further block of it of the size that the first had (RFC 6690, 4; RFC 7252, 3; RFC 7959,
// 2.4).
func coapQuestion(kind byte, id uint16, token uint32, block, size uint32) []byte {
	message := coapRequest(kind, id, token, []string{".well-known", "core"})
	if block > 0 {
		value := block<<4 | size
		message = append(message, (coapBlock-11)<<4|2) // by so much higher than the path's number
		message = binary.BigEndian.AppendUint16(message, uint16(value))
	}
	return message
}

// coapRequest asks for a resource by the parts of its path, each of at most 12 octets (RFC 7252, 3 and 5.10.1).
func coapRequest(kind byte, id uint16, token uint32, path []string) []byte {
	message := binary.BigEndian.AppendUint16([]byte{1<<6 | kind<<4 | 4, 1}, id)
	message = binary.BigEndian.AppendUint32(message, token)
	delta := byte(coapPath)
	for _, part := range path {
		message = append(append(message, delta<<4|byte(len(part))), part...)
		delta = 0
	}
	return message
}

// coapAccept asks for an answer in a format (RFC 7252, 5.10.4), behind the path.
func coapAccept(request []byte, format byte) []byte {
	if format == coapPlain {
		return append(request, (coapWants-coapPath)<<4) // zero has no octets (3.2)
	}
	return append(request, (coapWants-coapPath)<<4|1, format)
}

// coapAnswer reads a datagram as the answer to a question. ok is false where it is none, or only says that the answer will come.
func coapAnswer(datagram []byte, id uint16, token uint32) (m coapMessage, ok bool) {
	m, ok = readCoAPMessage(datagram)
	switch {
	case !ok:
		return m, false
	case m.kind == coapReset:
		return m, m.id == id
	case m.code == 0: // an acknowledgement: the answer comes by itself (RFC 7252, 5.2.2)
		return m, false
	}
	return m, bytes.Equal(m.token, binary.BigEndian.AppendUint32(nil, token))
}

// coapMessage is what of a message is looked at.
type coapMessage struct {
	kind, code byte
	id         uint16
	token      []byte
	block      uint32 // number of the block
	size       uint32 // of blocks, as they are told
	more       bool   // others follow it
	format     uint32 // of the payload; plain text where none is told
	payload    []byte
}

// readCoAPMessage takes a message apart (RFC 7252, 3).
func readCoAPMessage(raw []byte) (m coapMessage, ok bool) {
	if len(raw) < 4 || raw[0]>>6 != 1 || raw[0]&15 > 8 || len(raw) < 4+int(raw[0]&15) {
		return m, false
	}
	m = coapMessage{kind: raw[0] >> 4 & 3, code: raw[1], id: binary.BigEndian.Uint16(raw[2:]), token: raw[4 : 4+raw[0]&15]}
	rest, option := raw[4+raw[0]&15:], 0
	extended := func(nibble byte) (int, bool) {
		switch {
		case nibble < 13:
			return int(nibble), true
		case nibble == 13 && len(rest) >= 1:
			n := int(rest[0]) + 13
			rest = rest[1:]
			return n, true
		case nibble == 14 && len(rest) >= 2:
			n := int(binary.BigEndian.Uint16(rest)) + 269
			rest = rest[2:]
			return n, true
		}
		return 0, false
	}
	for len(rest) > 0 {
		head := rest[0]
		rest = rest[1:]
		if head == 0xff {
			m.payload = rest
			return m, true
		}
		delta, ok := extended(head >> 4)
		length, okLength := extended(head & 15)
		if !ok || !okLength || length > len(rest) {
			return m, false
		}
		if option += delta; option == coapBlock && length <= 3 {
			value := bigEndian(rest[:length])
			m.block, m.more, m.size = value>>4, value&8 != 0, value&7
		}
		if option == coapFormat && length <= 2 {
			m.format = bigEndian(rest[:length])
		}
		rest = rest[length:]
	}
	return m, true
}

// askCoAP asks for the list of a device's resources, block by block.
func askCoAP(ctx context.Context, q Query) ([]evidence.Item, bool) {
	f, to := q.byDatagram(coapPort)
	id, token := uint16(rand.Uint32()), rand.Uint32()
	var list []byte
	answered, size := false, uint32(0)
	for block := uint32(0); block < maxCoAPBlocks; block++ {
		more := false
		id++
		err := exchange(ctx, q.Dialer, to, coapQuestion(coapConfirmable, id, token, block, size), q.Wait, func(answer []byte) verdict {
			m, ok := coapAnswer(answer, id, token)
			if !ok {
				return ignore
			}
			if block == 0 {
				f.add(evidence.SourceCoAP, keyCoAPAnswer, coapCode(m))
			}
			if m.code == coapContent && m.block == block {
				list, more, size = append(list, m.payload...), m.more, m.size
			}
			return enough
		})
		answered = answered || err == nil
		if err != nil || !more {
			break
		}
	}
	readLinks(string(list), f)
	if isLwM2M(string(list)) {
		askLwM2M(ctx, q, to, f)
	}
	return f.items, answered
}

// coapCode writes the code of an answer (RFC 7252, 3).
func coapCode(m coapMessage) []byte {
	if m.kind == coapReset {
		return []byte("reset")
	}
	return []byte{'0' + m.code>>5, '.', '0' + m.code&31/10, '0' + m.code&31%10}
}

// hearCoAP reads answers to the question to all.
func hearCoAP(d Datagram) ([]evidence.Item, bool) {
	m, ok := readCoAPMessage(d.Message)
	if !ok || d.From.Port() != coapPort || m.code != coapContent || !bytes.Equal(m.token, binary.BigEndian.AppendUint32(nil, coapCallToken)) {
		return nil, false
	}
	f := &found{port: evidence.UDP(coapPort)}
	f.addOnce(evidence.SourceCoAP, keyCoAPAnswer, coapCode(m))
	readLinks(string(m.payload), f)
	return f.items, true
}

// readLinks reads a list of resources (RFC 6690, 2): one that breaks off still gives those before.
func readLinks(list string, f *found) {
	for n := 0; n < maxCoAPLinks && list != ""; n++ {
		list = strings.TrimLeft(list, ", \r\n")
		path, rest, ok := strings.Cut(strings.TrimPrefix(list, "<"), ">")
		if !strings.HasPrefix(list, "<") || !ok {
			return
		}
		f.addOnce(evidence.SourceCoAP, keyCoAPResource, []byte(path))
		list = rest
		for strings.HasPrefix(list, ";") {
			var name, value string
			name, value, list = cutLinkAttribute(list[1:])
			switch name {
			case "rt":
				for kind := range strings.FieldsSeq(value) {
					f.addOnce(evidence.SourceCoAP, keyCoAPType, []byte(kind))
				}
			case "title":
				f.addOnce(evidence.SourceCoAP, keyCoAPTitle, []byte(value))
			}
		}
	}
}

// cutLinkAttribute cuts one attribute of a link off.
func cutLinkAttribute(text string) (name, value, rest string) {
	end := strings.IndexAny(text, "=;,")
	if end < 0 {
		return text, "", ""
	}
	name = text[:end]
	if text[end] != '=' {
		return name, "", text[end:]
	}
	text = text[end+1:]
	if strings.HasPrefix(text, `"`) {
		if value, rest, ok := strings.Cut(text[1:], `"`); ok {
			return name, value, rest
		}
		return name, text[1:], ""
	}
	if end = strings.IndexAny(text, ";,"); end < 0 {
		return name, text, ""
	}
	return name, text[:end], text[end:]
}
