package store

import (
	"cmp"
	"context"
	"fmt"
	"slices"

	"gorm.io/gorm"

	"airdrift/core/evidence"
	"airdrift/core/ledger"
)

// Rebuilding says how a site's ledger is computed anew.
type Rebuilding struct {
	// Begin takes up devices as settled sweeps have left them, and gives them as they are taken now, and what was merged into what. It may be
	// nil where no sweep is settled.
	Begin  func(settled []Sweep, devices []ledger.Device, items func(ledger.Device) ([]evidence.Item, error)) ([]ledger.Device, map[uint64]uint64, error)
	Enter  func(sweep *Sweep) Enter                         // enters one sweep after the other, in the order of their times
	Match  func([]ledger.Device) []ledger.Device            // holds all devices against the register after each
	Settle Settle                                           // what comes of it; shelf has the devices that stand for entries
	Import map[uint64]SweepState                            // sweeps that come in with it, and what they are then
	Stale  string                                           // why it is done, as the site said before anything was read for it; that it says so then is over
	Lock   func(context.Context) (unlock func(), err error) // keeps others from changing the ledger; what Settle goes by is read from then on
}

// Rebuild computes a site's ledger anew from its sweeps, without the one of the number discard (0 keeps them all), beside the ledger that
// there is, and puts it in its place in one transaction. Devices keep their numbers.
func (s *Store) Rebuild(ctx context.Context, site, discard uint64, how Rebuilding) error {
	r := newRebuild(s.db.WithContext(ctx), site, discard, how)
	err := r.replay(s.db.WithContext(ctx))
	if err == nil {
		err = r.swap(ctx)
	}
	return own(err, fmt.Sprintf("ledger of site %d", site))
}

// Preview computes a site's ledger as Rebuild does, and gives it without putting it in the place of the one that there is. It ends with the sweep that
// until marks; with the newest where that is nil. Of a time of which the evidence is gone it gives ErrThinned.
func (s *Store) Preview(ctx context.Context, site uint64, until *SweepMark, how Rebuilding) ([]ledger.Device, error) {
	db := s.db.WithContext(ctx)
	r := newRebuild(db, site, 0, how)
	r.last = until
	if err := r.replay(db); err != nil {
		return nil, own(err, fmt.Sprintf("ledger of site %d", site))
	}
	result := ledger.Result{Devices: r.devices}
	_, err := how.Settle(ledger.Whole(nil), &result)
	return result.Devices, own(err, fmt.Sprintf("ledger of site %d", site))
}

// rebuild is a ledger that is being computed.
type rebuild struct {
	db      *gorm.DB
	site    uint64
	discard uint64
	how     Rebuilding
	sets    *factSets
	done    map[uint64]bool // sweeps that are in it
	sweeps  []rebuiltSweep
	devices []ledger.Device
	facts   map[uint64]packedFacts // by the number of the device
	fresh   map[evidence.Hash][]byte
	ended   map[uint64][]ledger.Tenure
	into    map[uint64]uint64 // what became of numbers that were merged
	next    uint64
	begun   bool
	last    *SweepMark // sweeps behind it are left out; nil for none
}

// behind reports whether a sweep is left out.
func (r *rebuild) behind(s Sweep) bool {
	return r.last != nil && cmp.Or(s.Began.Compare(r.last.Began), cmp.Compare(s.ID, r.last.ID)) > 0
}

// rebuiltSweep is what came of one sweep.
type rebuiltSweep struct {
	sweep   Sweep
	devices []uint64 // of each sighting
	changes []changeRow
}

// provisional is where the numbers begin of devices that have none until they are stored.
const provisional = 1 << 62

func newRebuild(db *gorm.DB, site, discard uint64, how Rebuilding) *rebuild {
	sets := newFactSets(db, site)
	sets.keepAll = true
	return &rebuild{
		db: db, site: site, discard: discard, how: how, sets: sets, done: map[uint64]bool{}, facts: map[uint64]packedFacts{}, fresh: map[evidence.Hash][]byte{},
		ended: map[uint64][]ledger.Tenure{}, into: map[uint64]uint64{}, next: provisional,
	}
}

