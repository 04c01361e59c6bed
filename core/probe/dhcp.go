package probe

import (
	"fmt"
	"net/netip"
	"strings"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
)

const (
	keyDHCPName    = "dhcp.name"
	keyDHCPVendor  = "dhcp.vendor"
	keyDHCPOptions = "dhcp.options"
)

// What devices say of themselves when they ask for an address, which all of the segment hears. Nothing is asked.
var _ = register(Protocol{
	Name: "dhcp", Source: "dhcp", Cost: Light, HearAbout: hearDHCP,
	Facts: []evidence.Fact{
		{Key: keyDHCPName, Says: "the host name that it asks to be known by", Standard: "RFC 2132, 3.14; RFC 4702", Example: "front-desk-phone", By: evidence.TheHost},
		{Key: keyDHCPVendor, Says: "the class of its maker's that it belongs to", Standard: "RFC 2132, 9.13", Example: "udhcp 1.36.1", Names: 9, Describes: true},
		{Key: keyDHCPOptions, Says: "the options that it wishes for, in its order, by which systems differ", Standard: "RFC 2132, 9.8", Example: "1,3,6,12,15,28,42"},
	},
})

const (
	dhcpServerPort = 67
	dhcpFixed      = 236 // bytes before the options (RFC 2131, 2)
	dhcpRequest    = 1   // BOOTREQUEST
	maxDHCPOptions = 128
)

// Options (RFC 2132, RFC 4702).
const (
	dhcpPad, dhcpHostName, dhcpWishes, dhcpClass, dhcpFQDN, dhcpEnd = 0, 12, 55, 60, 81, 255
)

var dhcpMagic = []byte{0x63, 0x82, 0x53, 0x63}

// hearDHCP reads a client's request. It tells of the address that the client has, or asks for again; what has none yet is told of by
// its MAC.
func hearDHCP(d Datagram) (about About, ok bool) {
	m := d.Message
	if d.To != dhcpServerPort || len(m) < dhcpFixed+4 || m[0] != dhcpRequest || m[1] != 1 || m[2] != 6 || string(m[dhcpFixed:dhcpFixed+4]) != string(dhcpMagic) {
		return About{}, false
	}
	if hwaddr.MAC(m[28:34]) != d.MAC {
		return About{}, false // a relay's, of a device elsewhere
	}
	f := &found{port: evidence.UDP(68)}
	if own := netip.AddrFrom4([4]byte(m[12:16])); !own.IsUnspecified() {
		about.Addr = own
	}
	for rest, count := m[dhcpFixed+4:], 0; len(rest) > 0 && rest[0] != dhcpEnd && count < maxDHCPOptions; count++ {
		if rest[0] == dhcpPad {
			rest = rest[1:]
			continue
		}
		if len(rest) < 2 || len(rest) < 2+int(rest[1]) {
			break
		}
		f.takeDHCP(rest[0], rest[2:2+int(rest[1])])
		rest = rest[2+int(rest[1]):]
	}
	about.Items = f.items
	return about, len(f.items) > 0
}

func (f *found) takeDHCP(option byte, value []byte) {
	switch option {
	case dhcpHostName:
		f.addOnce("dhcp", keyDHCPName, value)
	case dhcpClass:
		f.addOnce("dhcp", keyDHCPVendor, value)
	case dhcpFQDN:
		if len(value) > 3 && value[0]&4 == 0 { // else it is in the form of the wire (RFC 4702, 2.1)
			f.addOnce("dhcp", keyDHCPName, value[3:])
		}
	case dhcpWishes:
		wishes := make([]string, len(value))
		for i, o := range value {
			wishes[i] = fmt.Sprint(o)
		}
		f.addOnce("dhcp", keyDHCPOptions, []byte(strings.Join(wishes, ",")))
	}
}
