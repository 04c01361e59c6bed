package store

import (
	"context"
	"time"

	"gorm.io/gorm"

	"airdrift/core/ledger"
)

// Change is what a sweep has found changed of a device.
type Change struct {
	ID        uint64
	Sweep     uint64
	Began     time.Time // of the sweep
	Device    uint64
	Name      string // of the device, as it is called now; "" where it is no more, or has none
	Addr      string // its first address now
	Kind      ledger.ChangeKind
	Attribute string
	Before    string
	After     string
}

// ChangeQuery says which changes to list. The zero value but for Site and Limit means all, the newest first.
type ChangeQuery struct {
	Site       uint64
	Sweep      uint64   // only those of one sweep; 0 for all
	Devices    []uint64 // only those of these devices; nil for all
	Kinds      []string
	Attributes []string
	Since      time.Time // only those of sweeps that began then or later
	Until      time.Time // only those of sweeps that began before
	Below      uint64    // only those with a lower number, to go on from a page; 0 for all
	Limit      int
}

type changeRow struct {
	ID        uint64
	SiteID    uint64
	SweepID   uint64
	DeviceID  uint64
	Kind      string
	Attribute string
	Was       string
	Became    string
}

func (changeRow) TableName() string { return "changes" }

// maxChange is what a column takes, in bytes.
const maxChange = 1000

// changesOf gives the rows of what a sweep has found changed.
func changesOf(sweep uint64, result ledger.Result) []changeRow {
	rows := make([]changeRow, len(result.Changes))
	for i, c := range result.Changes {
		rows[i] = changeRow{
			SweepID: sweep, DeviceID: result.Devices[c.Device].ID, Kind: string(c.Kind), Attribute: c.Attribute, Was: fit(c.Before, maxChange), Became: fit(c.After, maxChange),
		}
	}
	return rows
}

func saveChanges(tx *gorm.DB, site uint64, rows []changeRow) error {
	for i := range rows {
		rows[i].SiteID = site
	}
	return createMany(tx, rows)
}

// Changes gives changes, the newest first.
func (s *Store) Changes(ctx context.Context, q ChangeQuery) ([]Change, error) {
	db := s.db.WithContext(ctx).Table("changes c").Joins("JOIN sweeps s ON s.id = c.sweep_id").Joins("LEFT JOIN devices d ON d.id = c.device_id").
		Select("c.id, c.sweep_id, s.began, c.device_id, COALESCE(d.name, '') AS name, COALESCE(d.addr, '') AS addr, c.kind, c.attribute, c.was, c.became").
		Where("c.site_id = ?", q.Site)
	for _, limit := range []struct {
		set   bool
		where string
		value any
	}{
		{q.Sweep != 0, "c.sweep_id = ?", q.Sweep}, {q.Devices != nil, "c.device_id IN ?", q.Devices}, {len(q.Kinds) > 0, "c.kind IN ?", q.Kinds},
		{len(q.Attributes) > 0, "c.attribute IN ?", q.Attributes}, {!q.Since.IsZero(), "s.began >= ?", q.Since}, {!q.Until.IsZero(), "s.began < ?", q.Until},
		{q.Below != 0, "c.id < ?", q.Below},
	} {
		if limit.set {
			db = db.Where(limit.where, limit.value)
		}
	}
	var rows []struct {
		Row   changeRow `gorm:"embedded"`
		Began time.Time
		Name  string
		Addr  []byte
	}
	if err := db.Order("c.id DESC").Limit(q.Limit).Find(&rows).Error; err != nil {
		return nil, own(err, "changes")
	}
	changes := make([]Change, len(rows))
	for i, found := range rows {
		r := found.Row
		changes[i] = Change{
			ID: r.ID, Sweep: r.SweepID, Began: found.Began, Device: r.DeviceID, Name: found.Name, Kind: ledger.ChangeKind(r.Kind), Attribute: r.Attribute, Before: r.Was, After: r.Became,
		}
		if a := fromSortable(found.Addr); a.IsValid() {
			changes[i].Addr = a.String()
		}
	}
	return changes, nil
}

// SweepPorts gives the ports of all sweeps of a site as somebody wrote them, by the number of the sweep.
func (s *Store) SweepPorts(ctx context.Context, site uint64) (map[uint64]string, error) {
	var rows []sweepRow
	if err := s.db.WithContext(ctx).Select("id, ports").Where("site_id = ?", site).Find(&rows).Error; err != nil {
		return nil, own(err, "sweeps")
	}
	ports := make(map[uint64]string, len(rows))
	for _, r := range rows {
		ports[r.ID] = r.Ports
	}
	return ports, nil
}
