package books

import (
	"context"
	"errors"

	"airdrift/core/finding"
	"airdrift/store"
)

// Entering puts a sweep that has ended into its site's ledger.
type Entering func(context.Context, store.Sweep) (store.Sweep, error)

// Reenter puts a sweep that was continued into the ledger, in the place of what was entered of it before.
func (k *Books) Reenter(ctx context.Context, record store.Sweep) (store.Sweep, error) {
	if err := k.store.SaveSweep(ctx, record); err != nil {
		return record, err
	}
	if err := k.rewrite(ctx, record.SiteID, 0, nil, finding.BySweep); err != nil {
		return record, err
	}
	return k.store.Sweep(ctx, record.ID)
}

// Enter puts a sweep that has ended into its site's ledger.
func (k *Books) Enter(ctx context.Context, record store.Sweep) (store.Sweep, error) {
	site, err := k.store.Site(ctx, record.SiteID)
	if err != nil {
		return record, err
	}
	if site.Stale != "" {
		return k.Reenter(ctx, record)
	}
	defer k.lock(record.SiteID)()
	b, err := k.bookkeeper(ctx, site)
	if err != nil {
		return record, err
	}
	if b.covered, err = k.store.CoveredBefore(ctx, record.SiteID); err != nil {
		return record, err
	}
	if err := k.store.ApplySweep(ctx, &record, b.enter(&record), b.settle); err != nil {
		return record, err
	}
	k.judged(ctx, record.SiteID, finding.BySweep)
	return record, nil
}

// Rewrite computes the ledger of a site anew, without the sweep of the number discard (0 keeps them all); imported come in with it. Who calls
// it keeps the sweeps of the site as they are. Until the ledger is put in its place the one that there is stays in use.
func (k *Books) Rewrite(ctx context.Context, siteID, discard uint64, imported map[uint64]store.SweepState) error {
	why := finding.BySettings
	if len(imported) > 0 {
		why = finding.BySweep
	}
	return k.rewrite(ctx, siteID, discard, imported, why)
}

// rewrite is Rewrite that says what has changed.
func (k *Books) rewrite(ctx context.Context, siteID, discard uint64, imported map[uint64]store.SweepState, why finding.Why) error {
	site, err := k.store.Site(ctx, siteID)
	if err != nil {
		return err
	}
	b, err := k.bookkeeper(ctx, site)
	if err != nil {
		return err
	}
	err = k.store.Rebuild(ctx, siteID, discard, k.rebuildingOf(siteID, b, imported))
	if errors.Is(err, store.ErrThinned) {
		return conflict("", "%v", err)
	}
	if err == nil {
		defer k.lock(siteID)()
		k.judged(ctx, siteID, why)
	}
	return err
}

// rebuildingOf says how the ledger of a site is computed anew by its bookkeeper.
func (k *Books) rebuildingOf(site uint64, b *bookkeeper, imported map[uint64]store.SweepState) store.Rebuilding {
	return store.Rebuilding{
		Begin: b.begin, Enter: b.enter, Match: b.match, Settle: b.settleAll, Import: imported, Stale: b.stale,
		Lock: func(ctx context.Context) (func(), error) {
			unlock := k.lock(site)
			if err := k.said(ctx, site, b); err != nil {
				unlock()
				return nil, err
			}
			return unlock, nil
		},
	}
}

// DeleteSite deletes a site with all that is stored of it. Who calls it holds the site.
func (k *Books) DeleteSite(ctx context.Context, site uint64) error {
	defer k.lock(site)()
	return k.store.DeleteSite(ctx, site)
}
