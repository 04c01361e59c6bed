package store

import (
	"context"
	"fmt"
	"slices"

	"gorm.io/gorm"

	"airdrift/core/inventory"
	"airdrift/core/ledger"
)

// columns are the fields that have a column of their own in the table of devices, with an index in the order of lists for most. All others that are sorted or
// filtered by are rows of a narrow table, so that a new field needs no change of the tables.
var columns = map[string]string{
	"address": "addr", "name": "name", "kind": "kind", "vendor": "vendor", "model": "model", "os": "os", "firmware": "firmware", "strength": "strength", "mac": "mac",
	"standing": "standing", "presence": "presence", "group": "group_name", "firstSeen": "first_seen", "lastSeen": "last_seen", "contested": "contested", "traits": "traits",
}

// columnOf gives what a field is sorted by in a query of the table of devices.
func columnOf(field string) string {
	if column, own := columns[field]; own {
		return column
	}
	return "COALESCE((SELECT value FROM device_fields f WHERE f.site_id = devices.site_id AND f.device_id = devices.id AND f.field = '" + likeEscape.Replace(field) + "'), '')"
}

// fieldRow is the value that a device has of a field without a column.
type fieldRow struct {
	SiteID   uint64
	DeviceID uint64
	Field    string
	Value    string
}

func (fieldRow) TableName() string { return "device_fields" }

// narrowFields are the fields that are written as rows.
func narrowFields() []*inventory.Field {
	return slices.DeleteFunc(inventory.Read(), func(f *inventory.Field) bool {
		_, own := columns[f.Name]
		return own || !f.Sorted && f.Filter == inventory.NoFilter
	})
}

// fieldsOf gives the rows of a device.
func fieldsOf(site uint64, d ledger.Device, fields []*inventory.Field) (rows []fieldRow) {
	for _, f := range fields {
		if value := f.Text(f.Of(d)); value != "" {
			rows = append(rows, fieldRow{site, d.ID, f.Name, cut(value)})
		}
	}
	return rows
}

// writeFields writes the fields of devices that have changed, over what there was of those that were known.
func (w *writer) writeFields(result *ledger.Result, changed []int) error {
	var rows []fieldRow
	var known []uint64
	fields := narrowFields()
	for _, i := range changed {
		d := result.Devices[i]
		if _, was := w.shelf.read[d.ID]; was || w.anew {
			known = append(known, d.ID)
		}
		rows = append(rows, fieldsOf(w.site, d, fields)...)
	}
	for ids := range slices.Chunk(known, batchSize) {
		if err := w.tx.Where("site_id = ? AND device_id IN ?", w.site, ids).Delete(&fieldRow{}).Error; err != nil {
			return err
		}
	}
	return createMany(w.tx, rows)
}

// fillFields writes the fields of all devices that were stored before there was a table of them.
func (s *Store) fillFields(ctx context.Context) error {
	var sites []uint64
	if err := s.db.WithContext(ctx).Model(&siteRow{}).Pluck("id", &sites).Error; err != nil {
		return err
	}
	fields := narrowFields()
	for _, site := range sites {
		err := s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
			for last := uint64(0); ; {
				devices, _, err := readDevices(tx, nil, "d.site_id = ? AND d.id > ? ORDER BY d.id LIMIT ?", site, last, batchSize)
				if err != nil || len(devices) == 0 {
					return err
				}
				var rows []fieldRow
				for _, d := range devices {
					rows, last = append(rows, fieldsOf(site, d, fields)...), d.ID
				}
				if err := createMany(tx, rows); err != nil {
					return err
				}
			}
		})
		if err != nil {
			return fmt.Errorf("site %d: %w", site, err)
		}
	}
	return nil
}
