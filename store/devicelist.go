package store

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"
	"gorm.io/gorm"

	"airdrift/core/evidence"
	"airdrift/core/finding"
	"airdrift/core/hwaddr"
	"airdrift/core/identify"
	"airdrift/core/ledger"
	"airdrift/core/netrange"
)

// DeviceLine is what a list shows of a device.
type DeviceLine struct {
	ID        uint64
	Name      string
	Addrs     []netip.Addr
	Unit      string // which it is, and behind which address, where it has none of its own
	MAC       hwaddr.MAC
	Kind      string
	Vendor    string
	Model     string
	OS        string
	Firmware  string
	Strength  int // of what is believed of its kind, in decibans
	Standing  ledger.Standing
	Presence  ledger.Presence
	FirstSeen time.Time
	LastSeen  time.Time
	Contested bool // it shares an address with another device
	Traits    []ledger.Trait
	Group     string // that somebody has put it into
}

// LineOf gives what a list shows of a device.
func LineOf(d ledger.Device) DeviceLine {
	line := DeviceLine{
		ID: d.ID, Name: DisplayName(d), Addrs: d.Addrs, Unit: d.Unit, Kind: believed(d, identify.Kind), Vendor: believed(d, identify.Vendor),
		Model: believed(d, identify.Model), OS: believed(d, identify.OS), Firmware: d.Identity.Of(identify.Firmware),
		Strength: d.Identity.Strength(identify.Kind), Standing: d.Standing, Presence: d.Presence,
		FirstSeen: d.FirstSeen, LastSeen: d.LastSeen, Contested: len(d.Contested) > 0,
		Traits: d.Traits, Group: d.Group,
	}
	if len(d.MACs) > 0 {
		line.MAC = d.MACs[0]
	}
	return line
}

// DeviceQuery says which devices to list. The zero value but for Site and Limit means all, by address.
type DeviceQuery struct {
	Site         uint64
	Standings    []string
	Presences    []string
	Kinds        []string
	Vendors      []string
	Models       []string
	Systems      []string
	Firmwares    []string
	Services     []string // each by its port (tcp/80, 80), name (http) or type (_ipp._tcp)
	Strength     int      // at least this much must speak for its kind, in decibans
	Contested    bool     // only those that share an address
	Trait        string   // only those with it
	Groups       []string
	Filled       []DeviceQuery    // the filters of those of these groups that are filled by one
	Networks     []netip.Prefix   // only those with an address in one of these
	Responsibles []string         // only those for which the register names one of these
	Severity     finding.Severity // only those with an open finding that is as bad or worse; 0 for all
	Text         string           // words that must all be in what is known of the device
	Sort         string           // a key of SortColumns
	Descend      bool
	After        *DeviceMark // the page begins behind it; nil for the first page
	Skip         int         // so many devices further on
	Limit        int

	words *wordQuery // that are looked for; nil where none are
}

// DeviceMark is the place of a device in a list, by what it is sorted by.
type DeviceMark struct {
	Value *string // in the column that is sorted by; nil where it has none, as who was never seen
	Addr  []byte
	ID    uint64
}

// SortColumns are the ways to sort a list of devices.
var SortColumns = map[string]string{
	"address": "addr", "name": "name", "kind": "kind", "vendor": "vendor", "model": "model", "os": "os", "firmware": "firmware", "strength": "strength", "mac": "mac",
	"standing": "standing", "presence": "presence", "firstSeen": "first_seen", "lastSeen": "last_seen",
}

// DevicePage is one page of a list of devices.
type DevicePage struct {
	Lines []DeviceLine
	Total int64       // on all pages; counted for the first page alone
	Next  *DeviceMark // behind which the next page begins; nil on the last
}

