package books

import (
	"context"
	"net/netip"
	"slices"
	"sync"
	"time"

	"airdrift/core/evidence"
	"airdrift/core/inventory"
	"airdrift/core/ledger"
	"airdrift/core/netrange"
	"airdrift/core/report"
	"airdrift/core/spread"
	"airdrift/store"
)

// mostCells is how many cells the picture of a network has.
const mostCells = 1024

// Cell is one cell of the picture of a network.
type Cell struct {
	State  report.Cell
	Device uint64 // that is there; 0 for none
}

// spotted is what is at one address.
type spotted struct {
	addr   netip.Addr
	state  report.Cell
	device uint64
}

// spotsOf gives what is at each address that devices hold, whole as the ledger has them.
func spotsOf(devices []ledger.Device) (spots []spotted) {
	for _, d := range devices {
		state := report.Silent
		switch {
		case d.FirstSeen.IsZero():
			state = report.Register
		case d.Presence == ledger.Seen:
			state = report.Seen
		}
		for _, a := range d.Addrs {
			spots = append(spots, spotted{a, state, d.ID})
		}
		for _, a := range d.Contested {
			spots = append(spots, spotted{a, report.Conflict, d.ID})
		}
		if d.Entry != nil && d.FirstSeen.IsZero() {
			spots = append(spots, spotted{d.Entry.Addr, report.Register, d.ID})
		}
	}
	return spots
}

// Addresses gives what is at each address of a network of a site, and how many addresses one cell stands for; ErrNotFound where it has none of that
// subnet. An IPv6 network and one of more than a million addresses have no picture.
func (k *Books) Addresses(ctx context.Context, siteID uint64, subnet netip.Prefix) (cells []Cell, block int, err error) {
	site, err := k.store.Site(ctx, siteID)
	if err != nil {
		return nil, 0, err
	}
	at := slices.IndexFunc(site.Networks, func(n store.Network) bool { return n.Subnet == subnet })
	if at < 0 {
		return nil, 0, store.ErrNotFound
	}
	all, err := k.store.Spots(ctx, siteID)
	if err != nil {
		return nil, 0, err
	}
	var spots []spotted
	holders := map[netip.Addr]uint64{}
	for _, s := range all {
		one := spotted{s.Addr, report.Silent, s.Device}
		switch other := holders[s.Addr]; {
		case s.Never:
			one.state = report.Register
		case s.Contested && other != 0 && other != s.Device:
			one.state = report.Conflict
		case s.Presence == ledger.Seen:
			one.state = report.Seen
		}
		holders[s.Addr] = s.Device
		spots = append(spots, one)
	}
	return cellsOf(site.Networks[at], spots), blockOf(site.Networks[at]), nil
}

// cellsOf gives what is at each address of an IPv4 network, several to a cell where it has more of them than cells are shown; nil of one without any.
func cellsOf(n store.Network, spots []spotted) []Cell {
	const largest = 12 // bits of the prefix of a network of a million addresses
	if !n.Subnet.Addr().Is4() || n.Subnet.Bits() < largest {
		return nil
	}
	addresses, block := 1<<(32-n.Subnet.Bits()), blockOf(n)
	cells := make([]Cell, addresses/block)
	rank := map[report.Cell]int{report.Free: 0, report.Dynamic: 1, report.Register: 2, report.Silent: 3, report.Seen: 4, report.Conflict: 5}
	for i := range cells {
		cells[i].State = report.Free
	}
	base := n.Subnet.Masked().Addr().As4()
	set := func(s spotted) {
		if !n.Subnet.Contains(s.addr) {
			return
		}
		raw, at := s.addr.As4(), 0
		for i := range raw {
			at = at<<8 | int(raw[i]) - int(base[i])
		}
		if rank[s.state] > rank[cells[at/block].State] {
			cells[at/block] = Cell{s.state, s.device}
		}
	}
	if pool, err := netrange.Parse(n.Pool); err == nil {
		visit := netrange.NewVisit(pool, 1)
		for i := range min(visit.Len(), uint64(addresses)) {
			a, _ := visit.At(i)
			set(spotted{addr: a, state: report.Dynamic})
		}
	}
	for _, s := range spots {
		set(s)
	}
	return cells
}

// blockOf gives how many addresses of a network one cell stands for.
func blockOf(n store.Network) int {
	if !n.Subnet.Addr().Is4() {
		return 1
	}
	return max(1, 1<<(32-n.Subnet.Bits())/mostCells)
}

// Standing is how many devices of a network have each standing.
type Standing struct {
	Network store.Network
	Count   map[ledger.Standing]int
}

// Standings gives for each network of a site how many of the devices in it have each standing. A device of several networks counts in each.
func (k *Books) Standings(ctx context.Context, siteID uint64) ([]Standing, error) {
	site, err := k.store.Site(ctx, siteID)
	if err != nil {
		return nil, err
	}
	spots, err := k.store.Spots(ctx, siteID)
	if err != nil {
		return nil, err
	}
	list := make([]Standing, len(site.Networks))
	for i, n := range site.Networks {
		list[i] = Standing{n, map[ledger.Standing]int{}}
		counted := map[uint64]bool{}
		for _, s := range spots {
			if s.Addr.IsValid() && n.Subnet.Contains(s.Addr) && !counted[s.Device] {
				counted[s.Device] = true
				list[i].Count[s.Standing]++
			}
		}
	}
	return list, nil
}

