package probe

import (
	"context"
	"encoding/asn1"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"net"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gosnmp/gosnmp"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
	"airdrift/core/secret"
)

var authProtocols = map[string]gosnmp.SnmpV3AuthProtocol{
	"MD5": gosnmp.MD5, "SHA": gosnmp.SHA, "SHA-224": gosnmp.SHA224, "SHA-256": gosnmp.SHA256, "SHA-384": gosnmp.SHA384, "SHA-512": gosnmp.SHA512,
}

var privProtocols = map[string]gosnmp.SnmpV3PrivProtocol{
	"DES": gosnmp.DES, "AES": gosnmp.AES, "AES-192": gosnmp.AES192, "AES-256": gosnmp.AES256,
}

// AuthProtocols and PrivProtocols are the names of the protocols of version 3 (RFC 3414, RFC 7860, RFC 3826).
var (
	AuthProtocols = slices.Sorted(maps.Keys(authProtocols))
	PrivProtocols = slices.Sorted(maps.Keys(privProtocols))
)

const (
	snmpPort = 161
	// maxCredentials is how many of a site's credentials one device is asked with: agents may lock out who tries more.
	maxCredentials = 8
	// snmpTime bounds all that is read of one device.
	snmpTime = 25 * time.Second
	// maxRows is how many rows of one table are read, maxVariables how many values of one device.
	maxRows      = 512
	maxVariables = 6000
	// maxParts is how many parts of a device are kept.
	maxParts = 64
	// DefaultCommunity is the one that agents come with from the factory. One that answers to it lets anybody read.
	DefaultCommunity = "public"
)

// defaultCredentials are tried before a site's own: who answers to them stands open.
var defaultCredentials = []Credential{
	{Name: DefaultCommunity, Version: SNMPv2c, Community: secret.New(DefaultCommunity)},
	{Name: DefaultCommunity, Version: SNMPv1, Community: secret.New(DefaultCommunity)},
}

// SNMP asks a device's agent who it is: which engine it has, whether it answers to the community of the factory, and with
// the first credential that it takes what its system group, interfaces, parts and printer or power tables say.
// preferred is the ID of the credential that worked before, 0 where none did. answered is false where nothing came back.
func SNMP(ctx context.Context, d Dialer, addr netip.Addr, wait time.Duration, credentials []Credential, preferred uint64) (items []evidence.Item, answered bool) {
	return askAgent(ctx, d, addr, wait, func(ctx context.Context, a *agent) {
		a.tryDefaults(ctx)
		a.trySites(ctx, credentials, preferred)
	})
}

// SNMPWith asks a device's agent with one credential and nothing else.
func SNMPWith(ctx context.Context, d Dialer, addr netip.Addr, wait time.Duration, credential Credential) (items []evidence.Item, answered bool) {
	return askAgent(ctx, d, addr, wait, func(ctx context.Context, a *agent) {
		a.trySites(ctx, []Credential{credential}, credential.ID)
	})
}

// askAgent asks for the engine, opens a session in the given way, and reads all that it gives.
func askAgent(ctx context.Context, d Dialer, addr netip.Addr, wait time.Duration, open func(context.Context, *agent)) (items []evidence.Item, answered bool) {
	ctx, cancel := context.WithTimeout(ctx, snmpTime)
	defer cancel()
	a := &agent{dialer: d, addr: netip.AddrPortFrom(addr, snmpPort), wait: wait, keeps: map[string]bool{}, found: found{port: evidence.UDP(snmpPort)}}
	err := a.discover(ctx)
	if refusesDatagrams(err) {
		return nil, false
	}
	open(ctx, a)
	if a.session != nil {
		a.read()
		_ = a.session.Conn.Close() // all has been read
	}
	return a.items, len(a.items) > 0
}

// agent is one device's SNMP agent while it is asked.
type agent struct {
	found
	dialer  Dialer
	addr    netip.AddrPort
	wait    time.Duration
	three   bool            // it speaks version 3
	session *gosnmp.GoSNMP  // with the credential that it took
	bounded map[string]bool // what was cut short, told once each
	values  int             // read so far
	system  []gosnmp.SnmpPDU
	keeps   map[string]bool // the modules that are there, by their names
}

