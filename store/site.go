package store

import (
	"context"
	"encoding/json"
	"fmt"
	"net/netip"
	"strings"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"airdrift/core/hwaddr"
	"airdrift/core/ledger"
	"airdrift/core/register"
	"airdrift/core/registry"
)

// Site is a building or facility.
type Site struct {
	ID       uint64
	Name     string
	Networks []Network
	Prefixes []MACPrefix

	NameServers []netip.Addr
}

// Network is one IP subnet of a site; a site is swept nowhere else.
type Network struct {
	Name   string
	Subnet netip.Prefix
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

	NameServers string // separated by spaces
}

func (siteRow) TableName() string { return "sites" }

type networkRow struct {
	ID     uint64
	SiteID uint64
	Name   string
	Subnet string
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
	site := Site{ID: r.ID, Name: r.Name}
	for _, n := range r.Networks {
		subnet, err := netip.ParsePrefix(n.Subnet)
		if err != nil {
			return Site{}, fmt.Errorf("stored network %d: %w", n.ID, err)
		}
		site.Networks = append(site.Networks, Network{n.Name, subnet})
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
	row := siteRow{Name: site.Name, NameServers: addrList(site.NameServers)}
	for _, n := range site.Networks {
		row.Networks = append(row.Networks, networkRow{Name: n.Name, Subnet: n.Subnet.String()})
	}
	for _, p := range site.Prefixes {
		row.Prefixes = append(row.Prefixes, prefixRow{Prefix: p.Prefix.String(), Maker: p.Maker})
	}
	err := s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error { return tx.Create(&row).Error })
	site.ID = row.ID
	return own(err, "site "+site.Name)
}

// AddNetwork adds a network to a site. One that is there already gives ErrTaken.
func (s *Store) AddNetwork(ctx context.Context, site uint64, n Network) error {
	row := networkRow{SiteID: site, Name: n.Name, Subnet: n.Subnet.String()}
	return own(s.db.WithContext(ctx).Create(&row).Error, "network "+row.Subnet)
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
	return own(s.db.WithContext(ctx).Model(&siteRow{}).Where("id = ?", site).Update("name_servers", addrList(servers)).Error, "site")
}

