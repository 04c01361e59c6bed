package store_test

import (
	"errors"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"testing"
	"time"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
	"airdrift/core/identify"
	"airdrift/core/inventory"
	"airdrift/core/lease"
	"airdrift/core/ledger"
	"airdrift/store"
	"airdrift/store/storetest"
)

func TestCredentialsAreKeptSealed(t *testing.T) {
	s := storetest.Open(t)
	site := newSite(t, s)
	other := store.Site{Name: "Elsewhere"}
	if err := s.CreateSite(t.Context(), &other); err != nil {
		t.Fatal(err)
	}
	first := store.Credential{SiteID: site.ID, Name: "plant", Version: "2c", Sealed: []byte{0, 1, 255}, CreatedAt: began}
	second := store.Credential{SiteID: site.ID, Name: "third", Version: "3", User: "heron", Auth: "SHA", Priv: "AES", Sealed: []byte{7}, CreatedAt: began}
	for _, c := range []*store.Credential{&first, &second} {
		if err := s.CreateCredential(t.Context(), c); err != nil || c.ID == 0 {
			t.Fatalf("%+v, %v", c, err)
		}
	}
	again := store.Credential{SiteID: site.ID, Name: "plant", Version: "1", Sealed: []byte{9}, CreatedAt: began}
	if err := s.CreateCredential(t.Context(), &again); !errors.Is(err, store.ErrTaken) {
		t.Errorf("a second of that name: %v", err)
	}
	elsewhere := store.Credential{SiteID: other.ID, Name: "plant", Version: "1", Sealed: []byte{9}, CreatedAt: began}
	if err := s.CreateCredential(t.Context(), &elsewhere); err != nil {
		t.Errorf("one of that name at another site: %v", err)
	}
	all, err := s.Credentials(t.Context(), site.ID)
	if err != nil || len(all) != 2 || all[0].Name != "plant" || !slices.Equal(all[0].Sealed, first.Sealed) || all[1].User != "heron" {
		t.Errorf("%+v, %v", all, err)
	}
	if err := s.RemoveCredential(t.Context(), first.ID); err != nil {
		t.Error(err)
	}
	if err := s.RemoveCredential(t.Context(), first.ID); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("taking it away twice: %v", err)
	}
	if _, err := s.Credential(t.Context(), first.ID); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("it is still there: %v", err)
	}
}

func TestRuleFilesAndLeases(t *testing.T) {
	s := storetest.Open(t)
	site := newSite(t, s)
	file := store.RuleFile{SiteID: site.ID, Purpose: store.RulesIdentify, Name: "garden", Text: "rules: []", ChangedBy: "mason", ChangedAt: began}
	if err := s.SaveRuleFile(t.Context(), &file); err != nil || file.ID == 0 {
		t.Fatal(file, err)
	}
	file.Active = true
	if err := s.SaveRuleFile(t.Context(), &file); err != nil {
		t.Fatal(err)
	}
	again := store.RuleFile{SiteID: site.ID, Purpose: store.RulesIdentify, Name: "garden", Text: "rules: []", ChangedAt: began}
	if err := s.SaveRuleFile(t.Context(), &again); !errors.Is(err, store.ErrTaken) {
		t.Errorf("a second of that name: %v", err)
	}
	all, err := s.RuleFiles(t.Context(), site.ID, store.RulesIdentify)
	if err != nil || len(all) != 1 || !all[0].Active || all[0].Text != "rules: []" {
		t.Errorf("%+v, %v", all, err)
	}
	if err := s.RemoveRuleFile(t.Context(), file.ID); err != nil {
		t.Error(err)
	}
	if _, err := s.RuleFile(t.Context(), file.ID); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("it is still there: %v", err)
	}

	stale := func() string {
		t.Helper()
		now, err := s.Site(t.Context(), site.ID)
		if err != nil {
			t.Fatal(err)
		}
		return now.Stale
	}
	if why := stale(); why != "" {
		t.Errorf("without a sweep the site is stale: %s", why)
	}
	if err := s.CreateSweep(t.Context(), &store.Sweep{SiteID: site.ID, State: store.Done, Began: began}); err != nil {
		t.Fatal(err)
	}
	leases := []lease.Lease{
		{Addr: netip.MustParseAddr("10.40.1.5"), MAC: hwaddr.MustParse("48:9b:34:00:00:05"), Name: "desk", Until: began.Add(time.Hour)},
		{Addr: netip.MustParseAddr("fd00::5"), Name: strings.Repeat("long ", 100)},
	}
	for range 2 { // the second takes the place of the first
		if err := s.ReplaceLeases(t.Context(), site.ID, leases); err != nil {
			t.Fatal(err)
		}
	}
	whyLeases := stale()
	judging := store.RuleFile{SiteID: site.ID, Purpose: store.RulesJudge, Name: "care", Text: "rules: []", ChangedAt: began}
	if err := s.SaveRuleFile(t.Context(), &judging); err != nil || !strings.Contains(whyLeases, "leases") || stale() != whyLeases {
		t.Errorf("with other leases the site is stale as %q, with a rule that judges as %q, %v", whyLeases, stale(), err)
	}
	told := store.RuleFile{SiteID: site.ID, Purpose: store.RulesIdentify, Name: "hall", Text: "rules: []", ChangedAt: began}
	if err := s.SaveRuleFile(t.Context(), &told); err != nil || !strings.Contains(stale(), "rules") {
		t.Errorf("with other rules the site is stale as %q, %v", stale(), err)
	}
	kept, err := s.Leases(t.Context(), site.ID)
	if err != nil || len(kept) != 2 || kept[0] != leases[0] || !kept[1].Until.IsZero() || len(kept[1].Name) > 255 {
		t.Errorf("%+v, %v", kept, err)
	}
	if err := s.ReplaceLeases(t.Context(), site.ID, nil); err != nil {
		t.Error(err)
	}
	if kept, err = s.Leases(t.Context(), site.ID); err != nil || len(kept) != 0 {
		t.Errorf("deleted, there are %+v, %v", kept, err)
	}
}

