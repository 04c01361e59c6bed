package probe

import (
	"context"
	"crypto/rand"
	"encoding/xml"
	"fmt"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"time"

	"airdrift/core/evidence"
)

const wsdPort = 3702

// WSDGroups are where the devices of a segment are probed (OASIS WS-Discovery 1.1, 2.4).
var WSDGroups = []netip.AddrPort{netip.MustParseAddrPort("239.255.255.250:3702"), netip.MustParseAddrPort("[ff02::c]:3702")}

// WSDiscovery probes one device directly (OASIS WS-Discovery 1.1, 5.2): for everything, and who keeps silent for the devices of
// the profile, since some programs answer to nothing less.
func WSDiscovery(ctx context.Context, d Dialer, addr netip.Addr, wait time.Duration) ([]evidence.Item, bool) {
	f, to := byDatagram(d, addr, wsdPort)
	err := search(ctx, d, to, probeQuestion(""), probeQuestion(profileDevice), wait, func(answer []byte) verdict {
		if readMatches(answer, f) {
			return more
		}
		return ignore
	})
	return f.items, err == nil
}

// profileDevice and onvifCamera are types that a probe may ask for (OASIS DPWS 1.1, 4.1; ONVIF Core Specification, 7.3). The
// prefixes are those of the documents: some programs compare the text and not what it stands for.
const (
	profileDevice = `<d:Types xmlns:wsdp="http://schemas.xmlsoap.org/ws/2006/02/devprof">wsdp:Device</d:Types>`
	onvifCamera   = `<d:Types xmlns:dn="http://www.onvif.org/ver10/network/wsdl">dn:NetworkVideoTransmitter</d:Types>`
)

// ProbeQuestions ask all of a segment: for everything that there is, and for what answers only when it is asked for by its type.
func ProbeQuestions() [][]byte {
	return [][]byte{probeQuestion(""), probeQuestion(profileDevice), probeQuestion(onvifCamera)}
}

// probeQuestion asks for devices of the types of an element, or for everything that there is. The namespaces are those of the
// draft of April 2005, which devices of the profile and of the standard both understand.
func probeQuestion(types string) []byte {
	return envelope("urn:schemas-xmlsoap-org:ws:2005:04:discovery", "http://schemas.xmlsoap.org/ws/2005/04/discovery/Probe", "<d:Probe>"+types+"</d:Probe>")
}

// envelope wraps a message (SOAP 1.2; WS-Addressing of August 2004).
func envelope(to, action, body string) []byte {
	var id [16]byte
	_, _ = rand.Read(id[:]) // never fails (crypto/rand)
	var place strings.Builder
	_ = xml.EscapeText(&place, []byte(to)) // never fails: the builder takes everything
	return fmt.Appendf(nil, `<?xml version="1.0" encoding="utf-8"?>`+
		`<e:Envelope xmlns:e="http://www.w3.org/2003/05/soap-envelope" xmlns:w="http://schemas.xmlsoap.org/ws/2004/08/addressing" xmlns:d="http://schemas.xmlsoap.org/ws/2005/04/discovery">`+
		`<e:Header><w:MessageID>urn:uuid:%x-%x-%x-%x-%x</w:MessageID><w:To>%s</w:To><w:Action>%s</w:Action>`+
		`<w:ReplyTo><w:Address>http://schemas.xmlsoap.org/ws/2004/08/addressing/role/anonymous</w:Address></w:ReplyTo></e:Header><e:Body>%s</e:Body></e:Envelope>`,
		id[:4], id[4:6], id[6:8], id[8:10], id[10:], place.String(), action, body)
}

