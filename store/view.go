package store

import (
	"context"
	"fmt"
	"strings"
	"time"

	"gorm.io/gorm/clause"
)

// The kinds of saved filter.
const (
	KindView    = "view"    // a filter with the columns that are shown
	KindExtract = "extract" // a hand-over of some devices for somebody
	KindGroup   = "group"   // devices that belong together, whichever they are now
)

// View is a filter of devices that is saved under a name.
type View struct {
	ID        uint64
	Kind      string
	Name      string
	Audience  string   // of an extract: whom it is for
	Filter    string   // a query, as the list of devices takes one
	Columns   []string // by their names; none for the usual ones
	ChangedBy string
	ChangedAt time.Time
}

type viewRow struct {
	ID           uint64
	SiteID       uint64
	Kind         string
	Name         string
	Audience     string
	Filter       string
	ColumnsShown string
	ChangedBy    string
	ChangedAt    time.Time
}

func (viewRow) TableName() string { return "views" }

func (r viewRow) view() View {
	v := View{ID: r.ID, Kind: r.Kind, Name: r.Name, Audience: r.Audience, Filter: r.Filter, ChangedBy: r.ChangedBy, ChangedAt: r.ChangedAt}
	if r.ColumnsShown != "" {
		v.Columns = strings.Split(r.ColumnsShown, ",")
	}
	return v
}

// Views gives what is saved of one kind at a site, by name.
func (s *Store) Views(ctx context.Context, site uint64, kind string) ([]View, error) {
	var rows []viewRow
	if err := s.db.WithContext(ctx).Where("site_id = ? AND kind = ?", site, kind).Order("name").Find(&rows).Error; err != nil {
		return nil, own(err, kind+"s")
	}
	views := make([]View, len(rows))
	for i, r := range rows {
		views[i] = r.view()
	}
	return views, nil
}

// View gives what is saved of one kind under a name.
func (s *Store) View(ctx context.Context, site uint64, kind, name string) (View, error) {
	var row viewRow
	err := s.db.WithContext(ctx).Where("site_id = ? AND kind = ? AND name = ?", site, kind, name).First(&row).Error
	return row.view(), own(err, fmt.Sprintf("%s %q", kind, name))
}

// SaveView saves a filter under its name, in the place of the one that is called so.
func (s *Store) SaveView(ctx context.Context, site uint64, v View) error {
	row := viewRow{SiteID: site, Kind: v.Kind, Name: v.Name, Audience: v.Audience, Filter: v.Filter, ColumnsShown: strings.Join(v.Columns, ","), ChangedBy: v.ChangedBy, ChangedAt: v.ChangedAt}
	over := clause.OnConflict{DoUpdates: clause.AssignmentColumns([]string{"audience", "filter", "columns_shown", "changed_by", "changed_at"})}
	return own(s.db.WithContext(ctx).Clauses(over).Create(&row).Error, fmt.Sprintf("%s %q", v.Kind, v.Name))
}

// DeleteView deletes what is saved of one kind under a name.
func (s *Store) DeleteView(ctx context.Context, site uint64, kind, name string) error {
	done := s.db.WithContext(ctx).Where("site_id = ? AND kind = ? AND name = ?", site, kind, name).Delete(&viewRow{})
	if done.Error == nil && done.RowsAffected == 0 {
		return fmt.Errorf("%s %q: %w", kind, name, ErrNotFound)
	}
	return own(done.Error, fmt.Sprintf("%s %q", kind, name))
}
