package probe

import (
	"context"
	"encoding/json"
	"net/netip"
	"strings"

	"airdrift/core/evidence"
)

// Keys of the facts.
const (
	keyRedfishVersion = "redfish.version"
	keyRedfishMaker   = "redfish.maker"
	keyRedfishProduct = "redfish.product"
	keyRedfishName    = "redfish.name"
	keyRedfishID      = "redfish.id"
	keyRedfishOwn     = "redfish.own"
)

// redfishFacts are part of HTTPS: managers of machines give their root to anybody; it is read where HTTPS is spoken, and nothing beneath it.
var redfishFacts = []evidence.Fact{
	{Source: evidence.SourceRedfish, Key: keyRedfishVersion, Says: "version of the protocol", Standard: "DMTF DSP0266, 6.2", Example: "1.15.0"},
	{Source: evidence.SourceRedfish, Key: keyRedfishMaker, Says: "maker of the service", Standard: "DMTF DSP0268, ServiceRoot", Example: "Harrowgate Machines", Names: 12},
	{Source: evidence.SourceRedfish, Key: keyRedfishProduct, Says: "the product that it manages", Standard: "DMTF DSP0268, ServiceRoot", Example: "Harrow R2", Describes: true},
	{Source: evidence.SourceRedfish, Key: keyRedfishName, Says: "name of the service", Standard: "DMTF DSP0268, ServiceRoot", Example: "Root Service"},
	{Source: evidence.SourceRedfish, Key: keyRedfishID, Says: "identifier of the service", Standard: "DMTF DSP0268, ServiceRoot", Example: "92384634-2938-2342-8820-489239905423", Use: evidence.Identifier},
	{Source: evidence.SourceRedfish, Key: keyRedfishOwn, Says: "whose extension it has", Standard: "DMTF DSP0266, 9.7", Example: "Harrowgate"},
}

// redfishPort is the only one at which it is looked for.
const redfishPort = 443

// maxOwn bounds the extensions that are kept.
const maxOwn = 4

// askRedfish reads the root of the service at a web server, which wants no sign-in (DMTF DSP0266, 13.3.2).
func askRedfish(ctx context.Context, addr netip.AddrPort, f *found) {
	if !f.thorough || addr.Port() != redfishPort || f.off("redfish") {
		return
	}
	page := startPage("https", addr)
	page.Path = "/redfish/v1/"
	if document, ok := fetch(ctx, f, page, nil); ok {
		readRedfish(document, f)
	}
}

// readRedfish takes in what a root says. What is none, such as the page that a server shows for every path, tells nothing.
func readRedfish(document []byte, f *found) {
	var root struct {
		Type    string `json:"@odata.type"`
		Version string `json:"RedfishVersion"`
		Vendor  string
		Product string
		Name    string
		UUID    string
		Oem     map[string]json.RawMessage
	}
	if json.Unmarshal(document, &root) != nil || !strings.Contains(root.Type, "ServiceRoot") {
		return
	}
	for key, value := range map[string]string{
		keyRedfishVersion: root.Version, keyRedfishMaker: root.Vendor, keyRedfishProduct: root.Product, keyRedfishName: root.Name, keyRedfishID: strings.ToLower(root.UUID),
	} {
		f.add(evidence.SourceRedfish, key, []byte(value))
	}
	own := 0
	for name := range root.Oem {
		if own++; own <= maxOwn {
			f.add(evidence.SourceRedfish, keyRedfishOwn, []byte(name))
		}
	}
}
