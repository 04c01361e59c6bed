package service

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"airdrift/api"
	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
	"airdrift/core/identify"
	"airdrift/core/sweep"
	"airdrift/spool"
	"airdrift/store"
	"airdrift/store/storetest"
)

// sighted is an event of one device that says a title.
func sighted(addr, title string) sweep.Sighted {
	at, a := time.Date(2026, 11, 2, 9, 0, 0, 0, time.UTC), netip.MustParseAddr(addr)
	return sweep.Sighted{Sighting: evidence.Sighting{
		Addr: a, MAC: hwaddr.MAC{0x48, 0x9b, 0x34, 0, 0, a.As4()[3]}, Answered: true, FirstAt: at,
		Items: []evidence.Item{{Source: evidence.SourceHTTP, Key: evidence.KeyHTTPTitle, Port: evidence.TCP(80), Value: title, At: at}},
	}}
}

// storedJob makes a job whose sweep is in a database.
func storedJob(t *testing.T) (*job, *store.Store, *spool.Spool) {
	t.Helper()
	st := storetest.Open(t)
	site := store.Site{Name: "Fernhollow", Networks: []store.Network{{Name: "offices", Subnet: netip.MustParsePrefix("10.40.1.0/24")}}}
	if err := st.CreateSite(t.Context(), &site); err != nil {
		t.Fatal(err)
	}
	record := store.Sweep{SiteID: site.ID, Ranges: "10.40.1.0/24", State: store.Running, Began: time.Now().UTC()}
	if err := st.CreateSweep(t.Context(), &record); err != nil {
		t.Fatal(err)
	}
	journals := openSpool(t)
	journal, err := journals.Journal(record.ID)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = journal.Close() })
	return newJob(record, identify.New(identify.Default(), nil), st, journals, journal, func() {}), st, journals
}

