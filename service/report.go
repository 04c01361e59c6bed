package service

import (
	"bytes"
	"context"
	"encoding/json"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"airdrift/books"
	"airdrift/core/report"
	"airdrift/store"
)

func (s *Service) registerReports(humaAPI huma.API) {
	huma.Register(humaAPI, huma.Operation{
		OperationID: "get-report", Method: http.MethodGet, Path: "/api/v1/sites/{site}/report", Summary: "The site for its owner, as a page that prints, as PDF or as JSON",
		Tags: []string{"reports"}, Extensions: exports(Look),
	}, s.getReport)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "get-extract", Method: http.MethodGet, Path: "/api/v1/sites/{site}/extract", Summary: "Some devices with all that is known of them, for somebody: as a workbook, CSV, JSON, or a page that prints",
		Tags: []string{"reports"}, Extensions: exports(Look),
	}, s.getExtract)
}

// ReportInput says how a report is made.
type ReportInput struct {
	At       string `query:"at" maxLength:"30" doc:"The day that it shows, to its end; now where left out" example:"2026-11-06"`
	Since    string `query:"since" maxLength:"30" doc:"From which day on changes are told; those of the newest sweep where left out" example:"2026-11-02"`
	Paper    string `query:"paper" enum:"A4,Letter" default:"A4"`
	Language string `query:"language" enum:"en" default:"en"`
}

// query reads the days.
func (in ReportInput) query(site uint64) (q books.ReportQuery, err error) {
	q = books.ReportQuery{Site: site, Language: in.Language, Version: Version}
	if q.At, err = parseDay("at", in.At); err != nil {
		return q, err
	}
	if !q.At.IsZero() {
		q.At = q.At.AddDate(0, 0, 1).Add(-time.Microsecond)
	}
	q.Since, err = parseDay("since", in.Since)
	return q, err
}

// parseDay reads a day; nothing gives the zero time.
func parseDay(name, text string) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	day, err := time.Parse(time.DateOnly, text)
	if err != nil || day.Year() < 1970 || day.Year() > 9000 {
		return time.Time{}, refuse(http.StatusUnprocessableEntity, "%s: %q is no day such as 2026-11-02", name, text)
	}
	return day, nil
}

func (s *Service) getReport(ctx context.Context, in *struct {
	SiteInput
	ReportInput
	Form string `query:"form" enum:"html,pdf,json" default:"html"`
}) (*huma.StreamResponse, error) {
	query, err := in.query(in.Site)
	if err != nil {
		return nil, problem(ctx, err)
	}
	return s.makeReport(ctx, query, in.Form, in.ReportInput, "")
}

func (s *Service) getExtract(ctx context.Context, in *struct {
	SiteInput
	ReportInput
	Filter string `query:"filter" maxLength:"4000" doc:"Which devices are meant, as the query of the list of devices" example:"kind=printer&network=offices"`
	Name   string `query:"name" maxLength:"200" doc:"The extract that is saved under this name, in the place of a filter"`
	Form   string `query:"form" enum:"xlsx,csv,json,html,pdf" default:"xlsx"`
	Sheet  string `query:"sheet" enum:"devices,findings,mending,times" default:"devices" doc:"Which table is given as CSV"`
}) (*huma.StreamResponse, error) {
	if _, err := s.store.Site(ctx, in.Site); err != nil {
		return nil, problem(ctx, err)
	}
	query, err := in.ReportInput.query(in.Site)
	if err != nil {
		return nil, problem(ctx, err)
	}
	text := in.Filter
	query.Extract = titleOf(text)
	if in.Name != "" {
		saved, err := s.store.View(ctx, in.Site, store.KindExtract, in.Name)
		if err != nil {
			return nil, problem(ctx, err)
		}
		if err := checkView(saved); err != nil {
			return nil, problem(ctx, err)
		}
		text, query.Extract, query.Audience = saved.Filter, saved.Name, saved.Audience
	}
	filter, err := parseFilter(text)
	if err != nil {
		return nil, problem(ctx, err)
	}
	devices, _, err := s.deviceQuery(ctx, in.Site, filter, nil, mostExtracted)
	if err != nil {
		return nil, problem(ctx, err)
	}
	page, err := s.store.ListDevices(ctx, devices)
	if err != nil {
		return nil, problem(ctx, err)
	}
	if len(page.Lines) == 0 {
		return nil, problem(ctx, refuse(http.StatusUnprocessableEntity, "no device is meant, so the extract would be for nobody: widen the filter"))
	}
	for _, line := range page.Lines {
		query.Devices = append(query.Devices, line.ID)
	}
	return s.makeReport(ctx, query, in.Form, in.ReportInput, in.Sheet)
}

// makeReport makes a report once few others are being made; whoever asked waits no longer than they like.
func (s *Service) makeReport(ctx context.Context, query books.ReportQuery, form string, in ReportInput, sheet string) (*huma.StreamResponse, error) {
	select {
	case s.reporting <- struct{}{}:
		defer func() { <-s.reporting }()
	case <-ctx.Done():
		return nil, problem(ctx, ctx.Err())
	}
	r, err := s.books.Report(ctx, query)
	if err != nil {
		return nil, problem(ctx, err)
	}
	return fileOf(ctx, r, form, in, sheet)
}

// titleOf gives what an extract is called that has no name: by what its filter says.
func titleOf(filter string) string {
	values, err := url.ParseQuery(filter)
	if err != nil || len(values) == 0 {
		return "all"
	}
	var parts []string
	for _, name := range slices.Sorted(maps.Keys(values)) {
		parts = append(parts, strings.Join(values[name], ", "))
	}
	return strings.Join(parts, ", ")
}

// mostExtracted is more devices than a site has.
const mostExtracted = 1_000_000

// fileOf answers with a report in one of its forms.
func fileOf(ctx context.Context, r report.Report, form string, in ReportInput, sheet string) (*huma.StreamResponse, error) {
	var out bytes.Buffer
	var err error
	kind := ""
	switch form {
	case "html":
		kind, err = "text/html; charset=utf-8", report.WriteHTML(&out, r, in.Language, report.Paper(in.Paper))
	case "pdf":
		kind, err = "application/pdf", report.WritePDF(&out, r, in.Language, report.Paper(in.Paper))
	case "xlsx":
		kind, err = "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet", report.WriteXLSX(&out, r, in.Language)
	case "csv":
		kind, err = "text/csv; charset=utf-8", report.WriteCSV(&out, r, in.Language, sheet)
	case "json":
		kind, err = "application/json", json.NewEncoder(&out).Encode(r)
	}
	if err != nil {
		return nil, problem(ctx, err)
	}
	name := "report"
	if r.Extract != "" {
		name = fileName(r.Extract)
	}
	return &huma.StreamResponse{Body: func(c huma.Context) {
		c.SetHeader("Content-Type", kind)
		c.SetHeader("Content-Disposition", `attachment; filename="`+name+"."+form+`"`)
		_, _ = out.WriteTo(c.BodyWriter()) // fails only where the client has gone away
	}}, nil
}

// fileName makes a name that any system takes for a file.
func fileName(text string) string {
	name := strings.Trim(strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' {
			return r
		}
		return '-'
	}, text), "-")
	if name == "" {
		return "extract"
	}
	return name
}
