package store_test

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
	"airdrift/core/identify"
	"airdrift/core/inventory"
	"airdrift/core/ledger"
	"airdrift/store"
	"airdrift/store/storetest"
)

// sweepOf stores a sweep with one sighting for each address.
func sweepOf(t *testing.T, s *store.Store, site uint64, state store.SweepState, addrs ...string) store.Sweep {
	t.Helper()
	sweep := store.Sweep{SiteID: site, Ranges: "10.40.1.0/24", State: state, Began: began}
	if err := s.CreateSweep(t.Context(), &sweep); err != nil {
		t.Fatal(err)
	}
	var sightings []evidence.Sighting
	for _, a := range addrs {
		addr := netip.MustParseAddr(a)
		mac := hwaddr.MAC{0x48, 0x9b, 0x34, 0, 0, addr.As4()[3]}
		sightings = append(sightings, evidence.Sighting{Addr: addr, MAC: mac, Answered: true, Whole: true, FirstAt: began,
			Items: []evidence.Item{{Source: evidence.SourceARP, Key: evidence.KeyMAC, Value: mac.String(), At: began}}})
	}
	if _, err := s.SaveSightings(t.Context(), sweep.ID, sightings); err != nil {
		t.Fatal(err)
	}
	return sweep
}

var engine = identify.New(identify.Default(), nil)

// applying enters a sweep as the service does.
func applying(sweep *store.Sweep) store.Enter {
	return func(shelf ledger.Shelf, seen *store.Seen, before []uint64) (ledger.Result, error) {
		covered, err := sweep.Covered()
		if err != nil {
			return ledger.Result{}, err
		}
		return ledger.Enter(shelf, ledger.Sweep{
			ID: sweep.ID, Began: sweep.Began, Covered: covered, Sightings: seen.Sightings, Hashes: seen.Hashes, Facts: seen.Facts, Devices: before, Stopped: sweep.State != store.Done,
			OnLink: sweep.OnLink, Gateway: sweep.Gateway,
		}, engine)
	}
}

// settling holds devices against what people have said.
func settling(t *testing.T, s *store.Store, site uint64) store.Settle {
	return func(shelf ledger.Shelf, result *ledger.Result) ([]uint64, error) {
		decisions, err := s.Decisions(t.Context(), site)
		if err != nil {
			return nil, err
		}
		return result.Settle(shelf, ledger.Said{Decisions: decisions})
	}
}

// rebuilding computes a ledger anew as the service does.
func rebuilding(t *testing.T, s *store.Store, site uint64) store.Rebuilding {
	return store.Rebuilding{
		Enter: applying, Match: func(d []ledger.Device) []ledger.Device { return d }, Settle: settling(t, s, site),
		Lock: func(context.Context) (func(), error) { return func() {}, nil },
	}
}

func apply(t *testing.T, s *store.Store, sweep store.Sweep) {
	t.Helper()
	if err := s.ApplySweep(t.Context(), &sweep, applying(&sweep), settling(t, s, sweep.SiteID)); err != nil {
		t.Fatal(err)
	}
}

// A device that turns out to be a part of another goes, and where it was seen is the other's from then on.
func TestMergedDevicesGo(t *testing.T) {
	s := storetest.Open(t)
	site := newSite(t, s)
	first := sweepOf(t, s, site.ID, store.Done, "10.40.1.9", "10.40.1.10")
	apply(t, s, first)
	before, err := s.Devices(t.Context(), site.ID)
	if err != nil || len(before) != 2 {
		t.Fatalf("%+v, %v", before, err)
	}
	second := sweepOf(t, s, site.ID, store.Done, "10.40.1.9")
	err = s.ApplySweep(t.Context(), &second, func(shelf ledger.Shelf, seen *store.Seen, _ []uint64) (ledger.Result, error) {
		known, err := shelf.KnownBy(append(before[0].Terms(), before[1].Terms()...))
		known[0].Was, known[0].Holds = []uint64{known[1].ID}, append(known[0].Holds, known[1].Holds...)
		return ledger.Result{Devices: known[:1], Of: []int{0}, Merges: []ledger.Merge{{From: before[1].ID, Into: 0}}}, err
	}, settling(t, s, site.ID))
	if err != nil {
		t.Fatal(err)
	}
	after, err := s.Devices(t.Context(), site.ID)
	if err != nil || len(after) != 1 || after[0].ID != before[0].ID {
		t.Fatalf("after the merge there are %+v, %v", after, err)
	}
	history, _, err := s.History(t.Context(), after[0].ID, store.SweepMark{}, 10)
	if err != nil || len(history) != 3 || history[0].Sweep != second.ID {
		t.Errorf("its history is %+v, %v; want its own two sightings and that of its part", history, err)
	}
	if page, err := s.ListDevices(t.Context(), store.DeviceQuery{Site: site.ID, Limit: 10}); err != nil || page.Total != 1 {
		t.Errorf("the list counts %d devices, %v", page.Total, err)
	}
}

