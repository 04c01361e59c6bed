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

var (
	engine  = identify.New(identify.Default(), nil)
	begin   = time.Date(2026, 11, 2, 9, 0, 0, 0, time.UTC)
	segment = netip.MustParsePrefix("10.40.1.0/24")
	far     = netip.MustParsePrefix("10.40.2.0/24")
)

// sight makes a sighting; facts are "key value" texts.
func sight(addr, mac string, facts ...string) evidence.Sighting {
	s := evidence.Sighting{Addr: netip.MustParseAddr(addr), Answered: true, Whole: true, FirstAt: begin}
	if mac != "" {
		s.MAC = hwaddr.MustParse(mac)
		facts = append(facts, "arp.mac "+mac)
	}
	for _, f := range facts {
		key, value, _ := strings.Cut(f, " ")
		source, _, _ := strings.Cut(key, ".")
		s.Items = append(s.Items, evidence.Item{Source: evidence.Source(source), Key: key, Value: value})
	}
	return s
}

// notAsked makes a sighting one of somebody who was called or heard, and not asked.
func notAsked(s evidence.Sighting) evidence.Sighting {
	s.Whole = false
	return s
}

func sweepOf(id uint64, sightings ...evidence.Sighting) Sweep {
	return Sweep{
		ID: id, Began: begin.Add(time.Duration(id) * time.Hour), Covered: netrange.FromPrefixes(segment, far),
		Gateway: netip.MustParseAddr("10.40.1.1"), OnLink: []netip.Prefix{segment}, Sightings: sightings,
	}
}

// stored gives devices IDs as a store would.
func stored(devices []Device) []Device {
	for i := range devices {
		devices[i].ID = uint64(i + 1)
	}
	return devices
}

func addrsOf(devices []Device) string {
	var texts []string
	for _, d := range devices {
		texts = append(texts, addrText(d.Addrs))
	}
	slices.Sort(texts)
	return strings.Join(texts, "; ")
}

const (
	macA, macB, private = "48:9b:34:00:00:01", "48:9b:34:00:00:02", "da:3f:91:5c:20:17"
)

func TestWhatIsOneDeviceWithinASweep(t *testing.T) {
	tests := []struct {
		name      string
		sightings []evidence.Sighting
		want      string
	}{
		{"one MAC at two addresses", []evidence.Sighting{sight("10.40.1.5", macA), sight("10.40.1.6", macA)}, "10.40.1.5, 10.40.1.6"},
		{"two MACs at one address", []evidence.Sighting{sight("10.40.1.5", macA), sight("10.40.1.5", macB)}, "10.40.1.5; 10.40.1.5"},
		{"a virtual router's MAC joins nobody", []evidence.Sighting{sight("10.40.1.5", "00:00:5e:00:01:01"), sight("10.40.1.6", "00:00:5e:00:01:01")}, "10.40.1.5; 10.40.1.6"},
		{"the gateway's far side", []evidence.Sighting{sight("10.40.2.1", "", "echo.ttl 64"), sight("10.40.1.1", macA), sight("10.40.2.9", "", "echo.ttl 63")}, "10.40.1.1, 10.40.2.1; 10.40.2.9"},
		{"the same host key near and far", []evidence.Sighting{sight("10.40.1.5", macA, "ssh.hostkey K"), sight("10.40.2.5", "", "ssh.hostkey K")}, "10.40.1.5, 10.40.2.5"},
		{"a key that three show", []evidence.Sighting{sight("10.40.2.4", "", "tls.key K"), sight("10.40.2.5", "", "tls.key K"), sight("10.40.2.6", "", "tls.key K")}, "10.40.2.4; 10.40.2.5; 10.40.2.6"},
		{"a key of two MACs", []evidence.Sighting{sight("10.40.1.4", macA, "tls.key K"), sight("10.40.1.5", macB, "tls.key K")}, "10.40.1.4; 10.40.1.5"},
		{"keys that contradict", []evidence.Sighting{sight("10.40.1.4", macA, "tls.key K", "ssh.hostkey A"), sight("10.40.2.5", "", "tls.key K", "ssh.hostkey B")}, "10.40.1.4; 10.40.2.5"},
	}
	for _, tt := range tests {
		got := Apply(nil, nil, sweepOf(1, tt.sightings...), engine)
		if addrsOf(got.Devices) != tt.want {
			t.Errorf("%s: %s, want %s", tt.name, addrsOf(got.Devices), tt.want)
		}
	}
}

