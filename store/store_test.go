package store_test

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
	"airdrift/core/identify"
	"airdrift/core/inventory"
	"airdrift/core/ledger"
	"airdrift/core/netrange"
	"airdrift/core/register"
	"airdrift/core/sweep"
	"airdrift/store"
	"airdrift/store/storetest"
)

// leftBehind names a directory on which this program is to start a server and leave it, as a killed service does.
const leftBehind = "AIRDRIFT_TEST_LEAVE_SERVER"

func TestMain(m *testing.M) {
	if dir := os.Getenv(leftBehind); dir != "" {
		leaveServer(dir)
	}
	storetest.Main(m)
}

func leaveServer(dir string) {
	server, err := store.StartServer(context.Background(), dir)
	if err == nil {
		var s *store.Store
		if s, err = store.Open(context.Background(), server.DSN()); err == nil {
			err = s.CreateSite(context.Background(), &store.Site{Name: "Fernhollow"})
		}
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	os.Exit(0) // without Stop: the server goes on
}

var began = time.Date(2026, 11, 2, 9, 0, 0, 123456000, time.UTC)

func newSite(t *testing.T, s *store.Store) store.Site {
	t.Helper()
	site := store.Site{Name: "Fernhollow", Networks: []store.Network{{Name: "offices", Subnet: netip.MustParsePrefix("10.40.1.0/24")}}}
	if err := s.CreateSite(t.Context(), &site); err != nil {
		t.Fatal(err)
	}
	return site
}

func TestSiteRoundTripAndNames(t *testing.T) {
	s := storetest.Open(t)
	site := newSite(t, s)
	got, err := s.Site(t.Context(), site.ID)
	if err != nil || got.Name != site.Name || len(got.Networks) != 1 || got.Networks[0] != site.Networks[0] {
		t.Errorf("got %+v, %v", got, err)
	}
	again := store.Site{Name: "fernhollow"}
	if err := s.CreateSite(t.Context(), &again); !errors.Is(err, store.ErrTaken) {
		t.Errorf("a second site of the name gave %v, want ErrTaken", err)
	}
	if _, err := s.Site(t.Context(), 999); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("an absent site gave %v, want ErrNotFound", err)
	}
}

func TestSightingsAreWrittenOver(t *testing.T) {
	s := storetest.Open(t)
	site := newSite(t, s)
	sweep := store.Sweep{SiteID: site.ID, Ranges: "10.40.1.0/24", State: store.Running, Began: began}
	if err := s.CreateSweep(t.Context(), &sweep); err != nil {
		t.Fatal(err)
	}
	sighting := evidence.Sighting{Addr: netip.MustParseAddr("10.40.1.9"), MAC: hwaddr.MustParse("48:9b:34:00:00:01"), Answered: true, FirstAt: began,
		Items: []evidence.Item{{Source: evidence.SourceARP, Key: evidence.KeyMAC, Value: "48:9b:34:00:00:01", At: began, RTT: time.Millisecond}}}
	more := sighting
	more.Items = append(more.Items[:1:1], evidence.Item{Source: evidence.SourceHTTP, Key: evidence.KeyHTTPTitle, Port: evidence.TCP(80), Value: "Palm \u2603 \U0001F331", At: began})
	wanted := slices.Clone(more.Items)
	for i := range wanted {
		wanted[i].At = wanted[i].At.Truncate(time.Millisecond)
	}
	for _, batch := range [][]evidence.Sighting{{sighting}, {more}, nil} {
		if _, err := s.SaveSightings(t.Context(), sweep.ID, batch); err != nil {
			t.Fatal(err)
		}
	}
	got, err := s.Sightings(t.Context(), sweep.ID)
	if err != nil || len(got) != 1 || len(got[0].Items) != 2 || !slices.Equal(got[0].Items, wanted) || got[0].MAC != sighting.MAC || !got[0].FirstAt.Equal(began) {
		t.Errorf("got %+v, %v", got, err)
	}
}

