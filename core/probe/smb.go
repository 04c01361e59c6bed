package probe

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"net/netip"
	"slices"
	"time"
	"unicode/utf16"

	"airdrift/core/evidence"
)

// Keys of the facts.
const (
	keySMBDialect = "smb.dialect"
	keySMBID      = "smb.id"
	keySMBTime    = "smb.time"
	keySMBSigning = "smb.signing"
	keySMBName    = "smb.name"
	keySMBDomain  = "smb.domain"
	keySMBHost    = "smb.host"
	keySMBVersion = "smb.version"
)

var _ = register(Protocol{
	Name: "smb", Source: evidence.SourceSMB, Cost: Light,
	Ports: []uint16{445}, Telling: []uint16{445}, RollCall: []uint16{445}, Talk: talkSMB,
	Parts: []string{"shares"},
	Facts: slices.Concat(smbShareFacts, []evidence.Fact{
		{Key: keySMBDialect, Says: "the newest version that it agrees to", Standard: "MS-SMB2, 2.2.4", Example: "3.1.1"},
		{Key: keySMBID, Says: "identifier of the server", Standard: "MS-SMB2, 2.2.4", Example: "9a3f…", Use: evidence.Identifier},
		{Key: keySMBTime, Says: "its clock", Standard: "MS-SMB2, 2.2.4", Example: "2034-05-01T12:00:00Z", Passing: true},
		{Key: keySMBSigning, Says: "whether it signs: `required`, `offered` or `not offered`", Standard: "MS-SMB2, 2.2.4", Example: "required"},
		{Key: keySMBName, Says: "the name of the computer, by its challenge to who signs in", Standard: "MS-NLMP, 2.2.2.1", Example: "ACORN", By: evidence.TheHost},
		{Key: keySMBDomain, Says: "the domain or workgroup of the computer", Standard: "MS-NLMP, 2.2.2.1", Example: "GARDEN"},
		{Key: keySMBHost, Says: "the full host name of the computer", Standard: "MS-NLMP, 2.2.2.1", Example: "acorn.fernhollow.example"},
		{Key: keySMBVersion, Says: "version and build of the system, or of what it gives itself out as", Standard: "MS-NLMP, 2.2.2.10", Example: "10.0.20348"},
	}),
})

// smbDialects are offered; the server takes the highest that it knows (MS-SMB2, 2.2.3).
var smbDialects = []uint16{0x0202, 0x0210, 0x0300, 0x0302, 0x0311}

var smbVersions = map[uint16]string{0x0202: "2.0.2", 0x0210: "2.1", 0x0300: "3.0", 0x0302: "3.0.2", 0x0311: "3.1.1"}

const (
	smbHeader    = 64
	smbNegotiate = 64 // bytes of the fixed part of a negotiate response
)

// talkSMB negotiates, and begins a session to hear what is there (MS-SMB2, 2.2.3 to 2.2.6), and whether anybody may come in.
func talkSMB(ctx context.Context, conn net.Conn, addr netip.AddrPort, f *found) {
	if _, err := conn.Write(smbRequest()); err != nil {
		return
	}
	answer, err := readSMBMessage(conn)
	if err != nil || !readSMB(answer, f) {
		return
	}
	if _, err := conn.Write(sessionRequest()); err != nil {
		return
	}
	if answer, err = readSMBMessage(conn); err == nil {
		readChallenge(answer, f)
		askShares(ctx, conn, addr, answer, f)
	}
}

// readSMBMessage reads one message, with the header of the direct TCP transport before it (MS-SMB2, 2.1).
func readSMBMessage(conn net.Conn) ([]byte, error) {
	head := make([]byte, 4)
	if _, err := io.ReadFull(conn, head); err != nil {
		return nil, err
	}
	if head[0] != 0 {
		return nil, errSilent
	}
	answer := make([]byte, min(int(binary.BigEndian.Uint32(head)), maxAnswer))
	_, err := io.ReadFull(conn, answer)
	return answer, err
}

// ntlmNegotiate begins to sign in, and says no name (MS-NLMP, 2.2.1.1): Unicode, the target wanted, NTLM, the version.
var ntlmNegotiate = append([]byte("NTLMSSP\x00\x01\x00\x00\x00\x05\x02\x08\x82"), make([]byte, 24)...)

// ntlmNegotiation begins to sign in, in the envelope of what is negotiated so (RFC 4178).
func ntlmNegotiation() []byte {
	mechanism := der(0x06, []byte{0x2b, 0x06, 0x01, 0x04, 0x01, 0x82, 0x37, 0x02, 0x02, 0x0a}) // NTLMSSP
	return der(0x60, der(0x06, []byte{0x2b, 0x06, 0x01, 0x05, 0x05, 0x02}),
		der(0xa0, der(0x30, der(0xa0, der(0x30, mechanism)), der(0xa2, der(0x04, ntlmNegotiate)))))
}

// sessionRequest begins a session: the answer says the names of what is there (MS-SMB2, 2.2.5).
func sessionRequest() []byte {
	message := make([]byte, smbHeader)
	copy(message, "\xfeSMB")
	message[4] = smbHeader
	message[12] = 1 // session setup
	message[14] = 1 // one credit
	message[24] = 1 // the second message
	message = append(message, sessionSetUp(ntlmNegotiation())...)
	return append(binary.BigEndian.AppendUint32(nil, uint32(len(message))), message...)
}

