package finding

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
	"airdrift/core/identify"
	"airdrift/core/ledger"
	"airdrift/core/netrange"
	"airdrift/core/register"
	"airdrift/core/wording"

	_ "airdrift/core/probe" // documents the facts
)

var day = time.Date(2034, 5, 1, 12, 0, 0, 0, time.UTC)

// Every rule has its texts, every value in them is given, and every fact that a rule rests on is documented.
func TestRulesAreWhole(t *testing.T) {
	seen := map[string]bool{}
	for _, rule := range Rules() {
		if seen[rule.ID] {
			t.Errorf("%s is there twice", rule.ID)
		}
		seen[rule.ID] = true
		text, ok := TextOf(wording.Default, rule.ID, nil)
		if !ok || text.Title == "" || text.Says == "" || text.Because == "" || text.Do == "" {
			t.Errorf("%s has the text %+v", rule.ID, text)
		}
		if rule.Severity < Info || rule.Severity > Critical || rule.Source == "" || rule.alone == nil && rule.together == nil || (rule.marks == nil) != (rule.together == nil) {
			t.Errorf("%s is not whole", rule.ID)
		}
		for _, key := range rule.facts {
			if _, ok := evidence.FactOf(key); !ok {
				t.Errorf("%s rests on %s, which nothing tells", rule.ID, key)
			}
		}
		for _, p := range rule.Params {
			if why := p.check(p.Default); p.Text == "" || p.Default != "" && why != "" {
				t.Errorf("%s: the parameter %s: %s", rule.ID, p.Name, why)
			}
		}
	}
	for _, language := range wording.Languages() {
		for rule := range wording.In(language).Rules {
			if !seen[rule] {
				t.Errorf("%s has a text for %s, and there is no such rule", language, rule)
			}
		}
	}
	for _, keys := range [][]string{hostFacts} {
		for _, key := range keys {
			if _, ok := evidence.FactOf(key); !ok {
				t.Errorf("nothing tells %s", key)
			}
		}
	}
}

func device(number uint64, addr string) ledger.Device {
	return ledger.Device{
		ID: number, Addrs: []netip.Addr{netip.MustParseAddr(addr)}, FirstSeen: day, LastSeen: day, LastSweep: 1, Standing: ledger.Managed, Presence: ledger.Seen,
	}
}

func believing(d ledger.Device, pairs ...string) ledger.Device {
	for i := 0; i < len(pairs); i += 2 {
		d.Identity = append(d.Identity, identify.Belief{Attribute: identify.Attribute(pairs[i]), Value: pairs[i+1], Strength: 20})
	}
	return d
}

// facts makes items of "key=value" or "key@tcp/22=value".
func facts(texts ...string) (items []evidence.Item) {
	for _, text := range texts {
		key, value, _ := strings.Cut(text, "=")
		key, port, _ := strings.Cut(key, "@")
		it := evidence.Item{Key: key, Value: value, At: day}
		if known, ok := evidence.FactOf(key); ok {
			it.Source = known.Source
		}
		if port != "" {
			if err := it.Port.UnmarshalText([]byte(port)); err != nil {
				panic(err)
			}
		}
		items = append(items, it)
	}
	return items
}

func mac(text string) hwaddr.MAC {
	m, err := hwaddr.Parse(text)
	if err != nil {
		panic(err)
	}
	return m
}

func site() Site {
	pool, _ := netrange.Parse("10.9.1.100-10.9.1.199")
	return Site{
		Networks: []Network{
			{Name: "offices", Subnet: netip.MustParsePrefix("10.9.1.0/24"), Use: Offices, Gateway: netip.MustParseAddr("10.9.1.1"), Dynamic: pool},
			{Name: "plant", Subnet: netip.MustParsePrefix("10.9.2.0/24"), Use: Plant, Gateway: netip.MustParseAddr("10.9.2.1")},
		},
		Leases: true, Now: day,
		Wanted: func(vendor, model string) string { return map[string]string{"Gate 9": "3.0"}[model] },
		Ends:   []End{{"Ostermoor *", day.AddDate(0, -1, 0), "maker's page"}, {"Old OS 4", day.AddDate(0, 1, 0), "maker's page"}},
	}
}

