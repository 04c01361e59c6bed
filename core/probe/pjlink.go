package probe

import (
	"bufio"
	"context"
	"io"
	"net"
	"net/netip"
	"strings"
	"time"

	"airdrift/core/evidence"
)

// Keys of the facts.
const (
	keyPJLinkSecurity = "pjlink.security"
	keyPJLinkClass    = "pjlink.class"
	keyPJLinkName     = "pjlink.name"
	keyPJLinkMaker    = "pjlink.maker"
	keyPJLinkModel    = "pjlink.model"
	keyPJLinkInfo     = "pjlink.info"
	keyPJLinkSerial   = "pjlink.serial"
	keyPJLinkFirmware = "pjlink.firmware"
)

var _ = register(Protocol{
	Name: "pjlink", Source: evidence.SourcePJLink, Cost: Light,
	Ports: []uint16{4352}, Telling: []uint16{4352}, Talk: talkPJLink,
	Facts: []evidence.Fact{
		{Key: keyPJLinkSecurity, Says: "whether anybody may ask it", Standard: "JBMIA PJLink class 1, 5.1", Example: "open to all"},
		{Key: keyPJLinkClass, Says: "class of the protocol", Standard: "JBMIA PJLink class 1, 4.13", Example: "2"},
		{Key: keyPJLinkName, Says: "name that its keeper gives it", Standard: "JBMIA PJLink class 1, 4.9", Example: "lecture hall"},
		{Key: keyPJLinkMaker, Says: "maker", Standard: "JBMIA PJLink class 1, 4.10", Example: "Vesperlight Displays", Names: 13},
		{Key: keyPJLinkModel, Says: "model", Standard: "JBMIA PJLink class 1, 4.11", Example: "Beam 7", Describes: true},
		{Key: keyPJLinkInfo, Says: "more, in its maker's words", Standard: "JBMIA PJLink class 1, 4.12", Example: "lamp 2"},
		{Key: keyPJLinkSerial, Says: "serial number", Standard: "JBMIA PJLink class 2, 4.2", Example: "E7J0000001"},
		{Key: keyPJLinkFirmware, Says: "version of its software", Standard: "JBMIA PJLink class 2, 4.3", Example: "1.04"},
	},
})

// pjlinkQuestions are the commands that ask, with the keys of their facts.
var pjlinkQuestions = []struct{ command, key string }{
	{"%1CLSS", keyPJLinkClass}, {"%1NAME", keyPJLinkName}, {"%1INF1", keyPJLinkMaker}, {"%1INF2", keyPJLinkModel}, {"%1INFO", keyPJLinkInfo},
	{"%2SNUM", keyPJLinkSerial}, {"%2SVER", keyPJLinkFirmware},
}

// talkPJLink hears whether a projector or a display lets anybody ask, and then asks what it is. Nothing is switched.
func talkPJLink(_ context.Context, conn net.Conn, _ netip.AddrPort, f *found) {
	reader := bufio.NewReader(io.LimitReader(conn, maxAnswer))
	_ = conn.SetDeadline(time.Now().Add(2 * greetingWait))
	greeting := readPJLinkLine(reader)
	switch {
	case strings.HasPrefix(greeting, "PJLINK 1 "):
		f.add(evidence.SourcePJLink, keyPJLinkSecurity, []byte("wants a password"))
		return
	case greeting != "PJLINK 0":
		return
	}
	f.add(evidence.SourcePJLink, keyPJLinkSecurity, []byte("open to all"))
	_ = conn.SetDeadline(time.Now().Add(exchangeWait))
	second := false
	for _, q := range pjlinkQuestions {
		if q.command[1] == '2' && !second {
			continue
		}
		if _, err := io.WriteString(conn, q.command+" ?\r"); err != nil {
			return
		}
		command, value, ok := strings.Cut(readPJLinkLine(reader), "=")
		if !ok || command != q.command {
			return
		}
		if strings.HasPrefix(value, "ERR") {
			continue
		}
		f.add(evidence.SourcePJLink, q.key, []byte(value))
		second = second || q.key == keyPJLinkClass && value >= "2"
	}
}

// readPJLinkLine reads up to a carriage return (class 1, 2.2).
func readPJLinkLine(reader *bufio.Reader) string {
	var line []byte
	for len(line) < evidence.MaxValue {
		b, err := reader.ReadByte()
		if err != nil || b == '\r' {
			break
		}
		line = append(line, b)
	}
	return string(line)
}
