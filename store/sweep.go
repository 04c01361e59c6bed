package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"strings"
	"time"

	"airdrift/core/netrange"
	"airdrift/core/sweep"
)

// SweepState is how far a sweep has come.
type SweepState string

// The states there are.
const (
	Running     SweepState = "running"
	Done        SweepState = "done"
	Stopped     SweepState = "stopped"     // by somebody; what was seen is kept
	Interrupted SweepState = "interrupted" // the service ended while it ran
	Failed      SweepState = "failed"      // by a fault on our own side
	Importing   SweepState = "importing"   // it comes in from a file, and is not there yet
)

// Sweep is one run of looking.
type Sweep struct {
	ID         uint64
	SiteID     uint64
	Name       string // that somebody gave it; "" for none
	Vantage    string
	Ranges     string // as somebody wrote them, in a form that netrange reads
	Exclusions string
	Pace       string
	Figures    sweep.Pace // of a pace of one's own
	Ports      string     // as somebody wrote them, in a form that sweep reads
	Plan       sweep.Plan
	StartedBy  string
	Place      sweep.Resume // where it could go on
	Seed       uint64
	State      SweepState
	Began      time.Time
	Ended      time.Time // zero while it runs
	Addresses  uint64
	Answered   uint64
	Sent       uint64
	Gateway    netip.Addr
	OnLink     []netip.Prefix
	Warnings   []string
	Failure    string
	Appeared   int
	Vanished   int
	Moved      int
	Changed    int
	Pinned     bool // its evidence stays, whatever the site keeps
	Settled    bool // the ledger is computed from behind it on
	Thinned    bool // its evidence is gone
}

// Covered gives the addresses the sweep looks at.
func (s Sweep) Covered() (netrange.Set, error) {
	set, err := netrange.Parse(s.Ranges)
	if errors.Is(err, netrange.ErrEmpty) {
		return netrange.Set{}, nil // of a network of IPv6, in which nobody is called by name
	}
	if err != nil || s.Exclusions == "" {
		return set, err
	}
	holes, err := netrange.Parse(s.Exclusions)
	if err != nil {
		return netrange.Set{}, fmt.Errorf("in what is left out: %w", err)
	}
	return set.Without(holes), nil
}

const (
	maxText    = 60_000 // of a column of the type TEXT, in bytes
	maxLogText = 4_000
)

type sweepRow struct {
	ID         uint64
	SiteID     uint64
	Name       string
	Vantage    string
	Ranges     string
	Exclusions string
	Pace       string
	Figures    string
	Ports      string
	Plan       string
	StartedBy  string
	Place      string
	Seed       uint64
	State      string
	Began      time.Time
	Ended      *time.Time
	Addresses  uint64
	Answered   uint64
	Sent       uint64
	Gateway    string
	OnLink     string
	Warnings   string
	Failure    string
	Appeared   int
	Vanished   int
	Moved      int
	Changed    int
	Pinned     bool
	Settled    bool
	Thinned    bool
}

func (sweepRow) TableName() string { return "sweeps" }

func toSweepRow(s Sweep) sweepRow {
	row := sweepRow{
		ID: s.ID, SiteID: s.SiteID, Name: fit(s.Name, 200), Vantage: fit(s.Vantage, 200), Ranges: s.Ranges, Exclusions: s.Exclusions, Pace: s.Pace, Seed: s.Seed,
		Figures: asJSON(s.Figures), Ports: s.Ports, Plan: asJSON(s.Plan), StartedBy: s.StartedBy, Place: asJSON(s.Place),
		State: string(s.State), Began: s.Began, Addresses: s.Addresses, Answered: s.Answered, Sent: s.Sent,
		Warnings: fit(strings.Join(s.Warnings, "\n"), maxText), Failure: fit(s.Failure, maxText),
		Appeared: s.Appeared, Vanished: s.Vanished, Moved: s.Moved, Changed: s.Changed, Pinned: s.Pinned, Settled: s.Settled, Thinned: s.Thinned,
	}
	if !s.Ended.IsZero() {
		row.Ended = &s.Ended
	}
	if s.Gateway.IsValid() {
		row.Gateway = s.Gateway.String()
	}
	links := make([]string, len(s.OnLink))
	for i, p := range s.OnLink {
		links[i] = p.String()
	}
	row.OnLink = fit(strings.Join(links, " "), 1000)
	return row
}

