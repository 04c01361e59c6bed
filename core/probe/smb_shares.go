package probe

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/md5"
	"crypto/rand"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"unicode/utf16"

	"airdrift/core/evidence"
)

// Keys of the facts.
const (
	keySMBAnybody = "smb.anybody"
	keySMBShare   = "smb.share"
)

// smbShareFacts are part of SMB: what is shared with anybody, by its name.
var smbShareFacts = []evidence.Fact{
	{Key: keySMBAnybody, Says: "whether it lets anybody in: `nobody in particular`, `guest`, or `refused`", Standard: "MS-SMB2, 2.2.6", Example: "guest"},
	{Key: keySMBShare, Says: "a share that it names to anybody, with its kind; at most 32", Standard: "MS-SRVS, 2.2.4.23", Example: "seeds (disk)"},
}

// Of the messages (MS-SMB2, 2.2.1), and of the states that they tell (MS-ERREF, 2.3.1).
const (
	smbSetUp, smbConnect, smbCreate, smbRead, smbControl = 1, 3, 5, 8, 11

	smbPending       = 0x00000103
	smbMoreToCome    = 0xc0000016 // of a session
	smbMoreData      = 0x80000005 // than fitted the answer
	smbTransceive    = 0x0011c017 // sends to a pipe and reads from it (MS-FSCC, 2.3)
	maxShares        = 32
	maxSMBTurns      = 16
	smbPipeAnswer    = 4280  // bytes of an answer of a pipe
	smbPipeOutcome   = 32768 // bytes of an answer of a pipe, with all of its pieces
	smbNobodyFlags   = 0x00080a05
	smbPersonFlags   = 0x00080205
	ntlmAuthenticate = 3
)

// smbSession is a conversation with a server behind its first answer.
type smbSession struct {
	conn    net.Conn
	message uint64 // number of the next one
	session uint64
	tree    uint32
}

// errSMB says that a server has refused, or does not speak as it should.
var errSMB = errors.New("the server refuses")

// put sends a message and gives the state and the body of the answer to it. What the server says meanwhile is passed over.
func (s *smbSession) put(command uint16, body []byte) (state uint32, answer []byte, err error) {
	le := binary.LittleEndian
	message := make([]byte, smbHeader, smbHeader+len(body))
	copy(message, "\xfeSMB")
	message[4], message[6] = smbHeader, 1
	le.PutUint16(message[12:], command)
	le.PutUint16(message[14:], 8) // credits
	le.PutUint64(message[24:], s.message)
	le.PutUint32(message[36:], s.tree)
	le.PutUint64(message[40:], s.session)
	number := s.message
	s.message++
	message = append(message, body...)
	if _, err := s.conn.Write(append(binary.BigEndian.AppendUint32(nil, uint32(len(message))), message...)); err != nil {
		return 0, nil, err
	}
	for range maxSMBTurns {
		answer, err := readSMBMessage(s.conn)
		if err != nil {
			return 0, nil, err
		}
		if len(answer) < smbHeader+8 || string(answer[:4]) != "\xfeSMB" || le.Uint16(answer[12:]) != command || le.Uint64(answer[24:]) != number {
			continue
		}
		if state = le.Uint32(answer[8:]); state == smbPending {
			continue
		}
		s.session, s.tree = le.Uint64(answer[40:]), le.Uint32(answer[36:])
		return state, answer, nil
	}
	return 0, nil, errSMB
}

// smbPart gives the part of an answer that its body points to; nothing where it lies outside.
func smbPart(answer []byte, offset, length uint32) []byte {
	if uint64(offset)+uint64(length) > uint64(len(answer)) {
		return nil
	}
	return answer[offset : offset+length]
}

// askShares goes on where a session has been begun and the server has given its challenge: as nobody in particular, and where that
// shows nothing, as the guest. Shares are named and none is opened (MS-SRVS, 3.1.4.8).
func askShares(_ context.Context, conn net.Conn, addr netip.AddrPort, challenge []byte, f *found) {
	if !f.thorough || f.off("shares") || len(challenge) < smbHeader {
		return
	}
	s := &smbSession{conn: conn, message: 2, session: binary.LittleEndian.Uint64(challenge[40:])}
	who := ""
	if s.signIn(ntlmNobody()) == nil {
		who = "nobody in particular"
		if s.list(addr, f) == nil {
			f.add(evidence.SourceSMB, keySMBAnybody, []byte(who))
			return
		}
	}
	s.session, s.tree = 0, 0
	if state, again, err := s.put(smbSetUp, sessionSetUp(ntlmNegotiation())); err == nil && state == smbMoreToCome {
		if response := ntlmGuest(again); response != nil && s.signIn(response) == nil {
			who = "guest"
			_ = s.list(addr, f) // that it lets the guest in stands
		}
	}
	if who == "" {
		who = "refused"
	}
	f.add(evidence.SourceSMB, keySMBAnybody, []byte(who))
}

