package service

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
)

const (
	lockFile    = "lock"
	versionFile = "version"
	// dataVersion is the version of how a data directory is laid out.
	dataVersion = 1
)

// errLocked is returned by the system's part of lockData where another process holds the lock.
var errLocked = errors.New("locked")

// lockData keeps a second service from a data directory. The system lifts the lock when the process ends, however that
// comes about.
func lockData(dir string) (*os.File, error) {
	path := filepath.Join(dir, lockFile)
	file, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("data directory: %w", err)
	}
	err = lockWhole(file)
	if errors.Is(err, errLocked) {
		holder, _ := os.ReadFile(path) // without it the error says less
		_ = file.Close()
		return nil, fmt.Errorf("another service runs on the data directory %s (process %s): stop it, or choose another directory with --data", dir, strings.TrimSpace(string(holder)))
	}
	if err == nil {
		err = file.Truncate(0)
	}
	if err == nil {
		_, err = file.WriteString(strconv.Itoa(os.Getpid()) + "\n")
	}
	if err != nil {
		return nil, errors.Join(fmt.Errorf("data directory: %w", err), file.Close())
	}
	return file, nil
}

// checkVersion refuses a data directory that a newer version has written.
func checkVersion(dir string) error {
	path := filepath.Join(dir, versionFile)
	text, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return os.WriteFile(path, []byte(strconv.Itoa(dataVersion)+"\n"), 0o644)
	}
	if err != nil {
		return fmt.Errorf("data directory: %w", err)
	}
	found, err := strconv.Atoi(strings.TrimSpace(string(text)))
	if err != nil {
		return fmt.Errorf("%s does not hold the number of a version: is %s the data directory of an airdrift service?", path, dir)
	}
	if found > dataVersion {
		return fmt.Errorf("the data directory %s was written by a newer version of airdrift (layout %d, this one knows %d): run that version, or choose another directory with --data", dir, found, dataVersion)
	}
	return nil
}
