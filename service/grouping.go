package service

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"airdrift/api"
	"airdrift/books"
	"airdrift/core/inventory"
)

type groupingOutput struct{ Body api.Grouping }

func (s *Service) registerGrouping(humaAPI huma.API) {
	huma.Register(humaAPI, huma.Operation{
		OperationID: "merge-devices", Method: http.MethodPost, Path: "/api/v1/devices/{device}/merge", Summary: "Say that two devices are one; undone as a decision",
		Tags: []string{"devices"}, Extensions: once(Sweep),
	}, func(ctx context.Context, in *struct {
		DeviceInput
		Body api.Merging
	}) (*groupingOutput, error) {
		remark(ctx, "%d and %d", in.Device, in.Body.Other)
		return s.regroup(ctx, in.Device, books.Saying{Reason: in.Body.Reason, Despite: in.Body.Despite, Preview: in.Body.Preview}, func(said books.Saying) (books.Grouping, error) {
			return s.books.Merge(ctx, said, in.Device, in.Body.Other)
		})
	})
	huma.Register(humaAPI, huma.Operation{
		OperationID: "split-device", Method: http.MethodPost, Path: "/api/v1/devices/{device}/split", Summary: "Say that a part of a device is another one; undone as a decision",
		Tags: []string{"devices"}, Extensions: once(Sweep),
	}, func(ctx context.Context, in *struct {
		DeviceInput
		Body api.Splitting
	}) (*groupingOutput, error) {
		remark(ctx, "%d: %v %v", in.Device, in.Body.Addrs, in.Body.MACs)
		return s.regroup(ctx, in.Device, books.Saying{Reason: in.Body.Reason, Preview: in.Body.Preview}, func(said books.Saying) (books.Grouping, error) {
			return s.books.Split(ctx, said, in.Device, in.Body.Addrs, in.Body.MACs)
		})
	})
	huma.Register(humaAPI, huma.Operation{
		OperationID: "pin-device", Method: http.MethodPost, Path: "/api/v1/devices/{device}/pin",
		Summary: "Say that whoever is met at an address, or with a MAC address, is a device; undone as a decision", Tags: []string{"devices"}, Extensions: once(Sweep),
	}, func(ctx context.Context, in *struct {
		DeviceInput
		Body api.Pinning
	}) (*groupingOutput, error) {
		remark(ctx, "%d: %s", in.Device, in.Body.At)
		return s.regroup(ctx, in.Device, books.Saying{Reason: in.Body.Reason, Despite: in.Body.Despite, Preview: in.Body.Preview}, func(said books.Saying) (books.Grouping, error) {
			return s.books.Pin(ctx, said, in.Device, in.Body.At)
		})
	})
}

// regroup holds the site of a device while something is said of what is one device.
func (s *Service) regroup(ctx context.Context, device uint64, said books.Saying, say func(books.Saying) (books.Grouping, error)) (*groupingOutput, error) {
	_, site, err := s.store.Device(ctx, device)
	if err != nil {
		return nil, problem(ctx, err)
	}
	release, err := s.sweeper.holdForRebuild(ctx, site)
	if err != nil {
		return nil, problem(ctx, err)
	}
	defer release()
	said.By = personOf(ctx).name
	done, err := say(said)
	if err != nil {
		return nil, problem(ctx, err)
	}
	out := &groupingOutput{api.Grouping{Decision: done.Decision, Devices: make([]api.DeviceLine, len(done.Devices))}}
	for i, d := range done.Devices {
		out.Body.Devices[i] = api.LineOf(inventory.LineOf(d))
	}
	return out, nil
}
