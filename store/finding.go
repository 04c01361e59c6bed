package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"gorm.io/gorm"

	"airdrift/core/finding"
)

// FindingQuery says which findings to list, the worst first.
type FindingQuery struct {
	Site     uint64
	States   []string         // only those in these states; nil for all
	Severity finding.Severity // only those that are as bad or worse; 0 for all
	Worst    finding.Severity // only those that are no worse; 0 for all
	Rules    []string         // only those of these rules; nil for all
	Device   uint64           // only those of one device; 0 for all
	Devices  []uint64         // only those of these devices; nil for all
	After    *FindingMark     // leaves out what is not behind it; nil for none
	Limit    int
}

// FindingMark is the place of a finding in a list.
type FindingMark struct {
	Severity int
	ID       uint64
}

// FoundDevice is a device that a finding concerns.
type FoundDevice struct {
	ID     uint64
	Name   string
	Addr   string
	Kind   string
	Vendor string
	Model  string
}

// Found is a finding with the devices that it concerns.
type Found struct {
	finding.Finding
	On []FoundDevice
}

// Mark gives the place of a finding.
func (f Found) Mark() FindingMark { return FindingMark{int(f.Severity), f.ID} }

func (q FindingQuery) on(db *gorm.DB) *gorm.DB {
	db = db.Where("site_id = ?", q.Site)
	if len(q.States) > 0 {
		db = db.Where("state IN ?", q.States)
	}
	if q.Severity > 0 {
		db = db.Where("severity >= ?", int(q.Severity))
	}
	if q.Worst > 0 {
		db = db.Where("severity <= ?", int(q.Worst))
	}
	if len(q.Rules) > 0 {
		db = db.Where("rule IN ?", q.Rules)
	}
	if q.Device != 0 {
		db = db.Where("id IN (SELECT finding_id FROM finding_devices WHERE device_id = ?)", q.Device)
	}
	if q.Devices != nil {
		db = db.Where("id IN (SELECT finding_id FROM finding_devices WHERE device_id IN ?)", q.Devices)
	}
	return db
}

// Findings gives findings, the worst first.
func (s *Store) Findings(ctx context.Context, q FindingQuery) ([]Found, error) {
	db := q.on(s.db.WithContext(ctx))
	if m := q.After; m != nil {
		db = db.Where("severity < ? OR severity = ? AND id > ?", m.Severity, m.Severity, m.ID)
	}
	var rows []findingRow
	if err := db.Order("severity DESC, id").Limit(q.Limit).Find(&rows).Error; err != nil {
		return nil, own(err, "findings")
	}
	return s.found(ctx, rows)
}

// FindingsOf gives findings of a site by their numbers; it gives ErrNotFound where one is not there.
func (s *Store) FindingsOf(ctx context.Context, site uint64, ids []uint64) ([]Found, error) {
	ids = slices.Compact(slices.Sorted(slices.Values(ids)))
	var rows []findingRow
	if err := s.db.WithContext(ctx).Where("site_id = ? AND id IN ?", site, ids).Order("severity DESC, id").Find(&rows).Error; err != nil {
		return nil, own(err, "findings")
	}
	if len(rows) != len(ids) {
		return nil, fmt.Errorf("one of the findings: %w", ErrNotFound)
	}
	return s.found(ctx, rows)
}

func (s *Store) found(ctx context.Context, rows []findingRow) ([]Found, error) {
	list := make([]Found, len(rows))
	ids := map[uint64]bool{}
	for i, r := range rows {
		f, err := r.finding()
		if err != nil {
			return nil, fmt.Errorf("stored finding %d: %w", r.ID, err)
		}
		list[i].Finding = f
		for _, d := range f.Devices {
			ids[d] = true
		}
	}
	devices, err := s.foundDevices(ctx, ids)
	if err != nil {
		return nil, err
	}
	for i := range list {
		for _, d := range list[i].Devices {
			if on, is := devices[d]; is {
				list[i].On = append(list[i].On, on)
			}
		}
	}
	return list, nil
}

func (s *Store) foundDevices(ctx context.Context, ids map[uint64]bool) (map[uint64]FoundDevice, error) {
	found := make(map[uint64]FoundDevice, len(ids))
	var all []uint64
	for id := range ids {
		all = append(all, id)
	}
	for from := 0; from < len(all); from += batchSize {
		var rows []deviceRow
		err := s.db.WithContext(ctx).Select("id, name, addr, kind, vendor, model, JSON_VALUE(record, '$.unit') AS record").Find(&rows, all[from:min(from+batchSize, len(all))]).Error
		if err != nil {
			return nil, own(err, "devices")
		}
		for _, r := range rows {
			d := FoundDevice{ID: r.ID, Name: r.Name, Kind: r.Kind, Vendor: r.Vendor, Model: r.Model}
			if a := fromSortable(r.Addr); a.IsValid() {
				d.Addr = a.String()
			} else {
				d.Addr = r.Record // which unit it is, and behind which address
			}
			found[r.ID] = d
		}
	}
	return found, nil
}

