package service

import (
	"context"
	"net/http"
	"net/netip"
	"net/url"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"airdrift/core/finding"
	"airdrift/store"
)

// DeviceFilter says which devices are meant, and in which order.
type DeviceFilter struct {
	SiteInput
	Standing    []string `query:"standing,explode" enum:"managed,unmanaged,missing,set aside" doc:"Only these standings"`
	Presence    []string `query:"presence,explode" enum:"seen,silent,uncovered" doc:"Only these presences"`
	Kind        []string `query:"kind,explode" doc:"Only these kinds"`
	Vendor      []string `query:"vendor,explode" doc:"Only these makers"`
	Model       []string `query:"model,explode" doc:"Only these models"`
	OS          []string `query:"os,explode" doc:"Only these systems"`
	Firmware    []string `query:"firmware,explode" doc:"Only these versions of firmware"`
	Group       []string `query:"group,explode" doc:"Only devices of one of these groups"`
	Network     []string `query:"network,explode" doc:"Only devices of these networks of the site, by name or subnet"`
	Responsible []string `query:"responsible,explode" doc:"Only devices for which the register names one of these"`
	Severity    string   `query:"severity" enum:"info,low,medium,high,critical" doc:"Only devices with an open finding that is as bad or worse"`
	Service     []string `query:"service,explode" doc:"Only devices that offer one of these: a port (tcp/80 or 80), a name (http) or a type (_ipp._tcp)"`
	Strength    int      `query:"strength" minimum:"0" maximum:"1000" doc:"Only devices for whose kind at least this much speaks, in decibans"`
	Contested   bool     `query:"contested" doc:"Only devices that share an address"`
	Trait       string   `query:"trait" doc:"Only devices with this trait"`
	Text        string   `query:"text" maxLength:"200" doc:"Words that must all occur in what is known of the device"`
	View        string   `query:"view" maxLength:"200" doc:"The filter that is saved as the view of this name; what is given besides takes the place of what it says"`
	Sort        string   `query:"sort" enum:"address,name,kind,vendor,model,os,firmware,strength,mac,standing,presence,firstSeen,lastSeen" default:"address"`
	Descend     bool     `query:"descend" doc:"Sort downwards"`
}

// deviceQuery asks the store for one page of the devices that are meant.
// view is that which the filter names, if it does.
func (s *Service) deviceQuery(ctx context.Context, f DeviceFilter, after *store.DeviceMark, limit int) (q store.DeviceQuery, view store.View, err error) {
	if f.View != "" {
		if f, view, err = s.byView(ctx, f); err != nil {
			return q, view, err
		}
	}
	q = store.DeviceQuery{
		Site: f.Site, Standings: f.Standing, Presences: f.Presence, Kinds: f.Kind, Responsibles: f.Responsible,
		Vendors: f.Vendor, Models: f.Model, Systems: f.OS, Firmwares: f.Firmware, Groups: f.Group, Services: f.Service, Strength: f.Strength, Contested: f.Contested, Trait: f.Trait, Text: f.Text,
		Sort: f.Sort, Descend: f.Descend, After: after, Limit: limit,
	}
	q.Severity, _ = finding.ParseSeverity(f.Severity) // none where it is left out
	if len(f.Network) > 0 || len(f.Group) > 0 {
		site, err := s.store.Site(ctx, f.Site)
		if err != nil {
			return q, view, err
		}
		if q.Networks, err = networksCalled(site, f.Network); err != nil {
			return q, view, err
		}
		if q.Filled, err = s.filled(ctx, f.Site, f.Group); err != nil {
			return q, view, err
		}
	}
	return q, view, nil
}

// byView lays a filter over that of the view it names.
func (s *Service) byView(ctx context.Context, f DeviceFilter) (DeviceFilter, store.View, error) {
	view, err := s.store.View(ctx, f.Site, store.KindView, f.View)
	if err != nil {
		return f, view, err
	}
	if err := checkView(view); err != nil {
		return f, view, err
	}
	under, err := parseFilter(f.Site, view.Filter)
	if err != nil {
		return f, view, err
	}
	over, into := reflect.ValueOf(f), reflect.ValueOf(&under).Elem()
	for i := range into.NumField() {
		name := into.Type().Field(i).Name
		if given := over.Field(i); !given.IsZero() && (name != "Sort" || f.Sort != "address") {
			into.Field(i).Set(given)
		}
	}
	return under, view, nil
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
		f, err := parseFilter(site, g.Filter)
		if err != nil {
			return nil, err
		}
		q, _, err := s.deviceQuery(ctx, f, nil, 0)
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
func parseFilter(site uint64, text string) (f DeviceFilter, err error) {
	f = DeviceFilter{SiteInput: SiteInput{Site: site}, Sort: "address"}
	values, err := url.ParseQuery(strings.TrimPrefix(text, "?"))
	if err != nil {
		return f, refuse(http.StatusUnprocessableEntity, "filter: %v: want such as kind=printer&network=offices", err)
	}
	into := reflect.ValueOf(&f).Elem()
	for name, given := range values {
		switch name {
		case "at", "columns": // of the console's address: where the list is scrolled to, and what it shows
			continue
		case "standing", "presence", "kind": // which the console's address has with commas between
			given = strings.Split(strings.Join(given, ","), ",")
		}
		if err := setFilter(into, name, given); err != nil {
			return f, err
		}
	}
	return f, nil
}

// setFilter sets the field of a filter that a name of a query means.
func setFilter(into reflect.Value, name string, given []string) error {
	var names []string
	for i := range into.NumField() {
		field := into.Type().Field(i)
		own, _, _ := strings.Cut(field.Tag.Get("query"), ",")
		if own == "" {
			continue
		}
		names = append(names, own)
		if own != name {
			continue
		}
		if allowed := field.Tag.Get("enum"); allowed != "" {
			for _, value := range given {
				if !slices.Contains(strings.Split(allowed, ","), value) {
					return refuse(http.StatusUnprocessableEntity, "filter: %s: there is no %q: want one of %s", name, value, strings.ReplaceAll(allowed, ",", ", "))
				}
			}
		}
		return setField(into.Field(i), name, given)
	}
	return refuse(http.StatusUnprocessableEntity, "filter: devices have no %q: want one of %s", name, strings.Join(names, ", "))
}

func setField(field reflect.Value, name string, given []string) error {
	switch field.Kind() {
	case reflect.Slice:
		field.Set(reflect.ValueOf(given))
	case reflect.String:
		field.SetString(given[0])
	case reflect.Bool:
		field.SetBool(given[0] == "true")
	case reflect.Int:
		n, err := strconv.Atoi(given[0])
		if err != nil || n < 0 || n > 1000 {
			return refuse(http.StatusUnprocessableEntity, "filter: %s: %q is no number up to 1000", name, given[0])
		}
		field.SetInt(int64(n))
	}
	return nil
}