func (r sweepRow) sweep() Sweep {
	s := Sweep{
		ID: r.ID, SiteID: r.SiteID, Name: r.Name, Vantage: r.Vantage, Ranges: r.Ranges, Exclusions: r.Exclusions, Pace: r.Pace, Seed: r.Seed,
		Ports: r.Ports, StartedBy: r.StartedBy,
		State: SweepState(r.State), Began: r.Began, Addresses: r.Addresses, Answered: r.Answered, Sent: r.Sent, Failure: r.Failure,
		Appeared: r.Appeared, Vanished: r.Vanished, Moved: r.Moved, Changed: r.Changed, Pinned: r.Pinned, Settled: r.Settled, Thinned: r.Thinned,
	}
	if r.Ended != nil {
		s.Ended = *r.Ended
	}
	s.Gateway, _ = netip.ParseAddr(r.Gateway) // empty where there is none
	for text := range strings.FieldsSeq(r.OnLink) {
		if p, err := netip.ParsePrefix(text); err == nil {
			s.OnLink = append(s.OnLink, p)
		}
	}
	_ = json.Unmarshal([]byte(r.Figures), &s.Figures) // written by us; empty where there are none
	_ = json.Unmarshal([]byte(r.Place), &s.Place)     // likewise
	_ = json.Unmarshal([]byte(r.Plan), &s.Plan)       // likewise
	if r.Warnings != "" {
		s.Warnings = strings.Split(r.Warnings, "\n")
	}
	return s
}

// asJSON writes a value of plain fields, which never fails.
func asJSON(value any) string {
	text, err := json.Marshal(value)
	if err != nil {
		panic("store: a value of plain fields could not be written as JSON: " + err.Error())
	}
	return string(text)
}

// CreateSweep stores a new sweep and gives it its ID.
func (s *Store) CreateSweep(ctx context.Context, sweep *Sweep) error {
	sweep.Began = sweep.Began.Truncate(time.Microsecond) // what the column holds
	row := toSweepRow(*sweep)
	err := s.db.WithContext(ctx).Create(&row).Error
	sweep.ID = row.ID
	return own(err, "sweep")
}

// SaveSweep writes a sweep that is stored already.
func (s *Store) SaveSweep(ctx context.Context, sweep Sweep) error {
	row := toSweepRow(sweep)
	return own(s.db.WithContext(ctx).Save(&row).Error, fmt.Sprintf("sweep %d", sweep.ID))
}

// NameSweep gives a sweep a name; an empty one clears it.
func (s *Store) NameSweep(ctx context.Context, sweep uint64, name string) error {
	if _, err := s.Sweep(ctx, sweep); err != nil {
		return err
	}
	return own(s.db.WithContext(ctx).Model(&sweepRow{}).Where("id = ?", sweep).Update("name", fit(name, 200)).Error, fmt.Sprintf("sweep %d", sweep))
}

// PinSweep says whether a sweep's evidence stays, whatever its site keeps.
func (s *Store) PinSweep(ctx context.Context, sweep uint64, pinned bool) error {
	return own(s.db.WithContext(ctx).Model(&sweepRow{}).Where("id = ?", sweep).Update("pinned", pinned).Error, fmt.Sprintf("sweep %d", sweep))
}

// AllSweeps gives all sweeps of a site that have ended, the oldest first.
func (s *Store) AllSweeps(ctx context.Context, site uint64) ([]Sweep, error) {
	var rows []sweepRow
	if err := s.db.WithContext(ctx).Where("site_id = ? AND state NOT IN ?", site, []SweepState{Running, Importing}).Order("began, id").Find(&rows).Error; err != nil {
		return nil, own(err, "sweeps")
	}
	sweeps := make([]Sweep, len(rows))
	for i, r := range rows {
		sweeps[i] = r.sweep()
	}
	return sweeps, nil
}

// HasSweep reports whether a site has a sweep already that began at a time and was made from a vantage.
func (s *Store) HasSweep(ctx context.Context, site uint64, vantage string, began time.Time) (bool, error) {
	var n int64
	err := s.db.WithContext(ctx).Model(&sweepRow{}).Where("site_id = ? AND vantage = ? AND began = ? AND state <> ?", site, fit(vantage, 200), began, Importing).Count(&n).Error
	return n > 0, own(err, "sweeps")
}

// RemoveImports deletes what came in of sweeps from files that are not complete yet: those of these numbers, or without any all.
func (s *Store) RemoveImports(ctx context.Context, sweeps ...uint64) error {
	query := s.db.WithContext(ctx).Where("state = ?", Importing)
	if len(sweeps) > 0 {
		query = query.Where("id IN ?", sweeps)
	}
	return own(query.Delete(&sweepRow{}).Error, "sweeps")
}

// SavePlace writes how far a running sweep has come.
func (s *Store) SavePlace(ctx context.Context, sweep Sweep) error {
	err := s.db.WithContext(ctx).Model(&sweepRow{}).Where("id = ?", sweep.ID).
		Updates(map[string]any{"place": asJSON(sweep.Place), "answered": sweep.Answered}).Error
	return own(err, fmt.Sprintf("sweep %d", sweep.ID))
}