// said gives remarks as "rule about: devices".
func said(remarks []Remark) []string {
	var list []string
	for _, r := range remarks {
		list = append(list, strings.TrimSpace(fmt.Sprintf("%s %s %s", r.Severity, r.Rule, r.About))+" "+strings.Trim(fmt.Sprint(r.Devices), "[]"))
	}
	slices.Sort(list)
	return list
}

func TestRulesOfOneDevice(t *testing.T) {
	plain := device(1, "10.9.1.10")
	with := func(change func(*ledger.Device)) ledger.Device {
		d := plain
		change(&d)
		return d
	}
	tests := []struct {
		name string
		c    Case
		want string // of said, joined
	}{
		{"nothing wrong", Case{Device: plain, Items: facts("http.title=garden")}, ""},
		{"unmanaged", Case{Device: with(func(d *ledger.Device) { d.Standing = ledger.Unmanaged })}, "medium unmanaged 1"},
		{"set aside", Case{Device: with(func(d *ledger.Device) { d.Standing = ledger.SetAside }), Items: facts("snmp.default=public")}, ""},
		{"missing where it was looked", Case{Device: ledger.Device{ID: 1, Standing: ledger.Missing, Presence: ledger.Silent, Entry: &register.Entry{Name: "a"}}}, "medium missing 1"},
		{"missing where nobody looked", Case{Device: ledger.Device{ID: 1, Standing: ledger.Missing, Presence: ledger.Uncovered, Entry: &register.Entry{Name: "a"}}}, ""},
		{"drift", Case{Device: with(func(d *ledger.Device) {
			d.Entry = &register.Entry{Name: "a", Addr: netip.MustParseAddr("10.9.1.11"), Model: "Climate 900"}
			*d = believing(*d, "name", "b", "model", "climate-900")
		})}, "low drift address 1|low drift name 1"},
		{"a port that opened", Case{Device: with(func(d *ledger.Device) { d.Open = []evidence.Port{evidence.TCP(80), evidence.TCP(23)} }), Opened: []string{"tcp/23"}}, "medium new-service tcp/23 1"},
		{"one that stands", Case{Device: with(func(d *ledger.Device) { d.Open = []evidence.Port{evidence.TCP(23)} }), Standing: []string{"tcp/23", "tcp/99"}}, "medium new-service tcp/23 1"},
		{"it stopped", Case{Device: plain, Items: facts("sweep.lost=ssh at tcp/22", "tcp.stopped=yes")}, "medium stopped-answering 1"},
		{"slow by itself", Case{Device: plain, Times: []evidence.Times{{Protocol: "bacnet", Answers: 5, Median: 2 * time.Second}, {Protocol: "http", Answers: 2, Median: 9 * time.Second}}}, "low slow bacnet 1"},
		{"firmware that the site does not want", Case{Device: believing(plain, "model", "Gate 9", "firmware", "2.9")}, "low firmware-behind 1"},
		{"firmware that it wants", Case{Device: believing(plain, "model", "Gate 9", "firmware", "3.0")}, ""},
		{"past its end", Case{Device: believing(plain, "vendor", "Ostermoor", "model", "Gate 4")}, "high end-of-support Ostermoor Gate 4 1"},
		{"before its end", Case{Device: believing(plain, "os", "Old OS 4")}, ""},
		{"factory address", Case{Device: believing(device(1, "192.168.1.64"), "vendor", "Hikvision")}, "medium factory-address 192.168.1.64 1"},
		{"another maker's", Case{Device: believing(device(1, "192.168.1.64"), "vendor", "Ostermoor")}, ""},
		{"wrong subnet", Case{Device: with(func(d *ledger.Device) {
			d.Addrs, d.Traits, d.Segment = []netip.Addr{netip.MustParseAddr("10.7.7.7")}, []ledger.Trait{ledger.WrongSubnet}, netip.MustParsePrefix("10.9.1.0/24")
		})}, "medium wrong-subnet 10.7.7.7 1"},
		{"mask and gateway", Case{Device: plain, Items: facts("profinet.mask=255.255.0.0", "profinet.gateway=10.9.2.1")}, "high plant-reachable offices 1|medium mask-or-gateway gateway 1|medium mask-or-gateway mask 1"},
		{"mask and gateway that fit", Case{Device: plain, Items: facts("profinet.mask=255.255.255.0", "profinet.gateway=10.9.1.1")}, "high plant-reachable offices 1"},
		{"no gateway", Case{Device: plain, Items: facts("profinet.mask=255.255.255.0", "profinet.gateway=0.0.0.0")}, "high plant-reachable offices 1"},
		{"a mask with a hole", Case{Device: plain, Items: facts("profinet.mask=255.0.255.0")}, "high plant-reachable offices 1|medium mask-or-gateway mask 1"},
		{"static in the pool", Case{Device: device(1, "10.9.1.120")}, "medium static-in-pool 10.9.1.120 1"},
		{"leased in the pool", Case{Device: device(1, "10.9.1.120"), Items: facts("lease.mac=48:9b:34:00:00:01")}, ""},
		{"answers for others", Case{Device: with(func(d *ledger.Device) { d.Traits = []ledger.Trait{ledger.AnswersForOthers} })}, "low answers-for-others 1"},
		{"every port", Case{Device: plain, Items: facts("tcp.every=yes", "tcp.every=yes")}, "info every-port 1"},
		{"passwords in clear text", Case{Device: plain, Items: facts("text.telnet@tcp/23=login:", "ftp.greeting@tcp/21=220", "http.sign-in@tcp/80=basic", "http.sign-in@tcp/81=digest", "http.sign-in@tcp/443=form", "tls.version@tcp/443=TLS 1.3")},
			"medium clear-text-sign-in tcp/21 1|medium clear-text-sign-in tcp/23 1|medium clear-text-sign-in tcp/80 1"},
		{"desktops", Case{Device: plain, Items: facts("vnc.security@tcp/5900=none, password", "rdp.security@tcp/3389=TLS")}, "critical open-desktop tcp/5900 1|high open-desktop tcp/3389 1"},
		{"a desktop that asks first", Case{Device: plain, Items: facts("rdp.security@tcp/3389=network level authentication")}, ""},
		{"default community", Case{Device: plain, Items: facts("snmp.default=public", "snmp.version=2c")}, "high default-community 1|medium old-snmp 1"},
		{"version 3 besides", Case{Device: plain, Items: facts("snmp.version=3", "snmp.version=2c")}, ""},
		{"open data", Case{Device: plain, Items: facts("mqtt.answer=accepted without a name", "smb.anybody=guest", "nfs.export=/a to everybody", "nfs.export=/b to 10.9.1.0/24", "ftp.anonymous=let in", "dav.answer=sign-in")},
			"high open-data FTP 1|high open-data MQTT 1|high open-data NFS 1"},
		{"shares", Case{Device: plain, Items: facts("smb.anybody=guest", "smb.share=seeds (disk)")}, "high open-data file shares 1"},
		{"old versions", Case{Device: plain, Items: facts("smb.dialect=2.0.2", "ssh.greeting@tcp/22=SSH-1.99-x", "tls.version@tcp/443=TLS 1.0")}, "high old-ssh tcp/22 1|medium old-smb 1|medium old-tls tcp/443 1"},
		{"new versions", Case{Device: plain, Items: facts("smb.dialect=3.1.1", "ssh.greeting@tcp/22=SSH-2.0-x", "tls.version@tcp/443=TLS 1.2")}, ""},
		{"plant among people", Case{Device: plain, Items: facts("bacnet.instance=7")}, "high plant-reachable offices 1|low open-control BACnet 1"},
		{"plant where it belongs", Case{Device: device(1, "10.9.2.10"), Items: facts("bacnet.instance=7")}, "low open-control BACnet 1"},
		{"plant without a name", Case{Device: plain, Items: facts("profinet.role=controller")}, "high plant-reachable offices 1"},
		{"a bus without a name", Case{Device: plain, Items: facts("knx.serial=00ab12345678")}, "high plant-reachable offices 1"},
		{"a server of plant without a name", Case{Device: plain, Items: facts("opcua.uri=urn:acorn")}, "high plant-reachable offices 1"},
		{"plant that people reach", Case{Device: func() ledger.Device {
			d := device(1, "10.9.2.10")
			d.Views = []ledger.View{{Vantage: "eth0 10.9.1.0/24", Sweep: 1}}
			return d
		}(), Items: facts("bacnet.instance=7")}, "high plant-reachable offices 1|low open-control BACnet 1"},
		{"a clock", Case{Device: plain, Items: facts("smb.time=2034-05-01T12:20:00Z")}, "low clock-off 1"},
		{"a clock that is right", Case{Device: plain, Items: facts("smb.time=2034-05-01T12:04:00Z")}, ""},
		{"expired", Case{Device: plain, Items: facts("tls.until@tcp/443=2034-04-30T00:00:00Z")}, "high certificate-expired tcp/443 1"},
		{"expiring", Case{Device: plain, Items: facts("tls.until@tcp/443=2034-05-20T00:00:00Z")}, "medium certificate-expiring tcp/443 1"},
		{"self-made and weak", Case{Device: plain, Items: facts("tls.subject@tcp/443=a", "tls.issuer@tcp/443=a", "tls.strength@tcp/443=RSA 1024, SHA256-RSA", "tls.strength@tcp/8443=RSA 2048, SHA1-RSA", "tls.strength@tcp/9443=ECDSA 256, ECDSA-SHA256")},
			"info certificate-self-made tcp/443 1|medium certificate-weak tcp/443 1|medium certificate-weak tcp/8443 1"},
		{"nonsense", Case{Device: plain, Items: facts("tls.until=yesterday", "smb.time=soon", "profinet.gateway=x", "tls.strength=?", "mqtt.answer=")}, "high plant-reachable offices 1"},
	}
	for _, tt := range tests {
		if got := strings.Join(said(NewJudge(site()).All([]Case{tt.c})), "|"); got != tt.want {
			t.Errorf("%s: %s, want %s", tt.name, got, tt.want)
		}
	}
}

