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
	keyArtNetUniverse = "artnet.universe"
	keyArtNetRDM      = "artnet.rdm"
)

const artNetPort = 6454

var _ = register(Protocol{
	Name: "art-net", Source: evidence.SourceArtNet, Cost: Light,
	Hear:   hearArtNet,
	Blinks: artNetCanBlink, Blink: artNetBlink,
	Groups: []Group{{At: netip.AddrPortFrom(netip.AddrFrom4([4]byte{255, 255, 255, 255}), artNetPort), Questions: func() ([][]byte, error) { return [][]byte{artPoll()}, nil }, Sparing: true, Follow: artTables}},
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
		{Key: keyArtNetUniverse, Says: "a universe that it puts out and asks for its devices: net, sub-net and universe; at most 4", Standard: "Art-Net 4, ArtPollReply", Example: "0.1.3"},
		{Key: keyArtNetRDM, Says: "a device on its outputs, by the number of its maker and its own; at most 32", Standard: "Art-Net 4, ArtTodData; ANSI E1.20, 5.1", Example: "7ff0:00000012"},
	},
})

// artNetID begins each message (Art-Net 4, "Packet definition").
var artNetID = []byte("Art-Net\x00")

const (
	artNetPoll  = 0x2000
	artNetReply = 0x2100
	artNetWants = 0x8000 // the table of devices of a universe
	artNetTable = 0x8100

	artNetVersion = 14
	maxArtTables  = 32 // that are asked for of one net
)

// artNetStyles are what devices are (Art-Net 4, table 5).
var artNetStyles = map[byte]string{0: "node", 1: "controller", 2: "media server", 3: "router", 4: "backup", 5: "configuration tool", 6: "visualiser"}

// artPoll asks all of a segment what is there, once and for no reports later on.
func artPoll() []byte {
	message := binary.LittleEndian.AppendUint16(bytes.Clone(artNetID), artNetPoll)
	return append(message, 0, artNetVersion, 0, 0)
}

// artTables asks for the devices of the universes that nodes have told, net by net: the nodes know them, and ask none of them anew.
func artTables(heard [][]evidence.Item) ([][]byte, error) {
	var nets [128][]byte
	for _, items := range heard {
		for _, text := range evidence.Values(items, keyArtNetUniverse) {
			var n, sub, universe byte
			if _, err := fmt.Sscanf(text, "%d.%d.%d", &n, &sub, &universe); err != nil || n > 127 || sub > 15 || universe > 15 {
				continue
			}
			if at := sub<<4 | universe; !bytes.Contains(nets[n], []byte{at}) && len(nets[n]) < maxArtTables {
				nets[n] = append(nets[n], at)
			}
		}
	}
	var questions [][]byte
	for n, universes := range nets {
		if len(universes) == 0 {
			continue
		}
		message := binary.LittleEndian.AppendUint16(bytes.Clone(artNetID), artNetWants)
		message = append(message, 0, artNetVersion, 0, 0, 0, 0, 0, 0, 0, 0, 0, byte(n), 0, byte(len(universes)))
		message = append(message, universes...)
		questions = append(questions, append(message, make([]byte, maxArtTables-len(universes))...))
	}
	return questions, nil
}

// readArtTable reads a part of the table of one universe (Art-Net 4, ArtTodData).
func readArtTable(message []byte, f *found) bool {
	const head, uid = 28, 6
	if len(message) < head || !bytes.HasPrefix(message, artNetID) || binary.LittleEndian.Uint16(message[8:]) != artNetTable {
		return false
	}
	rest := message[head:]
	for range message[27] {
		if len(rest) < uid {
			break
		}
		f.addOnce(evidence.SourceArtNet, keyArtNetRDM, fmt.Appendf(nil, "%x:%x", rest[:2], rest[2:uid]))
		rest = rest[uid:]
	}
	return len(f.items) > 0
}

// addUniverses notes what a node puts out where it can ask for the devices there (Art-Net 4, ArtPollReply, Status1, PortTypes, SwOut).
func (f *found) addUniverses(message []byte) {
	const knowsRDM, output = 0x02, 0x80
	if message[23]&knowsRDM == 0 {
		return
	}
	for port := range min(int(message[173]), 4) {
		if message[174+port]&output != 0 {
			f.addOnce(evidence.SourceArtNet, keyArtNetUniverse, fmt.Appendf(nil, "%d.%d.%d", message[18]&0x7f, message[19]&0x0f, message[190+port]&0x0f))
		}
	}
}

// hearArtNet reads what is there. Answers go to the port of the protocol, wherever the question came from.
func hearArtNet(d Datagram) ([]evidence.Item, bool) {
	f := &found{port: evidence.UDP(artNetPort)}
	ok := (d.To == artNetPort || d.From.Port() == artNetPort) && (readArtNet(d.Message, f) || readArtTable(d.Message, f))
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
	f.addUniverses(message)
	if style := artNetStyles[message[200]]; style != "" {
		add(keyArtNetStyle, "%s", style)
	}
	if mac := hwaddr.MAC(message[201:207]); !mac.IsZero() && !mac.IsGroup() {
		add(keyArtNetMAC, "%s", mac)
	}
	return true
}
