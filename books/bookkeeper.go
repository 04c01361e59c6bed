package books

import (
	"context"
	"slices"

	"airdrift/core/evidence"
	"airdrift/core/identify"
	"airdrift/core/lease"
	"airdrift/core/ledger"
	"airdrift/core/netrange"
	"airdrift/core/register"
	"airdrift/core/sweep"
	"airdrift/store"
)

// bookkeeper enters sweeps into a ledger, one after the other.
type bookkeeper struct {
	stale   string // why the site's ledger is to be computed anew, read before all else
	engine  *identify.Engine
	entries []register.Entry
	leases  lease.Index
	covered netrange.Set // by whole sweeps so far
	grown   bool         // the last of them covered more than those before it

	decisions []ledger.Decision
	ports     map[uint64]string          // of all sweeps, as somebody wrote them
	asked     map[string]map[uint16]bool // what that means
}

// portsOf gives the ports of a sweep.
func (b *bookkeeper) portsOf(id uint64) map[uint16]bool {
	text, known := b.ports[id]
	if !known {
		return nil
	}
	if b.asked[text] == nil {
		ports, err := sweep.ParsePorts(text)
		if err != nil {
			return nil // it could not be swept either
		}
		b.asked[text] = make(map[uint16]bool, len(ports))
		for _, port := range ports {
			b.asked[text][port] = true
		}
	}
	return b.asked[text]
}

func (k *Books) bookkeeper(ctx context.Context, site store.Site) (*bookkeeper, error) {
	engine, err := k.EngineOf(ctx, site)
	if err != nil {
		return nil, err
	}
	leases, err := k.store.Leases(ctx, site.ID)
	if err != nil {
		return nil, err
	}
	ports, err := k.store.SweepPorts(ctx, site.ID)
	if err != nil {
		return nil, err
	}
	b := &bookkeeper{stale: site.Stale, engine: engine, leases: lease.NewIndex(leases), ports: ports, asked: map[string]map[uint16]bool{}}
	return b, k.said(ctx, site.ID, b)
}

// said reads what the ledger is held against.
func (k *Books) said(ctx context.Context, site uint64, b *bookkeeper) (err error) {
	if b.entries, err = k.store.Register(ctx, site); err != nil {
		return err
	}
	b.decisions, err = k.store.Decisions(ctx, site)
	return err
}

// enter makes the function that enters one sweep.
func (b *bookkeeper) enter(record *store.Sweep) store.Enter {
	return func(shelf ledger.Shelf, seen *store.Seen, before []uint64) (ledger.Result, error) {
		covered, err := record.Covered()
		if err != nil {
			return ledger.Result{}, err
		}
		ports, err := sweep.ParsePorts(record.Ports)
		if err != nil {
			return ledger.Result{}, err
		}
		entered := ledger.Sweep{
			ID: record.ID, Began: record.Began, Vantage: record.Vantage, Ports: ports, Off: record.Plan.Off, PortsOf: b.portsOf, Covered: covered, Patience: record.Plan.Patience, Stopped: record.State != store.Done,
			Gateway: record.Gateway, OnLink: record.OnLink, Sightings: seen.Sightings, Devices: before, Told: b.told(),
		}
		if entered.Hashes, entered.Facts, err = b.withLeases(seen); err != nil {
			return ledger.Result{}, err
		}
		result, err := ledger.Enter(shelf, entered, b.engine)
		if err != nil {
			return result, err
		}
		if b.grown = false; record.State == store.Done {
			all := b.covered.Union(covered)
			b.covered, b.grown = all, !slices.Equal(all.Spans(), b.covered.Spans())
		}
		countChanges(record, result.Changes)
		return result, nil
	}
}

// told gives what people have said of what is one device.
func (b *bookkeeper) told() []ledger.Verdict {
	var told []ledger.Verdict
	for _, d := range b.decisions {
		if v, ok := ledger.VerdictOf(d); ok {
			told = append(told, v)
		}
	}
	return told
}

// withLeases gives the facts of sightings with what the site's leases tell of them.
func (b *bookkeeper) withLeases(seen *store.Seen) ([]evidence.Hash, func(int) ([]evidence.Item, error), error) {
	if len(b.leases) == 0 {
		return seen.Hashes, seen.Facts, nil
	}
	attach := func(i int) ([]evidence.Item, bool, error) {
		return b.leases.Attach(seen.Sightings[i], func() ([]evidence.Item, error) { return seen.Facts(i) })
	}
	hashes := slices.Clone(seen.Hashes)
	for i := range hashes {
		items, has, err := attach(i)
		if err != nil {
			return nil, nil, err
		}
		if has {
			hashes[i] = evidence.HashOf(items)
		}
	}
	return hashes, func(i int) ([]evidence.Item, error) {
		if items, has, err := attach(i); has || err != nil {
			return items, err
		}
		return seen.Facts(i)
	}, nil
}

// settle holds devices against the register and what people have said.
func (b *bookkeeper) settle(shelf ledger.Shelf, result *ledger.Result) ([]uint64, error) {
	return result.Settle(shelf, ledger.Said{Entries: b.entries, Decisions: b.decisions, Covered: b.covered, Grown: b.grown})
}

// settleAll does so with all devices of a site.
func (b *bookkeeper) settleAll(shelf ledger.Shelf, result *ledger.Result) ([]uint64, error) {
	return result.Settle(shelf, ledger.Said{Entries: b.entries, Decisions: b.decisions, Covered: b.covered, Grown: true}, b.entries...)
}

// match holds all devices of a site against the register.
func (b *bookkeeper) match(devices []ledger.Device) []ledger.Device {
	return ledger.Match(devices, b.entries, b.decisions, b.covered)
}

func countChanges(record *store.Sweep, changes []ledger.Change) {
	record.Appeared, record.Vanished, record.Moved, record.Changed = 0, 0, 0, 0
	for _, c := range changes {
		switch c.Kind {
		case ledger.Appeared:
			record.Appeared++
		case ledger.Vanished:
			record.Vanished++
		case ledger.Moved:
			record.Moved++
		case ledger.Changed:
			record.Changed++
		}
	}
}

// begin takes up devices as settled sweeps have left them: read by the rules of now, and with what people have said to be one joined.
func (b *bookkeeper) begin(settled []store.Sweep, devices []ledger.Device, items func(ledger.Device) ([]evidence.Item, error)) ([]ledger.Device, map[uint64]uint64, error) {
	for _, s := range settled {
		if s.State != store.Done {
			continue
		}
		covered, err := s.Covered()
		if err != nil {
			return nil, nil, err
		}
		b.covered = b.covered.Union(covered)
	}
	for i, d := range devices {
		if d.Edition == b.engine.Edition() {
			continue
		}
		facts, err := items(d)
		if err != nil {
			return nil, nil, err
		}
		devices[i] = ledger.Reread(d, facts, b.engine)
	}
	devices, into := ledger.JoinTold(devices, b.told())
	return devices, into, nil
}