// told makes a device that has said things.
func told(addr, mac string, facts ...evidence.Item) ledger.Device {
	d := ledger.Device{
		MACs: []hwaddr.MAC{hwaddr.MustParse(mac)}, Addrs: []netip.Addr{netip.MustParseAddr(addr)}, Items: facts, FirstSeen: began, LastSeen: began,
		Standing: ledger.Unmanaged, Presence: ledger.Seen,
	}
	d.Identity = identify.New(identify.Default(), nil).Identify(facts).Brief()
	return d
}

func TestDevicesAreFoundByWhatTheySay(t *testing.T) {
	s := storetest.Open(t)
	site := newSite(t, s)
	said := func(key, value string, port evidence.Port) evidence.Item {
		source, _, _ := strings.Cut(key, ".")
		return evidence.Item{Source: evidence.Source(source), Key: key, Value: value, Port: port}
	}
	devices := []ledger.Device{
		told("10.40.1.20", "48:9b:34:00:00:01", said("snmp.mib", "printer", evidence.UDP(161)), said("snmp.maker", "Marrowby, Print", evidence.UDP(161)), said("snmp.model", "Inkwell 220", evidence.UDP(161)),
			said("snmp.firmware", "5.0", evidence.UDP(161)), said("snmp.serial", "MB-220-17", evidence.UDP(161)), said("mdns.type", "_ipp._tcp", evidence.UDP(5353)), said("tcp.open", "9100", evidence.TCP(9100)), said("ipp.model", "Inkwell 220", evidence.TCP(631))),
		told("10.40.1.21", "48:9b:34:00:00:02", said("tcp.open", "80", evidence.TCP(80)), said("http.title", "Managed switch", evidence.TCP(80))),
		told("10.40.1.22", "48:9b:34:00:00:03", said("tcp.refused", "22", evidence.TCP(22))),
	}
	for i := range devices {
		devices[i].Facts = evidence.HashOf(devices[i].Items)
	}
	err := s.Resettle(t.Context(), site.ID, func(_ ledger.Shelf, result *ledger.Result) ([]uint64, error) {
		result.Devices = devices
		return nil, nil
	})
	if err != nil {
		t.Fatal(err)
	}
	for name, tt := range map[string]struct{ query, want string }{
		"a maker":               {"vendor=Marrowby+Print", "10.40.1.20"},
		"a model":               {"model=Inkwell+220&model=no+such", "10.40.1.20"},
		"a version":             {"firmware=5.0", "10.40.1.20"},
		"a serial number":       {"serial=MB-220-17&serial=x", "10.40.1.20"},
		"another serial number": {"serial=MB-220", ""},
		"a port by number":      {"service=80", "10.40.1.21"},
		"a port":                {"service=udp/161", "10.40.1.20"},
		"the other protocol":    {"service=tcp/161", ""},
		"a service by name":     {"service=http&service=snmp", "10.40.1.20 10.40.1.21"},
		"a type":                {"service=_IPP._tcp", "10.40.1.20"},
		"a part of a type":      {"service=_ip", ""},
		"a port that refuses":   {"service=22", ""},
		"signs of a pattern":    {"service=%25", ""},
		"what is sure":          {"strength=12", "10.40.1.20"},
		"several at once":       {"service=http&service=snmp&kind=switch", "10.40.1.21"},
		"a serial and a word":   {"serial=MB-220-17&text=inkwell", "10.40.1.20"},
		"sorted by how sure":    {"sort=strength&descend=true", "10.40.1.20 10.40.1.21 10.40.1.22"},
		"sorted by the version": {"service=snmp&service=http&sort=firmware&descend=true", "10.40.1.20 10.40.1.21"},
		"sorted by the serial":  {"sort=serial", "10.40.1.21 10.40.1.22 10.40.1.20"},
	} {
		values, err := url.ParseQuery(tt.query)
		if err != nil {
			t.Fatal(err)
		}
		query, err := inventory.ParseQuery(values)
		if err != nil {
			t.Fatal(err)
		}
		page, err := s.ListDevices(t.Context(), store.DeviceQuery{Site: site.ID, Query: query, Limit: 10})
		lines, total := page.Lines, page.Total
		var got []string
		for _, l := range lines {
			got = append(got, l.Texts("address")[0])
		}
		if strings.Join(got, " ") != tt.want || total != int64(len(got)) || err != nil {
			t.Errorf("%s: %v of %d, %v; want %s", name, got, total, err, tt.want)
		}
	}
	values, err := s.Values(t.Context(), site.ID)
	if err != nil || !slices.Equal(values["vendor"], []string{"Marrowby Print"}) || !slices.Equal(values["firmware"], []string{"5.0"}) ||
		!slices.Equal(values["serial"], []string{"MB-220-17"}) || !slices.Contains(values["service"], "_ipp._tcp") || !slices.Contains(values["service"], "http") || slices.Contains(values["service"], "80") {
		t.Errorf("values %v, %v", values, err)
	}
}
