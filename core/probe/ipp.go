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
	"time"

	"airdrift/core/evidence"
)

// Keys of the facts.
const (
	keyIPPName     = "ipp.name"
	keyIPPInfo     = "ipp.info"
	keyIPPLocation = "ipp.location"
	keyIPPFirmware = "ipp.firmware"
	keyIPPState    = "ipp.state"
	keyIPPVersion  = "ipp.version"
	keyIPPURI      = "ipp.uri"
	keyIPPID       = "ipp.id"
	keyIPPIdentify = "ipp.identify"
)

var _ = register(Protocol{
	Name: "ipp", Source: evidence.SourceIPP, Cost: Middling,
	Ports: []uint16{631}, Usual: []uint16{631}, Telling: []uint16{631}, Talk: talkIPP,
	Blinks: ippBlinks, Blink: ippBlink,
	Facts: []evidence.Fact{
		{Key: evidence.KeyIPPModel, Says: "maker and model", Standard: "RFC 8011, 5.4; PWG 5100.13", Example: "Marrowby Inkwell 220", Names: 13, Describes: true},
		{Key: keyIPPName, Says: "name of the printer", Standard: "RFC 8011, 5.4; PWG 5100.13", Example: "inkwell"},
		{Key: keyIPPInfo, Says: "what its keeper says of it", Standard: "RFC 8011, 5.4; PWG 5100.13", Example: "Herbarium printer", Describes: true, By: evidence.TheKeeper},
		{Key: keyIPPLocation, Says: "where it stands", Standard: "RFC 8011, 5.4; PWG 5100.13", Example: "Herbarium"},
		{Key: evidence.KeyIPPDevice, Says: "device identifier (IEEE 1284)", Standard: "RFC 8011, 5.4; PWG 5100.13", Example: "MFG:Marrowby;MDL:Inkwell 220;"},
		{Key: keyIPPFirmware, Says: "firmware", Standard: "RFC 8011, 5.4; PWG 5100.13", Example: "2.1"},
		{Key: keyIPPState, Says: "what it does: `idle`, `processing` or `stopped`", Standard: "RFC 8011, 5.4; PWG 5100.13", Example: "idle", Passing: true},
		{Key: keyIPPVersion, Says: "a version of the protocol", Standard: "RFC 8011, 5.4; PWG 5100.13", Example: "2.0"},
		{Key: keyIPPURI, Says: "where it prints", Standard: "RFC 8011, 5.4; PWG 5100.13", Example: "ipp://10.40.1.9/ipp/print"},
		{Key: keyIPPID, Says: "identifier of the printer", Standard: "RFC 8011, 5.4; PWG 5100.13", Example: "urn:uuid:7", Use: evidence.Identifier},
		{Key: keyIPPIdentify, Says: "what it can do to show itself", Standard: "PWG 5100.13, 6.6.2", Example: "flash"},
	},
})

// ippAttributes are asked for and kept (RFC 8011, 5.4, and PWG 5100.13).
var ippAttributes = []struct{ name, key string }{
	{"printer-make-and-model", evidence.KeyIPPModel},
	{"printer-name", keyIPPName},
	{"printer-info", keyIPPInfo},
	{"printer-location", keyIPPLocation},
	{"printer-device-id", evidence.KeyIPPDevice},
	{"printer-firmware-string-version", keyIPPFirmware},
	{"printer-state", keyIPPState},
	{"ipp-versions-supported", keyIPPVersion},
	{"printer-uri-supported", keyIPPURI},
	{"printer-uuid", keyIPPID},
	{"identify-actions-supported", keyIPPIdentify},
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
		return // without HTTP there is no IPP
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
	body, ok := postIPP(ctx, f, page, path, printerRequest("ipp://"+page.Host+path))
	return ok && (body == nil || !readPrinter(body, f))
}

// postIPP puts a request to a path (RFC 8010, 4). ok is false where nothing came back in time; what is not an answer of IPP has no body.
func postIPP(ctx context.Context, f *found, page *url.URL, path string, request []byte) (body []byte, ok bool) {
	conn, err := openPage(ctx, f, page)
	if err != nil {
		return nil, false
	}
	defer conn.Close()
	_ = conn.SetDeadline(time.Now().Add(exchangeWait))
	_, err = fmt.Fprintf(conn, "POST %s HTTP/1.1\r\nHost: %s\r\nUser-Agent: airdrift\r\nContent-Type: application/ipp\r\nContent-Length: %d\r\nConnection: close\r\n\r\n%s",
		path, page.Host, len(request), request)
	if err != nil {
		return nil, false
	}
	resp, err := http.ReadResponse(bufio.NewReader(io.LimitReader(conn, maxAnswer)), nil)
	if err != nil {
		return nil, false
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		return nil, true
	}
	body, _ = io.ReadAll(io.LimitReader(resp.Body, maxAnswer)) // what breaks off is read up to there
	return body, true
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

// ippAttribute puts an attribute to a request; one without a name is one more value of the attribute before (RFC 8010, 3.1).
func ippAttribute(request []byte, tag byte, name, value string) []byte {
	request = binary.BigEndian.AppendUint16(append(request, tag), uint16(len(name)))
	request = binary.BigEndian.AppendUint16(append(request, name...), uint16(len(value)))
	return append(request, value...)
}

// ippRequest begins a request for an operation of a printer.
func ippRequest(operation byte, uri string) []byte {
	request := ippAttribute([]byte{1, 1, 0, operation, 0, 0, 0, 1, ippOperation}, ippCharset, "attributes-charset", "utf-8")
	request = ippAttribute(request, ippLanguage, "attributes-natural-language", "en")
	return ippAttribute(request, ippURI, "printer-uri", uri)
}

func printerRequest(uri string) []byte {
	request := ippRequest(0x0b, uri)
	for i, attribute := range ippAttributes {
		name := ""
		if i == 0 {
			name = "requested-attributes"
		}
		request = ippAttribute(request, ippKeyword, name, attribute.name)
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
		if key == keyIPPState && ippStates[n] != "" {
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
