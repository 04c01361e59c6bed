package service

import (
	"context"
	"log/slog"
	"slices"
	"sync"
	"time"

	"airdrift/api"
	"airdrift/core/evidence"
	"airdrift/core/identify"
	"airdrift/core/sweep"
	"airdrift/core/wire"
	"airdrift/store"
)

const (
	// writeEvery is how often sightings are written while a sweep runs.
	writeEvery = 250 * time.Millisecond
	// finishWait bounds the writing of what a sweep saw after it has been told to stop.
	finishWait = 60 * time.Second
	// eventQueue is how many events a slow listener may lag behind before it is cut off; it can come back and is told
	// everything anew.
	eventQueue = 2048
)

// job is one sweep that runs in this service.
type job struct {
	engine *identify.Engine
	stop   context.CancelFunc
	done   chan struct{} // closed when the sweep is over and written

	mu        sync.Mutex // guards all below
	sweep     store.Sweep
	stopped   bool // by a user, rather than by the end of the service
	progress  *api.Progress
	sightings map[string]api.Sighting
	order     []string
	pending   map[string]evidence.Sighting // not written yet
	listeners map[chan any]struct{}
}

func newJob(record store.Sweep, engine *identify.Engine, stop context.CancelFunc) *job {
	return &job{
		engine: engine, stop: stop, done: make(chan struct{}), sweep: record,
		sightings: map[string]api.Sighting{}, pending: map[string]evidence.Sighting{}, listeners: map[chan any]struct{}{},
	}
}

// run carries the sweep out and writes what it sees; finish puts it into the ledger.
func (j *job) run(ctx context.Context, st *store.Store, w wire.Wire, order sweep.Order, finish func(context.Context, store.Sweep) (store.Sweep, error)) {
	defer close(j.done)
	written := make(chan struct{})
	sweeping, endWriter := context.WithCancel(context.WithoutCancel(ctx))
	go func() {
		defer close(written)
		j.writeOften(sweeping, st)
	}()
	summary, err := sweep.Run(ctx, w, order, j.hear)
	endWriter()
	<-written
	finishCtx, cancel := context.WithTimeout(context.WithoutCancel(ctx), finishWait)
	defer cancel()
	record := j.conclude(summary, err)
	if err := j.write(finishCtx, st); err != nil {
		record.State, record.Failure = store.Failed, "what was seen could not be written to the database"
	}
	final, err := finish(finishCtx, record)
	if err != nil {
		slog.ErrorContext(finishCtx, "sweep could not be entered into the ledger", "sweep", record.ID, "error", err)
		final = record
		final.State, final.Failure = store.Failed, "what was seen could not be entered into the ledger; the service's log tells why"
		_ = st.SaveSweep(finishCtx, final) // the log has the cause; the state in memory says the same
	}
	j.close(final)
}

// conclude writes how the sweep went into its record.
func (j *job) conclude(summary sweep.Summary, err error) store.Sweep {
	j.mu.Lock()
	defer j.mu.Unlock()
	s := &j.sweep
	s.Ended = time.Now().UTC()
	s.Addresses, s.Answered, s.Sent = summary.Addresses, uint64(summary.Answered), summary.Sent
	switch {
	case err != nil:
		s.State, s.Failure = store.Failed, err.Error()
	case summary.Stopped && j.stopped:
		s.State = store.Stopped
	case summary.Stopped:
		s.State = store.Interrupted
	default:
		s.State = store.Done
	}
	return *s
}

// hear takes one event of the sweep.
func (j *job) hear(e sweep.Event) {
	j.mu.Lock()
	defer j.mu.Unlock()
	switch e := e.(type) {
	case sweep.Progress:
		p := toProgress(e)
		j.progress = &p
		j.sweep.Answered = uint64(e.Found)
		j.tellLocked(p)
	case sweep.Sighted:
		key := e.Sighting.Addr.String() + " " + e.Sighting.MAC.String()
		j.pending[key] = e.Sighting
		if _, known := j.sightings[key]; !known {
			j.order = append(j.order, key)
		}
		j.sightings[key] = toSighting(e.Sighting, e.Whole, j.engine)
		j.tellLocked(j.sightings[key])
	case sweep.Warning:
		j.sweep.Warnings = append(j.sweep.Warnings, e.Text)
		j.tellLocked(api.Warning{Text: e.Text})
	}
}

// tellLocked gives an event to every listener, and cuts off those that lag too far behind.
func (j *job) tellLocked(event any) {
	for l := range j.listeners {
		select {
		case l <- event:
		default:
			delete(j.listeners, l)
			close(l)
		}
	}
}

// listen gives all that has happened so far and then what happens; the channel closes when the sweep is over.
func (j *job) listen() (past []any, events chan any) {
	j.mu.Lock()
	defer j.mu.Unlock()
	for _, w := range j.sweep.Warnings {
		past = append(past, api.Warning{Text: w})
	}
	for _, key := range j.order {
		past = append(past, j.sightings[key])
	}
	if j.progress != nil {
		past = append(past, *j.progress)
	}
	events = make(chan any, eventQueue)
	if j.listeners == nil {
		close(events)
		return past, events
	}
	j.listeners[events] = struct{}{}
	return past, events
}

func (j *job) unlisten(events chan any) {
	j.mu.Lock()
	defer j.mu.Unlock()
	delete(j.listeners, events)
}

// close tells the end to all listeners.
func (j *job) close(final store.Sweep) {
	j.mu.Lock()
	defer j.mu.Unlock()
	j.sweep = final
	j.tellLocked(toSweep(final))
	for l := range j.listeners {
		close(l)
	}
	j.listeners = nil
}

// writeOften writes what was seen at short intervals until ctx ends. What cannot be written waits for the next time.
func (j *job) writeOften(ctx context.Context, st *store.Store) {
	ticker := time.NewTicker(writeEvery)
	defer ticker.Stop()
	for waiting := false; ; {
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
			err := j.write(ctx, st)
			if err != nil && ctx.Err() == nil && !waiting { // told once, and not four times a second
				slog.WarnContext(ctx, "sightings wait to be written", "sweep", j.record().ID, "error", err)
			}
			waiting = err != nil
		}
	}
}

func (j *job) write(ctx context.Context, st *store.Store) error {
	j.mu.Lock()
	batch := make([]evidence.Sighting, 0, len(j.pending))
	for _, s := range j.pending {
		batch = append(batch, s)
	}
	taken := j.pending
	j.pending = map[string]evidence.Sighting{}
	id := j.sweep.ID
	j.mu.Unlock()
	err := st.SaveSightings(ctx, id, batch)
	if err != nil {
		j.putBack(taken)
	}
	return err
}

// putBack returns sightings that were not written, unless newer ones have come in the meantime.
func (j *job) putBack(taken map[string]evidence.Sighting) {
	j.mu.Lock()
	defer j.mu.Unlock()
	for key, s := range taken {
		if _, newer := j.pending[key]; !newer {
			j.pending[key] = s
		}
	}
}

func (j *job) record() store.Sweep {
	j.mu.Lock()
	defer j.mu.Unlock()
	s := j.sweep
	s.Warnings = slices.Clone(s.Warnings)
	return s
}

// stopByUser ends the sweep early.
func (j *job) stopByUser() {
	j.mu.Lock()
	j.stopped = true
	j.mu.Unlock()
	j.stop()
}
