package service

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"airdrift/api"
	"airdrift/books"
	"airdrift/core/identify"
	"airdrift/core/netrange"
	"airdrift/core/sweep"
	"airdrift/core/wire"
	"airdrift/spool"
	"airdrift/store"
	"airdrift/vault"
)

// Vantages are the places this service can sweep from.
type Vantages interface {
	// Links tells what each stands on.
	Links() ([]wire.Link, error)
	// Open gives the wire of one by the name of its link.
	Open(name string) (wire.Wire, error)
}

// sweeper runs sweeps and enters them into the ledger.
type sweeper struct {
	store    *store.Store
	spool    *spool.Spool
	vantages Vantages
	books    *books.Books
	vault    *vault.Vault
	public   publicNetworks
	base     context.Context // ends when the service does
	running  sync.WaitGroup

	takenUp chan struct{} // closed when what an earlier run has left is entered

	mu     sync.Mutex // guards all below; held for moments, and never while a ledger is changed
	jobs   map[uint64]*job
	closed map[uint64]bool // sites of which no sweep may start now
}

// start begins a sweep. It refuses what could not be carried out before anything is sent.
func (s *sweeper) start(ctx context.Context, siteID uint64, wanted api.NewSweep) (store.Sweep, error) {
	site, err := s.store.Site(ctx, siteID)
	if err != nil {
		return store.Sweep{}, err
	}
	w, err := s.vantage(wanted.Vantage)
	if err != nil {
		return store.Sweep{}, err
	}
	link := w.Link()
	record, err := plan(site, wanted)
	if err != nil {
		return store.Sweep{}, err
	}
	if strings.TrimSpace(wanted.Ranges) == "" {
		if record.Ranges, err = s.withRegistered(ctx, site, record.Ranges); err != nil {
			return store.Sweep{}, err
		}
	}
	record.Vantage, record.Gateway, record.OnLink = link.Name, link.Gateway, link.Prefixes
	record.StartedBy = personOf(ctx).name
	order, err := s.orderOf(site, record, link)
	if err != nil {
		return store.Sweep{}, err
	}
	if order.Credentials, order.Preferred, err = s.credentials(ctx, siteID); err != nil {
		return store.Sweep{}, err
	}
	if order.Expected, err = s.store.SeenAddrs(ctx, siteID); err != nil {
		return store.Sweep{}, err
	}
	record.Addresses = order.Ranges.Count()
	remark(ctx, "%s", sweepText(record))
	s.settle(ctx, siteID)
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := s.freeLocked(siteID); err != nil {
		return store.Sweep{}, err
	}
	now, err := s.store.Site(ctx, siteID)
	if err != nil {
		return store.Sweep{}, err
	}
	if !slices.Equal(now.Fence(), site.Fence()) {
		return store.Sweep{}, refuse(http.StatusConflict, "the fence of the site has been changed meanwhile: look at it, and start the sweep again")
	}
	if err := s.store.CreateSweep(ctx, &record); err != nil {
		return store.Sweep{}, err
	}
	engine, err := s.books.EngineOf(ctx, site)
	if err != nil {
		return store.Sweep{}, err
	}
	return record, s.launchLocked(engine, record, w, order, s.books.Enter, "Started by "+record.StartedBy+" from "+link.Name+".")
}