// sessionSetUp carries a token of who signs in.
func sessionSetUp(token []byte) []byte {
	body := binary.LittleEndian.AppendUint16(nil, 25)
	body = append(body, 0, 1)               // no binding; signing enabled
	body = append(body, make([]byte, 8)...) // capabilities, channel
	body = binary.LittleEndian.AppendUint16(body, smbHeader+24)
	body = binary.LittleEndian.AppendUint16(body, uint16(len(token)))
	return append(append(body, make([]byte, 8)...), token...)
}

// ntlmNames are the pairs of a challenge that name what is there (MS-NLMP, 2.2.2.1).
var ntlmNames = map[uint16]string{1: keySMBName, 2: keySMBDomain, 3: keySMBHost}

// readChallenge takes the names and the version out of a challenge (MS-NLMP, 2.2.1.2), wherever in the answer it is.
func readChallenge(answer []byte, f *found) {
	const target, version, least = 40, 48, 56
	start := bytes.Index(answer, []byte("NTLMSSP\x00\x02\x00\x00\x00"))
	if start < 0 || len(answer) < start+least {
		return
	}
	challenge := answer[start:]
	if v := challenge[version:]; v[0] != 0 {
		f.add(evidence.SourceSMB, keySMBVersion, fmt.Appendf(nil, "%d.%d.%d", v[0], v[1], binary.LittleEndian.Uint16(v[2:])))
	}
	length, offset := int(binary.LittleEndian.Uint16(challenge[target:])), int(binary.LittleEndian.Uint32(challenge[target+4:]))
	if offset < 0 || offset > len(challenge) || length > len(challenge)-offset {
		return
	}
	for pairs, count := challenge[offset:offset+length], 0; len(pairs) >= 4 && count < maxNames; count++ {
		kind, size := binary.LittleEndian.Uint16(pairs), int(binary.LittleEndian.Uint16(pairs[2:]))
		if kind == 0 || size > len(pairs)-4 {
			return
		}
		if key := ntlmNames[kind]; key != "" {
			f.addOnce(evidence.SourceSMB, key, wideText(pairs[4:4+size]))
		}
		pairs = pairs[4+size:]
	}
}

// wideText reads UTF-16 in the byte order of Windows.
func wideText(raw []byte) []byte {
	units := make([]uint16, len(raw)/2)
	for i := range units {
		units[i] = binary.LittleEndian.Uint16(raw[2*i:])
	}
	return []byte(string(utf16.Decode(units)))
}

func smbRequest() []byte {
	message := make([]byte, smbHeader)
	copy(message, "\xfeSMB")
	message[4] = smbHeader
	message[14] = 1 // one credit
	body := binary.LittleEndian.AppendUint16(nil, 36)
	body = binary.LittleEndian.AppendUint16(body, uint16(len(smbDialects)))
	body = append(body, 1, 0, 0, 0, 0, 0, 0, 0) // signing enabled; no capabilities
	var client [16]byte
	_, _ = rand.Read(client[:]) // never fails (crypto/rand)
	body = append(body, client[:]...)
	contexts := smbHeader + len(body) + 8 + 2*len(smbDialects)
	pad := (8 - contexts%8) % 8
	body = binary.LittleEndian.AppendUint32(body, uint32(contexts+pad))
	body = append(body, 1, 0, 0, 0) // one context
	for _, d := range smbDialects {
		body = binary.LittleEndian.AppendUint16(body, d)
	}
	body = append(body, make([]byte, pad)...)
	// Integrity before authentication by SHA-512 with a salt of 32 bytes, which 3.1.1 wants (MS-SMB2, 2.2.3.1.1).
	body = append(body, 1, 0, 38, 0, 0, 0, 0, 0, 1, 0, 32, 0, 1, 0)
	salt := make([]byte, 32)
	_, _ = rand.Read(salt) // never fails (crypto/rand)
	message = append(append(message, body...), salt...)
	return append(binary.BigEndian.AppendUint32(nil, uint32(len(message))), message...)
}

// readSMB reads a negotiate response, and reports whether it is one.
func readSMB(answer []byte, f *found) bool {
	if len(answer) < smbHeader+smbNegotiate || string(answer[:4]) != "\xfeSMB" || binary.LittleEndian.Uint32(answer[8:]) != 0 {
		return false
	}
	body := answer[smbHeader:]
	version := smbVersions[binary.LittleEndian.Uint16(body[4:])]
	f.add(evidence.SourceSMB, keySMBDialect, []byte(version))
	signing := "not offered"
	switch mode := binary.LittleEndian.Uint16(body[2:]); {
	case mode&2 != 0:
		signing = "required"
	case mode&1 != 0:
		signing = "offered"
	}
	f.add(evidence.SourceSMB, keySMBSigning, []byte(signing))
	f.add(evidence.SourceSMB, keySMBID, fmt.Appendf(nil, "%x", body[8:24]))
	if at := windowsTime(binary.LittleEndian.Uint64(body[40:])); !at.IsZero() {
		f.add(evidence.SourceSMB, keySMBTime, []byte(at.Format(time.RFC3339)))
	}
	return true
}

// windowsTime reads hundreds of nanoseconds since 1601 (MS-DTYP, 2.3.3); zero where it is before 1970 or after 2200.
func windowsTime(ticks uint64) time.Time {
	const toUnix, until = 116444736000000000, 189000000000000000
	if ticks < toUnix || ticks > until {
		return time.Time{}
	}
	ticks -= toUnix
	return time.Unix(int64(ticks/1e7), int64(ticks%1e7)*100).UTC()
}
