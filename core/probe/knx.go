package probe

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"net/netip"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
)

// Keys of the facts.
const (
	keyKNXName    = "knx.name"
	keyKNXAddress = "knx.address"
	keyKNXMedium  = "knx.medium"
	keyKNXSerial  = "knx.serial"
	keyKNXMAC     = "knx.mac"
	keyKNXProject = "knx.project"
	keyKNXService = "knx.service"
	keyKNXMask    = "knx.mask"
)

const knxPort = 3671

var _ = register(Protocol{
	Name: "knx", Source: evidence.SourceKNX, Cost: Light,
	Port: evidence.UDP(knxPort), Ask: askKNX, Hear: hearKNX,
	Groups: []Group{{At: netip.MustParseAddrPort("224.0.23.12:3671"), Questions: func() ([][]byte, error) { return [][]byte{knxMessage(knxSearch)}, nil }, Sparing: true}},
	Facts: []evidence.Fact{
		{Key: keyKNXName, Says: "name that its keeper or its maker gives it", Standard: "ISO 22510, 7.5.4.2", Example: "Coupler KNX IP 3", Names: 10, Describes: true, By: evidence.TheKeeper},
		{Key: keyKNXAddress, Says: "its individual address on the bus", Standard: "ISO 22510, 7.5.4.2", Example: "1.1.0"},
		{Key: keyKNXMedium, Says: "medium of the bus", Standard: "ISO 22510, 7.5.4.2", Example: "twisted pair"},
		{Key: keyKNXSerial, Says: "serial number; its first four digits are its maker's", Standard: "ISO 22510, 7.5.4.2", Example: "00ab12345678"},
		{Key: keyKNXMAC, Says: "the MAC address it gives", Standard: "ISO 22510, 7.5.4.2", Example: "20:e8:bb:00:00:01", Use: evidence.HardwareAddress},
		{Key: keyKNXProject, Says: "number of the project and the installation", Standard: "ISO 22510, 7.5.4.2", Example: "17/1"},
		{Key: keyKNXService, Says: "what it serves, with the version", Standard: "ISO 22510, 7.5.4.3", Example: "tunnelling 1"},
		{Key: keyKNXMask, Says: "profile of the device on the bus", Standard: "ISO 22510, 7.5.4.7", Example: "091a"},
	},
})

// Of messages (ISO 22510, 7.5, 7.6).
const (
	knxSearch      = 0x0201
	knxFound       = 0x0202
	knxDescribe    = 0x0203
	knxDescription = 0x0204
	knxFoundMore   = 0x020c

	knxHeader   = 6
	knxEndpoint = 8

	knxOfDevice   = 0x01
	knxOfServices = 0x02
	knxOfMore     = 0x08
)

var (
	knxMediums  = map[byte]string{0x02: "twisted pair", 0x04: "power line", 0x10: "radio", 0x20: "IP"}
	knxServices = map[byte]string{2: "core", 3: "device management", 4: "tunnelling", 5: "routing", 6: "remote logging", 7: "remote configuration", 8: "object server", 9: "security"}
)

// knxMessage makes a question whose answer goes back to where the question came from (7.5.3, route back).
func knxMessage(service uint16) []byte {
	message := binary.BigEndian.AppendUint16([]byte{knxHeader, 0x10}, service)
	message = binary.BigEndian.AppendUint16(message, knxHeader+knxEndpoint)
	return append(message, knxEndpoint, 1, 0, 0, 0, 0, 0, 0)
}

// askKNX asks what a device is, which opens nothing (7.6.4).
func askKNX(ctx context.Context, q Query) ([]evidence.Item, bool) {
	f, to := q.byDatagram(knxPort)
	err := exchange(ctx, q.Dialer, to, knxMessage(knxDescribe), q.Wait, func(answer []byte) verdict {
		if !readKNX(answer, f) {
			return ignore
		}
		return enough
	})
	return f.items, err == nil
}

// hearKNX reads answers to a search.
func hearKNX(d Datagram) ([]evidence.Item, bool) {
	f := &found{port: evidence.UDP(knxPort)}
	ok := d.From.Port() == knxPort && readKNX(d.Message, f)
	return f.items, ok
}

// readKNX reads a description, or an answer to a search, which has the device's place before it.
func readKNX(message []byte, f *found) bool {
	if len(message) < knxHeader+2 || message[0] != knxHeader || message[1] != 0x10 || int(binary.BigEndian.Uint16(message[4:])) != len(message) {
		return false
	}
	rest := message[knxHeader:]
	switch binary.BigEndian.Uint16(message[2:]) {
	case knxDescription:
	case knxFound, knxFoundMore:
		if len(rest) < knxEndpoint || rest[0] != knxEndpoint {
			return false
		}
		rest = rest[knxEndpoint:]
	default:
		return false
	}
	for len(rest) >= 2 && int(rest[0]) >= 2 && int(rest[0]) <= len(rest) {
		f.takeKNX(rest[1], rest[2:rest[0]])
		rest = rest[rest[0]:]
	}
	return len(f.items) > 0
}

// takeKNX takes in one part of a description (7.5.4).
func (f *found) takeKNX(kind byte, part []byte) {
	add := func(key, text string) { f.addOnce(evidence.SourceKNX, key, []byte(text)) }
	switch {
	case kind == knxOfDevice && len(part) >= 52:
		name, _, _ := bytes.Cut(part[22:52], []byte{0})
		runes := make([]rune, len(name)) // ISO 8859-1
		for i, b := range name {
			runes[i] = rune(b)
		}
		add(keyKNXName, string(runes))
		add(keyKNXMedium, knxMediums[part[0]])
		bus, project := binary.BigEndian.Uint16(part[2:]), binary.BigEndian.Uint16(part[4:])
		add(keyKNXAddress, fmt.Sprintf("%d.%d.%d", bus>>12, bus>>8&15, bus&255))
		if project != 0 {
			add(keyKNXProject, fmt.Sprintf("%d/%d", project>>4, project&15))
		}
		if !bytes.Equal(part[6:12], make([]byte, 6)) {
			add(keyKNXSerial, fmt.Sprintf("%x", part[6:12]))
		}
		if mac := hwaddr.MAC(part[16:22]); !mac.IsZero() && !mac.IsGroup() {
			add(keyKNXMAC, mac.String())
		}
	case kind == knxOfServices:
		for ; len(part) >= 2; part = part[2:] {
			if name := knxServices[part[0]]; name != "" {
				add(keyKNXService, fmt.Sprintf("%s %d", name, part[1]))
			}
		}
	case kind == knxOfMore && len(part) >= 6:
		add(keyKNXMask, fmt.Sprintf("%04x", binary.BigEndian.Uint16(part[4:])))
	}
}