// That a site is stale is over once it has been computed anew by what it went by then; what was changed meanwhile is not forgotten.
func TestStaleUntilComputedAnew(t *testing.T) {
	s := storetest.Open(t)
	site := newSite(t, s)
	apply(t, s, sweepOf(t, s, site.ID, store.Done, "10.40.1.9"))
	how := rebuilding(t, s, site.ID)
	for _, tt := range []struct{ read, said, want string }{{"its leases are others", "its leases are others", ""}, {"its leases are others", "its rules are others", "its rules are others"}} {
		if err := s.SetStale(t.Context(), site.ID, tt.said); err != nil {
			t.Fatal(err)
		}
		how.Stale = tt.read
		if err := s.Rebuild(t.Context(), site.ID, 0, how); err != nil {
			t.Fatal(err)
		}
		if now, err := s.Site(t.Context(), site.ID); err != nil || now.Stale != tt.want {
			t.Errorf("computed anew since %s, while %s: stale as %q, %v; want %q", tt.read, tt.said, now.Stale, err, tt.want)
		}
	}
}

// Written anew out of its sweeps the ledger is the same, numbers and notes included; without one sweep it is as if that had
// never been; and where writing it fails everything stays as it was.
func TestRebuild(t *testing.T) {
	s := storetest.Open(t)
	site := newSite(t, s)
	apply(t, s, sweepOf(t, s, site.ID, store.Done, "10.40.1.9", "10.40.1.10"))
	wrong := sweepOf(t, s, site.ID, store.Done, "10.40.1.9", "10.40.1.99")
	apply(t, s, wrong)
	if _, err := s.Decide(t.Context(), ledger.Decision{Device: 2, Kind: ledger.DecidedNote, Text: "behind the boiler", By: "head", At: began}, nil); err != nil {
		t.Fatal(err)
	}
	how := rebuilding(t, s, site.ID)
	check := func(what string, want ...string) {
		t.Helper()
		devices, err := s.Devices(t.Context(), site.ID)
		if err != nil || len(devices) != len(want) {
			t.Fatalf("%s: %d devices, %v; want %v", what, len(devices), err, want)
		}
		for i, d := range devices {
			if d.Addrs[0].String() != want[i] || d.ID != uint64(i+1) || (d.Note != "") != (i == 1) {
				t.Errorf("%s: device %d at %v with the note %q", what, d.ID, d.Addrs, d.Note)
			}
		}
	}
	if err := s.Rebuild(t.Context(), site.ID, 0, how); err != nil {
		t.Fatal(err)
	}
	check("rewritten", "10.40.1.9", "10.40.1.10", "10.40.1.99")
	broken := errors.New("the rules are broken")
	failing := how
	failing.Settle = func(ledger.Shelf, *ledger.Result) ([]uint64, error) { return nil, broken }
	if err := s.Rebuild(t.Context(), site.ID, wrong.ID, failing); !errors.Is(err, broken) {
		t.Errorf("got %v", err)
	}
	if _, err := s.Sweep(t.Context(), wrong.ID); err != nil {
		t.Errorf("a discard that failed has taken the sweep away: %v", err)
	}
	check("after a failure", "10.40.1.9", "10.40.1.10", "10.40.1.99")
	if err := s.Rebuild(t.Context(), site.ID, wrong.ID, how); err != nil {
		t.Fatal(err)
	}
	check("without the wrong sweep", "10.40.1.9", "10.40.1.10")
	devices, _ := s.Devices(t.Context(), site.ID)
	if devices[1].Presence != ledger.Seen {
		t.Errorf("a device that the wrong sweep missed is %s", devices[1].Presence)
	}
}

