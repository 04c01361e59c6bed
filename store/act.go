package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"gorm.io/gorm"

	"airdrift/core/finding"
	"airdrift/core/ledger"
	"airdrift/core/register"
)

// Act is what somebody did to many devices at once.
type Act struct {
	ID       uint64
	Kind     string
	Text     string    // what was said with it
	Until    time.Time // of findings that were accepted; zero of others
	By       string
	At       time.Time
	Steps    []Step
	UndoneBy string
	UndoneAt time.Time // zero of one that holds
}

// Step is one of the things that an act does. One of Decision, Entry and Finding says which.
type Step struct {
	Device   uint64              `json:"device,omitempty"`
	Name     string              `json:"name"`
	Field    string              `json:"field"`
	Was      string              `json:"was,omitempty"`
	Becomes  string              `json:"becomes,omitempty"`
	Decision *ledger.Decision    `json:"-"`
	Decided  uint64              `json:"decided,omitempty"` // its number, once it is made
	Entry    *EntryChange        `json:"entry,omitempty"`
	Finding  uint64              `json:"finding,omitempty"`
	State    finding.State       `json:"state,omitempty"`
	Accepted *finding.Acceptance `json:"accepted,omitempty"`
}

type actRow struct {
	ID       uint64
	SiteID   uint64
	Kind     string
	Text     string
	Until    *time.Time
	DoneBy   string
	At       time.Time
	Steps    string
	UndoneBy string
	UndoneAt *time.Time
}

func (actRow) TableName() string { return "acts" }

func (r actRow) act() (Act, error) {
	a := Act{ID: r.ID, Kind: r.Kind, Text: r.Text, Until: given(r.Until), By: r.DoneBy, At: r.At, UndoneBy: r.UndoneBy, UndoneAt: given(r.UndoneAt)}
	err := json.Unmarshal([]byte(r.Steps), &a.Steps)
	return a, err
}

// Act carries out all steps of an act, or none, and gives it its number.
func (s *Store) Act(ctx context.Context, site uint64, act *Act, settle SettleRegister) error {
	err := s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		var entries []*EntryChange
		for i := range act.Steps {
			step := &act.Steps[i]
			var err error
			switch {
			case step.Decision != nil:
				step.Decided, err = decide(tx, *step.Decision, nil)
			case step.Entry != nil:
				entries = append(entries, step.Entry)
			case step.Finding != 0:
				err = changeFindings(tx, site, []uint64{step.Finding}, act.take(step))
			}
			if err != nil {
				return fmt.Errorf("%s: %w", step.Name, err)
			}
		}
		if err := changeEntries(tx, site, entries, settle); err != nil {
			return err
		}
		steps, err := json.Marshal(act.Steps)
		if err != nil {
			return err
		}
		row := actRow{SiteID: site, Kind: act.Kind, Text: act.Text, Until: some(act.Until, !act.Until.IsZero()), DoneBy: act.By, At: act.At, Steps: string(steps)}
		err = tx.Create(&row).Error
		act.ID = row.ID
		return err
	})
	return own(err, "an entry of the register that means the same device")
}

// take changes a finding as the act does, and notes with its step how it was.
func (a *Act) take(step *Step) func(*finding.Finding) error {
	return func(f *finding.Finding) error {
		if f.State == finding.Closed {
			return ErrNotOpen
		}
		step.State, step.Accepted = f.State, f.Accepted
		if a.Until.IsZero() {
			f.Confirmed = &finding.Confirmation{By: a.By, At: a.At}
			return nil
		}
		f.State, f.Accepted = finding.Accepted, &finding.Acceptance{By: a.By, At: a.At, Reason: a.Text, Until: a.Until}
		return nil
	}
}

// ErrUndone is returned where an act was undone before.
var ErrUndone = errors.New("it was undone before")

// UndoAct takes back what an act has done, but for what somebody has changed since. It gives how many of its steps were taken back, and how many were
// left.
func (s *Store) UndoAct(ctx context.Context, id uint64, by string, at time.Time, settle SettleRegister) (back, left int, err error) {
	err = s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		var row actRow
		if err := tx.Clauses(lockRow).First(&row, id).Error; err != nil {
			return err
		}
		act, err := row.act()
		if err != nil {
			return err
		}
		if !act.UndoneAt.IsZero() {
			return ErrUndone
		}
		var entries []*EntryChange
		for _, step := range act.Steps {
			done, change, err := act.takeBack(tx, row.SiteID, step, by, at)
			if err != nil {
				return err
			}
			if change != nil {
				entries = append(entries, change)
			}
			if done {
				back++
			} else {
				left++
			}
		}
		if err := changeEntries(tx, row.SiteID, entries, settle); err != nil {
			return err
		}
		return tx.Model(&row).Updates(map[string]any{"undone_by": by, "undone_at": at}).Error
	})
	return back, left, own(err, fmt.Sprintf("act %d", id))
}

