package identify

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"airdrift/core/evidence"
	"airdrift/core/fault"
	"airdrift/core/registry"
)

// facts makes items out of "key value" lines; the source is the part of the key before the dot.
func facts(lines ...string) []evidence.Item {
	var items []evidence.Item
	for _, line := range lines {
		key, value, _ := strings.Cut(line, " ")
		source, _, _ := strings.Cut(key, ".")
		items = append(items, evidence.Item{Source: evidence.Source(source), Key: key, Value: value})
	}
	return items
}

func TestKindAndSystemFromFirstWords(t *testing.T) {
	engine := New(Default(), nil)
	tests := []struct {
		name     string
		items    []evidence.Item
		kind, os string
	}{
		{"nothing known", facts("echo.ttl 64"), Unknown, ""},
		{"a raw printing port and a printer's maker", facts("tcp.open 9100", "http.title Brother"), "printer", ""},
		{"a till with a receipt printer", facts("tcp.open 9100", "http.title Point of Sale 7"), "till", ""},
		{"a camera by name and stream", facts("tcp.open 554", "rtsp.status 200 OK", "http.title Network Camera"), "camera", ""},
		{"a recorder streams too", facts("tcp.open 554", "rtsp.status 200 OK", "http.title Network Video Recorder"), "video-recorder", ""},
		{"Debian by SSH", facts("ssh.greeting SSH-2.0-OpenSSH_9.2p1 Debian-2+deb12u3", "http.server nginx"), "server", "Debian GNU/Linux"},
		{"Rocky by web", facts("http.server Apache/2.4.57 (Rocky Linux)"), Unknown, "Rocky Linux"},
		{"a printer in German", facts("http.title Etagendrucker", "http.title Drucker im Flur"), "printer", ""},
		{"a word within a word tells nothing", facts("http.title Groups and setups"), Unknown, ""},
		{"two kinds of equal weight", facts("http.title sensor", "ftp.greeting printer"), Unknown, ""},
	}
	for _, tt := range tests {
		got := engine.Identify(tt.items)
		if got.Of(Kind) != tt.kind || got.Of(OS) != tt.os {
			t.Errorf("%s: kind %q, os %q; want %q, %q\n%+v", tt.name, got.Of(Kind), got.Of(OS), tt.kind, tt.os, got)
		}
	}
}

func TestOneSourceIsOneWitness(t *testing.T) {
	engine := New(Default(), nil)
	once := engine.Identify(facts("http.title Laser Printer"))
	twice := engine.Identify(facts("http.title Laser Printer", "http.title Laser printer status", "http.realm printer"))
	if once[0].Strength == 0 || once[0].Strength != twice[0].Strength {
		t.Errorf("one page gives %d, three pages of one source %d; want the same", once[0].Strength, twice[0].Strength)
	}
	other := engine.Identify(facts("http.title Laser Printer", "tcp.open 9100"))
	if other[0].Strength <= once[0].Strength {
		t.Errorf("a second source left the strength at %d", other[0].Strength)
	}
	if got := len(twice[0].Others[0].Reasons); got != 3 {
		t.Errorf("%d reasons are shown, want all 3", got)
	}
}

func TestVendorFromMACAndOverlay(t *testing.T) {
	overlay := &registry.Table{}
	p, _ := registry.ParsePrefix("48:9b:34")
	overlay.Add(p, "Thornquist Controls Ltd.")
	overlay.Finish()
	tests := []struct {
		items []evidence.Item
		want  string
	}{
		{facts("arp.mac 00:00:01:02:03:04"), "Xerox"},
		{facts("arp.mac 48:9b:34:02:03:04"), "Thornquist Controls"},
		{facts("arp.mac da:3f:91:5c:20:17"), ""},
		{facts("arp.mac 00:00:5e:00:01:07"), ""},
		{facts("arp.mac 00:00:01:02:03:04", "ssh.greeting SSH-2.0-Cisco-1.25"), "Cisco Systems"},
	}
	for _, tt := range tests {
		got := New(Default(), overlay).Identify(tt.items)
		if got.Of(Vendor) != tt.want {
			t.Errorf("%v: vendor %q, want %q", tt.items, got.Of(Vendor), tt.want)
		}
	}
	conflict := New(Default(), nil).Identify(facts("arp.mac 00:00:01:02:03:04", "ssh.greeting SSH-2.0-Cisco-1.25"))
	if n := len(conflict[1].Others); n != 2 {
		t.Errorf("%d vendors are shown, want the one believed and the one that is not", n)
	}
}

func TestNamesComeFromWhatStandardsPutThere(t *testing.T) {
	engine := New(Default(), nil)
	for line, want := range map[string]string{
		"tls.subject cairn.fernhollow.example":               "cairn.fernhollow.example",
		"tls.subject Self-signed certificate":                "",
		"mail.smtp 220 acorn.fernhollow.example ESMTP ready": "acorn.fernhollow.example",
		"mail.smtp 220 ready":                                "",
	} {
		if got := engine.Identify(facts(line)).Of(Name); got != want {
			t.Errorf("%q gives the name %q, want %q", line, got, want)
		}
	}
}

func TestVendorName(t *testing.T) {
	for organisation, want := range map[string]string{
		"XEROX CORPORATION": "Xerox", "Xerox Corp.": "Xerox", "Shinko Technos co.,ltd.": "Shinko Technos",
		"Hewlett Packard": "HP", "IBM Corp": "IBM", "AVM GmbH": "AVM", "Limited": "Limited",
		"The Cooperative Company": "The Cooperative",
	} {
		if got := VendorName(organisation); got != want {
			t.Errorf("VendorName(%q) = %q, want %q", organisation, got, want)
		}
	}
}

