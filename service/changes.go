package service

import (
	"cmp"
	"context"
	"net/http"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"airdrift/api"
	"airdrift/core/inventory"
	"airdrift/store"
)

func (s *Service) registerChanges(humaAPI huma.API) {
	huma.Register(humaAPI, huma.Operation{
		OperationID: "list-changes", Method: http.MethodGet, Path: "/api/v1/sites/{site}/changes", Summary: "What sweeps of a site have found changed, the newest first",
		Tags: []string{"changes"}, Extensions: needs(Look),
	}, s.listChanges)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "compare-sweeps", Method: http.MethodGet, Path: "/api/v1/sweeps/{sweep}/comparison/{other}",
		Summary: "What another sweep of the site has found that a sweep had not, as if there were no others between them", Tags: []string{"changes"}, Extensions: needs(Look),
	}, s.compareSweeps)
}

type changesInput struct {
	SiteInput
	Sweep     uint64    `query:"sweep" doc:"Only those that this sweep has found"`
	Device    uint64    `query:"device" doc:"Only those of this device"`
	Kind      []string  `query:"kind,explode" enum:"appeared,vanished,moved,changed" doc:"Only these kinds"`
	Attribute []string  `query:"attribute,explode" doc:"Only changes of these attributes"`
	Since     time.Time `query:"since" doc:"Only those of sweeps that began then or later"`
	Until     time.Time `query:"until" doc:"Only those of sweeps that began before"`
	PageInput
}

func (s *Service) listChanges(ctx context.Context, in *changesInput) (*listOutput[api.Change], error) {
	if _, err := s.store.Site(ctx, in.Site); err != nil {
		return nil, problem(ctx, err)
	}
	query := store.ChangeQuery{
		Site: in.Site, Sweep: in.Sweep, Kinds: in.Kind, Attributes: in.Attribute, Since: in.Since, Until: in.Until, Limit: in.Limit + 1,
	}
	if _, err := in.mark(&query.Below); err != nil {
		return nil, problem(ctx, err)
	}
	if in.Device != 0 {
		device, _, err := s.store.Device(ctx, in.Device)
		if err != nil {
			return nil, problem(ctx, err)
		}
		query.Devices = append([]uint64{device.ID}, device.Was...)
	}
	changes, err := s.store.Changes(ctx, query)
	if err != nil {
		return nil, problem(ctx, err)
	}
	return pageOf(changes, in.Limit, toChange, func(c store.Change) any { return c.ID }), nil
}

// compareSweeps tells the differences of two sweeps. They stay as they are, so that a page begins at a place in the list.
func (s *Service) compareSweeps(ctx context.Context, in *struct {
	SweepInput
	PageInput
	Other uint64   `path:"other" doc:"Number of the sweep that it is compared with"`
	Kind  []string `query:"kind,explode" enum:"appeared,vanished,moved,changed" doc:"Only these kinds"`
}) (*listOutput[api.Change], error) {
	var from uint32
	if _, err := in.mark(&from); err != nil {
		return nil, problem(ctx, err)
	}
	result, err := s.books.Compare(ctx, in.Sweep, in.Other)
	if err != nil {
		return nil, problem(ctx, err)
	}
	other, err := s.store.Sweep(ctx, in.Other)
	if err != nil {
		return nil, problem(ctx, err)
	}
	list := []api.Change{}
	for _, c := range result.Changes {
		if len(in.Kind) > 0 && !slices.Contains(in.Kind, string(c.Kind)) {
			continue
		}
		d := result.Devices[c.Device]
		change := api.Change{Sweep: other.ID, Began: other.Began, Device: d.ID, Name: inventory.NameOf(d), Kind: string(c.Kind), Attribute: c.Attribute, Before: c.Before, After: c.After}
		if len(d.Addrs) > 0 {
			change.Addr = d.Addrs[0].String()
		}
		list = append(list, change)
	}
	slices.SortStableFunc(list, func(a, b api.Change) int { return cmp.Compare(a.Device, b.Device) })
	for i := range list {
		list[i].ID = uint64(i + 1)
	}
	total := int64(len(list))
	out := pageOf(list[min(int(from), len(list)):], in.Limit, func(c api.Change) api.Change { return c }, func(c api.Change) any { return c.ID })
	out.Body.Total = &total
	return out, nil
}

func toChange(c store.Change) api.Change {
	return api.Change{
		ID: c.ID, Sweep: c.Sweep, Began: c.Began, Device: c.Device, Name: c.Name, Addr: c.Addr, Kind: string(c.Kind), Attribute: c.Attribute, Before: c.Before, After: c.After,
	}
}
