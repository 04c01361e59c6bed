package probe

import (
	"context"
	"net/netip"
	"slices"
	"strings"

	"airdrift/core/evidence"
)

// Keys of the facts.
const (
	keyONVIFMaker    = "onvif.maker"
	keyONVIFModel    = "onvif.model"
	keyONVIFFirmware = "onvif.firmware"
	keyONVIFSerial   = "onvif.serial"
	keyONVIFHardware = "onvif.hardware"
)

// onvifFacts are part of WS-Discovery: cameras and doors say what they are to who asks at the place that they name by WS-Discovery, some without a sign-in.
var onvifFacts = []evidence.Fact{
	{Source: evidence.SourceONVIF, Key: keyONVIFMaker, Says: "maker", Standard: "ONVIF Core Specification, 8.3.1", Example: "Lanternfield", Names: 13},
	{Source: evidence.SourceONVIF, Key: keyONVIFModel, Says: "model", Standard: "ONVIF Core Specification, 8.3.1", Example: "Gaze 5", Describes: true},
	{Source: evidence.SourceONVIF, Key: keyONVIFFirmware, Says: "version of its firmware", Standard: "ONVIF Core Specification, 8.3.1", Example: "5.4.1"},
	{Source: evidence.SourceONVIF, Key: keyONVIFSerial, Says: "serial number", Standard: "ONVIF Core Specification, 8.3.1", Example: "LF-550017"},
	{Source: evidence.SourceONVIF, Key: keyONVIFHardware, Says: "what its hardware is called", Standard: "ONVIF Core Specification, 8.3.1", Example: "G5-B"},
}

// onvifKeys are the elements of the answer that are kept.
var onvifKeys = map[string]string{
	"Manufacturer": keyONVIFMaker, "Model": keyONVIFModel, "FirmwareVersion": keyONVIFFirmware, "SerialNumber": keyONVIFSerial, "HardwareId": keyONVIFHardware,
}

// onvifQuestion asks what the device is.
const onvifQuestion = `<?xml version="1.0" encoding="utf-8"?><e:Envelope xmlns:e="http://www.w3.org/2003/05/soap-envelope"><e:Body>` +
	`<GetDeviceInformation xmlns="http://www.onvif.org/ver10/device/wsdl"/></e:Body></e:Envelope>`

// askONVIF asks at the places that a device has named, on itself alone, where it says that it is of the kind.
func askONVIF(ctx context.Context, addr netip.Addr, items []evidence.Item, f *found) {
	isOf := func(text string) bool {
		return strings.Contains(text, "onvif") || strings.HasSuffix(text, "NetworkVideoTransmitter")
	}
	said := slices.Concat(evidence.Values(items, evidence.KeyWSDScope), evidence.Values(items, keyWSDType))
	if !slices.ContainsFunc(said, isOf) {
		return
	}
	places := evidence.Values(items, evidence.KeyWSDAddress)
	for _, place := range places[:min(len(places), maxDescriptions)] {
		if document, ok := fetchAnnounced(ctx, f, addr, place, []byte(onvifQuestion)); ok && readONVIF(document, f) {
			return
		}
	}
}

// readONVIF reads the answer, and reports whether it is one.
func readONVIF(document []byte, f *found) (ok bool) {
	eachText(document, func(path []string, text string) {
		key := onvifKeys[path[len(path)-1]]
		if key != "" && slices.Contains(path, "GetDeviceInformationResponse") {
			f.addOnce(evidence.SourceONVIF, key, []byte(text))
			ok = true
		}
	})
	return ok
}
