package service

import (
	"context"
	"net/http"
	"net/netip"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"airdrift/api"
	"airdrift/core/ledger"
)

func (s *Service) registerPictures(humaAPI huma.API) {
	huma.Register(humaAPI, huma.Operation{
		OperationID: "get-pictures", Method: http.MethodGet, Path: "/api/v1/sites/{site}/pictures", Summary: "Standing by network, devices over the last sweeps, and when certificates end",
		Tags: []string{"sites"}, Extensions: needs(Look),
	}, s.getPictures)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "get-addresses", Method: http.MethodGet, Path: "/api/v1/sites/{site}/addresses", Summary: "What is at each address of a network",
		Tags: []string{"sites"}, Extensions: needs(Look),
	}, s.getAddresses)
}

const (
	// shownVisits is how many sweeps are drawn.
	shownVisits = 16
	// soonest is how many certificates of a band are named.
	soonest = 20
)

// bands are how long certificates have still, in days; the last has no end.
var bands = []struct {
	name string
	days int
}{{"expired", 0}, {"month", 30}, {"quarter", 91}, {"year", 365}, {"later", 0}}

func (s *Service) getPictures(ctx context.Context, in *SiteInput) (*struct{ Body api.Pictures }, error) {
	standings, err := s.books.Standings(ctx, in.Site)
	if err != nil {
		return nil, problem(ctx, err)
	}
	visits, err := s.books.Visits(ctx, in.Site, shownVisits)
	if err != nil {
		return nil, problem(ctx, err)
	}
	out := api.Pictures{Networks: []api.NetworkStanding{}, Visits: []api.VisitCount{}}
	for _, n := range standings {
		out.Networks = append(out.Networks, api.NetworkStanding{
			Network: n.Network.Name, Subnet: n.Network.Subnet.String(), Unmanaged: n.Count[ledger.Unmanaged], Managed: n.Count[ledger.Managed], Missing: n.Count[ledger.Missing], SetAside: n.Count[ledger.SetAside],
		})
	}
	for _, v := range visits {
		out.Visits = append(out.Visits, api.VisitCount{Sweep: v.Sweep.ID, Began: v.Sweep.Began, Seen: v.Seen, Unmanaged: v.Unmanaged})
	}
	if out.Certificates, err = s.certificateBands(ctx, in.Site, time.Now()); err != nil {
		return nil, problem(ctx, err)
	}
	out.Times, err = s.timeSpreads(ctx, in.Site)
	return &struct{ Body api.Pictures }{out}, problem(ctx, err)
}

// shownProtocols is of how many protocols it is shown how response times lie.
const shownProtocols = 10

func (s *Service) timeSpreads(ctx context.Context, site uint64) ([]api.TimeSpread, error) {
	out := []api.TimeSpread{}
	sweep, err := s.sweepForTimes(ctx, TimesInput{SiteInput: SiteInput{site}})
	if err != nil || sweep.ID == 0 {
		return out, err
	}
	spreads, err := s.books.Spreads(ctx, site, sweep.ID)
	for _, p := range spreads[:min(len(spreads), shownProtocols)] {
		out = append(out, api.TimeSpread{Protocol: p.Name, Devices: p.Count, Least: p.Least, Low: p.Low, Middle: p.Middle, High: p.High, Most: p.Most})
	}
	return out, err
}

func (s *Service) certificateBands(ctx context.Context, site uint64, now time.Time) ([]api.CertificateBand, error) {
	certificates, err := s.books.Certificates(ctx, site)
	out := make([]api.CertificateBand, len(bands))
	for i, b := range bands {
		out[i] = api.CertificateBand{Band: b.name, Soonest: []api.EndingCertificate{}}
	}
	for _, c := range certificates {
		at := len(bands) - 1
		for i, b := range bands[:at] {
			if !c.Until.After(now.AddDate(0, 0, b.days)) {
				at = i
				break
			}
		}
		if out[at].Certificates++; len(out[at].Soonest) < soonest {
			out[at].Soonest = append(out[at].Soonest, api.EndingCertificate{Device: c.Device, Name: c.Name, Port: c.Port.String(), Until: c.Until})
		}
	}
	return out, err
}

func (s *Service) getAddresses(ctx context.Context, in *struct {
	SiteInput
	Subnet string `query:"subnet" required:"true" maxLength:"50" doc:"Of the site's networks" example:"10.40.1.0/24"`
}) (*struct{ Body api.AddressPicture }, error) {
	subnet, err := netip.ParsePrefix(in.Subnet)
	if err != nil {
		return nil, problem(ctx, refuse(http.StatusUnprocessableEntity, "subnet: %q is none such as 10.40.1.0/24", in.Subnet))
	}
	site, err := s.store.Site(ctx, in.Site)
	if err != nil {
		return nil, problem(ctx, err)
	}
	cells, block, err := s.books.Addresses(ctx, in.Site, subnet)
	if err != nil {
		return nil, problem(ctx, err)
	}
	out := api.AddressPicture{Subnet: subnet.String(), First: subnet.Masked().Addr().String(), Block: block, Cells: []api.AddressCell{}}
	for _, n := range site.Networks {
		if n.Subnet == subnet {
			out.Network = n.Name
		}
	}
	for _, c := range cells {
		out.Cells = append(out.Cells, api.AddressCell{State: string(c.State), Device: c.Device})
	}
	return &struct{ Body api.AddressPicture }{out}, nil
}