func TestRulesOfSeveralDevices(t *testing.T) {
	contested := func(number uint64) Case {
		d := device(number, "10.9.1.66")
		d.Contested = d.Addrs
		return Case{Device: d}
	}
	of := func(number uint64, pairs []string, texts ...string) Case {
		return Case{Device: believing(device(number, fmt.Sprintf("10.9.1.%d", number)), pairs...), Items: facts(texts...)}
	}
	timed := func(number uint64, median time.Duration) Case {
		c := of(number, []string{"vendor", "Thornquist", "model", "Climate 900"})
		c.Times = []evidence.Times{{Protocol: "bacnet", Answers: 9, Median: median}}
		return c
	}
	model := func(version string) []string {
		return []string{"vendor", "Ravelin", "model", "Gate 4", "firmware", version}
	}
	tests := []struct {
		name  string
		cases []Case
		want  string
	}{
		{"an address", []Case{contested(1), contested(2)}, "high shared-address 10.9.1.66 1 2"},
		{"a name", []Case{of(1, []string{"name", "desk"}), of(2, []string{"name", "DESK.garden.example"}), of(3, []string{"name", "10.9.1.3"}), of(4, []string{"name", "10.9.1.4"})}, "low shared-name desk 1 2"},
		{"host keys", []Case{of(1, nil, "ssh.hostkey@tcp/22=SHA256:a", "ssh.hostkey@tcp/2222=SHA256:a"), of(2, nil, "ssh.hostkey=SHA256:a"), of(3, nil, "ssh.hostkey=SHA256:b", "ssh.hostkey=SHA256:b")}, "high shared-host-key SHA256:a 1 2"},
		{"keys of certificates", []Case{of(1, nil, "tls.key=aa"), of(2, nil, "tls.key=aa")}, "medium certificate-shared aa 1 2"},
		{"numbers of BACnet", []Case{{Device: device(1, "10.9.2.1"), Items: facts("bacnet.instance=7")}, {Device: device(2, "10.9.2.2"), Items: facts("bacnet.instance=7")}}, "high duplicate-bacnet 7 1 2|low open-control BACnet 1|low open-control BACnet 2"},
		{"firmware", []Case{of(1, model("4.9")), of(2, model("4.10")), of(3, model("4.10"))}, "low firmware-behind 1"},
		{"a slow one", []Case{timed(1, 20*time.Millisecond), timed(2, 25*time.Millisecond), timed(3, 30*time.Millisecond), timed(4, 400*time.Millisecond)}, "low slow bacnet 4"},
		{"too few to tell", []Case{timed(1, 20*time.Millisecond), timed(2, 25*time.Millisecond), timed(4, 400*time.Millisecond)}, ""},
		{"a stale record", []Case{of(1, nil, "dns.ptr=old.garden.example", "snmp.sysName=new"), of(2, nil, "smb.name=OLD")}, "low stale-name old 1"},
		{"a record of a host that says nothing", []Case{of(1, nil, "dns.ptr=old.garden.example"), of(2, nil, "smb.name=OLD")}, ""},
	}
	for _, tt := range tests {
		if got := strings.Join(said(NewJudge(site()).All(tt.cases)), "|"); got != tt.want {
			t.Errorf("%s: %s, want %s", tt.name, got, tt.want)
		}
	}
}