// Devices behind one address, and those without any, are sightings of their own.
func TestSightingsWithoutAnAddressOfTheirOwn(t *testing.T) {
	s := storetest.Open(t)
	site := newSite(t, s)
	sweep := store.Sweep{SiteID: site.ID, Ranges: "10.40.1.0/24", State: store.Running, Began: began, Plan: sweep.Plan{Never: []uint16{9100}}}
	if err := s.CreateSweep(t.Context(), &sweep); err != nil {
		t.Fatal(err)
	}
	gateway, mac := netip.MustParseAddr("10.40.1.9"), hwaddr.MustParse("48:9b:34:00:00:01")
	wanted := []evidence.Sighting{
		{MAC: hwaddr.MustParse("48:9b:34:00:00:02"), FirstAt: began}, {MAC: hwaddr.MustParse("48:9b:34:00:00:03"), FirstAt: began},
		{Addr: gateway, MAC: mac, FirstAt: began}, {Addr: gateway, MAC: mac, Unit: "modbus/7", FirstAt: began}, {Addr: gateway, MAC: mac, Unit: "modbus/8", FirstAt: began},
	}
	if refused, err := s.SaveSightings(t.Context(), sweep.ID, wanted); err != nil || len(refused) > 0 {
		t.Fatal(refused, err)
	}
	got, err := s.Sightings(t.Context(), sweep.ID)
	if err != nil || len(got) != len(wanted) {
		t.Fatalf("got %+v, %v", got, err)
	}
	for i := range wanted {
		if got[i].Who() != wanted[i].Who() {
			t.Errorf("%s comes back as %s", wanted[i].Who(), got[i].Who())
		}
	}
	if back, err := s.Sweep(t.Context(), sweep.ID); err != nil || !slices.Equal(back.Plan.Never, sweep.Plan.Never) {
		t.Errorf("the plan comes back as %+v, %v", back.Plan, err)
	}
}

// device makes a device that was seen.
func device(addr, mac, name string) ledger.Device {
	d := ledger.Device{Addrs: []netip.Addr{netip.MustParseAddr(addr)}, FirstSeen: began, LastSeen: began, LastSweep: 1,
		Standing: ledger.Unmanaged, Presence: ledger.Seen,
		Identity: identify.Beliefs{{Attribute: identify.Kind, Value: "printer"}, {Attribute: identify.Name, Value: name}}}
	if mac != "" {
		d.MACs = []hwaddr.MAC{hwaddr.MustParse(mac)}
	}
	return d
}

// put stores devices by a sweep that gives them, held against a register of which some entries have changed.
func put(t *testing.T, s *store.Store, site uint64, change func([]ledger.Device) []ledger.Device, entries []register.Entry, changed ...register.Entry) {
	t.Helper()
	sweep := store.Sweep{SiteID: site, Ranges: "10.40.1.0/24", State: store.Done, Began: began}
	if err := s.CreateSweep(t.Context(), &sweep); err != nil {
		t.Fatal(err)
	}
	var terms []ledger.Term
	stored, err := s.Devices(t.Context(), site)
	if err != nil {
		t.Fatal(err)
	}
	for _, d := range stored {
		terms = append(terms, d.Terms()...)
	}
	err = s.ApplySweep(t.Context(), &sweep, func(shelf ledger.Shelf, _ *store.Seen, _ []uint64) (ledger.Result, error) {
		known, err := shelf.KnownBy(terms)
		return ledger.Result{Devices: change(known)}, err
	}, func(shelf ledger.Shelf, result *ledger.Result) ([]uint64, error) {
		return result.Settle(shelf, ledger.Said{Entries: entries}, changed...)
	})
	if err != nil {
		t.Fatal(err)
	}
}

func TestDevicesKeepTheirIDs(t *testing.T) {
	s := storetest.Open(t)
	site := newSite(t, s)
	entry := register.Entry{ID: 7, Name: "old hall display"}
	entries := []register.Entry{entry}
	put(t, s, site.ID, func([]ledger.Device) []ledger.Device {
		return []ledger.Device{device("10.40.1.9", "48:9b:34:00:00:01", "a")}
	}, entries, entry)
	first, err := s.Devices(t.Context(), site.ID)
	if err != nil || len(first) != 2 || !first[1].FirstSeen.IsZero() {
		t.Fatalf("got %+v, %v", first, err)
	}
	put(t, s, site.ID, func(known []ledger.Device) []ledger.Device {
		known[0].Addrs = []netip.Addr{netip.MustParseAddr("10.40.1.10")}
		return []ledger.Device{device("10.40.1.11", "", "b"), known[0], device("10.40.1.12", "", "c")}
	}, entries, entry)
	second, err := s.Devices(t.Context(), site.ID)
	if err != nil || len(second) != 4 || second[0].ID != first[0].ID || second[0].Addrs[0].String() != "10.40.1.10" || second[1].ID != first[1].ID {
		t.Fatalf("got %+v, %v", second, err)
	}
	put(t, s, site.ID, func(known []ledger.Device) []ledger.Device { return known[:1] }, nil, entry)
	if third, _ := s.Devices(t.Context(), site.ID); len(third) != 3 {
		t.Errorf("%d devices are left, want 3: the stand-in alone goes with its entry, what was seen stays", len(third))
	}
}

