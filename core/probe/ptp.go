package probe

import (
	"encoding/binary"
	"fmt"
	"net/netip"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
)

// Keys of the facts.
const (
	keyPTPClock  = "ptp.clock"
	keyPTPMaster = "ptp.master"
	keyPTPDomain = "ptp.domain"
	keyPTPClass  = "ptp.class"
	keyPTPSource = "ptp.source"
	keyPTPMAC    = "ptp.mac"
)

const ptpPort = 320

var _ = register(Protocol{
	Name: "ptp", Source: evidence.SourcePTP, Cost: Light,
	Hear:   hearPTP,
	Groups: []Group{{At: netip.MustParseAddrPort("224.0.1.129:320")}},
	Facts: []evidence.Fact{
		{Key: keyPTPClock, Says: "identity of its clock, where it announces that it gives the time", Standard: "IEEE 1588-2019, 7.5.2", Example: "f0e7c7fffe000001", Use: evidence.Identifier},
		{Key: keyPTPMaster, Says: "identity of the clock that it goes by, where that is another's", Standard: "IEEE 1588-2019, 13.5", Example: "f0e7c7fffe000002"},
		{Key: keyPTPDomain, Says: "number of the domain", Standard: "IEEE 1588-2019, 7.1", Example: "0"},
		{Key: keyPTPClass, Says: "class of the clock", Standard: "IEEE 1588-2019, 7.6.2.5", Example: "6"},
		{Key: keyPTPSource, Says: "what the clock goes by", Standard: "IEEE 1588-2019, 7.6.2.8", Example: "GNSS"},
		{Key: keyPTPMAC, Says: "the MAC address that the identity of its clock is made of", Standard: "IEEE 1588-2019, 7.5.2.2", Example: "f0:e7:c7:00:00:01", Use: evidence.HardwareAddress},
	},
})

const (
	ptpAnnounce = 0x0b
	ptpLength   = 64 // of an announcement (IEEE 1588-2019, 13.5)
)

// ptpSources are what clocks go by (IEEE 1588-2019, table 6).
var ptpSources = map[byte]string{0x10: "atomic clock", 0x20: "GNSS", 0x30: "terrestrial radio", 0x39: "serial time code", 0x40: "PTP", 0x50: "NTP", 0x60: "set by hand", 0x90: "other", 0xa0: "its own oscillator"}

// hearPTP reads what announces that it gives the time. Nobody is asked.
func hearPTP(d Datagram) ([]evidence.Item, bool) {
	m := d.Message
	if d.To != ptpPort || len(m) < ptpLength || m[0]&15 != ptpAnnounce || m[1]&15 != 2 || int(binary.BigEndian.Uint16(m[2:])) > len(m) {
		return nil, false
	}
	f := &found{port: evidence.UDP(ptpPort)}
	add := func(key, format string, values ...any) {
		f.add(evidence.SourcePTP, key, fmt.Appendf(nil, format, values...))
	}
	clock, master := m[20:28], m[53:61]
	add(keyPTPClock, "%x", clock)
	if string(clock) != string(master) {
		add(keyPTPMaster, "%x", master)
	} else {
		add(keyPTPClass, "%d", m[48])
		f.add(evidence.SourcePTP, keyPTPSource, []byte(ptpSources[m[63]]))
	}
	add(keyPTPDomain, "%d", m[4])
	if clock[3] == 0xff && clock[4] == 0xfe {
		if mac := (hwaddr.MAC{clock[0], clock[1], clock[2], clock[5], clock[6], clock[7]}); !mac.IsGroup() && !mac.IsZero() {
			add(keyPTPMAC, "%s", mac)
		}
	}
	return f.items, true
}
