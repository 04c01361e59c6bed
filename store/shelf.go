package store

import (
	"database/sql"
	"fmt"
	"hash/fnv"
	"net/netip"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"airdrift/core/evidence"
	"airdrift/core/ledger"
	"airdrift/core/netrange"
)

// shelf gives a site's devices to the ledger, each once and without their evidence. It keeps what was stored of them, so that what comes of
// them can be held against that.
type shelf struct {
	tx    *gorm.DB
	site  uint64
	sets  *factSets
	read  map[uint64]held
	given map[uint64]bool
	whole bool // all were given
}

// held is what was stored of a device before.
type held struct {
	form      uint64 // a hash of its form
	facts     evidence.Hash
	lastSeen  time.Time
	lastSweep uint64
	holds     []ledger.Tenure
	views     []ledger.View
	onSegment bool
	reasons   []string
}

func newShelf(tx *gorm.DB, site uint64) *shelf {
	return &shelf{tx: tx, site: site, sets: newFactSets(tx, site), read: map[uint64]held{}, given: map[uint64]bool{}}
}

// again gives the shelf to somebody who was given nothing yet.
func (s *shelf) again() *shelf {
	return &shelf{tx: s.tx, site: s.site, sets: s.sets, read: s.read, given: map[uint64]bool{}}
}

var _ ledger.Shelf = (*shelf)(nil)

// manyTerms is from how many terms on it is quicker to read all devices.
const manyTerms = 20_000

// KnownBy gives the devices that have one of the terms.
func (s *shelf) KnownBy(terms []ledger.Term) ([]ledger.Device, error) {
	if len(terms) >= manyTerms {
		return s.all()
	}
	var devices []ledger.Device
	for part := range slices.Chunk(terms, 1000) {
		found, err := s.devices("d.id IN (SELECT device_id FROM device_terms WHERE site_id = ? AND term IN ?) ORDER BY d.id", s.site, part)
		if err != nil {
			return nil, err
		}
		devices = append(devices, found...)
	}
	return devices, nil
}

// maxSpans is how many pieces of a range are asked for one by one.
const maxSpans = 100

// Expected gives the devices that are seen still, were seen from a vantage, and may stand where a sweep covers.
func (s *shelf) Expected(vantage string, covered netrange.Set, onLink []netip.Prefix) ([]ledger.Device, error) {
	where, args := "d.site_id = ? AND d.presence = ?", []any{s.site, ledger.Seen}
	var places []string
	place := func(first, last netip.Addr) {
		places = append(places, "p.addr BETWEEN ? AND ?")
		args = append(args, sortable(first), sortable(last))
	}
	where += " AND d.id IN (SELECT p.device_id FROM presence p WHERE p.site_id = ? AND p.vantage = ?"
	args = append(args, s.site, vantageText(vantage))
	if spans := covered.Spans(); len(spans) <= maxSpans {
		for _, span := range spans {
			place(span.First, span.Last)
		}
		if covered.Covers(onLink) { // who is found by calling all at once, and by hearing
			places = append(places, "p.on_segment")
		}
		if len(places) == 0 {
			return nil, nil
		}
		where += " AND (" + strings.Join(places, " OR ") + ")"
	}
	return s.devices(where+") ORDER BY d.id", args...)
}

// Missing gives the devices that stand for entries of which none was seen.
func (s *shelf) Missing() ([]ledger.Device, error) {
	return s.devices("d.site_id = ? AND d.first_seen IS NULL ORDER BY d.id", s.site)
}

// all gives all devices.
func (s *shelf) all() ([]ledger.Device, error) {
	devices, err := s.devices("d.site_id = ? ORDER BY d.id", s.site)
	s.whole = s.whole || err == nil
	return devices, err
}

// Items gives the evidence of a device.
func (s *shelf) Items(d ledger.Device) ([]evidence.Item, error) { return itemsOf(s.tx, s.sets, d) }