// An address that went from one MAC address to the other and back is remarked; one that was given on once is not.
func TestMovingAddress(t *testing.T) {
	a := netip.MustParseAddr("10.9.1.5")
	held := func(m string, from, until int) ledger.Tenure {
		return ledger.Tenure{Addr: a, MAC: mac(m), Since: day.AddDate(0, 0, from), Until: day.AddDate(0, 0, until)}
	}
	one, other := "48:9b:34:00:00:01", "48:9b:34:00:00:02"
	c := Case{Device: device(1, "10.9.1.5"), Moves: []ledger.Tenure{held(other, -3, -2), held(one, -4, -3), held(one, -2, -1), held(other, -1, 0)}}
	if got := said(NewJudge(site()).All([]Case{c})); strings.Join(got, "|") != "medium moving-address 10.9.1.5 1" {
		t.Error(got)
	}
	c.Moves = c.Moves[:2]
	if got := said(NewJudge(site()).All([]Case{c})); len(got) > 0 {
		t.Error(got)
	}
}

func TestSettings(t *testing.T) {
	s := site()
	c := Case{Device: device(1, "10.9.1.10"), Items: facts("tls.until@tcp/443=2034-05-20T00:00:00Z", "snmp.default=public", "smb.time=2034-05-01T12:20:00Z")}
	s.Settings = []Setting{
		{Rule: "certificate-expiring", Params: map[string]string{"days": "10"}}, {Rule: "default-community", Severity: Critical}, {Rule: "clock-off", Off: true},
	}
	if got := strings.Join(said(NewJudge(s).All([]Case{c})), "|"); got != "critical default-community 1" {
		t.Error(got)
	}
	ruling := NewJudge(s).Of(c)
	if want := time.Date(2034, 5, 10, 0, 0, 0, 0, time.UTC); !ruling.Due.Equal(want) {
		t.Errorf("it changes by itself at %v, want %v", ruling.Due, want)
	}
	for _, tt := range []struct {
		setting Setting
		want    string
	}{
		{Setting{Rule: "no-such"}, `there is no rule "no-such"`},
		{Setting{Rule: "unmanaged", Params: map[string]string{"days": "1"}}, `the rule unmanaged has no parameter "days": it has none`},
		{Setting{Rule: "slow", Params: map[string]string{"tiems": "5"}}, "it has milliseconds, times, least, answers"},
		{Setting{Rule: "slow", Params: map[string]string{"times": "0"}}, "the parameter times of the rule slow is \"0\": want a number from 1.5 to 1000"},
		{Setting{Rule: "slow", Params: map[string]string{"times": "NaN"}}, "want a number"},
	} {
		if err := tt.setting.Check(Rules()); err == nil || !strings.Contains(err.Error(), tt.want) {
			t.Errorf("%+v: %v, want %q", tt.setting, err, tt.want)
		}
	}
}

