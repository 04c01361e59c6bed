package spool

import (
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
)

func sighted(addr string, facts ...string) evidence.Sighting {
	s := evidence.Sighting{Addr: netip.MustParseAddr(addr), MAC: hwaddr.MustParse("48:9b:34:00:00:01"), Answered: true, FirstAt: time.Date(2026, 11, 2, 9, 0, 0, 0, time.UTC)}
	for _, f := range facts {
		s.Items = append(s.Items, evidence.Item{Source: evidence.SourceText, Key: evidence.KeyText, Value: f})
	}
	return s
}

func open(t *testing.T, limit int64) *Spool {
	t.Helper()
	s, err := Open(filepath.Join(t.TempDir(), "spool"), limit)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func TestJournalKeepsTheLastOfEach(t *testing.T) {
	s := open(t, 0)
	j, err := s.Journal(7)
	if err != nil {
		t.Fatal(err)
	}
	for _, sg := range []evidence.Sighting{sighted("10.40.1.5", "first"), sighted("10.40.1.6"), sighted("10.40.1.5", "first", "second\n\x00")} {
		if err := j.Append(sg); err != nil {
			t.Fatal(err)
		}
	}
	if err := j.Close(); err != nil {
		t.Fatal(err)
	}
	got, err := s.Read(7)
	if err != nil || len(got) != 2 || len(got[0].Items) != 2 || got[0].Items[1].Value != "second\n\x00" || got[1].Addr != netip.MustParseAddr("10.40.1.6") {
		t.Errorf("read %+v, %v", got, err)
	}
	if left, err := s.Left(); err != nil || !slices.Equal(left, []uint64{7}) {
		t.Errorf("left are %v, %v", left, err)
	}
	if err := errors.Join(s.Remove(7), s.Remove(7)); err != nil {
		t.Errorf("removing twice: %v", err)
	}
	if got, err := s.Read(7); err != nil || len(got) != 0 {
		t.Errorf("after that %+v, %v", got, err)
	}
}

// A process that was killed leaves half a line; what comes after it must not be lost with it.
func TestJournalOutlivesHalfALine(t *testing.T) {
	s := open(t, 0)
	j, err := s.Journal(1)
	if err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(j.Append(sighted("10.40.1.5")), j.Close()); err != nil {
		t.Fatal(err)
	}
	file, err := os.OpenFile(s.path(1), os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := file.WriteString(`{"addr":"10.40.1.6","answ`); err != nil {
		t.Fatal(err)
	}
	file.Close()
	if j, err = s.Journal(1); err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(j.Append(sighted("10.40.1.7")), j.Close()); err != nil {
		t.Fatal(err)
	}
	got, err := s.Read(1)
	if err != nil || len(got) != 2 || got[1].Addr != netip.MustParseAddr("10.40.1.7") {
		t.Errorf("read %+v, %v", got, err)
	}
}

func TestJournalHasALimit(t *testing.T) {
	s := open(t, 700)
	j, err := s.Journal(1)
	if err != nil {
		t.Fatal(err)
	}
	defer j.Close()
	for i := range 3 {
		err = errors.Join(err, j.Append(sighted(fmt.Sprintf("10.40.1.%d", 5+i), strings.Repeat("x", 200))))
	}
	if !errors.Is(err, ErrFull) {
		t.Errorf("after 3 sightings of some 300 bytes: %v", err)
	}
	if got, err := s.Read(1); err != nil || len(got) != 1 {
		t.Errorf("what fitted is %+v, %v", got, err)
	}
}

// What was told before is not written again: many small additions cost about what they hold, and not all that was there.
func TestJournalHoldsDifferences(t *testing.T) {
	s := open(t, 0)
	j, err := s.Journal(1)
	if err != nil {
		t.Fatal(err)
	}
	var facts []string
	for i := range 500 {
		facts = append(facts, fmt.Sprintf("fact %d", i))
		if err := j.Append(sighted("10.40.1.5", facts...)); err != nil {
			t.Fatal(err)
		}
	}
	// Facts may also be taken back, as ports that say nothing are of who accepts every connection.
	facts = append(facts[:10:10], facts[400:]...)
	if err := errors.Join(j.Append(sighted("10.40.1.5", facts...)), j.Close()); err != nil {
		t.Fatal(err)
	}
	got, err := s.Read(1)
	if err != nil || len(got) != 1 || !slices.Equal(evidence.Values(got[0].Items, evidence.KeyText), facts) {
		t.Errorf("read %d sightings, %v; want the facts that were told last", len(got), err)
	}
	if info, err := os.Stat(s.path(1)); err != nil || info.Size() > 300*700 {
		t.Errorf("the journal takes %d bytes, %v", info.Size(), err)
	}
}

// Lines that are longer than any sighting, and nonsense, keep nobody from the rest; the journal is then set aside under a name.
func TestDamagedJournalsAreSetAside(t *testing.T) {
	for name, damage := range map[string]string{"a line without end": strings.Repeat("x", maxLine+100), "nonsense": "}{", "another document": `{"title":"minutes"}`} {
		t.Run(name, func(t *testing.T) {
			s := open(t, 0)
			j, err := s.Journal(3)
			if err != nil {
				t.Fatal(err)
			}
			if err := j.Append(sighted("10.40.1.5", "before")); err != nil {
				t.Fatal(err)
			}
			if _, err := j.file.WriteString(damage + "\n"); err != nil {
				t.Fatal(err)
			}
			if err := errors.Join(j.Append(sighted("10.40.1.6", "behind")), j.Close()); err != nil {
				t.Fatal(err)
			}
			got, err := s.Read(3)
			if !errors.Is(err, ErrDamaged) || len(got) != 2 {
				t.Errorf("read %+v, %v; want both sightings and that something is damaged", got, err)
			}
			aside, err := s.SetAside(3, "damaged", time.Date(2026, 11, 2, 9, 0, 0, 0, time.UTC))
			if err != nil {
				t.Fatal(err)
			}
			if left, err := s.Left(); err != nil || len(left) > 0 {
				t.Errorf("left are %v, %v", left, err)
			}
			if names, err := s.Aside(); err != nil || !slices.Equal(names, []string{aside}) {
				t.Errorf("aside are %q, %v; want %q", names, err, aside)
			}
		})
	}
}

// A sighting that the database does not take is written down.
func TestRefusedSightingsAreKept(t *testing.T) {
	s := open(t, 0)
	for range 2 {
		if _, err := s.Refuse(4, sighted("10.40.1.5", "too much")); err != nil {
			t.Fatal(err)
		}
	}
	names, err := s.Aside()
	if err != nil || len(names) != 1 {
		t.Fatalf("aside are %q, %v", names, err)
	}
	if text, err := os.ReadFile(filepath.Join(s.dir, names[0])); err != nil || strings.Count(string(text), "too much") != 2 {
		t.Errorf("it holds %q, %v", text, err)
	}
}

func TestNoJournalTellsTheCause(t *testing.T) {
	cause := errors.New("no room")
	j := NoJournal(cause)
	if err := j.Append(sighted("10.40.1.5")); !errors.Is(err, cause) || j.Close() != nil {
		t.Errorf("got %v", err)
	}
}

func FuzzRead(f *testing.F) {
	f.Add(`{"addr":"10.40.1.5","mac":"48:9b:34:00:00:01","items":[{"source":"arp","key":"arp.mac","value":"x","at":"2026-11-02T09:00:00Z"}]}` + "\n" + `{"addr":`)
	f.Add("\n\n{}\n")
	f.Fuzz(func(t *testing.T, text string) {
		sightings, err := read(strings.NewReader(text))
		if err != nil && !errors.Is(err, ErrDamaged) {
			t.Errorf("%q gave %v", text, err)
		}
		for _, sg := range sightings {
			if !sg.Addr.IsValid() {
				t.Errorf("a sighting without an address was taken from %q", text)
			}
		}
	})
}