func TestWhoIsRecognisedInTheNextSweep(t *testing.T) {
	tests := []struct {
		name          string
		first, second []evidence.Sighting
		same          bool
		change        ChangeKind
	}{
		{"moved with its MAC", []evidence.Sighting{sight("10.40.1.5", macA)}, []evidence.Sighting{sight("10.40.1.9", macA)}, true, Moved},
		{"another MAC at the address", []evidence.Sighting{sight("10.40.1.5", macA)}, []evidence.Sighting{sight("10.40.1.5", macB)}, false, Appeared},
		{"a new network card, the same host key", []evidence.Sighting{sight("10.40.1.5", macA, "ssh.hostkey K")}, []evidence.Sighting{sight("10.40.1.5", macB, "ssh.hostkey K")}, true, Changed},
		{"a new network card, the same serial number", []evidence.Sighting{sight("10.40.1.5", macA, "upnp.maker Lab", "upnp.serial AB12345")}, []evidence.Sighting{sight("10.40.1.5", macB, "upnp.maker Lab", "upnp.serial AB12345")}, true, Changed},
		{"a serial number of another maker's", []evidence.Sighting{sight("10.40.1.5", macA, "upnp.maker Lab", "upnp.serial AB12345")}, []evidence.Sighting{sight("10.40.1.5", macB, "upnp.maker Works", "upnp.serial AB12345")}, false, Appeared},
		{"beyond a router, moved, by its agent's engine", []evidence.Sighting{sight("10.40.2.5", "", "snmp.engine 80001f88804f2a917a3cd05e65")}, []evidence.Sighting{sight("10.40.2.7", "", "snmp.engine 80001f88804f2a917a3cd05e65")}, true, Moved},
		{"an engine that two show", []evidence.Sighting{sight("10.40.2.5", "", "snmp.engine 80001f88804f2a917a3cd05e65")}, []evidence.Sighting{sight("10.40.2.7", "", "snmp.engine 80001f88804f2a917a3cd05e65"), sight("10.40.2.8", "", "snmp.engine 80001f88804f2a917a3cd05e65")}, false, Appeared},
		{"by the identifier of its service", []evidence.Sighting{sight("10.40.2.5", "", "wsd.id urn:uuid:E5E61FB5-d685-5b50-9ba7-acb6e6962ef3")}, []evidence.Sighting{sight("10.40.2.7", "", "wsd.id urn:uuid:e5e61fb5-d685-5b50-9ba7-acb6e6962ef3")}, true, Moved},
		{"not by one that comes with a program", []evidence.Sighting{sight("10.40.2.5", "", "upnp.id uuid:Renderer-1_0-000-000-002")}, []evidence.Sighting{sight("10.40.2.7", "", "upnp.id uuid:Renderer-1_0-000-000-002")}, false, Appeared},
		{"not by one of zeros", []evidence.Sighting{sight("10.40.2.5", "", "upnp.id uuid:00000000-0000-0000-0000-000000000001")}, []evidence.Sighting{sight("10.40.2.7", "", "upnp.id uuid:00000000-0000-0000-0000-000000000001")}, false, Appeared},
		{"beyond a router by address", []evidence.Sighting{sight("10.40.2.5", "", "echo.ttl 63")}, []evidence.Sighting{sight("10.40.2.5", "", "echo.ttl 63")}, true, ""},
		{"beyond a router, moved, by name", []evidence.Sighting{sight("10.40.2.5", "", "tls.subject a.example")}, []evidence.Sighting{sight("10.40.2.7", "", "tls.subject a.example")}, true, Moved},
		{"a private MAC that stayed", []evidence.Sighting{sight("10.40.1.5", private)}, []evidence.Sighting{sight("10.40.1.7", private)}, true, Moved},
		{"a private MAC that changed, by name", []evidence.Sighting{sight("10.40.1.5", private, "tls.subject p.example")}, []evidence.Sighting{sight("10.40.1.5", "de:3f:91:5c:20:17", "tls.subject p.example")}, true, Changed},
		{"a private MAC that changed, no name", []evidence.Sighting{sight("10.40.1.5", private)}, []evidence.Sighting{sight("10.40.1.5", "de:3f:91:5c:20:17")}, false, Appeared},
		{"a name that two show", []evidence.Sighting{sight("10.40.2.5", "", "tls.subject a.example")}, []evidence.Sighting{sight("10.40.2.7", "", "tls.subject a.example"), sight("10.40.2.8", "", "tls.subject a.example")}, false, Appeared},
	}
	for _, tt := range tests {
		before := stored(Apply(nil, nil, sweepOf(1, tt.first...), engine).Devices)
		after := Apply(before, nil, sweepOf(2, tt.second...), engine)
		same := after.Devices[0].LastSweep == 2
		if same != tt.same || after.Devices[0].ID != 1 {
			t.Errorf("%s: recognised %v, want %v: %+v", tt.name, same, tt.same, after.Devices)
		}
		kinds := make([]ChangeKind, len(after.Changes))
		for i, c := range after.Changes {
			kinds[i] = c.Kind
		}
		if tt.change == "" && len(kinds) > 0 || tt.change != "" && !slices.Contains(kinds, tt.change) {
			t.Errorf("%s: changes %v, want %q", tt.name, kinds, tt.change)
		}
	}
}

