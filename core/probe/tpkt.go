package probe

import (
	"encoding/binary"
	"io"
)

const (
	maxTPKT    = 2048 // of one message, in bytes
	cotpAccept = 0xd0 // a connection of the transport is confirmed (ISO 8073, 13.4)
)

// readTPKT reads one message of the transport (RFC 1006, 6).
func readTPKT(r io.Reader) ([]byte, error) {
	head := make([]byte, 4)
	if _, err := io.ReadFull(r, head); err != nil {
		return nil, err
	}
	length := int(binary.BigEndian.Uint16(head[2:])) - len(head)
	if head[0] != 3 || length < 3 || length > maxTPKT {
		return nil, io.ErrUnexpectedEOF
	}
	body := make([]byte, length)
	_, err := io.ReadFull(r, body)
	return body, err
}

// tpkt makes such a message.
func tpkt(body ...byte) []byte {
	return append(binary.BigEndian.AppendUint16([]byte{3, 0}, uint16(len(body)+4)), body...)
}
