package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"gorm.io/gorm"

	"airdrift/core/hwaddr"
	"airdrift/core/ledger"
	"airdrift/core/register"
)

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

// CountRegister gives the number of entries of a site's register; with missing only of those of which no device was ever seen.
func (s *Store) CountRegister(ctx context.Context, site uint64, missing bool) (int64, error) {
	var n int64
	err := neverSeen(s.db.WithContext(ctx).Model(&entryRow{}).Where("site_id = ?", site), site, missing).Count(&n).Error
	return n, own(err, "register")
}

// EntryQuery says which entries of a register to list, by their numbers.
type EntryQuery struct {
	Site    uint64
	Missing bool   // only those of which no device was ever seen
	Behind  uint64 // only higher numbers
	Skip    int    // so many entries further on
	Limit   int
}

// Entries gives some entries of a site's register.
func (s *Store) Entries(ctx context.Context, q EntryQuery) ([]register.Entry, error) {
	db := s.db.WithContext(ctx).Where("id > ?", q.Behind).Offset(q.Skip).Limit(q.Limit)
	return registerOf(neverSeen(db, q.Site, q.Missing), q.Site)
}

// neverSeen leaves out the entries of which a device was seen, where only is set.
func neverSeen(db *gorm.DB, site uint64, only bool) *gorm.DB {
	if !only {
		return db
	}
	return db.Where("id IN (SELECT entry_id FROM devices WHERE site_id = ? AND entry_id <> 0 AND first_seen IS NULL)", site)
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

// SettleRegister holds devices against a register; changed are the entries that were added, changed or deleted.
type SettleRegister func(shelf ledger.Shelf, result *ledger.Result, entries, changed []register.Entry) (gone []uint64, err error)

// EntryChange is what an import does with one entry.
type EntryChange struct {
	Was     *register.Entry // nil for one that is added
	Becomes *register.Entry // nil for one that is deleted
}

// RegisterImport is what comes of an import.
type RegisterImport struct {
	Added, Updated int           // those that are written over count as updated, even where they stay as they are
	Changes        []EntryChange // those that are added, changed and deleted
	Counts         []Count       // the site's devices after it
}

// errPreview ends a transaction that was to show what would come of it.
var errPreview = errors.New("shown and not done")

// ImportRegister lays entries over a site's register: an entry with the MAC of one that is there takes its place and its number, or
// without a MAC one with its name and address; others are added. With replace those go that have no such place. The devices that are
// concerned are settled anew, all in one transaction. A preview says what would come of it, and leaves everything as it is.
func (s *Store) ImportRegister(ctx context.Context, site uint64, entries []register.Entry, replace, preview bool, settle SettleRegister) (out RegisterImport, err error) {
	err = s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if out, err = importRegister(tx, site, entries, replace, settle); err != nil {
			return err
		}
		if out.Counts, err = countDevices(tx, site); err == nil && preview {
			err = errPreview
		}
		return err
	})
	if errors.Is(err, errPreview) {
		err = nil
	}
	return out, own(err, "register")
}

func importRegister(tx *gorm.DB, site uint64, entries []register.Entry, replace bool, settle SettleRegister) (out RegisterImport, err error) {
	before, err := registerOf(tx, site)
	if err != nil {
		return out, err
	}
	fresh, changed, err := overlay(site, before, entries)
	if err != nil {
		return out, err
	}
	becomes := make(map[uint64]*register.Entry, len(changed))
	for _, r := range changed {
		e, err := r.entry()
		if err != nil {
			return out, err
		}
		becomes[r.ID] = &e
	}
	var touched []register.Entry // as they were
	var gone []uint64
	for _, e := range before {
		next := becomes[e.ID]
		switch {
		case next != nil:
			touched = append(touched, e)
			if len(register.Differences(e, *next)) > 0 {
				out.Changes = append(out.Changes, EntryChange{&e, next})
			}
		case replace:
			touched, gone = append(touched, e), append(gone, e.ID)
			out.Changes = append(out.Changes, EntryChange{Was: &e})
		}
	}
	for _, r := range fresh {
		e, err := r.entry()
		if err != nil {
			return out, err
		}
		out.Changes = append(out.Changes, EntryChange{Becomes: &e})
	}
	for ids := range slices.Chunk(gone, batchSize) {
		if err := tx.Delete(&entryRow{}, ids).Error; err != nil {
			return out, err
		}
	}
	out.Added, out.Updated = len(fresh), len(changed)
	if err := createMany(tx, fresh); err != nil {
		return out, err
	}
	if err := createManyOver(tx, changed, func(r entryRow) int { return len(r.Extra) + 2000 }); err != nil {
		return out, err
	}
	names := map[string]bool{}
	for _, e := range entries {
		names[entryIdentity(e)] = true
	}
	return out, resettleRegister(tx, site, settle, touched, func(e register.Entry) bool { return names[entryIdentity(e)] })
}

