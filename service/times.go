package service

import (
	"cmp"
	"context"
	"net/http"
	"slices"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"airdrift/api"
	"airdrift/core/evidence"
	"airdrift/store"
)

func (s *Service) registerTimes(humaAPI huma.API) {
	huma.Register(humaAPI, huma.Operation{
		OperationID: "get-response-times", Method: http.MethodGet, Path: "/api/v1/sites/{site}/response-times", Summary: "How long devices took over their answers in one protocol, the slowest first",
		Tags: []string{"devices"}, Extensions: needs(Look),
	}, s.getTimes)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "export-response-times", Method: http.MethodGet, Path: "/api/v1/sites/{site}/response-times.csv", Summary: "The same as CSV",
		Tags: []string{"devices"}, Extensions: exports(Look),
	}, s.exportTimes)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "list-device-times", Method: http.MethodGet, Path: "/api/v1/devices/{device}/response-times", Summary: "How long a device took over its answers, sweep by sweep, the newest first",
		Tags: []string{"devices"}, Extensions: needs(Look),
	}, s.listDeviceTimes)
}

// TimesInput says which response times are meant.
type TimesInput struct {
	SiteInput
	Sweep    uint64   `query:"sweep" doc:"As this sweep saw it; where left out, the newest that is more than a check of a few addresses"`
	Protocol string   `query:"protocol" maxLength:"40" doc:"By its name; the one that most devices answered in where left out" example:"bacnet"`
	Kind     []string `query:"kind,explode" doc:"Only devices of these kinds"`
	Model    []string `query:"model,explode" doc:"Only devices of these models"`
	Order    string   `query:"order" enum:"slowest,fastest" default:"slowest" doc:"Which devices come first, by their median"`
}

func (s *Service) getTimes(ctx context.Context, in *struct {
	TimesInput
	Limit int `query:"limit" minimum:"1" maximum:"1000000" default:"100" doc:"At most so many devices"`
}) (*struct{ Body api.ResponseTimes }, error) {
	out, err := s.times(ctx, in.TimesInput)
	if err != nil {
		return nil, problem(ctx, err)
	}
	out.Devices = out.Devices[:min(in.Limit, len(out.Devices))]
	return &struct{ Body api.ResponseTimes }{out}, nil
}

// times gives the response times that are meant, all of them.
func (s *Service) times(ctx context.Context, in TimesInput) (api.ResponseTimes, error) {
	sweep, err := s.sweepForTimes(ctx, in)
	if err != nil || sweep.ID == 0 {
		return api.ResponseTimes{Protocols: []api.ProtocolCount{}, Devices: []api.DeviceTimes{}}, err
	}
	query := store.TimesQuery{Sweep: sweep.ID, Protocol: in.Protocol, Kinds: in.Kind, Models: in.Model}
	list, answered, err := s.store.Times(ctx, query)
	if err != nil {
		return api.ResponseTimes{}, err
	}
	protocols := []api.ProtocolCount{}
	for _, a := range answered {
		protocols = append(protocols, api.ProtocolCount(a))
	}
	if query.Protocol == "" && len(protocols) > 0 {
		query.Protocol = protocols[0].Protocol // which is the one that is given
	}
	slices.SortFunc(list, func(a, b store.DeviceTimes) int {
		by := cmp.Compare(b.Times.Median, a.Times.Median)
		if in.Order == "fastest" {
			by = -by
		}
		return cmp.Or(by, cmp.Compare(a.Device.ID, b.Device.ID))
	})
	out := api.ResponseTimes{Sweep: sweep.ID, Began: sweep.Began, Vantage: sweep.Vantage, Protocol: query.Protocol, Protocols: protocols, Total: len(list), Devices: []api.DeviceTimes{}}
	for _, d := range list {
		out.Devices = append(out.Devices, toDeviceTimes(d))
	}
	return out, nil
}

// newestSweeps is how many sweeps back it is looked for one that shows the site, and aCheck what share of the fullest of them one has to have answers
// from: who asks one device again wants no picture of the site by that.
const newestSweeps, aCheck = 20, 0.1

// showsSite gives the newest of some sweeps, the oldest first, that is more than a check of a few addresses.
func showsSite(ended []store.Sweep) store.Sweep {
	newest := ended[max(0, len(ended)-newestSweeps):]
	fullest := slices.MaxFunc(newest, func(a, b store.Sweep) int { return cmp.Compare(a.Answered, b.Answered) })
	for _, sweep := range slices.Backward(newest) {
		if float64(sweep.Answered) >= aCheck*float64(fullest.Answered) {
			return sweep
		}
	}
	return fullest
}

