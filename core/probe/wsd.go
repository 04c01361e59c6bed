package probe

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/xml"
	"fmt"
	"net/netip"
	"net/url"
	"slices"
	"strings"

	"airdrift/core/evidence"
)

// Keys of the facts.
const (
	keyWSDType     = "wsd.type"
	keyWSDMaker    = "wsd.maker"
	keyWSDModel    = "wsd.model"
	keyWSDNumber   = "wsd.number"
	keyWSDName     = "wsd.name"
	keyWSDFirmware = "wsd.firmware"
	keyWSDSerial   = "wsd.serial"
	keyWSDComputer = "wsd.computer"
	keyWSDProgram  = "wsd.program"
)

var _ = register(Protocol{
	Name: "ws-discovery", Source: evidence.SourceWSD, Cost: Middling,
	Port: evidence.UDP(wsdPort), Ask: askWSD, Pointer: evidence.KeyWSDAddress, Points: metadata,
	Groups:  []Group{{At: wsdGroups[0], Questions: probeQuestions, Follow: resolveQuestions}, {At: wsdGroups[1], Questions: probeQuestions, Follow: resolveQuestions}},
	Hear:    hearWSD,
	Relates: wsdMessage,
	Facts: slices.Concat(onvifFacts, []evidence.Fact{
		{Key: keyWSDType, Says: "a type that it matches", Standard: "OASIS WS-Discovery 1.1, 5.3", Example: "dn:NetworkVideoTransmitter"},
		{Key: evidence.KeyWSDScope, Says: "a scope that it is in, escapes resolved", Standard: "OASIS WS-Discovery 1.1, 5.3", Example: "onvif://www.onvif.org/hardware/Gaze 5", Names: 11},
		{Key: evidence.KeyWSDAddress, Says: "where its services are", Standard: "OASIS WS-Discovery 1.1, 5.3", Example: "http://10.40.1.9/onvif/device_service"},
		{Key: evidence.KeyWSDID, Says: "identifier of the device", Standard: "OASIS WS-Discovery 1.1, 5.3", Example: "urn:uuid:7", Use: evidence.Identifier},
		{Key: keyWSDMaker, Says: "maker, by its metadata, which are read on the device itself", Standard: "OASIS DPWS 1.1, 5.1", Example: "Marrowby"},
		{Key: keyWSDModel, Says: "name of its model, by its metadata", Standard: "OASIS DPWS 1.1, 5.1", Example: "Inkwell 220", Describes: true},
		{Key: keyWSDNumber, Says: "number of its model, by its metadata", Standard: "OASIS DPWS 1.1, 5.1", Example: "220", Describes: true},
		{Key: keyWSDName, Says: "the name its keeper sees, by its metadata", Standard: "OASIS DPWS 1.1, 5.1", Example: "Herbarium printer", Describes: true, By: evidence.TheKeeper},
		{Key: keyWSDFirmware, Says: "firmware, by its metadata", Standard: "OASIS DPWS 1.1, 5.1", Example: "2.1"},
		{Key: keyWSDSerial, Says: "serial number, by its metadata", Standard: "OASIS DPWS 1.1, 5.1", Example: "MB-22017"},
		{Key: keyWSDComputer, Says: "the name under which a computer publishes itself", Standard: "OASIS DPWS 1.1, 5.2; Publication Services (MS-PBSD)", Example: "ACORN", By: evidence.TheHost},
		{Key: keyWSDProgram, Says: "who made the program that publishes it", Standard: "OASIS DPWS 1.1, 5.2; Publication Services (MS-PBSD)", Example: "Example Software"},
	}),
})

const wsdPort = 3702

// wsdGroups are where the devices of a segment are probed (OASIS WS-Discovery 1.1, 2.4).
var wsdGroups = []netip.AddrPort{netip.MustParseAddrPort("239.255.255.250:3702"), netip.MustParseAddrPort("[ff02::c]:3702")}

