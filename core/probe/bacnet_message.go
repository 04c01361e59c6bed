package probe

import (
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"strconv"
	"time"

	"airdrift/core/evidence"
)

// Of the link layer (ASHRAE 135, J.2).
const (
	bvlcType      = 0x81
	bvlcReadPeers = 0x02
	bvlcPeers     = 0x03
	bvlcForwarded = 0x04
	bvlcReadGuest = 0x06
	bvlcGuests    = 0x07
	bvlcUnicast   = 0x0a
	bvlcBroadcast = 0x0b

	bvlcEntry = 10 // bytes of a line of either table
)

// Of the network layer (6.2.2, 6.2.4).
const (
	npduVersion   = 1
	npduMessage   = 0x80
	npduTo        = 0x20
	npduFrom      = 0x08
	npduExpecting = 0x04

	npduWhoRoutes = 0x00
	npduIRoute    = 0x01

	bacnetEverywhere = 0xffff
)

// Of the application layer (20.1, 21).
const (
	apduConfirmed   = 0
	apduUnconfirmed = 1
	apduAnswer      = 3
	apduSegmentAck  = 4
	apduError       = 5
	apduReject      = 6
	apduAbort       = 7

	bacnetIAm      = 0
	bacnetWhoIs    = 8
	bacnetRead     = 12
	bacnetReadMany = 14

	bacnetDevice    = 8               // type of object
	bacnetAnyDevice = 1<<22 - 1       // stands for the device that is asked (12.11.1, 15.5.2)
	bacnetAccepts   = 0x45            // at most 16 segments of at most 1,476 octets (20.1.2.4, 20.1.2.5)
	bacnetWhole     = 0x05            // at most 1,476 octets in one piece
	bacnetSegments  = 16              // that are put together at most
	bacnetPatience  = 6 * time.Second // for a device that has shown that it speaks BACnet: small controllers take seconds
	maxBACnetBehind = 128             // devices behind one that are asked: an MS/TP trunk has no more masters (9.2.1)
	maxBACnetNets   = 16
	// maxBACnetSilences is how many in a row of those behind one may keep silent before no more are asked: anybody on a segment can call out that they
	// stand behind somebody else.
	maxBACnetSilences = 3
)

// bacnetProperties are what is asked of a device, with the keys of their facts, those first that tell most (21, BACnetPropertyIdentifier).
var bacnetProperties = []struct {
	number uint32
	key    string
}{
	{75, evidence.KeyBACnetInstance}, {77, keyBACnetName}, {120, keyBACnetVendor}, {121, keyBACnetMaker}, {70, keyBACnetModel}, {44, keyBACnetFirmware},
	{12, keyBACnetApplication}, {58, keyBACnetLocation}, {28, keyBACnetDescription}, {139, keyBACnetRevision}, {372, keyBACnetSerial},
}

func bacnetKey(property uint32) string {
	for _, p := range bacnetProperties {
		if p.number == property {
			return p.key
		}
	}
	return ""
}

// bacnetPlace is where a device stands behind a router; the zero value stands for the one that is asked itself.
type bacnetPlace struct {
	network uint16
	address string // as bytes; at most 7
}

func (p bacnetPlace) String() string {
	return fmt.Sprintf("%d/%s", p.network, hex.EncodeToString([]byte(p.address)))
}

// bacnetMessage makes a datagram to a place.
func bacnetMessage(function byte, to bacnetPlace, control byte, body ...byte) []byte {
	npdu := []byte{npduVersion, control}
	if to.network != 0 {
		npdu[1] |= npduTo
		npdu = binary.BigEndian.AppendUint16(npdu, to.network)
		npdu = append(npdu, byte(len(to.address)))
		npdu = append(npdu, to.address...)
		npdu = append(npdu, 255) // hops
	}
	npdu = append(npdu, body...)
	return append(binary.BigEndian.AppendUint16([]byte{bvlcType, function}, uint16(len(npdu)+4)), npdu...)
}

// bacnetHeard is a datagram that came in, down to what it carries.
type bacnetHeard struct {
	from    bacnetPlace
	message byte   // of the network layer, where it is one
	network bool   // it is a message of the network layer
	body    []byte // of the application layer, or behind the message
}

// readBACnet takes a datagram apart. ok is false where it is none, or not for us.
func readBACnet(datagram []byte) (h bacnetHeard, ok bool) {
	if len(datagram) < 6 || datagram[0] != bvlcType || int(binary.BigEndian.Uint16(datagram[2:])) != len(datagram) {
		return h, false
	}
	rest := datagram[4:]
	switch datagram[1] {
	case bvlcUnicast, bvlcBroadcast:
	case bvlcForwarded:
		rest = rest[min(6, len(rest)):]
	default:
		return h, false
	}
	if len(rest) < 2 || rest[0] != npduVersion {
		return h, false
	}
	control := rest[1]
	rest = rest[2:]
	place := func() (p bacnetPlace, ok bool) {
		if len(rest) < 3 || len(rest) < 3+int(rest[2]) || rest[2] > 7 {
			return p, false
		}
		p = bacnetPlace{binary.BigEndian.Uint16(rest), string(rest[3 : 3+rest[2]])}
		rest = rest[3+rest[2]:]
		return p, true
	}
	if control&npduTo != 0 {
		if _, ok := place(); !ok {
			return h, false
		}
	}
	if control&npduFrom != 0 {
		if h.from, ok = place(); !ok {
			return h, false
		}
	}
	if control&npduTo != 0 {
		if len(rest) == 0 {
			return h, false
		}
		rest = rest[1:]
	}
	if control&npduMessage != 0 {
		if len(rest) == 0 {
			return h, false
		}
		h.network, h.message, rest = true, rest[0], rest[1:]
	}
	h.body = rest
	return h, h.network || len(rest) >= 2
}