func (a *agent) note(key, value string) { a.add(evidence.SourceSNMP, key, []byte(value)) }

// v3Message is a message of version 3 whose data is not encrypted (RFC 3412, 6).
type v3Message struct {
	Version  int
	Global   v3Global
	Security []byte
	Data     asn1.RawValue
}

type v3Global struct {
	ID, MaxSize int
	Flags       []byte
	Model       int
}

// v3Security are the parameters of the user-based security model (RFC 3414, 2.4).
type v3Security struct {
	Engine       []byte
	Boots, Time  int
	User         []byte
	Auth, Secret []byte
}

// discovery makes the question to which every agent of version 3 answers with its engine, whoever asks (RFC 3414, 4).
func discovery(id int) ([]byte, error) {
	security, err := asn1.Marshal(v3Security{Engine: []byte{}, User: []byte{}, Auth: []byte{}, Secret: []byte{}})
	if err != nil {
		return nil, err
	}
	// A scoped PDU with an empty engine and context and a get request of nothing.
	scoped := []byte{0x30, 0x11, 0x04, 0, 0x04, 0, 0xa0, 0x0b, 0x02, 1, 1, 0x02, 1, 0, 0x02, 1, 0, 0x30, 0}
	return asn1.Marshal(v3Message{3, v3Global{id, 65507, []byte{4}, 3}, security, asn1.RawValue{FullBytes: scoped}})
}

// parseDiscovery gives the engine that an answer names.
func parseDiscovery(answer []byte, id int) (engine []byte, ok bool) {
	var message v3Message
	if _, err := asn1.Unmarshal(answer, &message); err != nil || message.Version != 3 || message.Global.ID != id {
		return nil, false
	}
	var security v3Security
	if _, err := asn1.Unmarshal(message.Security, &security); err != nil || len(security.Engine) < 5 || len(security.Engine) > 32 {
		return nil, false
	}
	return security.Engine, true
}

// discover finds out whether the agent speaks version 3.
func (a *agent) discover(ctx context.Context) error {
	id := int(rand.Int32N(1 << 30))
	question, err := discovery(id)
	if err != nil {
		return err
	}
	asked := time.Now()
	return exchange(ctx, a.dialer, a.addr, question, a.wait, func(answer []byte) verdict {
		engine, ok := parseDiscovery(answer, id)
		if !ok {
			return ignore
		}
		a.wait = max(a.wait, 2*time.Since(asked)) // an agent that is slow once is slow again
		a.three = true
		a.note(evidence.KeySNMPVersion, SNMPv3)
		a.noteEngine(engine)
		return enough
	})
}

// noteEngine notes an engine's identifier, and the enterprise and MAC address that it is formed of (RFC 3411, 5).
func (a *agent) noteEngine(engine []byte) {
	a.note(evidence.KeySNMPEngine, hex.EncodeToString(engine))
	if engine[0]&0x80 == 0 {
		return
	}
	a.note(evidence.KeySNMPEngineFrom, strconv.Itoa(int(binary.BigEndian.Uint32(engine)&0x7fffffff)))
}

// tryDefaults tries what agents come with.
func (a *agent) tryDefaults(ctx context.Context) {
	for _, c := range defaultCredentials {
		if a.try(ctx, c) {
			a.note(evidence.KeySNMPDefault, DefaultCommunity)
			a.note(evidence.KeySNMPVersion, c.Version)
			return
		}
	}
}

// trySites tries a site's credentials, the one that worked before first. A session that is open already goes on where
// none is taken.
func (a *agent) trySites(ctx context.Context, credentials []Credential, preferred uint64) {
	order := slices.Clone(credentials)
	slices.SortStableFunc(order, func(x, y Credential) int {
		return rank(y.ID == preferred) - rank(x.ID == preferred)
	})
	for _, c := range order[:min(len(order), maxCredentials)] {
		if c.Version == SNMPv3 && !a.three {
			continue // it has not answered to version 3 at all
		}
		if a.session != nil && c.Version != SNMPv3 && c.Community.Reveal() == DefaultCommunity {
			continue // asked already
		}
		if a.try(ctx, c) {
			a.note(evidence.KeySNMPCredential, c.Name)
			a.note(evidence.KeySNMPVersion, c.Version)
			return
		}
	}
}

