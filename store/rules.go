package store

import (
	"context"
	"fmt"
	"time"

	"gorm.io/gorm"
)

// RuleFile is a file of rules that a site has added to those that ship with the program.
type RuleFile struct {
	ID        uint64
	SiteID    uint64
	Purpose   string // what its rules are for: RulesIdentify or RulesJudge
	Name      string
	Text      string
	Active    bool
	ChangedBy string
	ChangedAt time.Time
}

// TableName is the table's.
func (RuleFile) TableName() string { return "rule_files" }

// What the rules of a file are for.
const (
	RulesIdentify = "identify" // they tell what devices are
	RulesJudge    = "judge"    // they tell what is wrong
)

// RuleFiles gives a site's files of rules for one purpose; "" stands for all.
func (s *Store) RuleFiles(ctx context.Context, site uint64, purpose string) ([]RuleFile, error) {
	var all []RuleFile
	err := s.db.WithContext(ctx).Where("site_id = ? AND (purpose = ? OR ? = '')", site, purpose, purpose).Order("id").Find(&all).Error
	return all, own(err, "rules")
}

// RuleFile gives one.
func (s *Store) RuleFile(ctx context.Context, id uint64) (RuleFile, error) {
	var f RuleFile
	err := s.db.WithContext(ctx).First(&f, id).Error
	return f, own(err, fmt.Sprintf("file of rules %d", id))
}

// SaveRuleFile writes one; without an ID it is added, and ErrTaken returned where the site has one of that name. Where its rules tell what devices are, those
// of the site are stale from then on.
func (s *Store) SaveRuleFile(ctx context.Context, f *RuleFile) error {
	return s.changeRuleFile(ctx, *f, func(tx *gorm.DB) error { return tx.Save(f).Error })
}

// RemoveRuleFile deletes one, likewise.
func (s *Store) RemoveRuleFile(ctx context.Context, id uint64) error {
	f, err := s.RuleFile(ctx, id)
	if err != nil {
		return err
	}
	return s.changeRuleFile(ctx, f, func(tx *gorm.DB) error { return tx.Delete(&f).Error })
}

func (s *Store) changeRuleFile(ctx context.Context, f RuleFile, change func(tx *gorm.DB) error) error {
	err := s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := change(tx); err != nil || f.Purpose != RulesIdentify {
			return err
		}
		return markStale(tx, f.SiteID, "the site's rules are others")
	})
	return own(err, fmt.Sprintf("file of rules %q", f.Name))
}
