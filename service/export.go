package service

import (
	"cmp"
	"context"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"airdrift/api"
	"airdrift/core/csvtext"
)

// deviceColumns are the columns of an export, in their order.
var deviceColumns = []struct {
	name, heading string
	of            func(api.DeviceLine) string
}{
	{"number", "No", func(d api.DeviceLine) string { return strconv.FormatUint(d.ID, 10) }},
	{"address", "Address", func(d api.DeviceLine) string { return strings.Join(d.Addrs, " ") }},
	{"name", "Name", func(d api.DeviceLine) string { return d.Name }},
	{"kind", "Kind", func(d api.DeviceLine) string { return d.Kind }},
	{"vendor", "Vendor", func(d api.DeviceLine) string { return d.Vendor }},
	{"model", "Model", func(d api.DeviceLine) string { return d.Model }},
	{"os", "System", func(d api.DeviceLine) string { return d.OS }},
	{"firmware", "Firmware", func(d api.DeviceLine) string { return d.Firmware }},
	{"strength", "Strength", func(d api.DeviceLine) string { return strconv.Itoa(d.Strength) }},
	{"standing", "Standing", func(d api.DeviceLine) string { return d.Standing }},
	{"presence", "Presence", func(d api.DeviceLine) string { return d.Presence }},
	{"mac", "MAC", func(d api.DeviceLine) string { return d.MAC }},
	{"firstSeen", "First seen", func(d api.DeviceLine) string { return csvTime(d.FirstSeen) }},
	{"lastSeen", "Last seen", func(d api.DeviceLine) string { return csvTime(d.LastSeen) }},
	{"group", "Group", func(d api.DeviceLine) string { return d.Group }},
	{"traits", "Flags", func(d api.DeviceLine) string { return strings.Join(d.Traits, ", ") }},
}

func csvTime(t *time.Time) string {
	if t == nil {
		return ""
	}
	return t.UTC().Format(time.RFC3339)
}

// exportPage is how many devices are read at a time.
const exportPage = 1000

func (s *Service) exportDevices(ctx context.Context, in *struct {
	DeviceFilter
	Columns []string `query:"columns" enum:"number,address,name,kind,vendor,model,os,firmware,strength,standing,presence,mac,firstSeen,lastSeen,group,traits" doc:"Only these columns; all where left out"`
}) (*huma.StreamResponse, error) {
	if _, err := s.store.Site(ctx, in.Site); err != nil {
		return nil, problem(ctx, err)
	}
	query, view, err := s.deviceQuery(ctx, in.DeviceFilter, nil, exportPage)
	if err != nil {
		return nil, problem(ctx, err)
	}
	columns := slices.Clone(deviceColumns)
	if shown := cmp.Or(strings.Join(in.Columns, ","), strings.Join(view.Columns, ",")); shown != "" {
		wanted := strings.Split(shown, ",")
		columns = columns[:0]
		for _, c := range deviceColumns {
			if slices.Contains(wanted, c.name) {
				columns = append(columns, c)
			}
		}
	}
	headings := make([]string, len(columns))
	for i, c := range columns {
		headings[i] = c.heading
	}
	var rows [][]string
	for {
		page, err := s.store.ListDevices(ctx, query)
		if err != nil {
			return nil, problem(ctx, err)
		}
		for _, l := range page.Lines {
			device, row := toDeviceLine(l), make([]string, len(columns))
			for i, c := range columns {
				row[i] = c.of(device)
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