// ListDevices gives one page of a list of devices. It is stable while devices are written: none is left out or given twice that stays where
// it is.
func (s *Store) ListDevices(ctx context.Context, q DeviceQuery) (page DevicePage, err error) {
	db := s.db.WithContext(ctx)
	if q.words, err = findWords(db, q.Site, q.Text); err != nil {
		return page, own(err, "devices")
	}
	var ids []uint64
	g := errgroup.Group{}
	if q.After == nil {
		g.Go(func() (err error) { page.Total, err = q.count(db); return err })
	}
	// The page's numbers come from an index alone; only the devices on it are read.
	g.Go(func() error {
		return q.behind(q.filter(db.Model(&deviceRow{}))).Order(q.order()).Offset(q.Skip).Limit(q.Limit+1).Pluck("id", &ids).Error
	})
	if err := g.Wait(); err != nil {
		return page, own(err, "devices")
	}
	if len(ids) > q.Limit {
		ids = ids[:q.Limit]
		if page.Next, err = q.markOf(db, ids[q.Limit-1]); err != nil {
			return page, own(err, "devices")
		}
	}
	page.Lines, err = linesOf(db, ids)
	return page, err
}

// column gives the column that is sorted by; "" for the address, which is sorted by in any case.
func (q DeviceQuery) column() string {
	if column := SortColumns[q.Sort]; column != "addr" {
		return column
	}
	return ""
}

// markOf gives the place of a device.
func (q DeviceQuery) markOf(db *gorm.DB, id uint64) (*DeviceMark, error) {
	column := "''"
	if q.column() != "" {
		column = "CAST(" + q.column() + " AS CHAR)"
	}
	var mark DeviceMark
	err := db.Model(&deviceRow{}).Select(column+" AS value, addr, id").Where("id = ?", id).Take(&mark).Error
	return &mark, err
}

// behind leaves out what stands before the page.
func (q DeviceQuery) behind(db *gorm.DB) *gorm.DB {
	m := q.After
	if m == nil {
		return db
	}
	than := ">"
	if q.Descend {
		than = "<"
	}
	tie, args := "(addr "+than+" ? OR addr = ? AND id "+than+" ?)", []any{m.Addr, m.Addr, m.ID}
	column := q.column()
	switch {
	case column == "":
		return db.Where("addr "+than+"= ?", m.Addr).Where(tie, args...)
	case m.Value == nil && q.Descend: // who has no value comes last
		return db.Where(column+" IS NULL").Where(tie, args...)
	case m.Value == nil:
		return db.Where("("+column+" IS NOT NULL OR "+tie+")", args...)
	}
	where := column + " " + than + " ? OR " + column + " = ? AND " + tie
	if q.Descend {
		where += " OR " + column + " IS NULL"
		return db.Where("("+where+")", append([]any{*m.Value, *m.Value}, args...)...)
	}
	return db.Where(column+" >= ?", *m.Value).Where("("+where+")", append([]any{*m.Value, *m.Value}, args...)...)
}

// order sorts by the column that is asked for and within it by address, as the indexes do.
func (q DeviceQuery) order() string {
	direction := " ASC"
	if q.Descend {
		direction = " DESC"
	}
	column := q.column()
	if column == "" {
		return "addr" + direction + ", id" + direction
	}
	return column + direction + ", addr" + direction + ", id" + direction
}

// count gives how many devices there are on all pages. Where the filter permits it they need not be counted one by one.
func (q DeviceQuery) count(db *gorm.DB) (total int64, err error) {
	alike := len(q.Standings)+len(q.Presences)+len(q.Kinds) > 0 || q.Contested
	other := q.Trait != "" || q.Strength > 0 || q.Severity > 0 || len(q.Networks)+len(q.Responsibles) > 0 || len(q.Vendors)+len(q.Models)+len(q.Systems)+len(q.Firmwares)+len(q.Groups)+len(q.Services) > 0
	if q.words != nil && !alike && !other {
		return q.words.count(db)
	}
	if other || q.words != nil {
		err = q.filter(db.Model(&deviceRow{})).Count(&total).Error
		return total, err
	}
	err = q.filter(db.Model(&countRow{})).Select("CAST(COALESCE(SUM(devices), 0) AS SIGNED)").Scan(&total).Error
	return total, err
}

