package service

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"time"
	_ "time/tzdata" // zones, where the machine has none

	"github.com/danielgtaylor/huma/v2"

	"airdrift/api"
	"airdrift/core/finding"
	"airdrift/core/hwaddr"
	"airdrift/core/identify"
	"airdrift/core/ledger"
	"airdrift/core/registry"
	"airdrift/store"
)

// SiteInput names a site in the path; it is exported because the API library reads exported fields only.
type SiteInput struct {
	Site uint64 `path:"site" doc:"Number of the site"`
}

func (s *Service) registerSites(humaAPI huma.API) {
	huma.Register(humaAPI, huma.Operation{
		OperationID: "list-sites", Method: http.MethodGet, Path: "/api/v1/sites", Summary: "All sites", Tags: []string{"sites"}, Extensions: needs(Look),
	}, s.listSites)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "create-site", Method: http.MethodPost, Path: "/api/v1/sites", Summary: "Add a site",
		DefaultStatus: http.StatusCreated, Tags: []string{"sites"}, Extensions: once(Administer),
	}, s.createSite)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "get-site", Method: http.MethodGet, Path: "/api/v1/sites/{site}", Summary: "One site", Tags: []string{"sites"}, Extensions: needs(Look),
	}, func(ctx context.Context, in *SiteInput) (*siteOutput, error) { return s.siteOutput(ctx, in.Site) })
	huma.Register(humaAPI, huma.Operation{
		OperationID: "rename-site", Method: http.MethodPut, Path: "/api/v1/sites/{site}/name", Summary: "Give a site another name", Tags: []string{"sites"}, Extensions: needs(Administer),
	}, s.renameSite)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "set-zone", Method: http.MethodPut, Path: "/api/v1/sites/{site}/zone", Summary: "Say which time zone a site is in", Tags: []string{"sites"}, Extensions: needs(Administer),
	}, s.setZone)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "delete-site", Method: http.MethodDelete, Path: "/api/v1/sites/{site}", Summary: "Delete a site with all that was ever seen and said there",
		DefaultStatus: http.StatusNoContent, Tags: []string{"sites"}, Extensions: needs(Administer),
	}, s.deleteSite)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "get-overview", Method: http.MethodGet, Path: "/api/v1/sites/{site}/overview", Summary: "What is at a site, in figures", Tags: []string{"sites"}, Extensions: needs(Look),
	}, s.overview)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "get-vendor", Method: http.MethodGet, Path: "/api/v1/vendors/{mac}", Summary: "What a MAC address tells of its maker", Tags: []string{"sites"}, Extensions: needs(Look),
	}, s.vendor)
}

func (s *Service) setZone(ctx context.Context, in *struct {
	SiteInput
	Body api.Zone
}) (*siteOutput, error) {
	if _, err := s.store.Site(ctx, in.Site); err != nil {
		return nil, problem(ctx, err)
	}
	if _, err := time.LoadLocation(in.Body.Zone); err != nil || in.Body.Zone == "Local" {
		return nil, problem(ctx, refuse(http.StatusUnprocessableEntity, "%q is no time zone: want a name such as Europe/Lisbon, or UTC", in.Body.Zone))
	}
	remark(ctx, "%s", in.Body.Zone)
	if err := s.store.SetZone(ctx, in.Site, in.Body.Zone); err != nil {
		return nil, problem(ctx, err)
	}
	return s.siteOutput(ctx, in.Site)
}

func (s *Service) listSites(ctx context.Context, _ *struct{}) (*listOutput[api.Site], error) {
	sites, err := s.store.Sites(ctx)
	if err != nil {
		return nil, problem(ctx, err)
	}
	list := make([]api.Site, len(sites))
	for i, site := range sites {
		list[i] = toSite(site)
	}
	return listOf(list), nil
}

func (s *Service) createSite(ctx context.Context, in *struct{ Body api.NewSite }) (*siteOutput, error) {
	site := store.Site{Name: in.Body.Name}
	var err error
	if site.NameServers, err = s.toServers(in.Body.NameServers); err != nil {
		return nil, problem(ctx, err)
	}
	for _, n := range in.Body.Networks {
		network, err := s.toNetwork(n)
		if err != nil {
			return nil, problem(ctx, err)
		}
		site.Networks = append(site.Networks, network)
	}
	for _, p := range in.Body.Prefixes {
		prefix, err := registry.ParsePrefix(p.Prefix)
		if err != nil {
			return nil, problem(ctx, refuse(http.StatusUnprocessableEntity, "%v", err))
		}
		site.Prefixes = append(site.Prefixes, store.MACPrefix{Prefix: prefix, Maker: p.Maker})
	}
	if err := s.store.CreateSite(ctx, &site); err != nil {
		return nil, problem(ctx, err)
	}
	return &siteOutput{siteTag(site), toSite(site)}, nil
}

func (s *Service) renameSite(ctx context.Context, in *struct {
	SiteInput
	MatchInput
	Body api.SiteName
}) (*siteOutput, error) {
	site, err := s.store.Site(ctx, in.Site)
	if err == nil {
		err = in.check(siteTag(site))
	}
	if err != nil {
		return nil, problem(ctx, err)
	}
	remark(ctx, "%s is now %s", site.Name, in.Body.Name)
	if err := s.store.RenameSite(ctx, in.Site, in.Body.Name); err != nil {
		return nil, problem(ctx, err)
	}
	return s.siteOutput(ctx, in.Site)
}

