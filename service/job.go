package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"time"

	"airdrift/api"
	"airdrift/books"
	"airdrift/core/evidence"
	"airdrift/core/identify"
	"airdrift/core/sweep"
	"airdrift/core/wire"
	"airdrift/spool"
	"airdrift/store"
)

const (
	// writeEvery is how often sightings are written while a sweep runs.
	writeEvery = 250 * time.Millisecond
	// placeEvery is how often it is written how far a sweep has come.
	placeEvery = time.Second
	// finishWait bounds the writing of what a sweep saw after the service has been told to end.
	finishWait = 60 * time.Second
	// eventQueue is how many events a slow listener may lag behind before it is cut off; it can come back and is told
	// everything anew.
	eventQueue = 2048
	// maxPending bounds the sightings that wait in memory where neither the database nor the spool takes them.
	maxPending = 100_000
	// maxWarnings bounds the warnings of one sweep, and maxWarning the length of each, in bytes.
	maxWarnings, maxWarning = 50, 1000
)

// job is one sweep that runs in this service.
type job struct {
	engine  *identify.Engine
	store   *store.Store
	spool   *spool.Spool // where what the database does not take is set aside
	journal *spool.Journal
	stop    context.CancelFunc
	done    chan struct{} // closed when the sweep is over, written and put away

	mu        sync.Mutex // guards all below
	sweep     store.Sweep
	stopped   bool // by a user, rather than by the end of the service
	progress  *api.Progress
	sightings map[string]api.Sighting
	order     []string
	pending   map[string]evidence.Sighting // not written to the database yet
	log       []store.LogLine              // not written yet
	spoilt    bool                         // the journal could not be written
	failure   string                       // why the sweep was given up
	listeners map[chan told]struct{}
	turn      int            // of the event that was told last, counted from 1
	turns     map[string]int // in which each sighting was told last
}

func newJob(record store.Sweep, engine *identify.Engine, st *store.Store, journals *spool.Spool, journal *spool.Journal, stop context.CancelFunc) *job {
	return &job{
		engine: engine, store: st, spool: journals, journal: journal, stop: stop, done: make(chan struct{}), sweep: record,
		sightings: map[string]api.Sighting{}, pending: map[string]evidence.Sighting{}, listeners: map[chan told]struct{}{}, turns: map[string]int{},
	}
}

// run carries the sweep out until ctx ends and writes what it sees; enter puts it into the ledger. It reports whether
// everything is in the database, which is waited for until service ends.
func (j *job) run(ctx, service context.Context, w wire.Wire, order sweep.Order, enter books.Entering) (written bool) {
	for _, s := range order.Known {
		j.show(s, false)
	}
	wrote := make(chan struct{})
	sweeping, endWriter := context.WithCancel(context.WithoutCancel(ctx))
	go func() {
		defer close(wrote)
		j.writeOften(sweeping)
	}()
	summary, err := sweep.Run(ctx, w, order, j.hear)
	endWriter()
	<-wrote
	j.note("The sweep ended: %d of %d addresses answered, %d others were heard, %d questions sent.", summary.Answered, summary.Addresses, summary.Heard, summary.Sent)
	record := j.conclude(summary, err)
	final, written := j.finish(service, record, enter)
	j.close(final)
	return written
}

// finish writes what is left and enters the sweep into the ledger. While the database is away it waits for it, until ctx
// ends with the service; the journal has everything then. What the database does not take is not tried again.
func (j *job) finish(ctx context.Context, record store.Sweep, enter books.Entering) (store.Sweep, bool) {
	hard, cancel := context.WithCancel(context.WithoutCancel(ctx))
	defer cancel()
	for wait := writeEvery; ; wait = min(2*wait, 10*time.Second) {
		final, written, err := j.put(hard, record, enter)
		if err == nil || !store.IsAway(err) {
			return final, written
		}
		if wait == writeEvery { // told once
			slog.ErrorContext(ctx, "sweep waits to be entered into the ledger", "sweep", record.ID, "error", err)
		}
		if waitOr(ctx, wait) != nil {
			break
		}
	}
	// The service ends: one last try.
	last, cancelLast := context.WithTimeout(hard, finishWait)
	defer cancelLast()
	if final, written, err := j.put(last, record, enter); err == nil || !store.IsAway(err) {
		return final, written
	}
	record.State, record.Failure = store.Interrupted, "the database did not answer: what was seen waits on disk and is entered when the service starts again"
	return record, false
}

// put writes what is left and enters the sweep, once. written says that the database has all that was seen.
func (j *job) put(ctx context.Context, record store.Sweep, enter books.Entering) (final store.Sweep, written bool, err error) {
	for range 2 { // writing may give a warning, which belongs into the log
		if err := j.write(ctx); err != nil {
			return record, false, err
		}
	}
	record.Warnings = j.record().Warnings
	final, err = enterOrFail(ctx, j.store, enter, record)
	return final, err == nil, err
}

