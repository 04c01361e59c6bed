package service

import (
	"context"
	"net/http"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"airdrift/core/csvtext"
	"airdrift/core/inventory"
)

// exportPage is how many devices are read at a time.
const exportPage = 1000

// exportInput is a filter with the columns that the file has.
type exportInput struct {
	DeviceFilter
	Columns []string `query:"columns" doc:"Only these fields, as columns; those of the view where it has some, else all that lists can have"`
}

// columnsNamed gives the fields of some names, in the order of the catalogue; all that lists can have where none is named.
func columnsNamed(names []string) ([]*inventory.Field, error) {
	listed := inventory.Listed()
	for i, name := range names {
		if !slices.ContainsFunc(listed, func(f *inventory.Field) bool { return f.Name == name }) {
			return nil, refuse(http.StatusUnprocessableEntity, "columns[%d]: there is no column %q (any more): want some of %s", i, name, strings.Join(inventory.Names(listed), ", "))
		}
	}
	if len(names) == 0 {
		return listed, nil
	}
	return slices.DeleteFunc(listed, func(f *inventory.Field) bool { return !slices.Contains(names, f.Name) }), nil
}

func (s *Service) exportDevices(ctx context.Context, in *exportInput) (*huma.StreamResponse, error) {
	if _, err := s.store.Site(ctx, in.Site); err != nil {
		return nil, problem(ctx, err)
	}
	query, view, err := s.deviceQuery(ctx, in.Site, in.query, nil, exportPage)
	if err != nil {
		return nil, problem(ctx, err)
	}
	names := in.Columns
	if len(names) == 0 {
		names = view.Columns
	}
	columns, err := columnsNamed(names)
	if err != nil {
		return nil, problem(ctx, err)
	}
	headings := make([]string, len(columns))
	for i, c := range columns {
		headings[i] = c.Heading
	}
	var rows [][]string
	for {
		page, err := s.store.ListDevices(ctx, query)
		if err != nil {
			return nil, problem(ctx, err)
		}
		for _, line := range page.Lines {
			row := make([]string, len(columns))
			for i, c := range columns {
				row[i] = c.Text(line.Values[c.Name])
			}
			rows = append(rows, row)
		}
		if query.After = page.Next; page.Next == nil {
			return csvResponse("devices.csv", headings, rows), nil
		}
	}
}

// csvResponse answers with a file of CSV.
func csvResponse(name string, headings []string, rows [][]string) *huma.StreamResponse {
	return &huma.StreamResponse{Body: func(out huma.Context) {
		out.SetHeader("Content-Type", "text/csv; charset=utf-8")
		out.SetHeader("Content-Disposition", `attachment; filename="`+name+`"`)
		_ = csvtext.Write(out.BodyWriter(), headings, rows) // fails only where the client has gone away
	}}
}
