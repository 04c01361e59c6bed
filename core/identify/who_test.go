package identify

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"airdrift/core/evidence"
	"airdrift/core/registry"
	"airdrift/core/yamlfile"
)

// believe identifies facts and gives what is believed of some attributes, separated by commas.
func believe(e *Engine, facts []evidence.Item, attributes ...Attribute) string {
	identity := e.Identify(facts)
	values := make([]string, len(attributes))
	for i, a := range attributes {
		values[i] = identity.Of(a)
	}
	return strings.Join(values, ", ")
}

func TestMakersAreTold(t *testing.T) {
	engine := New(Default(), nil)
	for name, tt := range map[string]struct {
		facts []evidence.Item
		want  string
	}{
		"by an agent's number":                {facts("snmp.enterprise 9"), "Cisco Systems"},
		"by an engine's number":               {facts("snmp.engine-enterprise 2435"), "Brother"},
		"not by the number of bought agents":  {facts("snmp.enterprise 8072", "snmp.engine-enterprise 8072"), ""},
		"not by a number given to nobody":     {facts("snmp.enterprise 99999"), ""},
		"not by what is no number":            {facts("snmp.enterprise x"), ""},
		"by a word of its own":                {facts("sip.agent Yealink SIP-T46G 28.83"), "Yealink"},
		"by a phrase of its own":              {facts("snmp.sysDescr KONICA MINOLTA bizhub C364e"), "Konica Minolta"},
		"not where a text names two":          {facts("snmp.sysDescr Brother printer driver for Lexmark"), ""},
		"not by a part of a word":             {facts("http.title Applesauce and dellwood"), ""},
		"by itself, over its network card":    {facts("arp.mac 00:00:0c:01:02:03", "snmp.maker Acme Chillers Ltd"), "Acme Chillers"},
		"under one name by whichever":         {facts("arp.mac 00:1e:0b:01:02:03", "ipp.device MFG:Hewlett-Packard;MDL:X;"), "HP"},
		"not by who wrote a server of media":  {facts("upnp.type urn:schemas-upnp-org:device:MediaServer:1", "upnp.maker Somebody"), ""},
		"by a node's address beyond a router": {facts("netbios.mac 00:04:13:01:02:03"), "Snom"},
		"by a lease beyond a router":          {facts("lease.mac 00:04:13:01:02:03"), "Snom"},
	} {
		if got := believe(engine, tt.facts, Vendor); got != tt.want {
			t.Errorf("%s: %q, want %q", name, got, tt.want)
		}
	}
}

func TestASitesOwnMakersAreKnownByName(t *testing.T) {
	table := &registry.Table{}
	prefix, err := registry.ParsePrefix("48:9b:34")
	if err != nil {
		t.Fatal(err)
	}
	table.Add(prefix, "Thornquist Controls")
	table.Finish()
	got := believe(New(Default(), table), facts("snmp.sysDescr Thornquist Controls Climate 900", "ipp.model Thornquist Controls Climate 900"), Vendor, Model)
	if got != "Thornquist Controls, Climate 900" {
		t.Error(got)
	}
	if got := believe(New(Default(), nil), facts("snmp.sysDescr Thornquist Controls Climate 900"), Vendor); got != "" {
		t.Errorf("elsewhere: %q", got)
	}
}

func TestConflictsAreShown(t *testing.T) {
	engine := New(Default(), nil)
	for name, tt := range map[string]struct {
		facts     []evidence.Item
		attribute Attribute
		value     string
		says      string
	}{
		"a card in a device":   {facts("arp.mac 00:25:90:01:02:03", "snmp.maker Synology"), Vendor, "Synology", "The MAC address says Supermicro, snmp says Synology: likely a network card of Supermicro in a device of Synology."},
		"a part in a device":   {facts("arp.mac 00:1b:21:01:02:03", "snmp.maker Synology"), Vendor, "Synology", ""},
		"two that are as sure": {facts("snmp.mib printer", "sip.server Asterisk PBX"), Kind, Unknown, "snmp says printer, sip says pbx."},
		"one that is surer":    {facts("snmp.mib printer", "ipp.model Example 9", "mdns.type _pdl-datastream._tcp", "http.title Network camera"), Kind, "printer", "http says camera"},
		"a maker by its card":  {facts("arp.mac 00:25:90:01:02:03", "http.title Synology"), Vendor, "", "says"},
		"nothing against it":   {facts("snmp.mib printer", "tcp.open 9100"), Kind, "printer", ""},
	} {
		identity := engine.Identify(tt.facts)
		if !slices.ContainsFunc(identity, func(c Claim) bool { return c.Attribute == tt.attribute }) && tt.value != "" {
			t.Errorf("%s: nothing is claimed of %s", name, tt.attribute)
		}
		for _, claim := range identity {
			if claim.Attribute == tt.attribute && (claim.Value != tt.value && tt.value != "" || !strings.Contains(claim.Conflict, tt.says) || tt.says == "" && claim.Conflict != "") {
				t.Errorf("%s: %q with the conflict %q; want %q with %q", name, claim.Value, claim.Conflict, tt.value, tt.says)
			}
		}
	}
}

