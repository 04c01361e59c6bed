package books

import (
	"context"
	"errors"
	"net/netip"
	"slices"
	"strconv"
	"time"

	"airdrift/core/complete"
	"airdrift/core/evidence"
	"airdrift/core/lease"
	"airdrift/core/netrange"
	"airdrift/store"
)

// Completeness is how complete the sweep of a network is.
type Completeness struct {
	complete.Figure
	Network store.Network
	Sweep   store.Sweep
}

// Complete estimates for each network of a site how many devices were missed by a sweep, or where number is 0 by the latest that looked through all
// of it. IPv4 networks that were not looked through are given by
// themselves.
func (k *Books) Complete(ctx context.Context, siteID, number uint64) (figures []Completeness, unswept []store.Network, err error) {
	site, err := k.store.Site(ctx, siteID)
	if err != nil {
		return nil, nil, err
	}
	sweeps, err := k.store.AllSweeps(ctx, siteID)
	if err != nil {
		return nil, nil, err
	}
	if number != 0 {
		if _, err := k.store.Sweep(ctx, number); err != nil {
			return nil, nil, err
		}
		if !slices.ContainsFunc(sweeps, func(s store.Sweep) bool { return s.ID == number && isWhole(s) }) {
			return nil, nil, refuse("sweep %d of this site has not been carried out to its end, or its evidence is deleted: nothing can be told of it", number)
		}
	}
	return k.completeAt(ctx, site, sweeps, number)
}

// completeAt is Complete by some sweeps of a site, the oldest first.
func (k *Books) completeAt(ctx context.Context, site store.Site, sweeps []store.Sweep, number uint64) (figures []Completeness, unswept []store.Network, err error) {
	by := map[uint64][]store.Network{}
	for _, n := range site.Networks {
		if !n.Subnet.Addr().Is4() {
			continue // too large to be looked through
		}
		sweep, swept, err := sweepOver(sweeps, n, number)
		if err != nil {
			return nil, nil, err
		}
		if !swept {
			unswept = append(unswept, n)
			continue
		}
		by[sweep.ID] = append(by[sweep.ID], n)
	}
	for i, sweep := range sweeps {
		if len(by[sweep.ID]) == 0 {
			continue
		}
		before := slices.ContainsFunc(sweeps[:i], isWhole)
		part, err := k.completeBy(ctx, sweep, by[sweep.ID], before)
		if err != nil {
			return nil, nil, err
		}
		figures = append(figures, part...)
	}
	slices.SortFunc(figures, func(a, b Completeness) int { return a.Subnet.Addr().Compare(b.Subnet.Addr()) })
	return figures, unswept, nil
}

// isWhole reports whether a sweep has looked to its end, and what it has seen is still there.
func isWhole(s store.Sweep) bool { return s.State == store.Done && !s.Thinned }

// sweepOver gives the latest sweep that has looked through all of a network; number is the one wanted, or 0.
func sweepOver(sweeps []store.Sweep, n store.Network, number uint64) (latest store.Sweep, ok bool, err error) {
	for _, s := range sweeps {
		if !isWhole(s) || number != 0 && s.ID != number || ok && s.Began.Before(latest.Began) {
			continue
		}
		ranges, err := netrange.Parse(s.Ranges) // what is left out of them was left out on purpose
		if err != nil && !errors.Is(err, netrange.ErrEmpty) {
			return store.Sweep{}, false, err
		}
		if ranges.Contains(n.Subnet.Masked().Addr().Next()) && ranges.Contains(lastOf(n.Subnet)) {
			latest, ok = s, true
		}
	}
	return latest, ok, nil
}

// lastOf gives the last address of an IPv4 network at which a device can be: that of broadcasts is none.
func lastOf(p netip.Prefix) netip.Addr {
	if p.Bits() < 31 {
		return netrange.Last(p).Prev()
	}
	return netrange.Last(p)
}

func (k *Books) completeBy(ctx context.Context, sweep store.Sweep, networks []store.Network, before bool) ([]Completeness, error) {
	seen, numbers, err := k.store.SeenBy(ctx, sweep.ID)
	if err != nil {
		return nil, err
	}
	known, err := k.store.KnownBefore(ctx, sweep.SiteID, sweep.Began)
	if err != nil {
		return nil, err
	}
	leases, err := k.store.Leases(ctx, sweep.SiteID)
	if err != nil {
		return nil, err
	}
	current := currentLeases(leases, sweep)
	var lists []complete.Way
	if before {
		lists = append(lists, complete.EarlierSweeps)
	}
	counts := make([]*complete.Network, len(networks))
	for i, n := range networks {
		local := slices.ContainsFunc(sweep.OnLink, n.Subnet.Overlaps)
		counts[i] = complete.NewNetwork(n.Subnet, local, lists...)
	}
	in := func(a netip.Addr) *complete.Network {
		at := slices.IndexFunc(networks, func(n store.Network) bool { return n.Subnet.Contains(a) })
		if at < 0 {
			return nil
		}
		return counts[at]
	}
	met := map[netip.Addr]bool{}
	for i, s := range seen.Sightings {
		n := in(s.Addr)
		if n == nil || !s.Answered || s.Unit != "" {
			continue
		}
		met[s.Addr] = true
		items, err := seen.Facts(i)
		if err != nil {
			return nil, err
		}
		if evidence.First(items, evidence.KeySelf) != "" {
			continue // the auditor's own machine
		}
		var lists []complete.Way
		if known[numbers[i]] {
			lists = append(lists, complete.EarlierSweeps)
		}
		if current[s.Addr] {
			lists = append(lists, complete.LeaseTable)
		}
		n.Add(strconv.FormatUint(numbers[i], 10), items, lists...)
	}
	for a := range current {
		if n := in(a); n != nil && !met[a] {
			n.Add("lease "+a.String(), nil, complete.LeaseTable)
		}
	}
	figures := make([]Completeness, len(networks))
	for i, n := range networks {
		figures[i] = Completeness{complete.Of(counts[i]), n, sweep}
	}
	return figures, nil
}

// currentLeases gives the addresses that were given out when a sweep ran.
func currentLeases(leases []lease.Lease, sweep store.Sweep) map[netip.Addr]bool {
	current := map[netip.Addr]bool{}
	at := sweep.Began.Add(sweep.Ended.Sub(sweep.Began) / time.Duration(2))
	for _, l := range leases {
		if !l.Since.After(at) && (l.Until.IsZero() || l.Until.After(at)) {
			current[l.Addr] = true
		}
	}
	return current
}
