package store

import (
	"context"
	"fmt"
	"net/netip"
	"strings"
	"time"

	"gorm.io/gorm"

	"airdrift/core/registry"
)

// Site is a building or facility.
type Site struct {
	ID       uint64
	Name     string
	Networks []Network
	Prefixes []MACPrefix

	NameServers []netip.Addr
	Stale       string  // why its ledger is to be computed anew from its sweeps; "" where it is not
	Keeping     Keeping // for how long evidence is kept
	Zone        string  // its time zone, by its name in the tz database (RFC 6557); "" for that of whoever looks
}

// Network is one IP subnet of a site; a site is swept nowhere else.
type Network struct {
	Name    string
	Subnet  netip.Prefix
	Purpose string     // what it is for, one of finding.Uses; "" where nobody has said
	Gateway netip.Addr // invalid where nobody has said
	Pool    string     // the ranges that its DHCP server gives out, as somebody wrote them
}

// MACPrefix gives a MAC prefix to a maker, at one site.
type MACPrefix struct {
	Prefix registry.Prefix
	Maker  string
}

// Fence gives the subnets the site may be swept in.
func (s Site) Fence() []netip.Prefix {
	fence := make([]netip.Prefix, len(s.Networks))
	for i, n := range s.Networks {
		fence[i] = n.Subnet
	}
	return fence
}

// Overlay gives the site's own table of MAC prefixes.
func (s Site) Overlay() *registry.Table {
	table := &registry.Table{}
	for _, p := range s.Prefixes {
		table.Add(p.Prefix, p.Maker)
	}
	table.Finish()
	return table
}

type siteRow struct {
	ID        uint64
	Name      string
	CreatedAt time.Time
	Networks  []networkRow `gorm:"foreignKey:SiteID"`
	Prefixes  []prefixRow  `gorm:"foreignKey:SiteID"`

	NameServers    string // separated by spaces
	Stale          string
	KeepDays       int
	KeepWeeklyDays int
	Zone           string
}

func (siteRow) TableName() string { return "sites" }

type networkRow struct {
	ID      uint64
	SiteID  uint64
	Name    string
	Subnet  string
	Purpose string
	Gateway string
	Pool    string
}

func (networkRow) TableName() string { return "networks" }

type prefixRow struct {
	ID     uint64
	SiteID uint64
	Prefix string
	Maker  string
}

func (prefixRow) TableName() string { return "mac_prefixes" }

func (r siteRow) site() (Site, error) {
	site := Site{ID: r.ID, Name: r.Name, Stale: r.Stale, Keeping: Keeping{r.KeepDays, r.KeepWeeklyDays}, Zone: r.Zone}
	for _, n := range r.Networks {
		subnet, err := netip.ParsePrefix(n.Subnet)
		if err != nil {
			return Site{}, fmt.Errorf("stored network %d: %w", n.ID, err)
		}
		network := Network{Name: n.Name, Subnet: subnet, Purpose: n.Purpose, Pool: n.Pool}
		if n.Gateway != "" {
			if network.Gateway, err = netip.ParseAddr(n.Gateway); err != nil {
				return Site{}, fmt.Errorf("stored network %d: %w", n.ID, err)
			}
		}
		site.Networks = append(site.Networks, network)
	}
	for _, p := range r.Prefixes {
		prefix, err := registry.ParsePrefix(p.Prefix)
		if err != nil {
			return Site{}, fmt.Errorf("stored MAC prefix %d: %w", p.ID, err)
		}
		site.Prefixes = append(site.Prefixes, MACPrefix{prefix, p.Maker})
	}
	for text := range strings.FieldsSeq(r.NameServers) {
		server, err := netip.ParseAddr(text)
		if err != nil {
			return Site{}, fmt.Errorf("stored name server of site %d: %w", r.ID, err)
		}
		site.NameServers = append(site.NameServers, server)
	}
	return site, nil
}

// CreateSite stores a new site and gives it its ID. A name that is there already gives ErrTaken.
func (s *Store) CreateSite(ctx context.Context, site *Site) error {
	row := siteRow{Name: site.Name, NameServers: addrsText(site.NameServers)}
	for _, n := range site.Networks {
		row.Networks = append(row.Networks, toNetworkRow(0, n))
	}
	for _, p := range site.Prefixes {
		row.Prefixes = append(row.Prefixes, prefixRow{Prefix: p.Prefix.String(), Maker: p.Maker})
	}
	err := s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error { return tx.Create(&row).Error })
	site.ID = row.ID
	return own(err, "site "+site.Name)
}

// RenameSite gives a site another name. One that is there already gives ErrTaken.
func (s *Store) RenameSite(ctx context.Context, site uint64, name string) error {
	return own(s.db.WithContext(ctx).Model(&siteRow{}).Where("id = ?", site).Update("name", name).Error, "site "+name)
}

