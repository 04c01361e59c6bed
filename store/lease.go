package store

import (
	"context"
	"fmt"
	"net/netip"
	"time"

	"gorm.io/gorm"

	"airdrift/core/lease"
)

type leaseRow struct {
	ID     uint64
	SiteID uint64
	Addr   string
	MAC    string `gorm:"column:mac"`
	Name   string
	Client string
	Since  *time.Time
	Until  *time.Time
}

func (leaseRow) TableName() string { return "leases" }

// ReplaceLeases puts leases in the place of all that a site has. Its devices are stale from then on.
func (s *Store) ReplaceLeases(ctx context.Context, site uint64, leases []lease.Lease) error {
	rows := make([]leaseRow, len(leases))
	for i, l := range leases {
		rows[i] = leaseRow{SiteID: site, Addr: l.Addr.String(), MAC: l.MAC.String(), Name: cut(l.Name), Client: cut(l.Client)}
		rows[i].Since, rows[i].Until = some(l.Since, !l.Since.IsZero()), some(l.Until, !l.Until.IsZero())
	}
	err := s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := tx.Where("site_id = ?", site).Delete(&leaseRow{}).Error; err != nil {
			return err
		}
		if err := createMany(tx, rows); err != nil {
			return err
		}
		return markStale(tx, site, "its leases are others")
	})
	return own(err, "leases")
}

// Leases gives a site's leases.
func (s *Store) Leases(ctx context.Context, site uint64) ([]lease.Lease, error) {
	var rows []leaseRow
	if err := s.db.WithContext(ctx).Where("site_id = ?", site).Order("id").Find(&rows).Error; err != nil {
		return nil, own(err, "leases")
	}
	leases := make([]lease.Lease, len(rows))
	for i, r := range rows {
		addr, err := netip.ParseAddr(r.Addr)
		if err != nil {
			return nil, fmt.Errorf("stored lease %d: %w", r.ID, err)
		}
		leases[i] = lease.Lease{Addr: addr, Name: r.Name, Client: r.Client}
		_ = leases[i].MAC.UnmarshalText([]byte(r.MAC)) // written by us from a MAC
		leases[i].Since, leases[i].Until = given(r.Since), given(r.Until)
	}
	return leases, nil
}
