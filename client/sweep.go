package client

import (
	"context"
	"fmt"
	"net/http"

	"airdrift/api"
)

// StartSweep starts a sweep.
func (c *Client) StartSweep(ctx context.Context, site uint64, wanted api.NewSweep) (api.Sweep, error) {
	return once[api.Sweep](ctx, c, http.MethodPost, sitePath(site, "/sweeps"), wanted)
}

// Sweeps gives the sweeps of a site, the newest first.
func (c *Client) Sweeps(ctx context.Context, site uint64) ([]api.Sweep, error) {
	return all[api.Sweep](ctx, c, sitePath(site, "/sweeps"))
}

// Sweep gives one sweep.
func (c *Client) Sweep(ctx context.Context, id uint64) (api.Sweep, error) {
	return do[api.Sweep](ctx, c, http.MethodGet, fmt.Sprintf("/api/v1/sweeps/%d", id), nil)
}

// StopSweep stops a sweep and waits until what it saw is written.
func (c *Client) StopSweep(ctx context.Context, id uint64) (api.Sweep, error) {
	return do[api.Sweep](ctx, c, http.MethodPost, fmt.Sprintf("/api/v1/sweeps/%d/stop", id), nil)
}

// Sightings gives what a sweep saw.
func (c *Client) Sightings(ctx context.Context, sweep uint64) ([]api.Sighting, error) {
	return all[api.Sighting](ctx, c, fmt.Sprintf("/api/v1/sweeps/%d/sightings", sweep))
}

// ContinueSweep goes on with a sweep that was stopped or interrupted.
func (c *Client) ContinueSweep(ctx context.Context, id uint64) (api.Sweep, error) {
	return once[api.Sweep](ctx, c, http.MethodPost, fmt.Sprintf("/api/v1/sweeps/%d/continue", id), nil)
}

// DiscardSweep removes a sweep and all that only it brought.
func (c *Client) DiscardSweep(ctx context.Context, id uint64) error {
	_, err := do[struct{}](ctx, c, http.MethodDelete, fmt.Sprintf("/api/v1/sweeps/%d", id), nil)
	return err
}

// Reread reads all stored evidence of a site again.
func (c *Client) Reread(ctx context.Context, site uint64) error {
	_, err := once[struct{}](ctx, c, http.MethodPost, sitePath(site, "/reevaluate"), nil)
	return err
}

// SweepLog gives what happened in a sweep.
func (c *Client) SweepLog(ctx context.Context, id uint64) ([]api.LogLine, error) {
	return all[api.LogLine](ctx, c, fmt.Sprintf("/api/v1/sweeps/%d/log", id))
}

// PinSweep says whether a sweep's evidence stays, whatever the site keeps.
func (c *Client) PinSweep(ctx context.Context, sweep uint64, pinned bool) error {
	_, err := do[struct{}](ctx, c, http.MethodPut, fmt.Sprintf("/api/v1/sweeps/%d/pinned", sweep), api.SweepPin{Pinned: pinned})
	return err
}
