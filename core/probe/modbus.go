package probe

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"slices"
	"time"

	"airdrift/core/evidence"
)

// Keys of the facts.
const (
	keyModbusMaker       = "modbus.maker"
	keyModbusCode        = "modbus.code"
	keyModbusRevision    = "modbus.revision"
	keyModbusPage        = "modbus.page"
	keyModbusProduct     = "modbus.product"
	keyModbusModel       = "modbus.model"
	keyModbusApplication = "modbus.application"
	keyModbusOwn         = "modbus.own"
	keyModbusServer      = "modbus.server"
	keyModbusAnswer      = "modbus.answer"
	keyModbusUnits       = "modbus.units"
)

const modbusPort = 502

var _ = register(Protocol{
	Name: "modbus", Source: evidence.SourceModbus, Cost: Middling,
	Ports: []uint16{modbusPort}, Usual: []uint16{modbusPort}, Telling: []uint16{modbusPort}, RollCall: []uint16{modbusPort}, Talk: talkModbus,
	Parts: []string{"units"},
	Facts: []evidence.Fact{
		{Key: keyModbusMaker, Says: "maker", Standard: "Modbus Application Protocol 1.1b3, 6.21, object 0", Example: "Bramblecote Metering", Names: 13},
		{Key: keyModbusCode, Says: "product code", Standard: "Modbus Application Protocol 1.1b3, 6.21, object 1", Example: "T3-400", Describes: true},
		{Key: keyModbusRevision, Says: "version", Standard: "Modbus Application Protocol 1.1b3, 6.21, object 2", Example: "2.11"},
		{Key: keyModbusPage, Says: "the maker's page", Standard: "Modbus Application Protocol 1.1b3, 6.21, object 3", Example: "http://example.com"},
		{Key: keyModbusProduct, Says: "name of the product", Standard: "Modbus Application Protocol 1.1b3, 6.21, object 4", Example: "Tally energy meter", Describes: true},
		{Key: keyModbusModel, Says: "model", Standard: "Modbus Application Protocol 1.1b3, 6.21, object 5", Example: "Tally 3", Describes: true},
		{Key: keyModbusApplication, Says: "name that its keeper gives the application", Standard: "Modbus Application Protocol 1.1b3, 6.21, object 6", Example: "seed vault meter"},
		{Key: keyModbusOwn, Says: "an object of the maker's own, behind its number", Standard: "Modbus Application Protocol 1.1b3, 6.21", Example: "0x80 E7J0000001"},
		{Key: keyModbusServer, Says: "what it says of itself as a server, where it does not identify itself otherwise", Standard: "Modbus Application Protocol 1.1b3, 6.13", Example: "Tally 3", Describes: true},
		{Key: keyModbusAnswer, Says: "how it answers where it does not identify itself", Standard: "Modbus Application Protocol 1.1b3, 7", Example: "illegal function"},
		{Key: keyModbusUnits, Says: "`any` where it answers for every unit as the same one, `behind` where others stand behind it", Standard: "Modbus Messaging on TCP/IP 1.0b, 4.4.2", Example: "behind"},
	},
})

const (
	modbusServerID     = 17
	modbusEncapsulated = 43 // with modbusIdentify behind it
	modbusIdentify     = 14
	modbusException    = 0x80 // is added to the function that was asked for
	modbusSelf         = 255  // the unit that is a device itself (Modbus Messaging on TCP/IP 1.0b, 4.4.2)
	modbusLastUnit     = 247  // of a serial line (Modbus over Serial Line 1.02, 2.2)

	modbusByStream = 3 // extended objects in a stream, down to what there is
	modbusBasic    = 1
	modbusOne      = 4

	// maxModbusUnits is how many units behind a gateway are looked for, from 1 on: each that is not there costs the line behind it a wait.
	maxModbusUnits = 16
	// maxModbusSilences is how many units in a row may keep silent before no more are looked for. Most gateways say of a unit that it does not
	// answer, which costs less.
	maxModbusSilences = 2
	// maxModbusTurns bounds the questions by which one unit is identified.
	maxModbusTurns = 8
	maxModbusOwn   = 8

	modbusWait     = 2 * time.Second         // for an answer of the device itself
	modbusUnitWait = 1200 * time.Millisecond // for one of those behind it: gateways wait about a second for their line
	modbusTime     = 40 * time.Second        // for all of a gateway
)

