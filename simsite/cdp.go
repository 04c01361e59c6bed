package simsite

import (
	"encoding/binary"
	"slices"

	"airdrift/core/hwaddr"
)

// speaksCDP is how a scenario names a device that announces itself by its maker's discovery protocol, which has no port.
const speaksCDP = "cdp"

var cdpGroup = hwaddr.MustParse("01:00:0c:cc:cc:cc")

// cdpFrame makes an announcement: "name", "port", "descr" (its software), "platform", "role" (router, switch, telephone).
func cdpFrame(leg Leg, tells map[string]string) []byte {
	message := []byte{2, 180, 0, 0}
	part := func(kind uint16, value []byte) {
		message = binary.BigEndian.AppendUint16(message, kind)
		message = binary.BigEndian.AppendUint16(message, uint16(len(value)+4))
		message = append(message, value...)
	}
	part(1, []byte(tells["name"]))
	if leg.Address.Is4() {
		a := leg.Address.As4()
		part(2, slices.Concat([]byte{0, 0, 0, 1, 1, 1, 0xcc, 0, 4}, a[:]))
	}
	part(3, []byte(tells["port"]))
	part(4, []byte{0, 0, 0, map[string]byte{"router": 1, "switch": 8, "telephone": 0x90}[tells["role"]]})
	part(5, []byte(tells["descr"]))
	part(6, []byte(tells["platform"]))
	part(0x0a, []byte{0, 40})
	link := []byte{0xaa, 0xaa, 3, 0, 0, 0x0c, 0x20, 0}
	length := binary.BigEndian.AppendUint16(nil, uint16(len(link)+len(message)))
	return slices.Concat(cdpGroup[:], leg.MAC[:], length, link, message)
}
