package service

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"airdrift/api"
	"airdrift/core/inventory"
	"airdrift/core/ledger"
	"airdrift/core/openness"
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

// maxOpennessFlags bounds what is said of one device: whoever copies one controller to a hundred has it said a few times.
const maxOpennessFlags = 4

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
	var lines []inventory.Line
	err := s.store.EachOfKinds(ctx, in.Site, openness.Kinds(), func(d ledger.Device) error {
		line := inventory.LineOf(d)
		if d.Standing == ledger.Missing {
			return nil
		}
		all, lines = append(all, openness.Of(line.Text("kind"), d.Items)), append(lines, line)
		return nil
	})
	if err != nil {
		return out, err
	}
	flags := opennessFlags(all, lines)
	for i, how := range all {
		if (in.System == "" || in.System == how.System) && (in.State == "" || in.State == string(how.State)) {
			out.Devices = append(out.Devices, toDeviceOpenness(lines[i], how, flags[i]))
		}
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

// opennessFlags says of each device what stands in the way of reading it.
func opennessFlags(all []openness.Device, lines []inventory.Line) [][]string {
	flags := make([][]string, len(all))
	for i, d := range all {
		if d.Cut != "" {
			flags[i] = append(flags[i], fmt.Sprintf("its list of objects ends at %s", d.Cut))
		}
	}
	doubles := openness.Doubles(all)
	for _, number := range slices.Sorted(maps.Keys(doubles)) {
		for _, i := range doubles[number] {
			for _, other := range doubles[number] {
				if other != i && len(flags[i]) < maxOpennessFlags {
					flags[i] = append(flags[i], fmt.Sprintf("BACnet number %s is that of device %d too", number, lines[other].ID))
				}
			}
		}
	}
	return flags
}

func toSystemOpenness(s openness.Sum) api.SystemOpenness {
	out := api.SystemOpenness{System: s.System, Devices: s.Devices, Open: s.Open, Own: s.Own, Closed: s.Closed, Points: s.Points, Counted: s.Counted, Protocols: []api.ProtocolCount{}}
	for _, p := range s.Protocols {
		out.Protocols = append(out.Protocols, api.ProtocolCount{Protocol: p.Name, Devices: p.Devices})
	}
	return out
}

func toDeviceOpenness(line inventory.Line, how openness.Device, flags []string) api.DeviceOpenness {
	d := api.LineOf(line)
	out := api.DeviceOpenness{Device: d.ID, Name: d.Name, Kind: d.Kind, Vendor: d.Vendor, Model: d.Model, System: how.System, State: string(how.State), Protocols: texts(how.Protocols), Flags: texts(flags)}
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
		rows = append(rows, []string{strconv.FormatUint(d.Device, 10), d.Addr, d.Name, d.System, d.Kind, d.Vendor, d.Model, d.State, strings.Join(d.Protocols, ", "), points, strings.Join(d.Flags, "; ")})
	}
	return csvResponse("openness.csv", []string{"No", "Address", "Name", "System", "Kind", "Vendor", "Model", "Can be read", "Protocols", "Points", "Flags"}, rows), nil
}