func TestListDevices(t *testing.T) {
	s := storetest.Open(t)
	site := newSite(t, s)
	managed := device("10.40.1.100", "", "oak_1")
	entries := []register.Entry{{ID: 1, Name: "oak_1"}}
	managed.Items = []evidence.Item{{Key: evidence.KeyHTTPTitle, Value: "Rill 100% <b>"}}
	managed.Facts = evidence.HashOf(managed.Items)
	put(t, s, site.ID, func([]ledger.Device) []ledger.Device {
		return []ledger.Device{managed, device("10.40.1.20", "48:9b:34:00:00:01", "birch"), device("10.40.1.3", "", "oaken")}
	}, entries, entries...)
	tests := []struct {
		query store.DeviceQuery
		total int64
		want  string
	}{
		{store.DeviceQuery{}, 3, "oaken birch oak_1"},
		{store.DeviceQuery{Query: inventory.Query{Descend: true}}, 3, "oak_1 birch oaken"},
		{store.DeviceQuery{Limit: 1, Query: inventory.Query{Sort: "name"}}, 3, "birch"},
		{store.DeviceQuery{Query: inventory.Query{Where: inventory.Where{"standing": {"unmanaged"}}}}, 2, "oaken birch"},
		{store.DeviceQuery{Query: inventory.Query{Where: inventory.Where{"kind": {"camera"}}}}, 0, ""},
		{store.DeviceQuery{Query: inventory.Query{Text: "oak_"}}, 1, "oak_1"},
		{store.DeviceQuery{Query: inventory.Query{Text: "100% RILL"}}, 1, "oak_1"},
		{store.DeviceQuery{Query: inventory.Query{Text: "48-9B-34"}}, 1, "birch"},
		{store.DeviceQuery{Query: inventory.Query{Text: "' OR 1=1 --"}}, 0, ""},
	}
	for _, tt := range tests {
		tt.query.Site = site.ID
		if tt.query.Limit == 0 {
			tt.query.Limit = 10
		}
		page, err := s.ListDevices(t.Context(), tt.query)
		lines, total := page.Lines, page.Total
		var names []string
		for _, l := range lines {
			names = append(names, l.Text("name"))
		}
		if got := strings.Join(names, " "); err != nil || got != tt.want || total != tt.total {
			t.Errorf("%+v: %q of %d, %v; want %q of %d", tt.query, got, total, err, tt.want, tt.total)
		}
	}
}

