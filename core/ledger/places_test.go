package ledger

import (
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
	"airdrift/core/identify"
	"airdrift/core/netrange"
	"airdrift/core/register"
)

// visits enters sweeps one after the other, and gives the devices and the changes after each.
type visits struct {
	t       *testing.T
	devices []Device
	changes []Change
}

// sweep enters a sweep as a store would, and gives for each of its sightings the number of its device.
func (v *visits) sweep(s Sweep) []uint64 {
	v.t.Helper()
	result := Apply(v.devices, nil, s, engine)
	next := uint64(0)
	for _, d := range slices.Concat(v.devices, result.Devices) {
		next = max(next, d.ID)
	}
	for i := range result.Devices {
		if d := &result.Devices[i]; d.ID == 0 {
			next++
			d.ID = next
		}
	}
	v.devices, v.changes = result.Devices, result.Changes
	ids := make([]uint64, len(result.Of))
	for i, at := range result.Of {
		ids[i] = result.Devices[at].ID
	}
	return ids
}

func (v *visits) changed() string {
	var texts []string
	for _, c := range v.changes {
		texts = append(texts, string(c.Kind)+" "+c.Before+">"+c.After)
	}
	return strings.Join(texts, "; ")
}

func (v *visits) device(id uint64) Device {
	v.t.Helper()
	at := slices.IndexFunc(v.devices, func(d Device) bool { return d.ID == id })
	if at < 0 {
		v.t.Fatalf("there is no device %d", id)
	}
	return v.devices[at]
}

// inOffices and inPlant are sweeps of both networks, made from the one or the other.
func inOffices(id uint64, sightings ...evidence.Sighting) Sweep {
	s := sweepOf(id, sightings...)
	s.Vantage = "eth0"
	return s
}

func inPlant(id uint64, sightings ...evidence.Sighting) Sweep {
	s := sweepOf(id, sightings...)
	s.Vantage, s.OnLink, s.Gateway = "eth0", []netip.Prefix{far}, netip.MustParseAddr("10.40.2.1")
	return s
}

// A building swept from two sides has each device once; who is seen from one side alone is not missed from the other.
func TestTwoVantagesSeeOneBuilding(t *testing.T) {
	v := &visits{t: t}
	camera, printer := "48:9b:34:00:00:05", "48:9b:34:00:00:06"
	first := v.sweep(inOffices(1,
		sight("10.40.1.5", camera, "http.title Network Camera"), sight("10.40.1.6", printer, "ssh.hostkey P"), sight("10.40.1.7", "48:9b:34:00:00:07"),
		sight("10.40.2.9", "", "echo.ttl 63"), sight("10.40.1.250", "48:9b:34:00:00:fa", "self.name laptop")))
	second := v.sweep(inPlant(2,
		sight("10.40.1.5", "", "http.title Network Camera", "echo.ttl 63"), sight("10.40.1.6", "", "ssh.hostkey P"),
		sight("10.40.2.9", "48:9b:34:00:00:09"), sight("10.40.2.250", "48:9b:34:00:00:fb", "self.name laptop")))
	if !slices.Equal(second, []uint64{first[0], first[1], first[3], first[4]}) || v.changed() != "" {
		t.Fatalf("from the other side devices %v are %v; changes %s", first, second, v.changed())
	}
	if d := v.device(first[2]); d.Presence != Seen {
		t.Errorf("a device that is never seen from the other side is %s", d.Presence)
	}
	if d := v.device(first[0]); d.Identity.Of(identify.Kind) != "camera" || evidence.First(d.Items, evidence.KeyMAC) != camera || !d.Segment.IsValid() {
		t.Errorf("what was known of it on its segment is lost: %+v", d)
	}
	third := v.sweep(inOffices(3, sight("10.40.1.5", camera, "http.title Network Camera"), sight("10.40.1.6", printer, "ssh.hostkey P"),
		sight("10.40.2.9", "", "echo.ttl 63"), sight("10.40.1.250", "48:9b:34:00:00:fa", "self.name laptop")))
	if !slices.Equal(third, []uint64{first[0], first[1], first[3], first[4]}) || v.changed() != "vanished 10.40.1.7>" {
		t.Errorf("back again devices %v are %v; changes %s", first, third, v.changed())
	}
}

