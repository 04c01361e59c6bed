package service

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"airdrift/api"
	"airdrift/store"
)

func (s *Service) registerChanges(humaAPI huma.API) {
	huma.Register(humaAPI, huma.Operation{
		OperationID: "list-changes", Method: http.MethodGet, Path: "/api/v1/sites/{site}/changes", Summary: "What sweeps of a site have found changed, the newest first",
		Tags: []string{"changes"}, Extensions: needs(Look),
	}, s.listChanges)
}

type changesInput struct {
	SiteInput
	Sweep     uint64    `query:"sweep" doc:"Only those that this sweep has found"`
	Device    uint64    `query:"device" doc:"Only those of this device"`
	Kind      []string  `query:"kind,explode" enum:"appeared,vanished,moved,changed" doc:"Only these kinds"`
	Attribute []string  `query:"attribute,explode" enum:"name,kind,vendor,model,os,firmware,mac,port" doc:"Only changes of these attributes"`
	Since     time.Time `query:"since" doc:"Only those of sweeps that began then or later"`
	Until     time.Time `query:"until" doc:"Only those of sweeps that began before"`
	Below     uint64    `query:"below" doc:"Only those with a lower number: the next of the page before"`
	Limit     int       `query:"limit" minimum:"1" maximum:"1000" default:"100"`
}

func (s *Service) listChanges(ctx context.Context, in *changesInput) (*struct{ Body api.ChangeList }, error) {
	if _, err := s.store.Site(ctx, in.Site); err != nil {
		return nil, problem(ctx, err)
	}
	query := store.ChangeQuery{
		Site: in.Site, Sweep: in.Sweep, Kinds: in.Kind, Attributes: in.Attribute, Since: in.Since, Until: in.Until, Below: in.Below, Limit: in.Limit + 1,
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
	list := api.ChangeList{Changes: []api.Change{}}
	if len(changes) > in.Limit { // there is one more than the page holds
		changes = changes[:in.Limit]
		list.Next = changes[in.Limit-1].ID
	}
	for _, c := range changes {
		list.Changes = append(list.Changes, api.Change{
			ID: c.ID, Sweep: c.Sweep, Began: c.Began, Device: c.Device, Name: c.Name, Addr: c.Addr, Kind: string(c.Kind), Attribute: c.Attribute, Before: c.Before, After: c.After,
		})
	}
	return &struct{ Body api.ChangeList }{list}, nil
}