// A decision is one row and the device as it leaves it; each can be undone, and then the one before holds again.
func TestDecisions(t *testing.T) {
	s := storetest.Open(t)
	site := newSite(t, s)
	apply(t, s, sweepOf(t, s, site.ID, store.Done, "10.40.1.9", "10.40.1.10"))
	device := func() ledger.Device {
		t.Helper()
		d, _, err := s.Device(t.Context(), 2)
		if err != nil {
			t.Fatal(err)
		}
		counts, err := s.CountDevices(t.Context(), site.ID)
		sum, ofStanding := 0, 0
		for _, c := range counts {
			sum += c.Devices
			if c.Standing == d.Standing {
				ofStanding += c.Devices
			}
		}
		if err != nil || sum != 2 || ofStanding == 0 {
			t.Fatalf("counts %+v, %v", counts, err)
		}
		return d
	}
	for i, step := range []struct {
		kind ledger.DecisionKind
		text string
	}{{ledger.DecidedNote, "first"}, {ledger.DecidedNote, "second"}, {ledger.DecidedAside, "the caterer's"}, {ledger.DecidedNote, ""}} {
		if _, err := s.Decide(t.Context(), ledger.Decision{Device: 2, Kind: step.kind, Text: step.text, By: "head", At: began.Add(time.Duration(i) * time.Minute)}, nil); err != nil {
			t.Fatal(err)
		}
	}
	if d := device(); d.Note != "" || d.Aside == nil || d.Aside.Reason != "the caterer's" || d.Standing != ledger.SetAside {
		t.Errorf("after four decisions: %+v", d)
	}
	for _, step := range []struct {
		undo     uint64
		note     string
		standing ledger.Standing
	}{{4, "second", ledger.SetAside}, {3, "second", ledger.Unmanaged}, {2, "first", ledger.Unmanaged}, {1, "", ledger.Unmanaged}} {
		if err := s.Undo(t.Context(), step.undo, "mason", began, nil); err != nil {
			t.Fatal(err)
		}
		if d := device(); d.Note != step.note || d.Standing != step.standing {
			t.Errorf("decision %d undone: note %q, %s", step.undo, d.Note, d.Standing)
		}
	}
	if err := s.Undo(t.Context(), 1, "mason", began, nil); !errors.Is(err, store.ErrDecided) {
		t.Errorf("undone twice: %v", err)
	}
	list, err := s.DecisionsOf(t.Context(), 2)
	if err != nil || len(list) != 4 || list[0].Kind != ledger.DecidedNote || list[0].Holds() || list[0].UndoneBy != "mason" {
		t.Errorf("decisions %+v, %v", list, err)
	}
}

