package atomicfile

import (
	"bytes"
	"os"
	"path/filepath"
	"sync"
	"testing"
)

// A reader that looks while the file is replaced a thousand times meets whole contents only.
func TestReadersMeetWholeFiles(t *testing.T) {
	path := filepath.Join(t.TempDir(), "service.json")
	whole := [][]byte{bytes.Repeat([]byte("a"), 9000), bytes.Repeat([]byte("b"), 5)}
	if err := Write(path, whole[0], 0o600); err != nil {
		t.Fatal(err)
	}
	done := make(chan struct{})
	var readers sync.WaitGroup
	readers.Go(func() {
		for {
			select {
			case <-done:
				return
			default:
			}
			if got, err := os.ReadFile(path); err != nil || !bytes.Equal(got, whole[0]) && !bytes.Equal(got, whole[1]) {
				t.Errorf("a reader met %d bytes, %v", len(got), err)
				return
			}
		}
	})
	for i := range 100 {
		if err := Write(path, whole[i%2], 0o600); err != nil {
			t.Fatal(err)
		}
	}
	close(done)
	readers.Wait()
	if left, err := filepath.Glob(filepath.Join(filepath.Dir(path), ".*")); err != nil || len(left) > 0 {
		t.Errorf("left behind: %v, %v", left, err)
	}
}

// A link that somebody laid in the place of the file is replaced; what it points to stays as it is.
func TestLinksAreNotFollowed(t *testing.T) {
	dir := t.TempDir()
	victim, path := filepath.Join(dir, "victim"), filepath.Join(dir, "file")
	if err := os.WriteFile(victim, []byte("precious"), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink(victim, path); err != nil {
		t.Fatal(err)
	}
	if err := Write(path, []byte("new"), 0o600); err != nil {
		t.Fatal(err)
	}
	if text, err := os.ReadFile(victim); err != nil || string(text) != "precious" {
		t.Errorf("the file behind the link holds %q, %v", text, err)
	}
	info, err := os.Lstat(path)
	if err != nil || !info.Mode().IsRegular() || info.Mode().Perm() != 0o600 {
		t.Errorf("the file is %v, %v", info, err)
	}
}
