package sweep

import (
	"hash/fnv"
	"maps"
	"sync"
	"time"

	"airdrift/core/netrange"
	"airdrift/core/probe"
)

// Resume is how far a sweep has come, so that it can go on from there. Its zero value stands for the beginning.
type Resume struct {
	Calls  map[string]Place `json:"calls,omitempty"`  // by the name of the call
	Called bool             `json:"called,omitempty"` // the roll call is over
	// Readings is how far systems have been read whose reading was broken off, by protocol and whose they are.
	Readings map[string]probe.Reading `json:"readings,omitempty"`
}

// Place is how far one call of the roll has come in the order of visit.
type Place struct {
	Round int    `json:"round"`
	At    uint64 `json:"at"`
	Of    uint64 `json:"of,omitempty"` // fingerprint of the call: method, set and seed. At another one the place means nothing.
}

// fingerprint tells calls of the roll apart, of which a place is in one only.
func fingerprint(call string, set netrange.Set, seed uint64) uint64 {
	hash := fnv.New64a()
	_, _ = hash.Write([]byte(call + " " + set.String()))
	for range 8 {
		_, _ = hash.Write([]byte{byte(seed)})
		seed >>= 8
	}
	return hash.Sum64()
}

// resuming keeps the Resume of a sweep under way.
type resuming struct {
	mu    sync.Mutex // guards all below
	state Resume
	marks map[string][]mark // where each call was lately
	turns int               // how often all was put back
}

// mark is where a call was at a time.
type mark struct {
	at    time.Time
	place Place
}

const (
	// markEvery is how often it is noted where a call is, and maxMarks how many notes of that there are.
	markEvery = 250 * time.Millisecond
	maxMarks  = 64
)

func newResuming(from Resume) *resuming {
	calls := maps.Clone(from.Calls)
	if calls == nil {
		calls = map[string]Place{}
	}
	readings := maps.Clone(from.Readings)
	if readings == nil {
		readings = map[string]probe.Reading{}
	}
	return &resuming{state: Resume{Calls: calls, Called: from.Called, Readings: readings}, marks: map[string][]mark{}}
}

// reach notes where a call is. since is what place gave with the place it began at: a call that goes on while all is put back
// does not undo that.
func (r *resuming) reach(call string, p Place, since int) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if since != r.turns {
		return
	}
	r.state.Calls[call] = p
	marks, now := r.marks[call], time.Now()
	if n := len(marks); n > 0 && now.Sub(marks[n-1].at) < markEvery {
		return
	}
	if len(marks) == maxMarks {
		marks = append(marks[:0], marks[1:]...)
	}
	r.marks[call] = append(marks, mark{now, p})
}

// rewind puts each call back to where it was at a time, or as far as is known.
func (r *resuming) rewind(to time.Time) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for call, marks := range r.marks {
		back := Place{Of: r.state.Calls[call].Of}
		for _, m := range marks {
			if !m.at.After(to) {
				back = m.place
			}
		}
		r.state.Calls[call] = back
	}
	clear(r.marks)
	r.turns++
}

// place gives where a call goes on, and what reach is to be told; it begins at the beginning where the place that is known is one of
// another call.
func (r *resuming) place(call string, of uint64) (p Place, since int) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if p := r.state.Calls[call]; p.Of == of {
		return p, r.turns
	}
	return Place{Of: of}, r.turns
}

func (r *resuming) called() bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.state.Called
}

func (r *resuming) endCall() {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.state.Called = true
}

// reading gives how far a system has been read.
func (r *resuming) reading(key string) probe.Reading {
	r.mu.Lock()
	defer r.mu.Unlock()
	from := r.state.Readings[key]
	from.Counts = maps.Clone(from.Counts)
	if from.Counts == nil || from.Next < 0 || from.Next > from.Of { // what is stored may have been written by anybody
		return probe.Reading{Counts: map[string]int{}}
	}
	return from
}

func (r *resuming) readUpTo(key string, p probe.Reading) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.state.Readings[key] = p
}

func (r *resuming) hasRead(key string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	delete(r.state.Readings, key)
}

func (r *resuming) snapshot() Resume {
	r.mu.Lock()
	defer r.mu.Unlock()
	return Resume{Calls: maps.Clone(r.state.Calls), Called: r.state.Called, Readings: maps.Clone(r.state.Readings)}
}
