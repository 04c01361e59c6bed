package probe

import (
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"net/netip"

	"airdrift/core/evidence"
)

// Keys of the facts.
const (
	keyCIPVendor   = "cip.vendor-id"
	keyCIPType     = "cip.type"
	keyCIPCode     = "cip.code"
	keyCIPRevision = "cip.revision"
	keyCIPSerial   = "cip.serial"
	keyCIPProduct  = "cip.product"
)

const cipPort = 44818

var _ = register(Protocol{
	Name: "ethernet-ip", Source: evidence.SourceCIP, Cost: Light,
	Port: evidence.UDP(cipPort), Ask: askCIP, Hear: hearCIP,
	Ports: []uint16{cipPort}, Usual: []uint16{cipPort}, Telling: []uint16{cipPort}, Talk: talkCIP,
	Groups: []Group{{At: netip.AddrPortFrom(netip.AddrFrom4([4]byte{255, 255, 255, 255}), cipPort), Questions: func() ([][]byte, error) { return [][]byte{cipListIdentity(1)}, nil }, Sparing: true}},
	Facts: []evidence.Fact{
		{Key: keyCIPVendor, Says: "number that ODVA has given its maker", Standard: "EtherNet/IP, CIP volume 1, 5A-2", Example: "812"},
		{Key: keyCIPType, Says: "profile of the device", Standard: "CIP volume 1, 6-7", Example: "programmable logic controller", Describes: true},
		{Key: keyCIPCode, Says: "product code", Standard: "CIP volume 1, 5A-2", Example: "55"},
		{Key: keyCIPRevision, Says: "revision", Standard: "CIP volume 1, 5A-2", Example: "32.11"},
		{Key: keyCIPSerial, Says: "serial number", Standard: "CIP volume 1, 5A-2", Example: "00c0ffee"},
		{Key: keyCIPProduct, Says: "name of the product", Standard: "CIP volume 1, 5A-2", Example: "Spindle 45 drive", Names: 10, Describes: true},
	},
})

const (
	cipHeader   = 24     // of a message (CIP volume 2, 2-3.1)
	cipIdentity = 0x63   // its command (CIP volume 2, 2-4.2)
	cipItem     = 0x000c // of an identity
)

// cipTypes are the profiles of devices (CIP volume 1, 6-7).
var cipTypes = map[uint16]string{
	0x00: "generic device", 0x02: "AC drive", 0x03: "motor overload", 0x04: "limit switch", 0x05: "proximity switch", 0x06: "photoelectric sensor",
	0x07: "discrete inputs and outputs", 0x09: "resolver", 0x0c: "communications adapter", 0x0e: "programmable logic controller", 0x10: "position controller",
	0x13: "DC drive", 0x15: "contactor", 0x16: "motor starter", 0x17: "soft starter", 0x18: "operator panel", 0x1a: "mass flow controller",
	0x1b: "pneumatic valves", 0x1c: "vacuum gauge", 0x1d: "process control value", 0x1e: "residual gas analyser", 0x1f: "DC power generator",
	0x20: "RF power generator", 0x21: "turbomolecular vacuum pump", 0x22: "encoder", 0x23: "safety discrete inputs and outputs", 0x24: "fluid flow controller",
	0x25: "motion drive", 0x2b: "generic device", 0x2c: "managed Ethernet switch", 0x2d: "safety motion drive", 0x2e: "safety drive", 0x2f: "motion encoder",
	0xc8: "embedded component",
}

// cipListIdentity asks for the identity; the answer carries the same context.
func cipListIdentity(context uint64) []byte {
	message := make([]byte, cipHeader)
	message[0] = cipIdentity
	binary.LittleEndian.PutUint64(message[12:], context)
	return message
}

// askCIP asks a device for its identity (CIP volume 2, 2-4.2).
func askCIP(ctx context.Context, q Query) ([]evidence.Item, bool) {
	f, to := q.byDatagram(cipPort)
	err := exchange(ctx, q.Dialer, to, cipListIdentity(1), q.Wait, func(answer []byte) verdict {
		if !readCIP(answer, f) {
			return ignore
		}
		return enough
	})
	return f.items, err == nil
}

// talkCIP asks by connection.
func talkCIP(_ context.Context, conn net.Conn, _ netip.AddrPort, f *found) {
	if _, err := conn.Write(cipListIdentity(1)); err != nil {
		return
	}
	head := make([]byte, cipHeader)
	if _, err := io.ReadFull(conn, head); err != nil {
		return
	}
	body := make([]byte, binary.LittleEndian.Uint16(head[2:]))
	if n, err := io.ReadFull(conn, body); err == nil {
		readCIP(append(head, body[:n]...), f)
	}
}

func hearCIP(d Datagram) ([]evidence.Item, bool) {
	f := &found{port: evidence.UDP(cipPort)}
	ok := d.From.Port() == cipPort && readCIP(d.Message, f)
	return f.items, ok
}

// readCIP reads an identity.
func readCIP(message []byte, f *found) bool {
	const fixed = 33 // of the item up to the name (CIP volume 2, 2-4.2.3)
	if len(message) < cipHeader+2+4+fixed || message[0] != cipIdentity || message[1] != 0 || binary.LittleEndian.Uint32(message[8:]) != 0 {
		return false
	}
	body := message[cipHeader:]
	if binary.LittleEndian.Uint16(body) == 0 || binary.LittleEndian.Uint16(body[2:]) != cipItem || int(binary.LittleEndian.Uint16(body[4:])) > len(body)-6 {
		return false
	}
	item := body[6:]
	le := binary.LittleEndian
	add := func(key, format string, values ...any) {
		f.addOnce(evidence.SourceCIP, key, fmt.Appendf(nil, format, values...))
	}
	kind := le.Uint16(item[20:])
	if cipTypes[kind] != "" {
		add(keyCIPType, "%s", cipTypes[kind])
	} else {
		add(keyCIPType, "%d", kind)
	}
	add(keyCIPVendor, "%d", le.Uint16(item[18:]))
	add(keyCIPCode, "%d", le.Uint16(item[22:]))
	add(keyCIPRevision, "%d.%d", item[24], item[25])
	add(keyCIPSerial, "%08x", le.Uint32(item[28:]))
	if name := item[fixed:]; int(item[32]) <= len(name) {
		f.addOnce(evidence.SourceCIP, keyCIPProduct, name[:item[32]])
	}
	return true
}
