package client

import (
	"context"
	"net/http"
	"net/url"
	"strconv"

	"airdrift/api"
)

// Pictures gives what is drawn of a site.
func (c *Client) Pictures(ctx context.Context, site uint64) (api.Pictures, error) {
	return do[api.Pictures](ctx, c, http.MethodGet, sitePath(site, "/pictures"), nil)
}

// Addresses gives what is at each address of a network of a site, by its subnet.
func (c *Client) Addresses(ctx context.Context, site uint64, subnet string) (api.AddressPicture, error) {
	return do[api.AddressPicture](ctx, c, http.MethodGet, sitePath(site, "/addresses?subnet="+url.QueryEscape(subnet)), nil)
}

// Completeness gives the estimate of how many devices of a site were missed: by one sweep, or where it is 0 by the latest of each network.
func (c *Client) Completeness(ctx context.Context, site, sweep uint64) (api.Completeness, error) {
	path := "/completeness"
	if sweep != 0 {
		path += "?sweep=" + strconv.FormatUint(sweep, 10)
	}
	return do[api.Completeness](ctx, c, http.MethodGet, sitePath(site, path), nil)
}
