// Package sweepfile reads and writes sweeps as files of JSON Lines, so that what was seen can be kept, handed on and entered elsewhere.
// docs/sweep-file.md documents the format.
package sweepfile

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"time"
	"unicode/utf8"

	"airdrift/core/evidence"
	"airdrift/core/fault"
	"airdrift/core/netrange"
	"airdrift/core/sweep"
)

// Version is the version of the format that is written, and the newest that is read.
const Version = 1

const (
	// maxLine is the longest line that is read, in bytes: a sighting with all the facts that are kept of one stays below it.
	maxLine = 2 << 20
	// MaxSightings is the most sightings that one sweep of a file may have.
	MaxSightings = 1_000_000
)

// Header is what is known of a sweep beside its sightings.
type Header struct {
	Name       string         `json:"name,omitempty"`
	Vantage    string         `json:"vantage"`
	Ranges     string         `json:"ranges"` // as netrange reads them
	Exclusions string         `json:"exclusions,omitempty"`
	Pace       string         `json:"pace,omitempty"`
	Ports      string         `json:"ports"`
	Off        []string       `json:"off,omitempty"` // protocols that were not used
	State      string         `json:"state"`         // done, stopped or interrupted
	Began      time.Time      `json:"began"`
	Ended      time.Time      `json:"ended,omitzero"` // left out of one that was broken off
	Addresses  uint64         `json:"addresses"`
	Answered   uint64         `json:"answered"`
	Sent       uint64         `json:"sent"`
	Gateway    netip.Addr     `json:"gateway,omitzero"`
	OnLink     []netip.Prefix `json:"onLink,omitempty"`
	Warnings   []string       `json:"warnings,omitempty"`

	Patience sweep.Patience `json:"patience,omitzero"` // with who was not seen
}

// line is one line of a file: exactly one of its members is there.
type line struct {
	File     *opening           `json:"airdrift,omitempty"`
	Sweep    *Header            `json:"sweep,omitempty"`
	Sighting *evidence.Sighting `json:"sighting,omitempty"`
	End      *ending            `json:"end,omitempty"`
}

// opening is the first line: what the file is.
type opening struct {
	Holds   string `json:"holds"` // sweeps
	Version int    `json:"version"`
}

// ending closes a sweep, so that one that was cut off is told from a whole one.
type ending struct {
	Sightings int `json:"sightings"`
}

// Writer writes a file.
type Writer struct {
	out       *json.Encoder
	begun     bool
	sightings int
}

// NewWriter writes a file to out.
func NewWriter(out io.Writer) *Writer {
	w := &Writer{out: json.NewEncoder(out)}
	w.out.SetEscapeHTML(false)
	return w
}

// Begin begins a sweep.
func (w *Writer) Begin(h Header) error {
	if !w.begun {
		w.begun = true
		if err := w.out.Encode(line{File: &opening{"sweeps", Version}}); err != nil {
			return err
		}
	}
	w.sightings = 0
	return w.out.Encode(line{Sweep: &h})
}

// Sighting writes one sighting of the sweep that was begun.
func (w *Writer) Sighting(s evidence.Sighting) error {
	w.sightings++
	return w.out.Encode(line{Sighting: &s})
}

// End ends the sweep that was begun.
func (w *Writer) End() error { return w.out.Encode(line{End: &ending{w.sightings}}) }

// Receiver takes what a file holds, in its order.
type Receiver interface {
	Begin(Header) error
	Sighting(evidence.Sighting) error
	End() error
}

// Read gives the sweeps of a file to a receiver, one sighting after the other. Where the file is at fault the error is a *fault.List with the
// line; what the receiver was given until then is to be thrown away.
func Read(name string, in io.Reader, to Receiver) error {
	r := &reader{in: bufio.NewReaderSize(in, 64<<10), faults: fault.List{Name: name}, to: to, seen: map[evidence.Who]bool{}}
	for {
		text, err := r.next()
		if errors.Is(err, io.EOF) {
			return r.close()
		}
		if err != nil {
			return err
		}
		if err := r.take(text); err != nil {
			return err
		}
	}
}

type reader struct {
	in      *bufio.Reader
	faults  fault.List
	to      Receiver
	line    int
	open    bool // a sweep has begun and not ended
	opened  bool // the first line was read
	sweeps  int
	seen    map[evidence.Who]bool
	counted int
}

// refuse gives what is wrong with the line that was read last.
func (r *reader) refuse(field, why string, args ...any) error {
	r.faults.Add(fault.Fault{Line: r.line, Field: field, Why: fmt.Sprintf(why, args...)})
	return r.faults.Err()
}

// next gives the next line that is not empty.
func (r *reader) next() ([]byte, error) {
	for {
		r.line++
		var text []byte
		for {
			part, err := r.in.ReadSlice('\n')
			text = append(text, part...)
			if len(text) > maxLine {
				return nil, r.refuse("", "the line is longer than %d bytes, which no sighting is", maxLine)
			}
			if err == nil || errors.Is(err, io.EOF) && len(text) > 0 {
				break
			}
			if !errors.Is(err, bufio.ErrBufferFull) {
				return nil, err
			}
		}
		if text = bytes.TrimSpace(text); len(text) > 0 {
			return text, nil
		}
	}
}

// close checks that nothing is missing at the end of the file.
func (r *reader) close() error {
	switch {
	case !r.opened:
		return r.refuse("", "the file is empty: want one that airdrift sweeps export has written")
	case r.open:
		return r.refuse("", "the file ends in the middle of a sweep: it was cut off, export it again")
	case r.sweeps == 0:
		return r.refuse("", "the file holds no sweep")
	}
	return nil
}

