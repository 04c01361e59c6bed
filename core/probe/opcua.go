package probe

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"strings"

	"airdrift/core/evidence"
)

// Keys of the facts.
const (
	keyOPCUAName     = "opcua.name"
	keyOPCUAURI      = "opcua.uri"
	keyOPCUAProduct  = "opcua.product"
	keyOPCUAType     = "opcua.type"
	keyOPCUASecurity = "opcua.security"
	keyOPCUAIdentity = "opcua.identity"
	keyOPCUARoot     = "opcua.root"
)

const opcuaPort = 4840

var _ = register(Protocol{
	Name: "opcua", Source: evidence.SourceOPCUA, Cost: Middling,
	Ports: []uint16{opcuaPort}, Usual: []uint16{opcuaPort}, Telling: []uint16{opcuaPort}, Talk: talkOPCUA,
	Reads: readsOPCUA, Read: readOPCUARoot,
	Facts: []evidence.Fact{
		{Key: keyOPCUAName, Says: "name of the application", Standard: "IEC 62541-4, 7.2", Example: "Panel 7 server", Names: 9, Describes: true},
		{Key: keyOPCUAURI, Says: "identifier of the application", Standard: "IEC 62541-4, 7.2", Example: "urn:seed-vault:panel"},
		{Key: keyOPCUAProduct, Says: "identifier of the product", Standard: "IEC 62541-4, 7.2", Example: "urn:thornquist.example:panel-7", Names: 9, Describes: true},
		{Key: keyOPCUAType, Says: "what the application is", Standard: "IEC 62541-4, 7.4", Example: "server"},
		{Key: keyOPCUASecurity, Says: "a way in that it offers: how messages are secured, and by which suite", Standard: "IEC 62541-4, 7.14", Example: "sign and encrypt, Basic256Sha256"},
		{Key: keyOPCUAIdentity, Says: "as whom it lets in", Standard: "IEC 62541-4, 7.42", Example: "anybody"},
		{Key: keyOPCUARoot, Says: "a class of node, and how many of it stand at the root of its objects; counted where a sweep is to read how much systems offer", Standard: "IEC 62541-5, 8.2.4", Example: "object: 12"},
	},
})

// Identifiers of messages in binary (IEC 62541-6, annex A; the numbers of the types' binary encodings).
const (
	opcuaOpenChannel  = 446
	opcuaOpened       = 449
	opcuaCloseChannel = 452
	opcuaGetEndpoints = 428
	opcuaEndpoints    = 431

	maxOPCUAMessage = 256 << 10 // of all chunks of an answer
	maxOPCUAChunks  = 64        // of an answer
	maxOPCUAList    = 64        // of what an answer lists
)

// How messages are secured that are not, and who may come in where anybody may.
const opcuaUnsecured, opcuaAnybody = "none", "anybody"

var (
	errOPCUA        = errors.New("what came back is not OPC UA")
	opcuaTypes      = map[uint32]string{0: "server", 1: "client", 2: "client and server", 3: "discovery server"}
	opcuaModes      = map[uint32]string{1: opcuaUnsecured, 2: "sign", 3: "sign and encrypt"}
	opcuaIdentities = map[uint32]string{0: opcuaAnybody, 1: "name and password", 2: "certificate", 3: "issued token"}
)

// opcuaWriter writes values in binary (IEC 62541-6, 5.2).
type opcuaWriter []byte

func (w *opcuaWriter) number(n uint32) { *w = binary.LittleEndian.AppendUint32(*w, n) }
func (w *opcuaWriter) null()           { w.number(0xffffffff) }
func (w *opcuaWriter) text(text string) {
	w.number(uint32(len(text)))
	*w = append(*w, text...)
}

// request begins a request: the identifier of its type, and the header for a session, by the name that the server gave it; nil stands for none.
func (w *opcuaWriter) request(kind uint16, session []byte) {
	*w = append(*w, 1, 0, byte(kind), byte(kind>>8))
	if session == nil {
		session = []byte{0, 0}
	}
	*w = append(*w, session...)
	*w = append(*w, make([]byte, 8)...) // no time: ours is nobody's affair
	*w = append(*w, 1, 0, 0, 0)         // handle
	*w = append(*w, 0, 0, 0, 0)         // no diagnostics
	w.null()                            // no entry for an audit
	w.number(5000)                      // milliseconds
	*w = append(*w, 0, 0, 0)            // nothing more
}

// opcuaMessage puts the head of a message before it (IEC 62541-6, 7.1.2.2).
func opcuaMessage(kind string, body []byte) []byte {
	message := binary.LittleEndian.AppendUint32([]byte(kind+"F"), uint32(len(body)+8))
	return append(message, body...)
}

