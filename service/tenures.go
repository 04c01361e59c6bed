package service

import (
	"context"
	"net/http"
	"net/netip"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"airdrift/api"
	"airdrift/core/hwaddr"
	"airdrift/store"
)

func (s *Service) registerTenures(humaAPI huma.API) {
	huma.Register(humaAPI, huma.Operation{
		OperationID: "list-tenures", Method: http.MethodGet, Path: "/api/v1/sites/{site}/tenures", Summary: "Which device held which address and MAC address, from when to when, the latest first",
		Tags: []string{"devices"}, Extensions: needs(Look),
	}, s.listTenures)
}

type tenuresInput struct {
	SiteInput
	Device uint64    `query:"device" doc:"Only those of this device"`
	Addr   string    `query:"addr" maxLength:"64" doc:"Only those of this address" example:"10.40.1.83"`
	MAC    string    `query:"mac" maxLength:"64" doc:"Only those with this MAC address"`
	At     time.Time `query:"at" doc:"Only those that lasted at this time"`
	PageInput
}

func (s *Service) listTenures(ctx context.Context, in *tenuresInput) (*listOutput[api.Tenure], error) {
	if _, err := s.store.Site(ctx, in.Site); err != nil {
		return nil, problem(ctx, err)
	}
	query := store.TenureQuery{Site: in.Site, Device: in.Device, At: in.At, Limit: in.Limit + 1}
	var below store.TenureMark
	going, err := in.mark(&below)
	if err != nil {
		return nil, problem(ctx, err)
	}
	if going {
		query.Below = &below
	}
	if in.Addr != "" {
		if query.Addr, err = netip.ParseAddr(in.Addr); err != nil {
			return nil, problem(ctx, refuse(http.StatusUnprocessableEntity, "%q is not an IP address", in.Addr))
		}
	}
	if in.MAC != "" {
		if query.MAC, err = hwaddr.Parse(in.MAC); err != nil {
			return nil, problem(ctx, refuse(http.StatusUnprocessableEntity, "%v", err))
		}
	}
	tenures, err := s.store.Tenures(ctx, query)
	if err != nil {
		return nil, problem(ctx, err)
	}
	return pageOf(tenures, in.Limit, toTenure, func(t store.Tenure) any { return t.Mark() }), nil
}

func toTenure(t store.Tenure) api.Tenure {
	return api.Tenure{
		Device: t.Device, Name: t.Name, Addr: addrText(t.Addr), MAC: t.MAC.String(), Unit: t.Unit, Vantage: t.Vantage, Since: t.Since, Until: t.Until, SinceSweep: t.SinceSweep, UntilSweep: t.UntilSweep, Ended: t.Ended,
	}
}
