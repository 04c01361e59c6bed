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
	Reads: readsBACnet, Read: readBACnetObjects,
	Groups: []Group{{At: netip.AddrPortFrom(netip.AddrFrom4([4]byte{255, 255, 255, 255}), bacnetPort), Questions: bacnetCalls, Sparing: true},
		{At: bacnetGroup6, Questions: bacnetCalls6, Sparing: true}},
	Parts: []string{"behind", "tables"},
	Facts: []evidence.Fact{
		{Key: evidence.KeyBACnetInstance, Says: "number of its device object", Standard: "ASHRAE 135, 12.11.1", Example: "1201"},
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
		{Key: evidence.KeyBACnetObjects, Says: "a type of object, and how many of it the device has; counted where a sweep is to read how much systems offer", Standard: "ASHRAE 135, 12.11.13", Example: "analog input: 40"},
		{Key: evidence.KeyBACnetPoints, Says: "how many objects it has in all, beside that of the device itself", Standard: "ASHRAE 135, 12.11.13", Example: "120"},
		{Key: evidence.KeyBACnetCut, Says: "how far its list of objects could be read, where it ends too early", Standard: "ASHRAE 135, 12.11.13", Example: "60 of 120"},
	},
})

// bacnetLine is a conversation with one device, and with those behind it.
type bacnetLine struct {
	conn  net.Conn
	wait  time.Duration
	took  time.Duration // the longest that it took over an answer
	id    byte
	heard func(h bacnetHeard) // is shown what answers nothing that was asked; may be nil
}

// bacnetReply is what came of a question.
type bacnetReply struct {
	kind byte // of the answer's apdu
	code byte // why there is none
	body []byte
}

