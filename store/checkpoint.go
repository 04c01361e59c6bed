package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"airdrift/core/ledger"
)

// checkpointRow is a device as the settled sweeps of a site have left it.
type checkpointRow struct {
	SiteID    uint64
	DeviceID  uint64
	Record    string // in the form of devices
	Places    string // where it was seen and what it held no more, likewise
	Facts     []byte
	FactsAt   *time.Time
	Passing   []byte
	LastSeen  *time.Time
	LastSweep uint64
}

func (checkpointRow) TableName() string { return "checkpoint_devices" }

// placesForm is where a device was seen, and what it held once.
type placesForm struct {
	Views   []viewForm   `json:"views,omitempty"`
	Ended   []tenureForm `json:"ended,omitempty"`
	Reasons []string     `json:"reasons,omitempty"`
}

type viewForm struct {
	Vantage string       `json:"vantage"`
	Addrs   []netip.Addr `json:"addrs,omitempty"`
	Seen    time.Time    `json:"seen"`
	Sweep   uint64       `json:"sweep"`
	Asked   uint64       `json:"asked,omitempty"`
}

// ErrThinned is returned where something is asked of evidence that is gone.
var ErrThinned = errors.New("the evidence of that time is no longer kept: its history stands, and is not computed anew")

// Thin takes the evidence of some sweeps away. What came of them stays: the ledger as the latest of them has left it is kept, and is where
// it is computed anew from. Who calls it keeps sweeps of the site from running.
func (s *Store) Thin(ctx context.Context, site uint64, sweeps []uint64, how Rebuilding) error {
	db := s.db.WithContext(ctx)
	var latest sweepRow
	if err := db.Where("site_id = ? AND id IN ?", site, sweeps).Order("began DESC, id DESC").First(&latest).Error; err != nil {
		return own(err, "sweeps")
	}
	r := newRebuild(db, site, 0, how)
	r.last = &SweepMark{latest.Began, latest.ID}
	if err := r.replay(db); err != nil {
		return own(err, fmt.Sprintf("ledger of site %d", site))
	}
	unlock, err := how.Lock(ctx)
	if err != nil {
		return err
	}
	defer unlock()
	err = db.Transaction(func(tx *gorm.DB) error {
		if err := r.keep(tx); err != nil {
			return err
		}
		for _, statement := range []string{
			"DELETE FROM sightings WHERE sweep_id IN ?", "DELETE FROM sweep_devices WHERE sweep_id IN ?", "DELETE FROM sweep_log WHERE sweep_id IN ?",
			"UPDATE sweeps SET thinned = TRUE WHERE id IN ?",
		} {
			if err := tx.Exec(statement, sweeps).Error; err != nil {
				return err
			}
		}
		return clearFactSets(tx, site)
	})
	return own(err, fmt.Sprintf("ledger of site %d", site))
}

// keep writes the ledger that was computed as the one to begin from.
func (r *rebuild) keep(tx *gorm.DB) error {
	for hash, set := range r.fresh {
		r.sets.tx = tx
		if err := r.sets.put(hash, set); err != nil {
			return err
		}
	}
	if err := tx.Where("site_id = ?", r.site).Delete(&checkpointRow{}).Error; err != nil {
		return err
	}
	rows := make([]checkpointRow, 0, batchSize)
	for i, d := range r.devices {
		if d.ID >= provisional {
			number, err := newNumber(tx, r.site)
			if err != nil {
				return err
			}
			r.facts[number], r.ended[number] = r.facts[d.ID], r.ended[d.ID]
			d.ID = number
		}
		row, err := r.checkpoint(d)
		if err != nil {
			return err
		}
		if rows = append(rows, row); len(rows) == batchSize || i == len(r.devices)-1 {
			for _, part := range batches(rows, func(r checkpointRow) int { return len(r.Record) + len(r.Places) + len(r.Passing) + 200 }) {
				if err := tx.Create(part).Error; err != nil {
					return err
				}
			}
			rows = rows[:0]
		}
	}
	settled := make([]uint64, 0, len(r.done))
	for id := range r.done {
		settled = append(settled, id)
	}
	for part := range slices.Chunk(settled, batchSize) {
		if err := tx.Model(&sweepRow{}).Where("id IN ?", part).Update("settled", true).Error; err != nil {
			return err
		}
	}
	return nil
}

func (r *rebuild) checkpoint(d ledger.Device) (checkpointRow, error) {
	record, err := toForm(d)
	if err != nil {
		return checkpointRow{}, err
	}
	places := placesForm{Reasons: d.Reasons}
	for _, v := range d.Views {
		places.Views = append(places.Views, viewForm{v.Vantage, v.Addrs, v.Seen.UTC(), v.Sweep, v.Asked})
	}
	for _, t := range r.ended[d.ID] {
		places.Ended = append(places.Ended, toTenureForm(t))
	}
	text, err := json.Marshal(places)
	if err != nil {
		return checkpointRow{}, err
	}
	packed := r.facts[d.ID]
	if packed.passing == nil {
		packed.passing = []byte{}
	}
	return checkpointRow{
		SiteID: r.site, DeviceID: d.ID, Record: string(record), Places: string(text), Facts: d.Facts[:], FactsAt: some(packed.at, !packed.at.IsZero()), Passing: packed.passing,
		LastSeen: some(d.LastSeen, !d.LastSeen.IsZero()), LastSweep: d.LastSweep,
	}, nil
}

