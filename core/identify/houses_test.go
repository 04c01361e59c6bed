package identify

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// A text that begins with the name of a registered maker is likely by it; one that begins with a word of a language is not.
func TestRegisteredMakersAtTheBeginning(t *testing.T) {
	engine := New(Default(), nil)
	for fact, want := range map[string]string{
		"http.title Jablotron JA-103K panel":                    "Jablotron",
		"http.title Jablotron station":                          "",
		"text.greeting Connected: Universal Robots Dashboard":   "Universal Robots",
		"sip.agent Jablotron GDP-06 2.1":                        "Jablotron",
		"http.title Apple pie recipes":                          "",
		"http.title Target overview":                            "",
		"http.title Digital signage":                            "",
		"http.title OpenWrt - LuCI":                             "",
		"http.title Jablotron":                                  "", // a name and nothing more may be anybody's
		"tls.organisation Shenzhen Something That Is Not There": "",
		"http.title " + strings.Repeat("Shenzhen ", 100):        "",
		"wsd.name Jablotron in the hall":                        "",
	} {
		if got := engine.Identify(facts(fact)).Of(Vendor); got != want {
			t.Errorf("%s: by %q, want %q", fact, got, want)
		}
	}
}

// Demo, examples and help show makers that there are not: a real one belongs in rules, tables and corpus alone.
func TestNoRealMakersInDemoAndHelp(t *testing.T) {
	for _, pattern := range []string{"../../scenarios/*.yaml", "../../command/*.go", "../../README.md", "../../simsite/*.go", "../../console/src/*/*.tsx"} {
		files, err := filepath.Glob(pattern)
		if err != nil || len(files) == 0 {
			t.Fatal(pattern, err)
		}
		for _, file := range files {
			text, err := os.ReadFile(file)
			if err != nil {
				t.Fatal(err)
			}
			for line := range strings.Lines(string(text)) {
				if named := publicBrands().find(fold(line)); len(named) > 0 && !strings.HasSuffix(file, "_test.go") {
					t.Errorf("%s: %v in %q", file, named, line)
				}
			}
		}
	}
}

func TestNamesOfOneHouse(t *testing.T) {
	for _, test := range []struct {
		a, b string
		same bool
	}{
		{"Sartorius", "Sartorius Lab Instruments", true}, {"SARTORIUS", "Sartorius", true}, {"Delta Controls", "Delta Electronics", false}, {"Delta", "Delta Controls", false},
		{"ABB", "ABC", false}, {"", "Siemens", false}, {"Sieme", "Siemens", false},
	} {
		if got := sameHouse(test.a, test.b); got != test.same || sameHouse(test.b, test.a) != got {
			t.Errorf("%q and %q: %v, want %v both ways", test.a, test.b, got, test.same)
		}
	}
	if !areKin("HP", "Hewlett Packard Enterprise") || areKin("HP", "Siemens") {
		t.Error("kin is mixed up")
	}
	// Of kin that are told as strongly, the one that the device names is believed; of strangers none.
	for facts1, want := range map[string]string{"http.title Galaxy Dimension GD-264": "Honeywell", "http.title Axis M1065-L": ""} {
		if got := New(Default(), nil).Identify(facts("arp.mac 00:d0:2d:11:22:33", facts1)).Of(Vendor); got != want {
			t.Errorf("a prefix of Resideo and %q: by %q, want %q", facts1, got, want)
		}
	}
	// What a prefix tells and what a text tells of one house are one value, under the name that it goes by.
	id := New(Default(), nil).Identify(facts("arp.mac 00:d0:24:11:22:33", "http.title Cognex In-Sight 7802"))
	for _, c := range id {
		if c.Attribute == Vendor && (len(c.Others) != 1 || c.Value != "Cognex") {
			t.Errorf("a prefix and a text of one house are %d makers, the first %q", len(c.Others), c.Value)
		}
	}
}
