// Package spool keeps on disk what a sweep has seen until the database has it, so that neither the end of the service nor
// that of the database loses anything.
package spool

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"

	"airdrift/core/evidence"
)

// DefaultLimit is how many bytes the journal of one sweep may take.
const DefaultLimit = 1 << 30

// ErrFull is returned where a journal has reached its limit: the database has been away for too long.
var ErrFull = errors.New("the spool has reached its limit")

// maxLine bounds one line of a journal, in bytes: a sighting with all that a device may say.
const maxLine = 16 << 20

const suffix = ".jsonl"

// Spool is a directory of journals, one for each sweep that runs.
type Spool struct {
	dir   string
	limit int64
}

// Open opens the spool in a directory, which it makes where needed. limit bounds each journal in bytes; 0 stands for
// DefaultLimit.
func Open(dir string, limit int64) (*Spool, error) {
	if limit == 0 {
		limit = DefaultLimit
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("spool: %w", err)
	}
	return &Spool{dir, limit}, nil
}

func (s *Spool) path(sweep uint64) string {
	return filepath.Join(s.dir, strconv.FormatUint(sweep, 10)+suffix)
}

// Journal opens the journal of a sweep; what is in it stays.
func (s *Spool) Journal(sweep uint64) (*Journal, error) {
	file, err := os.OpenFile(s.path(sweep), os.O_CREATE|os.O_RDWR|os.O_APPEND, 0o600)
	if err != nil {
		return nil, fmt.Errorf("spool: %w", err)
	}
	info, err := file.Stat()
	if err != nil {
		return nil, errors.Join(err, file.Close())
	}
	j := &Journal{file: file, limit: s.limit, size: info.Size()}
	if j.size > 0 {
		// A process that was killed may have left half a line, which must not run into the next one.
		if _, err := file.WriteString("\n"); err != nil {
			return nil, errors.Join(err, file.Close())
		}
		j.size++
	}
	return j, nil
}

// Left gives the sweeps that have a journal: those that have not been entered into the database whole.
func (s *Spool) Left() ([]uint64, error) {
	entries, err := os.ReadDir(s.dir)
	if err != nil {
		return nil, fmt.Errorf("spool: %w", err)
	}
	var sweeps []uint64
	for _, e := range entries {
		name, ours := strings.CutSuffix(e.Name(), suffix)
		if id, err := strconv.ParseUint(name, 10, 64); ours && err == nil {
			sweeps = append(sweeps, id)
		}
	}
	return sweeps, nil
}

// Read gives the sightings of a sweep's journal, of each the last that was told. A sweep without a journal has none.
// Lines that broke off when the service was killed are left out: what they would have said had not been told to anybody.
func (s *Spool) Read(sweep uint64) ([]evidence.Sighting, error) {
	file, err := os.Open(s.path(sweep))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("spool: %w", err)
	}
	defer file.Close()
	lines := bufio.NewScanner(file)
	lines.Buffer(nil, maxLine)
	at := map[string]int{}
	var sightings []evidence.Sighting
	for lines.Scan() {
		var sg evidence.Sighting
		if json.Unmarshal(lines.Bytes(), &sg) != nil || !sg.Addr.IsValid() {
			continue
		}
		key := sg.Addr.String() + " " + sg.MAC.String()
		if i, known := at[key]; known {
			sightings[i] = sg
			continue
		}
		at[key] = len(sightings)
		sightings = append(sightings, sg)
	}
	return sightings, lines.Err()
}

// Remove takes a journal away: the database has it all.
func (s *Spool) Remove(sweep uint64) error {
	if err := os.Remove(s.path(sweep)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("spool: %w", err)
	}
	return nil
}

// Journal is what one sweep has seen, in the order in which it was seen.
type Journal struct {
	limit  int64
	broken error // why there is no file

	mu   sync.Mutex // guards both
	file *os.File
	size int64
}

// NoJournal stands for a journal that could not be opened; each Append fails with the cause.
func NoJournal(cause error) *Journal { return &Journal{broken: cause} }

// Append adds a sighting. When it returns, the system has it: the process may be killed. ErrFull says that the journal
// has reached its limit.
func (j *Journal) Append(s evidence.Sighting) error {
	if j.broken != nil {
		return j.broken
	}
	line, err := json.Marshal(s)
	if err != nil {
		return fmt.Errorf("spool: %w", err)
	}
	j.mu.Lock()
	defer j.mu.Unlock()
	if j.size+int64(len(line)) >= j.limit {
		return ErrFull
	}
	if _, err := j.file.Write(append(line, '\n')); err != nil {
		// Half a line, as a full disk leaves, must not run into the next one.
		return fmt.Errorf("spool: %w", errors.Join(err, j.file.Truncate(j.size)))
	}
	j.size += int64(len(line)) + 1
	return nil
}

// Close closes the journal's file, which stays.
func (j *Journal) Close() error {
	if j.broken != nil {
		return nil
	}
	return j.file.Close()
}