// signIn ends the exchange by which a session begins (MS-SMB2, 2.2.5; RFC 4178, 4.2.2).
func (s *smbSession) signIn(response []byte) error {
	token := der(0xa1, der(0x30, der(0xa2, der(0x04, response))))
	state, _, err := s.put(smbSetUp, sessionSetUp(token))
	if err == nil && state != 0 {
		err = errSMB
	}
	return err
}

// ntlmNobody is the response of nobody in particular (MS-NLMP, 3.2.5.1.2).
func ntlmNobody() []byte { return ntlmResponse(smbNobodyFlags, []byte{0}, nil, "") }

// guestName is the name of the guest, whose password is empty.
const guestName = "guest"

// emptyPassword is what of an empty password goes into a response (MS-NLMP, 3.3.1).
var emptyPassword, _ = hex.DecodeString("31d6cfe0d16ae931b73c59d7e0c089c0")

// ntlmGuest answers a challenge as the guest (MS-NLMP, 3.3.2); nil where there is none.
func ntlmGuest(answer []byte) []byte {
	const target, least = 40, 48
	start := bytes.Index(answer, []byte("NTLMSSP\x00\x02\x00\x00\x00"))
	if start < 0 || len(answer) < start+least {
		return nil
	}
	challenge := answer[start:]
	info := smbPart(challenge, binary.LittleEndian.Uint32(challenge[target+4:]), uint32(binary.LittleEndian.Uint16(challenge[target:])))
	mac := func(key []byte, parts ...[]byte) []byte {
		h := hmac.New(md5.New, key)
		for _, p := range parts {
			h.Write(p)
		}
		return h.Sum(nil)
	}
	var own [8]byte
	_, _ = rand.Read(own[:]) // never fails (crypto/rand)
	blob := append([]byte{1, 1, 0, 0, 0, 0, 0, 0}, ntlmTime(info)...)
	blob = append(append(append(blob, own[:]...), 0, 0, 0, 0), info...)
	blob = append(blob, 0, 0, 0, 0)
	key := mac(emptyPassword, wide("GUEST"))
	proof := mac(key, challenge[24:32], blob)
	return ntlmResponse(smbPersonFlags, make([]byte, 24), append(proof, blob...), guestName)
}

// ntlmTime gives the server's time out of a challenge, so that no clock has to agree; zeros where it tells none (MS-NLMP, 2.2.2.1).
func ntlmTime(pairs []byte) []byte {
	for count := 0; len(pairs) >= 4 && count < maxNames; count++ {
		kind, size := binary.LittleEndian.Uint16(pairs), int(binary.LittleEndian.Uint16(pairs[2:]))
		if kind == 0 || size > len(pairs)-4 {
			break
		}
		if kind == 7 && size == 8 {
			return pairs[4:12]
		}
		pairs = pairs[4+size:]
	}
	return make([]byte, 8)
}

// ntlmResponse makes a message that answers a challenge (MS-NLMP, 2.2.1.3).
func ntlmResponse(flags uint32, old, response []byte, user string) []byte {
	const head = 64
	message := append([]byte("NTLMSSP\x00"), ntlmAuthenticate, 0, 0, 0)
	var payload []byte
	field := func(value []byte) {
		message = binary.LittleEndian.AppendUint16(message, uint16(len(value)))
		message = binary.LittleEndian.AppendUint16(message, uint16(len(value)))
		message = binary.LittleEndian.AppendUint32(message, uint32(head+len(payload)))
		payload = append(payload, value...)
	}
	for _, value := range [][]byte{old, response, nil, wide(user), nil, nil} {
		field(value)
	}
	return append(binary.LittleEndian.AppendUint32(message, flags), payload...)
}

// wide writes UTF-16 in the byte order of Windows.
func wide(text string) []byte {
	var raw []byte
	for _, unit := range utf16.Encode([]rune(text)) {
		raw = binary.LittleEndian.AppendUint16(raw, unit)
	}
	return raw
}

