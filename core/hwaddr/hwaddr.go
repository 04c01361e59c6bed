// Package hwaddr holds the MAC address as a small comparable value, and tells the kinds of MAC address apart.
package hwaddr

import (
	"encoding/hex"
	"fmt"
	"net"
	"strings"
)

// MAC is a 48-bit IEEE 802 MAC address (EUI-48). The zero value means "not known".
type MAC [6]byte

// Broadcast is the address of every station on the segment (IEEE 802-2014, 8.2.2).
var Broadcast = MAC{0xff, 0xff, 0xff, 0xff, 0xff, 0xff}

// Parse reads a MAC address of twelve hexadecimal digits, written with colons, hyphens or dots
// (02:00:5e:10:00:01, 02-00-5E-10-00-01, 0200.5e10.0001) or without any separator.
func Parse(text string) (MAC, error) {
	digits := strings.Map(dropSeparator, strings.TrimSpace(text))
	var mac MAC
	if len(digits) != 12 {
		return MAC{}, fmt.Errorf("%q is not a MAC address: want 12 hexadecimal digits such as 3c:5a:b4:01:02:03, got %d characters", text, len(digits))
	}
	if _, err := hex.Decode(mac[:], []byte(digits)); err != nil {
		return MAC{}, fmt.Errorf("%q is not a MAC address: it holds a character that is no hexadecimal digit", text)
	}
	return mac, nil
}

func dropSeparator(r rune) rune {
	switch r {
	case ':', '-', '.':
		return -1
	}
	return r
}

// MustParse is Parse for constants in code; it panics on a malformed text.
func MustParse(text string) MAC {
	mac, err := Parse(text)
	if err != nil {
		panic(err)
	}
	return mac
}

// FromHardware converts the standard library's form; anything that is not 48 bits long gives the zero MAC.
func FromHardware(hw net.HardwareAddr) MAC {
	var mac MAC
	if len(hw) == len(mac) {
		copy(mac[:], hw)
	}
	return mac
}

// Hardware gives the standard library's form.
func (m MAC) Hardware() net.HardwareAddr { return net.HardwareAddr(m[:]) }

// IsZero reports whether the address is not known.
func (m MAC) IsZero() bool { return m == MAC{} }

// IsGroup reports whether the address names a group of stations (the I/G bit of IEEE 802-2014, 8.2.2).
// A group address is never the address of one device.
func (m MAC) IsGroup() bool { return m[0]&0x01 != 0 }

// IsPrivate reports whether the address is locally administered (the U/L bit of IEEE 802-2014, 8.2.2),
// as phones choose at random for each wireless network. It tells nothing of the maker.
func (m MAC) IsPrivate() bool { return m[0]&0x02 != 0 }

// IsShared reports whether the address belongs to a virtual router that several devices take turns at,
// so that it identifies none of them: VRRP (RFC 9568, 7.3) and its common predecessors.
func (m MAC) IsShared() bool {
	switch {
	case m[0] == 0 && m[1] == 0 && m[2] == 0x5e && m[3] == 0 && (m[4] == 1 || m[4] == 2):
		return true
	case m[0] == 0 && m[1] == 0 && m[2] == 0x0c && m[3] == 0x07 && m[4] == 0xac:
		return true
	case m[0] == 0 && m[1] == 0 && m[2] == 0x0c && m[3] == 0x9f && m[4]&0xf0 == 0xf0:
		return true
	}
	return false
}

// String gives six lower-case octets with colons, or "" for the zero MAC.
func (m MAC) String() string {
	if m.IsZero() {
		return ""
	}
	return m.Hardware().String()
}

// MarshalText writes the form of String.
func (m MAC) MarshalText() ([]byte, error) { return []byte(m.String()), nil }

// UnmarshalText reads any form that Parse reads; an empty text gives the zero MAC.
func (m *MAC) UnmarshalText(text []byte) error {
	if len(text) == 0 {
		*m = MAC{}
		return nil
	}
	mac, err := Parse(string(text))
	if err != nil {
		return err
	}
	*m = mac
	return nil
}