// readOPCUAMessage reads a message, whose chunks are put together without their heads of head bytes.
func readOPCUAMessage(r io.Reader, kind string, head func(chunk []byte) int) ([]byte, error) {
	var whole []byte
	for range maxOPCUAChunks {
		start := make([]byte, 8)
		if _, err := io.ReadFull(r, start); err != nil {
			return nil, err
		}
		length := int(binary.LittleEndian.Uint32(start[4:]))
		if string(start[:3]) != kind || length < 8 || length+len(whole) > maxOPCUAMessage {
			return nil, errOPCUA
		}
		chunk := make([]byte, length-8)
		if _, err := io.ReadFull(r, chunk); err != nil {
			return nil, err
		}
		n := head(chunk)
		if n < 0 || n > len(chunk) {
			return nil, errOPCUA
		}
		whole = append(whole, chunk[n:]...)
		switch start[3] {
		case 'F':
			return whole, nil
		case 'C':
		default:
			return nil, errOPCUA
		}
	}
	return nil, errOPCUA
}

// talkOPCUA opens a channel without security, asks for the ways in, and closes it. Nobody signs in, and no value is read.
func talkOPCUA(_ context.Context, conn net.Conn, addr netip.AddrPort, f *found) {
	l, err := openOPCUA(conn, addr)
	if err != nil {
		return
	}
	defer l.close()
	var question opcuaWriter
	question.text(l.url)
	question.null()
	question.null()
	if answer, err := l.put(opcuaGetEndpoints, question); err == nil {
		readOPCUAEndpoints(answer, f)
	}
}

// opcuaLine is a conversation by a channel without security.
type opcuaLine struct {
	conn           net.Conn
	url            string
	channel, token uint32
	last           uint32 // number of the last message
	session        []byte // its name for requests; nil while there is none
}

// openOPCUA greets a server and opens a channel.
func openOPCUA(conn net.Conn, addr netip.AddrPort) (*opcuaLine, error) {
	l := &opcuaLine{conn: conn, url: "opc.tcp://" + netip.AddrPortFrom(addr.Addr().WithZone(""), addr.Port()).String(), last: 1}
	var hello opcuaWriter
	for _, n := range []uint32{0, 65536, 65536, maxOPCUAMessage, 0} {
		hello.number(n)
	}
	hello.text(l.url)
	if _, err := conn.Write(opcuaMessage("HEL", hello)); err != nil {
		return nil, err
	}
	if _, err := readOPCUAMessage(conn, "ACK", func([]byte) int { return 0 }); err != nil {
		return nil, err
	}
	var err error
	l.channel, l.token, err = openOPCUAChannel(conn)
	return l, err
}

// send sends a request.
func (l *opcuaLine) send(message string, kind uint16, arguments []byte) error {
	l.last++
	var w opcuaWriter
	for _, n := range []uint32{l.channel, l.token, l.last, l.last} {
		w.number(n)
	}
	w.request(kind, l.session)
	_, err := l.conn.Write(opcuaMessage(message, append(w, arguments...)))
	return err
}

// put sends a request and gives its answer.
func (l *opcuaLine) put(kind uint16, arguments []byte) ([]byte, error) {
	if err := l.send("MSG", kind, arguments); err != nil {
		return nil, err
	}
	return readOPCUAMessage(l.conn, "MSG", func([]byte) int { return 16 })
}

// close closes the channel: a courtesy, as we are going anyway.
func (l *opcuaLine) close() {
	l.session = nil
	_ = l.send("CLO", opcuaCloseChannel, nil)
}

// openOPCUAChannel opens a channel without security, for a minute at most (IEC 62541-4, 5.5.2).
func openOPCUAChannel(conn net.Conn) (channel, token uint32, err error) {
	var w opcuaWriter
	w.number(0)
	w.text("http://opcfoundation.org/UA/SecurityPolicy#None")
	w.null() // no certificate
	w.null()
	w.number(1)
	w.number(1)
	w.request(opcuaOpenChannel, nil)
	w.number(0) // version
	w.number(0) // issue
	w.number(1) // no security
	w.null()
	w.number(60000)
	if _, err := conn.Write(opcuaMessage("OPN", w)); err != nil {
		return 0, 0, err
	}
	answer, err := readOPCUAMessage(conn, "OPN", func(chunk []byte) int {
		r := opcuaReader{raw: chunk}
		r.skip(4)
		for range 3 {
			r.bytes()
		}
		r.skip(8)
		if r.broken {
			return -1
		}
		return len(chunk) - len(r.raw)
	})
	if err != nil {
		return 0, 0, err
	}
	r := opcuaReader{raw: answer}
	if r.response() != opcuaOpened {
		return 0, 0, errOPCUA
	}
	r.skip(4)
	channel, token = r.number(), r.number()
	if r.broken {
		return 0, 0, errOPCUA
	}
	return channel, token, nil
}

