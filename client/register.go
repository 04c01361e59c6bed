package client

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"

	"airdrift/api"
)

// ImportLeases lays the leases of a DHCP server over those that are known.
func (c *Client) ImportLeases(ctx context.Context, site uint64, name string, file io.Reader) (api.LeaseImport, error) {
	return once[api.LeaseImport](ctx, c, http.MethodPut, sitePath(site, "/leases?name="+url.QueryEscape(name)), file)
}

// RemoveLeases deletes the leases of a site's DHCP server.
func (c *Client) RemoveLeases(ctx context.Context, site uint64) error {
	_, err := do[struct{}](ctx, c, http.MethodDelete, sitePath(site, "/leases"), nil)
	return err
}

// Register gives the register of a site.
func (c *Client) Register(ctx context.Context, site uint64) ([]api.Entry, error) {
	return all[api.Entry](ctx, c, sitePath(site, "/register"))
}

// Import says how to import a register.
type Import struct {
	Replace bool // take the old register out first
	Partial bool // leave out the lines in which something is wrong
	Preview bool // only say what would come of it
}

// ImportRegister imports a register from CSV or a workbook, all or nothing unless it may be partial.
func (c *Client) ImportRegister(ctx context.Context, site uint64, file io.Reader, how Import) (api.Imported, error) {
	return once[api.Imported](ctx, c, http.MethodPost, sitePath(site, fmt.Sprintf("/register?replace=%t&partial=%t&preview=%t", how.Replace, how.Partial, how.Preview)), file)
}

// ExportRegister writes the register of a site as CSV.
func (c *Client) ExportRegister(ctx context.Context, site uint64, out io.Writer) error {
	return c.copy(ctx, sitePath(site, "/register.csv"), out)
}

// AddToRegister puts a device into the register.
func (c *Client) AddToRegister(ctx context.Context, device uint64, said api.NewEntry) (api.Device, error) {
	return once[api.Device](ctx, c, http.MethodPost, devicePath(device, "/register"), said)
}

// MissingEntries gives the entries of a site's register of which no device was ever seen.
func (c *Client) MissingEntries(ctx context.Context, site uint64) ([]api.Entry, error) {
	return all[api.Entry](ctx, c, sitePath(site, "/register?missing=true"))
}

// AddEntry adds one entry to the register of a site.
func (c *Client) AddEntry(ctx context.Context, site uint64, entry api.EntryText) (api.Entry, error) {
	return once[api.Entry](ctx, c, http.MethodPost, sitePath(site, "/register/entries"), entry)
}

// Entry gives one entry of a register.
func (c *Client) Entry(ctx context.Context, entry uint64) (api.Entry, error) {
	return do[api.Entry](ctx, c, http.MethodGet, entryPath(entry), nil)
}

// ChangeEntry writes over one entry of a register.
func (c *Client) ChangeEntry(ctx context.Context, entry uint64, text api.EntryText) (api.Entry, error) {
	return do[api.Entry](ctx, c, http.MethodPut, entryPath(entry), text)
}

// RemoveEntry takes one entry out of its register.
func (c *Client) RemoveEntry(ctx context.Context, entry uint64) error {
	_, err := do[struct{}](ctx, c, http.MethodDelete, entryPath(entry), nil)
	return err
}

func entryPath(entry uint64) string { return fmt.Sprintf("/api/v1/register/%d", entry) }