func rank(yes bool) int {
	if yes {
		return 1
	}
	return 0
}

// try asks for the system group with one credential.
func (a *agent) try(ctx context.Context, c Credential) bool {
	session, err := a.open(ctx, c)
	if err != nil {
		return false
	}
	system, err := get(session, systemGroup)
	if err != nil || len(system) == 0 {
		_ = session.Conn.Close() // the agent has not taken it
		return false
	}
	if a.session != nil {
		_ = a.session.Conn.Close() // this one takes its place
	}
	a.session, a.system = session, system
	return true
}

// open prepares a session; nothing is sent before the first question. Version 3 asks for the engine once more, as the library
// keeps its own account of an engine's time.
func (a *agent) open(ctx context.Context, c Credential) (*gosnmp.GoSNMP, error) {
	session := &gosnmp.GoSNMP{
		Target: a.addr.Addr().WithZone("").String(), Port: a.addr.Port(), Context: ctx, Timeout: a.wait, Retries: datagramTries - 1, ExponentialTimeout: true, MaxRepetitions: 16,
		Version: versions[c.Version], Community: c.Community.Reveal(),
		// The library opens a socket of its own that sends nothing; the wire's takes its place.
		UseUnconnectedUDPSocket: true,
	}
	if c.Version == SNMPv3 {
		session.SecurityModel, session.MsgFlags = gosnmp.UserSecurityModel, gosnmp.NoAuthNoPriv
		usm := &gosnmp.UsmSecurityParameters{UserName: c.User, AuthenticationProtocol: gosnmp.NoAuth, PrivacyProtocol: gosnmp.NoPriv}
		if c.Auth != "" {
			session.MsgFlags = gosnmp.AuthNoPriv
			usm.AuthenticationProtocol, usm.AuthenticationPassphrase = authProtocols[c.Auth], c.AuthKey.Reveal()
		}
		if c.Priv != "" {
			session.MsgFlags = gosnmp.AuthPriv
			usm.PrivacyProtocol, usm.PrivacyPassphrase = privProtocols[c.Priv], c.PrivKey.Reveal()
		}
		session.SecurityParameters = usm
	}
	if err := session.Connect(); err != nil {
		return nil, err
	}
	_ = session.Conn.Close() // it was never used
	conn, err := a.dialer.DialContext(ctx, "udp", a.addr)
	if err != nil {
		return nil, err
	}
	session.Conn = struct{ net.Conn }{conn} // hides that it may be a packet socket, which the library would treat otherwise
	return session, nil
}

var versions = map[string]gosnmp.SnmpVersion{SNMPv1: gosnmp.Version1, SNMPv2c: gosnmp.Version2c, SNMPv3: gosnmp.Version3}

// Objects of SNMPv2-MIB, IP-MIB, BRIDGE-MIB, UPS-MIB, Printer-MIB and HOST-RESOURCES-MIB (RFC 3418, 4293, 4188, 1628, 3805, 2790).
const (
	oidDescr    = ".1.3.6.1.2.1.1.1.0"
	oidObject   = ".1.3.6.1.2.1.1.2.0"
	oidUptime   = ".1.3.6.1.2.1.1.3.0"
	oidContact  = ".1.3.6.1.2.1.1.4.0"
	oidName     = ".1.3.6.1.2.1.1.5.0"
	oidLocation = ".1.3.6.1.2.1.1.6.0"
	oidServices = ".1.3.6.1.2.1.1.7.0"

	oidForwarding    = ".1.3.6.1.2.1.4.1.0"
	oidPrinterName   = ".1.3.6.1.2.1.43.5.1.1.16.1"
	oidPrinterSerial = ".1.3.6.1.2.1.43.5.1.1.17.1"
	oidUPSMaker      = ".1.3.6.1.2.1.33.1.1.1.0"
	oidUPSModel      = ".1.3.6.1.2.1.33.1.1.2.0"
	oidUPSSoftware   = ".1.3.6.1.2.1.33.1.1.3.0"
	oidUPSAgent      = ".1.3.6.1.2.1.33.1.1.4.0"
	oidOSIndex       = ".1.3.6.1.2.1.25.4.1.0"
	oidRunName       = ".1.3.6.1.2.1.25.4.2.1.2"
	hrDevice         = ".1.3.6.1.2.1.25.3.2.1"

	oidEnterprises = ".1.3.6.1.4.1."
)