// replay enters the sweeps of the site that are not in it yet.
func (r *rebuild) replay(db *gorm.DB) error {
	r.sets.tx = db
	if err := sealAll(db, r.site); err != nil {
		return err
	}
	if !r.begun {
		if err := r.begin(db); err != nil {
			return err
		}
		r.begun = true
	}
	var rows []sweepRow
	if err := db.Where("site_id = ? AND state <> ? AND id <> ?", r.site, Running, r.discard).Order("began, id").Find(&rows).Error; err != nil {
		return err
	}
	for _, row := range rows {
		sweep := row.sweep()
		if sweep.State == Importing {
			if sweep.State = r.how.Import[sweep.ID]; sweep.State == "" {
				continue // of another file
			}
		}
		if !r.done[sweep.ID] && !r.behind(sweep) {
			if err := r.enter(db, sweep); err != nil {
				return fmt.Errorf("sweep %d: %w", sweep.ID, err)
			}
			r.done[sweep.ID] = true
		}
	}
	return nil
}

func (r *rebuild) enter(db *gorm.DB, sweep Sweep) error {
	seen, err := seenIn(db, r.sets, sweep.ID)
	if err != nil {
		return err
	}
	before, err := devicesIn(db, sweep.ID, len(seen.Sightings))
	if err != nil {
		return err
	}
	result, err := r.how.Enter(&sweep)(replayed{ledger.Whole(r.devices), r}, seen, before)
	if err != nil {
		return err
	}
	for i := range result.Devices {
		if d := &result.Devices[i]; d.ID == 0 {
			r.next++
			d.ID = r.next
		}
	}
	r.learn(result, seen)
	for _, m := range result.Merges {
		to := result.Devices[m.Into].ID
		r.into[m.From] = to
		r.ended[to] = append(r.ended[to], r.ended[m.From]...)
		delete(r.ended, m.From)
	}
	for _, e := range result.Ended {
		id := result.Devices[e.Device].ID
		r.ended[id] = append(r.ended[id], e.Tenure)
	}
	numbers := numbersOf(result)
	for i, at := range result.Of {
		if slices.Contains(result.Devices[at].Was, before[i]) { // it finds its number again when a merge is taken back
			numbers[i] = before[i]
		}
	}
	r.sweeps = append(r.sweeps, rebuiltSweep{sweep, numbers, changesOf(sweep.ID, result)})
	result.Over(r.devices)
	r.devices = slices.DeleteFunc(r.how.Match(result.Devices), func(d ledger.Device) bool { return d.FirstSeen.IsZero() })
	return nil
}

// learn keeps the evidence of devices packed, as it need not be in memory otherwise.
func (r *rebuild) learn(result ledger.Result, seen *Seen) {
	for i, at := range result.Of {
		if d := &result.Devices[at]; seen.Hashes[i] == d.Facts {
			r.facts[d.ID], d.Items = packedFacts{seen.passing[i], seen.Sightings[i].FirstAt}, nil
		}
	}
	for i := range result.Devices {
		if d := &result.Devices[i]; d.Items != nil {
			packed := evidence.Pack(d.Items, d.LastSeen)
			if _, has := r.sets.sets[packed.Hash]; !has {
				r.fresh[packed.Hash], r.sets.sets[packed.Hash] = packed.Set, packed.Set
			}
			r.facts[d.ID], d.Items = packedFacts{packed.Passing, d.LastSeen}, nil
		}
	}
}

// replayed is the shelf of a ledger that is being computed.
type replayed struct {
	ledger.Whole
	rebuild *rebuild
}