// takeBack takes one step back; change is what is to be done to the register for it. done is false where somebody has changed it since.
func (a Act) takeBack(tx *gorm.DB, site uint64, step Step, by string, at time.Time) (done bool, change *EntryChange, err error) {
	switch {
	case step.Decided != 0:
		err = undo(tx, step.Decided, by, at, nil)
		if errors.Is(err, ErrDecided) || errors.Is(err, gorm.ErrRecordNotFound) {
			return false, nil, nil
		}
		return err == nil, nil, err
	case step.Entry != nil:
		var now entryRow
		err := tx.Clauses(lockRow).First(&now, step.Entry.Becomes.ID).Error
		if errors.Is(err, gorm.ErrRecordNotFound) {
			return false, nil, nil
		}
		if err != nil {
			return false, nil, err
		}
		is, err := now.entry()
		if err != nil || len(register.Differences(is, *step.Entry.Becomes)) > 0 {
			return false, nil, err
		}
		return true, &EntryChange{Was: step.Entry.Becomes, Becomes: step.Entry.Was}, nil
	case step.Finding != 0:
		err := changeFindings(tx, site, []uint64{step.Finding}, func(f *finding.Finding) error {
			switch {
			case a.Until.IsZero() && f.Confirmed != nil && f.Confirmed.By == a.By && f.Confirmed.At.Equal(a.At):
				f.Confirmed, done = nil, true
			case f.Accepted != nil && f.Accepted.By == a.By && f.Accepted.At.Equal(a.At):
				f.Accepted, done = step.Accepted, true
				if f.State == finding.Accepted {
					f.State = step.State
				}
			}
			return nil
		})
		if errors.Is(err, gorm.ErrRecordNotFound) {
			return false, nil, nil
		}
		return done, nil, err
	}
	return false, nil, nil
}

// Acts gives the acts of a site, the newest first, those below a number (0 for all), without their steps.
func (s *Store) Acts(ctx context.Context, site, below uint64, limit int) ([]Act, error) {
	db := s.db.WithContext(ctx).Where("site_id = ?", site)
	if below != 0 {
		db = db.Where("id < ?", below)
	}
	var rows []actRow
	if err := db.Order("id DESC").Limit(limit).Find(&rows).Error; err != nil {
		return nil, own(err, "acts")
	}
	acts := make([]Act, len(rows))
	for i, r := range rows {
		var err error
		if acts[i], err = r.act(); err != nil {
			return nil, fmt.Errorf("stored act %d: %w", r.ID, err)
		}
	}
	return acts, nil
}

// ActOf gives one act and its site.
func (s *Store) ActOf(ctx context.Context, id uint64) (Act, uint64, error) {
	var row actRow
	if err := s.db.WithContext(ctx).First(&row, id).Error; err != nil {
		return Act{}, 0, own(err, fmt.Sprintf("act %d", id))
	}
	act, err := row.act()
	return act, row.SiteID, err
}

// changeEntries adds, changes and deletes entries of a site's register, and gives those that are added their numbers. The devices that are concerned
// are settled anew. Where two entries would mean the same, gorm.ErrDuplicatedKey is given.
func changeEntries(tx *gorm.DB, site uint64, changes []*EntryChange, settle SettleRegister) error {
	if len(changes) == 0 {
		return nil
	}
	all, err := registerOf(tx, site)
	if err != nil {
		return err
	}
	touched := map[uint64]bool{}
	meant := map[string]bool{}
	var were []register.Entry
	for _, c := range changes {
		if c.Was != nil {
			touched[c.Was.ID] = true
			were = append(were, *c.Was)
		}
	}
	for _, e := range all {
		if !touched[e.ID] {
			meant[entryIdentity(e)] = true
		}
	}
	for _, c := range changes {
		if c.Becomes == nil {
			if err := tx.Delete(&entryRow{}, c.Was.ID).Error; err != nil {
				return err
			}
			continue
		}
		if identity := entryIdentity(*c.Becomes); meant[identity] {
			return gorm.ErrDuplicatedKey
		} else {
			meant[identity] = true
		}
		if c.Was != nil {
			c.Becomes.ID = c.Was.ID
		}
		row, err := toEntryRow(site, *c.Becomes)
		if err != nil {
			return err
		}
		if err := tx.Save(&row).Error; err != nil {
			return err
		}
		c.Becomes.ID = row.ID
		touched[row.ID] = true
	}
	return resettleRegister(tx, site, settle, were, func(e register.Entry) bool { return touched[e.ID] })
}