var systemGroup = []string{oidDescr, oidObject, oidUptime, oidContact, oidName, oidLocation, oidServices}

// singles are the objects that are read one by one beside the system group, with the facts they make.
var singles = []struct{ oid, key string }{
	{oidPrinterName, evidence.KeySNMPDevice},
	{oidPrinterSerial, evidence.KeySNMPSerial},
	{oidUPSMaker, evidence.KeySNMPMaker},
	{oidUPSModel, evidence.KeySNMPModel},
	{oidUPSSoftware, evidence.KeySNMPFirmware},
	{oidUPSAgent, evidence.KeySNMPSoftware},
}

// mibs are the modules whose presence tells what an agent is for, by the subtree of each.
var mibs = []struct{ name, root string }{
	{"printer", ".1.3.6.1.2.1.43"},         // RFC 3805
	{"ups", ".1.3.6.1.2.1.33"},             // RFC 1628
	{"bridge", ".1.3.6.1.2.1.17"},          // RFC 4188
	{"host", ".1.3.6.1.2.1.25"},            // RFC 2790
	{"entity", ".1.3.6.1.2.1.47"},          // RFC 6933
	{"power-ethernet", ".1.3.6.1.2.1.105"}, // RFC 3621
	{"cable-modem", ".1.3.6.1.2.1.69"},     // RFC 4639
	{"wireless", ".1.2.840.10036"},         // IEEE 802.11
}

// read takes down all that the session gives.
func (a *agent) read() {
	a.readSystem()
	a.readPresence()
	a.readSingles()
	a.readInterfaces()
	if a.keeps["entity"] {
		a.readParts()
	}
	if a.keeps["host"] {
		a.readDevices()
	}
}

func (a *agent) readSystem() {
	keys := map[string]string{
		oidDescr: evidence.KeySNMPDescr, oidName: evidence.KeySNMPName, oidLocation: evidence.KeySNMPLocation, oidContact: evidence.KeySNMPContact,
		oidServices: evidence.KeySNMPServices,
	}
	for _, pdu := range a.system {
		switch {
		case keys[pdu.Name] != "":
			a.note(keys[pdu.Name], text(pdu))
		case pdu.Name == oidObject:
			a.noteObject(text(pdu))
		case pdu.Name == oidUptime:
			a.note(evidence.KeySNMPUptime, (time.Duration(number(pdu)) * 10 * time.Millisecond).Round(time.Second).String())
		}
	}
}

// noteObject notes what the agent says its system is, and whose number that is.
func (a *agent) noteObject(oid string) {
	a.note(evidence.KeySNMPObject, strings.TrimPrefix(oid, "."))
	if rest, ok := strings.CutPrefix(oid, oidEnterprises); ok {
		enterprise, _, _ := strings.Cut(rest, ".")
		a.note(evidence.KeySNMPEnterprise, enterprise)
	}
}

// readPresence asks which modules there are.
func (a *agent) readPresence() {
	roots := make([]string, len(mibs))
	for i, m := range mibs {
		roots[i] = m.root
	}
	for i, pdu := range a.next(roots) {
		if strings.HasPrefix(pdu.Name, mibs[i].root+".") && present(pdu) {
			a.keeps[mibs[i].name] = true
			a.note(evidence.KeySNMPMIB, mibs[i].name)
		}
	}
}

// next asks for what follows each object. Version 1 fails a whole question for one object, so there each is asked alone.
func (a *agent) next(oids []string) []gosnmp.SnmpPDU {
	if a.session.Version != gosnmp.Version1 {
		if packet, err := a.session.GetNext(oids); err == nil && len(packet.Variables) == len(oids) {
			return packet.Variables
		}
	}
	all := make([]gosnmp.SnmpPDU, len(oids))
	for i, oid := range oids {
		packet, err := a.session.GetNext([]string{oid})
		if err == nil && packet.Error == gosnmp.NoError && len(packet.Variables) == 1 {
			all[i] = packet.Variables[0]
		}
	}
	return all
}