// A list is leafed through in every order without leaving anybody out or giving anybody twice, those without a value in the column too, and
// while devices are added before the place.
func TestLeafingThroughDevices(t *testing.T) {
	s := storetest.Open(t)
	site := newSite(t, s)
	var devices []ledger.Device
	entries := []register.Entry{{ID: 1, Name: "never seen"}, {ID: 2, Name: "nor this"}}
	for i := range 12 {
		devices = append(devices, device(fmt.Sprintf("10.40.1.%d", 20+i), fmt.Sprintf("48:9b:34:00:00:%02x", i), []string{"oak", "Ash", "birch"}[i%3]))
	}
	put(t, s, site.ID, func([]ledger.Device) []ledger.Device { return devices }, entries, entries...)
	for _, sort := range inventory.Names(inventory.Sorted()) {
		for _, descend := range []bool{false, true} {
			query := store.DeviceQuery{Site: site.ID, Limit: 100, Query: inventory.Query{Sort: sort, Descend: descend}}
			whole, err := s.ListDevices(t.Context(), query)
			if err != nil || whole.Total != 14 || len(whole.Lines) != 14 || whole.Next != nil {
				t.Fatalf("%s: %d of %d, %v", sort, len(whole.Lines), whole.Total, err)
			}
			var leafed []inventory.Line
			query.Limit = 3
			for {
				page, err := s.ListDevices(t.Context(), query)
				if err != nil {
					t.Fatal(err)
				}
				leafed = append(leafed, page.Lines...)
				if query.After = page.Next; page.Next == nil {
					break
				}
			}
			if !reflect.DeepEqual(leafed, whole.Lines) {
				t.Errorf("leafed through by %s (downwards %t) there are %v, want %v", sort, descend, numbers(leafed), numbers(whole.Lines))
			}
		}
	}
	query := store.DeviceQuery{Site: site.ID, Limit: 5}
	first, err := s.ListDevices(t.Context(), query)
	if err != nil {
		t.Fatal(err)
	}
	put(t, s, site.ID, func(known []ledger.Device) []ledger.Device {
		return append(known, device("10.40.1.1", "48:9b:34:00:01:01", "new"))
	}, entries)
	query.After, query.Limit = first.Next, 100
	rest, err := s.ListDevices(t.Context(), query)
	if err != nil || len(rest.Lines) != 9 {
		t.Errorf("behind the first five of fourteen there are %v, %v", numbers(rest.Lines), err)
	}
}

func numbers(lines []inventory.Line) []uint64 {
	list := make([]uint64, len(lines))
	for i, l := range lines {
		list[i] = l.ID
	}
	return list
}

func TestImportRegisterOverlays(t *testing.T) {
	s := storetest.Open(t)
	site := newSite(t, s)
	same := func(ledger.Shelf, *ledger.Result, []register.Entry, []register.Entry) ([]uint64, error) {
		return nil, nil
	}
	mac := hwaddr.MustParse("48:9b:34:00:00:01")
	first := []register.Entry{{Name: "a", MAC: mac, Extra: map[string]string{"Key": "K7"}}, {Name: "b"}}
	if done, err := s.ImportRegister(t.Context(), site.ID, first, false, false, same); err != nil || done.Added != 2 || done.Updated != 0 {
		t.Fatalf("%+v, %v", done, err)
	}
	second := []register.Entry{{Name: "a renamed", MAC: mac}, {Name: "c"}}
	for _, preview := range []bool{true, true, false} { // what is shown is not done, and done as it was shown
		done, err := s.ImportRegister(t.Context(), site.ID, second, false, preview, same)
		if err != nil || done.Added != 1 || done.Updated != 1 || len(done.Changes) != 2 || done.Changes[0].Was.Name != "a" || done.Changes[0].Becomes.Name != "a renamed" || done.Changes[1].Was != nil {
			t.Fatalf("preview %t: %+v, %v", preview, done, err)
		}
	}
	if done, err := s.ImportRegister(t.Context(), site.ID, []register.Entry{{Name: "c"}}, true, true, same); err != nil || len(done.Changes) != 2 || done.Changes[0].Becomes != nil {
		t.Fatalf("in the place of three entries, one of them: %+v, %v", done, err)
	}
	broken := errors.New("matching failed")
	_, err := s.ImportRegister(t.Context(), site.ID, []register.Entry{{Name: "d"}}, true, false, func(_ ledger.Shelf, _ *ledger.Result, all, changed []register.Entry) ([]uint64, error) {
		if len(all) != 1 || len(changed) != 4 {
			t.Errorf("of the register's %d entries %d have changed, want those that went and the new one", len(all), len(changed))
		}
		return nil, broken
	})
	if !errors.Is(err, broken) {
		t.Fatalf("got %v, want the failure of the matching", err)
	}
	got, err := s.Register(t.Context(), site.ID)
	if err != nil || len(got) != 3 || got[0].Name != "a renamed" || got[0].MAC != mac {
		t.Errorf("after a failed import the register is %+v, %v; want it untouched", got, err)
	}
}

