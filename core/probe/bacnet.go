package probe

import (
	"context"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"airdrift/core/evidence"
)

// Keys of the facts.
const (
	keyBACnetInstance    = "bacnet.instance"
	keyBACnetName        = "bacnet.name"
	keyBACnetVendor      = "bacnet.vendor-id"
	keyBACnetMaker       = "bacnet.maker"
	keyBACnetModel       = "bacnet.model"
	keyBACnetFirmware    = "bacnet.firmware"
	keyBACnetApplication = "bacnet.application"
	keyBACnetLocation    = "bacnet.location"
	keyBACnetDescription = "bacnet.description"
	keyBACnetSerial      = "bacnet.serial"
	keyBACnetRevision    = "bacnet.revision"
	keyBACnetAnswer      = "bacnet.answer"
	keyBACnetRouter      = "bacnet.router"
	keyBACnetBehind      = "bacnet.behind"
	keyBACnetPeer        = "bacnet.peer"
	keyBACnetForeign     = "bacnet.foreign"
)

const bacnetPort = 47808

var _ = register(Protocol{
	Name: "bacnet", Source: evidence.SourceBACnet, Cost: Middling,
	Port: evidence.UDP(bacnetPort), Ask: askBACnet, Hear: hearBACnet,
	Groups: []Group{{At: netip.AddrPortFrom(netip.AddrFrom4([4]byte{255, 255, 255, 255}), bacnetPort), Questions: bacnetCalls, Sparing: true}},
	Parts:  []string{"behind", "tables"},
	Facts: []evidence.Fact{
		{Key: keyBACnetInstance, Says: "number of its device object", Standard: "ASHRAE 135, 12.11.1", Example: "1201"},
		{Key: keyBACnetName, Says: "name of its device object", Standard: "ASHRAE 135, 12.11.2", Example: "palm house climate"},
		{Key: keyBACnetVendor, Says: "number that ASHRAE has given its maker", Standard: "ASHRAE 135, 12.11.6", Example: "260"},
		{Key: keyBACnetMaker, Says: "its maker", Standard: "ASHRAE 135, 12.11.5", Example: "Thornquist Controls", Names: 13},
		{Key: keyBACnetModel, Says: "model", Standard: "ASHRAE 135, 12.11.7", Example: "Climate 900", Describes: true},
		{Key: keyBACnetFirmware, Says: "version of its firmware", Standard: "ASHRAE 135, 12.11.8", Example: "4.2"},
		{Key: keyBACnetApplication, Says: "version of its application", Standard: "ASHRAE 135, 12.11.9", Example: "palm-7"},
		{Key: keyBACnetLocation, Says: "place, in its keeper's words", Standard: "ASHRAE 135, 12.11.10", Example: "palm house, north door"},
		{Key: keyBACnetDescription, Says: "what it is for, in its keeper's or its maker's words", Standard: "ASHRAE 135, 12.11.11", Example: "climate of the palm house", Describes: true},
		{Key: keyBACnetSerial, Says: "serial number", Standard: "ASHRAE 135-2016, 12.11.57", Example: "E7J0000001"},
		{Key: keyBACnetRevision, Says: "revision of the protocol", Standard: "ASHRAE 135, 12.11.13", Example: "14"},
		{Key: keyBACnetAnswer, Says: "how it answers where it says nothing of itself", Standard: "ASHRAE 135, 5.4", Example: "rejected (9)"},
		{Key: keyBACnetRouter, Says: "number of a network that it leads to", Standard: "ASHRAE 135, 6.4.2", Example: "2001"},
		{Key: keyBACnetBehind, Says: "device on a network behind it: its network and address, and its number", Standard: "ASHRAE 135, 16.10.2", Example: "2001/05 1201"},
		{Key: keyBACnetPeer, Says: "another that it passes broadcasts on to", Standard: "ASHRAE 135, J.2.3", Example: "10.40.2.10:47808"},
		{Key: keyBACnetForeign, Says: "a device elsewhere that it passes broadcasts on to, as that has registered", Standard: "ASHRAE 135, J.2.7", Example: "10.40.9.9:47808"},
	},
})

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
	bacnetPatience  = 6 * time.Second // for who has shown that it speaks BACnet: small controllers take seconds
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
	{75, keyBACnetInstance}, {77, keyBACnetName}, {120, keyBACnetVendor}, {121, keyBACnetMaker}, {70, keyBACnetModel}, {44, keyBACnetFirmware},
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

// networks gives the numbers in an answer to who routes (6.4.2).
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

// iAm reads who says that it is there (16.10.2).
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