func itemsOf(tx *gorm.DB, sets *factSets, d ledger.Device) ([]evidence.Item, error) {
	if d.Facts.IsZero() {
		return nil, nil
	}
	var row struct {
		Passing []byte
		FactsAt *time.Time
	}
	if err := tx.Table("devices").Select("passing, facts_at").Where("id = ?", d.ID).Scan(&row).Error; err != nil {
		return nil, err
	}
	set, err := sets.get(d.Facts)
	if err != nil {
		return nil, fmt.Errorf("device %d: %w", d.ID, err)
	}
	items, err := evidence.Unpack(set, row.Passing, given(row.FactsAt))
	if err != nil {
		return nil, fmt.Errorf("device %d: %w", d.ID, err)
	}
	return items, nil
}

// devices reads devices that were not given yet, with where they were seen, and remembers them.
func (s *shelf) devices(where string, args ...any) ([]ledger.Device, error) {
	if s.whole {
		return nil, nil
	}
	devices, forms, err := readDevices(s.tx, s.given, where, args...)
	if err != nil {
		return nil, err
	}
	for i, d := range devices {
		s.given[d.ID] = true
		s.read[d.ID] = held{form: forms[i], facts: d.Facts, lastSeen: d.LastSeen, lastSweep: d.LastSweep, holds: d.Holds, views: d.Views, onSegment: d.Segment.IsValid(), reasons: d.Reasons}
	}
	return devices, nil
}

// readDevices reads devices without their evidence, but for some, and gives a hash of the form of each.
func readDevices(tx *gorm.DB, but map[uint64]bool, where string, args ...any) ([]ledger.Device, []uint64, error) {
	rows, err := tx.Raw("SELECT d.id, d.record, d.facts, d.last_seen, d.last_sweep FROM devices d WHERE "+where, args...).Rows()
	if err != nil {
		return nil, nil, err
	}
	var devices []ledger.Device
	var forms []uint64
	for rows.Next() {
		var id, lastSweep uint64
		var record, hash sql.RawBytes
		var lastSeen *time.Time
		if err := rows.Scan(&id, &record, &hash, &lastSeen, &lastSweep); err != nil {
			return nil, nil, closing(rows, err)
		}
		if but[id] {
			continue
		}
		d, err := fromForm(record)
		if err != nil {
			return nil, nil, closing(rows, fmt.Errorf("stored device %d: %w", id, err))
		}
		d.ID, d.LastSeen, d.LastSweep = id, given(lastSeen), lastSweep
		copy(d.Facts[:], hash)
		devices, forms = append(devices, d), append(forms, formNumber(record))
	}
	if err := closing(rows, rows.Err()); err != nil {
		return nil, nil, err
	}
	return devices, forms, readViews(tx, devices)
}

// formNumber gives a number by which forms of a device are told apart.
func formNumber(form []byte) uint64 {
	hash := fnv.New64a()
	hash.Write(form)
	return hash.Sum64()
}

// readViews adds to devices from where they were seen, the newest first.
func readViews(tx *gorm.DB, devices []ledger.Device) error {
	at := make(map[uint64]int, len(devices))
	numbers := make([]uint64, len(devices))
	for i, d := range devices {
		at[d.ID], numbers[i] = i, d.ID
	}
	for part := range slices.Chunk(numbers, 2000) {
		rows, err := tx.Raw("SELECT device_id, vantage, addrs, reasons, seen, sweep_id, asked FROM presence WHERE device_id IN ? ORDER BY device_id, seen DESC, sweep_id DESC, vantage", part).Rows()
		if err != nil {
			return err
		}
		for rows.Next() {
			var device uint64
			var addrs, reasons string
			var v ledger.View
			if err := rows.Scan(&device, &v.Vantage, &addrs, &reasons, &v.Seen, &v.Sweep, &v.Asked); err != nil {
				return closing(rows, err)
			}
			v.Vantage = shared(v.Vantage)
			for text := range strings.FieldsSeq(addrs) {
				if a, err := netip.ParseAddr(text); err == nil { // written by us
					v.Addrs = append(v.Addrs, a)
				}
			}
			d := &devices[at[device]]
			if len(d.Views) == 0 && reasons != "" {
				d.Reasons = strings.Split(shared(reasons), "\n")
			}
			d.Views = append(d.Views, v)
		}
		if err := closing(rows, rows.Err()); err != nil {
			return err
		}
	}
	return nil
}