func TestSilenceNeedsAWholeSweepThatLooked(t *testing.T) {
	before := stored(Apply(nil, nil, sweepOf(1, sight("10.40.1.5", macA)), engine).Devices)
	elsewhere := sweepOf(2)
	elsewhere.Covered = netrange.FromPrefixes(far)
	stopped := sweepOf(2)
	stopped.Stopped = true
	for name, tt := range map[string]struct {
		sweep Sweep
		want  Presence
	}{"covered": {sweepOf(2), Silent}, "elsewhere": {elsewhere, Seen}, "stopped": {stopped, Seen}} {
		if got := Apply(before, nil, tt.sweep, engine).Devices[0].Presence; got != tt.want {
			t.Errorf("%s: presence %s, want %s", name, got, tt.want)
		}
	}
}

func TestStandingAgainstTheRegister(t *testing.T) {
	entry := func(id uint64, name, mac, addr string) register.Entry {
		e := register.Entry{ID: id, Name: name}
		if mac != "" {
			e.MAC = hwaddr.MustParse(mac)
		}
		if addr != "" {
			e.Addr = netip.MustParseAddr(addr)
		}
		return e
	}
	tests := []struct {
		name      string
		sightings []evidence.Sighting
		entry     register.Entry
		want      string // standing/presence of each device, in order
	}{
		{"by MAC at another address", []evidence.Sighting{sight("10.40.1.5", macA)}, entry(1, "a", macA, "10.40.1.99"), "managed/seen"},
		{"another MAC at the address", []evidence.Sighting{sight("10.40.1.5", macB)}, entry(1, "a", macA, "10.40.1.5"), "unmanaged/seen missing/silent"},
		{"beyond a router by address", []evidence.Sighting{sight("10.40.2.5", "")}, entry(1, "palm house climate", macA, "10.40.2.5"), "managed/seen"},
		{"by address and name", []evidence.Sighting{sight("10.40.1.5", macB, "tls.subject cairn.example")}, entry(1, "Cairn", "", "10.40.1.5"), "managed/seen"},
		{"a host name that contradicts", []evidence.Sighting{sight("10.40.2.5", "", "tls.subject cairn.example")}, entry(1, "acorn", "", "10.40.2.5"), "unmanaged/seen missing/silent"},
		{"two at the address, no name", []evidence.Sighting{sight("10.40.1.5", macA), sight("10.40.1.5", macB)}, entry(1, "till", "", "10.40.1.5"), "unmanaged/seen unmanaged/seen missing/silent"},
		{"never looked for", nil, entry(1, "a", macA, "10.99.0.1"), "missing/uncovered"},
		{"only a name", nil, entry(1, "a", "", ""), "missing/silent"},
	}
	for _, tt := range tests {
		got := Apply(nil, []register.Entry{tt.entry}, sweepOf(1, tt.sightings...), engine)
		var texts []string
		for _, d := range got.Devices {
			texts = append(texts, string(d.Standing)+"/"+string(d.Presence))
		}
		if strings.Join(texts, " ") != tt.want {
			t.Errorf("%s: %v, want %s", tt.name, texts, tt.want)
		}
	}
}

