package books

import (
	"context"

	"airdrift/core/ledger"
	"airdrift/core/sweep"
	"airdrift/store"
)

// Compare tells what a sweep of a site has found that another one had not.
func (k *Books) Compare(ctx context.Context, first, second uint64) (ledger.Result, error) {
	var sweeps [2]ledger.Sweep
	var site store.Site
	for i, id := range []uint64{first, second} {
		record, err := k.store.Sweep(ctx, id)
		if err != nil {
			return ledger.Result{}, err
		}
		switch {
		case i > 0 && record.SiteID != site.ID:
			return ledger.Result{}, refuse("the sweeps are of two sites")
		case record.State == store.Running:
			return ledger.Result{}, conflict("", "sweep %d is running: compare it when it has ended", id)
		case record.Thinned:
			return ledger.Result{}, conflict("", "sweep %d: %v", id, store.ErrThinned)
		}
		if site, err = k.store.Site(ctx, record.SiteID); err != nil {
			return ledger.Result{}, err
		}
		if sweeps[i], err = k.sweepAsTaken(ctx, record); err != nil {
			return ledger.Result{}, err
		}
	}
	engine, err := k.EngineOf(ctx, site)
	if err != nil {
		return ledger.Result{}, err
	}
	sweeps[1].PortsOf = func(uint64) map[uint16]bool { return portSet(sweeps[0].Ports) }
	return ledger.Compare(sweeps[0], sweeps[1], engine)
}

func portSet(ports []uint16) map[uint16]bool {
	set := make(map[uint16]bool, len(ports))
	for _, port := range ports {
		set[port] = true
	}
	return set
}

// sweepAsTaken gives a sweep whose sightings are the devices that they are taken for now.
func (k *Books) sweepAsTaken(ctx context.Context, record store.Sweep) (ledger.Sweep, error) {
	covered, err := record.Covered()
	if err != nil {
		return ledger.Sweep{}, err
	}
	ports, err := sweep.ParsePorts(record.Ports)
	if err != nil {
		return ledger.Sweep{}, err
	}
	seen, devices, err := k.store.SeenBy(ctx, record.ID)
	if err != nil {
		return ledger.Sweep{}, err
	}
	return ledger.Sweep{
		ID: record.ID, Began: record.Began, Vantage: record.Vantage, Ports: ports, Off: record.Plan.Off, Covered: covered, Stopped: record.State != store.Done,
		Gateway: record.Gateway, OnLink: record.OnLink, Sightings: seen.Sightings, Hashes: seen.Hashes, Facts: seen.Facts, Devices: devices,
	}, nil
}
