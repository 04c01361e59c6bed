package probe

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"net/netip"

	"airdrift/core/evidence"
)

// Keys of the facts.
const (
	keySACNName      = "sacn.name"
	keySACNComponent = "sacn.component"
	keySACNUniverse  = "sacn.universe"
)

const sacnPort = 5568

var _ = register(Protocol{
	Name: "sacn", Source: evidence.SourceSACN, Cost: Light,
	Hear:   hearSACN,
	Groups: []Group{{At: netip.MustParseAddrPort("239.255.250.214:5568")}},
	Facts: []evidence.Fact{
		{Key: keySACNName, Says: "name that its keeper gives what sends light", Standard: "ANSI E1.31, 6.2.2", Example: "main console", Describes: true, By: evidence.TheKeeper},
		{Key: keySACNComponent, Says: "identifier of what sends", Standard: "ANSI E1.31, 5.6", Example: "00112233445566778899aabbccddeeff", Use: evidence.Identifier},
		{Key: keySACNUniverse, Says: "number of a universe that it sends", Standard: "ANSI E1.31, 8.5", Example: "1"},
	},
})

// Of packets (ANSI E1.31, 4.3, 5, 6.4, 8).
const (
	sacnExtended  = 8
	sacnDiscovery = 2
	sacnLists     = 120 // where the numbers of the universes begin
)

var sacnPreamble = []byte("\x00\x10\x00\x00ASC-E1.17\x00\x00\x00")

// hearSACN reads which universes a device says that it sends, every ten seconds. Nobody is asked.
func hearSACN(d Datagram) ([]evidence.Item, bool) {
	m := d.Message
	if d.To != sacnPort || len(m) < sacnLists || !bytes.HasPrefix(m, sacnPreamble) || binary.BigEndian.Uint32(m[18:]) != sacnExtended || binary.BigEndian.Uint32(m[40:]) != sacnDiscovery {
		return nil, false
	}
	f := &found{port: evidence.UDP(sacnPort)}
	name, _, _ := bytes.Cut(m[44:108], []byte{0})
	f.add(evidence.SourceSACN, keySACNName, name)
	f.add(evidence.SourceSACN, keySACNComponent, fmt.Appendf(nil, "%x", m[22:38]))
	for rest := m[sacnLists:]; len(rest) >= 2; rest = rest[2:] {
		f.addOnce(evidence.SourceSACN, keySACNUniverse, fmt.Appendf(nil, "%d", binary.BigEndian.Uint16(rest)))
	}
	return f.items, true
}