func TestTheBestOfAllNamesIsShown(t *testing.T) {
	engine := New(Default(), nil)
	for name, tt := range map[string]struct {
		facts []evidence.Item
		want  string
	}{
		"one":                          {facts("mdns.host acorn.local"), "acorn.local"},
		"what several agree on":        {facts("snmp.sysName printer7", "mdns.host acorn.local", "llmnr.name acorn"), "acorn.local"},
		"the longest form of one name": {facts("netbios.name ACORN", "dns.ptr acorn.garden.example"), "acorn.garden.example"},
		"none that is no name":         {facts("snmp.sysName <script>", "upnp.name =cmd"), ""},
	} {
		if got := believe(engine, tt.facts, Name); got != tt.want {
			t.Errorf("%s: %q, want %q", name, got, tt.want)
		}
	}
}

func TestModelsAreNamedWithoutTheirMakers(t *testing.T) {
	for model, want := range map[string]string{
		"HP LaserJet 500": "LaserJet 500", "Hewlett-Packard LaserJet 500": "LaserJet 500", "Brother": "Brother", "EPSON ET-2750 Series": "ET-2750 Series",
		"Palm House 9": "Palm House 9", "Acme Chiller 7": "Chiller 7", "  spaced   out ": "spaced out",
	} {
		if got := modelName(model, func(name string) bool { return name == " acme " }); got != want {
			t.Errorf("%q is called %q, want %q", model, got, want)
		}
	}
}

func TestSystemsAndVersions(t *testing.T) {
	engine := New(Default(), nil)
	for name, tt := range map[string]struct {
		facts []evidence.Item
		want  string
	}{
		"a switch's software over its boot code": {facts("snmp.software 15.0(2)SE", "snmp.firmware 12.1r"), ", 15.0(2)SE"},
		"the distribution over the kernel":       {facts("snmp.sysDescr Linux acorn 6.1.0-13-amd64 #1 SMP Debian 6.1.55-1 x86_64", "snmp.sysObjectID 1.3.6.1.4.1.8072.3.2.10", "ssh.greeting SSH-2.0-OpenSSH_9.2p1 Debian-2"), "Debian GNU/Linux, "},
		"a hint alone is not enough":             {facts("stack.syn ttl=128 df window=8192 options=mss,nop,ws8"), ", "},
		"a hint and a desktop":                   {facts("stack.syn ttl=128 df window=8192 options=mss,nop,ws8", "rdp.security network level authentication"), "Microsoft Windows, "},
		"a telephone's own words":                {facts("sip.agent Grandstream GXP2170 1.0.9.135"), ", 1.0.9.135"},
	} {
		if got := believe(engine, tt.facts, OS, Firmware); got != tt.want {
			t.Errorf("%s: %q, want %q", name, got, tt.want)
		}
	}
}

func TestKindsThatAreNearEachOther(t *testing.T) {
	engine := New(Default(), nil)
	for name, tt := range map[string]struct {
		facts []evidence.Item
		want  string
	}{
		"a label printer keeps the printers' module": {facts("snmp.mib printer", "snmp.device printer Tag label printer", "snmp.sysDescr Tag label printer", "tcp.open 9100"), "label-printer"},
		"a telephone forwards frames":                {facts("lldp.capability bridge", "lldp.capability telephone"), "phone"},
		"an access point forwards frames":            {facts("lldp.capability bridge", "lldp.capability wlan access point"), "access-point"},
		"a queue is no printer":                      {facts("http.server CUPS/2.4 IPP/2.1", "ipp.model Local Raw Printer", "tcp.open 631", "ssh.greeting SSH-2.0-OpenSSH_9.2"), "server"},
		"a recorder streams too":                     {facts("wsd.type dn:NetworkVideoStorage", "rtsp.status 200 OK"), "video-recorder"},
		"a renderer may be a screen":                 {facts("upnp.type urn:schemas-upnp-org:device:MediaRenderer:1"), Unknown},
		"a renderer that is one":                     {facts("upnp.type urn:schemas-upnp-org:device:MediaRenderer:1", "upnp.name Hall display"), "display"},
		"a clock of its own":                         {facts("ntp.stratum 1", "ntp.reference GPS"), "time-server"},
		"a clock of others":                          {facts("ntp.stratum 2", "ntp.reference 192.0.2.1"), Unknown},
	} {
		if got := believe(engine, tt.facts, Kind); got != tt.want {
			t.Errorf("%s: %q, want %q", name, got, tt.want)
		}
	}
}

