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

func TestReadTheFilesOfServers(t *testing.T) {
	for name, tt := range map[string]struct {
		text  string
		count int
		name  string
	}{"dnsmasq": {dnsmasqFile, 3, "climate"}, "isc": {iscFile, 1, "climate"}, "kea": {keaFile, 1, "climate.garden.example"}} {
		leases, err := Read(name, []byte(tt.text))
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
		_, err := Read("leases", []byte(tt.text))
		var faults *fault.List
		if !errors.As(err, &faults) || !strings.Contains(err.Error(), tt.want) {
			t.Errorf("%s: %v; want %q", name, err, tt.want)
		}
	}
}

func TestLeasesGoToWhomTheyWereGiven(t *testing.T) {
	at := time.Date(2026, 11, 25, 8, 0, 0, 0, time.UTC)
	leases, err := Read("kea", []byte(keaFile))
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
	got := Attach([]evidence.Sighting{
		sighting("10.40.2.16", "", at),
		sighting("10.40.2.16", "48:9b:34:03:30:14", at),
		sighting("10.40.2.16", "90:b8:8d:00:00:01", at),
		sighting("10.40.2.16", "", at.AddDate(1, 0, 0)),
		sighting("10.40.2.99", "", at),
	}, leases)
	for i, want := range []string{"climate.garden.example", "climate.garden.example", "", "", ""} {
		if name := evidence.First(got[i].Items, evidence.KeyLeaseName); name != want {
			t.Errorf("sighting %d is called %q, want %q", i, name, want)
		}
	}
}

func FuzzRead(f *testing.F) {
	for _, seed := range []string{dnsmasqFile, iscFile, keaFile, "lease 1.2.3.4 {", "address,hwaddr,\n\"", "\x00"} {
		f.Add([]byte(seed))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		leases, err := Read("fuzz", data)
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