func TestMissingAfterBeingSeenAndBack(t *testing.T) {
	entries := []register.Entry{{ID: 1, Name: "a", MAC: hwaddr.MustParse(macA)}}
	first := stored(Apply(nil, entries, sweepOf(1, sight("10.40.1.5", macA)), engine).Devices)
	second := stored(Apply(first, entries, sweepOf(2), engine).Devices)
	if len(second) != 1 || second[0].Standing != Missing || second[0].Presence != Silent {
		t.Fatalf("after it vanished: %+v", second)
	}
	third := Apply(second, entries, sweepOf(3, sight("10.40.1.5", macA)), engine)
	if len(third.Devices) != 1 || third.Devices[0].Standing != Managed || third.Devices[0].Presence != Seen {
		t.Fatalf("after it came back: %+v", third.Devices)
	}
}

func TestContestedAddress(t *testing.T) {
	got := Apply(nil, nil, sweepOf(1, sight("10.40.1.5", macA), sight("10.40.1.5", macB), sight("10.40.1.6", "48:9b:34:00:00:03")), engine)
	for _, d := range got.Devices {
		if want := d.Addrs[0].String() == "10.40.1.5"; (len(d.Contested) == 1) != want {
			t.Errorf("%v: contested %v", d.Addrs, d.Contested)
		}
	}
}

func TestSameName(t *testing.T) {
	for _, tt := range []struct {
		a, b string
		want bool
	}{{"cairn", "CAIRN", true}, {"cairn", "cairn.example", true}, {"cairn.a.example", "cairn.b.example", false}, {"cairn", "acorn.example", false}} {
		if identify.SameName(tt.a, tt.b) != tt.want {
			t.Errorf("identify.SameName(%q, %q) = %v", tt.a, tt.b, !tt.want)
		}
	}
}

func TestAStoppedSweepTakesNothingAway(t *testing.T) {
	entries := []register.Entry{}
	whole := sweepOf(1, sight("10.40.1.5", macA, "http.title Network Camera", "ssh.hostkey K", "tcp.open 80"))
	known := stored(Apply(nil, entries, whole, engine).Devices)
	stopped := sweepOf(2, notAsked(sight("10.40.1.9", macA)))
	stopped.Stopped = true
	after := Apply(known, entries, stopped, engine)
	d := after.Devices[0]
	if d.Identity.Of(identify.Kind) != "camera" || len(d.Keys) != 1 || d.Addrs[0].String() != "10.40.1.9" || d.LastSweep != 2 {
		t.Errorf("after a sweep that was stopped before it asked: %+v", d)
	}
	if len(after.Changes) != 1 || after.Changes[0].Kind != Moved {
		t.Errorf("changes %+v", after.Changes)
	}
	again := Apply(stored(after.Devices), entries, sweepOf(3, sight("10.40.1.9", macA)), engine).Devices[0]
	if again.Identity.Of(identify.Kind) != identify.Unknown {
		t.Errorf("a whole sweep in which it said nothing leaves it a %s", again.Identity.Of(identify.Kind))
	}
}

