package vault

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"testing"
)

func TestSealedForOnePlaceWithOneKey(t *testing.T) {
	path := filepath.Join(t.TempDir(), "key")
	v, err := Open(path)
	if err != nil {
		t.Fatal(err)
	}
	sealed := v.Seal("site 1/plant", []byte("heron-47"))
	if bytes.Contains(sealed, []byte("heron")) || bytes.Equal(sealed, v.Seal("site 1/plant", []byte("heron-47"))) {
		t.Error("what is sealed shows through, or is the same twice")
	}
	again, err := Open(path)
	if err != nil {
		t.Fatal(err)
	}
	if text, err := again.Open("site 1/plant", sealed); err != nil || string(text) != "heron-47" {
		t.Errorf("the same key opens %q, %v", text, err)
	}
	other, err := Open(filepath.Join(t.TempDir(), "key"))
	if err != nil {
		t.Fatal(err)
	}
	spoilt := bytes.Clone(sealed)
	spoilt[len(spoilt)-1] ^= 1
	for name, fails := range map[string]func() error{
		"another place": func() error { _, err := v.Open("site 2/plant", sealed); return err },
		"another key":   func() error { _, err := other.Open("site 1/plant", sealed); return err },
		"a changed bit": func() error { _, err := v.Open("site 1/plant", spoilt); return err },
		"too short":     func() error { _, err := v.Open("site 1/plant", sealed[:5]); return err },
	} {
		if err := fails(); !errors.Is(err, ErrSealed) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func TestKeyFile(t *testing.T) {
	path := filepath.Join(t.TempDir(), "key")
	if _, err := Open(path); err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(path, 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(path); err != nil {
		t.Fatal(err)
	}
	if info, err := os.Stat(path); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the key may be read by others: %v %v", info.Mode(), err)
	}
	if err := os.WriteFile(path, []byte("no key\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(path); err == nil {
		t.Error("a file without a key was taken")
	}
}
