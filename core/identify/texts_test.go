package identify

import (
	"strings"
	"testing"
)

// A text that may be about something else says too little to be believed alone: pages about products, and names that people gave.
func TestTextsThatAreNotAboutTheDevice(t *testing.T) {
	engine := New(Default(), nil)
	for _, test := range []struct{ fact, kind, vendor string }{
		{"http.title Network Camera", "camera", ""},
		{"http.title Drucker im Flur", "printer", ""},
		{"http.title Acme 48-port Switch - Login", "switch", ""},
		{"http.title Hedge 2 wireless access point", "access-point", ""},
		{"http.title Switch to HTTPS", Unknown, ""},
		{"http.title Camera shop - buy cameras online", Unknown, ""},
		{"http.title How to install the printer in room 12", Unknown, ""},
		{"http.title Router configuration - Team wiki", Unknown, ""},
		{"http.title LaserJet M402dn support forum", Unknown, ""},
		{"http.title Yealink SIP-T46S Phone", "phone", "Yealink"},
		{"http.title Cisco training portal", Unknown, ""},
		{"upnp.name Printer room loudspeaker", Unknown, ""},
		{"wsd.name Behind the Samsung TV", Unknown, ""},
		{"wsd.name Brother HL-L5200DW series", "printer", "Brother"},
		{"mdns.instance Next to the Sonos Play:1._http._tcp:80", Unknown, ""},
		{"tls.subject printer.garden.example", Unknown, ""},
		{"mail.smtp 220 switch.garden.example ESMTP", Unknown, ""},
		// What hosts are called is the factory's where a type stands at its beginning, behind its maker or alone.
		{"dhcp.name DCS-942L", "camera", "D-Link"},
		{"dhcp.name Teltonika-RUT955", "router", "Teltonika"},
		{"dhcp.name backup-DCS-942L", Unknown, ""},
		{"dhcp.name eagle", Unknown, ""},
		{"dhcp.name sm", Unknown, ""},
	} {
		id := engine.Identify(facts(test.fact))
		if id.Of(Kind) != test.kind || id.Of(Vendor) != test.vendor {
			t.Errorf("%s: %q of %q, want %q of %q", test.fact, id.Of(Kind), id.Of(Vendor), test.kind, test.vendor)
		}
	}
}

func TestProductsInRecordsAndScopes(t *testing.T) {
	engine := New(Default(), nil)
	for fact, want := range map[string]string{
		"mdns.txt _googlecast._tcp md=Chromecast Ultra":           "media-player Google Chromecast Ultra",
		"mdns.txt _googlecast._tcp fn=Chromecast Ultra":           "unknown Google ",
		"mdns.txt _ipp._tcp usb_MDL=LBP352x":                      "printer Canon LBP352x",
		"wsd.scope onvif://www.onvif.org/hardware/DS-2CD2143G0-I": "camera Hikvision DS-2CD2143G0-I",
		"wsd.scope onvif://www.onvif.org/location/DS-2CD2143G0-I": "unknown  ",
		"mdns.instance MXA910-112233._shure._tcp:80":              "stage-node Shure MXA910",
		"upnp.number DS920+":                                      "storage Synology DS920+",
		"mdns.txt _ipp._tcp ty=" + strings.Repeat("LBP352x ", 40): "printer Canon LBP352x",
		"mdns.txt =": "unknown  ",
		"wsd.scope onvif://www.onvif.org/hardware/":                                 "unknown  ",
		"sip.agent Cisco/SPA504G-7.6.2f":                                            "phone Cisco Systems SPA504G",
		"lldp.text Siemens, SIMATIC NET, SCALANCE W774-1 RJ45, 6GK5 774-1FX00-0AA0": "access-point Siemens SCALANCE W774-1",
		"http.title PowerLogic PM5560":                                              "meter Schneider Electric PowerLogic PM5560",
		"snmp.sysDescr HP R7000 UPS":                                                "ups HP R7000",
		"http.realm NETGEAR R7000":                                                  "router Netgear R7000",
		"text.telnet Welcome to NX-3200 v1.6.193 Copyright AMX LLC":                 "unknown AMX NX-3200",
	} {
		id := engine.Identify(facts(fact))
		if got := id.Of(Kind) + " " + id.Of(Vendor) + " " + id.Of(Model); got != want {
			t.Errorf("%s: %q, want %q", fact, got, want)
		}
	}
}

// What a device asks for an address with tells system, kind and maker by the class that it puts itself in, and less by the options that it wishes for.
func TestWhatAddressesAreAskedForWith(t *testing.T) {
	engine := New(Default(), nil)
	for _, test := range []struct{ facts, kind, os, vendor, model string }{
		{"dhcp.vendor MSFT 5.0", Unknown, "Microsoft Windows", "", ""},
		{"dhcp.vendor MSFT 5.0 XBOX", "media-player", "", "Microsoft", ""},
		{"dhcp.vendor android-dhcp-13; dhcp.options 1,3,6,15,26,28,51,58,59,43", "mobile", "Android", "", ""},
		{"dhcp.options 1,121,3,6,15,119,252", Unknown, "", "Apple", ""},
		{"dhcp.options 1,121,3,6,15,119,252,95,44,46", Unknown, "macOS", "Apple", ""},
		{"dhcp.options 1,3,6", Unknown, "", "", ""},
		{"dhcp.vendor Mfg=Acme;Typ=MFP;Mod=Inkwell 220;Ser=1", "printer", "", "Acme", "Inkwell 220"},
		{"dhcp.vendor AXIS,Network Camera,P3245-V,10.12.114", "camera", "", "Axis Communications", "P3245-V"},
		{"dhcp.vendor docsis3.1:53", "modem", "", "", ""},
		{"dhcp.vendor Mfg=;Typ=;Mod=", Unknown, "", "", ""},
		{"dhcp.vendor " + strings.Repeat("AXIS,", 100), "camera", "", "Axis Communications", ""},
	} {
		id := engine.Identify(facts(strings.Split(test.facts, "; ")...))
		if id.Of(Kind) != test.kind || id.Of(OS) != test.os || id.Of(Vendor) != test.vendor || id.Of(Model) != test.model {
			t.Errorf("%.80s: %q, %q, %q, %q; want %q, %q, %q, %q", test.facts, id.Of(Kind), id.Of(OS), id.Of(Vendor), id.Of(Model), test.kind, test.os, test.vendor, test.model)
		}
	}
}