func (r *reader) take(text []byte) error {
	var l line
	decoder := json.NewDecoder(bytes.NewReader(text))
	decoder.DisallowUnknownFields()
	if err := decoder.Decode(&l); err != nil {
		if !r.opened {
			return r.refuse("", "this is no file of sweeps: want one that airdrift sweeps export has written (%v)", err)
		}
		return r.refuse("", "not readable: %v", err)
	}
	switch {
	case l.File != nil:
		return r.begin(*l.File)
	case !r.opened:
		return r.refuse("", `this is no file of sweeps: the first line must be {"airdrift":{"holds":"sweeps","version":1}}`)
	case l.Sweep != nil:
		return r.header(*l.Sweep)
	case l.Sighting != nil:
		return r.sighting(*l.Sighting)
	case l.End != nil:
		return r.end(*l.End)
	}
	return r.refuse("", "the line holds neither a sweep, nor a sighting, nor an end")
}

func (r *reader) begin(o opening) error {
	switch {
	case r.opened:
		return r.refuse("airdrift", "a file begins once")
	case o.Holds != "sweeps":
		return r.refuse("airdrift.holds", "the file holds %q: want sweeps", o.Holds)
	case o.Version > Version:
		return r.refuse("airdrift.version", "the file is of version %d, and this program reads up to %d: use the version of airdrift that wrote it, or a newer one", o.Version, Version)
	case o.Version < 1:
		return r.refuse("airdrift.version", "%d is no version", o.Version)
	}
	r.opened = true
	return nil
}

func (r *reader) header(h Header) error {
	if r.open {
		return r.refuse("sweep", "the sweep before has no end")
	}
	if _, err := netrange.Parse(h.Ranges); err != nil && !errors.Is(err, netrange.ErrEmpty) {
		return r.refuse("sweep.ranges", "%v", err)
	}
	if _, err := netrange.Parse(h.Exclusions); err != nil && !errors.Is(err, netrange.ErrEmpty) {
		return r.refuse("sweep.exclusions", "%v", err)
	}
	if err := h.Patience.Check(); err != nil {
		return r.refuse("sweep.patience", "%v", err)
	}
	if _, err := sweep.ParsePorts(h.Ports); err != nil {
		return r.refuse("sweep.ports", "%v", err)
	}
	if h.State != "done" && h.State != "stopped" && h.State != "interrupted" {
		return r.refuse("sweep.state", "%q is not a state: want done, stopped or interrupted", h.State)
	}
	if h.Began.IsZero() || !h.Ended.IsZero() && h.Ended.Before(h.Began) || h.Began.Year() < 2000 || h.Ended.Year() > 9000 {
		return r.refuse("sweep.began", "a sweep begins, and ends after that")
	}
	for _, text := range append([]string{h.Name, h.Vantage, h.Pace}, h.Warnings...) {
		if len(text) > 1000 || !utf8.ValidString(text) {
			return r.refuse("sweep", "a text is longer than 1000 bytes, or not UTF-8")
		}
	}
	if len(h.OnLink) > 64 || len(h.Warnings) > 200 || len(h.Off) > 200 {
		return r.refuse("sweep", "it has more subnets, warnings or protocols than a sweep can have")
	}
	r.open, r.counted = true, 0
	clear(r.seen)
	return r.to.Begin(h)
}

func (r *reader) sighting(s evidence.Sighting) error {
	switch {
	case !r.open:
		return r.refuse("sighting", "there is no sweep that it belongs to")
	case !s.Addr.IsValid() && s.MAC.IsZero():
		return r.refuse("sighting", "it has neither an address nor a MAC address")
	case s.Addr.Zone() != "":
		return r.refuse("sighting.addr", "an address is written without a zone")
	case r.seen[s.Who()]:
		return r.refuse("sighting", "%s was there before in this sweep", s.Who())
	case r.counted == MaxSightings:
		return r.refuse("sighting", "a sweep has at most %d sightings", MaxSightings)
	case len(s.Unit) > evidence.MaxUnit || len(s.LearnedFrom) > 200 || s.Ring < 0 || s.Ring > 1000:
		return r.refuse("sighting", "its unit, ring or where it was learned from is longer than can be")
	case s.FirstAt.Year() < 2000 || s.FirstAt.Year() > 9000:
		return r.refuse("sighting.firstAt", "want the time when it was seen first")
	case len(s.Items) > evidence.Asked.Items+64 || evidence.Size(s.Items) > evidence.Asked.Bytes+64<<10:
		return r.refuse("sighting.items", "there are more facts than are kept of one sighting: at most %d, of %d bytes", evidence.Asked.Items, evidence.Asked.Bytes)
	}
	for i, it := range s.Items {
		if it.Key == "" || len(it.Key) > 100 || it.Source == "" || len(it.Source) > 40 || len(it.Value) > evidence.MaxValue || it.RTT < 0 || it.RTT > time.Hour {
			return r.refuse(fmt.Sprintf("sighting.items[%d]", i), "want a source, a key, and a value of at most %d bytes", evidence.MaxValue)
		}
		if it.At.Year() > 9000 {
			return r.refuse(fmt.Sprintf("sighting.items[%d].at", i), "no such time")
		}
	}
	r.seen[s.Who()] = true
	r.counted++
	return r.to.Sighting(s)
}

func (r *reader) end(e ending) error {
	if !r.open {
		return r.refuse("end", "there is no sweep to end")
	}
	if e.Sightings != r.counted {
		return r.refuse("end.sightings", "the sweep has %d sightings, and the file was written with %d: it is damaged", r.counted, e.Sightings)
	}
	r.open = false
	r.sweeps++
	return r.to.End()
}