// FindingCount is how many findings of a rule are in a state.
type FindingCount struct {
	Rule     string
	Severity finding.Severity
	State    finding.State
	Findings int
}

// CountFindings counts the findings that are meant by rule, severity and state.
func (s *Store) CountFindings(ctx context.Context, q FindingQuery) ([]FindingCount, error) {
	var counts []FindingCount
	err := q.on(s.db.WithContext(ctx).Table("findings")).Select("rule, severity, state, COUNT(*) AS findings").
		Group("rule, severity, state").Order("severity DESC, rule, state").Scan(&counts).Error
	return counts, own(err, "findings")
}

// Finding gives one finding and its site.
func (s *Store) Finding(ctx context.Context, id uint64) (Found, uint64, error) {
	var row findingRow
	if err := s.db.WithContext(ctx).First(&row, id).Error; err != nil {
		return Found{}, 0, own(err, fmt.Sprintf("finding %d", id))
	}
	list, err := s.Findings(ctx, FindingQuery{Site: row.SiteID, Rules: []string{row.Rule}, After: &FindingMark{row.Severity, id - 1}, Limit: 1})
	if err != nil || len(list) == 0 || list[0].ID != id {
		return Found{}, 0, errors.Join(err, fmt.Errorf("finding %d: %w", id, ErrNotFound))
	}
	return list[0], row.SiteID, nil
}

// ErrNotOpen is returned where a finding to be accepted is closed.
var ErrNotOpen = errors.New("it is closed: there is nothing to accept")

// ReopenFindings takes the acceptance of findings of a site back.
func (s *Store) ReopenFindings(ctx context.Context, site uint64, ids []uint64) error {
	return s.changeFindings(ctx, site, ids, func(f *finding.Finding) error {
		if f.Accepted = nil; f.State == finding.Accepted {
			f.State = finding.Open
		}
		return nil
	})
}

func (s *Store) changeFindings(ctx context.Context, site uint64, ids []uint64, change func(*finding.Finding) error) error {
	err := s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error { return changeFindings(tx, site, ids, change) })
	return own(err, "findings")
}

func changeFindings(tx *gorm.DB, site uint64, ids []uint64, change func(*finding.Finding) error) error {
	list, err := findingsWhere(tx.Clauses(lockRow), "site_id = ? AND id IN ?", site, ids)
	if err != nil {
		return err
	}
	if len(list) != len(ids) {
		return gorm.ErrRecordNotFound
	}
	for _, f := range list {
		if err := change(&f); err != nil {
			return fmt.Errorf("finding %d: %w", f.ID, err)
		}
		row, err := toFindingRow(site, f)
		if err != nil {
			return err
		}
		if err := tx.Save(&row).Error; err != nil {
			return err
		}
	}
	return nil
}

type findingSettingRow struct {
	SiteID  uint64 `gorm:"primaryKey"`
	Rule    string `gorm:"primaryKey"`
	Setting string
}

func (findingSettingRow) TableName() string { return "finding_settings" }

// FindingSettings gives what a site says of the rules that judge it.
func (s *Store) FindingSettings(ctx context.Context, site uint64) ([]finding.Setting, error) {
	var rows []findingSettingRow
	if err := s.db.WithContext(ctx).Where("site_id = ?", site).Order("rule").Find(&rows).Error; err != nil {
		return nil, own(err, "settings of rules")
	}
	settings := make([]finding.Setting, len(rows))
	for i, r := range rows {
		if err := json.Unmarshal([]byte(r.Setting), &settings[i]); err != nil {
			return nil, fmt.Errorf("stored setting of the rule %s: %w", r.Rule, err)
		}
	}
	return settings, nil
}

// SetFindingSetting writes what a site says of a rule.
func (s *Store) SetFindingSetting(ctx context.Context, site uint64, setting finding.Setting) error {
	text, err := json.Marshal(setting)
	if err != nil {
		return err
	}
	return own(s.db.WithContext(ctx).Clauses(upsertAll).Create(&findingSettingRow{site, setting.Rule, string(text)}).Error, "rule "+setting.Rule)
}

// EndsOfSupport is the name of the list of ends of support.
const EndsOfSupport = "ends-of-support"

// FindingList is a list of a site's that rules look things up in, as CSV.
type FindingList struct {
	SiteID    uint64 `gorm:"primaryKey"`
	Name      string `gorm:"primaryKey"`
	Text      string
	ChangedBy string
	ChangedAt time.Time
}

// TableName is the table's.
func (FindingList) TableName() string { return "finding_lists" }

// FindingList gives a list; an empty one where there is none.
func (s *Store) FindingList(ctx context.Context, site uint64, name string) (FindingList, error) {
	list := FindingList{SiteID: site, Name: name}
	err := s.db.WithContext(ctx).Where("site_id = ? AND name = ?", site, name).Limit(1).Find(&list).Error
	return list, own(err, "list "+name)
}

// SaveFindingList writes a list over the one that there is.
func (s *Store) SaveFindingList(ctx context.Context, list FindingList) error {
	return own(s.db.WithContext(ctx).Clauses(upsertAll).Create(&list).Error, "list "+list.Name)
}