// bacnetLine is a conversation with one device, and with those behind it.
type bacnetLine struct {
	conn  net.Conn
	wait  time.Duration
	id    byte
	heard func(h bacnetHeard) // is shown what answers nothing that was asked; may be nil
}

// bacnetReply is what came of a question.
type bacnetReply struct {
	kind byte // of the answer's apdu
	code byte // why there is none
	body []byte
}

// ask puts a confirmed question to a place. Answers in segments are put together.
func (l *bacnetLine) ask(ctx context.Context, to bacnetPlace, accepts, service byte, arguments []byte) (reply bacnetReply, err error) {
	l.id++
	id := l.id
	flags := byte(apduConfirmed)
	if accepts != bacnetWhole {
		flags |= 2 // takes segments
	}
	question := bacnetMessage(bvlcUnicast, to, npduExpecting, append([]byte{flags, accepts, id, service}, arguments...)...)
	next := byte(0)
	take := func(datagram []byte) verdict {
		h, ok := readBACnet(datagram)
		if !ok {
			return ignore
		}
		if h.network || h.body[0]>>4 == apduUnconfirmed || h.body[1] != id || h.from != to {
			if l.heard != nil {
				l.heard(h)
			}
			return ignore
		}
		switch kind := h.body[0] >> 4; kind {
		case apduAnswer:
			return l.takeAnswer(to, h.body, service, &reply, &next)
		case apduError, apduReject, apduAbort:
			reply = bacnetReply{kind: kind}
			if kind != apduError && len(h.body) > 2 {
				reply.code = h.body[2]
			}
			return enough
		}
		return ignore
	}
	err = converse(ctx, l.conn, question, l.wait, take)
	if err == nil && reply.kind == 0 {
		err = errSilent // it broke off within its segments
	}
	return reply, err
}

// takeAnswer takes in an answer or a segment of one, and acknowledges that (20.1.5, 5.4).
func (l *bacnetLine) takeAnswer(from bacnetPlace, apdu []byte, service byte, reply *bacnetReply, next *byte) verdict {
	if apdu[0]&8 == 0 {
		if len(apdu) < 3 || apdu[2] != service {
			return ignore
		}
		*reply = bacnetReply{kind: apduAnswer, body: slices.Clone(apdu[3:])}
		return enough
	}
	if len(apdu) < 5 || apdu[4] != service || apdu[2] > bacnetSegments {
		return ignore
	}
	if apdu[2] == *next {
		reply.body = append(reply.body, apdu[5:]...)
		*next++
	}
	ack := bacnetMessage(bvlcUnicast, from, 0, apduSegmentAck<<4, apdu[1], *next-1, 1)
	if *next > 0 {
		_, _ = l.conn.Write(ack) // who does not hear of it sends the segment again
	}
	if apdu[0]&4 != 0 || *next != apdu[2]+1 {
		return more
	}
	reply.kind = apduAnswer
	return enough
}

// bacnetObject names an object as an argument.
func bacnetObject(instance uint32) []byte {
	return binary.BigEndian.AppendUint32([]byte{0x0c}, bacnetDevice<<22|instance)
}

// readMany asks for several properties of the device object.
func bacnetMany(instance uint32) []byte {
	arguments := append(bacnetObject(instance), 0x1e)
	for _, p := range bacnetProperties {
		arguments = append(arguments, bacnetProperty(0, p.number)...)
	}
	return append(arguments, 0x1f)
}

// bacnetProperty names a property as an argument.
func bacnetProperty(context byte, property uint32) []byte {
	if property < 256 {
		return []byte{context<<4 | 8 | 1, byte(property)}
	}
	return []byte{context<<4 | 8 | 2, byte(property >> 8), byte(property)}
}

// identify asks the device at a place what it is. answered says whether anything came back.
func (l *bacnetLine) identify(ctx context.Context, to bacnetPlace, instance uint32, f *found) (answered bool) {
	reply, err := l.ask(ctx, to, bacnetAccepts, bacnetReadMany, bacnetMany(instance))
	if err != nil {
		return false
	}
	if reply.kind == apduAnswer && f.takeValues(reply.body) > 0 {
		return true
	}
	missing := 0
	for _, p := range bacnetProperties {
		one, err := l.ask(ctx, to, bacnetWhole, bacnetRead, append(bacnetObject(instance), bacnetProperty(1, p.number)...))
		switch {
		case err != nil:
			missing++
		case one.kind == apduAnswer:
			f.takeValues(one.body)
		}
		if missing > 1 || ctx.Err() != nil {
			break
		}
	}
	if len(f.items) == 0 {
		f.add(evidence.SourceBACnet, keyBACnetAnswer, []byte(reply.refusal()))
	}
	return true
}

