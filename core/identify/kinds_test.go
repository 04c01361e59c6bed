package identify

import (
	"regexp"
	"slices"
	"strings"
	"testing"

	"airdrift/core/evidence"
	"airdrift/core/registry"
)

// What a device does besides is no word against what it is; of special cases that are in doubt the general one is believed, with the other named.
func TestSpecialKindsAndGeneralOnes(t *testing.T) {
	engine := New(Default(), nil)
	for name, tt := range map[string]struct {
		facts          []string
		value, perhaps string
	}{
		"a label printer that speaks as printers do": {[]string{"ipp.model Example 9", "mdns.type _ipp._tcp", "mdns.type _pdl-datastream._tcp", "snmp.mib printer", "http.title Label printer"}, "label-printer", ""},
		"a printer":                                    {[]string{"ipp.model Example 9", "mdns.type _ipp._tcp"}, "printer", ""},
		"an intercom that has a camera":                {[]string{"http.title Door station", "rtsp.status 200 OK", "tcp.open 554"}, "intercom", ""},
		"a camera that streams":                        {[]string{"http.title Network camera", "rtsp.status 200 OK", "tcp.open 554"}, "camera", ""},
		"a panel with a controller in it":              {[]string{"http.title Operator panel", "cip.type programmable logic controller"}, "hmi", ""},
		"two that have nothing to do with one another": {[]string{"snmp.mib printer", "sip.server Asterisk PBX"}, Unknown, ""},
	} {
		claim := engine.Identify(facts(tt.facts...))[0]
		if claim.Attribute != Kind || claim.Value != tt.value || claim.Perhaps != tt.perhaps {
			t.Errorf("%s: %s, perhaps %q; want %s, perhaps %q: %+v", name, claim.Value, claim.Perhaps, tt.value, tt.perhaps, claim.Others)
		}
		if claim.Value != Unknown && claim.Others[0].Value != claim.Value {
			t.Errorf("%s: the first of the candidates is %s", name, claim.Others[0].Value)
		}
	}
}

// The relation is of kinds that there are, and goes one way.
func TestKindsThatExpectOthers(t *testing.T) {
	for special, generals := range expects {
		for _, general := range append(slices.Clone(generals), special) {
			if !slices.Contains(Kinds, general) {
				t.Errorf("%q is no kind", general)
			}
		}
		for _, general := range generals {
			if slices.Contains(expects[general], special) && (special != "ups" && special != "pdu" && special != "pbx" && special != "voice-gateway") {
				t.Errorf("%s and %s expect one another", special, general)
			}
		}
	}
	for general, specials := range includes {
		for _, special := range specials {
			if !slices.Contains(expects[special], general) {
				t.Errorf("%s is a %s, and does not expect one", special, general)
			}
		}
	}
}

// Names of products tell maker, kind and model wherever a device says them, beyond a router too; a name that is a word as well counts where something else
// tells the maker.
func TestFamiliesOfProducts(t *testing.T) {
	engine := New(Default(), nil)
	for fact, want := range map[string]string{
		"http.title Smart-UPS 1500 RM - Log On":        "ups APC Smart-UPS 1500",
		"http.realm DS-2CD2143G2-I":                    "camera Hikvision DS-2CD2143G2-I",
		"http.title PowerLogic PM5560":                 "meter Schneider Electric PowerLogic PM5560",
		"snmp.sysDescr SINAMICS G120C PN V4.7":         "drive Siemens SINAMICS G120C",
		"http.title Welcome to SmartNode SN4141":       "voice-gateway Patton SmartNode SN4141",
		"http.title Vantage point":                     "unknown  ",
		"http.title Our quantum leap":                  "unknown  ",
		"http.title Compare NPort 5110 and IOLAN SDS4": "unknown  ",
		"sip.agent PolycomVVX-VVX_411-UA/5.9.0":        "phone Polycom VVX_411",
	} {
		identity := engine.Identify(facts(fact))
		if got := strings.Join([]string{identity.Of(Kind), identity.Of(Vendor), identity.Of(Model)}, " "); got != want {
			t.Errorf("%s: %q, want %q", fact, got, want)
		}
	}
}

// A table that is broken is refused with the place of each fault.
func TestFamiliesThatAreRefused(t *testing.T) {
	for table, want := range map[string]string{
		"families:\n  - {maker: A, kind: castle, names: [drawbridge-#]}\n": "castle",
		"families:\n  - {maker: A, kind: camera, names: [x*]}\n":           "line 2, column 38 (families[0].names[0]): \"x*\" is too short",
		"families:\n  - {maker: A, kind: camera, names: [\"*\"]}\n":        "too short",
		"families:\n  - {maker: A, sort: camera}\n":                        "sort",
	} {
		if _, err := readFamilies("f.yaml", []byte(table)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %q", table, err, want)
		}
	}
}

// What descriptions are read by is known to the protocols, and each maker of whom shares are told has one that counts.
func TestTablesHoldNothingIdle(t *testing.T) {
	for _, key := range layoutKeys {
		if _, known := evidence.FactOf(key); !known {
			t.Errorf("there is no fact %q", key)
		}
	}
	for maker, kinds := range publicShares().makers {
		if len(kinds) == 0 {
			t.Errorf("nothing that %s makes counts", maker)
		}
	}
}