// What a sweep has found changed is kept with the sweep, in pages, and is the same after a rebuild.
func TestChanges(t *testing.T) {
	s := storetest.Open(t)
	site := newSite(t, s)
	first, second := sweepOf(t, s, site.ID, store.Done, "10.40.1.9", "10.40.1.10", "10.40.1.11"), sweepOf(t, s, site.ID, store.Done, "10.40.1.9", "10.40.1.12")
	apply(t, s, first)
	apply(t, s, second)
	list := func(q store.ChangeQuery) string {
		t.Helper()
		q.Site, q.Limit = site.ID, max(q.Limit, 2)
		var texts []string
		for range 10 { // pages
			changes, err := s.Changes(t.Context(), q)
			if err != nil {
				t.Fatal(err)
			}
			for _, c := range changes {
				texts = append(texts, fmt.Sprintf("%d %s %s%s", c.Sweep, c.Kind, c.Before, c.After))
				q.Below = c.ID
			}
			if len(changes) < q.Limit {
				break
			}
		}
		slices.Sort(texts)
		return strings.Join(texts, ", ")
	}
	all := "1 appeared 10.40.1.10, 1 appeared 10.40.1.11, 1 appeared 10.40.1.9, 2 appeared 10.40.1.12, 2 vanished 10.40.1.10, 2 vanished 10.40.1.11"
	for _, tt := range []struct {
		query store.ChangeQuery
		want  string
	}{
		{store.ChangeQuery{}, all}, {store.ChangeQuery{Sweep: second.ID, Kinds: []string{"appeared"}}, "2 appeared 10.40.1.12"}, {store.ChangeQuery{Devices: []uint64{2}}, "1 appeared 10.40.1.10, 2 vanished 10.40.1.10"},
		{store.ChangeQuery{Since: began.Add(time.Hour)}, ""}, {store.ChangeQuery{Until: began.Add(time.Hour)}, all},
	} {
		if got := list(tt.query); got != tt.want {
			t.Errorf("%+v: %s, want %s", tt.query, got, tt.want)
		}
	}
	how := rebuilding(t, s, site.ID)
	if err := s.Rebuild(t.Context(), site.ID, 0, how); err != nil {
		t.Fatal(err)
	}
	if got := list(store.ChangeQuery{}); got != all {
		t.Errorf("after a rebuild: %s", got)
	}
	if err := s.Rebuild(t.Context(), site.ID, second.ID, how); err != nil {
		t.Fatal(err)
	}
	if got := list(store.ChangeQuery{}); got != "1 appeared 10.40.1.10, 1 appeared 10.40.1.11, 1 appeared 10.40.1.9" {
		t.Errorf("without the second sweep: %s", got)
	}
}