// enterOrFail enters a sweep. What cannot be entered for another reason than that the database is away is written down as
// failed: its sightings are stored, and re-evaluating the site's sweeps tries it again.
func enterOrFail(ctx context.Context, st *store.Store, enter books.Entering, record store.Sweep) (store.Sweep, error) {
	final, err := enter(ctx, record)
	if err == nil || store.IsAway(err) {
		return final, err
	}
	slog.ErrorContext(ctx, "sweep could not be entered into the ledger", "sweep", record.ID, "error", err)
	return failEntering(ctx, st, record, err), nil
}

// failEntering writes down that a sweep's sightings are stored and its devices are not.
func failEntering(ctx context.Context, st *store.Store, record store.Sweep, cause error) store.Sweep {
	record.State = store.Failed
	record.Failure = fmt.Sprintf("What it saw is stored, and could not be entered into the list of devices: %v. When that is mended, airdrift sweeps reevaluate enters it.", cause)
	if err := st.SaveSweep(ctx, record); err != nil {
		slog.ErrorContext(ctx, "the record of a sweep could not be written", "sweep", record.ID, "error", err)
	}
	return record
}

func waitOr(ctx context.Context, d time.Duration) error {
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(d):
		return nil
	}
}

// conclude writes how the sweep went into its record. The times come from a clock that nobody sets.
func (j *job) conclude(summary sweep.Summary, err error) store.Sweep {
	j.mu.Lock()
	defer j.mu.Unlock()
	s := &j.sweep
	s.Ended = s.Began.Add(max(summary.Took, time.Since(s.Began)))
	s.Addresses, s.Answered, s.Place = summary.Addresses, uint64(summary.Answered), summary.At
	s.Sent += summary.Sent
	switch {
	case j.failure != "":
		s.State, s.Failure = store.Failed, j.failure
	case err != nil:
		s.State, s.Failure = store.Failed, err.Error()
	case summary.Stopped && j.stopped:
		s.State = store.Stopped
	case summary.Stopped:
		s.State = store.Interrupted
	default:
		s.State, s.Place = store.Done, sweep.Resume{}
	}
	return *s
}

// hear takes one event of the sweep.
func (j *job) hear(e sweep.Event) {
	switch e := e.(type) {
	case sweep.StageStarted:
		j.note("Stage: %s.", e.Stage)
	case sweep.Progress:
		j.mu.Lock()
		defer j.mu.Unlock()
		p := toProgress(e)
		j.progress = &p
		j.sweep.Answered, j.sweep.Place = uint64(e.Answered), e.At
		j.tellLocked(p)
	case sweep.Sighted:
		j.keep(e.Sighting)
		j.show(e.Sighting, e.Whole)
	case sweep.Warning:
		j.warn(e.Text)
	}
}

// keep puts a sighting into the journal before anybody is told of it, and among those to be written.
func (j *job) keep(s evidence.Sighting) {
	err := j.journal.Append(s)
	j.mu.Lock()
	j.pending[s.Who().String()] = s
	first := err != nil && !j.spoilt
	j.spoilt = j.spoilt || err != nil
	overflow := j.spoilt && len(j.pending) > maxPending && j.failure == ""
	if overflow {
		j.failure = "neither the database nor the spool on disk takes what is seen: make room on the disk, and continue the sweep"
	}
	j.mu.Unlock()
	if first {
		slog.Error("the spool cannot be written", "error", err)
		j.warn(fmt.Sprintf("What is seen cannot be kept on disk (%v): until there is room it is safe only once the database has it.", err))
	}
	if overflow {
		j.stop()
	}
}

// show tells the listeners of a sighting; whole says that nothing more will come for it.
func (j *job) show(s evidence.Sighting, whole bool) {
	key := s.Who().String()
	shown := toSighting(s, whole, j.engine)
	j.mu.Lock()
	defer j.mu.Unlock()
	if _, known := j.sightings[key]; !known {
		j.order = append(j.order, key)
	}
	j.sightings[key] = shown
	j.tellLocked(shown)
	j.turns[key] = j.turn
}

func (j *job) warn(text string) {
	text = cutText(text, maxWarning)
	j.note("%s", text)
	j.mu.Lock()
	defer j.mu.Unlock()
	switch {
	case len(j.sweep.Warnings) == maxWarnings:
		text = "There were further warnings; the sweep's log has them."
	case len(j.sweep.Warnings) > maxWarnings:
		return
	}
	j.sweep.Warnings = append(j.sweep.Warnings, text)
	j.tellLocked(api.Warning{Text: text})
}

