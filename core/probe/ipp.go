package probe

import (
	"bufio"
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"strings"
	"time"

	"airdrift/core/evidence"
)

// ippAttributes are asked for and kept (RFC 8011, 5.4, and PWG 5100.13).
var ippAttributes = []struct{ name, key string }{
	{"printer-make-and-model", evidence.KeyIPPModel},
	{"printer-name", evidence.KeyIPPName},
	{"printer-info", evidence.KeyIPPInfo},
	{"printer-location", evidence.KeyIPPLocation},
	{"printer-device-id", evidence.KeyIPPDevice},
	{"printer-firmware-string-version", evidence.KeyIPPFirmware},
	{"printer-state", evidence.KeyIPPState},
	{"ipp-versions-supported", evidence.KeyIPPVersion},
	{"printer-uri-supported", evidence.KeyIPPURI},
	{"printer-uuid", evidence.KeyIPPID},
}

// ippPaths are where printers take requests; the first that answers is believed.
var ippPaths = []string{"/ipp/print", "/ipp", "/"}

// ippStates are the states of a printer (RFC 8011, 5.4.11).
var ippStates = map[uint32]string{3: "idle", 4: "processing", 5: "stopped"}

// talkIPP asks for the start page, and on a further connection what the printer says of itself. Nothing is printed.
func talkIPP(ctx context.Context, conn net.Conn, addr netip.AddrPort, f *found) {
	page := startPage("http", addr)
	talkPages(ctx, conn, page, f)
	if evidence.First(f.items, evidence.KeyHTTPStatus) == "" {
		return // who does not speak HTTP does not speak IPP
	}
	for _, path := range ippPaths {
		if goOn := askPrinter(ctx, f, page, path); !goOn {
			return
		}
	}
}

// askPrinter sends Get-Printer-Attributes (RFC 8011, 4.2.5) and reports whether another path is worth trying: the answer was
// none of IPP's with attributes of a printer, and came in time.
func askPrinter(ctx context.Context, f *found, page *url.URL, path string) (goOn bool) {
	conn, err := openPage(ctx, f, page)
	if err != nil {
		return false
	}
	defer conn.Close()
	_ = conn.SetDeadline(time.Now().Add(exchangeWait))
	request := printerRequest("ipp://" + page.Host + path)
	_, err = fmt.Fprintf(conn, "POST %s HTTP/1.1\r\nHost: %s\r\nUser-Agent: airdrift\r\nContent-Type: application/ipp\r\nContent-Length: %d\r\nConnection: close\r\n\r\n%s",
		path, page.Host, len(request), request)
	if err != nil {
		return false
	}
	resp, err := http.ReadResponse(bufio.NewReader(io.LimitReader(conn, maxAnswer)), nil)
	if err != nil {
		return false
	}
	defer resp.Body.Close()
	body, _ := io.ReadAll(io.LimitReader(resp.Body, maxAnswer)) // what breaks off is read up to there
	return resp.StatusCode != http.StatusOK || !readPrinter(body, f)
}

// Tags that delimit groups of attributes, and of values (RFC 8010, 3.5).
const (
	ippOperation = 0x01
	ippEnd       = 0x03
	ippPrinter   = 0x04
	ippInteger   = 0x21
	ippEnum      = 0x23
	ippKeyword   = 0x44
	ippURI       = 0x45
	ippCharset   = 0x47
	ippLanguage  = 0x48
)

func printerRequest(uri string) []byte {
	request := []byte{1, 1, 0, 0x0b, 0, 0, 0, 1, ippOperation}
	add := func(tag byte, name, value string) {
		request = append(request, tag)
		request = binary.BigEndian.AppendUint16(request, uint16(len(name)))
		request = append(request, name...)
		request = binary.BigEndian.AppendUint16(request, uint16(len(value)))
		request = append(request, value...)
	}
	add(ippCharset, "attributes-charset", "utf-8")
	add(ippLanguage, "attributes-natural-language", "en")
	add(ippURI, "printer-uri", uri)
	for i, attribute := range ippAttributes {
		name := ""
		if i == 0 {
			name = "requested-attributes"
		}
		add(ippKeyword, name, attribute.name)
	}
	return append(request, ippEnd)
}

// readPrinter reads an answer (RFC 8010, 3.1), and reports whether it had attributes of a printer.
func readPrinter(body []byte, f *found) bool {
	const head = 8
	if len(body) < head || body[0] == 0 || body[0] > 9 {
		return false
	}
	keys := map[string]string{}
	for _, a := range ippAttributes {
		keys[a.name] = a.key
	}
	printer, any := false, false
	name := ""
	for rest := body[head:]; len(rest) > 0; {
		tag := rest[0]
		if tag < 0x10 { // a delimiter
			if tag == ippEnd {
				break
			}
			printer = tag == ippPrinter
			rest = rest[1:]
			continue
		}
		field, value, after, ok := ippValue(rest[1:])
		if !ok {
			break
		}
		rest = after
		if len(field) > 0 { // a value without a name is one more of the attribute before
			name = string(field)
		}
		if key := keys[name]; printer && key != "" {
			any = true
			f.addOnce(evidence.SourceIPP, key, ippText(tag, key, value))
		}
	}
	return any
}

// ippValue cuts the name and the value of one attribute off.
func ippValue(rest []byte) (name, value, after []byte, ok bool) {
	for _, part := range []*[]byte{&name, &value} {
		if len(rest) < 2 {
			return nil, nil, nil, false
		}
		length := int(binary.BigEndian.Uint16(rest))
		if rest = rest[2:]; length > len(rest) {
			return nil, nil, nil, false
		}
		*part, rest = rest[:length], rest[length:]
	}
	return name, value, rest, true
}

// ippText makes a value readable; what is neither number nor text tells nothing.
func ippText(tag byte, key string, value []byte) []byte {
	const textFrom, textWith = 0x40, 0x35
	switch {
	case (tag == ippInteger || tag == ippEnum) && len(value) == 4:
		n := binary.BigEndian.Uint32(value)
		if key == evidence.KeyIPPState && ippStates[n] != "" {
			return []byte(ippStates[n])
		}
		return fmt.Appendf(nil, "%d", n)
	case tag >= textFrom:
		return value
	case tag == textWith || tag == textWith+1: // with a language before it (RFC 8010, 3.9)
		if _, text, _, ok := ippValue(value); ok {
			return text
		}
	}
	return nil
}

// PrintsByPJL reports whether a device has said that it understands the printer job language (IEEE 1284.4 device identifier,
// its command set), so that a question in it is not printed.
func PrintsByPJL(items []evidence.Item) bool {
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