// opcuaReader reads values in binary. broken is set once there is less than a value wants; all that is read then is empty.
type opcuaReader struct {
	raw    []byte
	broken bool
}

func (r *opcuaReader) take(n int) []byte {
	if r.broken || n < 0 || n > len(r.raw) {
		r.broken, r.raw = true, nil
		return nil
	}
	part := r.raw[:n]
	r.raw = r.raw[n:]
	return part
}

func (r *opcuaReader) skip(n int) { r.take(n) }

func (r *opcuaReader) byte() byte {
	if part := r.take(1); part != nil {
		return part[0]
	}
	return 0
}

func (r *opcuaReader) number() uint32 {
	if part := r.take(4); part != nil {
		return binary.LittleEndian.Uint32(part)
	}
	return 0
}

// bytes reads a text or a string of bytes; one that is null is empty.
func (r *opcuaReader) bytes() []byte {
	n := int32(r.number())
	if n <= 0 {
		return nil
	}
	return r.take(int(n))
}

// each reads a list; more than maxOPCUAList of it are an error.
func (r *opcuaReader) each(one func()) { r.eachOf(maxOPCUAList, one) }

// eachOf reads a list; more than most of it are an error.
func (r *opcuaReader) eachOf(most int, one func()) {
	n := int32(r.number())
	if int(n) > most {
		r.broken = true
		return
	}
	for ; n > 0 && !r.broken; n-- {
		one()
	}
}

// localized reads a text with its language (5.2.2.14).
func (r *opcuaReader) localized() []byte {
	mask := r.byte()
	if mask&1 != 0 {
		r.bytes()
	}
	if mask&2 != 0 {
		return r.bytes()
	}
	return nil
}

// response reads the head of an answer and gives its type; 0 where the server could not do what was asked.
func (r *opcuaReader) response() uint16 {
	id := r.take(4)
	if len(id) < 4 || id[0] != 1 || id[1] != 0 {
		r.broken = true
		return 0
	}
	r.skip(12)
	result := r.number()
	if diagnostics := r.byte(); diagnostics != 0 {
		r.broken = true // none were asked for
	}
	r.each(func() { r.bytes() })
	r.skip(3)
	if result != 0 || r.broken {
		return 0
	}
	return binary.LittleEndian.Uint16(id[2:])
}

// readOPCUAEndpoints reads the ways in (IEC 62541-4, 5.4.4, 7.14).
func readOPCUAEndpoints(answer []byte, f *found) {
	r := opcuaReader{raw: answer}
	if r.response() != opcuaEndpoints {
		return
	}
	add := func(key string, value []byte) {
		if !r.broken {
			f.addOnce(evidence.SourceOPCUA, key, value)
		}
	}
	r.each(func() {
		e := r.endpoint()
		add(keyOPCUAName, e.name)
		add(keyOPCUAURI, e.uri)
		add(keyOPCUAProduct, e.product)
		add(keyOPCUAType, []byte(opcuaTypes[e.kind]))
		if mode := opcuaModes[e.mode]; mode == opcuaUnsecured {
			add(keyOPCUASecurity, []byte(mode))
		} else if mode != "" {
			add(keyOPCUASecurity, fmt.Appendf(nil, "%s, %s", mode, e.suite))
		}
		for _, p := range e.policies {
			add(keyOPCUAIdentity, []byte(opcuaIdentities[p.who]))
		}
	})
}

// opcuaEndpoint is one way in (IEC 62541-4, 7.14).
type opcuaEndpoint struct {
	uri, product, name []byte
	kind, mode         uint32
	suite              string // by which messages are secured
	policies           []opcuaPolicy
}

// opcuaPolicy is as whom one may come in (7.42).
type opcuaPolicy struct {
	id  string
	who uint32
}

func (r *opcuaReader) endpoint() (e opcuaEndpoint) {
	r.bytes() // where it is
	e.uri, e.product, e.name, e.kind = r.bytes(), r.bytes(), r.localized(), r.number()
	r.bytes()
	r.bytes()
	r.each(func() { r.bytes() })
	r.bytes() // its certificate
	e.mode = r.number()
	_, e.suite, _ = strings.Cut(string(r.bytes()), "#")
	r.each(func() {
		p := opcuaPolicy{id: string(r.bytes()), who: r.number()}
		for range 3 {
			r.bytes()
		}
		e.policies = append(e.policies, p)
	})
	r.bytes()
	r.byte()
	return e
}
