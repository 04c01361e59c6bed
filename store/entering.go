package store

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"airdrift/core/evidence"
	"airdrift/core/ledger"
)

// Enter says what a sweep makes of a site's devices. before gives for each sighting the device that it was taken for, nil where the sweep
// is entered first.
type Enter func(shelf ledger.Shelf, seen *Seen, before []uint64) (ledger.Result, error)

// Settle holds what came of devices against the register and what people have said, and gives the numbers of devices that are no more.
type Settle func(shelf ledger.Shelf, result *ledger.Result) (gone []uint64, err error)

// ApplySweep writes what a sweep that has ended makes of the ledger, and then the sweep as enter leaves it, in one transaction.
func (s *Store) ApplySweep(ctx context.Context, sweep *Sweep, enter Enter, settle Settle) error {
	err := s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := seal(tx, sweep.SiteID, sweep.ID); err != nil {
			return err
		}
		w := newWriter(tx, sweep.SiteID)
		seen, err := seenIn(tx, w.shelf.sets, sweep.ID)
		if err != nil {
			return err
		}
		result, err := enter(w.shelf, seen, nil)
		if err != nil {
			return err
		}
		gone, err := settle(w.shelf.again(), &result)
		if err != nil {
			return err
		}
		w.learn(result, seen)
		if err := w.write(&result, gone); err != nil {
			return err
		}
		if err := saveChanges(tx, sweep.SiteID, changesOf(sweep.ID, result)); err != nil {
			return err
		}
		if err := saveDevicesIn(tx, sweep.ID, numbersOf(result)); err != nil {
			return err
		}
		row := toSweepRow(*sweep)
		return tx.Save(&row).Error
	})
	return own(err, fmt.Sprintf("sweep %d", sweep.ID))
}

// numbersOf gives for each sighting of a sweep the number of its device.
func numbersOf(result ledger.Result) []uint64 {
	numbers := make([]uint64, len(result.Of))
	for i, at := range result.Of {
		numbers[i] = result.Devices[at].ID
	}
	return numbers
}

// Resettle holds devices of a site against the register and what people have said anew: those that settle finds.
func (s *Store) Resettle(ctx context.Context, site uint64, settle Settle) error {
	err := s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error { return resettle(tx, site, settle) })
	return own(err, "devices")
}

func resettle(tx *gorm.DB, site uint64, settle Settle) error {
	w := newWriter(tx, site)
	var result ledger.Result
	gone, err := settle(w.shelf.again(), &result)
	if err != nil {
		return err
	}
	return w.write(&result, gone)
}

// packedFacts is the evidence of a device as it is stored.
type packedFacts struct {
	passing []byte
	at      time.Time
}

// writer writes devices: those rows that change, and no others.
type writer struct {
	tx    *gorm.DB
	site  uint64
	shelf *shelf
	facts map[int]packedFacts // of devices of a result by their index, where they are stored as the facts of a sighting already
	anew  bool                // all devices of the site are written, whatever there was
}

func newWriter(tx *gorm.DB, site uint64) *writer {
	return &writer{tx: tx, site: site, shelf: newShelf(tx, site), facts: map[int]packedFacts{}}
}

// learn notes the facts of devices that say the same as one of their sightings, so that they need not be unpacked or packed.
func (w *writer) learn(result ledger.Result, seen *Seen) {
	for i, at := range result.Of {
		if seen.Hashes[i] == result.Devices[at].Facts {
			w.facts[at] = packedFacts{seen.passing[i], seen.Sightings[i].FirstAt}
		}
	}
}

// write writes the devices of a result and gives numbers to those that have none. Of those that are as they were it writes when they
// were seen.
func (w *writer) write(result *ledger.Result, gone []uint64) error {
	if err := w.merge(result); err != nil {
		return err
	}
	for ids := range slices.Chunk(gone, batchSize) {
		if err := w.tx.Delete(&deviceRow{}, ids).Error; err != nil {
			return err
		}
	}
	changed, seen, err := w.part(result)
	if err != nil {
		return err
	}
	if err := w.writeRows(result, changed); err != nil {
		return err
	}
	if err := w.writeSeen(result, seen); err != nil {
		return err
	}
	if err := w.writeTerms(result, changed); err != nil {
		return err
	}
	if err := w.writeFields(result, changed); err != nil {
		return err
	}
	if err := w.writeViews(result); err != nil {
		return err
	}
	if err := w.writeTenures(result); err != nil {
		return err
	}
	if err := w.writeUnjudged(result, changed, seen, gone); err != nil {
		return err
	}
	if err := w.writeHolders(result, gone); err != nil || len(changed)+len(gone)+len(result.Merges) == 0 {
		return err
	}
	return recount(w.tx, w.site)
}

