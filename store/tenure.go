package store

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"gorm.io/gorm"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
	"airdrift/core/ledger"
)

// Tenure is a time in which a device held an address.
type Tenure struct {
	ledger.Tenure        // with both its ends
	Device        uint64 // the device
	Name          string // as it is called now; "" where it has none
	Ended         bool   // it is known that the device holds it no more
	number        uint64
}

// TenureQuery says which tenures to list: those of a device, or of a site.
type TenureQuery struct {
	Site   uint64
	Device uint64      // only those of one device; 0 for all
	Addr   netip.Addr  // only those of one address; invalid for all
	MAC    hwaddr.MAC  // only those with one MAC address; zero for all
	At     time.Time   // only those that lasted at that time; zero for all
	Below  *TenureMark // leaves out what is not behind it, to go on from a page; nil for none
	Limit  int
}

// TenureMark is the place of a tenure in a list.
type TenureMark struct {
	Until, Since time.Time
	ID           uint64
}

// Valid reports whether it can be the place of a tenure.
func (m TenureMark) Valid() bool { return isStorable(m.Until) && isStorable(m.Since) }

// Mark gives the place of a tenure.
func (t Tenure) Mark() TenureMark { return TenureMark{t.Until, t.Since, t.number} }

// Tenures gives tenures, the latest first.
func (s *Store) Tenures(ctx context.Context, q TenureQuery) ([]Tenure, error) {
	db := s.db.WithContext(ctx).Table("tenures t").Joins("JOIN devices d ON d.id = t.device_id").
		Joins("LEFT JOIN presence p ON p.device_id = t.device_id AND p.vantage = t.vantage").
		Select("t.*, d.name, COALESCE(t.until, p.seen, t.since) AS last, IF(t.until IS NULL, COALESCE(p.sweep_id, 0), t.until_sweep) AS last_sweep").
		Where("t.site_id = ?", q.Site)
	if q.Device != 0 {
		db = db.Where("t.device_id = ?", q.Device)
	}
	if q.Addr.IsValid() {
		db = db.Where("t.addr = ?", sortable(q.Addr))
	}
	if !q.MAC.IsZero() {
		db = db.Where("t.mac = ?", macBytes(q.MAC))
	}
	if !q.At.IsZero() {
		db = db.Where("t.since <= ? AND COALESCE(t.until, p.seen) >= ?", q.At, q.At)
	}
	if m := q.Below; m != nil {
		db = db.Where("(COALESCE(t.until, p.seen, t.since), t.since, t.id) < (?, ?, ?)", m.Until, m.Since, m.ID)
	}
	var rows []struct {
		Row       tenureRow `gorm:"embedded"`
		Name      string
		Last      *time.Time
		LastSweep uint64
	}
	if err := db.Order("last DESC, t.since DESC, t.id DESC").Limit(q.Limit).Find(&rows).Error; err != nil {
		return nil, own(err, "tenures")
	}
	list := make([]Tenure, len(rows))
	for i, r := range rows {
		list[i] = Tenure{r.Row.tenure(), r.Row.DeviceID, r.Name, r.Row.Ended, r.Row.ID}
		list[i].Until, list[i].UntilSweep = given(r.Last), r.LastSweep
	}
	return list, nil
}

func (r tenureRow) tenure() ledger.Tenure {
	return ledger.Tenure{
		Addr: fromSortable(r.Addr), MAC: macOf(r.MAC), Unit: r.Unit, Vantage: r.Vantage, Since: r.Since, SinceSweep: r.SinceSweep, Until: given(r.Until), UntilSweep: r.UntilSweep,
	}
}

// maxTenures is how many tenures of one device its history is put together from.
const maxTenures = 2000

// SweepMark is the place of a sweep in the order of their times; the zero value stands before all.
type SweepMark struct {
	Began time.Time
	ID    uint64
}

// Valid reports whether it can be the place of a sweep.
func (m SweepMark) Valid() bool { return isStorable(m.Began) }

// isStorable reports whether the database takes a time.
func isStorable(at time.Time) bool { return at.Year() >= 1 && at.Year() <= 9999 }

