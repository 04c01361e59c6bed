package store

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"airdrift/core/evidence"
	"airdrift/core/identify"
	"airdrift/core/ledger"
	"airdrift/core/registry"
)

// deviceRow has what lists sort and filter by in columns, and the whole device in Record.
type deviceRow struct {
	ID        uint64
	SiteID    uint64
	EntryID   uint64
	Name      string
	Addr      []byte
	MAC       string `gorm:"column:mac"`
	Kind      string
	Vendor    string
	Model     string
	OS        string `gorm:"column:os"`
	Firmware  string
	Strength  int    // of what is believed of its kind
	Services  string // what it offers, each between spaces
	Standing  string
	Presence  string
	FirstSeen *time.Time
	LastSeen  *time.Time
	LastSweep uint64
	Contested bool
	Traits    bool // it has any; which ones is in Record
	Search    string
	Record    string
}

func (deviceRow) TableName() string { return "devices" }

// maxColumn is the longest text of a column, in characters.
const maxColumn = 255

// DisplayName gives the name a device is shown by: its own, or the register's.
func DisplayName(d ledger.Device) string {
	if d.Entry != nil && d.Entry.Name != "" {
		return d.Entry.Name
	}
	return d.Identity.Of(identify.Name)
}

// believed gives what evidence tells of an attribute, or for a device never seen what the register says.
func believed(d ledger.Device, a identify.Attribute) string {
	if value := d.Identity.Of(a); value != "" || d.Entry == nil || !d.FirstSeen.IsZero() {
		return value
	}
	switch a {
	case identify.Vendor:
		return d.Entry.Vendor
	case identify.Model:
		return d.Entry.Model
	case identify.Kind:
		if slices.Contains(identify.Kinds, d.Entry.Kind) {
			return d.Entry.Kind
		}
		return identify.Unknown
	}
	return ""
}

func toDeviceRow(site uint64, d ledger.Device) (deviceRow, error) {
	record, err := json.Marshal(d)
	if err != nil {
		return deviceRow{}, err
	}
	line := LineOf(d)
	row := deviceRow{
		ID: d.ID, SiteID: site, Name: cut(line.Name), Addr: []byte{}, MAC: line.MAC.String(), Kind: line.Kind,
		Vendor: cut(line.Vendor), Model: cut(line.Model), OS: cut(line.OS), Firmware: cut(line.Firmware), Strength: line.Strength,
		Services: servicesText(d), Standing: string(line.Standing),
		Presence: string(line.Presence), LastSweep: d.LastSweep, Contested: line.Contested, Traits: len(line.Traits) > 0,
		Search: searchText(d), Record: string(record),
	}
	if d.Entry != nil {
		row.EntryID = d.Entry.ID
	}
	if len(d.Addrs) > 0 {
		row.Addr = sortable(d.Addrs[0])
	}
	if !d.FirstSeen.IsZero() {
		row.FirstSeen, row.LastSeen = &d.FirstSeen, &d.LastSeen
	}
	return row, nil
}

// size is about what a row takes in a statement, in bytes.
func (r deviceRow) size() int { return len(r.Record) + len(r.Search) + len(r.Services) + 1000 }

func cut(text string) string {
	if runes := []rune(text); len(runes) > maxColumn {
		return string(runes[:maxColumn])
	}
	return text
}

// maxSearch bounds the text a device is found by, in bytes.
const maxSearch = 8000

// searchText puts everything a person may look for into one lower-case text.
func searchText(d ledger.Device) string {
	words := []string{DisplayName(d)}
	for _, a := range identify.Attributes {
		words = append(words, believed(d, a))
	}
	for _, a := range d.Addrs {
		words = append(words, a.String())
	}
	for _, m := range d.MACs {
		words = append(words, m.String(), strings.ReplaceAll(m.String(), ":", "-"))
	}
	if e := d.Entry; e != nil {
		words = append(words, e.Vendor, e.Model, e.Location, e.Responsible, e.Note)
	}
	for _, t := range d.Traits {
		words = append(words, string(t))
	}
	words = append(words, d.Note)
	for _, item := range d.Items {
		words = append(words, item.Value)
	}
	text := strings.ToLower(strings.Join(words, "\n"))
	return strings.ToValidUTF8(text[:min(len(text), maxSearch)], "")
}

// maxServices bounds the text of what a device offers, in bytes.
const maxServices = 4000

