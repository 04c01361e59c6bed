package simsite

import (
	"encoding/binary"
	"slices"
	"time"

	"airdrift/core/hwaddr"
)

// lldpGroup is where neighbours announce themselves (IEEE 802.1AB-2016, 7.1).
var lldpGroup = hwaddr.MustParse("01:80:c2:00:00:0e")

// lldpFrame makes what a device tells its neighbours of itself: its chassis, the port, and what the service tells.
func lldpFrame(leg Leg, tells map[string]string) []byte {
	frame := slices.Concat(lldpGroup[:], leg.MAC[:], []byte{0x88, 0xcc})
	tlv := func(kind int, value []byte) {
		frame = binary.BigEndian.AppendUint16(frame, uint16(kind<<9|len(value)))
		frame = append(frame, value...)
	}
	tlv(1, append([]byte{4}, leg.MAC[:]...))
	tlv(2, []byte("\x05p1"))
	tlv(3, []byte{0, 120})
	tlv(5, []byte(tells["name"]))
	tlv(6, []byte(tells["descr"]))
	if role := map[string]uint8{"bridge": 4, "access-point": 8, "router": 16, "telephone": 32, "station": 128}[tells["role"]]; role != 0 {
		tlv(7, []byte{0, role, 0, role})
	}
	if leg.Address.Is4() {
		a := leg.Address.As4()
		tlv(8, []byte{5, 1, a[0], a[1], a[2], a[3], 2, 0, 0, 0, 1, 0})
	}
	for subtype, key := range map[byte]string{6: "firmware", 8: "serial", 9: "maker", 10: "model"} {
		if tells[key] != "" {
			tlv(127, append([]byte{0x00, 0x12, 0xbb, subtype}, tells[key]...))
		}
	}
	tlv(0, []byte{})
	return frame
}

// lldpEvery is how often neighbours announce themselves here; the standard's 30 seconds would outlast most sweeps.
const lldpEvery = 2 * time.Second