// From beyond a router less is heard: a general word for the system there is no word against the one that was told on the segment.
func TestGeneralWordsContradictNothing(t *testing.T) {
	near, beyond := likeness{identity: os("Debian GNU/Linux", 40)}, likeness{identity: os("Linux", 30)}
	other := likeness{identity: os("Windows", 30)}
	if contradict(near, beyond) || contradict(beyond, near) || !contradict(near, other) {
		t.Errorf("Debian and Linux contradict each other: %v; Debian and Windows: %v", contradict(near, beyond), contradict(near, other))
	}
}

func os(value string, strength int) identify.Beliefs {
	return identify.Beliefs{{Attribute: identify.OS, Value: value, Strength: strength}}
}

// A device with an interface in each of two networks, each swept from within alone, is missed from where it is no longer seen.
func TestADeviceOfTwoNetworksIsMissed(t *testing.T) {
	v := &visits{t: t}
	first := v.sweep(narrow(inOffices(1, sight("10.40.1.5", macA)), "10.40.1.0/24"))
	if now := v.sweep(narrow(inPlant(2, sight("10.40.2.5", macB, "netbios.mac "+macA)), "10.40.2.0/24")); now[0] != first[0] {
		t.Fatalf("from its other side it is device %d, before %d; %s", now[0], first[0], v.changed())
	}
	if v.sweep(narrow(inOffices(3), "10.40.1.0/24")); v.device(first[0]).Presence != Silent {
		t.Errorf("after a sweep in which it kept silent where it was seen, at %v, it is %s", v.device(first[0]).Addrs, v.device(first[0]).Presence)
	}
}

// MAC addresses that are told make a device known again where its own cannot be seen, at whatever address.
func TestKnownBeyondARouterByWhatItTells(t *testing.T) {
	for _, told := range []string{"netbios.mac", "snmp.engine-mac", "lease.mac"} {
		v := &visits{t: t}
		first := v.sweep(inOffices(1, sight("10.40.1.5", macA), sight("10.40.1.6", macB)))
		second := v.sweep(inPlant(2, sight("10.40.1.9", "", told+" "+macA), sight("10.40.1.6", "")))
		if !slices.Equal(first, second) {
			t.Errorf("by %s devices %v are %v: %s", told, first, second, v.changed())
		}
	}
}

// Who shows what speaks against it is not the device whose address, key, name or former card it has.
func TestWhatSpeaksAgainstOneDevice(t *testing.T) {
	const phone, other = "da:3f:91:5c:20:17", "de:3f:91:5c:20:18"
	serial := func(n string) []string { return []string{"upnp.maker Lab", "upnp.serial " + n} }
	for name, tt := range map[string]struct {
		before []Sweep
		now    Sweep
		same   bool
	}{
		"another at the address beyond a router": {
			[]Sweep{inOffices(1, sight("10.40.1.5", macA, "ssh.hostkey A"))}, inPlant(2, sight("10.40.1.5", "", "ssh.hostkey B")), false},
		"another name at the address": {
			[]Sweep{inOffices(1, sight("10.40.1.5", macA, "tls.subject ash.example"))}, inPlant(2, sight("10.40.1.5", "", "tls.subject oak.example")), false},
		"a clone of one that was not looked for": {
			[]Sweep{inOffices(1, sight("10.40.1.5", macA, "ssh.hostkey A"))}, narrow(inOffices(2, sight("10.40.1.9", macB, "ssh.hostkey A")), "10.40.1.9/32"), false},
		"a clone with a serial number of its own": {
			[]Sweep{inOffices(1, sight("10.40.1.5", macA, append(serial("AB12345"), "ssh.hostkey A")...))}, inOffices(2, sight("10.40.1.9", macB, append(serial("AB99999"), "ssh.hostkey A")...)), false},
		"a new network card": {
			[]Sweep{inOffices(1, sight("10.40.1.5", macA, "ssh.hostkey A"))}, inOffices(2, sight("10.40.1.5", macB, "ssh.hostkey A")), true},
		"a telephone of the same name while the other is away": {
			[]Sweep{inOffices(1, sight("10.40.1.5", phone, "tls.subject p.example")), inOffices(2, sight("10.40.1.5", phone, "tls.subject p.example"))},
			inOffices(3, sight("10.40.1.6", other, "tls.subject p.example")), false},
		"set up anew with other keys": {
			[]Sweep{inOffices(1, sight("10.40.1.5", macA, "ssh.hostkey A"))}, inOffices(2, sight("10.40.1.5", macA, "ssh.hostkey B")), true},
	} {
		v := &visits{t: t}
		var first []uint64
		for _, s := range tt.before {
			first = v.sweep(s)
		}
		if now := v.sweep(tt.now); (now[0] == first[0]) != tt.same {
			t.Errorf("%s: the same %v, want %v; %s", name, !tt.same, tt.same, v.changed())
		}
	}
}