// servicesText puts what a device offers into one text: each port as tcp/80 and 80, the name of its service, and the types that it
// announces, each between spaces.
func servicesText(d ledger.Device) string {
	words := map[string]bool{}
	for _, item := range d.Items {
		switch {
		case item.Key == evidence.KeyMDNSType:
			words[strings.ToLower(item.Value)] = true
		case item.Port.IsZero() || item.Key == evidence.KeyTCPRefused:
		default:
			words[item.Port.String()] = true
			words[strconv.Itoa(int(item.Port.Number))] = true
			if name := registry.ServiceName(item.Port); name != "" {
				words[name] = true
			}
		}
	}
	if len(words) == 0 {
		return ""
	}
	text := " " + strings.Join(slices.Sorted(maps.Keys(words)), " ") + " "
	if len(text) > maxServices {
		text = text[:strings.LastIndexByte(text[:maxServices], ' ')+1]
	}
	return strings.ToValidUTF8(text, "")
}

// Rematch gives all devices of a site as they are from now on.
type Rematch func(devices []ledger.Device) ([]ledger.Device, error)

// rematch loads a site's devices, matches them and stores them. It gives them with their numbers.
func rematch(tx *gorm.DB, site uint64, match Rematch) ([]ledger.Device, error) {
	devices, err := devicesOf(tx, site)
	if err != nil {
		return nil, err
	}
	if devices, err = match(devices); err != nil {
		return nil, err
	}
	return devices, saveDevices(tx, site, devices)
}

// Rematch writes all devices of a site as match leaves them.
func (s *Store) Rematch(ctx context.Context, site uint64, match Rematch) error {
	err := s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		_, err := rematch(tx, site, match)
		return err
	})
	return own(err, "devices")
}

// Devices gives all devices of a site whole, in order of their IDs.
func (s *Store) Devices(ctx context.Context, site uint64) ([]ledger.Device, error) {
	return devicesOf(s.db.WithContext(ctx), site)
}

func devicesOf(db *gorm.DB, site uint64) ([]ledger.Device, error) {
	var rows []deviceRow
	if err := db.Select("id, record").Where("site_id = ?", site).Order("id").Find(&rows).Error; err != nil {
		return nil, own(err, "devices")
	}
	devices := make([]ledger.Device, len(rows))
	for i, r := range rows {
		if err := json.Unmarshal([]byte(r.Record), &devices[i]); err != nil {
			return nil, fmt.Errorf("stored device %d: %w", r.ID, err)
		}
		devices[i].ID = r.ID
	}
	return devices, nil
}

// Enter says what a sweep makes of a site's devices, and for each of its sightings which of them it is.
type Enter func(known []ledger.Device, sightings []evidence.Sighting, before []uint64) (ledger.Result, error)

// ApplySweep writes the ledger after a sweep, and then the sweep as enter leaves it, in one transaction.
func (s *Store) ApplySweep(ctx context.Context, sweep *Sweep, enter Enter) error {
	err := s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		known, err := devicesOf(tx, sweep.SiteID)
		if err != nil {
			return err
		}
		sightings, _, err := sightingsOf(tx, sweep.ID)
		if err != nil {
			return err
		}
		result, err := enter(known, sightings, nil)
		if err != nil {
			return err
		}
		if err := keep(tx, sweep.SiteID, result); err != nil {
			return err
		}
		if err := saveChanges(tx, sweep.SiteID, sweep.ID, result); err != nil {
			return err
		}
		if err := assign(tx, sweep.ID, sightings, result); err != nil {
			return err
		}
		row := toSweepRow(*sweep)
		return tx.Save(&row).Error
	})
	return own(err, fmt.Sprintf("sweep %d", sweep.ID))
}

// keep writes the devices that a sweep leaves; those that were merged into others go.
func keep(tx *gorm.DB, site uint64, result ledger.Result) error {
	for _, m := range result.Merges {
		if err := tx.Delete(&deviceRow{}, m.From).Error; err != nil {
			return err
		}
	}
	return saveDevices(tx, site, result.Devices)
}

// assign writes which device each sighting of a sweep is. Those of a device that was merged keep its number, so that a rebuild finds it.
func assign(tx *gorm.DB, sweep uint64, sightings []evidence.Sighting, result ledger.Result) error {
	if len(sightings) == 0 {
		return nil
	}
	rows := make([]sightingRow, len(sightings))
	for i, sg := range sightings {
		// The other columns are there because a row needs them; the conflict leaves them as they are.
		rows[i] = sightingRow{SweepID: sweep, Addr: sortable(sg.Addr), MAC: sg.MAC.String(), FirstAt: sg.FirstAt, DeviceID: result.Devices[result.Of[i]].ID, Unit: sg.Unit}
	}
	upsert := clause.OnConflict{DoUpdates: clause.AssignmentColumns([]string{"device_id"})}
	return tx.Clauses(upsert).CreateInBatches(rows, batchSize).Error
}