func (a *agent) readSingles() {
	oids := []string{oidForwarding, oidOSIndex}
	keys := map[string]string{}
	for _, s := range singles {
		oids = append(oids, s.oid)
		keys[s.oid] = s.key
	}
	pdus, err := get(a.session, oids)
	if err != nil {
		return
	}
	for _, pdu := range pdus {
		switch {
		case pdu.Name == oidForwarding && number(pdu) == 1:
			a.note(evidence.KeySNMPForwarding, "yes")
		case pdu.Name == oidOSIndex && number(pdu) > 0:
			if named, err := get(a.session, []string{oidRunName + "." + strconv.FormatUint(number(pdu), 10)}); err == nil && len(named) == 1 {
				a.note(evidence.KeySNMPOS, text(named[0]))
			}
		case keys[pdu.Name] != "":
			a.note(keys[pdu.Name], text(pdu))
		}
	}
}

// Columns of ifTable and ifXTable (RFC 2863).
const (
	ifEntry  = ".1.3.6.1.2.1.2.2.1"
	ifXEntry = ".1.3.6.1.2.1.31.1.1.1"
)

func (a *agent) readInterfaces() {
	t := a.table(ifEntry, 2, 3, 5, 6, 7, 8, 10, 16)
	descr, kind, speed, mac, admin, oper, in, out := t[0], t[1], t[2], t[3], t[4], t[5], t[6], t[7]
	if len(descr) == 0 {
		return
	}
	x := a.table(ifXEntry, 1, 6, 10, 15, 18)
	name, longIn, longOut, fast, alias := x[0], x[1], x[2], x[3], x[4]
	for _, index := range slices.SortedFunc(maps.Keys(descr), byIndex) {
		row := evidence.Interface{
			Name: evidence.Cell(bytesOf(descr[index])), Alias: evidence.Cell(bytesOf(alias[index])), Type: int(number(kind[index])),
			Speed: number(speed[index]), Up: number(oper[index]) == 1, Off: number(admin[index]) == 2,
			In: number(in[index]), Out: number(out[index]),
		}
		row.Index, _ = strconv.Atoi(index) // the walk has met digits only
		if short := evidence.Cell(bytesOf(name[index])); short != "" {
			row.Name = short
		}
		if address := bytesOf(mac[index]); len(address) == len(hwaddr.MAC{}) {
			row.MAC = hwaddr.MAC(address).String()
		}
		if mega := number(fast[index]); mega > 0 && mega < 1<<40 {
			row.Speed = mega * 1e6
		}
		if _, has := longIn[index]; has {
			row.In, row.Out = number(longIn[index]), number(longOut[index])
		}
		a.note(evidence.KeySNMPInterface, evidence.Row(row))
	}
}

func byIndex(x, y string) int {
	if len(x) != len(y) {
		return len(x) - len(y)
	}
	return strings.Compare(x, y)
}

// entEntry is entPhysicalTable (RFC 6933); classes are its PhysicalClass.
const entEntry = ".1.3.6.1.2.1.47.1.1.1.1"

var classes = map[uint64]string{
	1: "other", 2: "unknown", 3: "chassis", 4: "backplane", 5: "container", 6: "power supply", 7: "fan", 8: "sensor", 9: "module", 10: "port",
	11: "stack", 12: "processor", 13: "energy object", 14: "battery", 15: "storage drive",
}