// What a maker mostly makes settles what the device leaves open, and never beats what it says.
func TestWhatMakersMostlyMake(t *testing.T) {
	engine := New(Default(), nil)
	for want, said := range map[string][]string{
		"access-point": {"snmp.maker Axis Communications", "http.title Wireless access point"},
		"camera":       {"snmp.maker Axis Communications"},
		Unknown:        {"snmp.maker Siemens"},
	} {
		if got := engine.Identify(facts(said...)).Of(Kind); got != want {
			t.Errorf("%v: %s, want %s", said, got, want)
		}
	}
	for maker, kinds := range publicShares().makers {
		for kind, strength := range kinds {
			if strength >= kindFromFamily+needed {
				t.Errorf("%s: %s counts %d", maker, kind, strength)
			}
		}
	}
}

// No name of a maker that is shown ends in a legal form, in the whole register of MAC prefixes.
func TestNoLegalFormsAreShown(t *testing.T) {
	form := regexp.MustCompile(`(?i)(?:[\s,.;]|co\.)(?:ltd|limited|llc|l\.l\.c|inc|corp|gmbh|pvt|ltda|b\.?v|s\.?r\.?l|s\.?r\.?o|sp\. z ?o\.? ?o|z ?o\.o|d\.o\.o|kft|llp|pty|a\.?ş|bvba)\.?$`)
	left := 0
	for _, organisation := range registry.IEEE().Organisations() {
		if name := VendorName(organisation); form.MatchString(name) || name == "" {
			if left++; left < 10 {
				t.Errorf("%q is shown as %q", organisation, name)
			}
		}
	}
	if left > 0 {
		t.Errorf("%d names", left)
	}
}

// New devices call themselves by what they are; names that people give are not taken for such.
func TestNamesFromTheFactory(t *testing.T) {
	engine := New(Default(), nil)
	for fact, want := range map[string]string{
		"dhcp.name DESKTOP-4K7QJ2L":                                              "workstation Microsoft Windows",
		"netbios.name LAPTOP-8F3KQ1ZD":                                           "laptop Microsoft Windows",
		"mdns.host herons-MacBook-Pro.local":                                     "laptop macOS",
		"dhcp.name iPhone":                                                       "mobile iOS",
		"mdns.host BRW7C2F80AB12CD.local":                                        "printer ",
		"dhcp.name NPI1A2B3C":                                                    "printer ",
		"dhcp.name SEP00112233AABB":                                              "phone ",
		"mdns.host shellyplug-s-7C87CE.local":                                    "smart-plug ",
		"dns.ptr apc1A2B3C.garden.example":                                       "unknown ",
		"arp.mac 52:54:00:12:34:56":                                              "virtual-machine ",
		"arp.mac 08:00:27:12:34:56":                                              "virtual-machine ",
		"snmp.sysDescr VMware Virtual Platform 3":                                "virtual-machine ",
		"snmp.sysDescr Linux printserver 5.4.0-42-generic #46-Ubuntu SMP x86_64": "unknown Ubuntu Linux",
		"tcp.open 9100":                                                          "unknown ",
		"tcp.open 3389":                                                          "unknown ",
		"dhcp.name desktop-herons":                                               "unknown ",
		"dhcp.name andromeda-galaxy":                                             "unknown ",
		"dhcp.name rokugan":                                                      "unknown ",
		"dns.ptr printer.fritz.box":                                              "unknown ",
	} {
		identity := engine.Identify(facts(fact))
		if got := identity.Of(Kind) + " " + identity.Of(OS); got != want {
			t.Errorf("%s: %q, want %q", fact, got, want)
		}
	}
	firewall := engine.Identify(facts("arp.mac 00:0c:29:12:34:56", "http.title Perimeter firewall", "tcp.open 443"))
	if kind := firewall.Of(Kind); kind != "firewall" {
		t.Errorf("a firewall that a hypervisor runs is told to be a %s", kind)
	}
}

// Where the kind is open it is said what would likely tell it.
func TestWhatWouldSettleIt(t *testing.T) {
	for want, said := range map[string][]string{
		"SNMP with a credential|a sweep from the device's own segment|a sweep that asks more ports": {"snmp.engine 80001f88", "echo.ttl 63"},
		"its web page, with a password": {"arp.mac 48:9b:34:01:02:03", "tcp.open 80", "http.realm garden"},
		"a sweep that asks more ports":  {"arp.mac 48:9b:34:01:02:03"},
		"":                              {"arp.mac 48:9b:34:01:02:03", "tcp.open 80", "http.title garden"},
	} {
		var got []string
		for _, way := range Settle(facts(said...)) {
			first, _, _ := strings.Cut(way, ":")
			got = append(got, first)
		}
		if strings.Join(got, "|") != want {
			t.Errorf("%v: %q, want %q", said, got, want)
		}
	}
}

// One value in several forms is one.
func TestFormsOfOneValue(t *testing.T) {
	engine := New(Default(), nil)
	identity := engine.Identify(facts("snmp.model X200", "modbus.model X200 series", "modbus.revision V01.09", "snmp.firmware 1.9"))
	if identity.Of(Model) != "X200 series" || identity.Of(Firmware) == "" {
		t.Errorf("model %q, firmware %q", identity.Of(Model), identity.Of(Firmware))
	}
}
