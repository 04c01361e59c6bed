package simsite

import (
	"bytes"
	"encoding/asn1"
	"encoding/binary"
	"net"
	"slices"
	"strconv"
	"strings"

	"airdrift/core/hwaddr"
)

// Tags of SNMP (RFC 3416, 3; RFC 2578, 7.1).
const (
	tagInteger, tagOctets, tagNull, tagObject = 0x02, 0x04, 0x05, 0x06
	tagSequence, tagCounter, tagGauge         = 0x30, 0x41, 0x42
	tagTicks, tagCounter64, tagEndOfView      = 0x43, 0x46, 0x82
	tagNoObject                               = 0x80
	pduGet, pduNext, pduResponse, pduBulk     = 0xa0, 0xa1, 0xa2, 0xa5
	pduReport                                 = 0xa8
)

// mibRow is one object of an agent.
type mibRow struct {
	oid   asn1.ObjectIdentifier
	value []byte // with its tag and length
}

// ber puts a tag and a length before content.
func ber(tag byte, content ...[]byte) []byte {
	body := bytes.Join(content, nil)
	head := []byte{tag}
	switch n := len(body); {
	case n < 0x80:
		head = append(head, byte(n))
	case n < 0x100:
		head = append(head, 0x81, byte(n))
	default:
		head = append(head, 0x82, byte(n>>8), byte(n))
	}
	return append(head, body...)
}

func berNumber(tag byte, n uint64) []byte {
	raw := binary.BigEndian.AppendUint64([]byte{0}, n)
	for len(raw) > 1 && raw[0] == 0 && raw[1] < 0x80 {
		raw = raw[1:]
	}
	return ber(tag, raw)
}

func berText(text string) []byte { return ber(tagOctets, []byte(text)) }

func berObject(oid asn1.ObjectIdentifier) []byte {
	raw, err := asn1.Marshal(oid)
	if err != nil {
		return ber(tagNull)
	}
	return raw
}

// parseObject reads an object identifier in dots.
func parseObject(text string) asn1.ObjectIdentifier {
	var oid asn1.ObjectIdentifier
	for part := range strings.SplitSeq(text, ".") {
		n, err := strconv.Atoi(part)
		if err != nil {
			return asn1.ObjectIdentifier{0, 0}
		}
		oid = append(oid, n)
	}
	return oid
}

// agent answers for one device.
type snmpAgent struct {
	tells  map[string]string
	engine []byte
	rows   []mibRow
}

// newAgent fills the tables of an agent with what the service tells and where the device is plugged in.
func newAgent(tells map[string]string, legs []Leg, secret [32]byte) *snmpAgent {
	a := &snmpAgent{tells: tells, engine: append([]byte{0x80, 0x01, 0x86, 0x9f, 5}, secret[:8]...)} // 99999 is given to nobody
	if enterprise, err := strconv.ParseUint(tells["enterprise"], 10, 31); err == nil {
		binary.BigEndian.PutUint32(a.engine, uint32(enterprise)|1<<31)
	}
	a.system()
	a.interfaces(legs)
	a.entity()
	a.special()
	slices.SortFunc(a.rows, func(x, y mibRow) int { return slices.Compare(x.oid, y.oid) })
	return a
}

func (a *snmpAgent) put(oid string, value []byte) {
	a.rows = append(a.rows, mibRow{parseObject(oid), value})
}

// putTold puts a text that the service tells, where it does.
func (a *snmpAgent) putTold(oid, key string) {
	if text, told := a.tells[key]; told {
		a.put(oid, berText(text))
	}
}

func (a *snmpAgent) system() {
	const system = "1.3.6.1.2.1.1."
	a.putTold(system+"1.0", "descr")
	if object := a.tells["object"]; object != "" {
		a.put(system+"2.0", berObject(parseObject(object)))
	}
	a.put(system+"3.0", berNumber(tagTicks, 8640000))
	a.putTold(system+"4.0", "contact")
	a.putTold(system+"5.0", "name")
	a.putTold(system+"6.0", "location")
	if services, err := strconv.ParseUint(a.tells["services"], 10, 8); err == nil {
		a.put(system+"7.0", berNumber(tagInteger, services))
	}
}