// A finding is opened, goes on, is closed by a sweep that looked, and is opened again; what was accepted stays so until its day.
func TestLifeOfAFinding(t *testing.T) {
	remark := Remark{Rule: "unmanaged", Severity: Medium, Devices: []uint64{7}, Alone: true}
	sweep := uint64(3)
	look := Look{At: day, Sweep: func(uint64) (uint64, bool) { return sweep, true }, Why: BySweep}
	f := Fold(nil, []Remark{remark, remark}, look)
	if len(f) != 1 || f[0].State != Open || f[0].Sweep != 3 || f[0].Times != 1 || !f[0].Since.Equal(day) {
		t.Fatalf("%+v", f)
	}
	if again := Fold(f, []Remark{remark}, look); len(again) != 0 {
		t.Errorf("nothing has changed, and it gave %+v", again)
	}
	if closed := Fold(f, nil, look); len(closed) != 1 || closed[0].ClosedBy != ByRegister || closed[0].Closing != 0 {
		t.Errorf("no sweep has looked since, and it was closed so: %+v", closed)
	}
	sweep, look.Why = 4, BySettings
	if closed := Fold(f, nil, look); len(closed) != 1 || closed[0].ClosedBy != BySettings || closed[0].Closing != 0 {
		t.Errorf("the settings have changed, and it was closed so: %+v", closed)
	}
	look.Why = BySweep
	closed := Fold(f, nil, look)
	if len(closed) != 1 || closed[0].State != Closed || closed[0].ClosedBy != BySweep || closed[0].Closing != 4 {
		t.Fatalf("%+v", closed)
	}
	if still := Fold(closed, nil, look); len(still) != 0 {
		t.Errorf("it was closed twice: %+v", still)
	}
	sweep = 5
	opened := Fold(closed, []Remark{remark}, look)
	if len(opened) != 1 || opened[0].State != Open || opened[0].Times != 2 || opened[0].Sweep != 5 || !opened[0].ClosedAt.IsZero() {
		t.Fatalf("%+v", opened)
	}
	accepted := opened
	accepted[0].State, accepted[0].Accepted = Accepted, &Acceptance{Reason: "a loan", Until: day.AddDate(0, 1, 0)}
	if on := Fold(accepted, []Remark{remark}, look); len(on) != 0 {
		t.Errorf("what is accepted was changed: %+v", on)
	}
	look.At = day.AddDate(0, 2, 0)
	if late := Fold(accepted, []Remark{remark}, look); len(late) != 1 || late[0].State != Open {
		t.Errorf("the day has passed: %+v", late)
	}
	look.Sweep = func(uint64) (uint64, bool) { return 0, false }
	if gone := Fold(opened, nil, look); len(gone) != 1 || gone[0].ClosedBy != ByLeaving {
		t.Errorf("the device is gone: %+v", gone)
	}
}