// linesOf reads what a list shows of some devices, in the order in which they are named.
func linesOf(db *gorm.DB, ids []uint64) ([]DeviceLine, error) {
	var rows []struct {
		Row    deviceRow `gorm:"embedded"`
		Addrs  string
		Traits string
		Unit   string
	}
	err := db.Model(&deviceRow{}).
		Select("id, name, mac, kind, vendor, model, os, firmware, strength, standing, presence, group_name, first_seen, last_seen, contested, JSON_QUERY(record, '$.addrs') AS addrs, JSON_QUERY(record, '$.traits') AS traits, COALESCE(JSON_VALUE(record, '$.unit'), '') AS unit").
		Where("id IN ?", ids).Find(&rows).Error
	if err != nil {
		return nil, own(err, "devices")
	}
	lines := make([]DeviceLine, len(ids))
	for _, found := range rows {
		line, err := found.Row.line(found.Addrs, found.Traits)
		if err != nil {
			return nil, err
		}
		line.Unit = found.Unit
		lines[slices.Index(ids, line.ID)] = line
	}
	// One that went away in between leaves no gap.
	return slices.DeleteFunc(lines, func(l DeviceLine) bool { return l.ID == 0 }), nil
}

// line gives what a list shows; addrs and traits are JSON, or empty.
func (r deviceRow) line(addrs, traits string) (DeviceLine, error) {
	line := DeviceLine{
		ID: r.ID, Name: r.Name, Kind: r.Kind, Vendor: r.Vendor, Model: r.Model, OS: r.OS,
		Firmware: r.Firmware, Strength: r.Strength, Standing: ledger.Standing(r.Standing), Presence: ledger.Presence(r.Presence), Contested: r.Contested, Group: r.GroupName,
	}
	_ = line.MAC.UnmarshalText([]byte(r.MAC)) // written by us from a MAC
	if r.FirstSeen != nil {
		line.FirstSeen, line.LastSeen = *r.FirstSeen, *r.LastSeen
	}
	for _, part := range []struct {
		text string
		into any
	}{{addrs, &line.Addrs}, {traits, &line.Traits}} {
		if part.text == "" {
			continue
		}
		if err := json.Unmarshal([]byte(part.text), part.into); err != nil {
			return line, fmt.Errorf("stored device %d: %w", r.ID, err)
		}
	}
	return line, nil
}

func (q DeviceQuery) filter(db *gorm.DB) *gorm.DB {
	db = db.Where("site_id = ?", q.Site)
	for column, values := range map[string][]string{
		"standing": q.Standings, "presence": q.Presences, "kind": q.Kinds, "vendor": q.Vendors, "model": q.Models, "os": q.Systems, "firmware": q.Firmwares,
	} {
		if len(values) > 0 {
			db = db.Where(column+" IN ?", values)
		}
	}
	if q.Trait != "" {
		db = db.Where("JSON_CONTAINS(record, JSON_QUOTE(?), '$.traits')", q.Trait)
	}
	if q.Contested {
		db = db.Where("contested")
	}
	if q.Strength > 0 {
		db = db.Where("strength >= ?", q.Strength)
	}
	if len(q.Groups) > 0 {
		any := db.Session(&gorm.Session{NewDB: true}).Where("group_name IN ?", q.Groups)
		for _, filled := range q.Filled {
			any = any.Or("id IN (?)", filled.filter(db.Session(&gorm.Session{NewDB: true}).Model(&deviceRow{}).Select("id")))
		}
		db = db.Where(any)
	}
	if len(q.Networks) > 0 {
		any := db.Session(&gorm.Session{NewDB: true})
		for _, n := range q.Networks {
			first, last := sortable(n.Masked().Addr()), sortable(netrange.Last(n))
			any = any.Or("addr BETWEEN ? AND ?", first, last).Or("id IN (SELECT device_id FROM tenures WHERE site_id = ? AND until IS NULL AND addr BETWEEN ? AND ?)", q.Site, first, last)
		}
		db = db.Where(any)
	}
	if len(q.Responsibles) > 0 {
		db = db.Where("entry_id IN (SELECT id FROM register_entries WHERE site_id = ? AND responsible IN ?)", q.Site, q.Responsibles)
	}
	if q.Severity > 0 {
		db = db.Where("id IN (SELECT d.device_id FROM finding_devices d JOIN findings f ON f.id = d.finding_id WHERE f.site_id = ? AND f.state = ? AND f.severity >= ?)", q.Site, finding.Open, int(q.Severity))
	}
	if len(q.Services) > 0 {
		any := db.Session(&gorm.Session{NewDB: true})
		for _, service := range q.Services {
			any = any.Or("services LIKE ?", "% "+likeEscape.Replace(strings.ToLower(service))+" %")
		}
		db = db.Where(any)
	}
	if q.words != nil {
		db = q.words.among(db)
	}
	return db
}

