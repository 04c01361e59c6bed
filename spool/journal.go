package spool

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"sync"

	"airdrift/core/evidence"
)

// maxLine bounds one line of a journal, in bytes: a sighting with all that is kept of what a device says (evidence.Asked), each
// byte of it written in six at the most.
const maxLine = 4 << 20

// entry is a line of a journal.
type entry struct {
	evidence.Sighting     // Items holds the facts that are new
	Keep              int `json:"keep,omitzero"` // how many of the facts told before stay, from the first on
}

// Journal is what one sweep has seen, in the order in which it was seen.
type Journal struct {
	limit  int64
	broken error // why there is no file

	mu   sync.Mutex // guards all below
	file *os.File
	size int64
	told map[evidence.Who][]evidence.Item // the facts that the journal has
}

// Journal opens the journal of a sweep; what is in it stays.
func (s *Spool) Journal(sweep uint64) (*Journal, error) { return openJournal(s.path(sweep), s.limit) }

func openJournal(path string, limit int64) (*Journal, error) {
	file, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR|os.O_APPEND, 0o600)
	if err != nil {
		return nil, fmt.Errorf("spool: %w", err)
	}
	info, err := file.Stat()
	if err != nil {
		return nil, errors.Join(err, file.Close())
	}
	j := &Journal{file: file, limit: limit, size: info.Size(), told: map[evidence.Who][]evidence.Item{}}
	if j.size > 0 {
		// A process that was killed may have left half a line, which must not run into the next one.
		if _, err := file.WriteString("\n"); err != nil {
			return nil, errors.Join(err, file.Close())
		}
		j.size++
	}
	return j, nil
}

// NoJournal stands for a journal that could not be opened; each Append fails with the cause.
func NoJournal(cause error) *Journal { return &Journal{broken: cause} }

// Append adds a sighting. When it returns, the system has it: the process may be killed. ErrFull says that the journal
// has reached its limit. The sighting's facts must not be changed afterwards.
func (j *Journal) Append(s evidence.Sighting) error {
	if j.broken != nil {
		return j.broken
	}
	j.mu.Lock()
	defer j.mu.Unlock()
	key := s.Who()
	keep := alike(j.told[key], s.Items)
	fresh := s
	fresh.Items = s.Items[keep:]
	line, err := json.Marshal(entry{fresh, keep})
	if err != nil {
		return fmt.Errorf("spool: %w", err)
	}
	if j.size+int64(len(line)) >= j.limit {
		return ErrFull
	}
	if _, err := j.file.Write(append(line, '\n')); err != nil {
		// Half a line, as a full disk leaves, must not run into the next one.
		return fmt.Errorf("spool: %w", errors.Join(err, j.file.Truncate(j.size)))
	}
	j.size += int64(len(line)) + 1
	j.told[key] = s.Items
	return nil
}

// alike gives how many items two lists begin with in common.
func alike(a, b []evidence.Item) int {
	n := min(len(a), len(b))
	for i := range n {
		if a[i] != b[i] {
			return i
		}
	}
	return n
}

// Close closes the journal's file, which stays.
func (j *Journal) Close() error {
	if j.broken != nil {
		return nil
	}
	return j.file.Close()
}

// Read gives the sightings of a sweep's journal, each with all that was told of it. A sweep without a journal has none.
// A line that broke off when the service was killed is left out: what it would have said had not been told to anybody. Where
// anything else cannot be read, ErrDamaged is returned along with the rest.
func (s *Spool) Read(sweep uint64) ([]evidence.Sighting, error) {
	file, err := os.Open(s.path(sweep))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("spool: %w", err)
	}
	defer file.Close()
	return read(file)
}

func read(journal io.Reader) ([]evidence.Sighting, error) {
	r := reader{at: map[evidence.Who]int{}}
	lines := bufio.NewReaderSize(journal, 1<<16)
	for {
		line, err := readLine(lines)
		if err != nil && !errors.Is(err, io.EOF) && !errors.Is(err, bufio.ErrTooLong) {
			return r.sightings, fmt.Errorf("spool: %w", err)
		}
		r.take(line, errors.Is(err, bufio.ErrTooLong))
		if errors.Is(err, io.EOF) {
			break
		}
	}
	if r.damaged > 0 {
		return r.sightings, fmt.Errorf("%w: %d lines", ErrDamaged, r.damaged)
	}
	return r.sightings, nil
}

// readLine reads a line without its end. Of one that is too long nothing is kept, and bufio.ErrTooLong returned.
func readLine(lines *bufio.Reader) ([]byte, error) {
	var line []byte
	long := false
	for {
		part, err := lines.ReadSlice('\n')
		if long = long || len(line)+len(part) > maxLine; long {
			line = nil
		} else {
			line = append(line, part...)
		}
		switch {
		case errors.Is(err, bufio.ErrBufferFull):
			continue
		case err == nil && long:
			return nil, bufio.ErrTooLong
		}
		return bytes.TrimSuffix(line, []byte("\n")), err
	}
}

// reader puts sightings together out of a journal's lines.
type reader struct {
	sightings []evidence.Sighting
	at        map[evidence.Who]int
	damaged   int
}

func (r *reader) take(line []byte, tooLong bool) {
	if len(line) == 0 && !tooLong {
		return
	}
	var e entry
	err := json.Unmarshal(line, &e)
	var syntax *json.SyntaxError
	switch {
	case !tooLong && errors.As(err, &syntax) && int(syntax.Offset) >= len(line):
		return // it broke off
	case tooLong, err != nil, !e.Addr.IsValid(), e.Keep < 0:
		r.damaged++
		return
	}
	key := e.Who()
	i, known := r.at[key]
	if !known {
		i = len(r.sightings)
		r.at[key] = i
		r.sightings = append(r.sightings, evidence.Sighting{})
	}
	before := r.sightings[i].Items
	r.sightings[i] = e.Sighting
	r.sightings[i].Items = append(before[:min(e.Keep, len(before)):min(e.Keep, len(before))], e.Items...)
}
