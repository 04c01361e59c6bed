package probe

import (
	"bytes"
	"context"
	"encoding/binary"
	"math/rand/v2"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
)

// Keys of the facts.
const (
	keyNetBIOSName  = "netbios.name"
	keyNetBIOSGroup = "netbios.group"
	keyNetBIOSRole  = "netbios.role"
	keyNetBIOSMAC   = "netbios.mac"
)

var _ = register(Protocol{
	Name: "netbios", Source: evidence.SourceNetBIOS, Cost: Light,
	Port: evidence.UDP(netbiosPort), Ask: askNetBIOS,
	Facts: []evidence.Fact{
		{Key: keyNetBIOSName, Says: "its own name", Standard: "RFC 1002, 4.2.18", Example: "DESK", By: evidence.TheHost},
		{Key: keyNetBIOSGroup, Says: "name of its group", Standard: "RFC 1002, 4.2.18", Example: "GARDEN"},
		{Key: keyNetBIOSRole, Says: "what a name's suffix stands for", Standard: "RFC 1001", Example: "file server"},
		{Key: keyNetBIOSMAC, Says: "the MAC address it gives", Standard: "RFC 1002, 4.2.18", Example: "90:b8:8d:00:00:01", Use: evidence.HardwareAddress},
	},
})

const netbiosPort = 137

// nbNodeStatus is the type of a node status request (RFC 1002, 4.2.17).
const nbNodeStatus = 0x21

// askNetBIOS asks for a node's names and MAC address (RFC 1002, 4.2.17).
func askNetBIOS(ctx context.Context, q Query) ([]evidence.Item, bool) {
	f, to := q.byDatagram(netbiosPort)
	id := uint16(rand.Uint32())
	err := exchange(ctx, q.Dialer, to, nodeStatus(id), q.Wait, func(answer []byte) verdict { return readNodeStatus(answer, id, f) })
	return f.items, err == nil
}

// nodeStatus makes the request for all names, which goes by the name "*" (RFC 1002, 4.1).
func nodeStatus(id uint16) []byte {
	request := binary.BigEndian.AppendUint16(nil, id)
	request = append(request, 0, 0, 0, 1, 0, 0, 0, 0, 0, 0, 32)
	request = append(request, "CKAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA"...)
	return append(request, 0, 0, nbNodeStatus, 0, 1)
}

// nbRoles are the services that a name's last byte stands for.
var nbRoles = map[byte]string{0x20: "file server", 0x1b: "domain master browser", 0x1c: "domain controller", 0x1d: "master browser"}

func readNodeStatus(answer []byte, id uint16, f *found) verdict {
	if len(answer) < 12 || binary.BigEndian.Uint16(answer) != id || answer[2]&0x80 == 0 || binary.BigEndian.Uint16(answer[6:]) == 0 {
		return ignore
	}
	rest := answer[12:]
	for len(rest) > 0 && rest[0] != 0 && rest[0]&0xc0 == 0 { // the labels of the name
		rest = rest[min(len(rest), int(rest[0])+1):]
	}
	pointer := 1
	if len(rest) > 0 && rest[0]&0xc0 != 0 {
		pointer = 2
	}
	if len(rest) < pointer+11 || binary.BigEndian.Uint16(rest[pointer:]) != nbNodeStatus {
		return ignore
	}
	rest = rest[pointer+10:]
	count := int(rest[0])
	rest = rest[1:]
	for ; count > 0 && len(rest) >= 18; count-- {
		addNodeName(f, bytes.TrimRight(rest[:15], " \x00"), rest[15], rest[16]&0x80 != 0)
		rest = rest[18:]
	}
	if count == 0 && len(rest) >= 6 {
		if mac := hwaddr.MAC(rest[:6]); !mac.IsZero() && !mac.IsGroup() {
			f.add(evidence.SourceNetBIOS, keyNetBIOSMAC, []byte(mac.String()))
		}
	}
	return enough
}

func addNodeName(f *found, name []byte, suffix byte, group bool) {
	switch {
	case suffix == 0 && group:
		f.add(evidence.SourceNetBIOS, keyNetBIOSGroup, name)
	case suffix == 0:
		f.add(evidence.SourceNetBIOS, keyNetBIOSName, name)
	case nbRoles[suffix] != "":
		f.add(evidence.SourceNetBIOS, keyNetBIOSRole, []byte(nbRoles[suffix]))
	}
}
