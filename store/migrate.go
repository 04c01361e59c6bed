package store

import (
	"context"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"strings"
	"time"

	"github.com/go-gormigrate/gormigrate/v2"
	"gorm.io/gorm"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
)

//go:embed migrations/*.sql
var migrationFiles embed.FS

// migrate carries out the numbered migrations that have not been yet.
func (s *Store) migrate(ctx context.Context) error {
	names, err := fs.Glob(migrationFiles, "migrations/*.sql")
	if err != nil {
		return err
	}
	steps := make([]*gormigrate.Migration, len(names))
	for i, name := range names {
		text, err := migrationFiles.ReadFile(name)
		if err != nil {
			return err
		}
		steps[i] = &gormigrate.Migration{
			ID:      strings.TrimSuffix(path.Base(name), ".sql"),
			Migrate: func(tx *gorm.DB) error { return execAll(tx, string(text)) },
		}
	}
	steps = append(steps, &gormigrate.Migration{ID: "0010_evidence_moved", Migrate: func(*gorm.DB) error { return s.moveEvidence(ctx) }})
	steps = append(steps, &gormigrate.Migration{ID: "0016_fields_filled", Migrate: func(*gorm.DB) error { return s.fillFields(ctx) }})
	options := *gormigrate.DefaultOptions
	options.ValidateUnknownMigrations = true
	err = gormigrate.New(s.db.WithContext(ctx), &options, steps).Migrate()
	if errors.Is(err, gormigrate.ErrUnknownPastMigration) {
		return errors.New("the database was written by a newer version of airdrift: run that version, or use another data directory")
	}
	if err != nil {
		return fmt.Errorf("bring the database's tables up to date: %w", err)
	}
	return nil
}

func execAll(tx *gorm.DB, text string) error {
	for statement := range strings.SplitSeq(text, ";\n") {
		if statement = strings.TrimSpace(statement); statement == "" {
			continue
		}
		if err := tx.Exec(statement).Error; err != nil {
			return err
		}
	}
	return nil
}

// sightingBefore is a sighting as it was stored before facts were told apart from what passes.
type sightingBefore struct {
	ID          uint64
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

func (sightingBefore) TableName() string { return "sightings_before" }

// moveEvidence moves the sightings of an older database, sweep by sweep, to where they are now, and marks what is derived from them as to
// be computed anew. It can be broken off anywhere and begun again.
func (s *Store) moveEvidence(ctx context.Context) error {
	db := s.db.WithContext(ctx)
	if !db.Migrator().HasTable("sightings_before") {
		return nil
	}
	var sweeps []struct{ SweepID, SiteID uint64 }
	if err := db.Raw("SELECT DISTINCT b.sweep_id, s.site_id FROM sightings_before b JOIN sweeps s ON s.id = b.sweep_id ORDER BY b.sweep_id").Scan(&sweeps).Error; err != nil {
		return err
	}
	for _, sweep := range sweeps {
		if err := s.moveSweep(ctx, sweep.SiteID, sweep.SweepID); err != nil {
			return fmt.Errorf("sightings of sweep %d: %w", sweep.SweepID, err)
		}
	}
	return execAll(db, `UPDATE devices SET record = JSON_OBJECT('version', 1, 'addrs', JSON_EXTRACT(record, '$.Addrs'), 'macs', JSON_EXTRACT(record, '$.MACs'), 'traits', JSON_EXTRACT(record, '$.Traits'),
  'presence', presence, 'standing', standing, 'entry', JSON_EXTRACT(record, '$.Entry'), 'was', JSON_EXTRACT(record, '$.Was'), 'firstSeen', IF(first_seen IS NULL, NULL, JSON_EXTRACT(record, '$.FirstSeen')))
  WHERE JSON_VALUE(record, '$.version') IS NULL;
UPDATE sites SET stale = 'it was written by an older version' WHERE id IN (SELECT site_id FROM sweeps);
DROP TABLE sightings_before;
`)
}

func (s *Store) moveSweep(ctx context.Context, site, sweep uint64) error {
	var rows []sightingBefore
	db := s.db.WithContext(ctx)
	if err := db.Where("sweep_id = ?", sweep).Order("addr, mac, unit").Find(&rows).Error; err != nil {
		return err
	}
	sightings := make([]evidence.Sighting, len(rows))
	device := map[evidence.Who]uint64{}
	for i, r := range rows {
		sg := evidence.Sighting{Ring: r.Ring, LearnedFrom: r.LearnedFrom, Answered: r.Answered, Whole: r.Whole, FirstAt: r.FirstAt, Addr: fromSortable(r.Addr), Unit: r.Unit}
		var mac hwaddr.MAC
		if err := mac.UnmarshalText([]byte(r.MAC)); err != nil {
			return fmt.Errorf("sighting %d: %w", r.ID, err)
		}
		sg.MAC = mac
		if err := json.Unmarshal([]byte(r.Items), &sg.Items); err != nil {
			return fmt.Errorf("sighting %d: %w", r.ID, err)
		}
		sightings[i], device[sg.Who()] = sg, r.DeviceID
	}
	if _, err := s.SaveSightings(ctx, sweep, sightings); err != nil {
		return err
	}
	return db.Transaction(func(tx *gorm.DB) error {
		if err := seal(tx, site, sweep); err != nil {
			return err
		}
		seen, err := seenIn(tx, newFactSets(tx, site), sweep)
		if err != nil {
			return err
		}
		numbers := make([]uint64, len(seen.Sightings))
		for i, sg := range seen.Sightings {
			numbers[i] = device[sg.Who()]
		}
		if err := saveDevicesIn(tx, sweep, numbers); err != nil {
			return err
		}
		return tx.Exec("DELETE FROM sightings_before WHERE sweep_id = ?", sweep).Error
	})
}