func TestChangesAreOfTheDeviceAndNotOfOurKnowledge(t *testing.T) {
	for _, tt := range []struct {
		before, after string
		changed       bool
	}{
		{"", "http.title Network Camera", false}, {"http.title Network Camera", "", false},
		{"http.title Network Camera", "http.title Ethernet switch", true}, {"http.title Network Camera", "http.title IP camera", false},
		{"ssh.greeting SSH-2.0-OpenSSH_9.2 Debian", "ssh.greeting SSH-2.0-OpenSSH_9.2 Ubuntu", true},
		{"tls.subject ash.example", "tls.subject oak.example", true}, {"tls.subject ash.example", "tls.subject ash", false},
	} {
		known := stored(Apply(nil, nil, sweepOf(1, sight("10.40.1.5", macA, tt.before)), engine).Devices)
		got := Apply(known, nil, sweepOf(2, sight("10.40.1.5", macA, tt.after)), engine).Changes
		if (len(got) == 1 && got[0].Kind == Changed) != tt.changed || len(got) > 1 {
			t.Errorf("%q to %q: changes %+v", tt.before, tt.after, got)
		}
	}
}

// A sweep that was stopped met the router's far side without the router. The next one shows whose it is, and what people
// said of it stays.
func TestPartsAreMergedIntoTheirDevice(t *testing.T) {
	partial := sweepOf(1, sight("10.40.2.1", "", "tcp.open 22"), sight("10.40.2.9", "", "tcp.open 80"), sight("10.40.1.1", "48:9b:34:00:00:01"))
	partial.Stopped = true
	known := stored(Apply(nil, nil, partial, engine).Devices)
	said := []Decision{{ID: 9, Kind: DecidedNote, Device: 1, Known: KnownBy(known[0]), Text: "in the cellar"}, {ID: 10, Kind: DecidedNote, Device: 3, Known: KnownBy(known[2]), Text: "rack 2"}}
	whole := sweepOf(2, sight("10.40.1.1", "48:9b:34:00:00:01"), sight("10.40.2.1", "", "echo.ttl 64"), sight("10.40.2.9", "", "tcp.open 80"))
	got := Apply(known, nil, whole, engine)
	Decide(got.Devices, said)
	if list := addrsOf(got.Devices); list != "10.40.1.1, 10.40.2.1; 10.40.2.9" {
		t.Fatalf("devices %s", list)
	}
	at := slices.IndexFunc(got.Devices, func(d Device) bool { return len(d.Addrs) == 2 })
	router := got.Devices[at]
	if router.Note != "in the cellar\nrack 2" || !slices.Equal(router.Was, []uint64{3}) || !router.FirstSeen.Equal(begin) || !strings.Contains(strings.Join(router.Reasons, " "), "device 1 is a part of it") {
		t.Errorf("the router is %+v", router)
	}
	if len(got.Merges) != 1 || got.Merges[0] != (Merge{From: 3, Into: at}) || router.ID != 1 {
		t.Errorf("merges %+v, into the number %d", got.Merges, router.ID)
	}
	for i, s := range whole.Sightings {
		if d := got.Devices[got.Of[i]]; !slices.Contains(d.Addrs, s.Addr) {
			t.Errorf("the sighting of %s is put to %v", s.Addr, d.Addrs)
		}
	}
	for _, c := range got.Changes {
		if c.Kind == Vanished {
			t.Errorf("change %+v", c)
		}
	}
}

// Who has a MAC address of its own is never taken for a part of another.
func TestDevicesWithAMACAreNoParts(t *testing.T) {
	known := stored(Apply(nil, nil, sweepOf(1, sight("10.40.1.9", "48:9b:34:00:00:02")), engine).Devices)
	got := Apply(known, nil, sweepOf(2, sight("10.40.1.9", "48:9b:34:00:00:03")), engine)
	if len(got.Devices) != 2 || len(got.Merges) > 0 {
		t.Errorf("devices %s, merges %+v", addrsOf(got.Devices), got.Merges)
	}
}

