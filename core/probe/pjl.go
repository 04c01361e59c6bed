package probe

import (
	"bytes"
	"context"
	"net"
	"net/netip"
	"strings"
	"time"

	"airdrift/core/evidence"
)

// Keys of the facts.
const (
	keyPJLID     = "pjl.id"
	keyPJLStatus = "pjl.status"
)

var _ = register(Protocol{
	Name: "pjl", Source: evidence.SourcePJL, Cost: Demanding,
	Ports: []uint16{9100}, Telling: []uint16{9100}, RollCall: []uint16{9100}, Talk: talkPJL, When: printsByPJL,
	Facts: []evidence.Fact{
		{Key: keyPJLID, Says: "model; asked only of printers that say they understand the language, and not at the gentlest pace", Standard: "printer job language", Example: "Inkwell 220", Names: 10, Describes: true},
		{Key: keyPJLStatus, Says: "state, in its own words", Standard: "printer job language", Example: `CODE=10001 DISPLAY="Ready"`},
	},
})

// pjlQuestion asks for the model and the state in the printer job language, between universal exits, so that it is never
// taken for a page.
const pjlQuestion = "\x1b%-12345X@PJL\r\n@PJL INFO ID\r\n@PJL INFO STATUS\r\n\x1b%-12345X"

// talkPJL asks at the raw printing port of a printer that has said it understands the language (printsByPJL).
func talkPJL(_ context.Context, conn net.Conn, _ netip.AddrPort, f *found) {
	if _, err := conn.Write([]byte(pjlQuestion)); err != nil {
		return
	}
	_ = conn.SetReadDeadline(time.Now().Add(2 * greetingWait))
	answer := make([]byte, 0, 4096)
	for len(answer) < cap(answer) && !bytes.Contains(answer, []byte("ONLINE=")) {
		n, err := conn.Read(answer[len(answer):cap(answer)])
		answer = answer[:len(answer)+n]
		if err != nil {
			break
		}
	}
	readPJL(answer, f)
}

// readPJL reads the answers: each begins with the command it answers, and ends with a form feed.
func readPJL(answer []byte, f *found) {
	for part := range bytes.SplitSeq(answer, []byte("\f")) {
		text := strings.TrimSpace(string(part))
		if rest, ok := strings.CutPrefix(text, "@PJL INFO ID"); ok {
			f.add(evidence.SourcePJL, keyPJLID, []byte(strings.Trim(strings.TrimSpace(rest), `"`)))
		}
		if rest, ok := strings.CutPrefix(text, "@PJL INFO STATUS"); ok {
			f.add(evidence.SourcePJL, keyPJLStatus, []byte(strings.Join(strings.Fields(rest), " ")))
		}
	}
}

// deviceIDField gives the first of some fields of an IEEE 1284 device identifier, in which fields are "KEY:value;".
func deviceIDField(id string, names ...string) string {
	for field := range strings.SplitSeq(id, ";") {
		key, value, ok := strings.Cut(field, ":")
		for _, name := range names {
			if ok && strings.EqualFold(strings.TrimSpace(key), name) {
				return strings.TrimSpace(value)
			}
		}
	}
	return ""
}

// printsByPJL reports whether a device has said that it understands the printer job language (IEEE 1284.4 device identifier,
// its command set), so that a question in it is not printed.
func printsByPJL(items []evidence.Item) bool {
	for _, item := range items {
		commands := ""
		switch item.Key {
		case evidence.KeyIPPDevice:
			commands = deviceIDField(item.Value, "COMMAND SET", "CMD")
		case evidence.KeyMDNSText:
			_, commands, _ = strings.Cut(item.Value, " usb_CMD=")
		}
		if strings.Contains(strings.ToUpper(commands), "PJL") {
			return true
		}
	}
	return false
}
