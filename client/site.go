package client

import (
	"context"
	"fmt"
	"net/http"
	"net/url"

	"airdrift/api"
)

func sitePath(site uint64, rest string) string { return fmt.Sprintf("/api/v1/sites/%d%s", site, rest) }

// Sites gives all sites.
func (c *Client) Sites(ctx context.Context) ([]api.Site, error) {
	return all[api.Site](ctx, c, "/api/v1/sites")
}

// CreateSite enters a site.
func (c *Client) CreateSite(ctx context.Context, site api.NewSite) (api.Site, error) {
	return once[api.Site](ctx, c, http.MethodPost, "/api/v1/sites", site)
}

// EnterSite adds a site with the credentials for its agents.
func (c *Client) EnterSite(ctx context.Context, site api.NewSite, credentials []api.NewCredential) (api.Site, error) {
	entered, err := c.CreateSite(ctx, site)
	if err != nil {
		return entered, err
	}
	for _, credential := range credentials {
		if _, err := c.CreateCredential(ctx, entered.ID, credential); err != nil {
			return entered, err
		}
	}
	return entered, nil
}

// AddNetwork adds a network to a site.
func (c *Client) AddNetwork(ctx context.Context, site uint64, n api.Network) (api.Site, error) {
	return do[api.Site](ctx, c, http.MethodPost, sitePath(site, "/networks"), n)
}

// Vantages tells where sweeps can be made from.
func (c *Client) Vantages(ctx context.Context) ([]api.Vantage, error) {
	return all[api.Vantage](ctx, c, "/api/v1/vantages")
}

// Protocols lists the protocols that devices are asked by, each of which a sweep may leave out.
func (c *Client) Protocols(ctx context.Context) ([]api.Protocol, error) {
	return all[api.Protocol](ctx, c, "/api/v1/protocols")
}

// Overview gives what is at a site, in figures.
func (c *Client) Overview(ctx context.Context, site uint64) (api.Overview, error) {
	return do[api.Overview](ctx, c, http.MethodGet, sitePath(site, "/overview"), nil)
}

// Reach says from which vantages an address can be reached; site 0 looks at no fence.
func (c *Client) Reach(ctx context.Context, address string, site uint64) ([]api.Reach, error) {
	return all[api.Reach](ctx, c, fmt.Sprintf("/api/v1/reach?address=%s&site=%d", url.QueryEscape(address), site))
}

// Fence gives where a site may be swept.
func (c *Client) Fence(ctx context.Context, site uint64) (api.Fence, error) {
	return do[api.Fence](ctx, c, http.MethodGet, sitePath(site, "/fence"), nil)
}

// RemoveNetwork takes a network out of a site's fence.
func (c *Client) RemoveNetwork(ctx context.Context, site uint64, subnet string) (api.Site, error) {
	return do[api.Site](ctx, c, http.MethodDelete, sitePath(site, "/networks?subnet="+url.QueryEscape(subnet)), nil)
}

// SetNameServers says which name servers a site has.
func (c *Client) SetNameServers(ctx context.Context, site uint64, servers []string) (api.Site, error) {
	return do[api.Site](ctx, c, http.MethodPut, sitePath(site, "/name-servers"), api.Addresses{Addresses: servers})
}

// Vendor tells what a MAC address says of its maker; site 0 asks the public register alone.
func (c *Client) Vendor(ctx context.Context, mac string, site uint64) (api.Vendor, error) {
	return do[api.Vendor](ctx, c, http.MethodGet, fmt.Sprintf("/api/v1/vendors/%s?site=%d", url.PathEscape(mac), site), nil)
}

// RenameSite gives a site another name.
func (c *Client) RenameSite(ctx context.Context, site uint64, name string) (api.Site, error) {
	return do[api.Site](ctx, c, http.MethodPut, sitePath(site, "/name"), api.SiteName{Name: name})
}

// DeleteSite deletes a site with all that was ever seen and said there; name is its name, as somebody has typed it.
func (c *Client) DeleteSite(ctx context.Context, site uint64, name string) error {
	_, err := do[struct{}](ctx, c, http.MethodDelete, sitePath(site, "?name="+url.QueryEscape(name)), nil)
	return err
}

// SetZone says which time zone a site is in, by its name in the tz database; "" for that of whoever looks.
func (c *Client) SetZone(ctx context.Context, site uint64, zone string) (api.Site, error) {
	return do[api.Site](ctx, c, http.MethodPut, sitePath(site, "/zone"), api.Zone{Zone: zone})
}

// SetKeeping says for how long the evidence of a site's sweeps is kept.
func (c *Client) SetKeeping(ctx context.Context, site uint64, keeping api.Keeping) (api.Site, error) {
	return do[api.Site](ctx, c, http.MethodPut, sitePath(site, "/keeping"), keeping)
}

// Due gives the sweeps whose evidence goes next.
func (c *Client) Due(ctx context.Context, site uint64) ([]uint64, error) {
	return all[uint64](ctx, c, sitePath(site, "/due"))
}

// Thin deletes the evidence now that a site no longer keeps, and gives the sweeps.
func (c *Client) Thin(ctx context.Context, site uint64) ([]uint64, error) {
	gone, err := once[api.Thinned](ctx, c, http.MethodPost, sitePath(site, "/thin"), nil)
	return gone.Sweeps, err
}