// merge takes out devices that were merged into others; what they held goes over.
func (w *writer) merge(result *ledger.Result) error {
	for _, m := range result.Merges {
		into := result.Devices[m.Into].ID
		if err := w.tx.Exec("UPDATE tenures SET device_id = ? WHERE device_id = ?", into, m.From).Error; err != nil {
			return err
		}
		if err := w.tx.Delete(&deviceRow{}, m.From).Error; err != nil {
			return err
		}
	}
	return nil
}

// part gives the devices that have changed, by their index, and those that were seen and have not.
func (w *writer) part(result *ledger.Result) (changed, seen []int, err error) {
	for i := range result.Devices {
		d := &result.Devices[i]
		before, known := w.shelf.read[d.ID]
		form, err := toForm(*d)
		if err != nil {
			return nil, nil, err
		}
		switch {
		case !known || before.form != formNumber(form) || before.facts != d.Facts:
			changed = append(changed, i)
		case d.LastSweep != before.lastSweep || !d.LastSeen.Equal(before.lastSeen):
			seen = append(seen, i)
		}
	}
	return changed, seen, nil
}

// writeRows writes the rows of devices that have changed, new ones among them.
func (w *writer) writeRows(result *ledger.Result, changed []int) error {
	var fresh, rewritten []deviceRow
	var added []int
	words := newWordBook(w.site, len(changed))
	for _, i := range changed {
		row, err := w.row(result.Devices[i], i, words)
		if err != nil {
			return err
		}
		if row.ID == 0 {
			fresh, added = append(fresh, row), append(added, i)
		} else {
			rewritten = append(rewritten, row)
		}
	}
	for _, part := range batches(rewritten, deviceRow.size) {
		if err := w.tx.Clauses(upsertAll).Create(part).Error; err != nil {
			return err
		}
	}
	// Apart from the others, as only rows that are all new get their numbers back in order.
	for _, part := range batches(fresh, deviceRow.size) {
		if err := w.tx.Create(part).Error; err != nil {
			return err
		}
	}
	for n, row := range fresh {
		result.Devices[added[n]].ID = row.ID
	}
	for n, i := range changed {
		words.rows[n].DeviceID = result.Devices[i].ID
	}
	return words.write(w.tx)
}

// row makes the row of a device, with its evidence, and takes in its words.
func (w *writer) row(d ledger.Device, i int, words *wordBook) (deviceRow, error) {
	packed, has := w.facts[i]
	switch {
	case d.Facts.IsZero():
	case has && d.Items != nil:
	case d.Items != nil:
		p := evidence.Pack(d.Items, d.LastSeen)
		packed = packedFacts{p.Passing, d.LastSeen}
		if err := w.shelf.sets.put(p.Hash, p.Set); err != nil {
			return deviceRow{}, err
		}
	case has:
		set, err := w.shelf.sets.get(d.Facts)
		if err != nil {
			return deviceRow{}, err
		}
		if d.Items, err = evidence.Unpack(set, packed.passing, packed.at); err != nil {
			return deviceRow{}, err
		}
	default:
		var stored deviceRow
		if err := w.tx.Select("passing, facts_at").First(&stored, d.ID).Error; err != nil {
			return deviceRow{}, err
		}
		packed = packedFacts{stored.Passing, given(stored.FactsAt)}
		var err error
		if d.Items, err = w.shelf.Items(d); err != nil {
			return deviceRow{}, err
		}
	}
	words.add(d)
	row, err := toDeviceRow(w.site, d)
	if err == nil && !d.Facts.IsZero() {
		row.Passing, row.FactsAt = packed.passing, &packed.at
	}
	return row, err
}

// seenRow is a device that was seen again and is as it was.
type seenRow struct {
	ID        uint64
	LastSeen  time.Time
	LastSweep uint64
	FactsAt   *time.Time
	Passing   []byte
}

func (seenRow) TableName() string { return "seen_again" }

// writeSeen writes when devices were seen that are as they were.
func (w *writer) writeSeen(result *ledger.Result, seen []int) error {
	if len(seen) == 0 {
		return nil
	}
	if err := w.tx.Exec("CREATE TEMPORARY TABLE seen_again (id BIGINT UNSIGNED NOT NULL PRIMARY KEY, last_seen DATETIME(6) NOT NULL, last_sweep BIGINT UNSIGNED NOT NULL, facts_at DATETIME(6) NULL, passing MEDIUMBLOB NULL)").Error; err != nil {
		return err
	}
	for part := range slices.Chunk(seen, batchSize) {
		rows := make([]seenRow, len(part))
		for n, i := range part {
			d := result.Devices[i]
			rows[n] = seenRow{ID: d.ID, LastSeen: d.LastSeen, LastSweep: d.LastSweep}
			packed, has := w.facts[i]
			if !has && d.Items != nil {
				packed, has = packedFacts{evidence.Pack(d.Items, d.LastSeen).Passing, d.LastSeen}, true
			}
			if has {
				rows[n].FactsAt, rows[n].Passing = &packed.at, packed.passing
			}
		}
		for _, some := range batches(rows, func(r seenRow) int { return len(r.Passing) + 100 }) {
			if err := w.tx.Create(some).Error; err != nil {
				return err
			}
		}
	}
	if err := w.tx.Exec("UPDATE devices d JOIN seen_again s ON s.id = d.id SET d.last_seen = s.last_seen, d.last_sweep = s.last_sweep, " +
		"d.facts_at = COALESCE(s.facts_at, d.facts_at), d.passing = COALESCE(s.passing, d.passing)").Error; err != nil {
		return err
	}
	return w.tx.Exec("DROP TEMPORARY TABLE seen_again").Error
}

