package service

import (
	"cmp"
	"context"
	"net/http"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"airdrift/api"
	"airdrift/books"
	"airdrift/core/evidence"
	"airdrift/core/ledger"
	"airdrift/core/probe"
	"airdrift/core/register"
	"airdrift/core/sweep"
	"airdrift/core/wording"
	"airdrift/store"
)

func (s *Service) registerDevices(humaAPI huma.API) {
	huma.Register(humaAPI, huma.Operation{
		OperationID: "list-devices", Method: http.MethodGet, Path: "/api/v1/sites/{site}/devices", Summary: "Devices of a site",
		Tags: []string{"devices"}, Extensions: needs(Look), Parameters: filterParams(),
	}, s.listDevices)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "list-values", Method: http.MethodGet, Path: "/api/v1/sites/{site}/values", Summary: "Makers, models, systems, versions and services that a site's devices have, for filters",
		Tags: []string{"devices"}, Extensions: needs(Look),
	}, s.listValues)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "export-devices", Method: http.MethodGet, Path: "/api/v1/sites/{site}/devices.csv", Summary: "Devices of a site as CSV, all that the filter lets through",
		Tags: []string{"devices"}, Extensions: exports(Look), Parameters: filterParams(),
	}, s.exportDevices)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "get-device", Method: http.MethodGet, Path: "/api/v1/devices/{device}", Summary: "All that is known of one device",
		Tags: []string{"devices"}, Extensions: needs(Look),
	}, s.getDevice)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "get-history", Method: http.MethodGet, Path: "/api/v1/devices/{device}/history", Summary: "When and where a device was seen, the newest sweep first",
		Tags: []string{"devices"}, Extensions: needs(Look),
	}, s.history)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "blink", Method: http.MethodPost, Path: "/api/v1/devices/{device}/blink",
		Summary: "Tell a device to show itself for some seconds, which changes nothing of it", Tags: []string{"devices"}, Extensions: needs(Sweep),
	}, s.blink)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "set-note", Method: http.MethodPut, Path: "/api/v1/devices/{device}/note", Summary: "Write a note on a device; an empty one deletes it",
		DefaultStatus: http.StatusNoContent, Tags: []string{"devices"}, Extensions: needs(Sweep),
	}, func(ctx context.Context, in *struct {
		DeviceInput
		MatchInput
		Body api.Note
	}) (*struct{}, error) {
		return nil, problem(ctx, s.books.Decide(ctx, personOf(ctx).name, in.Device, ledger.DecidedNote, in.Body.Text, in.whileDevice))
	})
	huma.Register(humaAPI, huma.Operation{
		OperationID: "set-aside", Method: http.MethodPut, Path: "/api/v1/devices/{device}/aside", Summary: "Set a device aside: known, and left out of what nobody manages",
		DefaultStatus: http.StatusNoContent, Tags: []string{"devices"}, Extensions: needs(Sweep),
	}, func(ctx context.Context, in *struct {
		DeviceInput
		MatchInput
		Body api.Aside
	}) (*struct{}, error) {
		return nil, problem(ctx, s.books.Decide(ctx, personOf(ctx).name, in.Device, ledger.DecidedAside, in.Body.Reason, in.whileDevice))
	})
	huma.Register(humaAPI, huma.Operation{
		OperationID: "take-back", Method: http.MethodDelete, Path: "/api/v1/devices/{device}/aside", Summary: "Take back that a device is set aside",
		DefaultStatus: http.StatusNoContent, Tags: []string{"devices"}, Extensions: needs(Sweep),
	}, func(ctx context.Context, in *struct {
		DeviceInput
		MatchInput
	}) (*struct{}, error) {
		return nil, problem(ctx, s.books.Decide(ctx, personOf(ctx).name, in.Device, ledger.DecidedAside, "", in.whileDevice))
	})
	huma.Register(humaAPI, huma.Operation{
		OperationID: "set-group", Method: http.MethodPut, Path: "/api/v1/devices/{device}/group", Summary: "Say what a device belongs to; an empty name takes it out",
		DefaultStatus: http.StatusNoContent, Tags: []string{"devices"}, Extensions: needs(Sweep),
	}, func(ctx context.Context, in *struct {
		DeviceInput
		MatchInput
		Body api.Group
	}) (*struct{}, error) {
		remark(ctx, "%s", in.Body.Name)
		return nil, problem(ctx, s.books.Decide(ctx, personOf(ctx).name, in.Device, ledger.DecidedGroup, strings.TrimSpace(in.Body.Name), in.whileDevice))
	})
	huma.Register(humaAPI, huma.Operation{
		OperationID: "link-device", Method: http.MethodPost, Path: "/api/v1/devices/{device}/link",
		Summary: "Say which entry of the register a device is; undone as a decision", Tags: []string{"devices"}, Extensions: once(Sweep),
	}, func(ctx context.Context, in *struct {
		DeviceInput
		MatchInput
		Body api.Linking
	}) (*struct{ Body api.Decided }, error) {
		remark(ctx, "%d: entry %d", in.Device, in.Body.Entry)
		decision, err := s.books.Link(ctx, personOf(ctx).name, in.Device, in.Body.Entry, in.Body.Reason, in.whileDevice)
		return &struct{ Body api.Decided }{api.Decided{Decision: decision}}, problem(ctx, err)
	})
	huma.Register(humaAPI, huma.Operation{
		OperationID: "list-decisions", Method: http.MethodGet, Path: "/api/v1/devices/{device}/decisions", Summary: "What people have said of a device, the newest first",
		Tags: []string{"devices"}, Extensions: needs(Look),
	}, s.listDecisions)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "undo-decision", Method: http.MethodPost, Path: "/api/v1/decisions/{decision}/undo", Summary: "Undo a decision; the one holds again whose place it had taken",
		DefaultStatus: http.StatusNoContent, Tags: []string{"devices"}, Extensions: needs(Sweep),
	}, func(ctx context.Context, in *struct {
		Decision uint64 `path:"decision" doc:"Number of the decision"`
	}) (*struct{}, error) {
		return nil, problem(ctx, s.sweeper.undo(ctx, in.Decision))
	})
	huma.Register(humaAPI, huma.Operation{
		OperationID: "add-to-register", Method: http.MethodPost, Path: "/api/v1/devices/{device}/register",
		Summary: "Put a device into the register, as it was seen; what the body names takes the place of what was seen",
		Tags:    []string{"devices"}, Extensions: once(Sweep),
	}, s.addToRegister)
}