// Sweep gives one sweep.
func (s *Store) Sweep(ctx context.Context, id uint64) (Sweep, error) {
	var row sweepRow
	err := s.db.WithContext(ctx).First(&row, id).Error
	return row.sweep(), own(err, fmt.Sprintf("sweep %d", id))
}

// Sweeps gives a site's sweeps, the newest first; before is the ID to start below, 0 for the newest.
func (s *Store) Sweeps(ctx context.Context, site uint64, below SweepMark, limit int) ([]Sweep, error) {
	query := below.below(s.db.WithContext(ctx).Where("site_id = ? AND state <> ?", site, Importing)).Order("began DESC, id DESC").Limit(limit)
	var rows []sweepRow
	if err := query.Find(&rows).Error; err != nil {
		return nil, own(err, "sweeps")
	}
	sweeps := make([]Sweep, len(rows))
	for i, r := range rows {
		sweeps[i] = r.sweep()
	}
	return sweeps, nil
}

// LatestSweep gives the sweep of a site that began last; ErrNotFound where it has none.
func (s *Store) LatestSweep(ctx context.Context, site uint64) (Sweep, error) {
	var row sweepRow
	err := s.db.WithContext(ctx).Where("site_id = ? AND state <> ?", site, Importing).Order("began DESC, id DESC").First(&row).Error
	return row.sweep(), own(err, "sweeps")
}

// EndedSweeps gives the sweeps of a site that have ended and are whole, the oldest first: those of some numbers, or all.
func (s *Store) EndedSweeps(ctx context.Context, site uint64, numbers []uint64) ([]Sweep, error) {
	query := s.db.WithContext(ctx).Where("site_id = ? AND state IN ? AND NOT thinned", site, []SweepState{Done, Stopped, Interrupted}).Order("began, id")
	if len(numbers) > 0 {
		query = query.Where("id IN ?", numbers)
	}
	var rows []sweepRow
	if err := query.Find(&rows).Error; err != nil {
		return nil, own(err, "sweeps")
	}
	sweeps := make([]Sweep, len(rows))
	for i, r := range rows {
		sweeps[i] = r.sweep()
	}
	return sweeps, nil
}

// InterruptRunning marks sweeps as interrupted that an ended service has left running. It gives them.
func (s *Store) InterruptRunning(ctx context.Context) ([]Sweep, error) {
	var rows []sweepRow
	if err := s.db.WithContext(ctx).Where("state = ?", Running).Find(&rows).Error; err != nil {
		return nil, own(err, "sweeps")
	}
	sweeps := make([]Sweep, len(rows))
	for i, r := range rows {
		sweeps[i] = r.sweep()
		sweeps[i].State = Interrupted
	}
	err := s.db.WithContext(ctx).Model(&sweepRow{}).Where("state = ?", Running).Update("state", Interrupted).Error
	return sweeps, own(err, "sweeps")
}

// CoveredBefore gives what all whole sweeps of a site have covered.
func (s *Store) CoveredBefore(ctx context.Context, site uint64) (netrange.Set, error) {
	var rows []sweepRow
	err := s.db.WithContext(ctx).Select("DISTINCT ranges, exclusions").Where("site_id = ? AND state = ?", site, Done).Find(&rows).Error
	if err != nil {
		return netrange.Set{}, own(err, "sweeps")
	}
	var all netrange.Set
	for _, r := range rows {
		set, err := r.sweep().Covered()
		if err != nil {
			return netrange.Set{}, fmt.Errorf("stored ranges of a sweep: %w", err)
		}
		all = all.Union(set)
	}
	return all, nil
}

// LogLine is one entry of a sweep's log.
type LogLine struct {
	At   time.Time
	Text string
}

type logRow struct {
	ID      uint64
	SweepID uint64
	At      time.Time
	Text    string
}

func (logRow) TableName() string { return "sweep_log" }

// Log adds lines to a sweep's log.
func (s *Store) Log(ctx context.Context, sweep uint64, lines ...LogLine) error {
	if len(lines) == 0 {
		return nil
	}
	rows := make([]logRow, len(lines))
	for i, l := range lines {
		rows[i] = logRow{SweepID: sweep, At: l.At, Text: fit(l.Text, maxLogText)}
	}
	return own(s.db.WithContext(ctx).CreateInBatches(rows, batchSize).Error, "sweep's log")
}

// SweepLog gives a sweep's log from its beginning.
func (s *Store) SweepLog(ctx context.Context, sweep uint64) ([]LogLine, error) {
	var rows []logRow
	if err := s.db.WithContext(ctx).Where("sweep_id = ?", sweep).Order("id").Find(&rows).Error; err != nil {
		return nil, own(err, "sweep's log")
	}
	lines := make([]LogLine, len(rows))
	for i, r := range rows {
		lines[i] = LogLine{r.At, r.Text}
	}
	return lines, nil
}