type termRow struct {
	SiteID   uint64
	Term     uint64
	DeviceID uint64
}

func (termRow) TableName() string { return "device_terms" }

// writeTerms writes by what devices are found that have changed.
func (w *writer) writeTerms(result *ledger.Result, changed []int) error {
	var rows []termRow
	var known []uint64
	for _, i := range changed {
		d := result.Devices[i]
		if _, was := w.shelf.read[d.ID]; was {
			known = append(known, d.ID)
		}
		for _, term := range d.Terms() {
			rows = append(rows, termRow{w.site, uint64(term), d.ID})
		}
	}
	for ids := range slices.Chunk(known, batchSize) {
		if err := w.tx.Where("device_id IN ?", ids).Delete(&termRow{}).Error; err != nil {
			return err
		}
	}
	return createMany(w.tx, rows)
}

type presenceRow struct {
	DeviceID  uint64
	Vantage   string
	SiteID    uint64
	Addr      []byte
	Addrs     string
	Reasons   string // why what was seen is taken to be the device, each in a line
	OnSegment bool
	Seen      time.Time
	SweepID   uint64
	Asked     uint64
}

func (presenceRow) TableName() string { return "presence" }

// maxVantage is what the column takes, in bytes.
const maxVantage = 255

func vantageText(vantage string) string { return fit(vantage, maxVantage) }

// renewal is what is rewritten of a view whose device was seen where it stood. It is the same of many devices, so that it is written of
// all at once.
type renewal struct {
	vantage, reasons string
	first            bool // the newest view of its device, which has the reasons
	seen             time.Time
	sweep, asked     uint64
}

// viewAt is a view of a device, both by their index.
type viewAt struct{ device, view int }

// fewRenewed is up to how many equal renewals are quicker written row by row.
const fewRenewed = 50

// writeViews writes from where devices were seen, where that has changed.
func (w *writer) writeViews(result *ledger.Result) error {
	renewed := map[renewal][]viewAt{}
	var changed []viewAt
	for n, d := range result.Devices {
		before := w.shelf.read[d.ID]
		if err := w.dropViews(d, before.views); err != nil {
			return err
		}
		for i, v := range d.Views {
			at := slices.IndexFunc(before.views, func(b ledger.View) bool { return b.Vantage == v.Vantage && slices.Equal(b.Addrs, v.Addrs) })
			reasoned := i == 0 && !slices.Equal(before.reasons, d.Reasons)
			switch {
			case at < 0 || i == 0 && (at != 0 || before.onSegment != d.Segment.IsValid()):
				changed = append(changed, viewAt{n, i})
			case reasoned || before.views[at].Sweep != v.Sweep || before.views[at].Asked != v.Asked:
				r := renewal{vantage: v.Vantage, first: i == 0, seen: v.Seen, sweep: v.Sweep, asked: v.Asked}
				if r.first {
					r.reasons = reasonsText(d)
				}
				renewed[r] = append(renewed[r], viewAt{n, i})
			}
		}
	}
	for r, places := range renewed {
		if len(places) <= fewRenewed {
			changed = append(changed, places...)
		} else if err := w.renewViews(result, r, places); err != nil {
			return err
		}
	}
	for part := range slices.Chunk(changed, batchSize) {
		rows := make([]presenceRow, len(part))
		for n, at := range part {
			rows[n] = w.presence(result.Devices[at.device], at.view)
		}
		if err := createManyOver(w.tx, rows, func(r presenceRow) int { return len(r.Addrs) + len(r.Reasons) + 200 }); err != nil {
			return err
		}
	}
	return nil
}

// reasonsText gives why what was seen is taken to be a device as it is stored.
func reasonsText(d ledger.Device) string { return fit(strings.Join(d.Reasons, "\n"), maxText) }