var likeEscape = strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`)

// maxValues is how many values of one column a filter is offered.
const maxValues = 500

// Values gives what a site's devices have in the columns that filters go by, each in alphabetical order.
func (s *Store) Values(ctx context.Context, site uint64) (map[string][]string, error) {
	values := map[string][]string{}
	for _, column := range []string{"vendor", "model", "os", "firmware", "group_name", "services"} {
		var list []string
		err := s.db.WithContext(ctx).Model(&deviceRow{}).Where("site_id = ? AND "+column+" <> ''", site).Distinct().Order(column).Limit(maxValues).Pluck(column, &list).Error
		if err != nil {
			return nil, own(err, "devices")
		}
		values[column] = list
	}
	var responsible []string
	err := s.db.WithContext(ctx).Model(&entryRow{}).Where("site_id = ? AND responsible <> ''", site).Distinct().Order("responsible").Limit(maxValues).Pluck("responsible", &responsible).Error
	if err != nil {
		return nil, own(err, "register")
	}
	values["responsible"] = responsible
	offered := map[string]bool{}
	for _, list := range values["services"] {
		for word := range strings.FieldsSeq(list) {
			if word[0] < '0' || word[0] > '9' {
				offered[word] = true
			}
		}
	}
	values["services"] = slices.Sorted(maps.Keys(offered))
	return values, nil
}

// Device gives one device whole, and its site.
func (s *Store) Device(ctx context.Context, id uint64) (ledger.Device, uint64, error) {
	d, site, err := deviceOf(s.db.WithContext(ctx), id)
	return d, site, own(err, fmt.Sprintf("device %d", id))
}

func deviceOf(db *gorm.DB, id uint64) (ledger.Device, uint64, error) {
	var row deviceRow
	if err := db.Select("id, site_id").First(&row, id).Error; err != nil {
		return ledger.Device{}, 0, err
	}
	devices, _, err := readDevices(db, nil, "d.id = ?", id)
	if err != nil {
		return ledger.Device{}, 0, err
	}
	if len(devices) == 0 {
		return ledger.Device{}, 0, gorm.ErrRecordNotFound
	}
	d := devices[0]
	d.Items, err = itemsOf(db, newFactSets(db, row.SiteID), d)
	return d, row.SiteID, err
}

// Devices gives all devices of a site whole, in order of their numbers.
func (s *Store) Devices(ctx context.Context, site uint64) ([]ledger.Device, error) {
	var all []ledger.Device
	err := s.EachDevice(ctx, site, func(d ledger.Device) error { all = append(all, d); return nil })
	return all, err
}

// DevicesOf gives devices of a site by their numbers, in order of those and without their evidence; it gives ErrNotFound where one is not there.
func (s *Store) DevicesOf(ctx context.Context, site uint64, numbers []uint64) ([]ledger.Device, error) {
	numbers = slices.Compact(slices.Sorted(slices.Values(numbers)))
	var all []ledger.Device
	for part := range slices.Chunk(numbers, batchSize) {
		devices, _, err := readDevices(s.db.WithContext(ctx), nil, "d.site_id = ? AND d.id IN ? ORDER BY d.id", site, part)
		if err != nil {
			return nil, own(err, "devices")
		}
		if len(devices) != len(part) {
			there := map[uint64]bool{}
			for _, d := range devices {
				there[d.ID] = true
			}
			missing := slices.DeleteFunc(slices.Clone(part), func(number uint64) bool { return there[number] })
			return nil, fmt.Errorf("device %d: %w", missing[0], ErrNotFound)
		}
		all = append(all, devices...)
	}
	return all, nil
}

// DeviceNumbers gives the numbers of all devices of a site, in ascending order.
func (s *Store) DeviceNumbers(ctx context.Context, site uint64) ([]uint64, error) {
	var numbers []uint64
	err := s.db.WithContext(ctx).Model(&deviceRow{}).Where("site_id = ?", site).Order("id").Pluck("id", &numbers).Error
	return numbers, own(err, "devices")
}

// RegisteredDevices gives devices of a site that are in its register and were seen, in order of their numbers and without their evidence: those
// behind a number, at most so many.
func (s *Store) RegisteredDevices(ctx context.Context, site, behind uint64, limit int) ([]ledger.Device, error) {
	devices, _, err := readDevices(s.db.WithContext(ctx), nil, "d.site_id = ? AND d.entry_id <> 0 AND d.first_seen IS NOT NULL AND d.id > ? ORDER BY d.id LIMIT ?", site, behind, limit)
	return devices, own(err, "devices")
}

// SeenAddrs gives the settled addresses of a site's devices that were seen when they were looked at last, each once and in ascending order.
func (s *Store) SeenAddrs(ctx context.Context, site uint64) ([]netip.Addr, error) {
	var rows [][]byte
	err := s.db.WithContext(ctx).Model(&deviceRow{}).Where("site_id = ? AND presence = ? AND addr <> ''", site, ledger.Seen).Distinct().Order("addr").Pluck("addr", &rows).Error
	addrs := make([]netip.Addr, len(rows))
	for i, raw := range rows {
		addrs[i] = fromSortable(raw)
	}
	return addrs, own(err, "devices")
}

// EachDevice gives all devices of a site whole, one after the other in order of their numbers.
func (s *Store) EachDevice(ctx context.Context, site uint64, each func(ledger.Device) error) error {
	return own(eachDevice(s.db.WithContext(ctx), site, each), "devices")
}

// EachOfKinds is EachDevice for devices of some kinds.
func (s *Store) EachOfKinds(ctx context.Context, site uint64, kinds []string, each func(ledger.Device) error) error {
	return own(eachWhere(s.db.WithContext(ctx), each, "d.site_id = ? AND d.kind IN ?", site, kinds), "devices")
}

func eachDevice(db *gorm.DB, site uint64, each func(ledger.Device) error) error {
	return eachWhere(db, each, "d.site_id = ?", site)
}

// eachWhere gives devices for which a condition holds, a thousand at a time.
func eachWhere(db *gorm.DB, each func(ledger.Device) error, where string, args ...any) error {
	for last := uint64(0); ; {
		devices, _, err := readDevices(db, nil, where+" AND d.id > ? ORDER BY d.id LIMIT 1000", append(slices.Clone(args), last)...)
		if err != nil || len(devices) == 0 {
			return err
		}
		items, err := itemsOfAll(db, devices)
		if err != nil {
			return err
		}
		for i, d := range devices {
			d.Items = items[i]
			if err := each(d); err != nil {
				return err
			}
		}
		last = devices[len(devices)-1].ID
	}
}

// itemsOfAll gives the evidence of some devices of a site, in order of their numbers.
func itemsOfAll(db *gorm.DB, devices []ledger.Device) ([][]evidence.Item, error) {
	at := make(map[uint64]int, len(devices))
	ids := make([]uint64, len(devices))
	for i, d := range devices {
		at[d.ID], ids[i] = i, d.ID
	}
	rows, err := db.Raw("SELECT d.id, f.facts, d.passing, d.facts_at FROM devices d JOIN fact_sets f ON f.site_id = d.site_id AND f.hash = d.facts WHERE d.id IN ?", ids).Rows()
	if err != nil {
		return nil, err
	}
	all := make([][]evidence.Item, len(devices))
	for rows.Next() {
		var id uint64
		var set, passing []byte
		var first *time.Time
		if err := rows.Scan(&id, &set, &passing, &first); err != nil {
			return nil, closing(rows, err)
		}
		if all[at[id]], err = evidence.Unpack(set, passing, given(first)); err != nil {
			return nil, closing(rows, fmt.Errorf("stored device %d: %w", id, err))
		}
	}
	return all, closing(rows, rows.Err())
}

// Count is how many devices of a site share a standing, presence and kind.
type Count struct {
	Standing ledger.Standing
	Presence ledger.Presence
	Kind     string
	Devices  int

	Contested int // of them, those that share an address
}

// countRow is how many devices of a site are alike in what lists filter by. It is written with the devices.
type countRow struct{ Devices int }

func (countRow) TableName() string { return "device_counts" }

// recount writes the counts of a site anew.
func recount(tx *gorm.DB, site uint64) error {
	if err := tx.Where("site_id = ?", site).Delete(&countRow{}).Error; err != nil {
		return err
	}
	return tx.Exec("INSERT INTO device_counts SELECT site_id, standing, presence, kind, contested, COUNT(*) FROM devices "+
		"WHERE site_id = ? GROUP BY site_id, standing, presence, kind, contested", site).Error
}

// shiftCount writes the counts of a site after one device has changed.
func shiftCount(tx *gorm.DB, before, after deviceRow) error {
	place := func(r deviceRow) []any { return []any{r.SiteID, r.Standing, r.Presence, r.Kind, r.Contested} }
	if slices.Equal(place(before), place(after)) {
		return nil
	}
	if err := tx.Exec("UPDATE device_counts SET devices = devices - 1 WHERE site_id = ? AND standing = ? AND presence = ? AND kind = ? AND contested = ?", place(before)...).Error; err != nil {
		return err
	}
	if err := tx.Exec("DELETE FROM device_counts WHERE site_id = ? AND devices = 0", before.SiteID).Error; err != nil {
		return err
	}
	return tx.Exec("INSERT INTO device_counts (site_id, standing, presence, kind, contested, devices) VALUES (?, ?, ?, ?, ?, 1) ON DUPLICATE KEY UPDATE devices = devices + 1", place(after)...).Error
}

// CountDevices counts a site's devices by standing, presence and kind.
func (s *Store) CountDevices(ctx context.Context, site uint64) ([]Count, error) {
	return countDevices(s.db.WithContext(ctx), site)
}

func countDevices(db *gorm.DB, site uint64) ([]Count, error) {
	var counts []Count
	err := db.Model(&countRow{}).
		Select("standing, presence, kind, CAST(SUM(devices) AS SIGNED) AS devices, CAST(SUM(IF(contested, devices, 0)) AS SIGNED) AS contested").
		Where("site_id = ?", site).Group("standing, presence, kind").Order("standing, presence, kind").Find(&counts).Error
	return counts, own(err, "devices")
}

// CountTraits counts a site's devices by trait.
func (s *Store) CountTraits(ctx context.Context, site uint64) (map[ledger.Trait]int, error) {
	var lists []string
	err := s.db.WithContext(ctx).Model(&deviceRow{}).Where("site_id = ? AND traits", site).Pluck("JSON_QUERY(record, '$.traits')", &lists).Error
	if err != nil {
		return nil, own(err, "devices")
	}
	counts := map[ledger.Trait]int{}
	for _, text := range lists {
		var traits []ledger.Trait
		if err := json.Unmarshal([]byte(text), &traits); err != nil {
			return nil, fmt.Errorf("stored traits: %w", err)
		}
		for _, t := range traits {
			counts[t]++
		}
	}
	return counts, nil
}
