package probe

import (
	"context"
	"encoding/hex"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
	"time"

	"airdrift/core/evidence"
)

const (
	bacnetObjectList = 76 // the property that lists the objects (12.11.13)
	// bacnetWholeList is up to how many objects a list is asked for at once: each takes 5 octets of at most 1,476.
	bacnetWholeList = 250
	// bacnetPart is how many objects are asked for in one question where the list is longer: the answer fits an APDU of 480 octets.
	bacnetPart = 20
	// maxBACnetObjects is how many objects of one device are counted: the largest servers of a building have some tens of thousands.
	maxBACnetObjects = 100_000
	// maxBACnetRefusals is how many places in a row may be refused before the list is taken to end there.
	maxBACnetRefusals = 3
	// maxReading is how long one device is read for: whatever claims to offer without end, and slowly, is left.
	maxReading = 15 * time.Minute
)

// bacnetTypes are the names of types of object, by their number (21, BACnetObjectType).
var bacnetTypes = []string{
	"analog input", "analog output", "analog value", "binary input", "binary output", "binary value", "calendar", "command", "device", "event enrollment",
	"file", "group", "loop", "multi-state input", "multi-state output", "notification class", "program", "schedule", "averaging", "multi-state value",
	"trend log", "life safety point", "life safety zone", "accumulator", "pulse converter", "event log", "global group", "trend log multiple", "load control", "structured view",
	"access door", "timer", "access credential", "access point", "access rights", "access user", "access zone", "credential data input", "network security", "bitstring value",
	"characterstring value", "datepattern value", "date value", "datetimepattern value", "datetime value", "integer value", "large analog value", "octetstring value", "positive integer value", "timepattern value",
	"time value", "notification forwarder", "alert enrollment", "channel", "lighting output", "binary lighting output", "network port", "elevator group", "escalator", "lift",
	"staging", "audit log", "audit reporter",
}

// bacnetTypeName writes a type of object. Those from 128 on are a maker's own.
func bacnetTypeName(number uint32) string {
	switch {
	case int(number) < len(bacnetTypes):
		return bacnetTypes[number]
	case number >= 128:
		return "maker's own"
	}
	return fmt.Sprintf("type %d", number)
}

// readsBACnet reports whether a device has said that it speaks BACnet, and its objects have not been counted.
func readsBACnet(known []evidence.Item) bool {
	return evidence.First(known, evidence.KeyBACnetInstance) != "" && evidence.First(known, evidence.KeyBACnetPoints) == ""
}

// readBACnetObjects counts the objects of a device by their types: of all at once where they are few, and else part by part, so that it can be
// gone on with from within.
func readBACnetObjects(ctx context.Context, q Query, known []evidence.Item, r *Reading) []evidence.Item {
	f, to := q.byDatagram(bacnetPort)
	place, ok := unitPlace(r.Unit)
	if !ok {
		return nil
	}
	conn, err := q.Dialer.Dial(ctx, "udp", to, q.Wait)
	if err != nil {
		return nil
	}
	defer conn.Close()
	if q.Addr.Is6() {
		if conn, err = overIPv6(ctx, conn, q.Wait); err != nil {
			return nil
		}
	}
	instance, _ := strconv.ParseUint(evidence.First(known, evidence.KeyBACnetInstance), 10, 22) // written by us as a number
	b := bacnetList{line: &bacnetLine{conn: conn, wait: max(q.Wait, bacnetPatience), id: byte(rand.Uint32())}, place: place, instance: uint32(instance), query: q, reading: r}
	b.read(ctx)
	if r.Of > 0 && ctx.Err() == nil {
		b.tell(f)
	}
	return f.items
}

// unitPlace gives where a unit stands that is told as such; the zero value stands for the device itself.
func unitPlace(unit string) (place bacnetPlace, ok bool) {
	if unit == "" {
		return place, true
	}
	text, ok := strings.CutPrefix(unit, "bacnet/")
	network, address, _ := strings.Cut(text, "/")
	n, err := strconv.ParseUint(network, 10, 16)
	raw, errAddress := hex.DecodeString(address)
	return bacnetPlace{uint16(n), string(raw)}, ok && err == nil && errAddress == nil && n != 0 && len(raw) > 0 && len(raw) <= 7
}

// bacnetList is the reading of one device's list of objects.
type bacnetList struct {
	line     *bacnetLine
	place    bacnetPlace
	instance uint32
	query    Query
	reading  *Reading
	cut      bool // the list ended before its end
	last     int  // the place of the last object that was told
	missing  int  // of those before it
}

// put puts one question, in its turn; once more where nothing comes back.
func (b *bacnetList) put(ctx context.Context, accepts, service byte, arguments []byte) (reply bacnetReply, err error) {
	for range 2 {
		if err := b.query.pause(ctx); err != nil {
			return reply, err
		}
		if reply, err = b.line.put(ctx, b.place, accepts, service, arguments); err == nil || ctx.Err() != nil {
			return reply, err
		}
	}
	return reply, err
}

