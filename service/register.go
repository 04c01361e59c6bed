package service

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"airdrift/api"
	"airdrift/core/fault"
	"airdrift/core/register"
	"airdrift/store"
)

func (s *Service) registerRegister(humaAPI huma.API) {
	huma.Register(humaAPI, huma.Operation{
		OperationID: "get-register", Method: http.MethodGet, Path: "/api/v1/sites/{site}/register", Summary: "The register of a site", Tags: []string{"register"}, Extensions: needs(Look),
	}, s.getRegister)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "add-entry", Method: http.MethodPost, Path: "/api/v1/sites/{site}/register/entries", Summary: "Add one entry to the register of a site",
		DefaultStatus: http.StatusCreated, Tags: []string{"register"}, Extensions: once(Sweep),
	}, func(ctx context.Context, in *struct {
		SiteInput
		Body api.EntryText
	}) (*entryOutput, error) {
		return s.saveEntry(ctx, in.Site, 0, in.Body, MatchInput{})
	})
	huma.Register(humaAPI, huma.Operation{
		OperationID: "get-entry", Method: http.MethodGet, Path: "/api/v1/register/{entry}", Summary: "One entry of a register", Tags: []string{"register"}, Extensions: needs(Look),
	}, func(ctx context.Context, in *EntryInput) (*entryOutput, error) {
		entry, site, err := s.store.Entry(ctx, in.Entry)
		if err != nil {
			return nil, problem(ctx, err)
		}
		return s.entryOutput(ctx, site, entry)
	})
	huma.Register(humaAPI, huma.Operation{
		OperationID: "change-entry", Method: http.MethodPut, Path: "/api/v1/register/{entry}", Summary: "Write over one entry of a register", Tags: []string{"register"}, Extensions: needs(Sweep),
	}, func(ctx context.Context, in *struct {
		EntryInput
		MatchInput
		Body api.EntryText
	}) (*entryOutput, error) {
		_, site, err := s.store.Entry(ctx, in.Entry)
		if err != nil {
			return nil, problem(ctx, err)
		}
		return s.saveEntry(ctx, site, in.Entry, in.Body, in.MatchInput)
	})
	huma.Register(humaAPI, huma.Operation{
		OperationID: "remove-entry", Method: http.MethodDelete, Path: "/api/v1/register/{entry}", Summary: "Take one entry out of its register",
		DefaultStatus: http.StatusNoContent, Tags: []string{"register"}, Extensions: needs(Sweep),
	}, func(ctx context.Context, in *struct {
		EntryInput
		MatchInput
	}) (*struct{}, error) {
		entry, site, err := s.store.Entry(ctx, in.Entry)
		if err != nil {
			return nil, problem(ctx, err)
		}
		remark(ctx, "%s", entry.Name)
		return nil, problem(ctx, s.books.RemoveEntry(ctx, site, in.Entry, in.whileEntry))
	})
	huma.Register(humaAPI, huma.Operation{
		OperationID: "import-register", Method: http.MethodPost, Path: "/api/v1/sites/{site}/register",
		Summary: "Import a register from CSV or a workbook, all or nothing unless it may be partial", Tags: []string{"register"}, MaxBodyBytes: maxBody, BodyReadTimeout: importWait, Extensions: once(Sweep), Middlewares: huma.Middlewares{s.oneImport(humaAPI)},
	}, s.importRegister)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "export-register", Method: http.MethodGet, Path: "/api/v1/sites/{site}/register.csv", Summary: "The register of a site as CSV that can be imported again",
		Tags: []string{"register"}, Extensions: exports(Look),
	}, s.exportRegister)
}

// EntryInput names an entry of a register in the path.
type EntryInput struct {
	Entry uint64 `path:"entry" doc:"Number of the entry"`
}

// entryOutput is an entry with its tag.
type entryOutput struct {
	ETag string `header:"ETag"`
	Body api.Entry
}

func (s *Service) entryOutput(ctx context.Context, site uint64, e register.Entry) (*entryOutput, error) {
	holders, err := s.store.Holders(ctx, site, []register.Entry{e})
	if err != nil {
		return nil, problem(ctx, err)
	}
	return &entryOutput{entryTag(e), toHeldEntry(e, holders[e.ID])}, nil
}

// saveEntry adds an entry to a register, or writes over the one of a number.
func (s *Service) saveEntry(ctx context.Context, site, number uint64, said api.EntryText, match MatchInput) (*entryOutput, error) {
	remark(ctx, "%s", said.Name)
	if _, err := s.store.Site(ctx, site); err != nil {
		return nil, problem(ctx, err)
	}
	entry, err := register.Fill(map[string]string{
		"name": said.Name, "mac": said.MAC, "address": said.Addr, "vendor": said.Vendor, "model": said.Model, "kind": said.Kind, "location": said.Location,
		"responsible": said.Responsible, "note": said.Note,
	}, said.Extra)
	var faults *fault.List
	if errors.As(err, &faults) {
		return nil, problem(ctx, refuse(http.StatusUnprocessableEntity, "nothing was written: %s", faultsText(faults)))
	}
	if err != nil {
		return nil, problem(ctx, err)
	}
	entry.ID = number
	if err := s.books.SaveEntry(ctx, site, &entry, match.whileEntry); err != nil {
		return nil, problem(ctx, err)
	}
	return s.entryOutput(ctx, site, entry)
}