// DeleteSite deletes a site with all that is stored of it.
func (s *Store) DeleteSite(ctx context.Context, site uint64) error {
	gone := s.db.WithContext(ctx).Delete(&siteRow{}, site)
	if gone.Error == nil && gone.RowsAffected == 0 {
		return fmt.Errorf("site %d: %w", site, ErrNotFound)
	}
	return own(gone.Error, fmt.Sprintf("site %d", site))
}

// AddNetwork adds a network to a site. One that is there already gives ErrTaken.
func (s *Store) AddNetwork(ctx context.Context, site uint64, n Network) error {
	row := toNetworkRow(site, n)
	return own(s.db.WithContext(ctx).Create(&row).Error, "network "+row.Subnet)
}

func toNetworkRow(site uint64, n Network) networkRow {
	row := networkRow{SiteID: site, Name: n.Name, Subnet: n.Subnet.String(), Purpose: n.Purpose, Pool: n.Pool}
	if n.Gateway.IsValid() {
		row.Gateway = n.Gateway.String()
	}
	return row
}

// SetNetwork writes what a site says of one of its networks, by its subnet.
func (s *Store) SetNetwork(ctx context.Context, site uint64, n Network) error {
	row := toNetworkRow(site, n)
	var known networkRow
	err := s.db.WithContext(ctx).Where("site_id = ? AND subnet = ?", site, row.Subnet).First(&known).Error
	if err == nil {
		row.ID = known.ID
		err = s.db.WithContext(ctx).Save(&row).Error
	}
	return own(err, "network "+row.Subnet)
}

// RemoveNetwork takes a network out of a site's fence.
func (s *Store) RemoveNetwork(ctx context.Context, site uint64, subnet netip.Prefix) error {
	gone := s.db.WithContext(ctx).Where("site_id = ? AND subnet = ?", site, subnet.String()).Delete(&networkRow{})
	if gone.Error == nil && gone.RowsAffected == 0 {
		return fmt.Errorf("network %s: %w", subnet, ErrNotFound)
	}
	return own(gone.Error, "network "+subnet.String())
}

// SetNameServers says which name servers a site has.
func (s *Store) SetNameServers(ctx context.Context, site uint64, servers []netip.Addr) error {
	return own(s.db.WithContext(ctx).Model(&siteRow{}).Where("id = ?", site).Update("name_servers", addrsText(servers)).Error, "site")
}

// Keeping says for how long the evidence of sweeps is kept: all of it for some days, then that of one sweep a week up to others, then of one a
// month. The zero value keeps it all.
type Keeping struct{ Days, WeeklyDays int }

// SetKeeping says for how long a site's evidence is kept.
func (s *Store) SetKeeping(ctx context.Context, site uint64, k Keeping) error {
	changes := map[string]any{"keep_days": k.Days, "keep_weekly_days": k.WeeklyDays}
	return own(s.db.WithContext(ctx).Model(&siteRow{}).Where("id = ?", site).Updates(changes).Error, fmt.Sprintf("site %d", site))
}

// SetZone says which time zone a site is in.
func (s *Store) SetZone(ctx context.Context, site uint64, zone string) error {
	return own(s.db.WithContext(ctx).Model(&siteRow{}).Where("id = ?", site).Update("zone", zone).Error, fmt.Sprintf("site %d", site))
}

// markStale says in a transaction of what changes them that the devices of a site are to be computed anew, where any were.
func markStale(tx *gorm.DB, site uint64, why string) error {
	why += " since " + time.Now().UTC().Format("2006-01-02 15:04:05.000000 UTC") // each change has another, so that none is taken for one that was carried out
	return tx.Exec("UPDATE sites SET stale = ? WHERE id = ? AND EXISTS (SELECT 1 FROM sweeps WHERE site_id = ?)", why, site, site).Error
}

// SetStale says why a site's ledger is to be computed anew.
func (s *Store) SetStale(ctx context.Context, site uint64, why string) error {
	return own(s.db.WithContext(ctx).Model(&siteRow{}).Where("id = ?", site).Update("stale", fit(why, 1000)).Error, fmt.Sprintf("site %d", site))
}

// Sites gives all sites in order of their names.
func (s *Store) Sites(ctx context.Context) ([]Site, error) {
	var rows []siteRow
	if err := s.db.WithContext(ctx).Preload("Networks").Preload("Prefixes").Order("name").Find(&rows).Error; err != nil {
		return nil, own(err, "sites")
	}
	sites := make([]Site, len(rows))
	for i, r := range rows {
		site, err := r.site()
		if err != nil {
			return nil, err
		}
		sites[i] = site
	}
	return sites, nil
}

// Site gives one site.
func (s *Store) Site(ctx context.Context, id uint64) (Site, error) {
	var row siteRow
	if err := s.db.WithContext(ctx).Preload("Networks").Preload("Prefixes").First(&row, id).Error; err != nil {
		return Site{}, own(err, fmt.Sprintf("site %d", id))
	}
	return row.site()
}
