package service

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"airdrift/api"
	"airdrift/store"
)

func (s *Service) registerDevices(humaAPI huma.API) {
	huma.Register(humaAPI, huma.Operation{
		OperationID: "list-devices", Method: http.MethodGet, Path: "/api/v1/sites/{site}/devices", Summary: "Devices of a site", Tags: []string{"devices"},
	}, s.listDevices)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "get-device", Method: http.MethodGet, Path: "/api/v1/devices/{device}", Summary: "All that is known of one device", Tags: []string{"devices"},
	}, s.getDevice)
}

type devicesInput struct {
	SiteInput
	Standing  []string `query:"standing" enum:"managed,unmanaged,missing" doc:"Only these standings"`
	Presence  []string `query:"presence" enum:"seen,silent,uncovered" doc:"Only these presences"`
	Kind      []string `query:"kind" doc:"Only these kinds"`
	Contested bool     `query:"contested" doc:"Only devices that share an address"`
	Text      string   `query:"text" maxLength:"200" doc:"Words that must all occur in what is known of the device"`
	Sort      string   `query:"sort" enum:"address,name,kind,vendor,model,os,mac,standing,presence,firstSeen,lastSeen" default:"address"`
	Descend   bool     `query:"descend" doc:"Sort downwards"`
	Offset    int      `query:"offset" minimum:"0" default:"0"`
	Limit     int      `query:"limit" minimum:"1" maximum:"1000" default:"100"`
}

func (s *Service) listDevices(ctx context.Context, in *devicesInput) (*struct{ Body api.DeviceList }, error) {
	if _, err := s.store.Site(ctx, in.Site); err != nil {
		return nil, problem(ctx, err)
	}
	lines, total, err := s.store.ListDevices(ctx, store.DeviceQuery{
		Site: in.Site, Standings: in.Standing, Presences: in.Presence, Kinds: in.Kind, Contested: in.Contested, Text: in.Text,
		Sort: in.Sort, Descend: in.Descend, Offset: in.Offset, Limit: in.Limit,
	})
	if err != nil {
		return nil, problem(ctx, err)
	}
	list := api.DeviceList{Devices: make([]api.DeviceLine, len(lines)), Total: total}
	for i, l := range lines {
		list.Devices[i] = toDeviceLine(l)
	}
	return &struct{ Body api.DeviceList }{list}, nil
}

func (s *Service) getDevice(ctx context.Context, in *struct {
	Device uint64 `path:"device" doc:"Number of the device"`
}) (*struct{ Body api.Device }, error) {
	device, siteID, err := s.store.Device(ctx, in.Device)
	if err != nil {
		return nil, problem(ctx, err)
	}
	site, err := s.store.Site(ctx, siteID)
	if err != nil {
		return nil, problem(ctx, err)
	}
	return &struct{ Body api.Device }{toDevice(siteID, device, site.Overlay())}, nil
}
