package lease

import (
	"errors"
	"net/netip"
	"strings"
	"testing"
	"time"

	"airdrift/core/evidence"
	"airdrift/core/fault"
	"airdrift/core/hwaddr"
)

const dnsmasqFile = "1795610000 48:9b:34:03:30:14 10.40.2.16 climate 01:48:9b:34:03:30:14\n0 90:b8:8d:00:00:01 10.40.1.30 * *\nduid 00:01\n1795610000 1234567 fd00::5 six 00:01\n"

const iscFile = `# The format of this file is documented in the dhcpd.leases(5) manual page.
lease 10.40.2.16 {
  starts 3 2026/11/25 07:00:00;
  ends 3 2026/11/25 19:00:00;
  binding state active;
  hardware ethernet 48:9b:34:03:30:14;
  client-hostname "climate";
}
lease 10.40.2.17 {
  ends never;
  binding state free;
  hardware ethernet 48:9b:34:03:30:15;
}
`

const keaFile = `address,hwaddr,client_id,valid_lifetime,expire,subnet_id,fqdn_fwd,fqdn_rev,hostname,state,user_context,pool_id
10.40.2.16,48:9b:34:03:30:14,01:48:9b:34:03:30:14,3600,1795610000,1,0,0,climate.garden.example.,0,,0
10.40.2.17,48:9b:34:03:30:15,,3600,1795610000,1,0,0,gone,0,,0
10.40.2.17,48:9b:34:03:30:15,,3600,1795610000,1,0,0,gone,2,,0
`

// readAt is when the files are read.
var readAt = time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC)

func TestReadTheFilesOfServers(t *testing.T) {
	for name, tt := range map[string]struct {
		text  string
		count int
		name  string
	}{"dnsmasq": {dnsmasqFile, 3, "climate"}, "isc": {iscFile, 1, "climate"}, "kea": {keaFile, 2, "climate.garden.example"}} {
		leases, err := Read(name, []byte(tt.text), readAt)
		if err != nil || len(leases) != tt.count {
			t.Errorf("%s: %d leases, %v; want %d", name, len(leases), err, tt.count)
			continue
		}
		found := false
		for _, l := range leases {
			if l.Addr == netip.MustParseAddr("10.40.2.16") {
				found = l.Name == tt.name && l.MAC == hwaddr.MustParse("48:9b:34:03:30:14") && !l.Until.IsZero()
			}
		}
		if !found {
			t.Errorf("%s: %+v", name, leases)
		}
	}
}

func TestFaultsHaveTheirLines(t *testing.T) {
	for name, tt := range map[string]struct{ text, want string }{
		"a time":      {"soon 48:9b:34:03:30:14 10.40.2.16 a *\n", "line 1"},
		"a MAC":       {"1 48:9b:34:03:30:14 10.40.2.16 a *\n1 elephant 10.40.2.17 b *\n", "line 2"},
		"an address":  {"1 48:9b:34:03:30:14 10.40.2.999 a *\n", "10.40.2.999"},
		"no end":      {"lease 10.40.2.16 {\n  binding state active;\n", "no end"},
		"nothing":     {"\n\n", "no lease in it"},
		"Kea address": {keaFile + "x,,,,,,,,,0,,\n", "line 5"},
	} {
		_, err := Read("leases", []byte(tt.text), readAt)
		var faults *fault.List
		if !errors.As(err, &faults) || !strings.Contains(err.Error(), tt.want) {
			t.Errorf("%s: %v; want %q", name, err, tt.want)
		}
	}
}

