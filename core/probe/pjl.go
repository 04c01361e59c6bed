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

// pjlQuestion asks for the model and the state in the printer job language, between universal exits, so that it is never
// taken for a page.
const pjlQuestion = "\x1b%-12345X@PJL\r\n@PJL INFO ID\r\n@PJL INFO STATUS\r\n\x1b%-12345X"

// AskPJL asks at the raw printing port of a printer that has said it understands the language (PrintsByPJL).
func AskPJL(ctx context.Context, conn net.Conn, addr netip.AddrPort) []evidence.Item {
	defer conn.Close()
	_ = conn.SetDeadline(time.Now().Add(exchangeWait))
	stop := context.AfterFunc(ctx, func() { _ = conn.SetDeadline(time.Unix(1, 0)) })
	defer stop()
	f := &found{port: evidence.TCP(addr.Port())}
	if _, err := conn.Write([]byte(pjlQuestion)); err != nil {
		return nil
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
	return f.items
}

// readPJL reads the answers: each begins with the command it answers, and ends with a form feed.
func readPJL(answer []byte, f *found) {
	for part := range bytes.SplitSeq(answer, []byte("\f")) {
		text := strings.TrimSpace(string(part))
		if rest, ok := strings.CutPrefix(text, "@PJL INFO ID"); ok {
			f.add(evidence.SourcePJL, evidence.KeyPJLID, []byte(strings.Trim(strings.TrimSpace(rest), `"`)))
		}
		if rest, ok := strings.CutPrefix(text, "@PJL INFO STATUS"); ok {
			f.add(evidence.SourcePJL, evidence.KeyPJLStatus, []byte(strings.Join(strings.Fields(rest), " ")))
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