// narrow makes a sweep one of a part.
func narrow(s Sweep, prefix string) Sweep {
	s.Covered = netrange.FromPrefixes(netip.MustParsePrefix(prefix))
	return s
}

// Two devices that exchange their addresses stay who they are, and so do two that exchange their cards, where their keys tell.
func TestSwaps(t *testing.T) {
	v := &visits{t: t}
	first := v.sweep(inOffices(1, sight("10.40.1.5", macA, "ssh.hostkey A"), sight("10.40.1.6", macB, "ssh.hostkey B")))
	if now := v.sweep(inOffices(2, sight("10.40.1.6", macA, "ssh.hostkey A"), sight("10.40.1.5", macB, "ssh.hostkey B"))); !slices.Equal(now, first) {
		t.Errorf("addresses exchanged: %v, before %v", now, first)
	}
	if now := v.sweep(inOffices(3, sight("10.40.1.6", macB, "ssh.hostkey A"), sight("10.40.1.5", macA, "ssh.hostkey B"))); !slices.Equal(now, first) {
		t.Errorf("cards exchanged: %v, before %v; %s", now, first, v.changed())
	}
	const card = "48:9b:34:00:00:77"
	if now := v.sweep(inOffices(4, sight("10.40.1.6", card, "ssh.hostkey A"), sight("10.40.1.5", macA, "ssh.hostkey B"), sight("10.40.1.7", macB, "ssh.hostkey C"))); now[0] != first[0] || now[1] != first[1] || now[2] == first[0] {
		t.Errorf("the old card in a new box: %v, before %v", now, first)
	}
	if d := v.device(first[0]); !slices.Contains(d.Former, d.MACs[1]) {
		t.Errorf("former MACs of %v are %v", d.MACs, d.Former)
	}
}

// A sweep that asks less renews what it asked, and leaves the rest.
func TestANarrowSweepRenewsWhatItAsked(t *testing.T) {
	v := &visits{t: t}
	at := func(port uint16, facts ...string) []evidence.Item {
		s := sight("10.40.1.5", "", facts...)
		for i := range s.Items {
			s.Items[i].Port = evidence.TCP(port)
		}
		return s.Items
	}
	whole := sight("10.40.1.5", macA, "snmp.sysDescr it works")
	whole.Items = slices.Concat(whole.Items, at(80, "tcp.open 80", "http.title Network Camera"), at(23, "tcp.open 23", "telnet.greeting old"))
	all := inOffices(1, whole)
	all.Ports = []uint16{23, 80}
	v.sweep(all)
	part := sight("10.40.1.5", macA)
	part.Items = slices.Concat(part.Items, at(23, "tcp.open 23", "telnet.greeting new"))
	telnet := inOffices(2, part)
	telnet.Ports, telnet.Off = []uint16{23}, []string{"snmp"}
	v.sweep(telnet)
	d := v.devices[0]
	if d.Identity.Of(identify.Kind) != "camera" || evidence.First(d.Items, "telnet.greeting") != "new" || evidence.First(d.Items, "snmp.sysDescr") != "it works" {
		t.Errorf("after a sweep of one port: %+v", d.Items)
	}
	silent := inOffices(3, sight("10.40.1.5", macA))
	silent.Ports = []uint16{23, 80}
	v.sweep(silent)
	if d := v.devices[0]; len(d.Items) != 1 {
		t.Errorf("after a whole sweep in which it said nothing: %+v", d.Items)
	}
}