// list asks the server for the names of its shares (MS-SMB2, 2.2.9, 2.2.13, 2.2.31; MS-SRVS, 3.1.4.8).
func (s *smbSession) list(addr netip.AddrPort, f *found) error {
	le := binary.LittleEndian
	path := wide(`\\` + addr.Addr().WithZone("").String() + `\IPC$`)
	connect := le.AppendUint16([]byte{9, 0, 0, 0, smbHeader + 8, 0}, uint16(len(path)))
	if state, _, err := s.put(smbConnect, append(connect, path...)); err != nil || state != 0 {
		return errors.Join(err, errSMB)
	}
	state, opened, err := s.put(smbCreate, smbPipe("srvsvc"))
	if err != nil || state != 0 || len(opened) < smbHeader+80 {
		return errors.Join(err, errSMB)
	}
	file := opened[smbHeader+64 : smbHeader+80]
	if _, err := s.transceive(file, rpcBind()); err != nil {
		return err
	}
	stub, err := s.transceive(file, rpcShares())
	if err != nil {
		return err
	}
	shares, ok := readShares(stub)
	if !ok {
		return errSMB
	}
	for _, share := range shares {
		f.addOnce(evidence.SourceSMB, keySMBShare, []byte(share))
	}
	return nil
}

// smbPipe opens a pipe (MS-SMB2, 2.2.13).
func smbPipe(name string) []byte {
	le := binary.LittleEndian
	raw := wide(name)
	body := []byte{57, 0, 0, 0, 2, 0, 0, 0}                 // no lock; impersonation
	body = append(body, make([]byte, 16)...)                // flags
	body = le.AppendUint32(body, 0x0012019f)                // to read and to write, which a pipe wants for a question
	body = append(body, 0, 0, 0, 0, 3, 0, 0, 0)             // no attributes; shared
	body = append(body, 1, 0, 0, 0, 0, 0, 0, 0)             // what there is; no options
	body = append(body, smbHeader+56, 0, byte(len(raw)), 0) // its name
	return append(append(body, make([]byte, 8)...), raw...)
}

// transceive puts a question to a pipe and gives the answer, put together, without the heads of its pieces (C706, 12.6.4).
func (s *smbSession) transceive(file, question []byte) ([]byte, error) {
	le := binary.LittleEndian
	body := []byte{57, 0, 0, 0}
	body = le.AppendUint32(body, smbTransceive)
	body = append(body, file...)
	body = le.AppendUint32(body, smbHeader+56)
	body = le.AppendUint32(body, uint32(len(question)))
	body = append(body, make([]byte, 12)...)
	body = le.AppendUint32(body, smbPipeAnswer)
	body = append(body, 1, 0, 0, 0, 0, 0, 0, 0)
	state, answer, err := s.put(smbControl, append(body, question...))
	if err != nil || state != 0 && state != smbMoreData || len(answer) < smbHeader+40 {
		return nil, errors.Join(err, errSMB)
	}
	raw := bytes.Clone(smbPart(answer, le.Uint32(answer[smbHeader+32:]), le.Uint32(answer[smbHeader+36:])))
	for range maxSMBTurns {
		stub, whole, ok := rpcPieces(raw)
		if !ok {
			return nil, errSMB
		}
		if whole {
			return stub, nil
		}
		more, err := s.readPipe(file)
		if err != nil || len(raw)+len(more) > smbPipeOutcome {
			return nil, errors.Join(err, errSMB)
		}
		raw = append(raw, more...)
	}
	return nil, errSMB
}

// readPipe reads what of an answer is left (MS-SMB2, 2.2.19).
func (s *smbSession) readPipe(file []byte) ([]byte, error) {
	le := binary.LittleEndian
	body := []byte{49, 0, 0, 0}
	body = le.AppendUint32(body, smbPipeAnswer)
	body = append(append(body, make([]byte, 8)...), file...)
	state, answer, err := s.put(smbRead, append(body, make([]byte, 17)...))
	if err != nil || state != 0 && state != smbMoreData || len(answer) < smbHeader+16 {
		return nil, errors.Join(err, errSMB)
	}
	return smbPart(answer, uint32(answer[smbHeader+2]), le.Uint32(answer[smbHeader+4:])), nil
}