// readParts reads the physical parts; the chassis speaks for the device.
func (a *agent) readParts() {
	t := a.table(entEntry, 2, 5, 7, 8, 9, 10, 11, 12, 13)
	descr, class, name, hardware, firmware, software, serial, maker, model := t[0], t[1], t[2], t[3], t[4], t[5], t[6], t[7], t[8]
	if len(class) == 0 {
		return
	}
	var parts []evidence.Part
	for _, index := range slices.SortedFunc(maps.Keys(class), byIndex) {
		cell := func(column column) string { return evidence.Cell(bytesOf(column[index])) }
		part := evidence.Part{
			Class: classes[number(class[index])], Name: cell(name), Text: cell(descr), Maker: cell(maker), Model: cell(model), Serial: cell(serial),
			Hardware: cell(hardware), Firmware: cell(firmware), Software: cell(software),
		}
		// Ports and sensors without a number of their own are hundreds and tell nothing.
		if part.Serial != "" || part.Model != "" || part.Firmware != "" || part.Class == "chassis" || part.Class == "stack" {
			parts = append(parts, part)
		}
	}
	for _, part := range parts[:min(len(parts), maxParts)] {
		a.note(evidence.KeySNMPPart, evidence.Row(part))
	}
	if i := slices.IndexFunc(parts, func(p evidence.Part) bool { return p.Class == "chassis" && p.Model+p.Serial+p.Maker != "" }); i >= 0 {
		a.noteChassis(parts[i])
	} else if i := slices.IndexFunc(parts, func(p evidence.Part) bool { return p.Class == "stack" || len(parts) == 1 }); i >= 0 {
		a.noteChassis(parts[i])
	}
}

func (a *agent) noteChassis(part evidence.Part) {
	a.note(evidence.KeySNMPMaker, part.Maker)
	a.note(evidence.KeySNMPModel, part.Model)
	a.note(evidence.KeySNMPSerial, part.Serial)
	a.note(evidence.KeySNMPHardware, part.Hardware)
	a.note(evidence.KeySNMPFirmware, part.Firmware)
	a.note(evidence.KeySNMPSoftware, part.Software)
}

// hrTypes are the types of hrDeviceTable that tell what a device is (RFC 2790, hrDeviceTypes).
var hrTypes = map[string]string{
	".1.3.6.1.2.1.25.3.1.3": "processor", ".1.3.6.1.2.1.25.3.1.5": "printer", ".1.3.6.1.2.1.25.3.1.11": "audio", ".1.3.6.1.2.1.25.3.1.14": "modem",
}

func (a *agent) readDevices() {
	t := a.table(hrDevice, 2, 3)
	types, descr := t[0], t[1]
	told := map[string]bool{}
	for _, index := range slices.SortedFunc(maps.Keys(types), byIndex) {
		kind := hrTypes[text(types[index])]
		if line := strings.TrimSpace(kind + " " + text(descr[index])); kind != "" && !told[line] {
			told[line] = true
			a.note(evidence.KeySNMPDevice, line)
		}
	}
}

// column is one column of a table, by the index of each row.
type column map[string]gosnmp.SnmpPDU

// perAnswer is how many values one answer is asked to hold; more would not fit the frames of small agents.
const perAnswer = 40

// table reads columns of one table side by side, so that a slow agent is asked few times.
func (a *agent) table(entry string, numbers ...int) []column {
	roots := make([]string, len(numbers))
	columns := make([]column, len(numbers))
	for i, n := range numbers {
		roots[i], columns[i] = entry+"."+strconv.Itoa(n), column{}
	}
	if a.session.Version == gosnmp.Version1 {
		for i, root := range roots {
			a.walk(root, columns[i])
		}
		return columns
	}
	at := slices.Clone(roots)
	open := make([]int, len(roots)) // the columns that are not at their end
	for i := range open {
		open[i] = i
	}
	for len(open) > 0 && !a.full() {
		asked := make([]string, len(open))
		for i, c := range open {
			asked[i] = at[c]
		}
		packet, err := a.session.GetBulk(asked, 0, uint32(max(1, perAnswer/len(open))))
		if err != nil || packet.Error != gosnmp.NoError {
			break
		}
		open = a.takeRows(packet.Variables, open, roots, at, columns)
	}
	return columns
}

// takeRows takes in an answer of which values belong to the open columns in turn, and gives the columns that go on.
func (a *agent) takeRows(values []gosnmp.SnmpPDU, open []int, roots, at []string, columns []column) (goOn []int) {
	ended, moved := map[int]bool{}, map[int]bool{}
	for i, pdu := range values {
		c := open[i%len(open)]
		switch {
		case ended[c]:
		case !present(pdu) || !strings.HasPrefix(pdu.Name, roots[c]+"."):
			ended[c] = true
		case compareOID(pdu.Name, at[c]) <= 0:
			a.cut("loop")
			ended[c] = true
		case len(columns[c]) >= maxRows:
			a.cut("rows")
			ended[c] = true
		default:
			a.values++
			columns[c][strings.TrimPrefix(pdu.Name, roots[c]+".")] = pdu
			at[c], moved[c] = pdu.Name, true
		}
	}
	for _, c := range open {
		if moved[c] && !ended[c] {
			goOn = append(goOn, c)
		}
	}
	return goOn
}