func TestCoveredBeforeCountsWholeSweepsOnly(t *testing.T) {
	s := storetest.Open(t)
	site := newSite(t, s)
	for ranges, state := range map[string]store.SweepState{"10.40.1.0/25": store.Done, "10.40.1.128/25": store.Stopped} {
		sweep := store.Sweep{SiteID: site.ID, Ranges: ranges, Exclusions: "10.40.1.7", State: state, Began: began}
		if err := s.CreateSweep(t.Context(), &sweep); err != nil {
			t.Fatal(err)
		}
	}
	got, err := s.CoveredBefore(t.Context(), site.ID)
	want, _ := netrange.Parse("10.40.1.0-6,10.40.1.8-127")
	if err != nil || got.String() != want.String() {
		t.Errorf("covered %s, %v; want %s", got, err, want)
	}
}

func TestRunningSweepsOfAnEndedServiceAreInterrupted(t *testing.T) {
	s := storetest.Open(t)
	site := newSite(t, s)
	sweep := store.Sweep{SiteID: site.ID, Ranges: "10.40.1.1", State: store.Running, Began: began}
	if err := s.CreateSweep(t.Context(), &sweep); err != nil {
		t.Fatal(err)
	}
	if list, err := s.InterruptRunning(t.Context()); err != nil || len(list) != 1 {
		t.Fatalf("%v, %v", list, err)
	}
	if got, _ := s.Sweep(t.Context(), sweep.ID); got.State != store.Interrupted {
		t.Errorf("the sweep is %s", got.State)
	}
}