// resettleRegister settles the devices anew that are concerned by entries as they were and by those that now are meant.
func resettleRegister(tx *gorm.DB, site uint64, settle SettleRegister, were []register.Entry, now func(register.Entry) bool) error {
	all, err := registerOf(tx, site)
	if err != nil {
		return err
	}
	touched := slices.Clone(were)
	for _, e := range all {
		if now(e) {
			touched = append(touched, e)
		}
	}
	return resettle(tx, site, func(shelf ledger.Shelf, result *ledger.Result) ([]uint64, error) {
		return settle(shelf, result, all, touched)
	})
}

// SaveEntry adds an entry without a number to a site's register and gives it one, or writes over the one of its number. The devices that are
// concerned are settled anew. Where another entry says the same of whom it means, ErrTaken is given.
func (s *Store) SaveEntry(ctx context.Context, site uint64, e *register.Entry, settle SettleRegister) error {
	err := s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		change := EntryChange{Becomes: e}
		if e.ID != 0 {
			var row entryRow
			if err := tx.Clauses(lockRow).First(&row, e.ID).Error; err != nil {
				return err
			}
			was, err := row.entry()
			if err != nil {
				return err
			}
			change.Was = &was
		}
		return changeEntries(tx, site, []*EntryChange{&change}, settle)
	})
	return own(err, "an entry of the register that means the same device")
}

// Entry gives one entry of a register, and its site.
func (s *Store) Entry(ctx context.Context, id uint64) (register.Entry, uint64, error) {
	var row entryRow
	if err := s.db.WithContext(ctx).First(&row, id).Error; err != nil {
		return register.Entry{}, 0, own(err, fmt.Sprintf("entry %d of the register", id))
	}
	e, err := row.entry()
	return e, row.SiteID, err
}

// RemoveEntry takes one entry out of its register. The devices that are concerned are settled anew.
func (s *Store) RemoveEntry(ctx context.Context, id uint64, settle SettleRegister) error {
	err := s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		var row entryRow
		if err := tx.Clauses(lockRow).First(&row, id).Error; err != nil {
			return err
		}
		was, err := row.entry()
		if err != nil {
			return err
		}
		return changeEntries(tx, row.SiteID, []*EntryChange{{Was: &was}}, settle)
	})
	return own(err, fmt.Sprintf("entry %d of the register", id))
}

// Holder is what became of an entry of the register.
type Holder struct {
	Device   uint64 // that it means; 0 while the ledger is not settled
	Standing ledger.Standing
	Presence ledger.Presence
	LastSeen time.Time // zero where it was never seen
	Could    []uint64  // devices in no register that it could mean, where it means none that was seen; at most maxCould
}

// maxCould is how many devices are named that an entry could mean.
const maxCould = 20

// Holders gives for each of some entries of a site's register which device it means.
func (s *Store) Holders(ctx context.Context, site uint64, entries []register.Entry) (map[uint64]Holder, error) {
	db := s.db.WithContext(ctx)
	holders := make(map[uint64]Holder, len(entries))
	ids := make([]uint64, len(entries))
	for i, e := range entries {
		ids[i] = e.ID
	}
	for part := range slices.Chunk(ids, batchSize) {
		var rows []deviceRow
		if err := db.Select("id, entry_id, standing, presence, last_seen").Where("site_id = ? AND entry_id IN ?", site, part).Find(&rows).Error; err != nil {
			return nil, own(err, "register")
		}
		for _, r := range rows {
			holders[r.EntryID] = Holder{Device: r.ID, Standing: ledger.Standing(r.Standing), Presence: ledger.Presence(r.Presence), LastSeen: given(r.LastSeen)}
		}
	}
	err := s.could(db, site, entries, holders)
	return holders, own(err, "register")
}

// could finds the devices that entries could mean of which none was seen.
func (s *Store) could(db *gorm.DB, site uint64, entries []register.Entry, holders map[uint64]Holder) error {
	of := map[uint64][]uint64{} // entries by their terms
	var terms []uint64
	for _, e := range entries {
		if !holders[e.ID].LastSeen.IsZero() {
			continue
		}
		for _, term := range ledger.TermsOf(e) {
			if of[uint64(term)] == nil {
				terms = append(terms, uint64(term))
			}
			of[uint64(term)] = append(of[uint64(term)], e.ID)
		}
	}
	for part := range slices.Chunk(terms, batchSize) {
		var rows []termRow
		if err := db.Raw("SELECT t.term, t.device_id FROM device_terms t JOIN devices d ON d.id = t.device_id WHERE t.site_id = ? AND t.term IN ? AND d.entry_id = 0 ORDER BY t.device_id", site, part).Scan(&rows).Error; err != nil {
			return err
		}
		for _, r := range rows {
			for _, entry := range of[r.Term] {
				if h := holders[entry]; len(h.Could) < maxCould && !slices.Contains(h.Could, r.DeviceID) {
					h.Could = append(h.Could, r.DeviceID)
					holders[entry] = h
				}
			}
		}
	}
	return nil
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