// note adds a line to the sweep's log.
func (j *job) note(format string, args ...any) {
	j.mu.Lock()
	defer j.mu.Unlock()
	j.log = append(j.log, store.LogLine{At: time.Now().UTC(), Text: fmt.Sprintf(format, args...)})
}

// tellLocked gives an event to every listener, and cuts off those that lag too far behind.
func (j *job) tellLocked(event any) {
	j.turn++
	for l := range j.listeners {
		select {
		case l <- told{j.turn, event}:
		default:
			delete(j.listeners, l)
			close(l)
		}
	}
}

// told is an event with its turn.
type told struct {
	turn  int
	event any
}

// listen gives all that has happened so far and then what happens; the channel closes when the sweep is over, or who listens lags too far
// behind. Who was told up to a turn before gets what is newer.
func (j *job) listen(after int) (past []told, events chan told) {
	j.mu.Lock()
	defer j.mu.Unlock()
	if after > j.turn {
		after = 0 // it counts the turns of an earlier run
	}
	for _, w := range j.sweep.Warnings {
		past = append(past, told{0, api.Warning{Text: w}})
	}
	for _, key := range j.order {
		if j.turns[key] > after {
			past = append(past, told{0, j.sightings[key]})
		}
	}
	if j.progress != nil {
		past = append(past, told{j.turn, *j.progress})
	}
	events = make(chan told, eventQueue)
	if j.listeners == nil {
		close(events)
		return past, events
	}
	j.listeners[events] = struct{}{}
	return past, events
}

func (j *job) unlisten(events chan told) {
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
func (j *job) writeOften(ctx context.Context) {
	ticker := time.NewTicker(writeEvery)
	defer ticker.Stop()
	placed := time.Now()
	for waiting := false; ; {
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
		err := j.write(ctx)
		if err == nil && time.Since(placed) > placeEvery {
			placed = time.Now()
			err = j.store.SavePlace(ctx, j.record())
		}
		switch {
		case ctx.Err() != nil:
		case err != nil && !waiting: // told once, and not four times a second
			slog.WarnContext(ctx, "sightings wait to be written", "sweep", j.record().ID, "error", err)
			j.note("The database does not answer; what is seen waits on disk.")
		case err == nil && waiting:
			slog.InfoContext(ctx, "sightings are written again", "sweep", j.record().ID)
			j.note("The database answers again.")
		}
		waiting = err != nil
	}
}

// write writes what waits to the database.
func (j *job) write(ctx context.Context) error {
	j.mu.Lock()
	batch := make([]evidence.Sighting, 0, len(j.pending))
	for _, s := range j.pending {
		batch = append(batch, s)
	}
	taken, lines := j.pending, j.log
	j.pending, j.log = map[string]evidence.Sighting{}, nil
	id := j.sweep.ID
	j.mu.Unlock()
	refused, err := j.store.SaveSightings(ctx, id, batch)
	j.setAside(refused)
	if err == nil {
		taken = nil
		err = j.store.Log(ctx, id, lines...)
	}
	if err != nil {
		j.putBack(taken, lines)
	}
	return err
}

// setAside keeps sightings that the database does not take in a file, and says so.
func (j *job) setAside(refused []store.Refused) {
	if len(refused) == 0 {
		return
	}
	name, err := refuseAll(j.spool, j.record().ID, refused)
	if err != nil {
		slog.Error("sightings that the database does not take could not be set aside", "error", err)
	}
	j.warn(fmt.Sprintf("The database does not take %d sightings, that of %s first (%v). They are set aside in the file %s of the spool.",
		len(refused), refused[0].Sighting.Who(), refused[0].Cause, name))
}

// refuseAll writes sightings that the database does not take into a file of the spool.
func refuseAll(journals *spool.Spool, sweep uint64, refused []store.Refused) (name string, err error) {
	for _, r := range refused {
		at, failed := journals.Refuse(sweep, r.Sighting)
		name, err = cmp.Or(at, name), errors.Join(err, failed)
	}
	return name, err
}

// putBack returns sightings that were not written, unless newer ones have come in the meantime.
func (j *job) putBack(taken map[string]evidence.Sighting, lines []store.LogLine) {
	j.mu.Lock()
	defer j.mu.Unlock()
	for key, s := range taken {
		if _, newer := j.pending[key]; !newer {
			j.pending[key] = s
		}
	}
	j.log = append(lines, j.log...)
}

func (j *job) record() store.Sweep {
	j.mu.Lock()
	defer j.mu.Unlock()
	s := j.sweep
	s.Warnings = slices.Clone(s.Warnings)
	return s
}

// stopByUser ends the sweep early.
func (j *job) stopByUser(who string) {
	j.note("Stopped by %s.", who)
	j.mu.Lock()
	j.stopped = true
	j.mu.Unlock()
	j.stop()
}