func addrList(addrs []netip.Addr) string {
	texts := make([]string, len(addrs))
	for i, a := range addrs {
		texts[i] = a.String()
	}
	return strings.Join(texts, " ")
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

type entryRow struct {
	ID          uint64
	SiteID      uint64
	Name        string
	MAC         string `gorm:"column:mac"`
	Addr        string
	Vendor      string
	Model       string
	Kind        string
	Location    string
	Responsible string
	Note        string
	Extra       string
}

func (entryRow) TableName() string { return "register_entries" }

func toEntryRow(site uint64, e register.Entry) (entryRow, error) {
	extra, err := json.Marshal(e.Extra)
	if err != nil {
		return entryRow{}, err
	}
	row := entryRow{
		ID: e.ID, SiteID: site, Name: e.Name, MAC: e.MAC.String(), Vendor: e.Vendor, Model: e.Model, Kind: e.Kind,
		Location: e.Location, Responsible: e.Responsible, Note: e.Note, Extra: string(extra),
	}
	if e.Addr.IsValid() {
		row.Addr = e.Addr.String()
	}
	return row, nil
}

func (r entryRow) entry() (register.Entry, error) {
	e := register.Entry{
		ID: r.ID, Name: r.Name, Vendor: r.Vendor, Model: r.Model, Kind: r.Kind, Location: r.Location,
		Responsible: r.Responsible, Note: r.Note,
	}
	var mac hwaddr.MAC
	if err := mac.UnmarshalText([]byte(r.MAC)); err != nil {
		return e, fmt.Errorf("stored register entry %d: %w", r.ID, err)
	}
	e.MAC = mac
	if r.Addr != "" {
		addr, err := netip.ParseAddr(r.Addr)
		if err != nil {
			return e, fmt.Errorf("stored register entry %d: %w", r.ID, err)
		}
		e.Addr = addr
	}
	if err := json.Unmarshal([]byte(r.Extra), &e.Extra); err != nil {
		return e, fmt.Errorf("stored register entry %d: %w", r.ID, err)
	}
	return e, nil
}

// Register gives a site's register, in the order in which it was entered.
func (s *Store) Register(ctx context.Context, site uint64) ([]register.Entry, error) {
	return registerOf(s.db.WithContext(ctx), site)
}

// CountRegister gives the number of entries of a site's register.
func (s *Store) CountRegister(ctx context.Context, site uint64) (int, error) {
	var n int64
	err := s.db.WithContext(ctx).Model(&entryRow{}).Where("site_id = ?", site).Count(&n).Error
	return int(n), own(err, "register")
}

func registerOf(db *gorm.DB, site uint64) ([]register.Entry, error) {
	var rows []entryRow
	if err := db.Where("site_id = ?", site).Order("id").Find(&rows).Error; err != nil {
		return nil, own(err, "register")
	}
	entries := make([]register.Entry, len(rows))
	for i, r := range rows {
		e, err := r.entry()
		if err != nil {
			return nil, err
		}
		entries[i] = e
	}
	return entries, nil
}

// MatchRegister holds devices against a whole register anew.
type MatchRegister func(devices []ledger.Device, entries []register.Entry) ([]ledger.Device, error)

// ImportRegister lays entries over a site's register: an entry with the MAC of one that is there takes its place, or
// without a MAC one with its name and address; others are added. With replace the old register goes first. The
// devices are matched anew by match, all in one transaction.
func (s *Store) ImportRegister(ctx context.Context, site uint64, entries []register.Entry, replace bool, match MatchRegister) (added, updated int, err error) {
	err = s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if replace {
			if err := tx.Where("site_id = ?", site).Delete(&entryRow{}).Error; err != nil {
				return err
			}
		}
		before, err := registerOf(tx, site)
		if err != nil {
			return err
		}
		fresh, changed, err := overlay(site, before, entries)
		if err != nil {
			return err
		}
		added, updated = len(fresh), len(changed)
		if len(fresh) > 0 {
			if err := tx.CreateInBatches(fresh, batchSize).Error; err != nil {
				return err
			}
		}
		if len(changed) > 0 {
			if err := tx.Clauses(clause.OnConflict{UpdateAll: true}).CreateInBatches(changed, batchSize).Error; err != nil {
				return err
			}
		}
		all, err := registerOf(tx, site)
		if err != nil {
			return err
		}
		_, err = rematch(tx, site, func(devices []ledger.Device) ([]ledger.Device, error) { return match(devices, all) })
		return err
	})
	return added, updated, own(err, "register")
}

// AddEntry puts one entry into a site's register and matches its devices anew.
func (s *Store) AddEntry(ctx context.Context, site uint64, e register.Entry, match MatchRegister) error {
	_, _, err := s.ImportRegister(ctx, site, []register.Entry{e}, false, match)
	return err
}

// overlay parts entries into new rows and rows that take the place of old ones.
func overlay(site uint64, before, entries []register.Entry) (fresh, changed []entryRow, err error) {
	known := make(map[string]uint64, len(before))
	for _, e := range before {
		known[entryIdentity(e)] = e.ID
	}
	for _, e := range entries {
		e.ID = known[entryIdentity(e)]
		row, err := toEntryRow(site, e)
		if err != nil {
			return nil, nil, err
		}
		if e.ID == 0 {
			fresh = append(fresh, row)
		} else {
			changed = append(changed, row)
		}
	}
	return fresh, changed, nil
}

func entryIdentity(e register.Entry) string {
	if !e.MAC.IsZero() {
		return e.MAC.String()
	}
	return e.Name + "\x00" + e.Addr.String()
}