// oldDatabase makes a database as version 0006 left it: a site, a sweep of two sightings, and their devices with a note and a set-aside.
func oldDatabase(t *testing.T, dsn string) {
	t.Helper()
	db, err := sql.Open("mysql", dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	statements := []string{"CREATE TABLE migrations (id VARCHAR(255) NOT NULL PRIMARY KEY)"}
	files, err := filepath.Glob("migrations/000[1-6]*.sql")
	if err != nil || len(files) != 6 {
		t.Fatal(files, err)
	}
	for _, name := range files {
		text, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		statements = append(statements, strings.Split(strings.TrimSpace(string(text)), ";\n")...)
		statements = append(statements, fmt.Sprintf("INSERT INTO migrations VALUES ('%s')", strings.TrimSuffix(filepath.Base(name), ".sql")))
	}
	statements = append(statements,
		"INSERT INTO sites (id, name, created_at) VALUES (1, 'Palm House', '2026-11-02 08:00:00')",
		`INSERT INTO sweeps (id, site_id, vantage, ranges, exclusions, pace, seed, state, began, addresses, answered, sent, gateway, on_link, warnings, failure, appeared, vanished, moved, changed)
		 VALUES (1, 1, 'eth0', '10.40.1.0/24', '', 'steady', 7, 'done', '2026-11-02 09:00:00', 254, 2, 500, '', '10.40.1.0/24', '', '', 2, 0, 0, 0)`,
		`INSERT INTO sightings (sweep_id, addr, mac, ring, learned_from, answered, first_at, items, whole, device_id, unit)
		 VALUES (1, INET6_ATON('::ffff:10.40.1.9'), '48:9b:34:00:00:09', 0, '', 1, '2026-11-02 09:00:01', '[{"source":"arp","key":"arp.mac","value":"48:9b:34:00:00:09","at":"2026-11-02T09:00:01Z"}]', 1, 41, ''),
		        (1, INET6_ATON('::ffff:10.40.1.10'), '48:9b:34:00:00:10', 0, '', 1, '2026-11-02 09:00:02', '[{"source":"arp","key":"arp.mac","value":"48:9b:34:00:00:10","at":"2026-11-02T09:00:02Z","rtt":1000000}]', 1, 42, '')`,
		`INSERT INTO devices (id, site_id, entry_id, name, addr, mac, kind, vendor, model, os, standing, presence, first_seen, last_seen, last_sweep, contested, search, record)
		 VALUES (41, 1, 0, '', INET6_ATON('::ffff:10.40.1.9'), '48:9b:34:00:00:09', 'unknown', '', '', '', 'unmanaged', 'seen', '2026-11-02 09:00:01', '2026-11-02 09:00:01', 1, 0, '',
		  '{"ID":41,"MACs":["48:9b:34:00:00:09"],"Addrs":["10.40.1.9"],"FirstSeen":"2026-11-02T09:00:01Z","Note":"behind the \\"boiler\\"","Aside":null,"Traits":null}'),
		        (42, 1, 0, '', INET6_ATON('::ffff:10.40.1.10'), '48:9b:34:00:00:10', 'unknown', '', '', '', 'set aside', 'seen', '2026-11-02 09:00:02', '2026-11-02 09:00:02', 1, 0, '',
		  '{"ID":42,"MACs":["48:9b:34:00:00:10"],"Addrs":["10.40.1.10"],"FirstSeen":"2026-11-02T09:00:02Z","Note":"","Aside":{"Reason":"the caterer''s","By":"head","At":"2026-11-02T09:00:00Z"},"Traits":["own machine"]}')`,
	)
	for _, statement := range statements {
		if statement = strings.TrimSuffix(strings.TrimSpace(statement), ";"); statement == "" {
			continue
		}
		if _, err := db.ExecContext(t.Context(), statement); err != nil {
			t.Fatalf("%s: %v", statement, err)
		}
	}
}

// A database of an older version loses nothing: neither what was seen, nor the numbers of devices, nor what people have said of them.
func TestOlderDatabasesAreKept(t *testing.T) {
	dsn := storetest.DSN(t)
	oldDatabase(t, dsn)
	s, err := store.Open(t.Context(), dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	decisions, err := s.Decisions(t.Context(), 1)
	if err != nil || len(decisions) != 2 {
		t.Fatalf("decisions %+v, %v", decisions, err)
	}
	if d := decisions[0]; d.Kind != ledger.DecidedNote || d.Text != `behind the "boiler"` || d.Device != 41 || len(d.Known.MACs) != 1 || len(d.Known.Addrs) != 1 {
		t.Errorf("the note is %+v", d)
	}
	if d := decisions[1]; d.Kind != ledger.DecidedAside || d.Text != "the caterer's" || d.By != "head" {
		t.Errorf("the set-aside is %+v", d)
	}
	seen, err := s.Sightings(t.Context(), 1)
	if err != nil || len(seen) != 2 || seen[1].Items[0].RTT != time.Millisecond || seen[1].MAC.String() != "48:9b:34:00:00:10" || !seen[1].Whole {
		t.Errorf("what was seen is %+v, %v", seen, err)
	}
	page, err := s.ListDevices(t.Context(), store.DeviceQuery{Site: 1, Limit: 10})
	lines := page.Lines
	if err != nil || len(lines) != 2 || lines[0].Texts("address")[0] != "10.40.1.9" || !slices.Contains(lines[1].Texts("traits"), string(ledger.OwnMachine)) {
		t.Errorf("until it is computed anew the list is %+v, %v", lines, err)
	}
	site, err := s.Site(t.Context(), 1)
	if err != nil || site.Stale == "" {
		t.Errorf("the ledger is not marked as to be computed anew: %+v, %v", site, err)
	}
	how := rebuilding(t, s, 1)
	how.Stale = site.Stale
	if err := s.Rebuild(t.Context(), 1, 0, how); err != nil {
		t.Fatal(err)
	}
	devices, err := s.Devices(t.Context(), 1)
	if err != nil || len(devices) != 2 || devices[0].ID != 41 || devices[0].Note != `behind the "boiler"` || devices[1].ID != 42 || devices[1].Standing != ledger.SetAside || len(devices[1].Items) != 1 {
		t.Errorf("computed anew: %+v, %v", devices, err)
	}
	if history, _, err := s.History(t.Context(), 42, store.SweepMark{}, 10); err != nil || len(history) != 1 || history[0].Sighting.Addr.String() != "10.40.1.10" {
		t.Errorf("its history is %+v, %v", history, err)
	}
	if site, err = s.Site(t.Context(), 1); err != nil || site.Stale != "" {
		t.Errorf("the ledger is still marked as to be computed anew: %+v, %v", site, err)
	}
}

// The counts that totals come from are those of the devices, whatever is done.
func TestCountsAgreeWithTheDevices(t *testing.T) {
	s := storetest.Open(t)
	site := newSite(t, s)
	apply(t, s, sweepOf(t, s, site.ID, store.Done, "10.40.1.9", "10.40.1.10", "10.40.1.11"))
	apply(t, s, sweepOf(t, s, site.ID, store.Done, "10.40.1.9"))
	for presence, want := range map[string]int64{"seen": 1, "silent": 2, "uncovered": 0} {
		page, err := s.ListDevices(t.Context(), store.DeviceQuery{Site: site.ID, Limit: 10, Query: inventory.Query{Where: inventory.Where{"presence": {presence}}}})
		lines, total := page.Lines, page.Total
		if err != nil || total != want || int64(len(lines)) != want {
			t.Errorf("%s: %d of %d devices, %v; want %d", presence, len(lines), total, err, want)
		}
	}
	counts, err := s.CountDevices(t.Context(), site.ID)
	sum := 0
	for _, c := range counts {
		sum += c.Devices
	}
	if err != nil || sum != 3 {
		t.Errorf("counts %+v, %v", counts, err)
	}
}

func TestUsersAndTokens(t *testing.T) {
	s := storetest.Open(t)
	for _, u := range []store.User{{Name: "head", Role: "administer", Hash: "x", CreatedAt: began}, {Name: "mason", Role: "look", Hash: "y", CreatedAt: began}} {
		if err := s.CreateUser(t.Context(), u); err != nil {
			t.Fatal(err)
		}
	}
	if err := s.CreateUser(t.Context(), store.User{Name: "mason", Role: "look", CreatedAt: began}); !errors.Is(err, store.ErrTaken) {
		t.Errorf("a name that is there gave %v", err)
	}
	keep := func(u *store.User) (bool, error) { return true, nil }
	gone := func(*store.User) (bool, error) { return false, nil }
	for name, change := range map[string]func(*store.User) (bool, error){
		"deleted": gone, "made less": func(u *store.User) (bool, error) { u.Role = "look"; return true, nil },
	} {
		if _, err := s.ChangeUser(t.Context(), "head", "administer", change); !errors.Is(err, store.ErrLast) {
			t.Errorf("the last administrator, %s: %v", name, err)
		}
	}
	if _, err := s.ChangeUser(t.Context(), "nobody", "administer", keep); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("a user who is not there gave %v", err)
	}
	mason, err := s.User(t.Context(), "mason")
	if err != nil {
		t.Fatal(err)
	}
	token := store.Token{UserID: mason.ID, Label: "laptop", Hash: make([]byte, 32), CreatedAt: began, ExpiresAt: began.AddDate(0, 0, 90)}
	if err := s.CreateToken(t.Context(), &token); err != nil {
		t.Fatal(err)
	}
	if u, err := s.UserOfToken(t.Context(), [32]byte{}, began); err != nil || u.Name != "mason" {
		t.Errorf("the token is %+v's, %v", u, err)
	}
	if list, err := s.Tokens(t.Context(), mason.ID); err != nil || len(list) != 1 || list[0].LastUsedAt == nil || !list[0].LastUsedAt.Equal(began) {
		t.Errorf("its use is not noted: %+v, %v", list, err)
	}
	if _, err := s.UserOfToken(t.Context(), [32]byte{}, began.AddDate(0, 0, 91)); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("a token that has expired gave %v", err)
	}
	head, _ := s.User(t.Context(), "head")
	if err := s.DeleteToken(t.Context(), head.ID, token.ID); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("another's token was deleted: %v", err)
	}
	if _, err := s.ChangeUser(t.Context(), "mason", "administer", gone); err != nil {
		t.Fatal(err)
	}
	if _, err := s.UserOfToken(t.Context(), [32]byte{}, began); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("the token of a user who is gone gave %v", err)
	}
}
