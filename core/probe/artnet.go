package probe

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"net/netip"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
)

// Keys of the facts.
const (
	keyArtNetName     = "artnet.name"
	keyArtNetText     = "artnet.text"
	keyArtNetReport   = "artnet.report"
	keyArtNetFirmware = "artnet.firmware"
	keyArtNetMaker    = "artnet.maker-id"
	keyArtNetProduct  = "artnet.product"
	keyArtNetStyle    = "artnet.style"
	keyArtNetMAC      = "artnet.mac"
	keyArtNetPorts    = "artnet.ports"
)

const artNetPort = 6454

var _ = register(Protocol{
	Name: "art-net", Source: evidence.SourceArtNet, Cost: Light,
	Hear:   hearArtNet,
	Groups: []Group{{At: netip.AddrPortFrom(netip.AddrFrom4([4]byte{255, 255, 255, 255}), artNetPort), Questions: func() ([][]byte, error) { return [][]byte{artPoll()}, nil }, Sparing: true}},
	Facts: []evidence.Fact{
		{Key: keyArtNetName, Says: "short name that its keeper gives it", Standard: "Art-Net 4, ArtPollReply", Example: "balcony left"},
		{Key: keyArtNetText, Says: "long name", Standard: "Art-Net 4, ArtPollReply", Example: "Wick 16 stage node", Names: 8, Describes: true},
		{Key: keyArtNetReport, Says: "its state, in its own words", Standard: "Art-Net 4, ArtPollReply", Example: "#0001 Power on tests passed", Passing: true},
		{Key: keyArtNetFirmware, Says: "version of its firmware", Standard: "Art-Net 4, ArtPollReply", Example: "2.14"},
		{Key: keyArtNetMaker, Says: "number that ESTA has given its maker, in hexadecimal", Standard: "Art-Net 4, ArtPollReply; ANSI E1.20, 5.1", Example: "7ff0"},
		{Key: keyArtNetProduct, Says: "number of the product, in hexadecimal", Standard: "Art-Net 4, Oem", Example: "00ff"},
		{Key: keyArtNetStyle, Says: "what it is", Standard: "Art-Net 4, table 5", Example: "node"},
		{Key: keyArtNetMAC, Says: "the MAC address it gives", Standard: "Art-Net 4, ArtPollReply", Example: "20:e8:bb:00:00:01", Use: evidence.HardwareAddress},
		{Key: keyArtNetPorts, Says: "how many ports it has", Standard: "Art-Net 4, ArtPollReply", Example: "4"},
	},
})

// artNetID begins each message (Art-Net 4, "Packet definition").
var artNetID = []byte("Art-Net\x00")

const (
	artNetPoll  = 0x2000
	artNetReply = 0x2100
)

// artNetStyles are what devices are (Art-Net 4, table 5).
var artNetStyles = map[byte]string{0: "node", 1: "controller", 2: "media server", 3: "router", 4: "backup", 5: "configuration tool", 6: "visualiser"}

// artPoll asks all of a segment who is there, once and for no reports later on.
func artPoll() []byte {
	message := binary.LittleEndian.AppendUint16(bytes.Clone(artNetID), artNetPoll)
	return append(message, 0, 14, 0, 0)
}

// hearArtNet reads who is there. Answers go to the port of the protocol, wherever the question came from.
func hearArtNet(d Datagram) ([]evidence.Item, bool) {
	f := &found{port: evidence.UDP(artNetPort)}
	ok := (d.To == artNetPort || d.From.Port() == artNetPort) && readArtNet(d.Message, f)
	return f.items, ok
}

// readArtNet reads a reply; older devices send less of it than newer ones.
func readArtNet(message []byte, f *found) bool {
	const least = 207
	if len(message) < least || !bytes.HasPrefix(message, artNetID) || binary.LittleEndian.Uint16(message[8:]) != artNetReply {
		return false
	}
	text := func(key string, field []byte) {
		field, _, _ = bytes.Cut(field, []byte{0})
		f.addOnce(evidence.SourceArtNet, key, field)
	}
	add := func(key, format string, values ...any) {
		f.addOnce(evidence.SourceArtNet, key, fmt.Appendf(nil, format, values...))
	}
	text(keyArtNetName, message[26:44])
	text(keyArtNetText, message[44:108])
	text(keyArtNetReport, message[108:172])
	add(keyArtNetFirmware, "%d.%d", message[16], message[17])
	add(keyArtNetMaker, "%04x", binary.LittleEndian.Uint16(message[24:]))
	add(keyArtNetProduct, "%02x%02x", message[20], message[21])
	add(keyArtNetPorts, "%d", binary.BigEndian.Uint16(message[172:]))
	if style := artNetStyles[message[200]]; style != "" {
		add(keyArtNetStyle, "%s", style)
	}
	if mac := hwaddr.MAC(message[201:207]); !mac.IsZero() && !mac.IsGroup() {
		add(keyArtNetMAC, "%s", mac)
	}
	return true
}