// below leaves out the sweeps that are not before the mark.
func (m SweepMark) below(db *gorm.DB) *gorm.DB {
	if m.ID == 0 {
		return db
	}
	return db.Where("began < ? OR began = ? AND id < ?", m.Began, m.Began, m.ID)
}

// History gives sightings of a device, the newest sweep first: whatever was met as the device held it then. below leaves newer ones out. It
// gives those of whole sweeps, about limit of them, and where to go on; nil where there are no more.
func (s *Store) History(ctx context.Context, device uint64, below SweepMark, limit int) ([]SightingOf, *SweepMark, error) {
	list, next, err := s.history(ctx, device, below, limit)
	return list, next, own(err, fmt.Sprintf("device %d", device))
}

func (s *Store) history(ctx context.Context, device uint64, below SweepMark, limit int) ([]SightingOf, *SweepMark, error) {
	db := s.db.WithContext(ctx)
	var row deviceRow
	if err := db.Select("id, site_id").First(&row, device).Error; err != nil {
		return nil, nil, err
	}
	site := row.SiteID
	tenures, err := s.Tenures(ctx, TenureQuery{Site: site, Device: device, Limit: maxTenures})
	if err != nil {
		return nil, nil, err
	}
	var sweeps []sweepRow
	if err := below.below(db.Select("id, began").Where("site_id = ?", site)).Order("began DESC, id DESC").Find(&sweeps).Error; err != nil {
		return nil, nil, err
	}
	var list []SightingOf
	var next *SweepMark
	const atOnce = 20 // sweeps
	for n, part := range slices.Collect(slices.Chunk(sweeps, atOnce)) {
		var keys [][]any
		for _, sweep := range part {
			for _, t := range tenures {
				if !sweep.Began.Before(t.Since) && !sweep.Began.After(t.Until) {
					keys = append(keys, []any{sweep.ID, sortable(t.Addr), macBytes(t.MAC), t.Unit})
				}
			}
		}
		for some := range slices.Chunk(keys, batchSize) {
			found, err := readSightings(db.Raw("SELECT "+sightingFields+"f.facts FROM sightings s JOIN fact_sets f ON f.site_id = ? AND f.hash = s.facts "+
				"WHERE (s.sweep_id, s.addr, s.mac, s.unit) IN ?", site, some))
			if err != nil {
				return nil, nil, err
			}
			list = append(list, found...)
		}
		if last := part[len(part)-1]; len(list) >= limit && (n+1)*atOnce < len(sweeps) {
			next = &SweepMark{last.Began, last.ID}
			break
		}
	}
	at := map[uint64]int{}
	for i, sweep := range sweeps {
		at[sweep.ID] = i
	}
	slices.SortStableFunc(list, func(a, b SightingOf) int { return at[a.Sweep] - at[b.Sweep] })
	return list, next, nil
}

// HeldBy gives for each of some sightings of a site the device that is taken to have held its place then: the last that was met there by its
// time, or else the first that was met there later; 0 for none.
func (s *Store) HeldBy(ctx context.Context, site uint64, sightings []evidence.Sighting) ([]uint64, error) {
	held := make([]uint64, len(sightings))
	var rows []tenureRow
	for part := range slices.Chunk(sightings, batchSize) {
		var addrs, macs [][]byte
		for _, sg := range part {
			addrs = append(addrs, sortable(sg.Addr))
			if !sg.Addr.IsValid() { // of which there may be very many
				macs = append(macs, macBytes(sg.MAC))
			}
		}
		var some []tenureRow
		err := s.db.WithContext(ctx).Select("device_id, addr, mac, unit, since").Where("site_id = ? AND addr IN ? AND (addr <> '' OR mac IN ?)", site, addrs, macs).
			Order("since DESC, id DESC").Find(&some).Error
		if err != nil {
			return nil, own(err, "tenures")
		}
		rows = append(rows, some...)
	}
	at := map[evidence.Who][]tenureRow{}
	for _, r := range rows {
		who := evidence.Who{Addr: fromSortable(r.Addr), MAC: macOf(r.MAC), Unit: r.Unit}
		at[who] = append(at[who], r)
	}
	for i, sg := range sightings {
		for _, r := range at[sg.Who()] { // the latest first
			held[i] = r.DeviceID
			if !r.Since.After(sg.FirstAt) {
				break
			}
		}
	}
	return held, nil
}
