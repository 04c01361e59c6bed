package service

import (
	"context"
	"net/http"
	"net/netip"
	"strings"
	"sync"
	"time"

	"airdrift/api"
	"airdrift/core/identify"
	"airdrift/core/ledger"
	"airdrift/core/register"
	"airdrift/core/sweep"
	"airdrift/core/wire"
	"airdrift/store"
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
	vantages Vantages
	rules    *identify.Rules
	base     context.Context // ends when the service does
	running  sync.WaitGroup

	mu     sync.Mutex // guards jobs; taken before ledger
	jobs   map[uint64]*job
	ledger sync.Mutex // held while the ledger of any site is changed
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
	record, order, err := plan(site, wanted)
	if err != nil {
		return store.Sweep{}, err
	}
	link := w.Link()
	record.Vantage, record.Gateway, record.OnLink = link.Name, link.Gateway, link.Prefixes
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, j := range s.jobs {
		if running := j.record(); running.SiteID == siteID {
			return store.Sweep{}, refuse(http.StatusConflict, "sweep %d of this site is running: wait for its end, or stop it", running.ID)
		}
	}
	if s.base.Err() != nil {
		return store.Sweep{}, refuse(http.StatusServiceUnavailable, "the service is shutting down")
	}
	if err := s.store.CreateSweep(ctx, &record); err != nil {
		return store.Sweep{}, err
	}
	jobCtx, stop := context.WithCancel(s.base)
	j := newJob(record, identify.New(s.rules, site.Overlay()), stop)
	s.jobs[record.ID] = j
	s.running.Go(func() {
		defer stop()
		j.run(jobCtx, s.store, w, order, s.enter)
		s.mu.Lock()
		defer s.mu.Unlock()
		delete(s.jobs, record.ID)
	})
	return record, nil
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

// plan makes the record and the order of a sweep out of what was asked for.
func plan(site store.Site, wanted api.NewSweep) (store.Sweep, sweep.Order, error) {
	record := store.Sweep{
		SiteID: site.ID, Pace: wanted.Pace, Seed: sweep.RandomSeed(), State: store.Running, Began: time.Now().UTC(),
	}
	if record.Pace == "" {
		record.Pace = sweep.Steady.Name
	}
	pace, err := sweep.PaceNamed(record.Pace)
	if err != nil {
		return record, sweep.Order{}, refuse(http.StatusUnprocessableEntity, "%v", err)
	}
	if len(site.Networks) == 0 {
		return record, sweep.Order{}, refuse(http.StatusUnprocessableEntity,
			"site %s has no network yet, and it is swept in its networks only: add one first", site.Name)
	}
	record.Ranges, record.Exclusions = strings.TrimSpace(wanted.Ranges), strings.TrimSpace(wanted.Exclusions)
	if record.Ranges == "" {
		record.Ranges = prefixTexts(site.Fence())
	}
	ranges, err := record.Covered()
	if err != nil {
		return record, sweep.Order{}, err
	}
	order := sweep.Order{Ranges: ranges, Fence: site.Fence(), Pace: pace, Ports: sweep.TellingPorts, Seed: record.Seed}
	record.Addresses = ranges.Count()
	return record, order, order.Check()
}

func prefixTexts(prefixes []netip.Prefix) string {
	texts := make([]string, len(prefixes))
	for i, p := range prefixes {
		texts[i] = p.String()
	}
	return strings.Join(texts, ", ")
}

// enter puts a sweep that has ended into its site's ledger.
func (s *sweeper) enter(ctx context.Context, record store.Sweep) (store.Sweep, error) {
	s.ledger.Lock()
	defer s.ledger.Unlock()
	site, err := s.store.Site(ctx, record.SiteID)
	if err != nil {
		return record, err
	}
	entries, err := s.store.Register(ctx, site.ID)
	if err != nil {
		return record, err
	}
	seen, err := s.seen(ctx, record)
	if err != nil {
		return record, err
	}
	engine := identify.New(s.rules, site.Overlay())
	err = s.store.ApplySweep(ctx, &record, func(known []ledger.Device) ([]ledger.Device, error) {
		result := ledger.Apply(known, entries, seen, engine)
		countChanges(&record, result.Changes)
		return result.Devices, nil
	})
	return record, err
}

// seen collects what the ledger needs of a sweep.
func (s *sweeper) seen(ctx context.Context, record store.Sweep) (ledger.Sweep, error) {
	covered, err := record.Covered()
	if err != nil {
		return ledger.Sweep{}, err
	}
	before, err := s.store.CoveredBefore(ctx, record.SiteID)
	if err != nil {
		return ledger.Sweep{}, err
	}
	sightings, err := s.store.Sightings(ctx, record.ID)
	return ledger.Sweep{
		ID: record.ID, Began: record.Began, Covered: covered, CoveredBefore: before, Stopped: record.State != store.Done,
		Gateway: record.Gateway, OnLink: record.OnLink, Sightings: sightings,
	}, err
}

func countChanges(record *store.Sweep, changes []ledger.Change) {
	record.Appeared, record.Vanished, record.Moved, record.Changed = 0, 0, 0, 0
	for _, c := range changes {
		switch c.Kind {
		case ledger.Appeared:
			record.Appeared++
		case ledger.Vanished:
			record.Vanished++
		case ledger.Moved:
			record.Moved++
		case ledger.Changed:
			record.Changed++
		}
	}
}

// importRegister lays entries over a site's register and gives every device its standing anew.
func (s *sweeper) importRegister(ctx context.Context, site uint64, entries []register.Entry, replace bool) (added, updated int, err error) {
	s.ledger.Lock()
	defer s.ledger.Unlock()
	covered, err := s.store.CoveredBefore(ctx, site)
	if err != nil {
		return 0, 0, err
	}
	return s.store.ImportRegister(ctx, site, entries, replace, func(devices []ledger.Device, all []register.Entry) ([]ledger.Device, error) {
		return ledger.Match(devices, all, covered), nil
	})
}

// takeUp enters what sweeps had seen when an earlier run of the service ended.
func (s *sweeper) takeUp(ctx context.Context) error {
	left, err := s.store.InterruptRunning(ctx)
	if err != nil {
		return err
	}
	for _, record := range left {
		if _, err := s.enter(ctx, record); err != nil {
			return err
		}
	}
	return nil
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
