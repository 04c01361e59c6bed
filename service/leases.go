package service

import (
	"context"
	"net/http"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"airdrift/api"
	"airdrift/core/evidence"
	"airdrift/core/lease"
	"airdrift/core/ledger"
)

func (s *Service) registerLeases(humaAPI huma.API) {
	huma.Register(humaAPI, huma.Operation{
		OperationID: "import-leases", Method: http.MethodPut, Path: "/api/v1/sites/{site}/leases",
		Summary: "Lay the leases of a site's DHCP server (dnsmasq, ISC dhcpd, Kea) over those that are known, each for its own time, and read all evidence again with them",
		Tags:    []string{"leases"}, MaxBodyBytes: maxBody, BodyReadTimeout: importWait, Extensions: once(Sweep), Middlewares: huma.Middlewares{s.oneImport(humaAPI)},
	}, s.importLeases)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "remove-leases", Method: http.MethodDelete, Path: "/api/v1/sites/{site}/leases", Summary: "Forget the leases of a site's DHCP server",
		DefaultStatus: http.StatusNoContent, Tags: []string{"leases"}, Extensions: needs(Sweep),
	}, func(ctx context.Context, in *SiteInput) (*struct{}, error) {
		return nil, problem(ctx, s.replaceLeases(ctx, in.Site, nil))
	})
}

func (s *Service) importLeases(ctx context.Context, in *struct {
	SiteInput
	Name    string `query:"name" maxLength:"200" doc:"Name of the file, for the texts of faults"`
	RawBody []byte `contentType:"application/octet-stream"`
}) (*struct{ Body api.LeaseImport }, error) {
	remark(ctx, "%s", in.Name)
	fresh, err := lease.Read(in.Name, in.RawBody, time.Now())
	if err != nil {
		return nil, problem(ctx, err)
	}
	before, err := s.store.Leases(ctx, in.Site)
	if err != nil {
		return nil, problem(ctx, err)
	}
	if err := s.replaceLeases(ctx, in.Site, lease.Over(before, fresh)); err != nil {
		return nil, problem(ctx, err)
	}
	told := 0
	err = s.store.EachDevice(ctx, in.Site, func(d ledger.Device) error {
		if slices.ContainsFunc(d.Items, func(it evidence.Item) bool { return it.Source == evidence.SourceLease }) {
			told++
		}
		return nil
	})
	return &struct{ Body api.LeaseImport }{api.LeaseImport{Leases: len(fresh), Devices: told}}, problem(ctx, err)
}

func (s *Service) replaceLeases(ctx context.Context, site uint64, leases []lease.Lease) error {
	if _, err := s.store.Site(ctx, site); err != nil {
		return err
	}
	if err := s.sweeper.aside(ctx, site, func() error { return s.store.ReplaceLeases(ctx, site, leases) }); err != nil {
		return err
	}
	return s.sweeper.renew(ctx, site)
}
