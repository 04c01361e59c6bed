package service

import (
	"context"
	"net/http"
	"net/netip"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"airdrift/api"
	"airdrift/core/ledger"
	"airdrift/core/netrange"
	"airdrift/store"
)

func (s *Service) registerFence(humaAPI huma.API) {
	huma.Register(humaAPI, huma.Operation{
		OperationID: "get-fence", Method: http.MethodGet, Path: "/api/v1/sites/{site}/fence", Summary: "Where a site may be swept, and how full its networks are",
		Tags: []string{"fence"}, Extensions: needs(Look),
	}, s.getFence)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "add-network", Method: http.MethodPost, Path: "/api/v1/sites/{site}/networks", Summary: "Widen the fence of a site by a network",
		DefaultStatus: http.StatusCreated, Tags: []string{"fence"}, Extensions: needs(Administer),
	}, s.addNetwork)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "remove-network", Method: http.MethodDelete, Path: "/api/v1/sites/{site}/networks", Summary: "Take a network out of the fence; what was seen there stays",
		Tags: []string{"fence"}, Extensions: needs(Administer),
	}, s.removeNetwork)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "set-network", Method: http.MethodPut, Path: "/api/v1/sites/{site}/networks", Summary: "Say what a network of the fence is called and is for, its gateway and its pool",
		Tags: []string{"fence"}, Extensions: needs(Administer),
	}, s.setNetwork)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "set-name-servers", Method: http.MethodPut, Path: "/api/v1/sites/{site}/name-servers", Summary: "Say which name servers a site has",
		Tags: []string{"fence"}, Extensions: needs(Administer),
	}, s.setNameServers)
}

// toNetwork checks a subnet. Public addresses are nobody's building, unless the service's own settings name them; nor is this
// machine's loopback.
func (s *Service) toNetwork(n api.Network) (store.Network, error) {
	subnet, err := netip.ParsePrefix(n.Subnet)
	if err != nil {
		return store.Network{}, refuse(http.StatusUnprocessableEntity, "%q is not a subnet: want a CIDR prefix such as 10.40.1.0/24", n.Subnet)
	}
	if subnet.Masked() != subnet {
		return store.Network{}, refuse(http.StatusUnprocessableEntity, "%s has bits set behind its length: did you mean %s?", n.Subnet, subnet.Masked())
	}
	network := store.Network{Name: n.Name, Subnet: subnet, Purpose: n.Purpose, Pool: strings.TrimSpace(n.Pool)}
	if n.Gateway != "" {
		if network.Gateway, err = netip.ParseAddr(n.Gateway); err != nil || !subnet.Contains(network.Gateway) {
			return store.Network{}, refuse(http.StatusUnprocessableEntity, "gateway: %q is no address within %s", n.Gateway, subnet)
		}
	}
	if network.Pool != "" {
		pool, err := netrange.Parse(network.Pool)
		if err != nil {
			return store.Network{}, refuse(http.StatusUnprocessableEntity, "pool: %v", err)
		}
		if beyond := pool.Without(netrange.FromPrefixes(subnet)); beyond.Count() > 0 {
			return store.Network{}, refuse(http.StatusUnprocessableEntity, "pool: %q reaches beyond %s", network.Pool, subnet)
		}
	}
	return network, s.public.check(subnet)
}

// setNetwork writes what is said of a network, which changes how what stands there is judged.
func (s *Service) setNetwork(ctx context.Context, in *struct {
	SiteInput
	Body api.Network
}) (*siteOutput, error) {
	remark(ctx, "%s", in.Body.Subnet)
	network, err := s.toNetwork(in.Body)
	if err != nil {
		return nil, problem(ctx, err)
	}
	if err := s.books.Resettings(ctx, in.Site, func() error { return s.store.SetNetwork(ctx, in.Site, network) }); err != nil {
		return nil, problem(ctx, err)
	}
	return s.siteOutput(ctx, in.Site)
}

// publicNetworks are those that may be swept though they are not private, by the service's settings.
type publicNetworks []netip.Prefix

// check refuses a network that is not in whole within one private block or one of the settings'.
func (public publicNetworks) check(subnet netip.Prefix) error {
	_, groups := netrange.FromPrefixes(subnet).NoDevice()
	switch {
	case groups:
		return refuse(http.StatusUnprocessableEntity, "%s holds addresses of groups or of nobody, at which no device is", subnet)
	case netrange.IsPrivate(subnet), netrange.Within(subnet, public):
		return nil
	case subnet.Addr().IsLoopback():
		return refuse(http.StatusUnprocessableEntity, "%s is this machine's own loopback and no site's network; whoever runs the service can name it in its settings (public)", subnet)
	}
	return refuse(http.StatusUnprocessableEntity,
		"%s is a public network, or reaches beyond one private block: a site has private addresses (RFC 1918, RFC 6598, RFC 4193). Where the public network is the site's own, whoever runs the service names it in its settings (public)", subnet)
}

// checkFence refuses a site whose fence an earlier version has let reach beyond private addresses.
func (public publicNetworks) checkFence(site store.Site) error {
	for _, n := range site.Networks {
		if err := public.check(n.Subnet); err != nil {
			return refuse(http.StatusUnprocessableEntity, "nothing was sent, as the fence of %s is not right: %v. Remove it with airdrift fence remove, and add the networks that are meant", site.Name, err)
		}
	}
	return nil
}