// Of remote procedure calls over pipes (C706, 12.6.3).
const (
	rpcAnswer = 2
	rpcBound  = 12
	rpcHead   = 16
)

// rpcInterface names the service of shares, rpcSyntax how its arguments are written (MS-SRVS, 1.9; C706, annex I).
var (
	rpcInterface, _ = hex.DecodeString("c84f324b7016d30112785a47bf6ee188" + "03000000")
	rpcSyntax, _    = hex.DecodeString("045d888aeb1cc9119fe808002b104860" + "02000000")
)

// rpcMessage puts a head before a body.
func rpcMessage(kind byte, body []byte) []byte {
	message := []byte{5, 0, kind, 3, 0x10, 0, 0, 0}
	message = binary.LittleEndian.AppendUint16(message, uint16(rpcHead+len(body)))
	return append(append(message, 0, 0, 1, 0, 0, 0), body...)
}

func rpcBind() []byte {
	body := binary.LittleEndian.AppendUint16(nil, smbPipeAnswer)
	body = binary.LittleEndian.AppendUint16(body, smbPipeAnswer)
	body = append(body, 0, 0, 0, 0, 1, 0, 0, 0, 0, 0, 1, 0)
	return rpcMessage(11, append(append(body, rpcInterface...), rpcSyntax...))
}

// rpcShares asks for the shares with their kinds, all that fit (MS-SRVS, 3.1.4.8).
func rpcShares() []byte {
	body := []byte{0, 0, 0, 0, 0, 0, 15, 0} // context; NetrShareEnum
	for _, word := range []uint32{0, 1, 1, 0x00020000, 0, 0, 0xffffffff, 0} {
		body = binary.LittleEndian.AppendUint32(body, word)
	}
	return rpcMessage(0, body)
}

// rpcPieces puts the pieces of an answer together, as far as they came. ok is false where they are none.
func rpcPieces(raw []byte) (stub []byte, whole, ok bool) {
	for len(raw) >= rpcHead {
		length := int(binary.LittleEndian.Uint16(raw[8:]))
		if raw[0] != 5 || raw[2] != rpcAnswer && raw[2] != rpcBound || length < rpcHead+8 {
			return nil, false, false
		}
		if length > len(raw) {
			return stub, false, true
		}
		stub = append(stub, raw[rpcHead+8:length]...)
		if raw[3]&2 != 0 {
			return stub, true, true
		}
		raw = raw[length:]
	}
	return stub, false, true
}

// shareKinds are the kinds of shares (MS-SRVS, 2.2.2.4).
var shareKinds = map[uint32]string{0: "disk", 1: "printer", 2: "device", 3: "pipes"}

// readShares reads the list of shares (MS-SRVS, 2.2.4.23, 2.2.4.32); ok is false where it is refused or none.
func readShares(stub []byte) (shares []string, ok bool) {
	r := ndr(stub)
	r.word() // level
	r.word()
	container, count, list := r.word(), r.word(), r.word()
	if container == 0 || count > 4096 {
		return nil, false
	}
	if list == 0 || count == 0 {
		return nil, true
	}
	r.word() // the count again
	type entry struct{ name, kind, remark uint32 }
	var entries []entry
	for range count {
		if len(r) < 12 {
			return nil, false
		}
		entries = append(entries, entry{r.word(), r.word(), r.word()})
	}
	for _, e := range entries {
		name := ""
		if e.name != 0 {
			name = r.text()
		}
		if e.remark != 0 {
			r.text()
		}
		if kind := shareKinds[e.kind&0xff]; name != "" && kind != "" && len(shares) < maxShares {
			shares = append(shares, fmt.Sprintf("%s (%s)", name, kind))
		}
	}
	return shares, len(shares) > 0
}

// ndr is what is left of arguments (C706, 14). What breaks off reads as zero, and ends.
type ndr []byte

func (n *ndr) word() uint32 {
	if len(*n) < 4 {
		*n = nil
		return 0
	}
	w := binary.LittleEndian.Uint32(*n)
	*n = (*n)[4:]
	return w
}

// text reads a text of UTF-16 that ends with a zero.
func (n *ndr) text() string {
	n.word() // room
	n.word() // offset
	length := int64(n.word()) * 2
	if length < 2 || length > int64(len(*n)) {
		*n = nil
		return ""
	}
	raw := (*n)[:length-2]
	*n = (*n)[min(int64(len(*n)), (length+3)&^3):]
	return string(wideText(raw))
}