func TestOwnRules(t *testing.T) {
	own, err := ReadRules("site.yaml", []byte(`rules:
  - rule: printers-without-name
    severity: high
    title: Printer that anybody prints on
    because: Paper is dear.
    do: Switch raw printing off.
    source: house rules, 4
    devices: {kind: [printer], network: [offices]}
    when:
      - {keys: [tcp.open], is: "9100"}
`))
	if err != nil {
		t.Fatal(err)
	}
	s := site()
	s.Own = own
	printer := believing(device(1, "10.9.1.10"), "kind", "printer")
	other := believing(device(2, "10.9.2.10"), "kind", "printer")
	items := facts("tcp.open@tcp/9100=9100")
	remarks := NewJudge(s).All([]Case{{Device: printer, Items: items}, {Device: other, Items: items}})
	if got := strings.Join(said(remarks), "|"); got != "high printers-without-name 1" {
		t.Fatal(got)
	}
	if title, says := remarks[0].Said("en", own); title != "Printer that anybody prints on" || says != title+"." {
		t.Errorf("it says %q, %q", title, says)
	}
	for _, tt := range []struct{ text, want string }{
		{"rules: [{rule: unmanaged, severity: low, title: a, because: b, do: c, devices: {kind: [printer]}}]", `there is a rule "unmanaged" already`},
		{"rules: [{rule: A b, severity: low, title: a, because: b, do: c, devices: {kind: [printer]}}]", "lower-case letters"},
		{"rules:\n - {rule: a, severity: worst, title: a, because: b, do: c, devices: {kind: [printer]}}", "line 2, column 24"},
		{"rules: [{rule: a, severity: low, title: a, because: b, do: c}]", "at least one condition"},
		{"rules: [{rule: a, severity: low, title: a, because: b, do: c, devices: {kind: [printr]}}]", `"printr" is no kind`},
		{"rules: [{rule: a, severity: low, title: a, because: b, do: c, limit: 5, devices: {kind: [printer]}}]", "unknown field"},
		{"rules: [{rule: a, severity: low, title: a, because: b, do: c, when: [{keys: [tcp.open], like: '('}]}]", "not a regular expression"},
	} {
		if _, err := ReadRules("site.yaml", []byte(tt.text)); err == nil || !strings.Contains(err.Error(), tt.want) {
			t.Errorf("%s: %v, want %q", tt.text, err, tt.want)
		}
	}
}

