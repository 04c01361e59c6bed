package books

import (
	"bytes"
	"context"
	"log/slog"
	"time"

	"airdrift/core/finding"
	"airdrift/core/netrange"
	"airdrift/store"
)

// judged judges what has changed of a site, whose ledger whoever calls it holds. What cannot be judged now stays noted, and is judged later:
// what was changed holds all the same.
func (k *Books) judged(ctx context.Context, site uint64, why finding.Why) {
	k.certificates.forget(site)
	if err := k.judge(ctx, site, why); err != nil {
		slog.WarnContext(ctx, "what has changed of a site is not judged yet", "site", site, "error", err)
	}
}

// judgedWithin is how much is judged at once; more of it is left to who waits for Unjudged, so that a large sweep is not entered for longer.
const judgedWithin = 2000

// Unjudged tells that there is more to be judged than was judged at once.
func (k *Books) Unjudged() <-chan struct{} { return k.unjudged }

func (k *Books) judge(ctx context.Context, site uint64, why finding.Why) error {
	due, err := k.store.JudgeDue(ctx, site, time.Now().UTC())
	if err != nil || due == 0 {
		return err
	}
	if due > judgedWithin {
		select {
		case k.unjudged <- struct{}{}:
		default: // somebody has been told already
		}
		return nil
	}
	now, err := k.Site(ctx, site, nil)
	if err != nil {
		return err
	}
	judge := finding.NewJudge(now)
	for more := true; more && err == nil; {
		more, err = k.store.Judge(ctx, site, judge, now.Now, why)
	}
	return err
}

// Judge judges what is due of a site: what has changed and could not be judged then, and what changes as time passes. It does not hold the ledger, so
// that nobody waits for it.
func (k *Books) Judge(ctx context.Context, id uint64) error {
	due, err := k.store.JudgeDue(ctx, id, time.Now().UTC())
	if err != nil || due == 0 {
		return err
	}
	site, err := k.Site(ctx, id, nil)
	if err != nil {
		return err
	}
	judge := finding.NewJudge(site)
	for more := true; more && err == nil; {
		more, err = k.store.Judge(ctx, id, judge, site.Now, finding.ByTime)
	}
	return err
}

// Resettings changes how a site is judged, and judges all of it anew.
func (k *Books) Resettings(ctx context.Context, site uint64, change func() error) error {
	defer k.lock(site)()
	if err := change(); err != nil {
		return err
	}
	if err := k.store.JudgeAnew(ctx, site); err != nil {
		return err
	}
	k.judged(ctx, site, finding.BySettings)
	return nil
}

// Site gives what rules know of a site beside its devices. extra is laid over the site's file of rules of the same name; it may be nil.
func (k *Books) Site(ctx context.Context, id uint64, extra *store.RuleFile) (finding.Site, error) {
	site, err := k.store.Site(ctx, id)
	if err != nil {
		return finding.Site{}, err
	}
	out := finding.Site{Now: time.Now().UTC()}
	for _, n := range site.Networks {
		network := finding.Network{Name: n.Name, Subnet: n.Subnet, Use: n.Purpose, Gateway: n.Gateway}
		if network.Dynamic, err = netrange.Parse(n.Pool); err != nil && n.Pool != "" {
			return out, err
		}
		out.Networks = append(out.Networks, network)
	}
	leases, err := k.store.Leases(ctx, id)
	if err != nil {
		return out, err
	}
	out.Leases = len(leases) > 0
	if out.Wanted, err = k.Wanted(ctx, id); err != nil {
		return out, err
	}
	list, err := k.store.FindingList(ctx, id, store.EndsOfSupport)
	if err != nil {
		return out, err
	}
	if list.Text != "" {
		if out.Ends, err = finding.ReadEnds(store.EndsOfSupport, bytes.NewReader([]byte(list.Text))); err != nil {
			return out, err
		}
	}
	if out.Settings, err = k.store.FindingSettings(ctx, id); err != nil {
		return out, err
	}
	out.Own, err = k.OwnRules(ctx, id, extra)
	return out, err
}

// OwnRules gives the rules of a site's own that are on and judge it.
func (k *Books) OwnRules(ctx context.Context, site uint64, extra *store.RuleFile) (own []finding.OwnRule, err error) {
	files, err := k.store.RuleFiles(ctx, site, store.RulesJudge)
	if err != nil {
		return nil, err
	}
	for _, f := range withExtra(files, extra) {
		rules, err := finding.ReadRules(f.Name, []byte(f.Text))
		if err != nil {
			return nil, err
		}
		own = append(own, rules...)
	}
	return own, nil
}

// Wanted gives the firmware that a site wants of each model; "" where it wants none in particular.
func (k *Books) Wanted(ctx context.Context, site uint64) (func(vendor, model string) string, error) {
	wishes, err := k.store.WantedFirmwares(ctx, site)
	if err != nil {
		return nil, err
	}
	by := make(map[[2]string]string, len(wishes))
	for _, w := range wishes {
		by[[2]string{w.Vendor, w.Model}] = w.Version
	}
	return func(vendor, model string) string { return by[[2]string{vendor, model}] }, nil
}