// modbusKeys are the keys of the objects that the standard names, from 0 on.
var modbusKeys = []string{keyModbusMaker, keyModbusCode, keyModbusRevision, keyModbusPage, keyModbusProduct, keyModbusModel, keyModbusApplication}

// modbusExceptions are the reasons of refusals (Modbus Application Protocol 1.1b3, 7).
var modbusExceptions = map[byte]string{
	1: "illegal function", 2: "illegal data address", 3: "illegal data value", 4: "server device failure", 5: "acknowledge", 6: "server device busy",
	8: "memory parity error", 10: "gateway path unavailable", 11: "gateway target device failed to respond",
}

// modbusLine is a conversation with what answers at one connection.
type modbusLine struct {
	conn net.Conn
	wait time.Duration // for an answer
	id   uint16
	late map[byte]bool // the units of which an answer came after the wait for it was over
}

// ask puts a question to a unit and gives the answer from the function on. An answer to an earlier question is passed over, and it is
// kept whose it was.
func (l *modbusLine) ask(unit byte, question ...byte) ([]byte, error) {
	l.id++
	message := binary.BigEndian.AppendUint16(nil, l.id)
	message = append(message, 0, 0, 0, byte(len(question)+1), unit)
	_ = l.conn.SetDeadline(time.Now().Add(l.wait))
	if _, err := l.conn.Write(append(message, question...)); err != nil {
		return nil, err
	}
	for range maxModbusTurns {
		head := make([]byte, 7)
		if _, err := io.ReadFull(l.conn, head); err != nil {
			return nil, err
		}
		length := int(binary.BigEndian.Uint16(head[4:])) - 1
		if binary.BigEndian.Uint16(head[2:]) != 0 || length < 2 || length > 254 {
			return nil, errNotModbus
		}
		answer := make([]byte, length)
		if _, err := io.ReadFull(l.conn, answer); err != nil {
			return nil, err
		}
		if binary.BigEndian.Uint16(head) == l.id && head[6] == unit && answer[0]&^modbusException == question[0] {
			return answer, nil
		}
		l.late[head[6]] = true
	}
	return nil, errNotModbus
}

// wasMerelyLate tells of a unit that kept silent whether its answer was on the way. TCP keeps the order: an answer that is late comes
// before the one to a further question, which goes to a unit that is known to answer. deaf is set where that keeps silent too, so that the
// silence says nothing.
func (l *modbusLine) wasMerelyLate(unit, known byte) (late, deaf bool) {
	wait := l.wait
	l.wait = modbusWait
	_, err := l.ask(known, modbusEncapsulated, modbusIdentify, modbusBasic, 0)
	l.wait = wait
	late = l.late[unit]
	delete(l.late, unit)
	return late, err != nil
}

var errNotModbus = fmt.Errorf("what came back is not Modbus, or answers another question")

// modbusUnit is what one unit says of itself.
type modbusUnit struct {
	found
	number  byte
	refusal byte // why nothing was said; 0 where it was
	cut     bool // it kept silent before it had said everything
}

// identify asks a unit what it is. The error is that of the connection: the unit, or the line to it, keeps silent.
func (l *modbusLine) identify(unit byte, port evidence.Port) (modbusUnit, error) {
	u := modbusUnit{found: found{port: port}, number: unit}
	level, next, seen := byte(modbusByStream), byte(0), map[byte]bool{}
	for range maxModbusTurns {
		answer, err := l.ask(unit, modbusEncapsulated, modbusIdentify, level, next)
		switch {
		case err != nil && len(u.items) > 0:
			u.cut = true
			return u, nil // what was said stays
		case err != nil:
			return u, err
		case answer[0] == modbusEncapsulated:
			more, ok := u.readObjects(answer, seen)
			if !ok || more == 0 || seen[more] {
				return u, nil
			}
			next = more
		case answer[1] == 3 && level == modbusByStream && len(u.items) == 0: // it knows no extended objects
			level, next = modbusBasic, 0
		case answer[1] == 3 && level == modbusBasic && len(u.items) == 0: // nor streams
			return u, l.oneByOne(unit, &u, seen)
		default:
			u.refusal = answer[1]
			if len(u.items) == 0 && answer[1] == 1 {
				return u, l.serverID(unit, &u)
			}
			return u, nil
		}
	}
	return u, nil
}