// resume goes on with a sweep that was stopped or interrupted, from where it was.
func (s *sweeper) resume(ctx context.Context, id uint64) (store.Sweep, error) {
	if j := s.job(id); j != nil {
		s.settle(ctx, j.record().SiteID)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.jobs[id] != nil {
		return store.Sweep{}, refuse(http.StatusConflict, "sweep %d is running", id)
	}
	record, err := s.store.Sweep(ctx, id)
	if err != nil {
		return record, err
	}
	if record.State == store.Done {
		return record, refuse(http.StatusConflict, "sweep %d is done: there is nothing left of it to do", id)
	}
	if latest, err := s.store.LatestSweep(ctx, record.SiteID); err != nil || latest.ID != id {
		return record, errors.Join(err, refuse(http.StatusConflict, "sweep %d is not the latest of its site any more: the ledger has gone on without it; start a new one", id))
	}
	if err := s.freeLocked(record.SiteID); err != nil {
		return record, err
	}
	if err := s.books.Free(record.SiteID); err != nil {
		return record, err
	}
	site, err := s.store.Site(ctx, record.SiteID)
	if err != nil {
		return record, err
	}
	w, err := s.vantages.Open(record.Vantage)
	if err != nil {
		return record, err
	}
	order, err := s.orderOf(site, record, w.Link())
	if err != nil {
		return record, err
	}
	if order.Known, err = s.store.Sightings(ctx, id); err != nil {
		return record, err
	}
	if order.Credentials, order.Preferred, err = s.credentials(ctx, site.ID); err != nil {
		return record, err
	}
	if order.Expected, err = s.store.SeenAddrs(ctx, site.ID); err != nil {
		return record, err
	}
	engine, err := s.books.EngineOf(ctx, site)
	if err != nil {
		return record, err
	}
	order.Resume = record.Place
	remark(ctx, "%s", sweepText(record))
	record.State, record.Failure, record.Ended = store.Running, "", time.Time{}
	if err := s.store.SaveSweep(ctx, record); err != nil {
		return record, err
	}
	return record, s.launchLocked(engine, record, w, order, s.books.Reenter, "Continued by "+personOf(ctx).name+".")
}

// sweepText says in a line what a sweep looks at.
func sweepText(record store.Sweep) string {
	text := record.Ranges
	if record.Exclusions != "" {
		text += " without " + record.Exclusions
	}
	return fmt.Sprintf("%s from %s, %s, %s ports", text, record.Vantage, record.Pace, record.Ports)
}

// settleWait is how long a sweep that has ended is given to be put away, before another is refused because of it.
const settleWait = 5 * time.Second

// settle waits for sweeps of a site that have ended and are being put away, as whoever has just seen the end of one has
// every right to go on.
func (s *sweeper) settle(ctx context.Context, site uint64) {
	s.mu.Lock()
	var ending []*job
	for _, j := range s.jobs {
		if record := j.record(); record.SiteID == site && record.State != store.Running {
			ending = append(ending, j)
		}
	}
	s.mu.Unlock()
	limit := time.After(settleWait)
	select {
	case <-s.takenUp:
	case <-ctx.Done():
		return
	case <-limit:
		return
	}
	for _, j := range ending {
		select {
		case <-j.done:
		case <-ctx.Done():
			return
		case <-limit:
			return
		}
	}
}

// freeLocked refuses where a sweep of the site runs already, what an earlier run has seen is being entered, or the service ends.
func (s *sweeper) freeLocked(site uint64) error {
	select {
	case <-s.takenUp:
	default:
		return refuse(http.StatusServiceUnavailable, "what was seen before the service started is still being entered: try again in a moment")
	}
	for _, j := range s.jobs {
		if running := j.record(); running.SiteID == site {
			return &refusedError{status: http.StatusConflict, kind: kindSweepRunning, text: fmt.Sprintf("sweep %d of this site is running: wait for its end, or stop it", running.ID)}
		}
	}
	if s.closed[site] {
		return refuse(http.StatusConflict, "something of this site is being changed: try again in a moment")
	}
	if s.base.Err() != nil {
		return refuse(http.StatusServiceUnavailable, "the service is shutting down")
	}
	return nil
}

func (s *sweeper) launchLocked(engine *identify.Engine, record store.Sweep, w wire.Wire, order sweep.Order, enter books.Entering, first string) error {
	journal, err := s.spool.Journal(record.ID)
	if err != nil {
		// Without the spool a sweep is still worth having; what is seen is written within a second.
		slog.Error("no journal for a sweep", "sweep", record.ID, "error", err)
		journal = spool.NoJournal(err)
	}
	jobCtx, stop := context.WithCancel(s.base)
	j := newJob(record, engine, s.store, s.spool, journal, stop)
	j.note("%s", first)
	s.jobs[record.ID] = j
	s.running.Go(func() {
		defer close(j.done)
		defer stop()
		written := j.run(jobCtx, s.base, w, order, enter)
		if err := journal.Close(); err != nil {
			slog.Error("journal of a sweep", "sweep", record.ID, "error", err)
		}
		if written {
			if err := s.spool.Remove(record.ID); err != nil {
				slog.Error("journal of a sweep", "sweep", record.ID, "error", err)
			}
		}
		s.mu.Lock()
		defer s.mu.Unlock()
		delete(s.jobs, record.ID)
	})
	return nil
}

// vantage finds the place to sweep from; a name may be left out where there is only one.
func (s *sweeper) vantage(name string) (wire.Wire, error) {
	if name != "" {
		return s.vantages.Open(name)
	}
	links, err := s.vantages.Links()
	if err != nil {
		return nil, err
	}
	if len(links) == 1 {
		return s.vantages.Open(links[0].Name)
	}
	names := make([]string, len(links))
	for i, l := range links {
		names[i] = l.Name
	}
	return nil, refuse(http.StatusUnprocessableEntity, "say from which interface to sweep: this machine has %s", strings.Join(names, ", "))
}

// ownPace is the name of a pace of one's own.
const ownPace = "own"

// plan makes the record of a sweep out of what was asked for.
func plan(site store.Site, wanted api.NewSweep) (store.Sweep, error) {
	record := store.Sweep{
		SiteID: site.ID, Name: strings.TrimSpace(wanted.Name), Pace: wanted.Pace, Seed: sweep.RandomSeed(), State: store.Running, Began: time.Now().UTC(),
		Ports: strings.TrimSpace(wanted.Ports),
	}
	if record.Pace == "" {
		record.Pace = sweep.Steady.Name
	}
	if record.Ports == "" {
		record.Ports = sweep.PortsTelling
	}
	var err error
	if record.Figures, err = paceOf(record.Pace, wanted.Figures); err != nil {
		return record, refuse(http.StatusUnprocessableEntity, "%v", err)
	}
	record.Plan = fromPlan(wanted.Plan)
	if err := record.Plan.Check(); err != nil {
		return record, refuse(http.StatusUnprocessableEntity, "%v", err)
	}
	if len(site.Networks) == 0 {
		return record, refuse(http.StatusUnprocessableEntity,
			"site %s has no network yet, and it is swept in its networks only: add one first", site.Name)
	}
	record.Ranges, record.Exclusions = strings.TrimSpace(wanted.Ranges), strings.TrimSpace(wanted.Exclusions)
	if record.Ranges == "" {
		record.Ranges = prefixTexts(slices.DeleteFunc(site.Fence(), tooLarge))
	}
	return record, nil
}

// maxRegistered is how many addresses of the register are asked beside whole networks.
const maxRegistered = 1000

// withRegistered adds to the ranges of a whole site the addresses of its register that lie in networks too large to be looked through.
func (s *sweeper) withRegistered(ctx context.Context, site store.Site, ranges string) (string, error) {
	entries, err := s.store.Register(ctx, site.ID)
	if err != nil {
		return "", err
	}
	large := slices.DeleteFunc(site.Fence(), func(p netip.Prefix) bool { return !tooLarge(p) })
	parts := strings.FieldsFunc(ranges, func(r rune) bool { return r == ',' })
	added := 0
	for _, e := range entries {
		if added < maxRegistered && slices.ContainsFunc(large, func(p netip.Prefix) bool { return p.Contains(e.Addr) }) {
			parts = append(parts, " "+e.Addr.String())
			added++
		}
	}
	return strings.TrimSpace(strings.Join(parts, ",")), nil
}

// tooLarge tells networks that cannot be looked through address by address, as those of IPv6. Who is there is found by
// calling all nodes of the segment at once.
func tooLarge(p netip.Prefix) bool { return netrange.FromPrefixes(p).Count() > netrange.MaxCount }

func paceOf(name string, figures *api.Pace) (sweep.Pace, error) {
	if name != ownPace {
		return sweep.PaceNamed(name)
	}
	if figures == nil {
		return sweep.Pace{}, errors.New("a pace of one's own needs its figures")
	}
	pace := sweep.Pace{
		Name: ownPace, Rate: figures.Rate, Devices: figures.Devices, PerDevice: figures.PerDevice, PerNetwork: figures.PerNetwork, Rounds: figures.Rounds,
		Broadcasts: figures.Broadcasts, Gap: time.Duration(figures.Gap) * time.Millisecond,
	}
	return pace, pace.Check()
}

// orderOf makes the order of a sweep out of its record.
func (s *sweeper) orderOf(site store.Site, record store.Sweep, link wire.Link) (sweep.Order, error) {
	if err := s.public.checkFence(site); err != nil {
		return sweep.Order{}, err
	}
	pace := record.Figures
	if pace.Rate == 0 { // a sweep that was stored before paces had figures
		var err error
		if pace, err = sweep.PaceNamed(record.Pace); err != nil {
			return sweep.Order{}, err
		}
	}
	ports, err := sweep.ParsePorts(record.Ports)
	if err != nil {
		return sweep.Order{}, refuse(http.StatusUnprocessableEntity, "%v", err)
	}
	ranges, err := record.Covered()
	if err != nil {
		return sweep.Order{}, err
	}
	excluded, err := netrange.Parse(record.Exclusions)
	if err != nil && !errors.Is(err, netrange.ErrEmpty) {
		return sweep.Order{}, err
	}
	servers := site.NameServers
	if len(servers) == 0 {
		servers = link.NameServers
	}
	order := sweep.Order{
		Ranges: ranges, Excluded: excluded, Fence: site.Fence(), Pace: pace, Ports: ports, NameServers: servers, Seed: record.Seed,
	}
	if err := record.Plan.Into(&order, time.Local); err != nil {
		return order, refuse(http.StatusUnprocessableEntity, "%v", err)
	}
	return order, order.Check()
}

func prefixTexts(prefixes []netip.Prefix) string {
	texts := make([]string, len(prefixes))
	for i, p := range prefixes {
		texts[i] = p.String()
	}
	return strings.Join(texts, ", ")
}

// rebuild computes a site's ledger anew from its sweeps, without the one of the number discard; 0 keeps them all. Until it is put in its
// place the ledger that there is stays in use, and sweeps go on.
func (s *sweeper) rebuild(ctx context.Context, siteID, discard uint64) error {
	release, err := s.holdForRebuild(ctx, siteID)
	if err != nil {
		return err
	}
	defer release()
	return s.books.Rewrite(ctx, siteID, discard, nil)
}

// renew computes a site's ledger anew since something has been changed by which it is told. That is noted with the change (Stale), and goes on where whoever has
// changed it waits no longer; what cannot be done now is done later.
func (s *sweeper) renew(ctx context.Context, site uint64) error {
	done := make(chan error, 1)
	s.mu.Lock()
	if s.base.Err() == nil {
		s.running.Go(func() { done <- s.rebuild(s.base, site, 0) })
	} else {
		done <- s.base.Err()
	}
	s.mu.Unlock()
	select {
	case err := <-done:
		return err
	case <-ctx.Done():
		return ctx.Err()
	}
}

// holdForRebuild keeps the sweeps of a site that there are as they are until it is released.
func (s *sweeper) holdForRebuild(ctx context.Context, site uint64) (release func(), err error) {
	s.settle(ctx, site)
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := s.freeLocked(site); err != nil {
		return nil, err
	}
	return s.books.Hold(site)
}

// aside does something while no sweep of a site runs, and none can start.
func (s *sweeper) aside(ctx context.Context, site uint64, do func() error) error {
	s.settle(ctx, site)
	if err := s.shut(site); err != nil {
		return err
	}
	defer func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		delete(s.closed, site)
	}()
	return do()
}

