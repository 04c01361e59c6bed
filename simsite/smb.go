package simsite

import (
	"bytes"
	"crypto/hmac"
	"crypto/md5"
	"encoding/binary"
	"io"
	"net"
	"slices"
	"strings"
	"time"
	"unicode/utf16"
)

// smbPiece is how many bytes of the list of shares go into one piece of an answer, so that who reads has to put it together.
const smbPiece = 120

// smbServer is one conversation of a server of files.
type smbServer struct {
	tells   map[string]string
	present bool   // somebody is signed in
	pending []byte // what of an answer of the pipe has not been read
}

// serveSMB speaks version 3.0.2 (MS-SMB2): "id", "signing". "lets" is who may come in without a name of his own: "nobody", "guest", or none;
// "shares" are the names of what it shares, which it tells to who is in.
func serveSMB(conn net.Conn, s Service) {
	server := &smbServer{tells: s.Tells}
	for {
		head := make([]byte, 4)
		if _, err := io.ReadFull(conn, head); err != nil || head[0] != 0 {
			return
		}
		question := make([]byte, min(binary.BigEndian.Uint32(head), 1<<16))
		if _, err := io.ReadFull(conn, question); err != nil || len(question) < 70 || !bytes.HasPrefix(question, []byte("\xfeSMB")) {
			return
		}
		state, body := server.answer(question[12], question[64:])
		if body == nil {
			return
		}
		answer := append(bytes.Clone(question[:64]), body...)
		binary.LittleEndian.PutUint32(answer[8:], state)
		answer[16] = 1 // from the server
		answer[40] = 7 // the session
		if _, err := conn.Write(append(binary.BigEndian.AppendUint32(nil, uint32(len(answer))), answer...)); err != nil {
			return
		}
	}
}

// answer gives the state and the body of an answer to a command; no body hangs up.
func (s *smbServer) answer(command byte, body []byte) (state uint32, answer []byte) {
	const refused, denied = 0xc000006d, 0xc0000022
	nothing := []byte{9, 0, 0, 0, 0, 0, 0, 0}
	switch {
	case command == 0:
		return 0, s.negotiate()
	case s.tells["lets"] == "": // and is done
		return 0, nil
	case command == 1:
		return s.setUp(body)
	case !s.present:
		return denied, nothing
	case command == 3:
		return 0, append([]byte{16, 0, 2, 0}, make([]byte, 12)...)
	case command == 5:
		return 0, append([]byte{89, 0}, make([]byte, 86)...)
	case command == 11 && len(body) >= 56+24:
		return s.pipe(body[56:])
	case command == 8:
		piece := s.pending
		s.pending = nil
		return 0, slices.Concat([]byte{17, 0, 80, 0}, binary.LittleEndian.AppendUint32(nil, uint32(len(piece))), make([]byte, 8), piece)
	}
	return refused, nothing
}

func (s *smbServer) negotiate() []byte {
	body := make([]byte, 64)
	body[0], body[2] = 65, 1
	if s.tells["signing"] == "required" {
		body[2] = 3
	}
	binary.LittleEndian.PutUint16(body[4:], 0x0302)
	copy(body[8:24], s.tells["id"])
	off, _ := time.ParseDuration(s.tells["clock"]) // by how much its clock is wrong
	binary.LittleEndian.PutUint64(body[40:], uint64(time.Now().Add(off).Unix()+11644473600)*1e7)
	return body
}

// smbChallenge is what who signs in has to answer (MS-NLMP, 2.2.1.2), with the names of the computer.
func smbChallenge() []byte {
	names := slices.Concat([]byte{1, 0, 8, 0}, utf16le("FERN"), []byte{0, 0, 0, 0})
	m := append([]byte("NTLMSSP\x00"), 2, 0, 0, 0, 0, 0, 0, 0, 56, 0, 0, 0, 5, 2, 0x8a, 0)
	m = append(m, "\x01\x23\x45\x67\x89\xab\xcd\xef\x00\x00\x00\x00\x00\x00\x00\x00"...)
	m = append(m, byte(len(names)), 0, byte(len(names)), 0, 56, 0, 0, 0, 6, 1, 0, 0, 0, 0, 0, 15)
	return append(m, names...)
}