// oneByOne asks for each of the objects that every device has.
func (l *modbusLine) oneByOne(unit byte, u *modbusUnit, seen map[byte]bool) error {
	for object := range byte(3) {
		answer, err := l.ask(unit, modbusEncapsulated, modbusIdentify, modbusOne, object)
		if err != nil && len(u.items) > 0 {
			u.cut = true
			return nil
		}
		if err != nil {
			return err
		}
		if answer[0] != modbusEncapsulated {
			u.refusal = answer[1]
			return nil
		}
		u.readObjects(answer, seen)
	}
	return nil
}

// serverID asks a unit that does not know how to identify itself what it is as a server.
func (l *modbusLine) serverID(unit byte, u *modbusUnit) error {
	answer, err := l.ask(unit, modbusServerID)
	if err != nil && isTimeout(err) {
		u.cut = true // it has refused one question, and is there
		return nil
	}
	if err != nil || answer[0] != modbusServerID {
		return err
	}
	u.refusal = 0
	if text := answer[2:min(len(answer), 2+int(answer[1]))]; isText(text) {
		u.add(evidence.SourceModbus, keyModbusServer, bytes.TrimFunc(text, func(r rune) bool { return r <= ' ' || r >= 0x7f }))
	} else {
		u.add(evidence.SourceModbus, keyModbusServer, fmt.Appendf(nil, "0x%x", text))
	}
	return nil
}

// isText reports whether most of some bytes can be read; what stands for the state of a server cannot.
func isText(raw []byte) bool {
	letters := 0
	for _, b := range raw {
		if b >= ' ' && b < 0x7f {
			letters++
		}
	}
	return letters > 3 && letters*4 >= len(raw)*3
}

// readObjects reads an answer to a question for identification (6.21): more is the object to go on with, 0 where there is none. ok is
// false where it breaks off or repeats itself.
func (u *modbusUnit) readObjects(answer []byte, seen map[byte]bool) (more byte, ok bool) {
	if len(answer) < 7 || answer[1] != modbusIdentify {
		return 0, false
	}
	if answer[4] == 0xff {
		more = answer[5]
	}
	rest, own := answer[7:], 0
	for range answer[6] {
		if len(rest) < 2 || len(rest) < 2+int(rest[1]) || seen[rest[0]] {
			return 0, false
		}
		object, value := rest[0], rest[2:2+int(rest[1])]
		rest, seen[object] = rest[2+int(rest[1]):], true
		switch {
		case int(object) < len(modbusKeys):
			u.add(evidence.SourceModbus, modbusKeys[object], value)
		case object >= 0x80 && isText(value) && own < maxModbusOwn:
			own++
			u.add(evidence.SourceModbus, keyModbusOwn, fmt.Appendf(nil, "0x%02x %s", object, value))
		}
	}
	return more, true
}

// isAs reports whether two units say the same. One that was cut short does so as far as it came.
func (u modbusUnit) isAs(other modbusUnit) bool {
	mine, theirs := u.says(), other.says()
	if u.cut || other.cut {
		n := min(len(mine), len(theirs))
		mine, theirs = mine[:n], theirs[:n]
	}
	return slices.Equal(mine, theirs)
}

// says gives what a unit says, for the comparison of units.
func (u modbusUnit) says() []string {
	said := []string{modbusExceptions[u.refusal]}
	for _, it := range u.items {
		said = append(said, it.Key+" "+it.Value)
	}
	return said
}