// askWSD probes one device directly (OASIS WS-Discovery 1.1, 5.2): for everything, and what keeps silent for the devices of
// the profile, since some programs answer to nothing less.
func askWSD(ctx context.Context, q Query) ([]evidence.Item, bool) {
	f, to := q.byDatagram(wsdPort)
	err := search(ctx, q.Dialer, to, probeQuestion(""), probeQuestion(profileDevice), q.Wait, func(answer []byte) verdict {
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

// probeQuestions ask all of a segment: for everything that there is, and for what answers only when it is asked for by its type.
func probeQuestions() ([][]byte, error) {
	return [][]byte{probeQuestion(""), probeQuestion(profileDevice), probeQuestion(onvifCamera)}, nil
}

// probeQuestion asks for devices of the types of an element, or for everything that there is. The namespaces are those of the
// draft of April 2005, which devices of the profile and of the standard both understand.
func probeQuestion(types string) []byte {
	return envelope("urn:schemas-xmlsoap-org:ws:2005:04:discovery", "http://schemas.xmlsoap.org/ws/2005/04/discovery/Probe", "<d:Probe>"+types+"</d:Probe>")
}

// maxResolved bounds the devices that are asked for where their pages are.
const maxResolved = 256

// resolveQuestions ask for the pages of those that have answered and not said where they are.
func resolveQuestions(heard [][]evidence.Item) ([][]byte, error) {
	var ids []string
	for _, items := range heard {
		if id := evidence.First(items, evidence.KeyWSDID); id != "" && evidence.First(items, evidence.KeyWSDAddress) == "" {
			ids = append(ids, id)
		}
	}
	slices.Sort(ids)
	ids = slices.Compact(ids)
	questions := make([][]byte, 0, len(ids))
	for _, id := range ids[:min(len(ids), maxResolved)] {
		questions = append(questions, resolveQuestion(id))
	}
	return questions, nil
}

// resolveQuestion asks all of a segment where the device of an identifier is (OASIS WS-Discovery 1.1, 6.1): an answer to a probe
// may leave that out.
func resolveQuestion(id string) []byte {
	var address strings.Builder
	_ = xml.EscapeText(&address, []byte(id)) // never fails: the builder takes everything
	return envelope("urn:schemas-xmlsoap-org:ws:2005:04:discovery", "http://schemas.xmlsoap.org/ws/2005/04/discovery/Resolve",
		"<d:Resolve><w:EndpointReference><w:Address>"+address.String()+"</w:Address></w:EndpointReference></d:Resolve>")
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

// metadata reads what a device that has answered a probe of its own says of itself at the places that it has named, on itself alone
// (OASIS DPWS 1.1, 5.1: WS-Transfer Get).
func metadata(ctx context.Context, d Dialer, addr netip.Addr, items []evidence.Item) []evidence.Item {
	f, _ := byDatagram(d, addr, wsdPort)
	places, ids := evidence.Values(items, evidence.KeyWSDAddress), evidence.Values(items, evidence.KeyWSDID)
	if len(ids) == 0 {
		return nil
	}
	get := envelope(ids[0], "http://schemas.xmlsoap.org/ws/2004/09/transfer/Get", "")
	for _, place := range places[:min(len(places), maxDescriptions)] {
		if document, ok := fetchAnnounced(ctx, f, addr, place, get); ok {
			readMetadata(document, f)
		}
	}
	askONVIF(ctx, addr, items, f)
	return f.items
}

// metadataKeys are the elements of a device's metadata that are kept (OASIS DPWS 1.1, 5.1 and 5.2).
var metadataKeys = map[string]string{
	"Manufacturer": keyWSDMaker, "ModelName": keyWSDModel, "ModelNumber": keyWSDNumber, "FriendlyName": keyWSDName,
	"FirmwareVersion": keyWSDFirmware, "SerialNumber": keyWSDSerial,
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
				f.addOnce(evidence.SourceWSD, keyWSDType, []byte(kind))
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
	f.add(evidence.SourceWSD, keyWSDComputer, []byte(computer))
	f.add(evidence.SourceWSD, keyWSDProgram, []byte(program))
}

// hearWSD reads what a device of the segment told, asked or not. ok is false where it is neither a match nor a greeting.
func hearWSD(d Datagram) (items []evidence.Item, ok bool) {
	if !bytes.HasPrefix(bytes.TrimLeft(d.Message, "\ufeff \t\r\n"), []byte("<")) {
		return nil, false
	}
	f := &found{port: evidence.UDP(wsdPort)}
	ok = readMatches(d.Message, f)
	return f.items, ok && len(f.items) > 0
}

// wsdMessage gives the identifier of a message of WS-Discovery, and that of the question it is an answer to; each "" where it
// has none (WS-Addressing of August 2004, 3).
func wsdMessage(message []byte) (id, relatesTo string) {
	eachText(message, func(path []string, text string) {
		switch path[len(path)-1] {
		case "MessageID":
			id = text
		case "RelatesTo":
			relatesTo = text
		}
	})
	return id, relatesTo
}

// wsdKeys are the elements of a match that are kept; all but the address are lists separated by white space.
var wsdKeys = map[string]string{"Types": keyWSDType, "Scopes": evidence.KeyWSDScope, "XAddrs": evidence.KeyWSDAddress}

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
