package store

import (
	"bytes"
	"cmp"
	"context"
	"database/sql"
	"encoding/binary"
	"fmt"
	"math"
	"net/netip"
	"slices"
	"time"
	"unicode/utf8"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"airdrift/core/evidence"
	"airdrift/core/hwaddr"
	"airdrift/core/ledger"
)

// draftRow is a sighting of a sweep that runs.
type draftRow struct {
	SweepID     uint64
	Addr        []byte
	MAC         []byte `gorm:"column:mac"`
	Unit        string
	Ring        int
	LearnedFrom string
	Answered    bool
	Whole       bool
	FirstAt     time.Time
	Facts       []byte
	Passing     []byte
	Times       []byte
	FactSet     []byte // empty where the set is stored already
}

func (draftRow) TableName() string { return "drafts" }

// Refused is a sighting that the database does not take, and why.
type Refused struct {
	Sighting evidence.Sighting
	Cause    error // wraps ErrRefused
}

// maxLearnedFrom is what the column takes.
const maxLearnedFrom = 200

// SaveSightings writes sightings of a sweep that runs; one that is there already is written over. One that the database does not take
// holds back no other: it is given back.
func (s *Store) SaveSightings(ctx context.Context, sweep uint64, sightings []evidence.Sighting) ([]Refused, error) {
	rows := make([]draftRow, len(sightings))
	of := map[evidence.Who]int{}
	for i, sg := range sightings {
		packed := evidence.Pack(withoutTimes(sg.Items), sg.FirstAt)
		rows[i] = draftRow{
			SweepID: sweep, Addr: sortable(sg.Addr), MAC: macBytes(sg.MAC), Unit: fit(sg.Unit, evidence.MaxUnit), Ring: sg.Ring, LearnedFrom: fit(sg.LearnedFrom, maxLearnedFrom),
			Answered: sg.Answered, Whole: sg.Whole, FirstAt: sg.FirstAt, Facts: packed.Hash[:], Passing: packed.Passing, Times: packTimes(sg.Items), FactSet: packed.Set,
		}
		of[rows[i].who()] = i
	}
	if err := s.dropKnownSets(ctx, sweep, rows); err != nil {
		return nil, own(err, "sightings")
	}
	upsert := s.db.WithContext(ctx).Clauses(clause.OnConflict{DoUpdates: clause.AssignmentColumns([]string{"answered", "whole", "facts", "passing", "times", "fact_set"})})
	var refused []Refused
	for _, part := range batches(rows, func(r draftRow) int { return len(r.FactSet) + len(r.Passing) + len(r.Times) + 200 }) {
		failed, err := saveEach(upsert.Session(&gorm.Session{}), part)
		if err != nil {
			return refused, own(err, "sightings")
		}
		for _, f := range failed {
			refused = append(refused, Refused{sightings[of[f.row.who()]], own(f.cause, "sighting")})
		}
	}
	return refused, nil
}

// dropKnownSets takes from drafts the sets of facts that the site has already, from an earlier sweep.
func (s *Store) dropKnownSets(ctx context.Context, sweep uint64, rows []draftRow) error {
	for part := range slices.Chunk(rows, batchSize) {
		hashes := make([][]byte, len(part))
		for i, r := range part {
			hashes[i] = r.Facts
		}
		known, err := s.db.WithContext(ctx).Raw("SELECT hash FROM fact_sets WHERE site_id = (SELECT site_id FROM sweeps WHERE id = ?) AND hash IN ?", sweep, hashes).Rows()
		if err != nil {
			return err
		}
		has := map[evidence.Hash]bool{}
		for known.Next() {
			var hash sql.RawBytes
			if err := known.Scan(&hash); err != nil {
				return closing(known, err)
			}
			has[evidence.Hash(hash)] = true
		}
		if err := closing(known, known.Err()); err != nil {
			return err
		}
		for i := range part {
			if has[evidence.Hash(part[i].Facts)] {
				part[i].FactSet = []byte{}
			}
		}
	}
	return nil
}