func (b *bacnetList) read(ctx context.Context) {
	if b.reading.Of == 0 && !b.length(ctx) {
		return
	}
	if b.reading.Next == 0 && b.reading.Of <= bacnetWholeList && b.whole(ctx) {
		return
	}
	b.last = b.reading.Next
	together, refused, until := true, 0, time.Now().Add(maxReading)
	for b.reading.Next < b.reading.Of && ctx.Err() == nil {
		if time.Now().After(until) {
			b.cut = true
			return
		}
		n := min(bacnetPart, b.reading.Of-b.reading.Next)
		if !together {
			n = 1
		}
		objects, ok := b.part(ctx, n)
		switch {
		case !ok:
			b.cut = true
			return
		case len(objects) == 0 && n > 1: // it has no room for so many, or does not know how
			together = false
			continue
		case len(objects) == 0:
			if refused++; refused == maxBACnetRefusals {
				b.cut = true
				return
			}
		default:
			b.missing += refused + n - len(objects)
			refused, b.last = 0, b.reading.Next+n
		}
		b.count(objects)
		b.reading.Next += n
		b.query.keep(*b.reading)
	}
}

// length asks how many objects there are: the place 0 of a list (12.1.5).
func (b *bacnetList) length(ctx context.Context) bool {
	arguments := append(append(bacnetObject(b.instance), bacnetProperty(1, bacnetObjectList)...), 0x29, 0)
	reply, err := b.put(ctx, bacnetWhole, bacnetRead, arguments)
	if err != nil || reply.kind != apduAnswer {
		return false
	}
	numbers := bacnetValuesOf(reply.body, 2)
	if len(numbers) != 1 || numbers[0] == 0 {
		return false
	}
	b.reading.Of = int(min(numbers[0], maxBACnetObjects))
	b.reading.Counts = map[string]int{}
	return true
}

// whole asks for all of a list. It reports whether that came.
func (b *bacnetList) whole(ctx context.Context) bool {
	reply, err := b.put(ctx, bacnetWhole, bacnetRead, append(bacnetObject(b.instance), bacnetProperty(1, bacnetObjectList)...))
	if err != nil || reply.kind != apduAnswer {
		return false
	}
	objects := bacnetValuesOf(reply.body, 12)
	if len(objects) == 0 || len(objects) > bacnetWholeList {
		return false
	}
	b.count(objects)
	b.cut, b.last = len(objects) < b.reading.Of, len(objects)
	b.reading.Next = b.reading.Of
	return true
}

// part asks for the next objects of a list. ok is false where nothing comes back.
func (b *bacnetList) part(ctx context.Context, n int) (objects []uint32, ok bool) {
	service, arguments := byte(bacnetRead), bacnetObject(b.instance)
	if n == 1 {
		arguments = append(append(arguments, bacnetProperty(1, bacnetObjectList)...), bacnetProperty(2, uint32(b.reading.Next+1))...)
	} else {
		service, arguments = bacnetReadMany, append(arguments, 0x1e)
		for i := range n {
			arguments = append(append(arguments, bacnetProperty(0, bacnetObjectList)...), bacnetProperty(1, uint32(b.reading.Next+1+i))...)
		}
		arguments = append(arguments, 0x1f)
	}
	reply, err := b.put(ctx, bacnetWhole, service, arguments)
	if err != nil {
		return nil, false
	}
	if reply.kind == apduAnswer {
		objects = bacnetValuesOf(reply.body, 12)
	}
	return objects[:min(n, len(objects))], true
}

func (b *bacnetList) count(objects []uint32) {
	for _, object := range objects {
		if number := object >> 22; number != bacnetDevice {
			b.reading.Counts[bacnetTypeName(number)]++
		}
	}
}

// tell notes what was counted.
func (b *bacnetList) tell(f *found) {
	total := 0
	for _, name := range slices.Sorted(maps.Keys(b.reading.Counts)) {
		total += b.reading.Counts[name]
		f.add(evidence.SourceBACnet, evidence.KeyBACnetObjects, fmt.Appendf(nil, "%s: %d", name, b.reading.Counts[name]))
	}
	f.add(evidence.SourceBACnet, evidence.KeyBACnetPoints, strconv.AppendInt(nil, int64(total), 10))
	if b.cut || b.missing > 0 {
		f.add(evidence.SourceBACnet, evidence.KeyBACnetCut, fmt.Appendf(nil, "%d of %d", b.last-b.missing, b.reading.Of))
	}
}

// bacnetValuesOf gives the values of one kind of the application in an answer: numbers (2) or names of objects (12).
func bacnetValuesOf(answer []byte, kind byte) (values []uint32) {
	inValue := false
	for rest := answer; len(rest) > 0; {
		tag, value, after, ok := bacnetTag(rest)
		if !ok {
			return values
		}
		rest = after
		switch {
		case tag.opens:
			inValue = tag.number == 3 || tag.number == 4
		case tag.closes:
			inValue = false
		case inValue && !tag.context && tag.number == kind && len(value) <= 4:
			values = append(values, bigEndian(value))
		}
	}
	return values
}