func TestLeasesGoToWhomTheyWereGiven(t *testing.T) {
	at := time.Unix(1795610000-1800, 0).UTC()
	leases, err := Read("kea", []byte(keaFile), readAt)
	if err != nil {
		t.Fatal(err)
	}
	sighting := func(a, mac string, first time.Time) evidence.Sighting {
		s := evidence.Sighting{Addr: netip.MustParseAddr(a), FirstAt: first}
		if mac != "" {
			s.MAC = hwaddr.MustParse(mac)
		}
		return s
	}
	index := NewIndex(leases)
	for i, tt := range []struct {
		of   evidence.Sighting
		want string
	}{
		{sighting("10.40.2.16", "", at), "climate.garden.example"},
		{sighting("10.40.2.16", "48:9b:34:03:30:14", at), "climate.garden.example"},
		{sighting("10.40.2.16", "90:b8:8d:00:00:01", at), ""},
		{sighting("10.40.2.16", "", at.AddDate(1, 0, 0)), ""},
		{sighting("10.40.2.16", "", at.Add(-2*time.Hour)), ""},
		{sighting("10.40.2.99", "", at), ""},
	} {
		facts := []evidence.Item{{Source: evidence.SourceEcho, Key: evidence.KeyEchoTTL, Value: "64"}}
		items, has, err := index.Attach(tt.of, func() ([]evidence.Item, error) { return facts, nil })
		if name := evidence.First(items, evidence.KeyLeaseName); name != tt.want || has != (tt.want != "") || has && items[0] != facts[0] || err != nil {
			t.Errorf("sighting %d is called %q, want %q: %+v, %v", i, name, tt.want, items, err)
		}
	}
}

// A lease speaks for its time alone: of an address that went from one client to another each has its own, a renewed one is one, and a file that is
// read later adds to what was known before.
func TestLeasesAreIntervals(t *testing.T) {
	record := func(start, end, mac, state string) string {
		return "lease 10.40.3.20 {\n  starts 3 2026/11/25 " + start + ";\n  ends 3 2026/11/25 " + end + ";\n  binding state " + state + ";\n  hardware ethernet " + mac + ";\n}\n"
	}
	const first, second, third = "48:9b:34:00:00:01", "48:9b:34:00:00:02", "48:9b:34:00:00:03"
	file := record("06:00:00", "07:00:00", first, "active") + record("06:30:00", "07:30:00", first, "active") + record("06:30:00", "07:00:00", first, "free") +
		record("07:10:00", "09:00:00", second, "active")
	leases, err := Read("isc", []byte(file), readAt)
	if err != nil || len(leases) != 2 {
		t.Fatalf("%+v, %v", leases, err)
	}
	later, err := Read("isc", []byte(record("08:30:00", "10:00:00", second, "active")+record("10:30:00", "12:00:00", third, "active")), readAt)
	if err != nil {
		t.Fatal(err)
	}
	index := NewIndex(Over(leases, later))
	for clock, want := range map[string]string{"05:59": "", "06:45": first, "07:05": "", "07:20": second, "09:30": second, "10:10": "", "11:00": third, "12:30": ""} {
		at, err := time.Parse("2006-01-02 15:04", "2026-11-25 "+clock)
		if err != nil {
			t.Fatal(err)
		}
		s := evidence.Sighting{Addr: netip.MustParseAddr("10.40.3.20"), FirstAt: at}
		items, _, _ := index.Attach(s, func() ([]evidence.Item, error) { return nil, nil })
		if got := evidence.First(items, evidence.KeyLeaseMAC); got != want {
			t.Errorf("at %s it was %q, want %q", clock, got, want)
		}
	}
	unknown, err := Read("dnsmasq", []byte("1795626000 48:9b:34:00:00:09 10.40.3.21 phone *\n"), readAt)
	if err != nil || !unknown[0].Since.Equal(readAt.Add(-24*time.Hour)) {
		t.Errorf("a lease without a beginning: %+v, %v", unknown, err)
	}
	if again := Over(unknown, unknown); len(again) != 1 {
		t.Errorf("read twice there are %+v", again)
	}
}

func FuzzRead(f *testing.F) {
	for _, seed := range []string{dnsmasqFile, iscFile, keaFile, "lease 1.2.3.4 {", "address,hwaddr,\n\"", "\x00"} {
		f.Add([]byte(seed))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		leases, err := Read("fuzz", data, readAt)
		if err == nil && len(leases) == 0 {
			t.Error("neither leases nor a fault")
		}
		for _, l := range leases {
			if !l.Addr.IsValid() {
				t.Errorf("a lease without an address: %+v", l)
			}
		}
	})
}