func openSpool(t *testing.T) *spool.Spool {
	t.Helper()
	s, err := spool.Open(t.TempDir(), 0)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func TestWhatCannotBeWrittenWaits(t *testing.T) {
	j, st, journals := storedJob(t)
	closed := storetest.Open(t)
	if err := closed.Close(); err != nil {
		t.Fatal(err)
	}
	j.store = closed
	j.hear(sighted("10.40.1.5", "banner"))
	if err := j.write(t.Context()); err == nil {
		t.Fatal("writing to a closed database gave no error")
	}
	j.hear(sighted("10.40.1.6", "another"))
	j.hear(sighted("10.40.1.5", "more words"))
	if err := j.write(t.Context()); err == nil {
		t.Fatal("writing to a closed database gave no error")
	}
	if kept, err := journals.Read(j.record().ID); err != nil || len(kept) != 2 || kept[0].Items[0].Value != "more words" {
		t.Errorf("the journal has %+v, %v; want both, each as it was told last", kept, err)
	}
	j.store = st
	if err := j.write(t.Context()); err != nil {
		t.Fatal(err)
	}
	got, err := st.Sightings(t.Context(), j.record().ID)
	if err != nil || len(got) != 2 || got[0].Items[0].Value != "more words" {
		t.Errorf("stored are %+v, %v; want both, each as it was told last", got, err)
	}
	j.store = closed
	if err := j.write(t.Context()); err != nil {
		t.Errorf("nothing is left to write, and that failed: %v", err)
	}
}

// Where neither the disk nor the database takes what is seen, the user is told, and it stays in memory.
func TestFullDisk(t *testing.T) {
	j, st, _ := storedJob(t)
	if err := j.journal.Close(); err != nil { // from here on each write fails, as on a disk without room
		t.Fatal(err)
	}
	j.hear(sighted("10.40.1.5", "banner"))
	j.hear(sighted("10.40.1.6", "banner"))
	record := j.record()
	if len(record.Warnings) != 1 || !strings.Contains(record.Warnings[0], "cannot be kept on disk") {
		t.Errorf("warnings %q; want one that says so, once", record.Warnings)
	}
	if err := j.write(t.Context()); err != nil {
		t.Fatal(err)
	}
	if got, err := st.Sightings(t.Context(), record.ID); err != nil || len(got) != 2 {
		t.Errorf("stored are %+v, %v", got, err)
	}
}

func TestListenersAreToldThePastFirst(t *testing.T) {
	j, _, _ := storedJob(t)
	j.hear(sweep.Warning{Text: "no rights"})
	j.hear(sighted("10.40.1.5", "banner"))
	j.hear(sighted("10.40.1.5", "more words"))
	j.hear(sweep.Progress{Stage: sweep.RollCall, Done: 3, Total: 9})
	past, events := j.listen(0)
	var kinds []string
	for _, e := range past {
		kinds = append(kinds, fmt.Sprintf("%T", e.event))
	}
	if want := []string{"api.Warning", "api.Sighting", "api.Progress"}; !slices.Equal(kinds, want) {
		t.Errorf("the past is %v, want %v", kinds, want)
	}
	if words := past[1].event.(api.Sighting).Ports; len(words) != 0 {
		t.Errorf("a port that is not known to be open is shown: %+v", words)
	}
	j.hear(sighted("10.40.1.6", "another"))
	if e := <-events; e.event.(api.Sighting).Addr != "10.40.1.6" {
		t.Errorf("then came %+v", e)
	}
	// Who was told of the first and comes back gets the second alone.
	again, _ := j.listen(past[len(past)-1].turn)
	var newer []string
	for _, e := range again {
		if s, is := e.event.(api.Sighting); is {
			newer = append(newer, s.Addr)
		}
	}
	if !slices.Equal(newer, []string{"10.40.1.6"}) {
		t.Errorf("who comes back is told of %v", newer)
	}
	if all, _ := j.listen(999_999); len(all) != 4 {
		t.Errorf("who comes back to another run is told of %d events", len(all))
	}
	j.unlisten(events)
	j.close(store.Sweep{ID: 1, State: store.Done})
	if _, late := j.listen(0); late == nil {
		t.Error("a listener after the end gets no channel")
	} else if _, open := <-late; open {
		t.Error("a listener after the end waits for ever")
	}
}

func TestListenersThatLagAreCutOff(t *testing.T) {
	j, _, _ := storedJob(t)
	_, slow := j.listen(0)
	for i := range eventQueue + 1 {
		j.hear(sweep.Progress{Stage: sweep.RollCall, Done: uint64(i)})
	}
	_, quick := j.listen(0)
	j.close(store.Sweep{ID: 1, State: store.Done})
	told := 0
	for range slow {
		told++
	}
	if told != eventQueue {
		t.Errorf("the slow listener was told %d events before it was cut off, want %d", told, eventQueue)
	}
	last := any(nil)
	for e := range quick {
		last = e.event
	}
	if end, ok := last.(api.Sweep); !ok || end.State != "done" {
		t.Errorf("the last event is %+v, want the end of the sweep", last)
	}
}

func TestConclude(t *testing.T) {
	for _, tt := range []struct {
		summary sweep.Summary
		byUser  bool
		err     error
		want    store.SweepState
	}{
		{sweep.Summary{Answered: 3}, false, nil, store.Done},
		{sweep.Summary{Stopped: true}, true, nil, store.Stopped},
		{sweep.Summary{Stopped: true}, false, nil, store.Interrupted},
		{sweep.Summary{}, false, errors.New("the cable was pulled"), store.Failed},
	} {
		j := newJob(store.Sweep{State: store.Running}, nil, nil, nil, nil, func() {})
		if tt.byUser {
			j.stopByUser("somebody")
		}
		got := j.conclude(tt.summary, tt.err)
		if got.State != tt.want || got.Ended.IsZero() || (got.Failure != "") != (tt.err != nil) {
			t.Errorf("%+v: %+v, want %s", tt, got, tt.want)
		}
	}
}

// A service that was killed in mid-sweep has left sightings behind; the next one puts them into the ledger.
func TestTakesUpWhatAnEarlierServiceLeft(t *testing.T) {
	j, st, journals := storedJob(t)
	j.hear(sighted("10.40.1.5", "Network Camera"))
	if err := j.write(t.Context()); err != nil {
		t.Fatal(err)
	}
	j.hear(sighted("10.40.1.6", "IP phone")) // in the journal, and not in the database
	s, err := New(t.Context(), Config{Store: st, Spool: journals, Vantages: FixedVantages{}})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if err := s.WaitTakenUp(t.Context()); err != nil {
		t.Fatal(err)
	}
	record, err := st.Sweep(t.Context(), j.record().ID)
	if err != nil || record.State != store.Interrupted {
		t.Errorf("the sweep is %+v, %v", record, err)
	}
	devices, err := st.Devices(t.Context(), record.SiteID)
	if err != nil || len(devices) != 2 || devices[0].Identity.Of(identify.Kind) != "camera" || devices[1].Identity.Of(identify.Kind) != "phone" {
		t.Errorf("devices %+v, %v", devices, err)
	}
	if left, err := journals.Left(); err != nil || len(left) > 0 {
		t.Errorf("journals %v are left, %v", left, err)
	}
}

// A clock that is set back in mid-sweep makes no sweep end before it began.
func TestClockThatJumps(t *testing.T) {
	began := time.Now().UTC().Add(time.Hour)
	j := newJob(store.Sweep{State: store.Running, Began: began}, nil, nil, nil, nil, func() {})
	got := j.conclude(sweep.Summary{Took: 90 * time.Second}, nil)
	if took := got.Ended.Sub(got.Began); took != 90*time.Second {
		t.Errorf("the sweep took %s, want 90 s", took)
	}
	j = newJob(store.Sweep{State: store.Running, Began: began.Add(-3 * time.Hour)}, nil, nil, nil, nil, func() {})
	if got := j.conclude(sweep.Summary{Took: 90 * time.Second}, nil); got.Ended.Before(got.Began) {
		t.Errorf("it ended %s before it began", got.Began.Sub(got.Ended))
	}
}

// A sighting that the database does not take is set aside with a warning, and holds back no other.
func TestRowThatCannotBeStoredIsSetAside(t *testing.T) {
	j, st, journals := storedJob(t)
	long := sighted("10.40.1.66", "x")
	for range 17_000 { // more than is ever kept of a sighting, and than its column takes
		long.Sighting.Items = append(long.Sighting.Items, evidence.Item{Source: evidence.SourceMDNS, Key: evidence.KeyMDNSText, Value: strings.Repeat("y", 1000)})
	}
	for i := range 5 {
		j.hear(sighted(fmt.Sprintf("10.40.1.%d", i+1), "banner"))
	}
	j.mu.Lock()
	j.pending["long"] = long.Sighting
	j.mu.Unlock()
	j.hear(sweep.Warning{Text: strings.Repeat("w", 100_000)})
	for range 3 * maxWarnings {
		j.hear(sweep.Warning{Text: "one of many"})
	}
	entered := func(_ context.Context, r store.Sweep) (store.Sweep, error) { return r, st.SaveSweep(t.Context(), r) }
	final, written := j.finish(t.Context(), j.conclude(sweep.Summary{}, nil), entered)
	if !written || final.State != store.Done {
		t.Errorf("the sweep ended as %+v, written %t", final, written)
	}
	if got, err := st.Sightings(t.Context(), final.ID); err != nil || len(got) != 5 {
		t.Errorf("%d sightings are stored, %v", len(got), err)
	}
	if aside, err := journals.Aside(); err != nil || len(aside) != 1 {
		t.Errorf("aside are %q, %v", aside, err)
	}
	if text := strings.Join(final.Warnings, "\n"); len(final.Warnings) > maxWarnings+1 || len(text) > 60_000 || !strings.Contains(text, "further warnings") {
		t.Errorf("%d warnings of %d bytes", len(final.Warnings), len(text))
	}
	if log, err := st.SweepLog(t.Context(), final.ID); err != nil || !slices.ContainsFunc(log, func(l store.LogLine) bool { return strings.Contains(l.Text, "10.40.1.66") }) {
		t.Errorf("the log does not tell of it, %v", err)
	}
}

// What the database refuses for good is not tried for ever; a database that is away is waited for.
func TestPermanentErrorsEndTheWaiting(t *testing.T) {
	j, st, _ := storedJob(t)
	j.hear(sighted("10.40.1.5", "banner"))
	tries := 0
	final, written := j.finish(t.Context(), j.conclude(sweep.Summary{}, nil), func(_ context.Context, r store.Sweep) (store.Sweep, error) {
		if tries++; tries < 3 {
			return r, fmt.Errorf("sweep: %w", io.ErrUnexpectedEOF) // as a connection that breaks
		}
		return r, errors.New("rules of the site: line 3: unknown key")
	})
	if tries != 3 || !written || final.State != store.Failed || !strings.Contains(final.Failure, "line 3") || !strings.Contains(final.Failure, "sweeps reevaluate") {
		t.Errorf("after %d tries it is %+v, written %t", tries, final, written)
	}
	if stored, err := st.Sweep(t.Context(), final.ID); err != nil || stored.State != store.Failed {
		t.Errorf("stored is %+v, %v", stored, err)
	}
}

// Journals that cannot be read, and those of sweeps that nobody knows, keep the service from nothing: it starts, enters the
// rest, puts them aside under a name and tells so.
func TestServiceStartsWhateverIsInItsSpool(t *testing.T) {
	j, st, _ := storedJob(t)
	dir := t.TempDir()
	journals, err := spool.Open(dir, 0)
	if err != nil {
		t.Fatal(err)
	}
	id := j.record().ID
	journal, err := journals.Journal(id)
	if err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(journal.Append(sighted("10.40.1.6", "IP phone").Sighting), journal.Close()); err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(dir, fmt.Sprintf("%d.jsonl", id))
	text, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	damaged := append(bytes.Repeat([]byte("["), 20<<20), "\n}{\n"...)
	if err := errors.Join(os.WriteFile(path, append(damaged, text...), 0o600), os.WriteFile(filepath.Join(dir, "999999.jsonl"), text, 0o600), os.Mkdir(filepath.Join(dir, "999998.jsonl"), 0o700)); err != nil {
		t.Fatal(err)
	}
	s, err := New(t.Context(), Config{Store: st, Spool: journals, Vantages: FixedVantages{}})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if err := s.WaitTakenUp(t.Context()); err != nil {
		t.Fatal(err)
	}
	record, err := st.Sweep(t.Context(), id)
	if err != nil || record.State != store.Interrupted {
		t.Errorf("the sweep is %+v, %v", record, err)
	}
	if devices, err := st.Devices(t.Context(), record.SiteID); err != nil || len(devices) != 1 {
		t.Errorf("%d devices, %v; want the one that could be read", len(devices), err)
	}
	if left, err := journals.Left(); err != nil || len(left) > 0 {
		t.Errorf("journals %v are left in the way, %v", left, err)
	}
	notices := strings.Join(s.sweeper.notices(t.Context()), "\n")
	for _, want := range []string{fmt.Sprintf("%d-damaged", id), "999999-unknown", "999998-unknown"} {
		if !strings.Contains(notices, want) {
			t.Errorf("the overview does not tell of %s: %q", want, notices)
		}
	}
}
