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
		OperationID: "get-register", Method: http.MethodGet, Path: "/api/v1/sites/{site}/register", Summary: "The register of a site", Tags: []string{"register"}, Extensions: needs(Look),
	}, s.getRegister)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "import-register", Method: http.MethodPost, Path: "/api/v1/sites/{site}/register",
		Summary: "Import a register from CSV or a workbook, all or nothing unless it may be partial", Tags: []string{"register"}, MaxBodyBytes: maxBody, BodyReadTimeout: importWait, Extensions: needs(Sweep), Middlewares: huma.Middlewares{s.oneImport(humaAPI)},
	}, s.importRegister)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "export-register", Method: http.MethodGet, Path: "/api/v1/sites/{site}/register.csv", Summary: "The register of a site as CSV that can be imported again",
		Tags: []string{"register"}, Extensions: exports(Look),
	}, s.exportRegister)
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

func (s *Service) exportRegister(ctx context.Context, in *SiteInput) (*huma.StreamResponse, error) {
	if _, err := s.store.Site(ctx, in.Site); err != nil {
		return nil, problem(ctx, err)
	}
	entries, err := s.store.Register(ctx, in.Site)
	if err != nil {
		return nil, problem(ctx, err)
	}
	return &huma.StreamResponse{Body: func(out huma.Context) {
		out.SetHeader("Content-Type", "text/csv; charset=utf-8")
		out.SetHeader("Content-Disposition", `attachment; filename="register.csv"`)
		_ = register.Write(out.BodyWriter(), entries) // fails only where the client has gone away
	}}, nil
}

func (s *Service) importRegister(ctx context.Context, in *struct {
	SiteInput
	Replace bool   `query:"replace" doc:"Take the old register out first; otherwise the file is laid over it"`
	Partial bool   `query:"partial" doc:"Leave out the lines in which something is wrong, and say which"`
	RawBody []byte `contentType:"application/octet-stream"`
}) (*struct{ Body api.Imported }, error) {
	if _, err := s.store.Site(ctx, in.Site); err != nil {
		return nil, problem(ctx, err)
	}
	entries, faults := register.ReadPartial("", bytes.NewReader(in.RawBody))
	if faults.Count() > 0 && (!in.Partial || len(entries) == 0) {
		return nil, problem(ctx, faults)
	}
	added, updated, err := s.sweeper.importRegister(ctx, in.Site, entries, in.Replace)
	if err != nil {
		return nil, problem(ctx, err)
	}
	counts, err := s.store.CountDevices(ctx, in.Site)
	if err != nil {
		return nil, problem(ctx, err)
	}
	out := api.Imported{Added: added, Updated: updated, Counts: tally(counts).Counts, Faults: []api.Bad{}, LeftOut: faults.Lines()}
	for _, f := range faults.Faults {
		out.Faults = append(out.Faults, api.Bad{Place: place(f), Field: f.Field, Why: f.Why})
	}
	return &struct{ Body api.Imported }{out}, nil
}
