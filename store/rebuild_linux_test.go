package store_test

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"airdrift/core/ledger"
	"airdrift/store"
)

// serverIn starts a database server of a test's own and opens it.
func serverIn(t *testing.T, dir string) (*store.Server, *store.Store) {
	t.Helper()
	server, err := store.StartServer(t.Context(), filepath.Join(dir, "database"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = server.Stop() })
	s, err := store.Open(t.Context(), server.DSN())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = s.Close() })
	return server, s
}

// ownDir makes a directory that the database's user can pass through.
func ownDir(t *testing.T) string {
	t.Helper()
	dir, err := os.MkdirTemp("", "airdrift-test-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	if err := os.Chmod(dir, 0o711); err != nil {
		t.Fatal(err)
	}
	return dir
}

// wantLedger wants the two devices that a test has entered, with their note.
func wantLedger(t *testing.T, s *store.Store, site uint64) {
	t.Helper()
	devices, err := s.Devices(t.Context(), site)
	if err != nil || len(devices) != 2 || devices[0].Note != "behind the boiler" || devices[1].Addrs[0].String() != "10.40.1.10" || len(devices[1].Reasons) > 1 {
		t.Errorf("the ledger is %+v, %v", devices, err)
	}
}

func entered(t *testing.T, s *store.Store) store.Site {
	t.Helper()
	site := newSite(t, s)
	apply(t, s, sweepOf(t, s, site.ID, store.Done, "10.40.1.9", "10.40.1.10"))
	if _, err := s.Decide(t.Context(), ledger.Decision{Device: 1, Kind: ledger.DecidedNote, Text: "behind the boiler", By: "head", At: began}, nil); err != nil {
		t.Fatal(err)
	}
	return site
}

// A database that goes away while a ledger is computed anew leaves the one that there was.
func TestDatabaseGoneInARebuild(t *testing.T) {
	dir := ownDir(t)
	server, s := serverIn(t, dir)
	site := entered(t, s)
	how := rebuilding(t, s, site.ID)
	settle := how.Settle
	how.Settle = func(shelf ledger.Shelf, result *ledger.Result) ([]uint64, error) {
		if err := server.Stop(); err != nil {
			t.Error(err)
		}
		return settle(shelf, result)
	}
	if err := s.Rebuild(t.Context(), site.ID, 0, how); !store.IsAway(err) {
		t.Errorf("with the database gone a rebuild gives %v", err)
	}
	_ = s.Close()
	_, again := serverIn(t, dir)
	wantLedger(t, again, site.ID)
}

// A disk that is full while a ledger is computed anew leaves the one that there was; with room again it is computed.
func TestFullDiskInARebuild(t *testing.T) {
	dir := ownDir(t)
	if err := syscall.Mount("tmpfs", dir, "tmpfs", 0, "size=400m,mode=711"); err != nil {
		t.Skipf("a disk of a test's own cannot be mounted: %v", err)
	}
	t.Cleanup(func() { _ = syscall.Unmount(dir, syscall.MNT_DETACH) })
	server, s := serverIn(t, dir)
	site := entered(t, s)
	how := rebuilding(t, s, site.ID)
	filler := filepath.Join(dir, "filler")
	full := true
	enter := how.Enter
	how.Enter = func(sweep *store.Sweep) store.Enter {
		return func(shelf ledger.Shelf, seen *store.Seen, before []uint64) (ledger.Result, error) {
			result, err := enter(sweep)(shelf, seen, before)
			if err == nil && full { // more than the tables have room for: it needs the disk
				for i := range 800 {
					d := result.Devices[1]
					d.ID, d.Note = 0, strings.Repeat("n", 50_000)
					d.FirstSeen = d.FirstSeen.Add(time.Duration(i))
					result.Devices = append(result.Devices, d)
				}
			}
			return result, err
		}
	}
	settle := how.Settle
	how.Settle = func(shelf ledger.Shelf, result *ledger.Result) ([]uint64, error) {
		if full {
			fill(t, filler)
		}
		return settle(shelf, result)
	}
	if err := s.Rebuild(t.Context(), site.ID, 0, how); err == nil {
		t.Error("a rebuild went through on a full disk")
	}
	if err := os.Remove(filler); err != nil {
		t.Fatal(err)
	}
	full = false
	_ = server
	wantLedger(t, s, site.ID)
	if err := s.Rebuild(t.Context(), site.ID, 0, how); err != nil {
		t.Errorf("with room again: %v", err)
	}
	wantLedger(t, s, site.ID)
}

// fill writes a file until the disk is full.
func fill(t *testing.T, path string) {
	t.Helper()
	file, err := os.Create(path)
	if err != nil {
		t.Fatal(err)
	}
	defer file.Close()
	for block := make([]byte, 1<<20); ; {
		if _, err := file.Write(block); errors.Is(err, syscall.ENOSPC) {
			return
		} else if err != nil {
			t.Fatal(err)
		}
	}
}