// newNumber gives a number that no device has had.
func newNumber(tx *gorm.DB, site uint64) (uint64, error) {
	row := deviceRow{SiteID: site, Addr: []byte{}, Record: "{}", Facts: make([]byte, 16), Passing: []byte{}}
	if err := tx.Create(&row).Error; err != nil {
		return 0, err
	}
	return row.ID, tx.Delete(&row).Error
}

// begin takes up the ledger as the settled sweeps have left it.
func (r *rebuild) begin(db *gorm.DB) error {
	var settled []sweepRow
	if err := db.Where("site_id = ? AND settled", r.site).Order("began, id").Find(&settled).Error; err != nil || len(settled) == 0 {
		return err
	}
	sweeps := make([]Sweep, len(settled))
	for i, row := range settled {
		if row.ID == r.discard {
			return fmt.Errorf("sweep %d: %w", row.ID, ErrThinned)
		}
		if sweeps[i] = row.sweep(); r.behind(sweeps[i]) {
			return fmt.Errorf("sweep %d: %w", row.ID, ErrThinned)
		}
		r.done[row.ID] = true
	}
	for id := range r.how.Import {
		var row sweepRow
		if err := db.Select("id, began").First(&row, id).Error; err != nil {
			return err
		}
		if last := settled[len(settled)-1]; !row.Began.After(last.Began) {
			return fmt.Errorf("a sweep of %s: %w", row.Began.Format(time.RFC3339), ErrThinned)
		}
	}
	if err := r.readCheckpoint(db); err != nil {
		return err
	}
	devices, into, err := r.how.Begin(sweeps, r.devices, replayed{nil, r}.Items)
	if err != nil {
		return err
	}
	for from, to := range into {
		r.into[from] = to
		r.ended[to] = append(r.ended[to], r.ended[from]...)
		delete(r.ended, from)
		if at := slices.IndexFunc(devices, func(d ledger.Device) bool { return d.ID == to }); at >= 0 && r.facts[to].at.Before(r.facts[from].at) {
			r.facts[to] = r.facts[from]
		}
	}
	r.devices = devices
	return nil
}

func (r *rebuild) readCheckpoint(db *gorm.DB) error {
	for last := uint64(0); ; {
		var rows []checkpointRow
		if err := db.Where("site_id = ? AND device_id > ?", r.site, last).Order("device_id").Limit(batchSize).Find(&rows).Error; err != nil || len(rows) == 0 {
			return err
		}
		for _, row := range rows {
			d, ended, err := row.device()
			if err != nil {
				return fmt.Errorf("stored device %d: %w", row.DeviceID, err)
			}
			r.devices = append(r.devices, d)
			r.facts[d.ID] = packedFacts{row.Passing, given(row.FactsAt)}
			if len(ended) > 0 {
				r.ended[d.ID] = ended
			}
		}
		last = rows[len(rows)-1].DeviceID
	}
}

func (row checkpointRow) device() (d ledger.Device, ended []ledger.Tenure, err error) {
	if d, err = fromForm([]byte(row.Record)); err != nil {
		return d, nil, err
	}
	var places placesForm
	if err := json.Unmarshal([]byte(row.Places), &places); err != nil {
		return d, nil, err
	}
	d.ID, d.LastSeen, d.LastSweep, d.Reasons = row.DeviceID, given(row.LastSeen), row.LastSweep, places.Reasons
	copy(d.Facts[:], row.Facts)
	for _, v := range places.Views {
		d.Views = append(d.Views, ledger.View{Vantage: shared(v.Vantage), Addrs: v.Addrs, Seen: v.Seen, Sweep: v.Sweep, Asked: v.Asked})
	}
	for _, t := range places.Ended {
		ended = append(ended, t.tenure())
	}
	return d, ended, nil
}

// clearFactSets deletes what no sighting and no device says any more, and words that none shares. Nobody writes sightings of the site meanwhile.
func clearFactSets(tx *gorm.DB, site uint64) error {
	for _, statement := range []string{
		"CREATE TEMPORARY TABLE said_still (hash BINARY(16) NOT NULL PRIMARY KEY)",
		"INSERT IGNORE INTO said_still SELECT s.facts FROM sightings s JOIN sweeps w ON w.id = s.sweep_id WHERE w.site_id = @site",
		"INSERT IGNORE INTO said_still SELECT s.facts FROM drafts s JOIN sweeps w ON w.id = s.sweep_id WHERE w.site_id = @site",
		"INSERT IGNORE INTO said_still SELECT facts FROM devices WHERE site_id = @site",
		"INSERT IGNORE INTO said_still SELECT facts FROM checkpoint_devices WHERE site_id = @site",
		"DELETE f FROM fact_sets f LEFT JOIN said_still s ON s.hash = f.hash WHERE f.site_id = @site AND s.hash IS NULL",
		"DROP TEMPORARY TABLE said_still",
		"DELETE w FROM shared_words w LEFT JOIN device_words d ON d.site_id = w.site_id AND d.shared = w.hash WHERE w.site_id = @site AND d.device_id IS NULL",
	} {
		var args []any
		if strings.Contains(statement, "@site") {
			args = []any{map[string]any{"site": site}}
		}
		if err := tx.Exec(statement, args...).Error; err != nil {
			return err
		}
	}
	return nil
}