// A port is said to be opened only where it was asked before, and to be closed only where it is asked now, from the same vantage.
func TestPortsOpenedAndClosed(t *testing.T) {
	at := func(ports ...uint16) evidence.Sighting {
		s := sight("10.40.1.5", macA)
		for _, port := range ports {
			s.Items = append(s.Items, evidence.Item{Source: evidence.SourceTCP, Key: evidence.KeyTCPOpen, Port: evidence.TCP(port), Value: "x"})
		}
		return s
	}
	asking := func(s Sweep, ports ...uint16) Sweep { s.Ports = ports; return s }
	asked := map[uint64]map[uint16]bool{1: {22: true, 80: true}, 2: {22: true}, 3: {22: true, 80: true, 443: true}, 4: {22: true, 80: true, 443: true}}
	v := &visits{t: t}
	for _, visit := range []struct {
		sweep Sweep
		want  string
	}{
		{asking(inOffices(1, at(80)), 22, 80), "appeared >10.40.1.5"}, {asking(inOffices(2, at(22)), 22), "changed >tcp/22"},
		{asking(inOffices(3, at(22, 443)), 22, 80, 443), "changed tcp/80>"}, {asking(inPlant(4, evidence.Sighting{Addr: at().Addr, Answered: true, Whole: true, FirstAt: begin}), 22, 80, 443), ""},
	} {
		visit.sweep.PortsOf = func(id uint64) map[uint16]bool { return asked[id] }
		v.sweep(visit.sweep)
		if v.changed() != visit.want {
			t.Errorf("sweep %d: %s, want %s", visit.sweep.ID, v.changed(), visit.want)
		}
	}
}

// An entry of the register keeps its device, whatever address that gets and whether it is seen or not.
func TestAnEntryKeepsItsDevice(t *testing.T) {
	byAddr := register.Entry{ID: 1, Name: "till", Addr: netip.MustParseAddr("10.40.1.5")}
	byName := register.Entry{ID: 2, Name: "cairn"}
	entries := []register.Entry{byAddr, byName}
	standings := func(devices []Device) string {
		var texts []string
		for _, d := range devices {
			entry := ""
			if d.Entry != nil {
				entry = d.Entry.Name
			}
			texts = append(texts, entry+" "+string(d.Standing)+" "+addrText(d.Addrs))
		}
		return strings.Join(texts, "; ")
	}
	devices := stored(Apply(nil, entries, inOffices(1, sight("10.40.1.5", macA), sight("10.40.1.6", macB, "tls.subject cairn.example")), engine).Devices)
	for i, step := range []struct {
		sweep Sweep
		want  string
	}{
		{inOffices(2, sight("10.40.1.15", macA), sight("10.40.1.6", macB)), "till managed 10.40.1.15; cairn managed 10.40.1.6"},
		{inOffices(3, sight("10.40.1.5", macB)), "till missing 10.40.1.15; cairn managed 10.40.1.5"},
		{inOffices(4, sight("10.40.1.15", macA)), "till managed 10.40.1.15; cairn missing 10.40.1.5"},
	} {
		devices = stored(Apply(devices, entries, step.sweep, engine).Devices)
		if got := standings(devices); got != step.want {
			t.Errorf("visit %d: %s, want %s", i+2, got, step.want)
		}
	}
	two := []evidence.Sighting{sight("10.40.1.5", macA, "tls.subject cairn.example"), sight("10.40.1.6", macB, "tls.subject cairn.example")}
	if got := standings(Apply(nil, []register.Entry{byName}, inOffices(1, two...), engine).Devices); got != " unmanaged 10.40.1.5;  unmanaged 10.40.1.6; cairn missing " {
		t.Errorf("a name that two devices have: %s", got)
	}
	moved := byAddr
	moved.MAC = hwaddr.MustParse(macB)
	if got := standings(Match(slices.Clone(devices), []register.Entry{moved}, nil, netrange.Set{})); got != " unmanaged 10.40.1.15; till missing 10.40.1.5" {
		t.Errorf("an entry that is given the MAC of another: %s", got)
	}
}