// Items gives the evidence of a device.
func (s replayed) Items(d ledger.Device) ([]evidence.Item, error) {
	set, err := s.rebuild.sets.get(d.Facts)
	if err != nil {
		return nil, err
	}
	packed := s.rebuild.facts[d.ID]
	return evidence.Unpack(set, packed.passing, packed.at)
}

// swap puts the ledger in the place of the one that there is, with the sweeps that have been entered in the meantime.
func (r *rebuild) swap(ctx context.Context) error {
	unlock, err := r.how.Lock(ctx)
	if err != nil {
		return err
	}
	defer unlock()
	return r.db.Transaction(func(tx *gorm.DB) error {
		if err := r.replay(tx); err != nil {
			return err
		}
		if r.discard != 0 {
			if err := tx.Delete(&sweepRow{}, r.discard).Error; err != nil {
				return err
			}
		}
		if err := r.write(tx); err != nil {
			return err
		}
		// What has been changed meanwhile is not in it.
		return tx.Exec("UPDATE sites SET stale = '' WHERE id = ? AND stale = ?", r.site, r.how.Stale).Error
	})
}

// write writes the ledger over the one that there is.
func (r *rebuild) write(tx *gorm.DB) error {
	w := newWriter(tx, r.site)
	w.anew = true
	old, err := w.shelf.all()
	if err != nil {
		return err
	}
	standIns := slices.DeleteFunc(slices.Clone(old), func(d ledger.Device) bool { return !d.FirstSeen.IsZero() })
	result := ledger.Result{Devices: r.devices}
	gone, err := r.how.Settle(ledger.Whole(standIns), &result)
	if err != nil {
		return err
	}
	still := map[uint64]bool{}
	numbers := make([]uint64, len(result.Devices)) // as they were while it was computed
	for i := range result.Devices {
		d := &result.Devices[i]
		numbers[i] = d.ID
		still[d.ID] = true
		if packed, has := r.facts[d.ID]; has {
			w.facts[i] = packed
		}
		for _, t := range r.ended[d.ID] {
			result.Ended = append(result.Ended, ledger.Ended{Device: i, Tenure: t})
		}
		if d.ID >= provisional {
			d.ID = 0
		}
	}
	for _, d := range old {
		if !still[d.ID] && !slices.Contains(gone, d.ID) {
			gone = append(gone, d.ID)
		}
	}
	w.shelf.sets = r.sets
	for hash, set := range r.fresh {
		if err := w.shelf.sets.put(hash, set); err != nil {
			return err
		}
	}
	if err := w.write(&result, gone); err != nil {
		return err
	}
	final := map[uint64]uint64{}
	for i, d := range result.Devices {
		final[numbers[i]] = d.ID
	}
	return r.writeSweeps(tx, func(number uint64) uint64 {
		for number >= provisional && r.into[number] != 0 && final[number] == 0 {
			number = r.into[number]
		}
		if id, is := final[number]; is {
			return id
		}
		return number // one that was merged keeps its number in what was seen
	})
}

// writeSweeps writes what came of each sweep.
func (r *rebuild) writeSweeps(tx *gorm.DB, final func(uint64) uint64) error {
	if err := tx.Exec("DELETE c FROM changes c JOIN sweeps s ON s.id = c.sweep_id WHERE c.site_id = ? AND NOT s.settled", r.site).Error; err != nil {
		return err
	}
	for _, done := range r.sweeps {
		for i := range done.devices {
			done.devices[i] = final(done.devices[i])
		}
		for i := range done.changes {
			done.changes[i].DeviceID = final(done.changes[i].DeviceID)
		}
		if err := saveChanges(tx, r.site, done.changes); err != nil {
			return err
		}
		if err := saveDevicesIn(tx, done.sweep.ID, done.devices); err != nil {
			return err
		}
		row := toSweepRow(done.sweep)
		if err := tx.Model(&sweepRow{}).Where("id = ?", row.ID).Select("state", "failure", "appeared", "vanished", "moved", "changed").Updates(&row).Error; err != nil {
			return err
		}
	}
	return nil
}
