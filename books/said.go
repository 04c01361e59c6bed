package books

import (
	"context"
	"errors"
	"time"

	"airdrift/core/finding"
	"airdrift/core/ledger"
	"airdrift/core/register"
	"airdrift/store"
)

// ImportRegister lays entries over a site's register, in its place with replace, and gives every device its standing anew. A preview says what would
// come of it, and leaves everything as it is.
func (k *Books) ImportRegister(ctx context.Context, site uint64, entries []register.Entry, replace, preview bool) (out store.RegisterImport, err error) {
	err = k.settled(ctx, site, func(settle store.SettleRegister) error {
		out, err = k.store.ImportRegister(ctx, site, entries, replace, preview, settle)
		return err
	})
	return out, err
}

// SaveEntry adds an entry without a number to a site's register, or writes over the one of its number, where check permits it of that.
func (k *Books) SaveEntry(ctx context.Context, site uint64, e *register.Entry, check func(register.Entry) error) error {
	return k.settled(ctx, site, func(settle store.SettleRegister) error {
		if e.ID != 0 {
			if err := k.checkEntry(ctx, e.ID, check); err != nil {
				return err
			}
		}
		return k.store.SaveEntry(ctx, site, e, settle)
	})
}

// RemoveEntry takes an entry out of a site's register, where check permits it.
func (k *Books) RemoveEntry(ctx context.Context, site, id uint64, check func(register.Entry) error) error {
	return k.settled(ctx, site, func(settle store.SettleRegister) error {
		if err := k.checkEntry(ctx, id, check); err != nil {
			return err
		}
		return k.store.RemoveEntry(ctx, id, settle)
	})
}

func (k *Books) checkEntry(ctx context.Context, id uint64, check func(register.Entry) error) error {
	now, _, err := k.store.Entry(ctx, id)
	if err != nil {
		return err
	}
	return check(now)
}

// settled changes a site's register, and gives the devices that are concerned their standing anew.
func (k *Books) settled(ctx context.Context, site uint64, change func(store.SettleRegister) error) error {
	defer k.lock(site)()
	settle, err := k.settler(ctx, site)
	if err != nil {
		return err
	}
	if err = change(settle); err == nil {
		k.judged(ctx, site, finding.ByRegister)
	}
	return err
}

// settler gives how devices are held against a register that has changed.
func (k *Books) settler(ctx context.Context, site uint64) (store.SettleRegister, error) {
	covered, err := k.store.CoveredBefore(ctx, site)
	if err != nil {
		return nil, err
	}
	decisions, err := k.store.Decisions(ctx, site)
	return func(shelf ledger.Shelf, result *ledger.Result, all, changed []register.Entry) ([]uint64, error) {
		return result.Settle(shelf, ledger.Said{Entries: all, Decisions: decisions, Covered: covered}, changed...)
	}, err
}

// Decide writes what somebody says of a device, where check permits it: one decision, and the device as it leaves it. by is who says it.
func (k *Books) Decide(ctx context.Context, by string, device uint64, kind ledger.DecisionKind, text string, check func(ledger.Device) error) error {
	_, site, err := k.store.Device(ctx, device)
	if err != nil {
		return err
	}
	defer k.lock(site)()
	now, _, err := k.store.Device(ctx, device)
	if err != nil {
		return err
	}
	if err := check(now); err != nil {
		return err
	}
	if _, err = k.store.Decide(ctx, ledger.Decision{Kind: kind, Device: device, Text: text, By: by, At: time.Now().UTC()}, nil); err == nil {
		k.judged(ctx, site, finding.ByRegister)
	}
	return err
}

// Link says, where check permits it, that a device is the one which an entry of the register means. It gives the number of the decision.
func (k *Books) Link(ctx context.Context, by string, device, entry uint64, reason string, check func(ledger.Device) error) (uint64, error) {
	_, site, err := k.store.Device(ctx, device)
	if err != nil {
		return 0, err
	}
	defer k.lock(site)()
	d, _, err := k.store.Device(ctx, device)
	if err != nil {
		return 0, err
	}
	if err := check(d); err != nil {
		return 0, err
	}
	meant, of, err := k.store.Entry(ctx, entry)
	switch {
	case err != nil:
		return 0, err
	case site != of:
		return 0, refuse("the device and the entry are of two sites")
	case d.FirstSeen.IsZero():
		return 0, refuse("the device was never seen: it stands for an entry of the register itself")
	}
	settle, err := k.settleLinks(ctx, site, meant)
	if err != nil {
		return 0, err
	}
	said := ledger.Decision{Kind: ledger.DecidedLink, Device: device, Other: ledger.Known{Entry: entry}, Text: reason, By: by, At: time.Now().UTC()}
	number, err := k.store.Decide(ctx, said, settle)
	if err == nil {
		k.judged(ctx, site, finding.ByRegister)
	}
	return number, err
}

// settleLinks settles the devices that links to entries concern.
func (k *Books) settleLinks(ctx context.Context, site uint64, entries ...register.Entry) (store.SettleSaid, error) {
	all, err := k.store.Register(ctx, site)
	if err != nil {
		return nil, err
	}
	covered, err := k.store.CoveredBefore(ctx, site)
	return func(shelf ledger.Shelf, result *ledger.Result, decisions []ledger.Decision) ([]uint64, error) {
		return result.Settle(shelf, ledger.Said{Entries: all, Decisions: decisions, Covered: covered}, entries...)
	}, err
}

// Undo takes back what somebody has said. anew tells that the ledger has to be computed anew for it, which is left to the caller.
func (k *Books) Undo(ctx context.Context, by string, decision uint64) (undone ledger.Decision, site uint64, anew bool, err error) {
	if undone, site, err = k.store.Decision(ctx, decision); err != nil {
		return undone, site, false, err
	}
	defer k.lock(site)()
	var settle store.SettleSaid
	if undone.Kind == ledger.DecidedLink {
		entry, _, err := k.store.Entry(ctx, undone.Other.Entry)
		if err != nil && !errors.Is(err, store.ErrNotFound) { // one that is gone concerns nobody
			return undone, site, false, err
		}
		if settle, err = k.settleLinks(ctx, site, entry); err != nil {
			return undone, site, false, err
		}
	}
	err = k.store.Undo(ctx, decision, by, time.Now().UTC(), settle)
	if errors.Is(err, store.ErrDecided) {
		err = conflict("", "decision %d: %v", decision, store.ErrDecided)
	}
	if err == nil {
		k.judged(ctx, site, finding.ByRegister)
	}
	_, anew = ledger.VerdictOf(undone)
	return undone, site, anew, err
}
