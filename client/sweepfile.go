package client

import (
	"context"
	"io"
	"net/http"
	"net/url"
	"strconv"

	"airdrift/api"
)

// ExportSweeps writes sweeps of a site to out as a file of JSON Lines: those of some numbers, or all that have ended.
func (c *Client) ExportSweeps(ctx context.Context, site uint64, sweeps []uint64, out io.Writer) error {
	values := url.Values{}
	for _, id := range sweeps {
		values.Add("sweep", strconv.FormatUint(id, 10))
	}
	resp, err := c.send(ctx, http.MethodGet, sitePath(site, "/sweep-file?"+values.Encode()), nil)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	_, err = io.Copy(out, resp.Body)
	return err
}

// ImportSweeps puts the sweeps of a file among those of a site, all or nothing.
func (c *Client) ImportSweeps(ctx context.Context, site uint64, name string, file io.Reader) (api.SweepImport, error) {
	return once[api.SweepImport](ctx, c, http.MethodPost, sitePath(site, "/sweep-file?name="+url.QueryEscape(name)), file)
}

// NameSweep gives a sweep a name; an empty one clears it.
func (c *Client) NameSweep(ctx context.Context, sweep uint64, name string) error {
	_, err := do[struct{}](ctx, c, http.MethodPut, "/api/v1/sweeps/"+strconv.FormatUint(sweep, 10)+"/name", api.SweepName{Name: name})
	return err
}