func TestEndsOfSupport(t *testing.T) {
	ends, err := ReadEnds("ends.csv", strings.NewReader("pattern,date,source\nOstermoor Gate *,2030-01-31,maker\n\"'=old*os\",2031-01-01,maker\n"))
	if err != nil || len(ends) != 2 || ends[1].Pattern != "=old*os" {
		t.Fatalf("%+v, %v", ends, err)
	}
	ready := endsOf(ends)
	for _, tt := range []struct {
		vendor, model, system string
		want                  int
	}{{"Ostermoor", "Gate 4", "", 1}, {"Ostermoor", "Weave 24", "", 0}, {"", "Gate 4", "", 0}, {"", "", "=OLD big OS", 1}, {"", "", "=oldos", 1}, {"", "", "=olds", 0}} {
		if got := ready.of(tt.vendor, tt.model, tt.system); len(got) != tt.want {
			t.Errorf("%+v: %v", tt, got)
		}
	}
	for _, tt := range []struct{ text, want string }{
		{"", "the first line has to be pattern,date,source"},
		{"pattern,date\n", "the first line has to be"},
		{"pattern,date,source\n*,2030-01-01,maker\n", "line 2 (pattern): \"*\" matches everything"},
		{"pattern,date,source\nGate,31.1.2030,maker\n", "line 2 (date)"},
		{"pattern,date,source\nGate,2030-01-01,\n", "(source): it is empty"},
		{"pattern,date,source\nGate\n", "it has 1 fields"},
		{"pattern,date,source\n\"Gate,2030-01-01,x\n", "ends.csv:"},
		{"pattern,date,source\n" + strings.Repeat("*a", 20) + ",2030-01-01,x\n", "at most 200 bytes and 8 *"},
	} {
		if _, err := ReadEnds("ends.csv", strings.NewReader(tt.text)); err == nil || !strings.Contains(err.Error(), tt.want) {
			t.Errorf("%q: %v, want %q", tt.text, err, tt.want)
		}
	}
}

// What a device says of itself, however long and whatever it holds, stays within bounds and in its place.
func TestHostileWordsStayInPlace(t *testing.T) {
	evil := "{port}<script>\x1b[2J\n=cmd()" + strings.Repeat("ä", 5000)
	items := facts("snmp.default="+evil, "ssh.hostkey="+evil, "bacnet.instance="+evil)
	for i := range 5000 {
		items = append(items, facts(fmt.Sprintf("ssh.hostkey=key %d", i), fmt.Sprintf("tls.until@tcp/%d=2030-01-01T00:00:00Z", i+1))...)
	}
	ruling := NewJudge(site()).Of(Case{Device: believing(device(1, "10.9.1.1"), "name", evil), Items: items})
	marks := map[string]int{}
	for _, m := range ruling.Marks {
		if marks[m.Rule]++; len(m.Group) > maxAbout || marks[m.Rule] > maxMarks {
			t.Fatalf("a mark of %d bytes, the %dth of %s", len(m.Group), marks[m.Rule], m.Rule)
		}
	}
	remarks := map[string]int{}
	for _, r := range ruling.Remarks {
		if remarks[r.Rule]++; remarks[r.Rule] > maxRemarks {
			t.Fatalf("%d remarks of %s on one device", remarks[r.Rule], r.Rule)
		}
		if r.Rule == "default-community" {
			if _, says := r.Said("en", nil); len(says) > 400 || strings.Contains(says, "\n") || strings.Contains(says, "tcp/") {
				t.Errorf("it says %q", says)
			}
		}
	}
}