// DeviceInput names a device in the path.
type DeviceInput struct {
	Device uint64 `path:"device" doc:"Number of the device"`
}

func (s *Service) listDecisions(ctx context.Context, in *DeviceInput) (*listOutput[api.Decision], error) {
	if _, _, err := s.store.Device(ctx, in.Device); err != nil {
		return nil, problem(ctx, err)
	}
	decisions, err := s.store.DecisionsOf(ctx, in.Device)
	if err != nil {
		return nil, problem(ctx, err)
	}
	list := make([]api.Decision, len(decisions))
	for i, d := range decisions {
		list[i] = api.Decision{ID: d.ID, Kind: string(d.Kind), Says: wording.In(wording.Default).Decision(string(d.Kind), d.Text), Text: d.Text, By: d.By, At: d.At, Holds: d.Holds(), UndoneBy: d.UndoneBy}
		if !d.UndoneAt.IsZero() {
			list[i].UndoneAt = &d.UndoneAt
		}
	}
	return listOf(list), nil
}

func (s *Service) history(ctx context.Context, in *struct {
	DeviceInput
	PageInput
}) (*listOutput[api.Seen], error) {
	var below store.SweepMark
	if _, err := in.mark(&below); err != nil {
		return nil, problem(ctx, err)
	}
	sightings, next, err := s.store.History(ctx, in.Device, below, in.Limit)
	if err != nil {
		return nil, problem(ctx, err)
	}
	list := make([]api.Seen, len(sightings))
	for i, h := range sightings {
		list[i] = api.Seen{Sweep: h.Sweep, At: h.Sighting.FirstAt, Addr: addrText(h.Sighting.Addr), MAC: h.Sighting.MAC.String(), Facts: len(h.Sighting.Items)}
	}
	out := listOf(list)
	if next != nil {
		out.Body.Next = cursorOf(next)
	}
	return out, nil
}

func (s *Service) addToRegister(ctx context.Context, in *struct {
	DeviceInput
	Body api.NewEntry
}) (*deviceOutput, error) {
	device, site, err := s.store.Device(ctx, in.Device)
	if err != nil {
		return nil, problem(ctx, err)
	}
	if device.Entry != nil {
		return nil, problem(ctx, refuse(http.StatusConflict, "the device is in the register already, as %q", device.Entry.Name))
	}
	entry := entryOf(device, in.Body)
	if entry.Name == "" && entry.MAC.IsZero() && !entry.Addr.IsValid() {
		return nil, problem(ctx, refuse(http.StatusUnprocessableEntity, "nothing tells this device by: give it a name"))
	}
	if _, err := s.books.ImportRegister(ctx, site, []register.Entry{entry}, false, false); err != nil {
		return nil, problem(ctx, err)
	}
	return s.getDevice(ctx, &in.DeviceInput)
}

// entryOf makes the entry of a device out of what was seen and what somebody says of it.
func entryOf(d ledger.Device, said api.NewEntry) register.Entry {
	entry := books.EntryOf(d)
	entry.Name, entry.Vendor, entry.Model, entry.Kind = cmp.Or(said.Name, entry.Name), cmp.Or(said.Vendor, entry.Vendor), cmp.Or(said.Model, entry.Model), cmp.Or(said.Kind, entry.Kind)
	entry.Location, entry.Responsible, entry.Note = said.Location, said.Responsible, said.Note
	return entry
}

type devicesInput struct {
	DeviceFilter
	PageInput
	SkipInput
}