// put puts a confirmed question to a place. Answers in segments are put together.
func (l *bacnetLine) put(ctx context.Context, to bacnetPlace, accepts, service byte, arguments []byte) (reply bacnetReply, err error) {
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
	began := time.Now()
	if err = converse(ctx, l.conn, question, l.wait, take); err == nil {
		l.took = max(l.took, time.Since(began))
	}
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
		_, _ = l.conn.Write(ack) // what does not hear of it sends the segment again
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
	reply, err := l.put(ctx, to, bacnetAccepts, bacnetReadMany, bacnetMany(instance))
	if err != nil {
		return false
	}
	if reply.kind == apduAnswer && f.takeValues(reply.body) > 0 {
		return true
	}
	missing := 0
	for _, p := range bacnetProperties {
		one, err := l.put(ctx, to, bacnetWhole, bacnetRead, append(bacnetObject(instance), bacnetProperty(1, p.number)...))
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

// askBACnet asks a device what it is, which others it leads to, and those what they are. One that keeps silent is asked once more, and
// one that has called out before, twice.
func askBACnet(ctx context.Context, q Query) ([]evidence.Item, bool) {
	f, to := q.byDatagram(bacnetPort)
	conn, err := q.Dialer.Dial(ctx, "udp", to, q.Wait)
	if err != nil {
		return nil, false
	}
	defer conn.Close()
	b := bacnetVisit{query: q, f: f, line: &bacnetLine{conn: conn, wait: q.Wait, id: byte(rand.Uint32())}}
	b.line.heard = b.hear
	if q.Addr.Is6() {
		if b.line.conn, err = overIPv6(ctx, conn, q.Wait); err != nil {
			return nil, false
		}
	}
	reply, known, err := b.ask(ctx)
	if err != nil {
		return nil, false
	}
	b.line.wait = max(q.Wait, bacnetPatience)
	instance, _ := strconv.ParseUint(evidence.First(known, evidence.KeyBACnetInstance), 10, 22) // 0 where it was not heard
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

// ask puts the first question, and gives with the answer what is known of the device by then. A device that has called out is waited for longer and asked once more, as it may
// take long, and what nothing comes back for may have been lost twice; so is one that calls out while it is asked in vain.
func (b *bacnetVisit) ask(ctx context.Context) (reply bacnetReply, known []evidence.Item, err error) {
	patient := max(b.query.Wait, bacnetPatience)
	waits, called := []time.Duration{b.query.Wait, 2 * b.query.Wait}, false
	for more := waits; ; {
		known = b.query.known(ctx)
		switch heard := evidence.First(known, evidence.KeyBACnetInstance) != ""; {
		case heard && !called && len(more) == len(waits):
			called, more = true, []time.Duration{patient, 2 * patient, 2 * b.query.Wait}
		case heard && !called && len(more) == 0:
			called, more = true, []time.Duration{patient, 2 * b.query.Wait}
		case len(more) == 0:
			return reply, known, errSilent
		}
		b.line.wait, more = more[0], more[1:]
		reply, err = b.line.put(ctx, bacnetPlace{}, bacnetWhole, bacnetRead, append(bacnetObject(bacnetAnyDevice), bacnetProperty(1, 75)...))
		if !errors.Is(err, errSilent) {
			return reply, known, err
		}
	}
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

// hear takes in which devices route and which stand behind them.
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

// patience is how long is waited where most devices keep silent: as long as the device has been seen to take, twice over.
func (b *bacnetVisit) patience() time.Duration {
	return max(b.query.Wait, min(2*b.line.took, bacnetPatience))
}

// tables reads to which devices it passes broadcasts on (J.2.3, J.2.7).
func (b *bacnetVisit) tables(ctx context.Context) {
	if b.query.off("tables") || b.query.Addr.Is6() {
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
		if converse(ctx, b.line.conn, []byte{bvlcType, table.ask, 0, 4}, b.patience(), take) != nil {
			return // a device without the one is without the other
		}
	}
}

// maxBACnetCalls is how often, at most, those behind a router are called.
const maxBACnetCalls = 5

// behind asks a router for its networks and for those on them. Nothing answers a lost question of this sort, so each is put twice where
// nobody says anything; and as an answer may be lost or come late behind those of others, each is put again until nothing new is heard.
func (b *bacnetVisit) behind(ctx context.Context, known []evidence.Item) {
	if b.query.off("behind") {
		return
	}
	listen := func(question []byte) {
		for call := range maxBACnetCalls {
			met := len(b.networks) + len(b.places)
			err := converse(ctx, b.line.conn, question, b.patience(), func(datagram []byte) verdict {
				if h, ok := readBACnet(datagram); ok {
					b.hear(h)
					return more
				}
				return ignore
			})
			isSilent, isNew := errors.Is(err, errSilent), len(b.networks)+len(b.places) > met
			if err != nil && !isSilent || !isNew && (!isSilent || call > 0) {
				return
			}
		} // one that keeps silent leads nowhere
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

// bacnetCalls asks all of a segment which route, and which are there, behind routers too.
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

// hearBACnet reads which device says that it is there, or leads elsewhere.
func hearBACnet(d Datagram) ([]evidence.Item, bool) {
	if d.From.Port() != bacnetPort && d.To != bacnetPort {
		return nil, false
	}
	message := d.Message
	if over6, _, ok := fromBVLC6(message); ok {
		message = over6
	}
	h, ok := readBACnet(message)
	if !ok || message[1] == bvlcForwarded { // what is passed on tells nothing of the one that passes it on
		return nil, false
	}
	f := &found{port: evidence.UDP(bacnetPort)}
	for _, n := range h.networks() {
		f.add(evidence.SourceBACnet, keyBACnetRouter, strconv.AppendUint(nil, uint64(n), 10))
	}
	if instance, vendor, ok := h.iAm(); ok {
		if h.from.network == 0 {
			f.add(evidence.SourceBACnet, evidence.KeyBACnetInstance, strconv.AppendUint(nil, uint64(instance), 10))
			f.add(evidence.SourceBACnet, keyBACnetVendor, strconv.AppendUint(nil, uint64(vendor), 10))
		} else if h.from.address != "" {
			f.add(evidence.SourceBACnet, keyBACnetBehind, fmt.Appendf(nil, "%s %d", h.from, instance))
		}
	}
	return f.items, len(f.items) > 0
}
