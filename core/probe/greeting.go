package probe

import (
	"bufio"
	"bytes"
	"context"
	"io"
	"net"
	"net/netip"
	"strings"
	"time"

	"airdrift/core/evidence"
)

// Where no protocol is known for a port, nothing is sent and a greeting waited for: some services print, move or fall over when
// they are sent what they do not know.
var _ = register(Protocol{
	Name: "greeting", Source: evidence.SourceText, Cost: Light, AnyPort: true, Talk: greeting(evidence.SourceText, evidence.KeyText),
	Facts: []evidence.Fact{
		{Key: evidence.KeyText, Says: "first line of another service that speaks first", Example: "RFB 003.008", Names: 7, Describes: true},
	},
})

// greeting waits for what a service says of its own accord.
func greeting(source evidence.Source, key string) Talker {
	return func(_ context.Context, conn net.Conn, _ netip.AddrPort, f *found) {
		_ = conn.SetReadDeadline(time.Now().Add(greetingWait))
		f.add(source, key, firstLine(readGreeting(conn, plain)))
	}
}

func plain(raw []byte) []byte { return raw }

// readGreeting reads until a line of the text within is whole, or the time is up, and gives the text.
func readGreeting(r io.Reader, text func(raw []byte) []byte) []byte {
	buf := make([]byte, 0, evidence.MaxValue)
	for len(buf) < cap(buf) {
		n, err := r.Read(buf[len(buf):cap(buf)])
		buf = buf[:len(buf)+n]
		if err != nil || bytes.IndexByte(bytes.TrimLeft(text(buf), "\r\n"), '\n') >= 0 {
			break
		}
	}
	return text(buf)
}

// firstLine gives the first line that is not blank.
func firstLine(text []byte) []byte {
	line, _, _ := bytes.Cut(bytes.TrimLeft(text, "\r\n"), []byte("\n"))
	return bytes.TrimRight(line, "\r")
}

// ask notes the greeting, and where it is of the given code sends a command and gives the first line of the answer. A greeting may
// have several lines, of which the last has a space behind its code.
func ask(conn net.Conn, reader *bufio.Reader, f *found, source evidence.Source, key, command, code string) string {
	_ = conn.SetReadDeadline(time.Now().Add(greetingWait))
	first := readLine(reader)
	f.add(source, key, []byte(first))
	for line := first; strings.HasPrefix(line, code+"-"); {
		line = readLine(reader)
		if strings.HasPrefix(line, code+" ") {
			first = line
			break
		}
		if line == "" {
			return ""
		}
	}
	if !strings.HasPrefix(first, code+" ") && first != code {
		return ""
	}
	_ = conn.SetDeadline(time.Now().Add(greetingWait))
	if _, err := io.WriteString(conn, command); err != nil {
		return ""
	}
	return readLine(reader)
}

// readLine reads a line that is not blank, of evidence.MaxValue bytes at most.
func readLine(reader *bufio.Reader) string {
	var line []byte
	for len(line) < evidence.MaxValue {
		b, err := reader.ReadByte()
		if err != nil || b == '\n' && len(line) > 0 {
			break
		}
		if b != '\n' && b != '\r' {
			line = append(line, b)
		}
	}
	return string(line)
}