func (a *snmpAgent) interfaces(legs []Leg) {
	count, err := strconv.Atoi(a.tells["interfaces"])
	if err != nil {
		count = len(legs)
	}
	a.put("1.3.6.1.2.1.2.1.0", berNumber(tagInteger, uint64(count)))
	for i := range count {
		mac := hwaddr.MAC{}
		if len(legs) > 0 {
			mac = legs[i%len(legs)].MAC
			mac[5] += byte(i)
		}
		row := func(table string, column int, value []byte) {
			a.put(table+"."+strconv.Itoa(column)+"."+strconv.Itoa(i+1), value)
		}
		const ifTable, ifXTable = "1.3.6.1.2.1.2.2.1", "1.3.6.1.2.1.31.1.1.1"
		row(ifTable, 1, berNumber(tagInteger, uint64(i+1)))
		row(ifTable, 2, berText("Port "+strconv.Itoa(i+1)))
		row(ifTable, 3, berNumber(tagInteger, 6))
		row(ifTable, 5, berNumber(tagGauge, 1000000000))
		row(ifTable, 6, ber(tagOctets, mac[:]))
		row(ifTable, 7, berNumber(tagInteger, 1))
		row(ifTable, 8, berNumber(tagInteger, uint64(1+i%3/2)))
		row(ifTable, 10, berNumber(tagCounter, uint64(i)*4096))
		row(ifTable, 16, berNumber(tagCounter, uint64(i)*2048))
		row(ifXTable, 1, berText("p"+strconv.Itoa(i+1)))
		row(ifXTable, 6, berNumber(tagCounter64, uint64(i)<<33))
		row(ifXTable, 10, berNumber(tagCounter64, uint64(i)<<32))
		row(ifXTable, 15, berNumber(tagGauge, 1000))
	}
	if a.tells["forwards"] == "yes" {
		a.put("1.3.6.1.2.1.4.1.0", berNumber(tagInteger, 1))
	}
}

// entity fills one chassis and one power supply.
func (a *snmpAgent) entity() {
	if a.tells["chassis"] == "" {
		return
	}
	const table = "1.3.6.1.2.1.47.1.1.1.1."
	a.put(table+"2.1", berText(a.tells["chassis"]+" chassis"))
	a.put(table+"5.1", berNumber(tagInteger, 3))
	a.put(table+"7.1", berText("chassis"))
	a.putTold(table+"8.1", "hardware")
	a.putTold(table+"9.1", "firmware")
	a.putTold(table+"10.1", "software")
	a.putTold(table+"11.1", "serial")
	a.putTold(table+"12.1", "maker")
	a.putTold(table+"13.1", "chassis")
	a.put(table+"2.2", berText("power supply"))
	a.put(table+"5.2", berNumber(tagInteger, 6))
}

// special fills what only printers, power supplies and bridges have.
func (a *snmpAgent) special() {
	a.putTold("1.3.6.1.2.1.43.5.1.1.16.1", "printer")
	if a.tells["printer"] != "" {
		a.putTold("1.3.6.1.2.1.43.5.1.1.17.1", "serial")
		a.put("1.3.6.1.2.1.25.3.2.1.2.1", berObject(parseObject("1.3.6.1.2.1.25.3.1.5")))
		a.putTold("1.3.6.1.2.1.25.3.2.1.3.1", "printer")
	}
	if a.tells["ups"] != "" {
		a.putTold("1.3.6.1.2.1.33.1.1.1.0", "maker")
		a.putTold("1.3.6.1.2.1.33.1.1.2.0", "ups")
		a.putTold("1.3.6.1.2.1.33.1.1.3.0", "firmware")
	}
	if a.tells["bridge"] == "yes" {
		a.put("1.3.6.1.2.1.17.1.2.0", berNumber(tagInteger, 24))
	}
}

// serveSNMP answers datagrams until the socket closes.
func serveSNMP(conn net.PacketConn, b booth) {
	agent := newAgent(b.service.Tells, b.device.Legs, b.secret)
	eachDatagram(conn, func(question []byte) [][]byte {
		if answer := agent.answer(question); answer != nil {
			return [][]byte{answer}
		}
		return nil
	})
}

// snmpMessage is a message of versions 1 and 2c (RFC 1901), and of version 3 as far as it goes.
type snmpMessage struct {
	Version   int
	Community asn1.RawValue
	Rest      asn1.RawValue
}

type snmpPDU struct {
	ID, A, B int
	Bindings []snmpBinding
}

type snmpBinding struct {
	OID   asn1.ObjectIdentifier
	Value asn1.RawValue
}