// talkModbus asks the unit that answers what it is, and then those behind it. Nothing but identifications is read, and nothing is written.
func talkModbus(ctx context.Context, conn net.Conn, _ netip.AddrPort, f *found) {
	line := &modbusLine{conn: conn, wait: modbusWait, late: map[byte]bool{}}
	until := time.Now().Add(modbusTime)
	stop := context.AfterFunc(ctx, func() { conn.Close() }) // each question sets its own deadline
	defer stop()
	self, err := line.identify(modbusSelf, f.port)
	if err != nil && !isTimeout(err) {
		return
	}
	silent := err != nil
	if silent { // some answer as a unit of a line alone
		if self, err = line.identify(1, f.port); err != nil {
			return
		}
		if line.late[modbusSelf] {
			if again, err := line.identify(modbusSelf, f.port); err == nil {
				self, silent = again, false
			}
		}
	}
	if f.unit != nil && !f.off("units") {
		if behind, any := line.unitsBehind(self, silent, until, f.port); any {
			self.add(evidence.SourceModbus, keyModbusUnits, []byte("any"))
		} else if len(behind) > 0 {
			if silent { // what was taken for the device is the first of those behind it
				behind, self = append([]modbusUnit{self}, behind...), modbusUnit{found: found{port: f.port}}
			}
			self.add(evidence.SourceModbus, keyModbusUnits, []byte("behind"))
			for _, u := range behind {
				f.unit(fmt.Sprintf("modbus/%d", u.number), u.items)
			}
		}
	}
	if self.refusal != 0 && len(self.items) == 0 {
		self.add(evidence.SourceModbus, keyModbusAnswer, []byte(modbusRefusal(self.refusal)))
	}
	f.items = append(f.items, self.items...)
}

// unitsBehind asks the first units behind what answered as self. any is set where it answers for every unit as itself, so that none
// stands behind it. The first unit that says the same as self is itself, by the number that it has on its own line; further ones are others of its model.
func (l *modbusLine) unitsBehind(self modbusUnit, silent bool, until time.Time, port evidence.Port) (behind []modbusUnit, any bool) {
	l.wait = modbusUnitWait
	if last, err := l.identifyBehind(modbusLastUnit, self.number, port); err == nil && !isGatewayRefusal(last.refusal) && last.isAs(self) {
		return nil, true
	} else if err != nil && err != errModbusSilent {
		return nil, false
	}
	first, itself := byte(1), false
	if silent {
		first, itself = 2, true // the first has been asked
	}
	silences := 0
	for unit := first; unit <= maxModbusUnits && silences < maxModbusSilences && time.Now().Before(until); unit++ {
		u, err := l.identifyBehind(unit, self.number, port)
		switch {
		case err == errModbusSilent:
			silences++
			continue
		case err != nil:
			return behind, false
		case isGatewayRefusal(u.refusal):
			continue
		}
		silences = 0
		if !itself && u.isAs(self) {
			itself = true
			continue
		}
		if len(u.items) == 0 {
			u.add(evidence.SourceModbus, keyModbusAnswer, []byte(modbusRefusal(u.refusal)))
		}
		behind = append(behind, u)
	}
	return behind, false
}

// identifyBehind asks a unit what it is, once more where its answer merely came late. The error is errModbusSilent where nobody answers
// as that unit, and another one where the connection tells nothing any more.
func (l *modbusLine) identifyBehind(unit, known byte, port evidence.Port) (modbusUnit, error) {
	u, err := l.identify(unit, port)
	if !u.cut && (err == nil || !isTimeout(err)) {
		return u, err
	}
	late, deaf := l.wasMerelyLate(unit, known)
	if deaf {
		return u, errNotModbus
	}
	if late {
		if again, failed := l.identify(unit, port); failed == nil {
			return again, nil
		}
	}
	if u.cut {
		return u, nil
	}
	return u, errModbusSilent
}

var errModbusSilent = errors.New("the unit keeps silent")

func isGatewayRefusal(code byte) bool { return code == 10 || code == 11 }

func modbusRefusal(code byte) string {
	if text := modbusExceptions[code]; text != "" {
		return text
	}
	return fmt.Sprintf("exception %d", code)
}
