package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"strings"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
	"airdrift/core/ledger"
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
)

// Sweep is one run of looking.
type Sweep struct {
	ID         uint64
	SiteID     uint64
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
}

func (sweepRow) TableName() string { return "sweeps" }

func toSweepRow(s Sweep) sweepRow {
	row := sweepRow{
		ID: s.ID, SiteID: s.SiteID, Vantage: fit(s.Vantage, 200), Ranges: s.Ranges, Exclusions: s.Exclusions, Pace: s.Pace, Seed: s.Seed,
		Figures: asJSON(s.Figures), Ports: s.Ports, Plan: asJSON(s.Plan), StartedBy: s.StartedBy, Place: asJSON(s.Place),
		State: string(s.State), Began: s.Began, Addresses: s.Addresses, Answered: s.Answered, Sent: s.Sent,
		Warnings: fit(strings.Join(s.Warnings, "\n"), maxText), Failure: fit(s.Failure, maxText),
		Appeared: s.Appeared, Vanished: s.Vanished, Moved: s.Moved, Changed: s.Changed,
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
		ID: r.ID, SiteID: r.SiteID, Vantage: r.Vantage, Ranges: r.Ranges, Exclusions: r.Exclusions, Pace: r.Pace, Seed: r.Seed,
		Ports: r.Ports, StartedBy: r.StartedBy,
		State: SweepState(r.State), Began: r.Began, Addresses: r.Addresses, Answered: r.Answered, Sent: r.Sent, Failure: r.Failure,
		Appeared: r.Appeared, Vanished: r.Vanished, Moved: r.Moved, Changed: r.Changed,
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
func (s *Store) Sweeps(ctx context.Context, site, before uint64, limit int) ([]Sweep, error) {
	query := s.db.WithContext(ctx).Where("site_id = ?", site).Order("id DESC").Limit(limit)
	if before > 0 {
		query = query.Where("id < ?", before)
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

type sightingRow struct {
	ID          uint64
	SweepID     uint64
	Addr        []byte
	MAC         string `gorm:"column:mac"`
	Ring        int
	LearnedFrom string
	Answered    bool
	FirstAt     time.Time
	Items       string
	Whole       bool
	DeviceID    uint64
	Unit        string
}

func (sightingRow) TableName() string { return "sightings" }

// Refused is a sighting that the database does not take, and why.
type Refused struct {
	Sighting evidence.Sighting
	Cause    error // wraps ErrRefused
}

// SaveSightings writes sightings of a sweep; one that is there already is written over. One that the database does not take
// holds back no other: it is given back.
func (s *Store) SaveSightings(ctx context.Context, sweep uint64, sightings []evidence.Sighting) ([]Refused, error) {
	rows := make([]sightingRow, len(sightings))
	of := map[sightingKey]int{}
	for i, sg := range sightings {
		items, err := json.Marshal(sg.Items)
		if err != nil {
			return nil, fmt.Errorf("sighting of %s: %w", sg.Who(), err)
		}
		rows[i] = sightingRow{
			SweepID: sweep, Addr: sortable(sg.Addr), MAC: sg.MAC.String(), Ring: sg.Ring, LearnedFrom: fit(sg.LearnedFrom, maxLearnedFrom),
			Answered: sg.Answered, FirstAt: sg.FirstAt, Items: string(items), Whole: sg.Whole, Unit: fit(sg.Unit, evidence.MaxUnit),
		}
		of[rows[i].key()] = i
	}
	upsert := s.db.WithContext(ctx).Clauses(clause.OnConflict{DoUpdates: clause.AssignmentColumns([]string{"answered", "items", "whole"})})
	var refused []Refused
	for _, part := range batches(rows, func(r sightingRow) int { return len(r.Items) + 200 }) {
		failed, err := saveEach(upsert.Session(&gorm.Session{}), part)
		if err != nil {
			return refused, own(err, "sightings")
		}
		for _, f := range failed {
			refused = append(refused, Refused{sightings[of[f.row.key()]], own(f.cause, "sighting")})
		}
	}
	return refused, nil
}

// maxLearnedFrom is what the column takes.
const maxLearnedFrom = 200

// sightingKey tells the sightings of a sweep apart.
type sightingKey struct{ addr, mac, unit string }

func (r sightingRow) key() sightingKey { return sightingKey{string(r.Addr), r.MAC, r.Unit} }

type refusedRow struct {
	row   sightingRow
	cause error
}

// saveEach writes rows together, and where the database does not take them in halves, until those are found that it refuses.
func saveEach(db *gorm.DB, rows []sightingRow) ([]refusedRow, error) {
	err := db.CreateInBatches(rows, batchSize).Error
	if err == nil || !isRefused(err) {
		return nil, err
	}
	if len(rows) == 1 {
		return []refusedRow{{rows[0], err}}, nil
	}
	half := len(rows) / 2
	first, err := saveEach(db, rows[:half])
	if err != nil {
		return first, err
	}
	second, err := saveEach(db, rows[half:])
	return append(first, second...), err
}

// Sightings gives all sightings of a sweep in order of their addresses, and for each the device that it was taken for, 0
// where it has not been entered into the ledger.
func (s *Store) Sightings(ctx context.Context, sweep uint64) ([]evidence.Sighting, []uint64, error) {
	return sightingsOf(s.db.WithContext(ctx), sweep)
}

func sightingsOf(db *gorm.DB, sweep uint64) ([]evidence.Sighting, []uint64, error) {
	var rows []sightingRow
	if err := db.Where("sweep_id = ?", sweep).Order("addr, mac, unit").Find(&rows).Error; err != nil {
		return nil, nil, own(err, "sightings")
	}
	sightings, devices := make([]evidence.Sighting, len(rows)), make([]uint64, len(rows))
	for i, r := range rows {
		sg, err := r.sighting()
		if err != nil {
			return nil, nil, err
		}
		sightings[i], devices[i] = sg, r.DeviceID
	}
	return sightings, devices, nil
}

func (r sightingRow) sighting() (evidence.Sighting, error) {
	sg := evidence.Sighting{Ring: r.Ring, LearnedFrom: r.LearnedFrom, Answered: r.Answered, Whole: r.Whole, FirstAt: r.FirstAt, Addr: fromSortable(r.Addr), Unit: r.Unit}
	var mac hwaddr.MAC
	if err := mac.UnmarshalText([]byte(r.MAC)); err != nil {
		return sg, fmt.Errorf("stored sighting %d: %w", r.ID, err)
	}
	sg.MAC = mac
	if err := json.Unmarshal([]byte(r.Items), &sg.Items); err != nil {
		return sg, fmt.Errorf("stored sighting %d: %w", r.ID, err)
	}
	return sg, nil
}

// SightingOf is one sighting of a device and the sweep it was made in.
type SightingOf struct {
	Sweep    uint64
	Sighting evidence.Sighting
}

// History gives the sightings of a device and of those that were merged into it, the newest sweep first.
func (s *Store) History(ctx context.Context, device ledger.Device, limit int) ([]SightingOf, error) {
	var rows []sightingRow
	if err := s.db.WithContext(ctx).Where("device_id IN ?", append([]uint64{device.ID}, device.Was...)).Order("sweep_id DESC, addr, mac").Limit(limit).Find(&rows).Error; err != nil {
		return nil, own(err, "sightings")
	}
	history := make([]SightingOf, len(rows))
	for i, r := range rows {
		sg, err := r.sighting()
		if err != nil {
			return nil, err
		}
		history[i] = SightingOf{r.SweepID, sg}
	}
	return history, nil
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

// sortable gives an address as 16 bytes that sort as addresses do, IPv4 before IPv6; empty for none.
func sortable(a netip.Addr) []byte {
	if !a.IsValid() {
		return []byte{}
	}
	b := a.As16()
	return b[:]
}

func fromSortable(b []byte) netip.Addr {
	a, _ := netip.AddrFromSlice(b)
	return a.Unmap()
}