// Metadata reads what a device that has answered a probe says of itself at the places that it has named, on itself alone
// (OASIS DPWS 1.1, 5.1: WS-Transfer Get).
func Metadata(ctx context.Context, d Dialer, addr netip.Addr, items []evidence.Item) []evidence.Item {
	f, _ := byDatagram(d, addr, wsdPort)
	places, ids := evidence.Values(items, evidence.KeyWSDAddress), evidence.Values(items, evidence.KeyWSDID)
	if len(ids) == 0 {
		return nil
	}
	get := envelope(ids[0], "http://schemas.xmlsoap.org/ws/2004/09/transfer/Get", "")
	for _, place := range places[:min(len(places), maxDescriptions)] {
		page, err := url.Parse(place)
		if err != nil || page.Scheme != "http" || pageAddr(page).Addr() != addr.WithZone("") {
			continue
		}
		if document, ok := fetch(ctx, f, page, get); ok {
			readMetadata(document, f)
		}
	}
	return f.items
}

// metadataKeys are the elements of a device's metadata that are kept (OASIS DPWS 1.1, 5.1 and 5.2).
var metadataKeys = map[string]string{
	"Manufacturer": evidence.KeyWSDMaker, "ModelName": evidence.KeyWSDModel, "ModelNumber": evidence.KeyWSDNumber, "FriendlyName": evidence.KeyWSDName,
	"FirmwareVersion": evidence.KeyWSDFirmware, "SerialNumber": evidence.KeyWSDSerial,
}

// readMetadata takes what a device says of itself and of the services that it hosts. A computer publishes itself by a program,
// of which maker and model are the program's and not the machine's.
func readMetadata(document []byte, f *found) {
	own := &found{port: f.port}
	var computer, program string
	eachText(document, func(path []string, text string) {
		switch last := path[len(path)-1]; {
		case slices.Contains(path, "Relationship") && last == "Computer":
			computer, _, _ = strings.Cut(text, "/")
		case slices.Contains(path, "Relationship") && last == "Types":
			for _, kind := range strings.Fields(text)[:min(len(strings.Fields(text)), maxTargets)] {
				f.addOnce(evidence.SourceWSD, evidence.KeyWSDType, []byte(kind))
			}
		case metadataKeys[last] != "" && slices.ContainsFunc(path, func(e string) bool { return e == "ThisDevice" || e == "ThisModel" }):
			own.addOnce(evidence.SourceWSD, metadataKeys[last], []byte(text))
			if last == "Manufacturer" {
				program = text
			}
		}
	})
	if computer == "" {
		f.items = append(f.items, own.items...)
		return
	}
	f.add(evidence.SourceWSD, evidence.KeyWSDComputer, []byte(computer))
	f.add(evidence.SourceWSD, evidence.KeyWSDProgram, []byte(program))
}

// HeardWSD reads what a device of the segment told, asked or not. ok is false where it is neither a match nor a greeting.
func HeardWSD(message []byte) (items []evidence.Item, ok bool) {
	f := &found{port: evidence.UDP(wsdPort)}
	ok = readMatches(message, f)
	return f.items, ok && len(f.items) > 0
}

// wsdKeys are the elements of a match that are kept; all but the address are lists separated by white space.
var wsdKeys = map[string]string{"Types": evidence.KeyWSDType, "Scopes": evidence.KeyWSDScope, "XAddrs": evidence.KeyWSDAddress}

// readMatches reads matches and greetings (ProbeMatch, ResolveMatch, Hello).
func readMatches(message []byte, f *found) bool {
	matched := false
	eachText(message, func(path []string, text string) {
		inside := slices.ContainsFunc(path, func(e string) bool { return e == "ProbeMatch" || e == "ResolveMatch" || e == "Hello" })
		if !inside {
			return
		}
		matched = true
		last := path[len(path)-1]
		if last == "Address" {
			f.addOnce(evidence.SourceWSD, evidence.KeyWSDID, []byte(text))
		}
		for i, word := range strings.Fields(text) {
			if wsdKeys[last] != "" && i < maxTargets {
				if plain, err := url.PathUnescape(word); err == nil {
					word = plain // scopes are URIs
				}
				f.addOnce(evidence.SourceWSD, wsdKeys[last], []byte(word))
			}
		}
	})
	return matched
}
