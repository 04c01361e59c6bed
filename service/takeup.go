package service

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"time"

	"airdrift/books"
	"airdrift/store"
)

// interrupt marks the sweeps that an earlier run of the service has left running, and gives those that are to be taken up: they
// or their journals are left.
func (s *sweeper) interrupt(ctx context.Context) ([]uint64, error) {
	left, err := s.spool.Left()
	if err != nil {
		return nil, err
	}
	running, err := s.store.InterruptRunning(ctx)
	if err != nil {
		return nil, err
	}
	for _, record := range running {
		if !slices.Contains(left, record.ID) {
			left = append(left, record.ID)
		}
	}
	slices.Sort(left)
	return left, nil
}

// takeUp enters what sweeps had seen when an earlier run of the service ended: what the spool still has goes into the
// database first. One that cannot be taken up holds back no other. While the database is away it is waited for.
func (s *sweeper) takeUp(ctx context.Context, left []uint64) {
	defer close(s.takenUp)
	for _, id := range left {
		for wait := writeEvery; ; wait = min(2*wait, 10*time.Second) {
			err := s.takeUpOne(ctx, id)
			if err == nil {
				break
			}
			slog.ErrorContext(ctx, "what a sweep had seen could not be entered", "sweep", id, "error", err)
			if !store.IsAway(err) {
				break
			}
			if waitOr(ctx, wait) != nil {
				return
			}
		}
	}
}

// renewEvery is how often ledgers that are stale are looked for, besides at the start: those whose change was noted, and not carried out.
const renewEvery = time.Minute

// keepRenewing computes ledgers anew that are stale, at once and then as long as the service runs.
func (s *sweeper) keepRenewing(ctx context.Context) {
	for {
		s.renewStale(ctx)
		if waitOr(ctx, renewEvery) != nil {
			return
		}
	}
}

// renewStale computes those ledgers anew that are no longer as the program keeps them. One that cannot be harms no other, and one of which a sweep runs waits.
func (s *sweeper) renewStale(ctx context.Context) {
	sites, err := s.store.Sites(ctx)
	if ctx.Err() != nil {
		return
	}
	if err != nil {
		slog.ErrorContext(ctx, "sites could not be looked through for ledgers that are to be rebuilt", "error", err)
		return
	}
	for _, site := range sites {
		if site.Stale == "" {
			continue
		}
		slog.InfoContext(ctx, "the ledger of a site is computed anew", "site", site.Name, "as", site.Stale)
		err := s.rebuild(ctx, site.ID, 0)
		if refused := (*refusedError)(nil); errors.As(err, &refused) || isHeld(err) || ctx.Err() != nil {
			continue // a sweep runs, or somebody is at it already
		}
		if err != nil {
			slog.ErrorContext(ctx, "the ledger of a site could not be computed anew", "site", site.Name, "error", err)
			if err := s.store.SetStale(ctx, site.ID, "it could not be computed anew: "+err.Error()); err != nil {
				slog.ErrorContext(ctx, "the state of a site could not be written", "site", site.Name, "error", err)
			}
		}
	}
}

// isHeld reports whether something is refused only as things are now.
func isHeld(err error) bool {
	refusal := (*books.Refusal)(nil)
	return errors.As(err, &refusal) && refusal.Now
}

// takeUpOne enters what one sweep had seen. Whatever of its journal cannot be used is kept under another name.
func (s *sweeper) takeUpOne(ctx context.Context, id uint64) error {
	record, err := s.store.Sweep(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return s.putAside(ctx, id, "unknown", errors.New("the database does not know the sweep"))
	}
	if err != nil {
		return err
	}
	sightings, unread := s.spool.Read(id)
	refused, err := s.store.SaveSightings(ctx, id, sightings)
	if err != nil {
		return err
	}
	if len(refused) > 0 {
		name, err := refuseAll(s.spool, id, refused)
		if err != nil {
			return err
		}
		record.Warnings = append(record.Warnings, fmt.Sprintf("The database does not take %d sightings: they are set aside in the file %s of the spool.", len(refused), name))
	}
	if record.State == store.Interrupted { // else the ledger has it, and only the journal was left
		if err := s.enterInterrupted(ctx, record); err != nil {
			return err
		}
	}
	if unread != nil {
		return s.putAside(ctx, id, "damaged", unread)
	}
	return s.spool.Remove(id)
}

func (s *sweeper) enterInterrupted(ctx context.Context, record store.Sweep) error {
	text := "Interrupted: the service ended in the middle of the sweep. What was seen is kept, and it can be continued."
	if err := s.store.Log(ctx, record.ID, store.LogLine{At: time.Now().UTC(), Text: text}); err != nil {
		return err
	}
	_, err := enterOrFail(ctx, s.store, s.books.Enter, record)
	return err
}

// putAside gives a journal another name, and says so in the log; the overview tells of it as long as it is there.
func (s *sweeper) putAside(ctx context.Context, id uint64, why string, cause error) error {
	name, err := s.spool.SetAside(id, why, time.Now())
	if err != nil {
		return err
	}
	slog.WarnContext(ctx, "the journal of a sweep is put aside", "sweep", id, "file", name, "cause", cause)
	return nil
}

// notices are what somebody has to look after, in words.
func (s *sweeper) notices(ctx context.Context) []string {
	list := []string{}
	select {
	case <-s.takenUp:
	default:
		list = append(list, "What was seen before the service started is being entered into the list of devices.")
	}
	if sites, err := s.store.Sites(ctx); err == nil { // else the health says that the database is away
		for _, site := range sites {
			if site.Stale != "" {
				list = append(list, fmt.Sprintf("The list of devices of the site %s is to be computed anew: %s.", site.Name, site.Stale))
			}
		}
	}
	aside, err := s.spool.Aside()
	if err != nil {
		return append(list, "The spool on disk cannot be read: "+err.Error())
	}
	for _, name := range aside {
		list = append(list, fmt.Sprintf("The file %s in the directory spool of the data directory holds what could not be stored or read. Keep a copy, then delete it.", name))
	}
	return list
}
