package sweep

import (
	"maps"
	"sync"
)

// Resume is how far a sweep has come, so that it can go on from there. Its zero value stands for the beginning.
type Resume struct {
	Calls  map[string]Place `json:"calls,omitempty"`  // by the name of the call
	Called bool             `json:"called,omitempty"` // the roll call is over
}

// Place is how far one call of the roll has come in the order of visit.
type Place struct {
	Round int    `json:"round"`
	At    uint64 `json:"at"`
}

// resuming keeps the Resume of a sweep under way.
type resuming struct {
	mu    sync.Mutex // guards state
	state Resume
}

func newResuming(from Resume) *resuming {
	calls := maps.Clone(from.Calls)
	if calls == nil {
		calls = map[string]Place{}
	}
	return &resuming{state: Resume{Calls: calls, Called: from.Called}}
}

func (r *resuming) reach(call string, p Place) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.state.Calls[call] = p
}

func (r *resuming) place(call string) Place {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.state.Calls[call]
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

func (r *resuming) snapshot() Resume {
	r.mu.Lock()
	defer r.mu.Unlock()
	return Resume{Calls: maps.Clone(r.state.Calls), Called: r.state.Called}
}