func (a *snmpAgent) answer(question []byte) []byte {
	var message snmpMessage
	var outer asn1.RawValue
	if _, err := asn1.Unmarshal(question, &outer); err != nil {
		return nil
	}
	rest := outer.Bytes
	for _, field := range []any{&message.Version, &message.Community, &message.Rest} {
		var err error
		if rest, err = asn1.Unmarshal(rest, field); err != nil {
			return nil
		}
	}
	if message.Version == 3 {
		return a.report(message.Community)
	}
	if string(message.Community.Bytes) != a.tells["community"] {
		return nil
	}
	body := message.Rest
	tag := body.FullBytes[0]
	body.FullBytes = append([]byte{tagSequence}, body.FullBytes[1:]...)
	var pdu snmpPDU
	if _, err := asn1.Unmarshal(body.FullBytes, &pdu); err != nil {
		return nil
	}
	bindings := a.bindings(tag, pdu)
	if bindings == nil {
		return nil
	}
	response := ber(pduResponse, berNumber(tagInteger, uint64(uint32(pdu.ID))), ber(tagInteger, []byte{0}), ber(tagInteger, []byte{0}), ber(tagSequence, bindings...))
	return ber(tagSequence, ber(tagInteger, []byte{byte(message.Version)}), ber(tagOctets, message.Community.Bytes), response)
}

// report tells the engine to who does not know it (RFC 3414, 4). What would need a key is not answered.
func (a *snmpAgent) report(global asn1.RawValue) []byte {
	var head struct {
		ID, Size int
		Flags    []byte
		Model    int
	}
	if _, err := asn1.Unmarshal(global.FullBytes, &head); err != nil || len(head.Flags) != 1 || head.Flags[0]&3 != 0 {
		return nil
	}
	security := ber(tagSequence, ber(tagOctets, a.engine), berNumber(tagInteger, 3), berNumber(tagInteger, 86400), ber(tagOctets), ber(tagOctets), ber(tagOctets))
	binding := ber(tagSequence, berObject(parseObject("1.3.6.1.6.3.15.1.1.4.0")), berNumber(tagCounter, 1))
	pdu := ber(pduReport, ber(tagInteger, []byte{0}), ber(tagInteger, []byte{0}), ber(tagInteger, []byte{0}), ber(tagSequence, binding))
	scoped := ber(tagSequence, ber(tagOctets, a.engine), ber(tagOctets), pdu)
	flags := ber(tagSequence, berNumber(tagInteger, uint64(head.ID)), berNumber(tagInteger, 65507), ber(tagOctets, []byte{0}), ber(tagInteger, []byte{3}))
	return ber(tagSequence, ber(tagInteger, []byte{3}), flags, ber(tagOctets, security), scoped)
}

const (
	// maxBindings is how many objects one answer holds.
	maxBindings = 40
	// hugeText is what an agent says that wants to fill the asker's memory, in bytes.
	hugeText = 20000
)

func (a *snmpAgent) bindings(tag byte, pdu snmpPDU) [][]byte {
	var out [][]byte
	add := func(oid asn1.ObjectIdentifier, value []byte) {
		out = append(out, ber(tagSequence, berObject(oid), value))
	}
	switch tag {
	case pduGet:
		for _, asked := range pdu.Bindings {
			add(asked.OID, a.value(asked.OID))
		}
	case pduNext:
		for _, asked := range pdu.Bindings {
			add(a.after(asked.OID))
		}
	case pduBulk: // one row of all that is asked for, then the next (RFC 3416, 4.2.3); nobody here asks for non-repeaters
		for range max(1, min(pdu.B, maxBindings/max(1, len(pdu.Bindings)))) {
			for i, asked := range pdu.Bindings {
				next, value := a.after(asked.OID)
				add(next, value)
				pdu.Bindings[i].OID = next
			}
		}
	}
	return out
}

func (a *snmpAgent) value(oid asn1.ObjectIdentifier) []byte {
	at, found := slices.BinarySearchFunc(a.rows, oid, func(r mibRow, o asn1.ObjectIdentifier) int { return slices.Compare(r.oid, o) })
	if !found {
		return ber(tagNoObject)
	}
	return a.rows[at].value
}

// after gives the object that follows, or what a liar says does.
func (a *snmpAgent) after(oid asn1.ObjectIdentifier) (asn1.ObjectIdentifier, []byte) {
	switch a.tells["trap"] {
	case "endless": // another row for ever, in whichever table one walks
		if len(oid) < 11 {
			return append(slices.Clone(oid), 1), berNumber(tagInteger, 3)
		}
		next := slices.Clone(oid)
		next[len(next)-1]++
		return next, berNumber(tagInteger, 3)
	case "loop":
		if len(oid) < 11 {
			return append(slices.Clone(oid), 1), berNumber(tagInteger, 3)
		}
		return oid, berNumber(tagInteger, 3)
	case "huge":
		if len(oid) < 11 {
			return append(slices.Clone(oid), 1), berText(strings.Repeat("x", hugeText))
		}
	}
	at, found := slices.BinarySearchFunc(a.rows, oid, func(r mibRow, o asn1.ObjectIdentifier) int { return slices.Compare(r.oid, o) })
	if found {
		at++
	}
	if at == len(a.rows) {
		return oid, ber(tagEndOfView)
	}
	return a.rows[at].oid, a.rows[at].value
}
