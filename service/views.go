package service

import (
	"context"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"airdrift/api"
	"airdrift/store"
)

func (s *Service) registerViews(humaAPI huma.API) {
	huma.Register(humaAPI, huma.Operation{
		OperationID: "list-views", Method: http.MethodGet, Path: "/api/v1/sites/{site}/views", Summary: "Filters of devices that are saved: views, extracts and groups",
		Tags: []string{"views"}, Extensions: needs(Look),
	}, s.listViews)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "save-view", Method: http.MethodPut, Path: "/api/v1/sites/{site}/views/{kind}/{name}", Summary: "Save a filter under a name",
		DefaultStatus: http.StatusNoContent, Tags: []string{"views"}, Extensions: needs(Sweep),
	}, s.saveView)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "delete-view", Method: http.MethodDelete, Path: "/api/v1/sites/{site}/views/{kind}/{name}", Summary: "Delete a filter that is saved; the devices stay as they are",
		DefaultStatus: http.StatusNoContent, Tags: []string{"views"}, Extensions: needs(Sweep),
	}, func(ctx context.Context, in *ViewInput) (*struct{}, error) {
		remark(ctx, "%s %s", in.Kind, in.Name)
		return nil, problem(ctx, s.store.DeleteView(ctx, in.Site, in.Kind, in.Name))
	})
}

// ViewInput names a saved filter in the path.
type ViewInput struct {
	SiteInput
	Kind string `path:"kind" enum:"view,extract,group"`
	Name string `path:"name" minLength:"1" maxLength:"200"`
}

func (s *Service) listViews(ctx context.Context, in *struct {
	SiteInput
	Kind []string `query:"kind,explode" enum:"view,extract,group" doc:"Only of these kinds; all where left out"`
}) (*listOutput[api.View], error) {
	if _, err := s.store.Site(ctx, in.Site); err != nil {
		return nil, problem(ctx, err)
	}
	list := []api.View{}
	for _, kind := range []string{store.KindView, store.KindExtract, store.KindGroup} {
		if len(in.Kind) > 0 && !slices.Contains(in.Kind, kind) {
			continue
		}
		views, err := s.store.Views(ctx, in.Site, kind)
		if err != nil {
			return nil, problem(ctx, err)
		}
		for _, v := range views {
			list = append(list, s.toView(ctx, in.Site, v))
		}
	}
	return listOf(list), nil
}

func (s *Service) toView(ctx context.Context, site uint64, v store.View) api.View {
	out := api.View{Kind: v.Kind, Name: v.Name, Audience: v.Audience, Filter: v.Filter, Columns: v.Columns, ChangedBy: v.ChangedBy, ChangedAt: &v.ChangedAt}
	page, err := s.devicesOf(ctx, site, v)
	if out.Devices = page.Total; err != nil {
		out.Fault = err.Error()
	}
	return out
}

// devicesOf gives the first device that a saved filter lets through, and how many there are.
func (s *Service) devicesOf(ctx context.Context, site uint64, v store.View) (page store.DevicePage, err error) {
	if err := checkView(v); err != nil {
		return page, err
	}
	meant, err := parseFilter(v.Filter)
	if err != nil {
		return page, err
	}
	query, _, err := s.deviceQuery(ctx, site, meant, nil, 1)
	if err != nil {
		return page, err
	}
	return s.store.ListDevices(ctx, query)
}

// maxViews is how many filters of one kind a site saves at most.
const maxViews = 500

func (s *Service) saveView(ctx context.Context, in *struct {
	ViewInput
	Body api.SavedView
}) (*struct{}, error) {
	remark(ctx, "%s %s", in.Kind, in.Name)
	if _, err := s.store.Site(ctx, in.Site); err != nil {
		return nil, problem(ctx, err)
	}
	name := strings.TrimSpace(in.Name)
	if name == "" || strings.ContainsFunc(name, func(r rune) bool { return r < ' ' }) {
		return nil, problem(ctx, refuse(http.StatusUnprocessableEntity, "name: give it a name of one line"))
	}
	view := store.View{
		Kind: in.Kind, Name: name, Audience: strings.TrimSpace(in.Body.Audience), Filter: strings.TrimPrefix(in.Body.Filter, "?"), Columns: in.Body.Columns,
		ChangedBy: personOf(ctx).name, ChangedAt: time.Now().UTC(),
	}
	page, err := s.devicesOf(ctx, in.Site, view)
	if err != nil {
		return nil, problem(ctx, err)
	}
	if view.Kind == store.KindExtract && page.Total == 0 {
		return nil, problem(ctx, refuse(http.StatusUnprocessableEntity, "filter: no device is meant, so the extract would be for nobody"))
	}
	others, err := s.store.Views(ctx, in.Site, view.Kind)
	if err != nil {
		return nil, problem(ctx, err)
	}
	if len(others) >= maxViews && !slices.ContainsFunc(others, func(o store.View) bool { return o.Name == name }) {
		return nil, problem(ctx, refuse(http.StatusUnprocessableEntity, "there are %d already: delete one first", maxViews))
	}
	return nil, problem(ctx, s.store.SaveView(ctx, in.Site, view))
}

// checkView refuses a saved filter with columns that there are not, and one of a group that goes by what a group cannot be filled by.
func checkView(v store.View) error {
	if _, err := columnsNamed(v.Columns); err != nil {
		return refuse(http.StatusUnprocessableEntity, "%s %q: %v", v.Kind, v.Name, err)
	}
	q, err := parseFilter(v.Filter)
	if err != nil {
		return refuse(http.StatusUnprocessableEntity, "%s %q: %v", v.Kind, v.Name, err)
	}
	switch {
	case v.Kind == store.KindGroup && (len(q.Where["group"]) > 0 || q.Text != ""):
		return refuse(http.StatusUnprocessableEntity, "group %q: filter: a group is not filled by group or text: name kinds, networks, makers or the like", v.Name)
	case q.View != "" && v.Kind != store.KindExtract:
		return refuse(http.StatusUnprocessableEntity, "%s %q: filter: it cannot go by another view: write out what that says", v.Kind, v.Name)
	}
	return nil
}
