// Package spool keeps on disk what a sweep has seen until the database has it, so that neither the end of the service nor
// that of the database loses anything.
//
// A journal is a file of lines, each a sighting as JSON. A line holds what is new: how many of the facts told before stay, and
// the facts behind them.
package spool

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"airdrift/core/evidence"
)

// DefaultLimit is how many bytes the journal of one sweep may take.
const DefaultLimit = 1 << 30

// ErrFull is returned where a journal has reached its limit: the database has been away for too long.
var ErrFull = errors.New("the spool has reached its limit")

// ErrDamaged is returned with what could be read of a journal in which something else could not.
var ErrDamaged = errors.New("a part of the journal cannot be read")

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

// Left gives the sweeps that have a journal, in ascending order: those that have not been entered into the database whole.
func (s *Spool) Left() ([]uint64, error) {
	sweeps, _, err := s.list()
	return sweeps, err
}

// Waiting gives of how many sweeps there is a journal, and how large these are together, in bytes.
func (s *Spool) Waiting() (sweeps int, bytes int64, err error) {
	left, err := s.Left()
	if err != nil {
		return 0, 0, err
	}
	for _, sweep := range left {
		switch info, err := os.Stat(s.path(sweep)); {
		case errors.Is(err, fs.ErrNotExist): // it has been entered meanwhile
		case err != nil:
			return 0, 0, err
		default:
			sweeps, bytes = sweeps+1, bytes+info.Size()
		}
	}
	return sweeps, bytes, nil
}

// Aside gives the names of the files that were set aside, in their order: journals that could not be read, and sightings that
// could not be stored. Somebody has to look at them and delete them.
func (s *Spool) Aside() ([]string, error) {
	_, others, err := s.list()
	return others, err
}

func (s *Spool) list() (sweeps []uint64, others []string, err error) {
	entries, err := os.ReadDir(s.dir)
	if err != nil {
		return nil, nil, fmt.Errorf("spool: %w", err)
	}
	for _, e := range entries {
		name, ours := strings.CutSuffix(e.Name(), suffix)
		if !ours {
			continue
		}
		if id, err := strconv.ParseUint(name, 10, 64); err == nil {
			sweeps = append(sweeps, id)
		} else {
			others = append(others, e.Name())
		}
	}
	slices.Sort(sweeps)
	return sweeps, others, nil
}

// SetAside gives a journal another name, so that it is in nobody's way and nothing of it is lost. why is a word of the name.
func (s *Spool) SetAside(sweep uint64, why string, now time.Time) (name string, err error) {
	name = fmt.Sprintf("%d-%s-%s%s", sweep, why, now.UTC().Format("20060102T150405.000"), suffix)
	if err := os.Rename(s.path(sweep), filepath.Join(s.dir, name)); err != nil {
		return "", fmt.Errorf("spool: %w", err)
	}
	return name, nil
}

// Refuse writes down a sighting that the database does not take, in a file that Aside names.
func (s *Spool) Refuse(sweep uint64, sighting evidence.Sighting) (name string, err error) {
	name = fmt.Sprintf("%d-refused%s", sweep, suffix)
	j, err := openJournal(filepath.Join(s.dir, name), s.limit)
	if err != nil {
		return "", err
	}
	return name, errors.Join(j.Append(sighting), j.Close())
}

// Remove deletes a journal: the database has it all.
func (s *Spool) Remove(sweep uint64) error {
	if err := os.Remove(s.path(sweep)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("spool: %w", err)
	}
	return nil
}