// A router without echo is known by its key, where one of each network at the most shows it.
func TestGatewayByItsKey(t *testing.T) {
	key := "ssh.hostkey SHA256:same"
	router := []evidence.Sighting{
		sight("10.40.1.1", "48:9b:34:00:00:01", key), sight("10.40.1.254", "00:00:5e:00:01:05", key),
		sight("10.40.2.1", "", key), sight("10.40.3.1", "", key),
	}
	if got := addrsOf(Apply(nil, nil, sweepOf(1, router...), engine).Devices); got != "10.40.1.1, 10.40.1.254, 10.40.2.1, 10.40.3.1" {
		t.Errorf("a router in three networks: %s", got)
	}
	factory := append(slices.Clone(router), sight("10.40.3.2", "", key))
	if got := Apply(nil, nil, sweepOf(1, factory...), engine).Devices; len(got) != 5 {
		t.Errorf("a key that two of one network show: %s", addrsOf(got))
	}
}

// A sweep of one address hears others on the segment: of those it knows no less than before, and none of them has moved.
func TestASweepOfAPartKeepsTheRest(t *testing.T) {
	const macB = "48:9b:34:00:00:0b"
	bridge := []evidence.Sighting{sight("10.40.1.8", macA)}
	for _, a := range []string{"10.40.1.200", "10.40.1.201", "10.40.1.202", "10.40.1.203"} {
		bridge = append(bridge, sight(a, macA))
	}
	all := append(bridge, sight("10.40.1.5", macB, "http.title Network Camera"), sight("fd00:40:1::5", macB))
	known := stored(Apply(nil, nil, sweepOf(1, all...), engine).Devices)
	part := sweepOf(2, sight("10.40.1.8", macA), notAsked(sight("fd00:40:1::5", macB)))
	part.Covered = netrange.FromPrefixes(netip.MustParsePrefix("10.40.1.8/32"))
	got := Apply(known, nil, part, engine)
	if len(got.Changes) > 0 || len(got.Devices) != 2 {
		t.Fatalf("devices %s, changes %+v", addrsOf(got.Devices), got.Changes)
	}
	for _, d := range got.Devices {
		switch {
		case d.MACs[0] == hwaddr.MustParse(macA):
			if len(d.Addrs) != 5 || !slices.Contains(d.Traits, AnswersForOthers) {
				t.Errorf("the bridge is at %v with the traits %v", d.Addrs, d.Traits)
			}
		case len(d.Addrs) != 2 || d.Identity.Of(identify.Kind) != "camera":
			t.Errorf("the camera is a %s at %v", d.Identity.Of(identify.Kind), d.Addrs)
		}
	}
}

// A clock that was set back between two sweeps makes no device vanish before it appeared.
func TestClockThatWasSetBack(t *testing.T) {
	known := stored(Apply(nil, nil, sweepOf(1, sight("10.40.1.9", macA)), engine).Devices)
	earlier := sight("10.40.1.9", macA)
	earlier.FirstAt = begin.Add(-24 * time.Hour)
	d := Apply(known, nil, sweepOf(2, earlier), engine).Devices[0]
	if d.LastSeen.Before(d.FirstSeen) || d.LastSweep != 2 || d.Presence != Seen {
		t.Errorf("seen from %s to %s", d.FirstSeen, d.LastSeen)
	}
}

// A firewall that accepts connections for a whole network is one device, and none of those it pretends to be.
func TestFacade(t *testing.T) {
	var sightings []evidence.Sighting
	for _, a := range []string{"10.40.2.5", "10.40.2.6", "10.40.2.7", "10.40.2.8"} {
		sightings = append(sightings, sight(a, "", "tcp.open 80", "tcp.every yes"))
	}
	sightings = append(sightings, sight("10.40.2.9", "", "tcp.open 22", "tcp.every yes", "ssh.greeting SSH-2.0-OpenSSH_9.2"), sight("10.40.3.5", "", "tcp.open 80", "tcp.every yes"))
	devices := Apply(nil, nil, sweepOf(1, sightings...), engine).Devices
	if got := addrsOf(devices); got != "10.40.2.5, 10.40.2.6, 10.40.2.7, 10.40.2.8; 10.40.2.9; 10.40.3.5" {
		t.Fatalf("devices %s", got)
	}
	for _, d := range devices {
		if slices.Contains(d.Traits, AnswersForOthers) != (len(d.Addrs) == 4) || !slices.Contains(d.Traits, AcceptsEverything) {
			t.Errorf("%v has the traits %v", d.Addrs, d.Traits)
		}
	}
}