// setUp lets in who may come (MS-SMB2, 3.3.5.5): nobody in particular, or a guest who proves that his password is empty (MS-NLMP, 3.3.2).
func (s *smbServer) setUp(body []byte) (uint32, []byte) {
	const more, refused = 0xc0000016, 0xc000006d
	le := binary.LittleEndian
	at := bytes.Index(body, []byte("NTLMSSP\x00"))
	if at < 0 {
		return refused, []byte{9, 0, 0, 0, 0, 0, 0, 0}
	}
	message := body[at:]
	if message[8] == 1 {
		challenge := smbChallenge()
		return more, slices.Concat([]byte{9, 0, 0, 0, 72, 0, byte(len(challenge)), 0}, challenge)
	}
	if len(message) < 64 {
		return refused, []byte{9, 0, 0, 0, 0, 0, 0, 0}
	}
	field := func(at int) []byte {
		length, offset := int(le.Uint16(message[at:])), int(le.Uint32(message[at+4:]))
		if offset+length > len(message) {
			return nil
		}
		return message[offset : offset+length]
	}
	user, response := field(36), field(20)
	proves := func() bool {
		if len(response) < 16 {
			return false
		}
		key := hmac.New(md5.New, []byte("\x31\xd6\xcf\xe0\xd1\x6a\xe9\x31\xb7\x3c\x59\xd7\xe0\xc0\x89\xc0"))
		key.Write(utf16le("GUEST"))
		proof := hmac.New(md5.New, key.Sum(nil))
		proof.Write([]byte("\x01\x23\x45\x67\x89\xab\xcd\xef"))
		proof.Write(response[16:])
		return hmac.Equal(proof.Sum(nil), response[:16])
	}
	switch s.tells["lets"] {
	case "nobody":
		s.present = len(user) == 0
	case "guest":
		s.present = string(user) == string(utf16le("guest")) && proves()
	}
	if !s.present {
		return refused, []byte{9, 0, 0, 0, 0, 0, 0, 0}
	}
	return 0, []byte{9, 0, 1, 0, 72, 0, 0, 0}
}

// pipe answers what comes to the service of shares (MS-SRVS): who binds to it, and who asks for the list.
func (s *smbServer) pipe(question []byte) (uint32, []byte) {
	const overflow = 0x80000005
	le := binary.LittleEndian
	words := func(b []byte, all ...uint32) []byte {
		for _, w := range all {
			b = le.AppendUint32(b, w)
		}
		return b
	}
	piece := func(kind, flags byte, body []byte) []byte {
		return slices.Concat([]byte{5, 0, kind, flags, 0x10, 0, 0, 0}, le.AppendUint16(nil, uint16(24+len(body))), []byte{0, 0}, question[12:16], make([]byte, 8), body)
	}
	answer := piece(12, 3, make([]byte, 44))
	state := uint32(0)
	if question[2] == 0 {
		shares := append(strings.Fields(s.tells["shares"]), "IPC$")
		stub := words(nil, 1, 1, 0x20000, uint32(len(shares)), 0x20004, uint32(len(shares)))
		for _, name := range shares {
			kind := uint32(0)
			if name == "IPC$" {
				kind = 0x80000003
			}
			stub = words(stub, 0x20008, kind, 0)
		}
		for _, name := range shares {
			raw := append(utf16le(name), 0, 0)
			stub = words(stub, uint32(len(raw)/2), 0, uint32(len(raw)/2))
			stub = append(append(stub, raw...), make([]byte, (4-len(raw)%4)%4)...)
		}
		stub = words(stub, uint32(len(shares)), 0, 0)
		answer = nil
		for first := byte(1); len(stub) > 0; first = 0 {
			n, last := min(len(stub), smbPiece), byte(0)
			if n == len(stub) {
				last = 2
			}
			answer, stub = append(answer, piece(2, first|last, stub[:n])...), stub[n:]
		}
		if len(answer) > smbPiece {
			answer, s.pending, state = answer[:smbPiece], answer[smbPiece:], overflow
		}
	}
	head := append([]byte{49, 0, 0, 0}, make([]byte, 20)...)
	head = words(head, 0, 0, 64+48, uint32(len(answer)), 0, 0)
	return state, append(head, answer...)
}

func utf16le(text string) []byte {
	var raw []byte
	for _, u := range utf16.Encode([]rune(text)) {
		raw = binary.LittleEndian.AppendUint16(raw, u)
	}
	return raw
}