func (r draftRow) who() evidence.Who {
	return evidence.Who{Addr: fromSortable(r.Addr), MAC: macOf(r.MAC), Unit: r.Unit}
}

type refusedRow struct {
	row   draftRow
	cause error
}

// saveEach writes rows together, and where the database does not take them in halves, until those are found that it refuses.
func saveEach(db *gorm.DB, rows []draftRow) ([]refusedRow, error) {
	err := db.CreateInBatches(rows, batchSize).Error
	if err == nil || !isRefused(err) {
		return nil, err
	}
	if len(rows) == 1 {
		return []refusedRow{{rows[0], err}}, nil
	}
	half := len(rows) / 2
	first, err := saveEach(db, rows[:half])
	if err != nil {
		return first, err
	}
	second, err := saveEach(db, rows[half:])
	return append(first, second...), err
}

// seal puts the sightings of a sweep that has ended where they stay, and what they say among the sets of facts of the site.
func seal(tx *gorm.DB, site, sweep uint64) error {
	for _, step := range []struct {
		statement string
		args      []any
	}{
		{"INSERT INTO fact_sets (site_id, hash, facts) SELECT ?, facts, fact_set FROM drafts WHERE sweep_id = ? AND fact_set <> '' ORDER BY facts ON DUPLICATE KEY UPDATE facts = VALUES(facts)", []any{site, sweep}},
		{"INSERT INTO sightings SELECT sweep_id, addr, mac, unit, ring, learned_from, answered, whole, first_at, facts, passing, times FROM drafts d WHERE sweep_id = ? " +
			"ORDER BY addr, mac, unit ON DUPLICATE KEY UPDATE answered = d.answered, whole = d.whole, facts = d.facts, passing = d.passing, times = d.times", []any{sweep}},
		{"DELETE FROM drafts WHERE sweep_id = ?", []any{sweep}},
	} {
		if err := tx.Exec(step.statement, step.args...).Error; err != nil {
			return err
		}
	}
	return nil
}

// sealAll seals what is left of sweeps of a site that have ended and could not be entered.
func sealAll(db *gorm.DB, site uint64) error {
	var left []uint64
	err := db.Raw("SELECT DISTINCT d.sweep_id FROM drafts d JOIN sweeps s ON s.id = d.sweep_id WHERE s.site_id = ? AND s.state <> ?", site, Running).Scan(&left).Error
	if err != nil {
		return err
	}
	for _, sweep := range left {
		if err := db.Transaction(func(tx *gorm.DB) error { return seal(tx, site, sweep) }); err != nil {
			return err
		}
	}
	return nil
}

// factSets gives sets of facts by their hashes. It keeps those that it read last, or all, where one sweep after the other is read that say
// mostly the same.
type factSets struct {
	tx      *gorm.DB
	site    uint64
	sets    map[evidence.Hash][]byte
	keepAll bool
}

func newFactSets(tx *gorm.DB, site uint64) *factSets {
	return &factSets{tx: tx, site: site, sets: map[evidence.Hash][]byte{}}
}

// ahead is how many sets are read at once, as sightings are mostly gone through in their order.
const ahead = 500

// get gives the set of the first of some hashes. Where it is to be read, those that follow are read with it.
func (f *factSets) get(hashes ...evidence.Hash) ([]byte, error) {
	if set, has := f.sets[hashes[0]]; has {
		return set, nil
	}
	if !f.keepAll {
		clear(f.sets)
	}
	if err := f.read(hashes[:min(len(hashes), ahead)]); err != nil {
		return nil, err
	}
	set, has := f.sets[hashes[0]]
	if !has {
		return nil, fmt.Errorf("the set of facts %s is not stored", hashes[0])
	}
	return set, nil
}

// read reads those of the sets that it does not have.
func (f *factSets) read(hashes []evidence.Hash) error {
	var wanted [][]byte
	for i, h := range hashes {
		if _, has := f.sets[h]; !has {
			wanted = append(wanted, hashes[i][:])
		}
	}
	rows, err := f.tx.Raw("SELECT hash, facts FROM fact_sets WHERE site_id = ? AND hash IN ?", f.site, wanted).Rows()
	if err != nil {
		return err
	}
	for rows.Next() {
		var hash, set []byte
		if err := rows.Scan(&hash, &set); err != nil {
			return closing(rows, err)
		}
		f.sets[evidence.Hash(hash)] = set
	}
	return closing(rows, rows.Err())
}

