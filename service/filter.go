package service

import (
	"context"
	"errors"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"airdrift/core/inventory"
	"airdrift/store"
)

// DeviceFilter says which devices of a site are meant, and in which order. What it can say is read from the address by the catalogue of fields.
type DeviceFilter struct {
	SiteInput
	query inventory.Query
}

// Resolve reads the filter from the address of a request.
func (f *DeviceFilter) Resolve(ctx huma.Context) []error {
	address := ctx.URL()
	given, known := address.Query(), url.Values{}
	for _, p := range inventory.Parameters() {
		if values := given[p.Name]; len(values) > 0 {
			known[p.Name] = values
		}
	}
	var err error
	if f.query, err = inventory.ParseQuery(known); err == nil {
		return nil
	}
	detail := &huma.ErrorDetail{Message: err.Error()}
	if fault := (*inventory.FaultyParameter)(nil); errors.As(err, &fault) {
		detail.Message, detail.Location, detail.Value = fault.Reason, "query."+fault.Name, fault.Value
	}
	return []error{detail}
}

// filterParams documents what a filter can say.
func filterParams() []*huma.Param {
	var list []*huma.Param
	for _, p := range inventory.Parameters() {
		list = append(list, paramOf(p))
	}
	return list
}

func paramOf(p inventory.Parameter) *huma.Param {
	schema := &huma.Schema{Type: map[inventory.Type]string{inventory.Number: huma.TypeInteger, inventory.Flag: huma.TypeBoolean}[p.Type]}
	if schema.Type == "" {
		schema.Type = huma.TypeString
	}
	for _, choice := range p.Choices {
		schema.Enum = append(schema.Enum, choice)
	}
	param := &huma.Param{Name: p.Name, In: "query", Description: p.Doc, Schema: schema}
	if p.Several {
		explode := true
		param.Explode, param.Schema = &explode, &huma.Schema{Type: huma.TypeArray, Items: schema}
	}
	return param
}

// deviceQuery asks the store for one page of the devices that are meant.
// view is that which the filter names, if it does.
func (s *Service) deviceQuery(ctx context.Context, site uint64, query inventory.Query, after *store.DeviceMark, limit int) (q store.DeviceQuery, view store.View, err error) {
	if query.View != "" {
		if query, view, err = s.byView(ctx, site, query); err != nil {
			return q, view, err
		}
	}
	q = store.DeviceQuery{Site: site, Query: query, After: after, Limit: limit}
	networks, groups := query.Where["network"], query.Where["group"]
	if len(networks)+len(groups) == 0 {
		return q, view, nil
	}
	record, err := s.store.Site(ctx, site)
	if err != nil {
		return q, view, err
	}
	if q.Networks, err = networksCalled(record, networks); err != nil {
		return q, view, err
	}
	q.Filled, err = s.filled(ctx, site, groups)
	return q, view, err
}

// byView lays a filter over that of the view it names.
func (s *Service) byView(ctx context.Context, site uint64, query inventory.Query) (inventory.Query, store.View, error) {
	view, err := s.store.View(ctx, site, store.KindView, query.View)
	if err != nil {
		return query, view, err
	}
	if err := checkView(view); err != nil {
		return query, view, err
	}
	under, err := parseFilter(view.Filter)
	return query.Over(under), view, err
}

// filled gives the filters of those groups that are filled by one.
func (s *Service) filled(ctx context.Context, site uint64, groups []string) (filters []store.DeviceQuery, err error) {
	if len(groups) == 0 {
		return nil, nil
	}
	saved, err := s.store.Views(ctx, site, store.KindGroup)
	if err != nil {
		return nil, err
	}
	for _, g := range saved {
		if !slices.Contains(groups, g.Name) {
			continue
		}
		if err := checkView(g); err != nil {
			return nil, err
		}
		query, err := parseFilter(g.Filter)
		if err != nil {
			return nil, err
		}
		q, _, err := s.deviceQuery(ctx, site, query, nil, 0)
		if err != nil {
			return nil, err
		}
		filters = append(filters, q)
	}
	return filters, nil
}

// networksCalled gives the subnets of a site's networks by their names or subnets.
func networksCalled(site store.Site, names []string) (subnets []netip.Prefix, err error) {
	for _, name := range names {
		found := false
		for _, n := range site.Networks {
			if strings.EqualFold(n.Name, name) || n.Subnet.String() == name {
				subnets, found = append(subnets, n.Subnet), true
			}
		}
		if !found {
			var known []string
			for _, n := range site.Networks {
				known = append(known, n.Name)
			}
			return nil, refuse(http.StatusUnprocessableEntity, "network: the site has none called %q: there are %s", name, strings.Join(slices.Compact(known), ", "))
		}
	}
	return subnets, nil
}

// parseFilter reads a filter that is saved or given as a query, as the address of the list has one. What it does not know is refused by name.
func parseFilter(text string) (inventory.Query, error) {
	values, err := url.ParseQuery(strings.TrimPrefix(text, "?"))
	if err != nil {
		return inventory.Query{}, refuse(http.StatusUnprocessableEntity, "filter: %v: want such as kind=printer&network=offices", err)
	}
	for _, name := range []string{"at", "columns"} { // of the console's address: where the list is scrolled to, and what it shows
		delete(values, name)
	}
	query, err := inventory.ParseQuery(values)
	if err != nil {
		return query, refuse(http.StatusUnprocessableEntity, "filter: %v", err)
	}
	return query, nil
}