// TestTheIndexMissesNothing holds what is found by way of the index against trying every rule on every fact, on the facts of the
// whole corpus.
func TestTheIndexMissesNothing(t *testing.T) {
	files, err := filepath.Glob("corpus/*.yaml")
	if err != nil || len(files) < 4 {
		t.Fatal(files, err)
	}
	rules := Default()
	held := 0
	for _, name := range files {
		text, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		var file struct {
			From  string `yaml:"from"`
			Cases []struct {
				Name  string            `yaml:"name"`
				Maker string            `yaml:"maker"`
				From  string            `yaml:"from"`
				Is    map[string]string `yaml:"is"`
				Facts []string          `yaml:"facts"`
				Half  string            `yaml:"half"`
			} `yaml:"cases"`
		}
		if _, err := yamlfile.Read(name, text, &file); err != nil {
			t.Fatal(err)
		}
		for _, c := range file.Cases {
			prepared := prepare(nil, facts(c.Facts...))
			var fast, slow []string
			for _, v := range rules.votes(nil, prepared) {
				fast = append(fast, v.rule+" "+v.value)
			}
			for i := range prepared {
				for r := range rules.all {
					if !slices.Contains(rules.all[r].When[0].Keys, prepared[i].Key) {
						continue
					}
					if groups, ok := rules.all[r].holds(&prepared[i], false, prepared); ok {
						for _, v := range rules.all[r].speak(nil, &prepared[i], groups) {
							slow = append(slow, v.rule+" "+v.value)
						}
					}
				}
			}
			slices.Sort(fast)
			slices.Sort(slow)
			held += len(slow)
			if !slices.Equal(fast, slow) {
				t.Errorf("%s: by the index %v\none by one %v", c.Name, fast, slow)
			}
		}
	}
	if held < 500 {
		t.Errorf("only %d rules held: the test holds little against little", held)
	}
}

func TestEveryVendorHasOneName(t *testing.T) {
	seen := map[string]string{}
	for _, m := range makers() {
		for _, name := range append([]string{m.Name}, m.Also...) {
			folded := fold(strings.Join(ownWords(name), " "))
			if other := seen[folded]; other != "" && other != m.Name {
				t.Errorf("%q stands for %s and for %s", name, other, m.Name)
			}
			seen[folded] = m.Name
		}
		if VendorName(m.Name) != m.Name {
			t.Errorf("%s is called %s", m.Name, VendorName(m.Name))
		}
	}
	words := map[string]string{}
	for _, m := range makers() {
		for _, w := range m.Words {
			if other := words[fold(w)]; other != "" {
				t.Errorf("the word %q tells %s and %s", w, other, m.Name)
			}
			words[fold(w)] = m.Name
		}
	}
}

// The place is believed that a keeper has entered, in whichever protocol; what things come with is none.
func TestPlacesAreTold(t *testing.T) {
	engine := New(Default(), nil)
	for name, tt := range map[string]struct {
		key, value, want string
	}{
		"an agent of SNMP":         {"snmp.sysLocation", " Palm house, north door ", "Palm house, north door"},
		"a BACnet device":          {"bacnet.location", "Roof", "Roof"},
		"a printer":                {"ipp.location", "Herbarium", "Herbarium"},
		"a camera":                 {"wsd.scope", "onvif://www.onvif.org/location/Gate", "Gate"},
		"a camera's room":          {"wsd.scope", "onvif://www.onvif.org/location/room/2.14", "2.14"},
		"a telephone":              {"lldp.location", "Visitor hall, 2, 14", "Visitor hall, 2, 14"},
		"an agent left as it came": {"snmp.sysLocation", "Unknown", ""},
		"another":                  {"snmp.sysLocation", "<not set>", ""},
		"a sign":                   {"snmp.sysLocation", " -- ", ""},
		"a camera's country":       {"wsd.scope", "onvif://www.onvif.org/location/country/elbonia", ""},
		"a camera left as it came": {"wsd.scope", "onvif://www.onvif.org/location/unknown", ""},
	} {
		source, _, _ := strings.Cut(tt.key, ".")
		if got := believe(engine, []evidence.Item{{Source: evidence.Source(source), Key: tt.key, Value: tt.value}}, Location); got != tt.want {
			t.Errorf("%s: %q, want %q", name, got, tt.want)
		}
	}
	if !Location.Same("Palm  House", "palm house") || Location.Same("Palm house", "Herbarium") || !Location.Stays() {
		t.Error("places are not compared as people write them")
	}
}