func (s *Service) listDevices(ctx context.Context, in *devicesInput) (*listOutput[api.DeviceLine], error) {
	if _, err := s.store.Site(ctx, in.Site); err != nil {
		return nil, problem(ctx, err)
	}
	var after store.DeviceMark
	going, err := in.mark(&after)
	if err != nil {
		return nil, problem(ctx, err)
	}
	query, _, err := s.deviceQuery(ctx, in.Site, in.query, nil, in.Limit)
	if err != nil {
		return nil, problem(ctx, err)
	}
	query.Skip = in.Skip
	if going {
		query.After = &after
	}
	page, err := s.store.ListDevices(ctx, query)
	if err != nil {
		return nil, problem(ctx, err)
	}
	out := pageOf(page.Lines, in.Limit, api.LineOf, nil)
	if page.Next != nil {
		out.Body.Next = cursorOf(page.Next)
	}
	if !going {
		out.Body.Total = &page.Total
	}
	return out, nil
}

// listValues gives what a site's devices have, and the names of its networks and groups that may have no device yet.
func (s *Service) listValues(ctx context.Context, in *SiteInput) (*struct{ Body api.Values }, error) {
	values, err := s.store.Values(ctx, in.Site)
	if err != nil {
		return nil, problem(ctx, err)
	}
	site, err := s.store.Site(ctx, in.Site)
	if err != nil {
		return nil, problem(ctx, err)
	}
	groups, err := s.store.Views(ctx, in.Site, store.KindGroup)
	if err != nil {
		return nil, problem(ctx, err)
	}
	for _, g := range groups {
		values["group"] = append(values["group"], g.Name)
	}
	values["group"] = slices.Compact(slices.Sorted(slices.Values(values["group"])))
	for _, n := range site.Networks {
		values["network"] = append(values["network"], n.Name)
	}
	values["network"] = slices.Compact(values["network"])
	for name, list := range values {
		values[name] = texts(list)
	}
	return &struct{ Body api.Values }{values}, nil
}

// deviceOutput is a device with the tag of what people have said of it.
type deviceOutput struct {
	ETag string `header:"ETag"`
	Body api.Device
}

func (s *Service) getDevice(ctx context.Context, in *DeviceInput) (*deviceOutput, error) {
	device, siteID, err := s.store.Device(ctx, in.Device)
	if err != nil {
		return nil, problem(ctx, err)
	}
	site, err := s.store.Site(ctx, siteID)
	if err != nil {
		return nil, problem(ctx, err)
	}
	identity := unexplained(device)
	if engine, err := s.books.EngineOf(ctx, site); err == nil && !device.FirstSeen.IsZero() {
		identity = explained(device, engine)
	}
	out := &deviceOutput{ETag: deviceTag(device), Body: toDevice(siteID, device, identity, site.Overlay())}
	out.Body.Tag = out.ETag
	if out.Body.Unanswered, err = s.unanswered(ctx, device); err != nil {
		return nil, problem(ctx, err)
	}
	return out, nil
}

// unanswered tells what a device was asked in vain by the sweep that asked it last all there was to ask.
func (s *Service) unanswered(ctx context.Context, d ledger.Device) (api.Unanswered, error) {
	out := api.Unanswered{Ports: []string{}, Protocols: []string{}}
	for _, v := range d.Views {
		out.Sweep = max(out.Sweep, v.Asked)
	}
	if out.Sweep == 0 || len(d.Addrs) == 0 {
		return api.Unanswered{Ports: []string{}, Protocols: []string{}}, nil
	}
	for _, port := range d.Silent {
		out.Ports = append(out.Ports, port.String())
	}
	record, err := s.store.Sweep(ctx, out.Sweep)
	if err != nil {
		return out, err
	}
	for _, p := range sweep.AskedOfAll(record.Figures, record.Plan.Off) {
		if !slices.ContainsFunc(d.Items, func(item evidence.Item) bool { return item.Source == p.Source }) {
			out.Protocols = append(out.Protocols, p.Name)
		}
	}
	return out, nil
}

// blink has a device show itself, by an open protocol that has a command for it.
func (s *Service) blink(ctx context.Context, in *DeviceInput) (*struct{ Body api.Blinked }, error) {
	device, site, err := s.store.Device(ctx, in.Device)
	if err != nil {
		return nil, problem(ctx, err)
	}
	by := probe.BlinksBy(device.Items)
	if by == nil {
		return nil, problem(ctx, refuse(http.StatusConflict, "the device has not said that it can show itself by an open protocol"))
	}
	remark(ctx, "%d: %s", in.Device, by.Name)
	w, addr, err := s.wayTo(ctx, site, device)
	if err != nil {
		return nil, problem(ctx, err)
	}
	if err := by.ShowItself(ctx, probe.Over(zonedWire{w}), addr, device.Items); err != nil {
		return nil, problem(ctx, refuse(http.StatusBadGateway, "%s could not be told to show itself: %v", addr, err))
	}
	return &struct{ Body api.Blinked }{api.Blinked{By: by.Name}}, nil
}
