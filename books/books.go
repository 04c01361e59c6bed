// Package books keeps the ledgers of sites: it enters sweeps, holds devices against the register and what people say of them, and computes
// ledgers anew.
package books

import (
	"context"
	"fmt"
	"slices"
	"sync"

	"airdrift/core/identify"
	"airdrift/core/spread"
	"airdrift/store"
)

// Books keeps the ledgers of all sites of a store.
type Books struct {
	store *store.Store
	rules *identify.Rules

	unjudged chan struct{} // with room for one: there is much to be judged

	mu         sync.Mutex             // guards all below
	rebuilding map[uint64]bool        // sites
	ledgers    map[uint64]*sync.Mutex // of each site, held while its ledger is changed

	certificates perSweep[[]Certificate]
	spreads      perSweep[[]spread.Named]
}

// New gives the books of a store, in which devices are identified by rules and by those that sites have added.
func New(st *store.Store, rules *identify.Rules) *Books {
	return &Books{store: st, rules: rules, unjudged: make(chan struct{}, 1), rebuilding: map[uint64]bool{}, ledgers: map[uint64]*sync.Mutex{}}
}

// ErrBusy is returned where the ledger of a site is being computed anew.
var ErrBusy = &Refusal{Now: true, Kind: KindRebuilding, Text: "the ledger of this site is being rebuilt: try again in a moment"}

// The kinds of refusal that programs can do something about.
const (
	KindContradicted = "contradicted"      // something speaks against what is said
	KindRebuilding   = "rebuilding"        // the ledger is being computed anew
	KindChanged      = "changed-meanwhile" // it is not any more as whoever changes it has seen it
)

// ErrChanged is returned where something was changed since whoever wants to change it has looked at it.
var ErrChanged = &Refusal{Now: true, Kind: KindChanged, Text: "somebody has changed this meanwhile: look at it as it is now, and change it again if that is still right"}

// Refusal is something that is not done, in words for the user.
type Refusal struct {
	Now  bool // it is refused as things are, and not as it is asked wrongly
	Kind string
	Text string
}

func (r *Refusal) Error() string { return r.Text }

// refuse gives a refusal of what is asked wrongly.
func refuse(format string, args ...any) error { return &Refusal{Text: fmt.Sprintf(format, args...)} }

// conflict gives a refusal of what cannot be done as things are.
func conflict(kind, format string, args ...any) error {
	return &Refusal{Now: true, Kind: kind, Text: fmt.Sprintf(format, args...)}
}

// lock holds the ledger of a site until it is given back.
func (k *Books) lock(site uint64) (unlock func()) {
	k.mu.Lock()
	own := k.ledgers[site]
	if own == nil {
		own = &sync.Mutex{}
		k.ledgers[site] = own
	}
	k.mu.Unlock()
	own.Lock()
	return own.Unlock
}

// Free refuses where the ledger of a site is being rebuilt.
func (k *Books) Free(site uint64) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.rebuilding[site] {
		return ErrBusy
	}
	return nil
}

// Hold keeps others from rebuilding the ledger of a site until it is released.
func (k *Books) Hold(site uint64) (release func(), err error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.rebuilding[site] {
		return nil, ErrBusy
	}
	k.rebuilding[site] = true
	return func() {
		k.mu.Lock()
		defer k.mu.Unlock()
		delete(k.rebuilding, site)
	}, nil
}

// RulesOf gives the rules of the program with those that a site has switched on behind them. extra is laid over the site's file of
// the same name; it may be nil.
func (k *Books) RulesOf(ctx context.Context, site uint64, extra *store.RuleFile) (*identify.Rules, error) {
	files, err := k.store.RuleFiles(ctx, site, store.RulesIdentify)
	if err != nil {
		return nil, err
	}
	files = withExtra(files, extra)
	if len(files) == 0 {
		return k.rules, nil
	}
	all := slices.Clone(k.rules.All())
	for _, f := range files {
		rules, err := identify.ReadRules(f.Name, []byte(f.Text))
		if err != nil {
			return nil, err
		}
		all = append(all, rules...)
	}
	return identify.NewRules(all), nil
}

// withExtra gives the files that are on, with an extra one laid over that of its name.
func withExtra(files []store.RuleFile, extra *store.RuleFile) []store.RuleFile {
	files = slices.DeleteFunc(files, func(f store.RuleFile) bool { return !f.Active || extra != nil && f.Name == extra.Name })
	if extra != nil {
		files = append(files, *extra)
	}
	return files
}

// EngineOf makes the engine by which a site's devices are identified.
func (k *Books) EngineOf(ctx context.Context, site store.Site) (*identify.Engine, error) {
	rules, err := k.RulesOf(ctx, site.ID, nil)
	if err != nil {
		return nil, err
	}
	return identify.New(rules, site.Overlay()), nil
}
