package store

import (
	"context"

	"gorm.io/gorm/clause"
)

// FirmwareCount is how many devices of a model have one version of its firmware; Version is "" where it is not known.
type FirmwareCount struct {
	Vendor  string
	Model   string
	Version string
	Devices int
}

// maxModels bounds the models whose versions are counted.
const maxModels = 5000

// Firmwares counts the versions of firmware over the models of a site's devices, in order of vendor and model. Devices that are missing are
// left out: nobody has seen what they run.
func (s *Store) Firmwares(ctx context.Context, site uint64) ([]FirmwareCount, error) {
	var list []FirmwareCount
	err := s.db.WithContext(ctx).Model(&deviceRow{}).Select("vendor, model, firmware AS version, COUNT(*) AS devices").
		Where("site_id = ? AND model <> '' AND standing <> 'missing'", site).Group("vendor, model, firmware").Order("vendor, model, firmware").Limit(maxModels).Scan(&list).Error
	return list, own(err, "devices")
}

// WantedFirmware is which version of its firmware a site wants on a model.
type WantedFirmware struct {
	SiteID  uint64
	Vendor  string
	Model   string
	Version string
}

// TableName is where it is stored.
func (WantedFirmware) TableName() string { return "firmware_wanted" }

// WantedFirmwares gives which versions a site wants.
func (s *Store) WantedFirmwares(ctx context.Context, site uint64) ([]WantedFirmware, error) {
	var list []WantedFirmware
	err := s.db.WithContext(ctx).Where("site_id = ?", site).Order("vendor, model").Find(&list).Error
	return list, own(err, "versions of firmware")
}

// WantFirmware writes which version a site wants on a model; an empty one takes the wish away.
func (s *Store) WantFirmware(ctx context.Context, wanted WantedFirmware) error {
	db := s.db.WithContext(ctx)
	if wanted.Version == "" {
		return own(db.Where("site_id = ? AND vendor = ? AND model = ?", wanted.SiteID, wanted.Vendor, wanted.Model).Delete(&WantedFirmware{}).Error, "version of firmware")
	}
	return own(db.Clauses(clause.OnConflict{DoUpdates: clause.AssignmentColumns([]string{"version"})}).Create(&wanted).Error, "version of firmware")
}