// deleteSite deletes a site whose name was typed. No sweep of it runs or can start meanwhile, and its ledger is not computed anew.
func (s *Service) deleteSite(ctx context.Context, in *struct {
	SiteInput
	Name string `query:"name" required:"true" maxLength:"200" doc:"The name of the site, typed as it is"`
}) (*struct{}, error) {
	site, err := s.store.Site(ctx, in.Site)
	if err != nil {
		return nil, problem(ctx, err)
	}
	remark(ctx, "%s", site.Name)
	if in.Name != site.Name {
		return nil, problem(ctx, &refusedError{status: http.StatusUnprocessableEntity, kind: kindNameTyped, text: fmt.Sprintf("the name that was typed is not that of the site: it is called %q. Nothing was deleted", site.Name)})
	}
	return nil, problem(ctx, s.sweeper.aside(ctx, in.Site, func() error {
		release, err := s.books.Hold(in.Site)
		if err != nil {
			return err
		}
		defer release()
		return s.books.DeleteSite(ctx, in.Site)
	}))
}

func (s *Service) overview(ctx context.Context, in *SiteInput) (*struct{ Body api.Overview }, error) {
	site, err := s.store.Site(ctx, in.Site)
	if err != nil {
		return nil, problem(ctx, err)
	}
	counts, err := s.store.CountDevices(ctx, in.Site)
	if err != nil {
		return nil, problem(ctx, err)
	}
	sweeps, err := s.store.Sweeps(ctx, in.Site, store.SweepMark{}, 1)
	if err != nil {
		return nil, problem(ctx, err)
	}
	out := tally(counts)
	out.Site, out.Notices = toSite(site), s.sweeper.notices(ctx)
	if out.Traits, err = s.traits(ctx, in.Site); err != nil {
		return nil, problem(ctx, err)
	}
	if out.Findings, err = s.severities(ctx, in.Site); err != nil {
		return nil, problem(ctx, err)
	}
	entries, err := s.store.CountRegister(ctx, in.Site, false)
	if out.Register = int(entries); err != nil {
		return nil, problem(ctx, err)
	}
	if len(sweeps) > 0 {
		last, err := s.sweeper.find(ctx, sweeps[0].ID)
		if err != nil {
			return nil, problem(ctx, err)
		}
		shown := toSweep(last)
		out.LastSweep = &shown
	}
	return &struct{ Body api.Overview }{out}, nil
}

// severities counts a site's open findings by severity.
func (s *Service) severities(ctx context.Context, site uint64) ([]api.Severity, error) {
	counts, err := s.store.CountFindings(ctx, store.FindingQuery{Site: site, States: []string{string(finding.Open)}})
	list := []api.Severity{}
	for _, c := range counts { // which are in order of severity
		if last := len(list) - 1; last >= 0 && list[last].Severity == c.Severity.String() {
			list[last].Findings += c.Findings
		} else {
			list = append(list, api.Severity{Severity: c.Severity.String(), Findings: c.Findings})
		}
	}
	return list, err
}

// traits counts a site's devices by trait.
func (s *Service) traits(ctx context.Context, site uint64) ([]api.Count, error) {
	counts, err := s.store.CountTraits(ctx, site)
	list := []api.Count{}
	for _, trait := range ledger.Traits {
		if n := counts[trait]; n > 0 {
			list = append(list, api.Count{Name: string(trait), Devices: n})
		}
	}
	return list, err
}

// tally sums counts up for the overview.
func tally(counts []store.Count) api.Overview {
	out := api.Overview{Kinds: []api.KindCount{}}
	for _, c := range counts {
		addStanding(&out.Counts, c)
		out.Contested += c.Contested
		switch c.Presence {
		case ledger.Silent:
			out.Silent += c.Devices
		case ledger.Seen:
			out.Seen += c.Devices
			if c.Kind == identify.Unknown {
				out.Unknown += c.Devices
			}
			out.Kinds = addKind(out.Kinds, c)
		}
	}
	slices.SortStableFunc(out.Kinds, func(a, b api.KindCount) int { return b.Devices - a.Devices })
	return out
}

func addStanding(counts *api.Counts, c store.Count) {
	switch c.Standing {
	case ledger.Managed:
		counts.Managed += c.Devices
	case ledger.Unmanaged:
		counts.Unmanaged += c.Devices
	case ledger.Missing:
		counts.Missing += c.Devices
	case ledger.SetAside:
		counts.SetAside += c.Devices
	}
}

func addKind(kinds []api.KindCount, c store.Count) []api.KindCount {
	at := slices.IndexFunc(kinds, func(k api.KindCount) bool { return k.Kind == c.Kind })
	if at < 0 {
		at = len(kinds)
		kinds = append(kinds, api.KindCount{Kind: c.Kind})
	}
	kinds[at].Devices += c.Devices
	if c.Standing == ledger.Unmanaged {
		kinds[at].Unmanaged += c.Devices
	}
	return kinds
}

func (s *Service) vendor(ctx context.Context, in *struct {
	MAC  string `path:"mac" doc:"MAC address in any common form"`
	Site uint64 `query:"site" doc:"Site whose own list of prefixes is asked first"`
}) (*struct{ Body api.Vendor }, error) {
	mac, err := hwaddr.Parse(in.MAC)
	if err != nil {
		return nil, problem(ctx, refuse(http.StatusUnprocessableEntity, "%v", err))
	}
	var overlay *registry.Table
	if in.Site != 0 {
		site, err := s.store.Site(ctx, in.Site)
		if err != nil {
			return nil, problem(ctx, err)
		}
		overlay = site.Overlay()
	}
	return &struct{ Body api.Vendor }{toVendor(mac, overlay)}, nil
}
