package store

import (
	"net/netip"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
)

// A process number in a stale file may belong to somebody else by now; that process is left alone.
func TestStopStaleLeavesStrangersAlone(t *testing.T) {
	for name, text := range map[string]string{
		"our own process": strconv.Itoa(os.Getpid()), "no process": "999999999", "no number": "nonsense", "the first process": "1",
	} {
		h := home{dir: t.TempDir()}
		if err := os.WriteFile(h.pidFile(), []byte(text+"\n"), 0o600); err != nil {
			t.Fatal(err)
		}
		if err := h.stopStale(t.Context()); err != nil {
			t.Errorf("%s: %v", name, err)
		}
		if _, err := os.Stat(h.pidFile()); err == nil {
			t.Errorf("%s: the stale file was left", name)
		}
	}
	if err := (home{dir: t.TempDir()}).stopStale(t.Context()); err != nil {
		t.Errorf("without a file: %v", err)
	}
}

func TestStartServerNamesTheDirectoryInTheWay(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root runs the database as another user")
	}
	closed := t.TempDir()
	if err := os.Chmod(closed, 0o700); err != nil {
		t.Fatal(err)
	}
	_, err := StartServer(t.Context(), filepath.Join(closed, "database"))
	if err == nil || !strings.Contains(err.Error(), closed) || !strings.Contains(err.Error(), "chmod o+x") {
		t.Errorf("got %v, want an error that names %s and says what to do", err, closed)
	}
	file := filepath.Join(closed, "file")
	if err := os.WriteFile(file, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := StartServer(t.Context(), file); err == nil {
		t.Error("a data directory that is a file was taken")
	}
}

func TestTellingFindsTheFault(t *testing.T) {
	for text, want := range map[string]string{
		"a\nb\nERROR 13: denied\nc\nd\n": "ERROR 13: denied",
		"one\ntwo\nthree\nfour\n":        "two; three; four",
		"":                               "",
		"Can't open x\nsome\nPermission denied\n": "Can't open x; Permission denied",
	} {
		if got := telling(text); got != want {
			t.Errorf("of %q it tells %q, want %q", text, got, want)
		}
	}
}

func mustAddr(t *testing.T, text string) netip.Addr {
	t.Helper()
	a, err := netip.ParseAddr(text)
	if err != nil {
		t.Fatal(err)
	}
	return a
}

func TestSortableKeepsTheOrderOfAddresses(t *testing.T) {
	var before []byte
	for _, text := range []string{"0.0.0.0", "9.255.0.1", "10.0.0.2", "10.0.0.10", "192.168.1.1", "2001:db8::1", "fe80::1"} {
		now := sortable(mustAddr(t, text))
		if string(before) >= string(now) {
			t.Errorf("%s does not sort behind the one before", text)
		}
		if got := fromSortable(now); got.String() != text {
			t.Errorf("%s reads back as %s", text, got)
		}
		before = now
	}
	if fromSortable(nil).IsValid() {
		t.Error("no address reads back as one")
	}
}

func TestDSNsKeepTheirSecrets(t *testing.T) {
	for _, dsn := range []string{"", "hush", "u:hush@tcp(host)", "u:hush@tcp(host:3306)/", "u:hush@nowhere/x"} {
		_, err := parseDSN(dsn)
		if err == nil || strings.Contains(err.Error(), "hush") {
			t.Errorf("%q gave %v", dsn, err)
		}
	}
	config, err := parseDSN("u:p@tcp(db.example:3306)/airdrift?tls=true")
	if err != nil || !config.ParseTime || config.TLSConfig != "true" || config.DBName != "airdrift" {
		t.Errorf("got %+v, %v", config, err)
	}
}
