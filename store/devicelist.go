package store

import (
	"context"
	"database/sql"
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
	"airdrift/core/inventory"
	"airdrift/core/ledger"
	"airdrift/core/netrange"
)

// DeviceQuery says which devices to list. The zero value but for Site and Limit means all, by address.
type DeviceQuery struct {
	Site uint64
	inventory.Query
	Filled   []DeviceQuery  // the filters of those of the groups asked for that are filled by one
	Networks []netip.Prefix // the subnets of the networks asked for
	After    *DeviceMark    // the page begins behind it; nil for the first page
	Skip     int            // so many devices further on
	Limit    int

	words *wordQuery // that are looked for; nil where none are
}

// DeviceMark is the place of a device in a list, by what it is sorted by.
type DeviceMark struct {
	Value *string // in the column that is sorted by; nil where it has none, as who was never seen
	Addr  []byte
	ID    uint64
}

// DevicePage is one page of a list of devices.
type DevicePage struct {
	Lines []inventory.Line
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

// column gives what is sorted by in the database; "" for the address, which is sorted by in any case.
func (q DeviceQuery) column() string {
	if q.Sort == "" || q.Sort == "address" {
		return ""
	}
	return columnOf(q.Sort)
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

// countedBy are the fields by which devices are counted as they are written.
var countedBy = []string{"standing", "presence", "kind", "contested"}

// count gives how many devices there are on all pages. Where the filter permits it they need not be counted one by one.
func (q DeviceQuery) count(db *gorm.DB) (total int64, err error) {
	counted := true
	for name := range q.Where {
		counted = counted && slices.Contains(countedBy, name)
	}
	switch {
	case q.words != nil && len(q.Where) == 0:
		return q.words.count(db)
	case q.words == nil && counted:
		err = q.filter(db.Model(&countRow{})).Select("CAST(COALESCE(SUM(devices), 0) AS SIGNED)").Scan(&total).Error
	default:
		err = q.filter(db.Model(&deviceRow{})).Count(&total).Error
	}
	return total, err
}

// linesOf reads what a list shows of some devices, in the order in which they are named.
func linesOf(db *gorm.DB, ids []uint64) ([]inventory.Line, error) {
	rows, err := db.Raw("SELECT id, record, last_seen FROM devices WHERE id IN ?", append(slices.Clip(ids), 0)).Rows()
	if err != nil {
		return nil, own(err, "devices")
	}
	lines := make([]inventory.Line, len(ids))
	for rows.Next() {
		var id uint64
		var record sql.RawBytes
		var lastSeen *time.Time
		if err := rows.Scan(&id, &record, &lastSeen); err != nil {
			return nil, own(closing(rows, err), "devices")
		}
		d, err := fromForm(record)
		if err != nil {
			return nil, closing(rows, fmt.Errorf("stored device %d: %w", id, err))
		}
		d.ID, d.LastSeen = id, given(lastSeen)
		lines[slices.Index(ids, id)] = inventory.LineOf(d)
	}
	// One that went away in between leaves no gap.
	return slices.DeleteFunc(lines, func(l inventory.Line) bool { return l.ID == 0 }), own(closing(rows, rows.Err()), "devices")
}

func (q DeviceQuery) filter(db *gorm.DB) *gorm.DB {
	db = db.Where("site_id = ?", q.Site)
	for _, f := range inventory.Filtered() {
		if values := q.Where[f.Param()]; len(values) > 0 {
			db = q.narrow(db, f, values)
		}
	}
	if q.words != nil {
		db = q.words.among(db)
	}
	return db
}

// narrow lets only those devices through that have one of some values of a field.
func (q DeviceQuery) narrow(db *gorm.DB, f *inventory.Field, values []string) *gorm.DB {
	column, own := columns[f.Name]
	switch {
	case f.Name == "traits":
		return withTrait(db, values)
	case f.Name == "group":
		return q.ofGroup(db, values)
	case f.Name == "network":
		return q.inNetworks(db)
	case f.Name == "service":
		return offering(db, values)
	case f.Name == "severity":
		return q.withFinding(db, values[0])
	case f.Filter == inventory.IsSet:
		return db.Where(column)
	case f.Filter == inventory.AtLeast:
		return db.Where(column+" >= ?", values[0])
	case own:
		return db.Where(column+" IN ?", values)
	}
	return db.Where("id IN (SELECT device_id FROM device_fields WHERE site_id = ? AND field = ? AND value IN ?)", q.Site, f.Name, values)
}

// anyOf begins a condition of which one part has to hold.
func anyOf(db *gorm.DB) *gorm.DB { return db.Session(&gorm.Session{NewDB: true}) }

func withTrait(db *gorm.DB, traits []string) *gorm.DB {
	any := anyOf(db)
	for _, trait := range traits {
		any = any.Or("JSON_CONTAINS(record, JSON_QUOTE(?), '$.traits')", trait)
	}
	return db.Where("traits").Where(any)
}

func (q DeviceQuery) ofGroup(db *gorm.DB, groups []string) *gorm.DB {
	any := anyOf(db).Where("group_name IN ?", groups)
	for _, filled := range q.Filled {
		any = any.Or("id IN (?)", filled.filter(anyOf(db).Model(&deviceRow{}).Select("id")))
	}
	return db.Where(any)
}

// inNetworks goes by the subnets that the names of networks mean.
func (q DeviceQuery) inNetworks(db *gorm.DB) *gorm.DB {
	any := anyOf(db)
	for _, n := range q.Networks {
		first, last := sortable(n.Masked().Addr()), sortable(netrange.Last(n))
		any = any.Or("addr BETWEEN ? AND ?", first, last).Or("id IN (SELECT device_id FROM tenures WHERE site_id = ? AND until IS NULL AND addr BETWEEN ? AND ?)", q.Site, first, last)
	}
	return db.Where(any)
}

func (q DeviceQuery) withFinding(db *gorm.DB, severity string) *gorm.DB {
	least, _ := finding.ParseSeverity(severity) // read by inventory.ParseQuery; all where it is none
	return db.Where("id IN (SELECT d.device_id FROM finding_devices d JOIN findings f ON f.id = d.finding_id WHERE f.site_id = ? AND f.state = ? AND f.severity >= ?)", q.Site, finding.Open, int(least))
}

func offering(db *gorm.DB, services []string) *gorm.DB {
	any := anyOf(db)
	for _, service := range services {
		any = any.Or("services LIKE ?", "% "+likeEscape.Replace(strings.ToLower(service))+" %")
	}
	return db.Where(any)
}

var likeEscape = strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`)

// maxValues is how many values of one field a filter is offered.
const maxValues = 500

// Values gives what a site's devices have in the fields that filters go by and that have any value, each in alphabetical order.
func (s *Store) Values(ctx context.Context, site uint64) (map[string][]string, error) {
	values := map[string][]string{}
	for _, f := range inventory.Filtered() {
		if f.Filter != inventory.OneOf || f.Choices != nil || f.Of == nil {
			continue
		}
		list, err := s.distinct(ctx, site, f.Name)
		if err != nil {
			return nil, own(err, "devices")
		}
		values[f.Param()] = list
	}
	services, err := s.distinct(ctx, site, "services")
	offered := map[string]bool{}
	for _, list := range services {
		for word := range strings.FieldsSeq(list) {
			if word[0] < '0' || word[0] > '9' {
				offered[word] = true
			}
		}
	}
	values["service"] = slices.Sorted(maps.Keys(offered))
	return values, own(err, "devices")
}

// distinct gives the values that a site's devices have of a field.
func (s *Store) distinct(ctx context.Context, site uint64, field string) (list []string, err error) {
	db, column := s.db.WithContext(ctx).Model(&deviceRow{}), field
	switch own, has := columns[field]; {
	case has:
		column = own
	case field != "services":
		db, column = s.db.WithContext(ctx).Model(&fieldRow{}).Where("field = ?", field), "value"
	}
	err = db.Where("site_id = ? AND "+column+" <> ''", site).Distinct().Order(column).Limit(maxValues).Pluck(column, &list).Error
	return list, err
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