// Rebuild writes a site's ledger anew out of its sweeps, without the one of the number discard (0 keeps them all). enter
// makes of each sweep in turn what ApplySweep's does, and match holds what comes of it against the register and what people have said.
// Devices keep their numbers.
func (s *Store) Rebuild(ctx context.Context, site, discard uint64, enter func(sweep *Sweep) Enter, match Rematch) error {
	err := s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if discard != 0 {
			if err := tx.Delete(&sweepRow{}, discard).Error; err != nil {
				return err
			}
		}
		if err := tx.Where("site_id = ? AND first_seen IS NOT NULL", site).Delete(&deviceRow{}).Error; err != nil {
			return err
		}
		devices, err := replay(tx, site, enter)
		if err != nil {
			return err
		}
		if devices, err = match(devices); err != nil {
			return err
		}
		return saveDevices(tx, site, devices)
	})
	return own(err, fmt.Sprintf("ledger of site %d", site))
}

// replay enters all sweeps of a site into an empty ledger, one after the other, and gives the devices that come of it.
func replay(tx *gorm.DB, site uint64, enter func(sweep *Sweep) Enter) ([]ledger.Device, error) {
	var rows []sweepRow
	if err := tx.Where("site_id = ? AND state <> ?", site, Running).Order("id").Find(&rows).Error; err != nil {
		return nil, err
	}
	var devices []ledger.Device
	for _, r := range rows {
		sweep := r.sweep()
		sightings, numbers, err := sightingsOf(tx, sweep.ID)
		if err != nil {
			return nil, err
		}
		result, err := enter(&sweep)(devices, sightings, numbers)
		if err != nil {
			return nil, err
		}
		if err := keep(tx, site, result); err != nil {
			return nil, err
		}
		if err := saveChanges(tx, site, sweep.ID, result); err != nil {
			return nil, err
		}
		if err := assign(tx, sweep.ID, sightings, result); err != nil {
			return nil, err
		}
		row := toSweepRow(sweep)
		if err := tx.Save(&row).Error; err != nil {
			return nil, err
		}
		devices = result.Devices
	}
	return devices, nil
}

// saveDevices writes all devices of a site, gives numbers to those that have none, and takes out those that stood for
// entries which are gone. A device known from the register alone keeps its number as long as its entry does.
func saveDevices(tx *gorm.DB, site uint64, devices []ledger.Device) error {
	var old []deviceRow
	if err := tx.Select("id, entry_id").Where("site_id = ? AND first_seen IS NULL", site).Find(&old).Error; err != nil {
		return err
	}
	standIns := map[uint64]uint64{}
	for _, r := range old {
		standIns[r.EntryID] = r.ID
	}
	var fresh, changed []deviceRow
	var added []int // the devices that the fresh rows are of
	for i := range devices {
		d := &devices[i]
		if d.FirstSeen.IsZero() && d.Entry != nil {
			d.ID = standIns[d.Entry.ID]
			delete(standIns, d.Entry.ID)
		}
		row, err := toDeviceRow(site, *d)
		if err != nil {
			return err
		}
		if row.ID == 0 {
			fresh, added = append(fresh, row), append(added, i)
		} else {
			changed = append(changed, row)
		}
	}
	for ids := range slices.Chunk(slices.Collect(maps.Values(standIns)), batchSize) {
		if err := tx.Delete(&deviceRow{}, ids).Error; err != nil {
			return err
		}
	}
	for _, part := range batches(changed, deviceRow.size) {
		if err := tx.Clauses(clause.OnConflict{UpdateAll: true}).Create(part).Error; err != nil {
			return err
		}
	}
	// Apart from the others, as only rows that are all new get their numbers back in order.
	for _, part := range batches(fresh, deviceRow.size) {
		if err := tx.Create(part).Error; err != nil {
			return err
		}
	}
	for i, row := range fresh {
		devices[added[i]].ID = row.ID
	}
	if err := saveHolders(tx, site, devices); err != nil {
		return err
	}
	return recount(tx, site)
}