func (s *Service) addNetwork(ctx context.Context, in *struct {
	SiteInput
	Body api.Network
}) (*siteOutput, error) {
	remark(ctx, "%s", in.Body.Subnet)
	network, err := s.toNetwork(in.Body)
	if err != nil {
		return nil, problem(ctx, err)
	}
	if _, err := s.store.Site(ctx, in.Site); err != nil {
		return nil, problem(ctx, err)
	}
	if err := s.store.AddNetwork(ctx, in.Site, network); err != nil {
		return nil, problem(ctx, err)
	}
	return s.siteOutput(ctx, in.Site)
}

func (s *Service) removeNetwork(ctx context.Context, in *struct {
	SiteInput
	Subnet string `query:"subnet" required:"true" doc:"CIDR prefix" example:"10.40.1.0/24"`
}) (*siteOutput, error) {
	remark(ctx, "%s", in.Subnet)
	subnet, err := netip.ParsePrefix(in.Subnet)
	if err != nil {
		return nil, problem(ctx, refuse(http.StatusUnprocessableEntity, "%q is not a subnet: want a CIDR prefix such as 10.40.1.0/24", in.Subnet))
	}
	// A sweep that runs was given the fence as it was, and would go on there.
	if err := s.sweeper.aside(ctx, in.Site, func() error { return s.store.RemoveNetwork(ctx, in.Site, subnet) }); err != nil {
		return nil, problem(ctx, err)
	}
	return s.siteOutput(ctx, in.Site)
}

func (s *Service) setNameServers(ctx context.Context, in *struct {
	SiteInput
	Body api.Addresses
}) (*siteOutput, error) {
	servers, err := s.toServers(in.Body.Addresses)
	if err != nil {
		return nil, problem(ctx, err)
	}
	if _, err := s.store.Site(ctx, in.Site); err != nil {
		return nil, problem(ctx, err)
	}
	if err := s.store.SetNameServers(ctx, in.Site, servers); err != nil {
		return nil, problem(ctx, err)
	}
	return s.siteOutput(ctx, in.Site)
}

// siteOutput is a site with its tag.
type siteOutput struct {
	ETag string `header:"ETag"`
	Body api.Site
}

func (s *Service) siteOutput(ctx context.Context, id uint64) (*siteOutput, error) {
	site, err := s.store.Site(ctx, id)
	if err != nil {
		return nil, problem(ctx, err)
	}
	return &siteOutput{siteTag(site), toSite(site)}, nil
}

// toServers reads the addresses of name servers. They lie where a site may lie.
func (s *Service) toServers(texts []string) ([]netip.Addr, error) {
	addrs := make([]netip.Addr, len(texts))
	for i, text := range texts {
		a, err := netip.ParseAddr(text)
		if err != nil || a.Zone() != "" {
			return nil, refuse(http.StatusUnprocessableEntity, "%q is not an address such as 10.40.1.10", text)
		}
		addrs[i] = a.Unmap()
		if err := s.public.check(netip.PrefixFrom(addrs[i], addrs[i].BitLen())); err != nil {
			return nil, refuse(http.StatusUnprocessableEntity, "the name server %s cannot be asked: %v", text, err)
		}
	}
	return addrs, nil
}

func (s *Service) getFence(ctx context.Context, in *SiteInput) (*struct{ Body api.Fence }, error) {
	site, err := s.store.Site(ctx, in.Site)
	if err != nil {
		return nil, problem(ctx, err)
	}
	held, err := s.held(ctx, in.Site)
	if err != nil {
		return nil, problem(ctx, err)
	}
	fence := api.Fence{Networks: []api.FenceNetwork{}, NameServers: addrTexts(site.NameServers), Public: []string{}}
	for _, p := range s.public {
		fence.Public = append(fence.Public, p.String())
	}
	for _, n := range site.Networks {
		hosts := netrange.Hosts(n.Subnet)
		out := api.FenceNetwork{Network: toAPINetwork(n), Addresses: netrange.CountText(n.Subnet)}
		for a := range held {
			if n.Subnet.Contains(a) {
				out.Held++
			}
		}
		if free, ok := hosts.FirstFree(func(a netip.Addr) bool { return held[a] }); ok {
			out.NextFree = free.String()
		}
		fence.Networks = append(fence.Networks, out)
	}
	return &struct{ Body api.Fence }{fence}, nil
}

// held gives the addresses of a site that devices hold or the register names; the vantages' own are among them.
func (s *Service) held(ctx context.Context, site uint64) (map[netip.Addr]bool, error) {
	held := map[netip.Addr]bool{}
	err := s.store.EachDevice(ctx, site, func(d ledger.Device) error {
		for _, a := range d.Addrs {
			held[a] = true
		}
		if d.Entry != nil && d.Entry.Addr.IsValid() {
			held[d.Entry.Addr] = true
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	links, err := s.sweeper.vantages.Links()
	for _, l := range links {
		for _, p := range l.Prefixes {
			held[p.Addr()] = true
		}
		held[l.Gateway], held[l.Gateway6] = true, true
	}
	return held, err
}
