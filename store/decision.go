package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"airdrift/core/ledger"
)

// Decided is a decision with what became of it.
type Decided struct {
	ledger.Decision
	EndedBy  uint64    // the decision that took its place; 0 for none
	UndoneBy string    // "" where it was not undone
	UndoneAt time.Time // zero where it was not undone
}

// Holds reports whether a decision applies still.
func (d Decided) Holds() bool { return d.EndedBy == 0 && d.UndoneAt.IsZero() }

// ErrDecided is returned where a decision to be undone does not hold any more.
var ErrDecided = errors.New("it does not hold any more: it was undone, or another took its place")

type decisionRow struct {
	ID       uint64
	SiteID   uint64
	Kind     string
	DeviceID uint64
	HeldBy   uint64
	Known    string
	Text     string
	Who      string
	At       time.Time
	EndedBy  uint64
	UndoneBy string
	UndoneAt *time.Time
}

func (decisionRow) TableName() string { return "decisions" }

func (r decisionRow) decided() (Decided, error) {
	d := Decided{Decision: ledger.Decision{ID: r.ID, Kind: ledger.DecisionKind(r.Kind), Device: r.DeviceID, Text: r.Text, By: r.Who, At: r.At}, EndedBy: r.EndedBy, UndoneBy: r.UndoneBy}
	if r.UndoneAt != nil {
		d.UndoneAt = *r.UndoneAt
	}
	if err := json.Unmarshal([]byte(r.Known), &d.Known); err != nil {
		return d, fmt.Errorf("stored decision %d: %w", r.ID, err)
	}
	return d, nil
}

func decisionsWhere(db *gorm.DB, where string, args ...any) ([]Decided, error) {
	var rows []decisionRow
	if err := db.Where(where, args...).Order("id").Find(&rows).Error; err != nil {
		return nil, err
	}
	list := make([]Decided, len(rows))
	for i, r := range rows {
		var err error
		if list[i], err = r.decided(); err != nil {
			return nil, err
		}
	}
	return list, nil
}

// holding is the condition under which a decision applies.
const holding = "ended_by = 0 AND undone_at IS NULL"

// Decisions gives the decisions of a site that hold, in the order in which they were made.
func (s *Store) Decisions(ctx context.Context, site uint64) ([]ledger.Decision, error) {
	list, err := decisionsWhere(s.db.WithContext(ctx), "site_id = ? AND "+holding, site)
	return plain(list), own(err, "decisions")
}

func plain(list []Decided) []ledger.Decision {
	decisions := make([]ledger.Decision, len(list))
	for i, d := range list {
		decisions[i] = d.Decision
	}
	return decisions
}

// DecisionsOf gives all decisions that were made of a device or apply to it, the newest first.
func (s *Store) DecisionsOf(ctx context.Context, device uint64) ([]Decided, error) {
	list, err := decisionsWhere(s.db.WithContext(ctx), "held_by = ? OR device_id = ?", device, device)
	slices.Reverse(list)
	return list, own(err, "decisions")
}

// Decide writes a decision of a device. It takes the place of those of its kind that apply to the device.
func (s *Store) Decide(ctx context.Context, device uint64, kind ledger.DecisionKind, text, by string, at time.Time) error {
	err := s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		d, site, err := lockDevice(tx, device)
		if err != nil {
			return err
		}
		known, err := json.Marshal(ledger.KnownBy(d))
		if err != nil {
			return err
		}
		row := decisionRow{SiteID: site, Kind: string(kind), DeviceID: device, HeldBy: device, Known: string(known), Text: text, Who: by, At: at}
		if err := tx.Create(&row).Error; err != nil {
			return err
		}
		ended := tx.Model(&decisionRow{}).Where("held_by = ? AND kind = ? AND id <> ? AND "+holding, device, kind, row.ID)
		if err := ended.Update("ended_by", row.ID).Error; err != nil {
			return err
		}
		return redecide(tx, site, d)
	})
	return own(err, fmt.Sprintf("device %d", device))
}

// Undo takes a decision back, so that the one holds again whose place it had taken. It gives the decision.
func (s *Store) Undo(ctx context.Context, decision uint64, by string, at time.Time) (undone ledger.Decision, err error) {
	err = s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		var row decisionRow
		if err := tx.Clauses(clause.Locking{Strength: "UPDATE"}).First(&row, decision).Error; err != nil {
			return err
		}
		was, err := row.decided()
		if err != nil {
			return err
		}
		if undone = was.Decision; !was.Holds() {
			return ErrDecided
		}
		if err := tx.Model(&row).Updates(map[string]any{"undone_by": by, "undone_at": at}).Error; err != nil {
			return err
		}
		if err := tx.Model(&decisionRow{}).Where("ended_by = ?", decision).Update("ended_by", 0).Error; err != nil {
			return err
		}
		if row.HeldBy == 0 {
			return nil
		}
		d, site, err := lockDevice(tx, row.HeldBy)
		if err != nil {
			return err
		}
		return redecide(tx, site, d)
	})
	return undone, own(err, fmt.Sprintf("decision %d", decision))
}

// DecisionSite gives the site of a decision.
func (s *Store) DecisionSite(ctx context.Context, decision uint64) (uint64, error) {
	var row decisionRow
	err := s.db.WithContext(ctx).Select("id, site_id").First(&row, decision).Error
	return row.SiteID, own(err, fmt.Sprintf("decision %d", decision))
}

func lockDevice(tx *gorm.DB, id uint64) (ledger.Device, uint64, error) {
	return deviceOf(tx.Clauses(clause.Locking{Strength: "UPDATE"}), id)
}

// redecide writes one device as the decisions that apply to it leave it, and nothing else.
func redecide(tx *gorm.DB, site uint64, d ledger.Device) error {
	list, err := decisionsWhere(tx, "held_by = ? AND "+holding, d.ID)
	if err != nil {
		return err
	}
	before, err := toDeviceRow(site, d)
	if err != nil {
		return err
	}
	decisions := plain(list)
	for i := range decisions {
		decisions[i].Device = d.ID // all are the device's own, whatever number it had when they were made
	}
	devices := []ledger.Device{d}
	ledger.Decide(devices, decisions)
	after, err := toDeviceRow(site, devices[0])
	if err != nil {
		return err
	}
	if err := tx.Save(&after).Error; err != nil {
		return err
	}
	return shiftCount(tx, before, after)
}

// saveHolders writes which device each decision of a site applies to, where that has changed.
func saveHolders(tx *gorm.DB, site uint64, devices []ledger.Device) error {
	holder := map[uint64]uint64{}
	for _, d := range devices {
		for _, decision := range d.Decisions {
			holder[decision] = d.ID
		}
	}
	var rows []decisionRow
	if err := tx.Select("id, held_by").Where("site_id = ? AND "+holding, site).Find(&rows).Error; err != nil {
		return err
	}
	for _, r := range rows {
		if r.HeldBy == holder[r.ID] {
			continue
		}
		if err := tx.Model(&decisionRow{}).Where("id = ?", r.ID).Update("held_by", holder[r.ID]).Error; err != nil {
			return err
		}
	}
	return nil
}