func (r bacnetReply) refusal() string {
	switch r.kind {
	case apduReject:
		return fmt.Sprintf("rejected (%d)", r.code)
	case apduAbort:
		return fmt.Sprintf("aborted (%d)", r.code)
	}
	return "error"
}

// askBACnet asks a device what it is, whom it leads to, and those what they are. Who keeps silent is asked once more.
func askBACnet(ctx context.Context, q Query) ([]evidence.Item, bool) {
	f, to := q.byDatagram(bacnetPort)
	conn, err := q.Dialer.Dial(ctx, "udp", to, q.Wait)
	if err != nil {
		return nil, false
	}
	defer conn.Close()
	b := bacnetVisit{query: q, f: f, line: &bacnetLine{conn: conn, wait: q.Wait, id: byte(rand.Uint32())}}
	b.line.heard = b.hear
	known := q.known(ctx)
	if evidence.First(known, keyBACnetInstance) != "" {
		b.line.wait = max(q.Wait, bacnetPatience)
	}
	reply, err := b.line.ask(ctx, bacnetPlace{}, bacnetWhole, bacnetRead, append(bacnetObject(bacnetAnyDevice), bacnetProperty(1, 75)...))
	if errors.Is(err, errSilent) {
		b.line.wait *= 2
		reply, err = b.line.ask(ctx, bacnetPlace{}, bacnetWhole, bacnetRead, append(bacnetObject(bacnetAnyDevice), bacnetProperty(1, 75)...))
	}
	if err != nil {
		return nil, false
	}
	b.line.wait = max(q.Wait, bacnetPatience)
	instance, _ := strconv.ParseUint(evidence.First(known, keyBACnetInstance), 10, 22) // 0 where it was not heard
	if reply.kind == apduAnswer || instance == 0 {
		instance = bacnetAnyDevice
	}
	if f.takeValues(reply.body); len(f.items) > 0 { // some answer for themselves by their own number alone
		instance, _ = strconv.ParseUint(f.items[0].Value, 10, 22)
		f.items = nil
	}
	b.line.identify(ctx, bacnetPlace{}, uint32(instance), f)
	b.tables(ctx)
	b.behind(ctx, known)
	return f.items, true
}

// bacnetVisit is the asking of one device.
type bacnetVisit struct {
	query    Query
	f        *found
	line     *bacnetLine
	networks []uint16
	places   []bacnetPlace
	numbers  []uint32 // the instance at each place
}

// hear takes in who routes and who stands behind.
func (b *bacnetVisit) hear(h bacnetHeard) {
	for _, n := range h.networks() {
		if !slices.Contains(b.networks, n) && len(b.networks) < maxBACnetNets {
			b.networks = append(b.networks, n)
		}
	}
	if instance, _, ok := h.iAm(); ok && h.from.network != 0 && h.from.address != "" {
		b.place(h.from, instance)
	}
}

func (b *bacnetVisit) place(at bacnetPlace, instance uint32) {
	if !slices.Contains(b.places, at) && len(b.places) < maxBACnetBehind {
		b.places, b.numbers = append(b.places, at), append(b.numbers, instance)
	}
}

// tables reads to whom it passes broadcasts on (J.2.3, J.2.7).
func (b *bacnetVisit) tables(ctx context.Context) {
	if b.query.off("tables") {
		return
	}
	for _, table := range []struct {
		ask, answer byte
		key         string
	}{{bvlcReadPeers, bvlcPeers, keyBACnetPeer}, {bvlcReadGuest, bvlcGuests, keyBACnetForeign}} {
		take := func(datagram []byte) verdict {
			if len(datagram) < 4 || datagram[0] != bvlcType || datagram[1] != table.answer {
				if len(datagram) == 6 && datagram[0] == bvlcType && datagram[1] == 0 {
					return enough // a result: it has no such table
				}
				return ignore
			}
			for rest := datagram[4:]; len(rest) >= bvlcEntry; rest = rest[bvlcEntry:] {
				at := netip.AddrPortFrom(netip.AddrFrom4([4]byte(rest)), binary.BigEndian.Uint16(rest[4:]))
				b.f.addOnce(evidence.SourceBACnet, table.key, []byte(at.String()))
			}
			return enough
		}
		if converse(ctx, b.line.conn, []byte{bvlcType, table.ask, 0, 4}, b.query.Wait, take) != nil {
			return // who has not the one has not the other
		}
	}
}