// sweepForTimes gives the sweep that is named, or the newest that shows the site; one without a number where there is none.
func (s *Service) sweepForTimes(ctx context.Context, in TimesInput) (store.Sweep, error) {
	if _, err := s.store.Site(ctx, in.Site); err != nil {
		return store.Sweep{}, err
	}
	if in.Sweep != 0 {
		sweep, err := s.store.Sweep(ctx, in.Sweep)
		if err == nil && sweep.SiteID != in.Site {
			err = refuse(http.StatusNotFound, "sweep %d is not one of this site", in.Sweep)
		}
		return sweep, err
	}
	ended, err := s.store.EndedSweeps(ctx, in.Site, nil)
	if err != nil || len(ended) == 0 {
		return store.Sweep{}, err
	}
	return showsSite(ended), nil
}

func toTimes(t evidence.Times) api.Times {
	return api.Times{Answers: t.Answers, Lost: t.Lost, Median: evidence.Milliseconds(t.Median), Most: evidence.Milliseconds(t.Most), Worst: evidence.Milliseconds(t.Worst)}
}

func toDeviceTimes(d store.DeviceTimes) api.DeviceTimes {
	line := api.LineOf(d.Device)
	out := api.DeviceTimes{Device: line.ID, Name: line.Name, Kind: line.Kind, Vendor: line.Vendor, Model: line.Model, Times: toTimes(d.Times)}
	if len(line.Addrs) > 0 {
		out.Addr = line.Addrs[0]
	}
	return out
}

func (s *Service) exportTimes(ctx context.Context, in *TimesInput) (*huma.StreamResponse, error) {
	times, err := s.times(ctx, *in)
	if err != nil {
		return nil, problem(ctx, err)
	}
	number := func(ms float64) string { return strconv.FormatFloat(ms, 'f', -1, 64) }
	var rows [][]string
	for _, d := range times.Devices {
		rows = append(rows, []string{
			strconv.FormatUint(d.Device, 10), d.Addr, d.Name, d.Kind, d.Vendor, d.Model, times.Protocol, strconv.Itoa(d.Answers), strconv.Itoa(d.Lost),
			number(d.Median), number(d.Most), number(d.Worst), times.Vantage, times.Began.UTC().Format(time.RFC3339),
		})
	}
	headings := []string{"No", "Address", "Name", "Kind", "Vendor", "Model", "Protocol", "Answers", "Lost", "Median (ms)", "95th percentile (ms)", "Longest (ms)", "Seen from", "Sweep began"}
	return csvResponse("response-times.csv", headings, rows), nil
}

func (s *Service) listDeviceTimes(ctx context.Context, in *struct {
	DeviceInput
	PageInput
}) (*listOutput[api.VisitTimes], error) {
	var below store.SweepMark
	if _, err := in.mark(&below); err != nil {
		return nil, problem(ctx, err)
	}
	sightings, next, err := s.store.History(ctx, in.Device, below, in.Limit)
	if err != nil {
		return nil, problem(ctx, err)
	}
	sweeps, err := s.sweepsOf(ctx, in.Device, sightings)
	if err != nil {
		return nil, problem(ctx, err)
	}
	list := []api.VisitTimes{}
	for len(sightings) > 0 { // those of one sweep come together
		visit, end := sightings[0].Sweep, 1
		for end < len(sightings) && sightings[end].Sweep == visit {
			end++
		}
		var items []evidence.Item
		for _, sg := range sightings[:end] {
			items = append(items, sg.Sighting.Items...)
		}
		sightings = sightings[end:]
		sweep := sweeps[visit]
		for _, t := range evidence.TimesIn(items) {
			list = append(list, api.VisitTimes{Sweep: visit, Began: sweep.Began, Vantage: sweep.Vantage, Protocol: t.Protocol, Times: toTimes(t)})
		}
	}
	out := listOf(list)
	if next != nil {
		out.Body.Next = cursorOf(next)
	}
	return out, nil
}

// sweepsOf gives the sweeps in which sightings of a device were made, by their numbers.
func (s *Service) sweepsOf(ctx context.Context, device uint64, sightings []store.SightingOf) (map[uint64]store.Sweep, error) {
	if len(sightings) == 0 {
		return nil, nil
	}
	_, site, err := s.store.Device(ctx, device)
	if err != nil {
		return nil, err
	}
	numbers := make([]uint64, len(sightings))
	for i, sg := range sightings {
		numbers[i] = sg.Sweep
	}
	list, err := s.store.EndedSweeps(ctx, site, slices.Compact(numbers))
	sweeps := make(map[uint64]store.Sweep, len(list))
	for _, sweep := range list {
		sweeps[sweep.ID] = sweep
	}
	return sweeps, err
}