func (s *sweeper) shut(site uint64) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := s.freeLocked(site); err != nil {
		return err
	}
	s.closed[site] = true
	return nil
}

// discard removes a sweep and all that only it brought.
func (s *sweeper) discard(ctx context.Context, id uint64) error {
	record, err := s.store.Sweep(ctx, id)
	if err != nil {
		return err
	}
	remark(ctx, "%s", sweepText(record))
	if err := s.rebuild(ctx, record.SiteID, id); err != nil {
		return err
	}
	return s.spool.Remove(id)
}

// undo takes back what somebody has said of a device.
func (s *sweeper) undo(ctx context.Context, decision uint64) error {
	undone, site, anew, err := s.books.Undo(ctx, personOf(ctx).name, decision)
	if err != nil {
		return err
	}
	remark(ctx, "%s of device %d", undone.Kind, undone.Device)
	if anew {
		return s.rebuild(ctx, site, 0)
	}
	return nil
}

// rename gives a sweep a name, in the record of one that runs too.
func (s *sweeper) rename(ctx context.Context, id uint64, name string) error {
	if j := s.job(id); j != nil {
		j.mu.Lock()
		j.sweep.Name = strings.TrimSpace(name)
		j.mu.Unlock()
	}
	return s.store.NameSweep(ctx, id, strings.TrimSpace(name))
}

// find gives a sweep's record, from memory while it runs.
func (s *sweeper) find(ctx context.Context, id uint64) (store.Sweep, error) {
	if j := s.job(id); j != nil {
		return j.record(), nil
	}
	return s.store.Sweep(ctx, id)
}

func (s *sweeper) job(id uint64) *job {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.jobs[id]
}

// close waits until all sweeps have been written; the base context has ended before.
func (s *sweeper) close() { s.running.Wait() }
