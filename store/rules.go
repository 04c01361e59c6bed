package store

import (
	"context"
	"fmt"
	"time"
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

// SaveRuleFile writes one; without an ID it is added, and ErrTaken returned where the site has one of that name.
func (s *Store) SaveRuleFile(ctx context.Context, f *RuleFile) error {
	return own(s.db.WithContext(ctx).Save(f).Error, fmt.Sprintf("file of rules %q", f.Name))
}

// RemoveRuleFile deletes one.
func (s *Store) RemoveRuleFile(ctx context.Context, id uint64) error {
	return own(s.db.WithContext(ctx).Delete(&RuleFile{}, id).Error, fmt.Sprintf("file of rules %d", id))
}
