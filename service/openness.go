package service

import (
	"cmp"
	"context"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"airdrift/api"
	"airdrift/core/ledger"
	"airdrift/core/openness"
	"airdrift/store"
)

func (s *Service) registerOpenness(humaAPI huma.API) {
	huma.Register(humaAPI, huma.Operation{
		OperationID: "get-openness", Method: http.MethodGet, Path: "/api/v1/sites/{site}/openness", Summary: "Which devices of a building's systems can be read over an open protocol",
		Tags: []string{"devices"}, Extensions: needs(Look),
	}, func(ctx context.Context, in *OpennessInput) (*struct{ Body api.Openness }, error) {
		out, err := s.openness(ctx, *in)
		return &struct{ Body api.Openness }{out}, problem(ctx, err)
	})
	huma.Register(humaAPI, huma.Operation{
		OperationID: "export-openness", Method: http.MethodGet, Path: "/api/v1/sites/{site}/openness.csv", Summary: "The devices of the same as CSV",
		Tags: []string{"devices"}, Extensions: exports(Look),
	}, s.exportOpenness)
}

// OpennessInput says of which devices it is told how they can be read.
type OpennessInput struct {
	SiteInput
	System string `query:"system" maxLength:"40" doc:"Only devices of this system"`
	State  string `query:"state" enum:"open,own,closed" doc:"Only devices that can be read so"`
}

// openness tells of a site's systems, and of the devices that are meant. Devices that are missing are left out: nobody has met them.
func (s *Service) openness(ctx context.Context, in OpennessInput) (api.Openness, error) {
	out := api.Openness{Systems: []api.SystemOpenness{}, Devices: []api.DeviceOpenness{}}
	if _, err := s.store.Site(ctx, in.Site); err != nil {
		return out, err
	}
	if in.System != "" && !slices.ContainsFunc(openness.Systems, func(s openness.System) bool { return s.Name == in.System }) {
		names := make([]string, len(openness.Systems))
		for i, system := range openness.Systems {
			names[i] = system.Name
		}
		return out, refuse(http.StatusUnprocessableEntity, "there is no system %q: want one of %s", in.System, strings.Join(names, ", "))
	}
	var all []openness.Device
	err := s.store.EachOfKinds(ctx, in.Site, openness.Kinds(), func(d ledger.Device) error {
		line := store.LineOf(d)
		if line.Standing == ledger.Missing {
			return nil
		}
		how := openness.Of(line.Kind, d.Items)
		all = append(all, how)
		if (in.System == "" || in.System == how.System) && (in.State == "" || in.State == string(how.State)) {
			out.Devices = append(out.Devices, toDeviceOpenness(line, how))
		}
		return nil
	})
	if err != nil {
		return out, err
	}
	order := map[string]int{}
	for i, system := range openness.Systems {
		order[system.Name] = i
	}
	slices.SortStableFunc(out.Devices, func(a, b api.DeviceOpenness) int {
		return cmp.Or(cmp.Compare(order[a.System], order[b.System]), cmp.Compare(b.State, a.State), cmp.Compare(a.Device, b.Device))
	})
	for _, sum := range openness.Sums(all) {
		out.Systems = append(out.Systems, toSystemOpenness(sum))
	}
	return out, nil
}

func toSystemOpenness(s openness.Sum) api.SystemOpenness {
	out := api.SystemOpenness{System: s.System, Devices: s.Devices, Open: s.Open, Own: s.Own, Closed: s.Closed, Points: s.Points, Counted: s.Counted, Protocols: []api.ProtocolCount{}}
	for _, p := range s.Protocols {
		out.Protocols = append(out.Protocols, api.ProtocolCount{Protocol: p.Name, Devices: p.Devices})
	}
	return out
}

func toDeviceOpenness(line store.DeviceLine, how openness.Device) api.DeviceOpenness {
	d := toDeviceLine(line)
	out := api.DeviceOpenness{Device: d.ID, Name: d.Name, Kind: d.Kind, Vendor: d.Vendor, Model: d.Model, System: how.System, State: string(how.State), Protocols: texts(how.Protocols)}
	if len(d.Addrs) > 0 {
		out.Addr = d.Addrs[0]
	}
	if how.Counted {
		out.Points = &how.Points
	}
	return out
}

func (s *Service) exportOpenness(ctx context.Context, in *OpennessInput) (*huma.StreamResponse, error) {
	found, err := s.openness(ctx, *in)
	if err != nil {
		return nil, problem(ctx, err)
	}
	var rows [][]string
	for _, d := range found.Devices {
		points := ""
		if d.Points != nil {
			points = strconv.Itoa(*d.Points)
		}
		rows = append(rows, []string{strconv.FormatUint(d.Device, 10), d.Addr, d.Name, d.System, d.Kind, d.Vendor, d.Model, d.State, strings.Join(d.Protocols, ", "), points})
	}
	return csvResponse("openness.csv", []string{"No", "Address", "Name", "System", "Kind", "Vendor", "Model", "Can be read", "Protocols", "Points"}, rows), nil
}
