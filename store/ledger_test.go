package store_test

import (
	"database/sql"
	"errors"
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
	return func(known []ledger.Device, sightings []evidence.Sighting, former []uint64) (ledger.Result, error) {
		covered, err := sweep.Covered()
		return ledger.Apply(known, nil, ledger.Sweep{
			ID: sweep.ID, Began: sweep.Began, Covered: covered, Sightings: sightings, Devices: former, Stopped: sweep.State != store.Done,
		}, engine), err
	}
}

func apply(t *testing.T, s *store.Store, sweep store.Sweep) {
	t.Helper()
	if err := s.ApplySweep(t.Context(), &sweep, applying(&sweep)); err != nil {
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
	err = s.ApplySweep(t.Context(), &second, func(known []ledger.Device, _ []evidence.Sighting, _ []uint64) (ledger.Result, error) {
		known[0].Was = []uint64{known[1].ID}
		return ledger.Result{Devices: known[:1], Of: []int{0}, Merges: []ledger.Merge{{From: before[1].ID, Into: 0}}}, nil
	})
	if err != nil {
		t.Fatal(err)
	}
	after, err := s.Devices(t.Context(), site.ID)
	if err != nil || len(after) != 1 || after[0].ID != before[0].ID {
		t.Fatalf("after the merge there are %+v, %v", after, err)
	}
	history, err := s.History(t.Context(), after[0], 10)
	if err != nil || len(history) != 3 || history[0].Sweep != second.ID {
		t.Errorf("its history is %+v, %v; want its own two sightings and that of its part", history, err)
	}
	if _, total, err := s.ListDevices(t.Context(), store.DeviceQuery{Site: site.ID, Limit: 10}); err != nil || total != 1 {
		t.Errorf("the list counts %d devices, %v", total, err)
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
	if err := s.Decide(t.Context(), 2, ledger.DecidedNote, "behind the boiler", "head", began); err != nil {
		t.Fatal(err)
	}
	same := func(d []ledger.Device) ([]ledger.Device, error) {
		decisions, err := s.Decisions(t.Context(), site.ID)
		ledger.Decide(d, decisions)
		return d, err
	}
	enter := func(sweep *store.Sweep) store.Enter { return applying(sweep) }
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
	if err := s.Rebuild(t.Context(), site.ID, 0, enter, same); err != nil {
		t.Fatal(err)
	}
	check("written anew", "10.40.1.9", "10.40.1.10", "10.40.1.99")
	broken := errors.New("the rules are broken")
	if err := s.Rebuild(t.Context(), site.ID, wrong.ID, enter, func([]ledger.Device) ([]ledger.Device, error) { return nil, broken }); !errors.Is(err, broken) {
		t.Errorf("got %v", err)
	}
	if _, err := s.Sweep(t.Context(), wrong.ID); err != nil {
		t.Errorf("a discard that failed has taken the sweep away: %v", err)
	}
	check("after a failure", "10.40.1.9", "10.40.1.10", "10.40.1.99")
	if err := s.Rebuild(t.Context(), site.ID, wrong.ID, enter, same); err != nil {
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
		if err := s.Decide(t.Context(), 2, step.kind, step.text, "head", began.Add(time.Duration(i)*time.Minute)); err != nil {
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
		if _, err := s.Undo(t.Context(), step.undo, "mason", began); err != nil {
			t.Fatal(err)
		}
		if d := device(); d.Note != step.note || d.Standing != step.standing {
			t.Errorf("decision %d undone: note %q, %s", step.undo, d.Note, d.Standing)
		}
	}
	if _, err := s.Undo(t.Context(), 1, "mason", began); !errors.Is(err, store.ErrDecided) {
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
	enter := func(sweep *store.Sweep) store.Enter { return applying(sweep) }
	kept := func(d []ledger.Device) ([]ledger.Device, error) { return d, nil }
	if err := s.Rebuild(t.Context(), site.ID, 0, enter, kept); err != nil {
		t.Fatal(err)
	}
	if got := list(store.ChangeQuery{}); got != all {
		t.Errorf("after a rebuild: %s", got)
	}
	if err := s.Rebuild(t.Context(), site.ID, second.ID, enter, kept); err != nil {
		t.Fatal(err)
	}
	if got := list(store.ChangeQuery{}); got != "1 appeared 10.40.1.10, 1 appeared 10.40.1.11, 1 appeared 10.40.1.9" {
		t.Errorf("without the second sweep: %s", got)
	}
}

// A database written before decisions were kept apart loses no note and nobody who was set aside.
func TestNotesOfOlderDatabasesAreKept(t *testing.T) {
	dsn := storetest.DSN(t)
	s, err := store.Open(t.Context(), dsn)
	if err != nil {
		t.Fatal(err)
	}
	site := newSite(t, s)
	apply(t, s, sweepOf(t, s, site.ID, store.Done, "10.40.1.9", "10.40.1.10"))
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	db, err := sql.Open("mysql", dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	for _, statement := range []string{
		"DROP TABLE decisions", "DROP TABLE changes", "DELETE FROM migrations WHERE id >= '0007'",
		`UPDATE devices SET record = JSON_SET(record, '$.Note', 'behind the "boiler"') WHERE id = 1`,
		`UPDATE devices SET record = JSON_SET(record, '$.Aside', JSON_OBJECT('Reason', 'the caterer''s', 'By', 'head', 'At', '2026-11-02T09:00:00Z')) WHERE id = 2`,
	} {
		if _, err := db.ExecContext(t.Context(), statement); err != nil {
			t.Fatalf("%s: %v", statement, err)
		}
	}
	if s, err = store.Open(t.Context(), dsn); err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	decisions, err := s.Decisions(t.Context(), site.ID)
	if err != nil || len(decisions) != 2 {
		t.Fatalf("decisions %+v, %v", decisions, err)
	}
	if d := decisions[0]; d.Kind != ledger.DecidedNote || d.Text != `behind the "boiler"` || d.Device != 1 || len(d.Known.MACs) != 1 || len(d.Known.Addrs) != 1 {
		t.Errorf("the note is %+v", d)
	}
	if d := decisions[1]; d.Kind != ledger.DecidedAside || d.Text != "the caterer's" || d.By != "head" {
		t.Errorf("the set-aside is %+v", d)
	}
}

// The counts that totals come from are those of the devices, whatever is done.
func TestCountsAgreeWithTheDevices(t *testing.T) {
	s := storetest.Open(t)
	site := newSite(t, s)
	apply(t, s, sweepOf(t, s, site.ID, store.Done, "10.40.1.9", "10.40.1.10", "10.40.1.11"))
	apply(t, s, sweepOf(t, s, site.ID, store.Done, "10.40.1.9"))
	for presence, want := range map[string]int64{"seen": 1, "silent": 2, "uncovered": 0} {
		lines, total, err := s.ListDevices(t.Context(), store.DeviceQuery{Site: site.ID, Presences: []string{presence}, Limit: 10})
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
		t.Errorf("another's token was taken away: %v", err)
	}
	if _, err := s.ChangeUser(t.Context(), "mason", "administer", gone); err != nil {
		t.Fatal(err)
	}
	if _, err := s.UserOfToken(t.Context(), [32]byte{}, began); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("the token of a user who is gone gave %v", err)
	}
}