// put writes a set.
func (f *factSets) put(hash evidence.Hash, set []byte) error {
	return f.tx.Exec("INSERT INTO fact_sets (site_id, hash, facts) VALUES (?, ?, ?) ON DUPLICATE KEY UPDATE facts = VALUES(facts)", f.site, hash[:], set).Error
}

// closing closes rows and gives the error that there was, or the one of closing.
func closing(rows *sql.Rows, err error) error {
	if closed := rows.Close(); err == nil {
		return closed
	}
	return err
}

// Seen is what a sweep saw, as it is stored: the facts of a sighting are unpacked when they are asked for.
type Seen struct {
	Sightings []evidence.Sighting // without their facts, in order of address, MAC address and unit
	Hashes    []evidence.Hash     // of the facts of each

	passing [][]byte
	times   [][]byte
	sets    *factSets
	last    int // the sighting whose facts were given last
}

// Facts gives the facts of a sighting, but for the times of its answers.
func (s *Seen) Facts(sighting int) ([]evidence.Item, error) {
	hashes := s.Hashes[sighting : sighting+1]
	if sighting == s.last+1 || sighting == 0 {
		hashes = s.Hashes[sighting:] // they are gone through one after the other
	}
	s.last = sighting
	set, err := s.sets.get(hashes...)
	if err != nil {
		return nil, err
	}
	return evidence.Unpack(set, s.passing[sighting], s.Sightings[sighting].FirstAt)
}

// seenIn reads what a sweep that has ended saw.
func seenIn(tx *gorm.DB, sets *factSets, sweep uint64) (*Seen, error) {
	rows, err := tx.Raw("SELECT addr, mac, unit, ring, learned_from, answered, whole, first_at, facts, passing, times FROM sightings WHERE sweep_id = ? ORDER BY addr, mac, unit", sweep).Rows()
	if err != nil {
		return nil, err
	}
	seen := &Seen{sets: sets}
	for rows.Next() {
		var sg evidence.Sighting
		var addr, mac, hash, passing, times []byte
		if err := rows.Scan(&addr, &mac, &sg.Unit, &sg.Ring, &sg.LearnedFrom, &sg.Answered, &sg.Whole, &sg.FirstAt, &hash, &passing, &times); err != nil {
			return nil, closing(rows, err)
		}
		sg.Addr, sg.MAC = fromSortable(addr), macOf(mac)
		seen.Sightings, seen.Hashes, seen.passing = append(seen.Sightings, sg), append(seen.Hashes, evidence.Hash(hash)), append(seen.passing, passing)
		seen.times = append(seen.times, times)
	}
	return seen, closing(rows, rows.Err())
}

// SeenBy gives what a sweep that has ended saw, and for each sighting the device that it is taken for now.
func (s *Store) SeenBy(ctx context.Context, sweep uint64) (*Seen, []uint64, error) {
	seen, numbers, err := seenBy(s.db.WithContext(ctx), sweep)
	return seen, numbers, own(err, fmt.Sprintf("sweep %d", sweep))
}

func seenBy(db *gorm.DB, sweep uint64) (*Seen, []uint64, error) {
	var row sweepRow
	if err := db.Select("id, site_id").First(&row, sweep).Error; err != nil {
		return nil, nil, err
	}
	seen, err := seenIn(db, newFactSets(db, row.SiteID), sweep)
	if err != nil {
		return nil, nil, err
	}
	numbers, err := devicesIn(db, sweep, len(seen.Sightings))
	if err != nil {
		return nil, nil, err
	}
	now, err := presentNumbers(db, row.SiteID, numbers)
	for i, number := range numbers {
		if to, merged := now[number]; merged {
			numbers[i] = to
		}
	}
	return seen, numbers, err
}