func TestOpenRefuses(t *testing.T) {
	dsn := storetest.DSN(t)
	for bad, want := range map[string]string{
		"":                               "malformed",
		"user:secret@nowhere":            "malformed",
		"user:secret@tcp(127.0.0.1:1)/x": "127.0.0.1:1 cannot be reached",
	} {
		_, err := store.Open(t.Context(), bad)
		if err == nil || !strings.Contains(err.Error(), want) || strings.Contains(err.Error(), "secret") {
			t.Errorf("%q gave %v, want an error saying %q without the password", bad, err, want)
		}
	}
	s, err := store.Open(t.Context(), dsn)
	if err != nil {
		t.Fatal(err)
	}
	s.Close()
	db, err := sql.Open("mysql", dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec("INSERT INTO migrations (id) VALUES ('9999_from_the_future')"); err != nil {
		t.Fatal(err)
	}
	if _, err := store.Open(t.Context(), dsn); err == nil || !strings.Contains(err.Error(), "newer version") {
		t.Errorf("a database of a newer version gave %v", err)
	}
}

func TestServerStartsAgainOnItsData(t *testing.T) {
	dir, err := os.MkdirTemp("", "airdrift-server-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	if err := os.Chmod(dir, 0o711); err != nil {
		t.Fatal(err)
	}
	killed := exec.CommandContext(t.Context(), os.Args[0])
	killed.Env = append(os.Environ(), leftBehind+"="+dir)
	if out, err := killed.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	if _, err := os.Stat(filepath.Join(dir, "server.pid")); err != nil {
		t.Fatal("no server was left running: ", err)
	}
	second, err := store.StartServer(context.WithoutCancel(t.Context()), dir)
	if err != nil {
		t.Fatal(err)
	}
	defer second.Stop()
	s, err := store.Open(t.Context(), second.DSN())
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if sites, err := s.Sites(t.Context()); err != nil || len(sites) != 1 {
		t.Errorf("after a new start: %v, %v", sites, err)
	}
	if left, _ := filepath.Glob(filepath.Join(dir, "start.sql")); len(left) > 0 {
		t.Error("the file with the password was left behind")
	}
}

// A sweep that was continued is looked at from anywhere in it: what it saw before, what it saw anew of the same, and what it saw besides.
func TestPartsOfAContinuedSweep(t *testing.T) {
	s := storetest.Open(t)
	site := newSite(t, s)
	record := store.Sweep{SiteID: site.ID, Ranges: "10.40.1.0/24", State: store.Running, Began: began}
	if err := s.CreateSweep(t.Context(), &record); err != nil {
		t.Fatal(err)
	}
	see := func(hosts ...int) {
		var list []evidence.Sighting
		for _, host := range hosts {
			list = append(list, evidence.Sighting{Addr: netip.MustParseAddr(fmt.Sprintf("10.40.1.%d", host)), Answered: true, FirstAt: began})
		}
		if _, err := s.SaveSightings(t.Context(), record.ID, list); err != nil {
			t.Fatal(err)
		}
	}
	check := func(hosts ...string) {
		t.Helper()
		if n, err := s.CountSightings(t.Context(), record.ID); err != nil || n != int64(len(hosts)) {
			t.Errorf("%d sightings, %v; want %d", n, err, len(hosts))
		}
		for skip := range hosts {
			part, err := s.SightingsBehind(t.Context(), record.ID, store.SightingMark{}, skip, 2)
			if err != nil || len(part) != min(2, len(hosts)-skip) || part[0].Addr.String() != "10.40.1."+hosts[skip] {
				t.Errorf("%d on: %v, %v", skip, part, err)
			}
		}
	}
	see(1, 2, 5)
	check("1", "2", "5")
	record.State = store.Stopped
	err := s.ApplySweep(t.Context(), &record, func(ledger.Shelf, *store.Seen, []uint64) (ledger.Result, error) { return ledger.Result{}, nil },
		func(ledger.Shelf, *ledger.Result) ([]uint64, error) { return nil, nil })
	if err != nil {
		t.Fatal(err)
	}
	check("1", "2", "5")
	see(2, 4)
	check("1", "2", "4", "5")
}

// A sighting leads to the device that held its place by its time: the latest that was met there before, or else the first that was met there later.
func TestWhoHeldASightingsPlace(t *testing.T) {
	s := storetest.Open(t)
	site := newSite(t, s)
	place, mac := netip.MustParseAddr("10.40.1.9"), hwaddr.MustParse("48:9b:34:00:00:09")
	lone := hwaddr.MustParse("48:9b:34:00:00:99")
	holding := func(name string, since time.Time) ledger.Device {
		d := device(place.String(), mac.String(), name)
		d.Holds = []ledger.Tenure{{Addr: place, MAC: mac, Vantage: "sim0", Since: since, SinceSweep: 1}}
		return d
	}
	put(t, s, site.ID, func([]ledger.Device) []ledger.Device {
		third := device("10.40.1.99", lone.String(), "third")
		third.Holds = []ledger.Tenure{{MAC: lone, Vantage: "sim0", Since: began, SinceSweep: 1}}
		return []ledger.Device{holding("first", began), holding("second", began.Add(2*time.Hour)), third}
	}, nil)
	stored, err := s.Devices(t.Context(), site.ID)
	if err != nil || len(stored) != 3 {
		t.Fatal(stored, err)
	}
	number := map[string]uint64{}
	for _, d := range stored {
		number[inventory.NameOf(d)] = d.ID
	}
	for _, c := range []struct {
		what string
		at   evidence.Sighting
		want uint64
	}{
		{"while the first held it", evidence.Sighting{Addr: place, MAC: mac, FirstAt: began.Add(time.Hour)}, number["first"]},
		{"while the second did", evidence.Sighting{Addr: place, MAC: mac, FirstAt: began.Add(3 * time.Hour)}, number["second"]},
		{"before either", evidence.Sighting{Addr: place, MAC: mac, FirstAt: began.Add(-time.Hour)}, number["first"]},
		{"with another MAC", evidence.Sighting{Addr: place, MAC: hwaddr.MustParse("48:9b:34:00:00:0a"), FirstAt: began.Add(time.Hour)}, 0},
		{"a unit behind it", evidence.Sighting{Addr: place, MAC: mac, Unit: "modbus/7", FirstAt: began.Add(time.Hour)}, 0},
		{"without an address", evidence.Sighting{MAC: mac, FirstAt: began.Add(time.Hour)}, 0},
		{"one that has no address", evidence.Sighting{MAC: lone, FirstAt: began.Add(time.Hour)}, number["third"]},
	} {
		if got, err := s.HeldBy(t.Context(), site.ID, []evidence.Sighting{c.at}); err != nil || got[0] != c.want {
			t.Errorf("%s it was %v, %v; want %d", c.what, got, err, c.want)
		}
	}
	if got, err := s.HeldBy(t.Context(), site.ID+1, []evidence.Sighting{{Addr: place, MAC: mac, FirstAt: began}}); err != nil || got[0] != 0 {
		t.Errorf("another site's device held it: %v, %v", got, err)
	}
}
