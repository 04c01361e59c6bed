package identify

import (
	"strings"
	"testing"
	"unicode/utf8"
)

// Descriptions tell model, version and more by how they are written, whoever wrote them; versions of what the device is built from are not its own.
func TestLayoutsOfDescriptions(t *testing.T) {
	engine := New(Default(), nil)
	for fact, want := range map[string]string{
		"snmp.sysDescr <<HW_REV: 1; VENDOR: Example Cable, Inc.; BOOTR: 2.1; SW_REV: 9.1.103S5; MODEL: SB8200>>":                                    "modem|Example Cable|SB8200|9.1.103S5|",
		"snmp.sysDescr APC Web/SNMP Management Card (MB:v4.1.0 PF:v6.8.2 PN:aos_682.bin AF1:v6.8.4 MN:AP9631 HR:05 SN: ZA1623021234 MD:06/09/2016)": "ups|APC|AP9631|6.8.4|ZA1623021234",
		"snmp.sysDescr Example NAS, Model Name: TS-453A, Firmware Version: 5.0.0, Serial Number: Q123B45678":                                        "storage|QNAP|TS-453A|5.0.0|Q123B45678",
		"snmp.sysDescr UAP-AC-Pro-Gen2 6.0.21.13673":                               "access-point|Ubiquiti|UAP-AC-Pro-Gen2|6.0.21.13673|",
		"snmp.sysDescr CMC III PU SN 12345678 HW V3.00 SW V3.17.00_3":              "sensor|Rittal|CMC III|3.17.00_3|",
		"snmp.sysDescr HP 2530-24G Switch, revision YA.16.08.0002, ROM YA.15.20":   "switch|HP|2530-24G|YA.16.08.0002|",
		"snmp.sysDescr SINAMICS G120 Linux 3.10.105 kernel 2.6.28":                 "drive|Siemens|SINAMICS G120||",
		"snmp.sysDescr Linux 6.1.0 somewhere, version 5.2.1":                       "unknown||||",
		"sip.agent SmartNode SN4141 R6.11 2019-04-25":                              "voice-gateway|Patton|SmartNode SN4141|6.11|",
		"sip.agent Panasonic-MPR08-KX-HDV130/08.100":                               "phone|Panasonic|KX-HDV130|08.100|",
		"ftp.greeting 220 NPort 5110 FTP server (Version 1.2.3) ready, 15.09.2018": "serial-server|Moxa|NPort 5110|1.2.3|",
		"snmp.sysDescr Serial Number: none; Firmware: n/a; Model: unknown":         "unknown||||",
	} {
		identity := engine.Identify(facts(fact))
		got := strings.Join([]string{identity.Of(Kind), identity.Of(Vendor), identity.Of(Model), identity.Of(Firmware), identity.Of(Serial)}, "|")
		if got != want {
			t.Errorf("%s:\n\t%s, want\n\t%s", fact, got, want)
		}
	}
}

// Whatever a device says of itself, what is read out of it is text that stands in it, and not more than a little of it.
func FuzzLayouts(f *testing.F) {
	for _, seed := range []string{"<<HW_REV: 1; VENDOR: X, Inc.; SW_REV: 9.1; MODEL: SB8200>>", "NPort 5110 v1.2", "SN::=:=MODEL:\xff", "Smart-UPS 1500 FW:1.2.3", strings.Repeat("/-_:", 500)} {
		f.Add(seed)
	}
	engine := New(Default(), nil)
	f.Fuzz(func(t *testing.T, text string) {
		text = strings.ToValidUTF8(text, "?")
		for _, key := range []string{"snmp.sysDescr ", "sip.agent ", "http.title "} {
			for _, claim := range engine.Identify(facts(key + text)) {
				if !utf8.ValidString(claim.Value) || len(claim.Value) > len(text)+64 {
					t.Errorf("%q tells the %s %q", text, claim.Attribute, claim.Value)
				}
			}
		}
	})
}