// presentNumbers gives for the numbers of devices that are no more those of the devices that they were merged into.
func presentNumbers(db *gorm.DB, site uint64, numbers []uint64) (map[uint64]uint64, error) {
	distinct := slices.Compact(slices.Sorted(slices.Values(numbers)))
	now := map[uint64]uint64{}
	for part := range slices.Chunk(distinct, batchSize) {
		var there []uint64
		if err := db.Model(&deviceRow{}).Where("id IN ?", part).Pluck("id", &there).Error; err != nil {
			return nil, err
		}
		for _, gone := range part {
			if slices.Contains(there, gone) || gone == 0 {
				continue
			}
			devices, _, err := readDevices(db, nil, "d.id IN (SELECT device_id FROM device_terms WHERE site_id = ? AND term = ?)", site, ledger.NumberTerm(gone))
			if err != nil {
				return nil, err
			}
			for _, d := range devices {
				if slices.Contains(d.Was, gone) {
					now[gone] = d.ID
				}
			}
		}
	}
	return now, nil
}

// Sightings gives all sightings of a sweep in order of their addresses, whether it runs or has ended.
func (s *Store) Sightings(ctx context.Context, sweep uint64) ([]evidence.Sighting, error) {
	list, err := sightingsOf(s.db.WithContext(ctx), sweep, "", math.MaxInt32)
	return list, own(err, "sightings")
}

// SightingMark is the place of a sighting in a sweep; the zero value stands before all.
type SightingMark struct {
	Addr, MAC []byte
	Unit      string
}

// Valid reports whether it can be the place of a sighting.
func (m SightingMark) Valid() bool { return m.Addr != nil && m.MAC != nil && utf8.ValidString(m.Unit) }

// MarkOf gives the place of a sighting.
func MarkOf(s evidence.Sighting) SightingMark {
	return SightingMark{sortable(s.Addr), macBytes(s.MAC), s.Unit}
}

// SightingsBehind gives some sightings of a sweep, whether it runs or has ended: those behind a mark, the first skip of them passed over, at most
// limit.
func (s *Store) SightingsBehind(ctx context.Context, sweep uint64, mark SightingMark, skip, limit int) ([]evidence.Sighting, error) {
	list, err := s.sightingsBehind(ctx, sweep, mark, skip, limit)
	return list, own(err, "sightings")
}

func (s *Store) sightingsBehind(ctx context.Context, sweep uint64, mark SightingMark, skip, limit int) ([]evidence.Sighting, error) {
	db := s.db.WithContext(ctx)
	if skip > 0 {
		// Its place comes from the keys alone: no facts of what is passed over are read.
		from, err := whomSaw(db, sweep)
		if err != nil {
			return nil, err
		}
		var behind []SightingMark
		where, args := mark.where()
		err = from(&behind, "SELECT s.addr, s.mac, s.unit FROM ", where+"ORDER BY s.addr, s.mac, s.unit LIMIT 1 OFFSET ?", append(args, skip-1)...)
		if err != nil || len(behind) == 0 {
			return nil, err
		}
		mark = behind[0]
	}
	where, args := mark.where()
	return sightingsOf(db, sweep, where, limit, args...)
}

// whomSaw gives a way to ask whom a sweep saw: what stands before and behind the table in the query, and what is filled in behind. Of a sweep that was
// continued, what it saw of somebody anew takes the place of what it saw before.
func whomSaw(db *gorm.DB, sweep uint64) (func(into any, before, behind string, args ...any) error, error) {
	var sealed, drafted bool
	if err := db.Raw("SELECT EXISTS (SELECT 1 FROM sightings WHERE sweep_id = ?)", sweep).Scan(&sealed).Error; err != nil {
		return nil, err
	}
	if err := db.Raw("SELECT EXISTS (SELECT 1 FROM drafts WHERE sweep_id = ?)", sweep).Scan(&drafted).Error; err != nil {
		return nil, err
	}
	table, sweeps := "sightings s WHERE s.sweep_id = ? ", []any{sweep}
	switch {
	case sealed && drafted:
		table, sweeps = "(SELECT addr, mac, unit FROM sightings WHERE sweep_id = ? UNION SELECT addr, mac, unit FROM drafts WHERE sweep_id = ?) s WHERE 1 ", []any{sweep, sweep}
	case drafted:
		table = "drafts s WHERE s.sweep_id = ? "
	}
	return func(into any, before, behind string, args ...any) error {
		return db.Raw(before+table+behind, append(sweeps, args...)...).Scan(into).Error
	}, nil
}

