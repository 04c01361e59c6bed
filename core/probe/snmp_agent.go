package probe

import (
	"maps"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gosnmp/gosnmp"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
)

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

	ipAddrEntry    = ".1.3.6.1.2.1.4.20.1"
	oidEnterprises = ".1.3.6.1.4.1."
)

var systemGroup = []string{oidDescr, oidObject, oidUptime, oidContact, oidName, oidLocation, oidServices}

// singles are the objects that are read one by one beside the system group, with the facts they make.
var singles = []struct{ oid, key string }{
	{oidPrinterName, keySNMPDevice},
	{oidPrinterSerial, evidence.KeySNMPSerial},
	{oidUPSMaker, keySNMPMaker},
	{oidUPSModel, keySNMPModel},
	{oidUPSSoftware, keySNMPFirmware},
	{oidUPSAgent, keySNMPSoftware},
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
	a.readAddresses()
	if a.keeps["entity"] {
		a.readParts()
	}
	if a.keeps["host"] {
		a.readDevices()
	}
}

func (a *agent) readSystem() {
	keys := map[string]string{
		oidDescr: evidence.KeySNMPDescr, oidName: evidence.KeySNMPName, oidLocation: keySNMPLocation, oidContact: keySNMPContact,
		oidServices: evidence.KeySNMPServices,
	}
	for _, pdu := range a.system {
		switch {
		case keys[pdu.Name] != "":
			a.note(keys[pdu.Name], text(pdu))
		case pdu.Name == oidObject:
			a.noteObject(text(pdu))
		case pdu.Name == oidUptime:
			a.note(keySNMPUptime, (time.Duration(number(pdu)) * 10 * time.Millisecond).Round(time.Second).String())
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
			a.note(keySNMPForwarding, "yes")
		case pdu.Name == oidOSIndex && number(pdu) > 0:
			if named, err := get(a.session, []string{oidRunName + "." + strconv.FormatUint(number(pdu), 10)}); err == nil && len(named) == 1 {
				a.note(keySNMPOS, text(named[0]))
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

// maxAddresses is how many addresses of its own one device tells.
const maxAddresses = 64

// readAddresses reads the addresses that a device has, for routers have many.
func (a *agent) readAddresses() {
	told := 0
	for _, index := range slices.SortedFunc(maps.Keys(a.table(ipAddrEntry, 1)[0]), compareOID) {
		address, err := netip.ParseAddr(index)
		if err != nil || address.IsLoopback() || address.IsUnspecified() || told == maxAddresses {
			continue
		}
		told++
		a.note(keySNMPAddress, address.String())
	}
}

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
	a.note(keySNMPMaker, part.Maker)
	a.note(keySNMPModel, part.Model)
	a.note(evidence.KeySNMPSerial, part.Serial)
	a.note(keySNMPHardware, part.Hardware)
	a.note(keySNMPFirmware, part.Firmware)
	a.note(keySNMPSoftware, part.Software)
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
			a.note(keySNMPDevice, line)
		}
	}
}