func TestReadRulesPlacesFaults(t *testing.T) {
	const text = `rules:
  - rule: a
    because: x
    when: [{keys: [http.title], words: [print]}]
    says: [{attribute: kind, value: toaster, strength: 8}]
  - rule: a
    because: x
    when: [{keys: [http.title], like: '(', is: y}]
    says: [{attribute: colour, value: red, strength: 99}]
  - rule: b
`
	_, err := ReadRules("site.yaml", []byte(text))
	var list *fault.List
	if !errors.As(err, &list) {
		t.Fatalf("got %v, want a list of faults", err)
	}
	var got []string
	for _, f := range list.Faults {
		got = append(got, fmt.Sprintf("%d:%s", f.Line, f.Field))
	}
	want := "5:rules[0].says[0].value 8:rules[1].when[0] 8:rules[1].when[0].like 9:rules[1].says[0].attribute 9:rules[1].says[0].strength 6:rules[1].rule 10:rules[2] 10:rules[2].when 10:rules[2].says"
	if strings.Join(got, " ") != want {
		t.Errorf("faults at %s\nwant      %s", strings.Join(got, " "), want)
	}
}

func TestRulesNeedingSeveralFacts(t *testing.T) {
	rules, err := ReadRules("x", []byte(`rules:
  - rule: both
    because: two facts together
    when: [{keys: [http.title], words: [web*]}, {keys: [tcp.open], is: "502"}]
    unless: [{keys: [http.server], is: other}]
    says: [{attribute: kind, value: meter, strength: 9}]
`))
	if err != nil {
		t.Fatal(err)
	}
	engine := New(NewRules(rules), nil)
	for _, tt := range []struct {
		items []evidence.Item
		want  string
	}{
		{facts("http.title Webpage", "tcp.open 502"), "meter"},
		{facts("http.title Webpage"), Unknown},
		{facts("tcp.open 502"), Unknown},
		{facts("http.title Webpage", "tcp.open 502", "http.server OTHER"), Unknown},
	} {
		if got := engine.Identify(tt.items).Of(Kind); got != tt.want {
			t.Errorf("%v: %q, want %q", tt.items, got, tt.want)
		}
	}
}

func FuzzIdentify(f *testing.F) {
	f.Add("http.title", "Laser\x1b[31m printer *")
	f.Add("arp.mac", "00:00:01:02:03:04")
	engine := New(Default(), nil)
	f.Fuzz(func(t *testing.T, key, value string) {
		for _, claim := range engine.Identify(facts(key + " " + value)) {
			if claim.Attribute != Kind && claim.Value != "" && claim.Strength < needed {
				t.Errorf("%q=%q is believed with strength %d", key, value, claim.Strength)
			}
		}
	})
}

func BenchmarkIdentify(b *testing.B) {
	engine := New(Default(), nil)
	items := facts("arp.mac 00:00:01:02:03:04", "echo.ttl 64", "tcp.open 80", "tcp.open 9100", "tcp.open 515", "tcp.open 631",
		"http.title Laser Printer in the hall", "http.server nginx", "http.status 200", "ftp.greeting 220 ready")
	engine.Identify(items) // the tables are read once
	for b.Loop() {
		engine.Identify(items)
	}
	b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "devices/s")
}

func TestFixedPieces(t *testing.T) {
	for expression, want := range map[string]string{
		`^SSH-2.0-OpenSSH_\S+ Debian`: "0-openssh_", `synology`: "synology", `^(nginx|Apache)\b`: "nginx apache", `\((Debian)\)`: "(debian)", `a*`: "", `(`: "",
		`^(?:camera|ab)`: "", `^x(?:one|two)+ long enough`: " long enough", `(?i)camera`: "camera",
		`^(?:LINX|LIP-)`: "linx lip-", `^\S+ (?:md|mdl)=(.+)$`: " md=  mdl=", `colou?r print`: "colour print color print", `^[ab]cd`: "acd bcd", `^[a-z]cd`: "",
	} {
		if got := strings.Join(fixedPieces(expression), " "); got != want {
			t.Errorf("%s: %q, want %q", expression, got, want)
		}
	}
}

// A MAC prefix is one witness, by however many protocols and addresses it was shown.
func TestOneMACPrefixIsOneWitness(t *testing.T) {
	engine := New(Default(), nil)
	once := engine.Identify(facts("arp.mac 00:00:01:02:03:04"))
	both := engine.Identify(facts("nd.mac 00:00:01:02:03:04", "arp.mac 00:00:01:02:03:04", "nd.mac 00:00:01:02:03:05"))
	for _, id := range []Identity{once, both} {
		if len(id) != 2 || id[1].Value != "Xerox" || id[1].Strength != vendorFromMAC || len(id[1].Others[0].Reasons) != 1 {
			t.Errorf("got %+v", id)
		}
	}
	if six := engine.Identify(facts("nd.mac 00:00:01:02:03:04")); six.Of(Vendor) != "Xerox" {
		t.Errorf("by neighbour discovery alone: %+v", six)
	}
	if private := engine.Identify(facts("nd.mac da:3f:91:5c:20:17")); private.Of(Vendor) != "" || len(private[0].Others) == 0 {
		t.Errorf("a private one: %+v", private)
	}
	if own := engine.Identify(facts("self.name laptop-7")); own.Of(Name) != "laptop-7" {
		t.Errorf("the auditor's own machine is called %q", own.Of(Name))
	}
}