// where leaves out what is not behind the mark.
func (m SightingMark) where() (string, []any) {
	if m.Addr == nil {
		return "", nil
	}
	// The blank keeps GORM from taking the bytes of the address, right behind a bracket, for a list of values.
	return "AND s.addr >= ? AND (s.addr, s.mac, s.unit) > ( ?, ?, ?) ", []any{m.Addr, m.Addr, m.MAC, m.Unit}
}

// CountSightings gives how many a sweep has seen, whether it runs or has ended.
func (s *Store) CountSightings(ctx context.Context, sweep uint64) (n int64, err error) {
	from, err := whomSaw(s.db.WithContext(ctx), sweep)
	if err == nil {
		err = from(&n, "SELECT COUNT(*) FROM ", "")
	}
	return n, own(err, "sightings")
}

// EachSighting gives the sightings of a sweep that has ended one after the other, in order of their addresses.
func (s *Store) EachSighting(ctx context.Context, sweep uint64, each func(evidence.Sighting) error) error {
	db := s.db.WithContext(ctx)
	var row sweepRow
	if err := db.Select("id, site_id").First(&row, sweep).Error; err != nil {
		return own(err, fmt.Sprintf("sweep %d", sweep))
	}
	seen, err := seenIn(db, newFactSets(db, row.SiteID), sweep)
	if err != nil {
		return own(err, "sightings")
	}
	for i, sg := range seen.Sightings {
		if sg.Items, err = seen.Facts(i); err != nil {
			return own(err, "sightings")
		}
		sg.Items = append(sg.Items, timesItems(seen.times[i], sg.FirstAt)...)
		if err := each(sg); err != nil {
			return err
		}
	}
	return nil
}

// sightingFields are what a sighting is read from, out of drafts or out of sightings with their sets.
const sightingFields = "s.sweep_id, s.addr, s.mac, s.unit, s.ring, s.learned_from, s.answered, s.whole, s.first_at, s.passing, s.times, "

// sightingsOf reads sightings of a sweep: those that a condition lets through, the first limit of them.
func sightingsOf(tx *gorm.DB, sweep uint64, where string, limit int, args ...any) ([]evidence.Sighting, error) {
	args = append(append([]any{sweep}, args...), limit)
	sealed, err := readSightings(tx.Raw("SELECT "+sightingFields+"f.facts FROM sightings s JOIN sweeps w ON w.id = s.sweep_id JOIN fact_sets f ON f.site_id = w.site_id AND f.hash = s.facts "+
		"WHERE s.sweep_id = ? "+where+"ORDER BY s.addr, s.mac, s.unit LIMIT ?", args...))
	if err != nil {
		return nil, err
	}
	drafts, err := readSightings(tx.Raw("SELECT "+sightingFields+"IF(s.fact_set = '', f.facts, s.fact_set) FROM drafts s JOIN sweeps w ON w.id = s.sweep_id LEFT JOIN fact_sets f ON f.site_id = w.site_id AND f.hash = s.facts WHERE s.sweep_id = ? "+where+"ORDER BY s.addr, s.mac, s.unit LIMIT ?", args...))
	if err != nil {
		return nil, err
	}
	if len(sealed) == 0 || len(drafts) == 0 {
		return plainSightings(append(sealed, drafts...)), nil
	}
	newer := make(map[evidence.Who]bool, len(drafts)) // of a sweep that was continued
	for _, d := range drafts {
		newer[d.Sighting.Who()] = true
	}
	all := append(slices.DeleteFunc(sealed, func(s SightingOf) bool { return newer[s.Sighting.Who()] }), drafts...)
	slices.SortFunc(all, func(a, b SightingOf) int {
		return cmp.Or(bytes.Compare(sortable(a.Sighting.Addr), sortable(b.Sighting.Addr)), bytes.Compare(macBytes(a.Sighting.MAC), macBytes(b.Sighting.MAC)), cmp.Compare(a.Sighting.Unit, b.Sighting.Unit))
	})
	return plainSightings(all[:min(limit, len(all))]), nil
}