// faultsText says in words what is wrong with the columns of one entry.
func faultsText(faults *fault.List) string {
	texts := make([]string, len(faults.Faults))
	for i, f := range faults.Faults {
		texts[i] = strings.TrimSpace(f.Field + " " + f.Why)
	}
	return strings.Join(texts, "; ")
}

// toHeldEntry gives an entry with what became of it.
func toHeldEntry(e register.Entry, h store.Holder) api.Entry {
	out := toEntry(e)
	out.Device, out.Standing, out.Presence, out.LastSeen, out.Could, out.Tag = h.Device, string(h.Standing), string(h.Presence), known(h.LastSeen), h.Could, entryTag(e)
	return out
}

func (s *Service) getRegister(ctx context.Context, in *struct {
	SiteInput
	PageInput
	SkipInput
	Missing bool `query:"missing" doc:"Only entries of which no device was ever seen"`
}) (*listOutput[api.Entry], error) {
	if _, err := s.store.Site(ctx, in.Site); err != nil {
		return nil, problem(ctx, err)
	}
	part := store.EntryQuery{Site: in.Site, Missing: in.Missing, Skip: in.Skip, Limit: in.Limit + 1}
	going, err := in.mark(&part.Behind)
	if err != nil {
		return nil, problem(ctx, err)
	}
	entries, err := s.store.Entries(ctx, part)
	if err != nil {
		return nil, problem(ctx, err)
	}
	holders, err := s.store.Holders(ctx, in.Site, entries)
	if err != nil {
		return nil, problem(ctx, err)
	}
	to := func(e register.Entry) api.Entry { return toHeldEntry(e, holders[e.ID]) }
	out := pageOf(entries, in.Limit, to, func(e register.Entry) any { return e.ID })
	if !going {
		total, err := s.store.CountRegister(ctx, in.Site, in.Missing)
		if err != nil {
			return nil, problem(ctx, err)
		}
		out.Body.Total = &total
	}
	return out, nil
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
	Preview bool   `query:"preview" doc:"Only say what would come of it"`
	RawBody []byte `contentType:"application/octet-stream"`
}) (*struct{ Body api.Imported }, error) {
	if _, err := s.store.Site(ctx, in.Site); err != nil {
		return nil, problem(ctx, err)
	}
	entries, faults := register.ReadPartial("", bytes.NewReader(in.RawBody))
	if faults.Count() > 0 && (!in.Partial || len(entries) == 0) {
		return nil, problem(ctx, faults)
	}
	done, err := s.books.ImportRegister(ctx, in.Site, entries, in.Replace, in.Preview)
	if err != nil {
		return nil, problem(ctx, err)
	}
	out := toImported(done)
	out.LeftOut = faults.Lines()
	for _, f := range faults.Faults {
		out.Faults = append(out.Faults, api.Bad{Place: place(f), Field: f.Field, Why: f.Why})
	}
	return &struct{ Body api.Imported }{out}, nil
}

// manyChanges is how many entries an import names that it adds, changes or deletes.
const manyChanges = 200

// toImported says what came of an import.
func toImported(done store.RegisterImport) api.Imported {
	out := api.Imported{Added: done.Added, Updated: done.Updated, Counts: tally(done.Counts).Counts, Faults: []api.Bad{}, Changes: []api.EntryChange{}}
	for _, c := range done.Changes {
		change := toEntryChange(c)
		switch change.Does {
		case "change":
			out.Changed++
		case "delete":
			out.Deleted++
		}
		if len(out.Changes) < manyChanges {
			out.Changes = append(out.Changes, change)
		}
	}
	return out
}

func toEntryChange(c store.EntryChange) api.EntryChange {
	said := func(e *register.Entry) string { return cmp.Or(e.Name, e.MAC.String(), addrText(e.Addr)) }
	switch {
	case c.Was == nil:
		return api.EntryChange{Does: "add", Entry: said(c.Becomes), Fields: []api.FieldChange{}}
	case c.Becomes == nil:
		return api.EntryChange{Does: "delete", Entry: said(c.Was), Fields: []api.FieldChange{}}
	}
	out := api.EntryChange{Does: "change", Entry: said(c.Was)}
	for _, d := range register.Differences(*c.Was, *c.Becomes) {
		out.Fields = append(out.Fields, api.FieldChange(d))
	}
	return out
}