// networks gives the numbers in an answer to the question which routers there are (6.4.2).
func (h bacnetHeard) networks() []uint16 {
	if !h.network || h.message != npduIRoute {
		return nil
	}
	var numbers []uint16
	for rest := h.body; len(rest) >= 2 && len(numbers) < maxBACnetNets; rest = rest[2:] {
		numbers = append(numbers, binary.BigEndian.Uint16(rest))
	}
	return numbers
}

// iAm reads which device says that it is there (16.10.2).
func (h bacnetHeard) iAm() (instance, vendor uint32, ok bool) {
	if h.network || h.body[0]>>4 != apduUnconfirmed || h.body[1] != bacnetIAm {
		return 0, 0, false
	}
	var numbers []uint32
	for rest := h.body[2:]; len(rest) > 0 && len(numbers) < 4; {
		tag, value, after, ok := bacnetTag(rest)
		if !ok || tag.opens || tag.closes || len(value) > 4 {
			return 0, 0, false
		}
		numbers, rest = append(numbers, bigEndian(value)), after
	}
	if len(numbers) < 4 || numbers[0]>>22 != bacnetDevice {
		return 0, 0, false
	}
	return numbers[0] & bacnetAnyDevice, numbers[3], true
}

// bacnetTagged is the head of a value (20.2.1).
type bacnetTagged struct {
	number        byte
	context       bool
	opens, closes bool
}

// bacnetTag reads a head and what it is of.
func bacnetTag(raw []byte) (tag bacnetTagged, value, rest []byte, ok bool) {
	if len(raw) == 0 {
		return tag, nil, nil, false
	}
	head := raw[0]
	raw = raw[1:]
	tag = bacnetTagged{number: head >> 4, context: head&8 != 0}
	if tag.number == 15 {
		if len(raw) == 0 {
			return tag, nil, nil, false
		}
		tag.number, raw = raw[0], raw[1:]
	}
	length := int(head & 7)
	switch {
	case tag.context && length == 6:
		tag.opens = true
		return tag, nil, raw, true
	case tag.context && length == 7:
		tag.closes = true
		return tag, nil, raw, true
	case length == 5:
		if len(raw) == 0 {
			return tag, nil, nil, false
		}
		length, raw = int(raw[0]), raw[1:]
		if length == 254 {
			if len(raw) < 2 {
				return tag, nil, nil, false
			}
			length, raw = int(binary.BigEndian.Uint16(raw)), raw[2:]
		}
	case !tag.context && tag.number == 1: // a boolean is in its head
		length = 0
	}
	if length > len(raw) {
		return tag, nil, nil, false
	}
	return tag, raw[:length], raw[length:], true
}

// bigEndian reads a number of at most four bytes, the highest first.
func bigEndian(value []byte) uint32 {
	number := uint32(0)
	for _, b := range value {
		number = number<<8 | uint32(b)
	}
	return number
}

// bacnetText reads a value of the application in words; "" for one of a kind that is not asked for (20.2).
func bacnetText(tag bacnetTagged, value []byte) []byte {
	switch {
	case tag.context:
	case tag.number == 2 && len(value) <= 4, tag.number == 9 && len(value) <= 4:
		return strconv.AppendUint(nil, uint64(bigEndian(value)), 10)
	case tag.number == 12 && len(value) == 4:
		return strconv.AppendUint(nil, uint64(bigEndian(value)&bacnetAnyDevice), 10)
	case tag.number == 7 && len(value) > 1:
		switch text := value[1:]; value[0] {
		case 0:
			return text
		case 4: // UCS-2
			var runes []rune
			for ; len(text) >= 2; text = text[2:] {
				runes = append(runes, rune(binary.BigEndian.Uint16(text)))
			}
			return []byte(string(runes))
		case 5: // ISO 8859-1
			var runes []rune
			for _, b := range text {
				runes = append(runes, rune(b))
			}
			return []byte(string(runes))
		}
	}
	return nil
}

// takeValues reads the answer to a question for one or several properties (15.5, 15.7). It gives how many had a value.
func (f *found) takeValues(answer []byte) (values int) {
	property := uint32(0)
	depth, inValue := 0, false
	for rest := answer; len(rest) > 0; {
		tag, value, after, ok := bacnetTag(rest)
		if !ok {
			return values
		}
		rest = after
		switch {
		case tag.opens:
			depth++
			inValue = tag.number == 3 || tag.number == 4
		case tag.closes:
			depth--
			inValue = false
		case inValue && bacnetKey(property) != "":
			if text := bacnetText(tag, value); len(text) > 0 {
				f.addOnce(evidence.SourceBACnet, bacnetKey(property), text)
				values++
			}
		case tag.context && len(value) <= 4 && (depth == 0 && tag.number == 1 || depth == 1 && tag.number == 2):
			property = bigEndian(value)
		}
	}
	return values
}