func plainSightings(list []SightingOf) []evidence.Sighting {
	sightings := make([]evidence.Sighting, len(list))
	for i, s := range list {
		sightings[i] = s.Sighting
	}
	return sightings
}

// SightingOf is one sighting of a device and the sweep it was made in.
type SightingOf struct {
	Sweep    uint64
	Sighting evidence.Sighting
}

// readSightings reads sightings with their facts; the query gives sightingFields and the set.
func readSightings(query *gorm.DB) ([]SightingOf, error) {
	rows, err := query.Rows()
	if err != nil {
		return nil, err
	}
	var list []SightingOf
	for rows.Next() {
		var s SightingOf
		var addr, mac, passing, times, set []byte
		sg := &s.Sighting
		if err := rows.Scan(&s.Sweep, &addr, &mac, &sg.Unit, &sg.Ring, &sg.LearnedFrom, &sg.Answered, &sg.Whole, &sg.FirstAt, &passing, &times, &set); err != nil {
			return nil, closing(rows, err)
		}
		sg.Addr, sg.MAC = fromSortable(addr), macOf(mac)
		if sg.Items, err = evidence.Unpack(set, passing, sg.FirstAt); err != nil {
			return nil, closing(rows, fmt.Errorf("stored sighting of %s: %w", sg.Who(), err))
		}
		sg.Items = append(sg.Items, timesItems(times, sg.FirstAt)...)
		list = append(list, s)
	}
	return list, closing(rows, rows.Err())
}

// packNumbers puts the numbers of devices into the form of sweep_devices: one after the other in the variable length of Protocol Buffers.
func packNumbers(numbers []uint64) []byte {
	packed := make([]byte, 0, 4*len(numbers))
	for _, n := range numbers {
		packed = binary.AppendUvarint(packed, n)
	}
	return packed
}

func unpackNumbers(packed []byte) []uint64 {
	var numbers []uint64
	for len(packed) > 0 {
		n, size := binary.Uvarint(packed)
		if size <= 0 {
			break
		}
		numbers, packed = append(numbers, n), packed[size:]
	}
	return numbers
}

// devicesIn gives for each of so many sightings of a sweep the device that it was taken for, 0 for none.
func devicesIn(tx *gorm.DB, sweep uint64, sightings int) ([]uint64, error) {
	var packed [][]byte
	if err := tx.Raw("SELECT devices FROM sweep_devices WHERE sweep_id = ?", sweep).Scan(&packed).Error; err != nil {
		return nil, err
	}
	numbers := make([]uint64, sightings)
	for _, p := range packed {
		copy(numbers, unpackNumbers(p))
	}
	return numbers, nil
}

func saveDevicesIn(tx *gorm.DB, sweep uint64, numbers []uint64) error {
	return tx.Exec("INSERT INTO sweep_devices (sweep_id, devices) VALUES (?, ?) ON DUPLICATE KEY UPDATE devices = VALUES(devices)", sweep, packNumbers(numbers)).Error
}

func macBytes(m hwaddr.MAC) []byte {
	if m.IsZero() {
		return []byte{}
	}
	return m[:]
}

func macOf(b []byte) hwaddr.MAC {
	var m hwaddr.MAC
	copy(m[:], b)
	return m
}

// sortable gives an address as 16 bytes that sort as addresses do, IPv4 before IPv6; empty for none.
func sortable(a netip.Addr) []byte {
	if !a.IsValid() {
		return []byte{}
	}
	b := a.As16()
	return b[:]
}

func fromSortable(b []byte) netip.Addr {
	a, _ := netip.AddrFromSlice(b)
	return a.Unmap()
}
