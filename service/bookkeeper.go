package service

import (
	"context"

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
	engine  *identify.Engine
	entries []register.Entry
	leases  []lease.Lease
	before  netrange.Set // what whole sweeps have covered so far

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

func (s *sweeper) bookkeeper(ctx context.Context, site store.Site, entries []register.Entry) (*bookkeeper, error) {
	engine, err := s.engineOf(ctx, site)
	if err != nil {
		return nil, err
	}
	leases, err := s.store.Leases(ctx, site.ID)
	if err != nil {
		return nil, err
	}
	decisions, err := s.store.Decisions(ctx, site.ID)
	if err != nil {
		return nil, err
	}
	ports, err := s.store.SweepPorts(ctx, site.ID)
	return &bookkeeper{engine: engine, entries: entries, leases: leases, decisions: decisions, ports: ports, asked: map[string]map[uint16]bool{}}, err
}

// enter makes the function that enters one sweep.
func (b *bookkeeper) enter(record *store.Sweep) store.Enter {
	return func(known []ledger.Device, sightings []evidence.Sighting, former []uint64) (ledger.Result, error) {
		covered, err := record.Covered()
		if err != nil {
			return ledger.Result{}, err
		}
		ports, err := sweep.ParsePorts(record.Ports)
		if err != nil {
			return ledger.Result{}, err
		}
		result := ledger.Apply(known, b.entries, ledger.Sweep{
			ID: record.ID, Began: record.Began, Vantage: record.Vantage, Ports: ports, Off: record.Plan.Off, PortsOf: b.portsOf, Covered: covered, CoveredBefore: b.before, Stopped: record.State != store.Done,
			Gateway: record.Gateway, OnLink: record.OnLink, Sightings: lease.Attach(sightings, b.leases), Devices: former,
		}, b.engine)
		if record.State == store.Done {
			b.before = b.before.Union(covered)
		}
		countChanges(record, result.Changes)
		return result, nil
	}
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