// behind asks a router for its networks and for those on them.
func (b *bacnetVisit) behind(ctx context.Context, known []evidence.Item) {
	if b.query.off("behind") {
		return
	}
	listen := func(question []byte) {
		_ = converse(ctx, b.line.conn, question, b.query.Wait, func(datagram []byte) verdict {
			if h, ok := readBACnet(datagram); ok {
				b.hear(h)
				return more
			}
			return ignore
		}) // who keeps silent leads nowhere
	}
	for _, n := range evidence.Values(known, keyBACnetRouter) {
		if number, err := strconv.ParseUint(n, 10, 16); err == nil {
			b.networks = append(b.networks, uint16(number))
		}
	}
	listen(bacnetMessage(bvlcUnicast, bacnetPlace{}, npduMessage, npduWhoRoutes))
	for _, n := range b.networks {
		b.f.addOnce(evidence.SourceBACnet, keyBACnetRouter, strconv.AppendUint(nil, uint64(n), 10))
		listen(bacnetMessage(bvlcUnicast, bacnetPlace{network: n}, 0, apduUnconfirmed<<4, bacnetWhoIs))
	}
	for _, text := range evidence.Values(known, keyBACnetBehind) {
		if at, instance, ok := parseBehind(text); ok {
			b.place(at, instance)
		}
	}
	silences := 0
	for i, at := range b.places {
		if ctx.Err() != nil || b.query.Unit == nil || silences == maxBACnetSilences {
			return
		}
		unit := &found{port: b.f.port}
		if !b.line.identify(ctx, at, b.numbers[i], unit) {
			silences++
			continue
		}
		silences = 0
		b.query.Unit("bacnet/"+at.String(), unit.items)
	}
}

// parseBehind reads the fact of a device behind a router.
func parseBehind(text string) (at bacnetPlace, instance uint32, ok bool) {
	place, number, _ := strings.Cut(text, " ")
	network, address, _ := strings.Cut(place, "/")
	n, err := strconv.ParseUint(network, 10, 16)
	raw, errAddress := hex.DecodeString(address)
	i, errNumber := strconv.ParseUint(number, 10, 22)
	return bacnetPlace{uint16(n), string(raw)}, uint32(i), err == nil && errAddress == nil && errNumber == nil && n != 0 && len(raw) > 0 && len(raw) <= 7
}

// bacnetRanges are the parts of the numbers of devices that are called one after the other, so that not all answer at once: most sites
// count from 1, or from a thousand for each building.
var bacnetRanges = [][2]uint32{{0, 999}, {1000, 9999}, {10000, 99999}, {100000, 999999}, {1000000, bacnetAnyDevice - 1}}

// bacnetCalls asks all of a segment who routes, and who is there, behind routers too.
func bacnetCalls() ([][]byte, error) {
	calls := [][]byte{bacnetMessage(bvlcBroadcast, bacnetPlace{}, npduMessage, npduWhoRoutes)}
	number := func(context byte, n uint32) []byte {
		raw := binary.BigEndian.AppendUint32(nil, n)
		for len(raw) > 1 && raw[0] == 0 {
			raw = raw[1:]
		}
		return append([]byte{context<<4 | 8 | byte(len(raw))}, raw...)
	}
	for _, r := range bacnetRanges {
		body := slices.Concat([]byte{apduUnconfirmed << 4, bacnetWhoIs}, number(0, r[0]), number(1, r[1]))
		calls = append(calls, bacnetMessage(bvlcBroadcast, bacnetPlace{network: bacnetEverywhere}, 0, body...))
	}
	return calls, nil
}

// hearBACnet reads who says that it is there, or leads elsewhere.
func hearBACnet(d Datagram) ([]evidence.Item, bool) {
	if d.From.Port() != bacnetPort && d.To != bacnetPort {
		return nil, false
	}
	h, ok := readBACnet(d.Message)
	if !ok || d.Message[1] == bvlcForwarded { // what is passed on tells nothing of who passes it on
		return nil, false
	}
	f := &found{port: evidence.UDP(bacnetPort)}
	for _, n := range h.networks() {
		f.add(evidence.SourceBACnet, keyBACnetRouter, strconv.AppendUint(nil, uint64(n), 10))
	}
	if instance, vendor, ok := h.iAm(); ok {
		if h.from.network == 0 {
			f.add(evidence.SourceBACnet, keyBACnetInstance, strconv.AppendUint(nil, uint64(instance), 10))
			f.add(evidence.SourceBACnet, keyBACnetVendor, strconv.AppendUint(nil, uint64(vendor), 10))
		} else if h.from.address != "" {
			f.add(evidence.SourceBACnet, keyBACnetBehind, fmt.Appendf(nil, "%s %d", h.from, instance))
		}
	}
	return f.items, len(f.items) > 0
}