// Visit is how many devices a sweep has met, and how many of them nobody manages now.
type Visit struct {
	Sweep           store.Sweep
	Seen, Unmanaged int
}

// Visits gives the last sweeps of a site that have ended, the oldest first.
func (k *Books) Visits(ctx context.Context, site uint64, most int) ([]Visit, error) {
	sweeps, err := k.store.AllSweeps(ctx, site)
	if err != nil {
		return nil, err
	}
	spots, err := k.store.Spots(ctx, site)
	if err != nil {
		return nil, err
	}
	unmanaged := map[uint64]bool{}
	for _, s := range spots {
		unmanaged[s.Device] = s.Standing == ledger.Unmanaged
	}
	sweeps = slices.DeleteFunc(sweeps, func(s store.Sweep) bool { return s.Thinned })
	var visits []Visit
	for _, s := range sweeps[max(0, len(sweeps)-most):] {
		met, err := k.store.DevicesMet(ctx, s.ID)
		if err != nil {
			return nil, err
		}
		v := Visit{Sweep: s, Seen: len(met)}
		for _, number := range met {
			if unmanaged[number] {
				v.Unmanaged++
			}
		}
		visits = append(visits, v)
	}
	return visits, nil
}

// Certificate is a certificate that a device shows, with its end.
type Certificate struct {
	Device uint64
	Name   string
	Port   evidence.Port
	Until  time.Time
}

// perSweep keeps what is read of all devices of a site until a sweep has ended since, or the devices are others.
type perSweep[T any] struct {
	mu sync.Mutex // guards of, and changes of all that is kept; never held while somebody looks
	of map[uint64]*kept[T]
}

// kept is what is kept of one site.
type kept[T any] struct {
	looking sync.Mutex // has one at a time look; taken before the other
	changes int        // how often its devices were changed by other than a sweep
	known   bool
	sweep   uint64 // the newest there was
	as      int    // after so many changes
	value   T
}

// get gives what is kept of a site as of its newest sweep, or has it looked for.
func (c *perSweep[T]) get(site, newest uint64, look func() (T, error)) (T, error) {
	k := c.kept(site)
	k.looking.Lock()
	defer k.looking.Unlock()
	c.mu.Lock()
	changes, value, holds := k.changes, k.value, k.known && k.sweep == newest && k.as == k.changes
	c.mu.Unlock()
	if holds {
		return value, nil
	}
	value, err := look()
	if err == nil {
		c.mu.Lock()
		defer c.mu.Unlock()
		k.known, k.sweep, k.as, k.value = true, newest, changes, value
	}
	return value, err
}

// kept gives what is kept of a site.
func (c *perSweep[T]) kept(site uint64) *kept[T] {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.of == nil {
		c.of = map[uint64]*kept[T]{}
	}
	if c.of[site] == nil {
		c.of[site] = &kept[T]{}
	}
	return c.of[site]
}

// forget has a site looked at anew, as its devices have been changed.
func (c *perSweep[T]) forget(site uint64) {
	k := c.kept(site)
	c.mu.Lock()
	defer c.mu.Unlock()
	k.changes++
}

// Certificates gives the certificates that devices of a site show, in the order in which they end, as of the newest sweep.
func (k *Books) Certificates(ctx context.Context, site uint64) ([]Certificate, error) {
	sweeps, err := k.store.EndedSweeps(ctx, site, nil)
	if err != nil || len(sweeps) == 0 {
		return nil, err
	}
	return k.certificates.get(site, sweeps[len(sweeps)-1].ID, func() (list []Certificate, err error) {
		err = k.store.EachDevice(ctx, site, func(d ledger.Device) error {
			for _, it := range d.Items {
				if it.Key != evidence.KeyTLSUntil {
					continue
				}
				if until, err := time.Parse(time.RFC3339, it.Value); err == nil {
					list = append(list, Certificate{d.ID, inventory.Called(d), it.Port, until})
				}
			}
			return nil
		})
		slices.SortStableFunc(list, func(a, b Certificate) int { return a.Until.Compare(b.Until) })
		return list, err
	})
}

// Spreads gives how the devices' median response times lie, in milliseconds, in each protocol that a sweep has timed, the one that most answered in first.
func (k *Books) Spreads(ctx context.Context, site, sweep uint64) ([]spread.Named, error) {
	return k.spreads.get(site, sweep, func() ([]spread.Named, error) {
		times, err := k.store.AllTimes(ctx, sweep)
		medians := map[string][]float64{}
		for _, of := range times {
			for _, t := range of {
				if t.Answers > 0 {
					medians[t.Protocol] = append(medians[t.Protocol], evidence.Milliseconds(t.Median))
				}
			}
		}
		return spread.ByName(medians), err
	})
}