// Who was set aside, and the auditor's own machine, are left out of what nobody manages, register or not.
func TestSetAside(t *testing.T) {
	own := sight("10.40.1.250", "48:9b:34:00:00:fa", "self.name laptop")
	known := stored(Apply(nil, nil, sweepOf(1, sight("10.40.1.9", macA), own), engine).Devices)
	var said []Decision
	for i := range known {
		if known[i].MACs[0] == hwaddr.MustParse(macA) {
			said = []Decision{{ID: 1, Kind: DecidedAside, Device: known[i].ID, Text: "the caterer's own", By: "head", At: begin}}
		}
	}
	entries := []register.Entry{{ID: 1, Name: "oven", MAC: hwaddr.MustParse(macA)}}
	after := Apply(known, entries, sweepOf(2, sight("10.40.1.9", macA), own), engine).Devices
	Decide(after, said)
	for _, d := range after {
		if d.Standing != SetAside {
			t.Errorf("%v is %s", d.Addrs, d.Standing)
		}
		if d.MACs[0] == hwaddr.MustParse(macA) && (d.Aside == nil || d.Entry == nil) {
			t.Errorf("what was known of it is lost: %+v", d)
		}
	}
}

// One MAC that claims very many addresses is one device, of which so many are kept, and nothing on the way is worse than sorting.
func TestOneMACWithVeryManyAddresses(t *testing.T) {
	const many = 150_000
	sightings := make([]evidence.Sighting, many)
	for i := range sightings {
		addr := netip.AddrFrom4([4]byte{10, byte(i >> 16), byte(i >> 8), byte(i)}).String()
		sightings[i] = sight(addr, "48:9b:34:00:00:01", "arp.heard "+addr)
	}
	devices := []Device(nil)
	for id := range uint64(2) {
		result := Apply(devices, nil, sweepOf(id+1, sightings...), engine)
		devices = stored(result.Devices)
		if len(devices) != 1 || len(devices[0].Addrs) != maxAddrs || !slices.Contains(devices[0].Traits, AnswersForOthers) {
			t.Fatalf("%d devices, the first with %d addresses and the traits %v", len(devices), len(devices[0].Addrs), devices[0].Traits)
		}
		if d := devices[0]; len(d.Reasons) > maxReasons+2 || len(d.Items) > evidence.Asked.Items+1 {
			t.Errorf("%d reasons and %d facts are kept", len(d.Reasons), len(d.Items))
		}
		if id == 1 && len(result.Changes) > 0 {
			t.Errorf("the same sweep again changes %+v", result.Changes)
		}
	}
	var one Device
	for i := range 500 {
		one.MACs = newestFirst([]hwaddr.MAC{{2, 0, 0, 0, byte(i >> 8), byte(i)}}, one.MACs)
	}
	if len(one.MACs) != maxMACs || one.MACs[0] != (hwaddr.MAC{2, 0, 0, 0, 1, 0xf3}) {
		t.Errorf("%d MACs are kept, the newest %s", len(one.MACs), one.MACs[0])
	}
}

