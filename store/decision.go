package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"time"

	"gorm.io/gorm"

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
	Other    string // likewise of what it is about beside the device; empty where that is nothing
	Text     string
	Who      string
	At       time.Time
	EndedBy  uint64
	UndoneBy string
	UndoneAt *time.Time
}

func (decisionRow) TableName() string { return "decisions" }

func (r decisionRow) decided() (Decided, error) {
	d := Decided{Decision: ledger.Decision{ID: r.ID, Kind: ledger.DecisionKind(r.Kind), Device: r.DeviceID, Holder: r.HeldBy, Text: r.Text, By: r.Who, At: r.At}, EndedBy: r.EndedBy, UndoneBy: r.UndoneBy}
	if r.UndoneAt != nil {
		d.UndoneAt = *r.UndoneAt
	}
	if err := json.Unmarshal([]byte(r.Known), &d.Known); err != nil {
		return d, fmt.Errorf("stored decision %d: %w", r.ID, err)
	}
	if r.Other != "" {
		if err := json.Unmarshal([]byte(r.Other), &d.Other); err != nil {
			return d, fmt.Errorf("stored decision %d: %w", r.ID, err)
		}
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

// SettleSaid holds devices against what people have said.
type SettleSaid func(shelf ledger.Shelf, result *ledger.Result, decisions []ledger.Decision) (gone []uint64, err error)

// Decide writes a decision of the device of its number, and gives its own. It takes the place of those of its kind that apply to the
// device. Where it concerns others too, settle finds them; it is nil where it does not.
func (s *Store) Decide(ctx context.Context, said ledger.Decision, settle SettleSaid) (number uint64, err error) {
	err = s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		number, err = decide(tx, said, settle)
		return err
	})
	return number, own(err, fmt.Sprintf("device %d", said.Device))
}

func decide(tx *gorm.DB, said ledger.Decision, settle SettleSaid) (number uint64, err error) {
	d, site, err := lockDevice(tx, said.Device)
	if err != nil {
		return 0, err
	}
	said.Known = ledger.KnownBy(d)
	if said.Kind == ledger.DecidedLink {
		said.Known.Entry = 0 // it is another from now on
	}
	row, err := toDecisionRow(site, said)
	if err != nil {
		return 0, err
	}
	if err := tx.Create(&row).Error; err != nil {
		return 0, err
	}
	ended := tx.Model(&decisionRow{}).Where("held_by = ? AND kind = ? AND id <> ? AND "+holding, d.ID, said.Kind, row.ID)
	if err := ended.Update("ended_by", row.ID).Error; err != nil {
		return 0, err
	}
	return row.ID, redecide(tx, site, d, settle)
}

func toDecisionRow(site uint64, d ledger.Decision) (decisionRow, error) {
	known, err := json.Marshal(d.Known)
	if err != nil {
		return decisionRow{}, err
	}
	row := decisionRow{SiteID: site, Kind: string(d.Kind), DeviceID: d.Device, HeldBy: d.Device, Known: string(known), Text: d.Text, Who: d.By, At: d.At}
	if !reflect.ValueOf(d.Other).IsZero() {
		other, err := json.Marshal(d.Other)
		if err != nil {
			return decisionRow{}, err
		}
		row.Other = string(other)
	}
	return row, nil
}

// DecideTold writes that somebody has said what is one device and what is not. It stands beside others of its kind, and applies when the
// ledger is computed anew. It gives the decision's number.
func (s *Store) DecideTold(ctx context.Context, site uint64, d ledger.Decision) (uint64, error) {
	row, err := toDecisionRow(site, d)
	if err != nil {
		return 0, err
	}
	err = s.db.WithContext(ctx).Create(&row).Error
	return row.ID, own(err, fmt.Sprintf("device %d", d.Device))
}

// Forget deletes a decision that has never come to apply.
func (s *Store) Forget(ctx context.Context, decision uint64) error {
	return own(s.db.WithContext(ctx).Delete(&decisionRow{}, decision).Error, fmt.Sprintf("decision %d", decision))
}

// Undo takes a decision back, so that the one holds again whose place it had taken. settle is as for Decide.
func (s *Store) Undo(ctx context.Context, decision uint64, by string, at time.Time, settle SettleSaid) error {
	err := s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error { return undo(tx, decision, by, at, settle) })
	return own(err, fmt.Sprintf("decision %d", decision))
}

func undo(tx *gorm.DB, decision uint64, by string, at time.Time, settle SettleSaid) error {
	var row decisionRow
	if err := tx.Clauses(lockRow).First(&row, decision).Error; err != nil {
		return err
	}
	was, err := row.decided()
	if err != nil {
		return err
	}
	if !was.Holds() {
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
	return redecide(tx, site, d, settle)
}

// Decision gives one decision and its site.
func (s *Store) Decision(ctx context.Context, decision uint64) (ledger.Decision, uint64, error) {
	var row decisionRow
	if err := s.db.WithContext(ctx).First(&row, decision).Error; err != nil {
		return ledger.Decision{}, 0, own(err, fmt.Sprintf("decision %d", decision))
	}
	d, err := row.decided()
	return d.Decision, row.SiteID, err
}

func lockDevice(tx *gorm.DB, id uint64) (ledger.Device, uint64, error) {
	if err := tx.Clauses(lockRow).Select("id").First(&deviceRow{}, id).Error; err != nil {
		return ledger.Device{}, 0, err
	}
	return deviceOf(tx, id)
}

// redecide writes one device as the decisions that apply to it leave it, and others only where settle finds them.
func redecide(tx *gorm.DB, site uint64, d ledger.Device, settle SettleSaid) error {
	if settle != nil {
		holding, err := decisionsWhere(tx, "site_id = ? AND "+holding, site)
		if err != nil {
			return err
		}
		return resettle(tx, site, func(shelf ledger.Shelf, result *ledger.Result) ([]uint64, error) {
			return settle(shelf, result, plain(holding))
		})
	}
	list, err := decisionsWhere(tx, "held_by = ? AND "+holding, d.ID)
	if err != nil {
		return err
	}
	before, err := toDeviceRow(site, d)
	if err != nil {
		return err
	}
	devices := []ledger.Device{d}
	ledger.Decide(devices, plain(list))
	after, err := toDeviceRow(site, devices[0])
	if err != nil {
		return err
	}
	if err := tx.Model(&deviceRow{}).Where("id = ?", d.ID).Select("standing", "group_name", "record").Updates(&after).Error; err != nil {
		return err
	}
	words := newWordBook(site, 1)
	words.add(devices[0])
	if err := words.write(tx); err != nil {
		return err
	}
	if err := markUnjudged(tx, site, []uint64{d.ID}); err != nil {
		return err
	}
	return shiftCount(tx, before, after)
}
