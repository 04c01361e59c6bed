package service

import (
	"context"
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"airdrift/api"
	"airdrift/core/firmware"
	"airdrift/store"
)

func (s *Service) registerFirmware(humaAPI huma.API) {
	huma.Register(humaAPI, huma.Operation{
		OperationID: "list-firmware", Method: http.MethodGet, Path: "/api/v1/sites/{site}/firmware", Summary: "How the versions of firmware lie over the devices of each model",
		Tags: []string{"devices"}, Extensions: needs(Look),
	}, s.listFirmware)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "export-firmware", Method: http.MethodGet, Path: "/api/v1/sites/{site}/firmware.csv", Summary: "The same as CSV",
		Tags: []string{"devices"}, Extensions: exports(Look),
	}, s.exportFirmware)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "want-firmware", Method: http.MethodPut, Path: "/api/v1/sites/{site}/firmware", Summary: "Say which version of its firmware the site wants on a model",
		DefaultStatus: http.StatusNoContent, Tags: []string{"devices"}, Extensions: needs(Sweep),
	}, s.wantFirmware)
}

// spreads reckons how the versions lie over the models of a site.
func (s *Service) spreads(ctx context.Context, site uint64) ([]firmware.Spread, error) {
	if _, err := s.store.Site(ctx, site); err != nil {
		return nil, err
	}
	counted, err := s.store.Firmwares(ctx, site)
	if err != nil {
		return nil, err
	}
	wanted, err := s.books.Wanted(ctx, site)
	if err != nil {
		return nil, err
	}
	counts := make([]firmware.Count, len(counted))
	for i, c := range counted {
		counts[i] = firmware.Count(c)
	}
	return firmware.Spreads(counts, wanted), nil
}

func (s *Service) listFirmware(ctx context.Context, in *SiteInput) (*listOutput[api.FirmwareSpread], error) {
	spreads, err := s.spreads(ctx, in.Site)
	if err != nil {
		return nil, problem(ctx, err)
	}
	list := make([]api.FirmwareSpread, len(spreads))
	for i, spread := range spreads {
		list[i] = toSpread(spread)
	}
	return listOf(list), nil
}

func toSpread(s firmware.Spread) api.FirmwareSpread {
	out := api.FirmwareSpread{
		Vendor: s.Vendor, Model: s.Model, Devices: s.Devices, Versions: []api.FirmwareCount{}, Unknown: s.Unknown, Newest: s.Newest(), Wanted: s.Wanted, Behind: s.Behind,
	}
	for _, v := range s.Versions {
		out.Versions = append(out.Versions, api.FirmwareCount{Version: v.Text, Devices: v.Devices})
	}
	return out
}

func (s *Service) exportFirmware(ctx context.Context, in *SiteInput) (*huma.StreamResponse, error) {
	spreads, err := s.spreads(ctx, in.Site)
	if err != nil {
		return nil, problem(ctx, err)
	}
	var rows [][]string
	for _, spread := range spreads {
		versions := make([]string, len(spread.Versions))
		for i, v := range spread.Versions {
			versions[i] = fmt.Sprintf("%s (%d)", v.Text, v.Devices)
		}
		rows = append(rows, []string{
			spread.Vendor, spread.Model, strconv.Itoa(spread.Devices), strings.Join(versions, ", "), strconv.Itoa(spread.Unknown), spread.Newest(), spread.Wanted, strconv.Itoa(spread.Behind),
		})
	}
	return csvResponse("firmware.csv", []string{"Vendor", "Model", "Devices", "Versions", "Unknown", "Newest seen", "Wanted", "Behind"}, rows), nil
}

func (s *Service) wantFirmware(ctx context.Context, in *struct {
	SiteInput
	Body api.WantedFirmware
}) (*struct{}, error) {
	if _, err := s.store.Site(ctx, in.Site); err != nil {
		return nil, problem(ctx, err)
	}
	wanted := store.WantedFirmware{SiteID: in.Site, Vendor: strings.TrimSpace(in.Body.Vendor), Model: strings.TrimSpace(in.Body.Model), Version: strings.TrimSpace(in.Body.Version)}
	if wanted.Model == "" {
		return nil, problem(ctx, refuse(http.StatusUnprocessableEntity, "name the model"))
	}
	remark(ctx, "%s %s: %s", wanted.Vendor, wanted.Model, wanted.Version)
	return nil, problem(ctx, s.books.Resettings(ctx, in.Site, func() error { return s.store.WantFirmware(ctx, wanted) }))
}
