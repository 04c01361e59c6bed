package service

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"airdrift/api"
	"airdrift/core/wire"
)

func (s *Service) registerFooting(humaAPI huma.API) {
	huma.Register(humaAPI, huma.Operation{
		OperationID: "list-vantages", Method: http.MethodGet, Path: "/api/v1/vantages", Summary: "Where sweeps can be made from, and what each stands on",
		Tags: []string{"footing"}, Extensions: needs(Look),
	}, s.listVantages)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "list-protocols", Method: http.MethodGet, Path: "/api/v1/protocols", Summary: "The protocols that devices are asked by, each of which a sweep may leave out",
		Tags: []string{"footing"}, Extensions: needs(Look),
	}, s.listProtocols)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "get-reach", Method: http.MethodGet, Path: "/api/v1/reach", Summary: "Whether an address can be reached from each vantage, and why not; nothing is sent",
		Tags: []string{"footing"}, Extensions: needs(Look),
	}, s.reach)
}

func (s *Service) listVantages(ctx context.Context, _ *struct{}) (*listOutput[api.Vantage], error) {
	links, err := s.sweeper.vantages.Links()
	if err != nil {
		return nil, problem(ctx, err)
	}
	list := make([]api.Vantage, len(links))
	for i, l := range links {
		list[i] = s.toVantage(ctx, l)
	}
	return listOf(list), nil
}

func (s *Service) toVantage(ctx context.Context, l wire.Link) api.Vantage {
	v := api.Vantage{
		Name: l.Name, MAC: l.MAC.String(), Prefixes: []string{}, Masks: []string{}, NameServers: addrTexts(l.NameServers),
		Rights: api.Rights{Missing: []string{}},
	}
	for _, p := range l.Prefixes {
		v.Prefixes = append(v.Prefixes, p.String())
		v.Masks = append(v.Masks, maskText(p))
	}
	if l.Gateway.IsValid() {
		v.Gateway = l.Gateway.String()
	}
	if l.Gateway6.IsValid() {
		v.Gateway6 = l.Gateway6.String()
	}
	if w, err := s.sweeper.vantages.Open(l.Name); err == nil { // one that has gone away meanwhile has no rights
		v.Rights = toRights(l, wire.RightsOf(ctx, w))
	}
	return v
}

// maskText gives an IPv4 subnet's mask as people write it (RFC 950).
func maskText(p netip.Prefix) string {
	if !p.Addr().Is4() {
		return ""
	}
	return net.IP(net.CIDRMask(p.Bits(), 32)).String()
}

func toRights(l wire.Link, r wire.Rights) api.Rights {
	out := api.Rights{Frames: r.Frames, Echo: r.Echo, Neighbours: r.Neighbours, Missing: []string{}}
	if l.Broadcasts() && !r.Frames {
		out.Missing = append(out.Missing, "No right to whole frames: a device that answers ARP alone is missed, as is one with an address from another subnet or with IPv6 alone. Run the service with CAP_NET_RAW, as its unit does.")
	}
	if !r.Echo {
		out.Missing = append(out.Missing, "No right to send echo requests: devices beyond the segment are called by TCP alone. Run the service with CAP_NET_RAW, or let its group in by net.ipv4.ping_group_range.")
	}
	if !r.Neighbours {
		out.Missing = append(out.Missing, "The system does not show its table of neighbours: without whole frames no MAC address is known.")
	}
	return out
}

func (s *Service) reach(ctx context.Context, in *struct {
	Address string `query:"address" required:"true" doc:"IPv4 or IPv6 address" example:"10.40.1.20"`
	Site    uint64 `query:"site" doc:"Site whose fence is looked at as well"`
}) (*listOutput[api.Reach], error) {
	addr, err := netip.ParseAddr(in.Address)
	if err != nil || addr.Zone() != "" {
		return nil, problem(ctx, refuse(http.StatusUnprocessableEntity, "%q is not an address such as 10.40.1.20 or fd00:40:1::20", in.Address))
	}
	addr = addr.Unmap()
	links, err := s.sweeper.vantages.Links()
	if err != nil {
		return nil, problem(ctx, err)
	}
	fenced := ""
	if in.Site != 0 {
		site, err := s.store.Site(ctx, in.Site)
		if err != nil {
			return nil, problem(ctx, err)
		}
		fenced = fenceVerdict(addr, site.Fence())
	}
	list := make([]api.Reach, len(links))
	for i, l := range links {
		list[i] = reachFrom(l, addr)
		list[i].Verdict = strings.TrimSpace(list[i].Verdict + " " + fenced)
	}
	return listOf(list), nil
}

// reachFrom judges one vantage by what it stands on; nothing is sent.
func reachFrom(l wire.Link, a netip.Addr) api.Reach {
	r := api.Reach{Vantage: l.Name}
	for _, p := range l.Prefixes {
		switch {
		case p.Addr() == a:
			r.OnLink, r.Verdict = true, fmt.Sprintf("%s is the address of %s itself.", a, l.Name)
			return r
		case p.Contains(a):
			r.OnLink, r.Verdict = true, fmt.Sprintf("%s lies in the subnet %s of %s: it is met directly, and its MAC address can be seen.", a, p.Masked(), l.Name)
			return r
		}
	}
	sameFamily := l.Prefixes[:0:0]
	for _, p := range l.Prefixes {
		if p.Addr().Is4() == a.Is4() && !p.Addr().IsLinkLocalUnicast() {
			sameFamily = append(sameFamily, p.Masked())
		}
	}
	switch {
	case len(sameFamily) == 0:
		r.Verdict = fmt.Sprintf("%s has no %s address: %s cannot be reached from it. Check the cable, and whether an address was given to it.", l.Name, familyName(a), a)
	case a.IsLinkLocalUnicast():
		r.Verdict = fmt.Sprintf("%s is valid on one segment alone, and is none of %s's: it can be heard, and not asked.", a, l.Name)
	case l.GatewayTo(a).IsValid():
		r.By = l.GatewayTo(a).String()
		r.Verdict = fmt.Sprintf("%s is not in the subnet of %s (%s): it is reached through the gateway %s, and its MAC address stays unknown. "+
			"If it should be in the same subnet, compare its mask and its address with those.", a, l.Name, prefixTexts(sameFamily), r.By)
	default:
		r.Verdict = fmt.Sprintf("%s is not in the subnet of %s (%s), and there is no gateway on the way to it: it cannot be reached from here. "+
			"Is this the right interface, on the right side of the router?", a, l.Name, prefixTexts(sameFamily))
	}
	return r
}

func familyName(a netip.Addr) string {
	if a.Is4() {
		return "IPv4"
	}
	return "IPv6"
}

func fenceVerdict(a netip.Addr, fence []netip.Prefix) string {
	for _, n := range fence {
		if n.Contains(a) {
			return "It lies within the fence of the site."
		}
	}
	return "It lies outside the fence of the site, so a sweep of it is refused: if you have leave to sweep there, add its network to the site first."
}