// What stands behind a gateway is not the gateway, and what has no address is a device by its MAC; both are known again.
func TestDevicesWithoutAnAddressOfTheirOwn(t *testing.T) {
	seen := func() []evidence.Sighting {
		gateway := sight("10.40.1.9", "48:9b:34:00:00:01", "tls.key abc")
		seven, eight := sight("10.40.1.9", "48:9b:34:00:00:01", "tls.key abc"), sight("10.40.1.9", "48:9b:34:00:00:01")
		seven.Unit, eight.Unit = "modbus/7", "modbus/8"
		bare := sight("10.40.1.9", "48:9b:34:00:00:02")
		bare.Addr = netip.Addr{}
		return []evidence.Sighting{gateway, seven, eight, bare}
	}
	first := Apply(nil, nil, sweepOf(1, seen()...), engine).Devices
	if len(first) != 4 {
		t.Fatalf("four things are %d devices", len(first))
	}
	units := []string{}
	for _, d := range first {
		if d.Unit != "" {
			units = append(units, d.Unit)
			if len(d.Addrs) > 0 || len(d.MACs) > 0 || len(d.Contested) > 0 {
				t.Errorf("%s has the address of its gateway: %+v", d.Unit, d)
			}
		}
	}
	if slices.Sort(units); !slices.Equal(units, []string{"modbus/7 behind 10.40.1.9", "modbus/8 behind 10.40.1.9"}) {
		t.Errorf("the units are %q", units)
	}
	again := Apply(stored(first), nil, sweepOf(2, seen()...), engine)
	if len(again.Devices) != 4 || len(again.Changes) > 0 {
		t.Errorf("the next sweep makes %d devices of them, with changes %+v", len(again.Devices), again.Changes)
	}
}

// One key that two hosts show joins them only where nothing speaks against it: images are cloned with their keys.
func TestClonedImagesAreTwoDevices(t *testing.T) {
	for name, tt := range map[string]struct {
		a, b evidence.Sighting
		want int
	}{
		"nothing against it": {sight("10.40.1.9", "48:9b:34:00:00:01", "tls.key abc"), sight("10.40.2.9", "", "tls.key abc"), 1},
		"two MACs":           {sight("10.40.1.9", "48:9b:34:00:00:01", "tls.key abc"), sight("10.40.1.10", "48:9b:34:00:00:02", "tls.key abc"), 2},
		"two distances":      {sight("10.40.2.9", "", "tls.key abc", "echo.ttl 63"), sight("10.40.3.9", "", "tls.key abc", "echo.ttl 61"), 2},
		"two identifiers":    {sight("10.40.2.9", "", "tls.key abc", "snmp.engine 80001f8801"), sight("10.40.3.9", "", "tls.key abc", "snmp.engine 80001f8802"), 2},
		"one distance":       {sight("10.40.2.9", "", "tls.key abc", "echo.ttl 63"), sight("10.40.3.9", "", "tls.key abc", "echo.ttl 127"), 1},
	} {
		if got := len(Apply(nil, nil, sweepOf(1, tt.a, tt.b), engine).Devices); got != tt.want {
			t.Errorf("%s: %d devices, want %d", name, got, tt.want)
		}
	}
}

// Who answers behind a MAC that answers for many, a router away, is a device of its own, and known again by its address.
func TestWhoIsBehindAMACThatAnswersForMany(t *testing.T) {
	const router = "48:9b:34:00:00:09"
	seen := func() []evidence.Sighting {
		all := []evidence.Sighting{
			sight("10.40.1.9", router, "echo.ttl 64", "ssh.greeting SSH-2.0-router"), sight("10.40.1.200", router, "echo.ttl 63", "ftp.greeting 220 behind"),
		}
		for _, empty := range []string{"10.40.1.150", "10.40.1.151", "10.40.1.152", "10.40.1.153"} {
			all = append(all, notAsked(sight(empty, router)))
		}
		return all
	}
	first := Apply(nil, nil, sweepOf(1, seen()...), engine).Devices
	if got := addrsOf(first); len(first) != 2 {
		t.Fatalf("devices at %s", got)
	}
	for _, d := range first {
		behind := slices.Contains(d.Addrs, netip.MustParseAddr("10.40.1.200"))
		if behind && (len(d.Addrs) != 1 || len(d.MACs) > 0 || evidence.First(d.Items, "ssh.greeting") != "") || !behind && evidence.First(d.Items, "ftp.greeting") != "" {
			t.Errorf("one speaks for the other: %+v", d)
		}
	}
	if again := Apply(stored(first), nil, sweepOf(2, seen()...), engine); len(again.Devices) != 2 || len(again.Changes) > 0 {
		t.Errorf("the next sweep makes %d devices of them, with changes %+v", len(again.Devices), again.Changes)
	}
}
