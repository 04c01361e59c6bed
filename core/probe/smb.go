package probe

import (
	"context"
	"crypto/rand"
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"net/netip"
	"time"

	"airdrift/core/evidence"
)

// smbDialects are offered; the server takes the highest that it knows (MS-SMB2, 2.2.3).
var smbDialects = []uint16{0x0202, 0x0210, 0x0300, 0x0302, 0x0311}

var smbVersions = map[uint16]string{0x0202: "2.0.2", 0x0210: "2.1", 0x0300: "3.0", 0x0302: "3.0.2", 0x0311: "3.1.1"}

const (
	smbHeader    = 64
	smbNegotiate = 64 // bytes of the fixed part of a negotiate response
)

// talkSMB negotiates and goes no further (MS-SMB2, 2.2.3 and 2.2.4).
func talkSMB(_ context.Context, conn net.Conn, _ netip.AddrPort, f *found) {
	if _, err := conn.Write(smbRequest()); err != nil {
		return
	}
	head := make([]byte, 4) // direct TCP transport (MS-SMB2, 2.1)
	if _, err := io.ReadFull(conn, head); err != nil || head[0] != 0 {
		return
	}
	length := min(int(binary.BigEndian.Uint32(head)), maxAnswer)
	answer := make([]byte, length)
	if _, err := io.ReadFull(conn, answer); err == nil {
		readSMB(answer, f)
	}
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

// readSMB reads a negotiate response.
func readSMB(answer []byte, f *found) {
	if len(answer) < smbHeader+smbNegotiate || string(answer[:4]) != "\xfeSMB" || binary.LittleEndian.Uint32(answer[8:]) != 0 {
		return
	}
	body := answer[smbHeader:]
	version := smbVersions[binary.LittleEndian.Uint16(body[4:])]
	f.add(evidence.SourceSMB, evidence.KeySMBDialect, []byte(version))
	signing := "not offered"
	switch mode := binary.LittleEndian.Uint16(body[2:]); {
	case mode&2 != 0:
		signing = "required"
	case mode&1 != 0:
		signing = "offered"
	}
	f.add(evidence.SourceSMB, evidence.KeySMBSigning, []byte(signing))
	f.add(evidence.SourceSMB, evidence.KeySMBID, fmt.Appendf(nil, "%x", body[8:24]))
	if at := windowsTime(binary.LittleEndian.Uint64(body[40:])); !at.IsZero() {
		f.add(evidence.SourceSMB, evidence.KeySMBTime, []byte(at.Format(time.RFC3339)))
	}
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