// dropViews takes out places from where a device was seen and is not any more.
func (w *writer) dropViews(d ledger.Device, before []ledger.View) error {
	for _, b := range before {
		if slices.ContainsFunc(d.Views, func(v ledger.View) bool { return v.Vantage == b.Vantage }) {
			continue
		}
		if err := w.tx.Exec("DELETE FROM presence WHERE device_id = ? AND vantage = ?", d.ID, vantageText(b.Vantage)).Error; err != nil {
			return err
		}
	}
	return nil
}

// presence makes the row of one view of a device.
func (w *writer) presence(d ledger.Device, view int) presenceRow {
	v := d.Views[view]
	row := presenceRow{
		DeviceID: d.ID, Vantage: vantageText(v.Vantage), SiteID: w.site, Addr: sortable(v.Settled()), Addrs: addrsText(v.Addrs), OnSegment: d.Segment.IsValid(), Seen: v.Seen, SweepID: v.Sweep, Asked: v.Asked,
	}
	if view == 0 {
		row.Reasons = reasonsText(d)
	}
	return row
}

// renewViews writes what is equal of many views.
func (w *writer) renewViews(result *ledger.Result, r renewal, places []viewAt) error {
	set, args := "seen = ?, sweep_id = ?, asked = ?", []any{r.seen, r.sweep, r.asked}
	if r.first {
		set, args = set+", reasons = ?", append(args, r.reasons)
	}
	for part := range slices.Chunk(places, batchSize) {
		devices := make([]uint64, len(part))
		for n, at := range part {
			devices[n] = result.Devices[at.device].ID
		}
		if err := w.tx.Exec("UPDATE presence SET "+set+" WHERE device_id IN ? AND vantage = ?", append(slices.Clone(args), devices, vantageText(r.vantage))...).Error; err != nil {
			return err
		}
	}
	return nil
}

type tenureRow struct {
	ID         uint64
	SiteID     uint64
	DeviceID   uint64
	Addr       []byte
	MAC        []byte `gorm:"column:mac"`
	Unit       string
	Vantage    string
	Since      time.Time
	SinceSweep uint64
	Until      *time.Time
	UntilSweep uint64
	Ended      bool
}

func (tenureRow) TableName() string { return "tenures" }

func toTenureRow(site, device uint64, t ledger.Tenure, ended bool) tenureRow {
	return tenureRow{
		SiteID: site, DeviceID: device, Addr: sortable(t.Addr), MAC: macBytes(t.MAC), Unit: t.Unit, Vantage: vantageText(t.Vantage), Since: t.Since, SinceSweep: t.SinceSweep,
		Until: some(t.Until, !t.Until.IsZero()), UntilSweep: t.UntilSweep, Ended: ended,
	}
}

// writeTenures writes what devices hold where that has changed, and what they hold no more.
func (w *writer) writeTenures(result *ledger.Result) error {
	var rows []tenureRow
	var renewed []uint64
	merged := map[int]bool{}
	for _, m := range result.Merges {
		merged[m.Into] = true
	}
	for i, d := range result.Devices {
		before, known := w.shelf.read[d.ID]
		if known && !merged[i] && !w.anew && slices.Equal(before.holds, d.Holds) {
			continue
		}
		if known && !w.anew {
			renewed = append(renewed, d.ID)
		}
		for _, t := range d.Holds {
			rows = append(rows, toTenureRow(w.site, d.ID, t, false))
		}
	}
	for _, e := range result.Ended {
		rows = append(rows, toTenureRow(w.site, result.Devices[e.Device].ID, e.Tenure, true))
	}
	if w.anew {
		if err := w.tx.Where("site_id = ?", w.site).Delete(&tenureRow{}).Error; err != nil {
			return err
		}
	}
	for ids := range slices.Chunk(renewed, batchSize) {
		if err := w.tx.Where("device_id IN ? AND NOT ended", ids).Delete(&tenureRow{}).Error; err != nil {
			return err
		}
	}
	return createMany(w.tx, rows)
}

// writeHolders writes which device each decision applies to, where that has changed.
func (w *writer) writeHolders(result *ledger.Result, gone []uint64) error {
	holder, concerned := map[uint64]uint64{}, map[uint64]bool{}
	for _, d := range result.Devices {
		concerned[d.ID] = true
		for _, decision := range d.Decisions {
			holder[decision] = d.ID
		}
	}
	for _, id := range gone {
		concerned[id] = true
	}
	for _, m := range result.Merges {
		concerned[m.From] = true
	}
	var rows []decisionRow
	if err := w.tx.Select("id, held_by").Where("site_id = ? AND "+holding, w.site).Find(&rows).Error; err != nil {
		return err
	}
	for _, r := range rows {
		to, applies := holder[r.ID]
		if r.HeldBy == to || !applies && !concerned[r.HeldBy] {
			continue
		}
		if err := w.tx.Model(&decisionRow{}).Where("id = ?", r.ID).Update("held_by", to).Error; err != nil {
			return err
		}
	}
	return nil
}
