package service

import (
	"bytes"
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"airdrift/api"
	"airdrift/core/register"
)

func (s *Service) registerRegister(humaAPI huma.API) {
	huma.Register(humaAPI, huma.Operation{
		OperationID: "get-register", Method: http.MethodGet, Path: "/api/v1/sites/{site}/register", Summary: "The register of a site", Tags: []string{"register"},
	}, s.getRegister)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "import-register", Method: http.MethodPost, Path: "/api/v1/sites/{site}/register",
		Summary: "Import a register from CSV, all or nothing", Tags: []string{"register"}, MaxBodyBytes: maxBody,
	}, s.importRegister)
}

func (s *Service) getRegister(ctx context.Context, in *SiteInput) (*struct{ Body []api.Entry }, error) {
	if _, err := s.store.Site(ctx, in.Site); err != nil {
		return nil, problem(ctx, err)
	}
	entries, err := s.store.Register(ctx, in.Site)
	if err != nil {
		return nil, problem(ctx, err)
	}
	list := make([]api.Entry, len(entries))
	for i, e := range entries {
		list[i] = toEntry(e)
	}
	return &struct{ Body []api.Entry }{list}, nil
}

func (s *Service) importRegister(ctx context.Context, in *struct {
	SiteInput
	Replace bool   `query:"replace" doc:"Take the old register out first; otherwise the file is laid over it"`
	RawBody []byte `contentType:"text/csv"`
}) (*struct{ Body api.Imported }, error) {
	if _, err := s.store.Site(ctx, in.Site); err != nil {
		return nil, problem(ctx, err)
	}
	entries, err := register.Read("", bytes.NewReader(in.RawBody))
	if err != nil {
		return nil, problem(ctx, err)
	}
	added, updated, err := s.sweeper.importRegister(ctx, in.Site, entries, in.Replace)
	if err != nil {
		return nil, problem(ctx, err)
	}
	counts, err := s.store.CountDevices(ctx, in.Site)
	if err != nil {
		return nil, problem(ctx, err)
	}
	return &struct{ Body api.Imported }{api.Imported{Added: added, Updated: updated, Counts: tally(counts).Counts}}, nil
}