// A port that kept silent once may be lost on the way; one that refuses, or that keeps silent twice, is closed.
func TestPortsThatKeepSilentAreNotClosedAtOnce(t *testing.T) {
	seen := func(facts ...string) evidence.Sighting {
		s := sight("10.40.1.5", macA, "ssh.hostkey A")
		for _, f := range facts {
			s.Items = append(s.Items, evidence.Item{Source: evidence.SourceTCP, Key: f, Port: evidence.TCP(80), Value: "80"})
		}
		return s
	}
	for name, tt := range map[string]struct {
		visits [][]string
		want   string
	}{
		"refused":      {[][]string{{"tcp.open"}, {}}, "changed tcp/80>"},
		"silent once":  {[][]string{{"tcp.open"}, {"tcp.silent"}, {"tcp.open"}}, ""},
		"silent twice": {[][]string{{"tcp.open"}, {"tcp.silent"}, {"tcp.silent"}}, "changed tcp/80>"},
		"was silent":   {[][]string{{"tcp.silent"}, {"tcp.open"}}, ""},
		"opened":       {[][]string{{}, {"tcp.open"}}, "changed >tcp/80"},
	} {
		v := &visits{t: t}
		var got []string
		for i, facts := range tt.visits {
			s := inOffices(uint64(i)+1, seen(facts...))
			s.PortsOf = func(uint64) map[uint16]bool { return map[uint16]bool{80: true} }
			if v.sweep(s); i > 0 && v.changed() != "" {
				got = append(got, v.changed())
			}
		}
		if strings.Join(got, "; ") != tt.want {
			t.Errorf("%s: %q, want %q", name, got, tt.want)
		}
	}
}

// Two that share an address are seen one at a time from beyond a router: neither appears as somebody else, and neither is missed.
func TestWhoSharesAnAddressBeyondARouter(t *testing.T) {
	v := &visits{t: t}
	till, display := "48:9b:34:00:00:66", "48:9b:34:00:00:67"
	near := v.sweep(inOffices(1, sight("10.40.1.66", till, "tls.subject till.example"), sight("10.40.1.66", display, "tls.subject display.example"), sight("10.40.1.7", macA)))
	for visit, name := range []string{"till.example", "display.example", ""} {
		facts := []string{"echo.ttl 63"}
		if name != "" {
			facts = append(facts, "tls.subject "+name)
		}
		ids := v.sweep(inPlant(uint64(visit)+2, sight("10.40.1.66", "", facts...), sight("10.40.1.7", "", "echo.ttl 63")))
		if visit < 2 && ids[0] != near[visit] || !slices.Contains(near, ids[0]) || v.changed() != "" {
			t.Errorf("%q is taken for device %d of %v: %s", name, ids[0], near, v.changed())
		}
	}
	if v.sweep(inOffices(5, sight("10.40.1.66", till), sight("10.40.1.7", macA))); v.changed() != "vanished 10.40.1.66>" {
		t.Errorf("gone from the segment: %q", v.changed())
	}
}

// waits is patience in sweeps and in time.
type waits struct {
	sweeps int
	time   time.Duration
}

func (w waits) UsedUp(missed int, ago time.Duration) bool { return missed >= w.sweeps && ago >= w.time }

// A device that keeps silent has vanished when both the sweeps and the time are used up that it is waited for, and not before; who is seen in
// between is waited for anew.
func TestPatience(t *testing.T) {
	for _, tt := range []struct {
		patience waits
		seen     []bool // at each visit, an hour apart
		want     int    // the visit that tells it vanished; 0 for none
	}{
		{waits{}, []bool{true, false}, 2},
		{waits{sweeps: 2}, []bool{true, false, false, false}, 3},
		{waits{sweeps: 2}, []bool{true, false, true, false, false}, 5},
		{waits{sweeps: 1, time: 3 * time.Hour}, []bool{true, false, false, false, false}, 4},
		{waits{sweeps: 3, time: time.Hour}, []bool{true, false, false}, 0},
	} {
		v := &visits{t: t}
		vanished := 0
		for i, seen := range tt.seen {
			s := sweepOf(uint64(i + 1))
			if seen {
				who := sight("10.40.1.5", macA)
				who.FirstAt = s.Began
				s.Sightings = []evidence.Sighting{who}
			}
			s.Patience = tt.patience
			v.sweep(s)
			if strings.Contains(v.changed(), "vanished") {
				vanished = i + 1
			}
			if silent := v.devices[0].Presence == Silent; silent != (vanished != 0) {
				t.Errorf("%+v, visit %d: it is %s", tt.patience, i+1, v.devices[0].Presence)
			}
		}
		if vanished != tt.want {
			t.Errorf("%+v, seen %v: vanished at visit %d, want %d", tt.patience, tt.seen, vanished, tt.want)
		}
	}
}