// full reports whether as much has been read of the agent as is read of one.
func (a *agent) full() bool {
	if a.values < maxVariables && a.session.Context.Err() == nil {
		return false
	}
	a.cut("time or size")
	return true
}

// compareOID orders object identifiers in dots; what is no number comes first.
func compareOID(x, y string) int {
	for x != "" || y != "" {
		var left, right string
		left, x, _ = strings.Cut(strings.TrimPrefix(x, "."), ".")
		right, y, _ = strings.Cut(strings.TrimPrefix(y, "."), ".")
		if left != right {
			return byIndex(left, right)
		}
	}
	return 0
}

var errEnough = errors.New("enough has been read")

// walk reads one column of an agent of version 1, row by row.
func (a *agent) walk(root string, rows column) {
	err := a.session.Walk(root, func(pdu gosnmp.SnmpPDU) error {
		if len(rows) >= maxRows || a.full() {
			return errEnough
		}
		a.values++
		rows[strings.TrimPrefix(pdu.Name, root+".")] = pdu
		return nil
	})
	switch {
	case errors.Is(err, errEnough):
		a.cut("rows")
	case err != nil && strings.Contains(err.Error(), "not increasing"):
		a.cut("loop")
	}
}

// cut notes that an agent was not read to its end, and why.
func (a *agent) cut(why string) {
	if a.bounded == nil {
		a.bounded = map[string]bool{}
	}
	if !a.bounded[why] {
		a.bounded[why] = true
		a.note(evidence.KeySNMPBounded, why)
	}
}

// get asks for single objects and gives those that are there. In version 1 each is asked alone, as one that is missing fails
// the whole question.
func get(session *gosnmp.GoSNMP, oids []string) ([]gosnmp.SnmpPDU, error) {
	if session.Version != gosnmp.Version1 {
		packet, err := session.Get(oids)
		if err != nil {
			return nil, err
		}
		return slices.DeleteFunc(packet.Variables, func(p gosnmp.SnmpPDU) bool { return !present(p) || !slices.Contains(oids, p.Name) }), nil
	}
	var all []gosnmp.SnmpPDU
	for i, oid := range oids {
		packet, err := session.Get([]string{oid})
		if err != nil {
			if i == 0 {
				return nil, err
			}
			break
		}
		if packet.Error == gosnmp.NoError && len(packet.Variables) == 1 && packet.Variables[0].Name == oid && present(packet.Variables[0]) {
			all = append(all, packet.Variables[0])
		}
	}
	return all, nil
}

func present(pdu gosnmp.SnmpPDU) bool {
	switch pdu.Type {
	case gosnmp.NoSuchObject, gosnmp.NoSuchInstance, gosnmp.EndOfMibView, gosnmp.Null, gosnmp.UnknownType:
		return false
	}
	return true
}

func bytesOf(pdu gosnmp.SnmpPDU) []byte {
	switch v := pdu.Value.(type) {
	case []byte:
		return v
	case string:
		return []byte(v)
	}
	return nil
}

// text gives an octet string, an object identifier or a number as text.
func text(pdu gosnmp.SnmpPDU) string {
	if b := bytesOf(pdu); b != nil {
		return strings.Join(strings.Fields(string(b)), " ")
	}
	if pdu.Value == nil {
		return ""
	}
	return fmt.Sprint(pdu.Value)
}

// number gives a value that counts; 0 where it is none.
func number(pdu gosnmp.SnmpPDU) uint64 {
	switch pdu.Type {
	case gosnmp.Integer, gosnmp.Counter32, gosnmp.Gauge32, gosnmp.TimeTicks, gosnmp.Counter64, gosnmp.Uinteger32:
		if n := gosnmp.ToBigInt(pdu.Value); n.IsUint64() {
			return n.Uint64()
		}
	}
	return 0
}
