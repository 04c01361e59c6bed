package client

import (
	"context"
	"fmt"
	"net/http"
	"net/url"

	"airdrift/api"
)

// Drift gives where the register and what was observed differ, of some attributes where they are named.
func (c *Client) Drift(ctx context.Context, site uint64, attributes []string, most int) ([]api.DriftLine, error) {
	return first[api.DriftLine](ctx, c, sitePath(site, "/drift"), url.Values{"attribute": attributes}, most)
}

// Act does something to many devices or findings at once, or says what would come of it.
func (c *Client) Act(ctx context.Context, site uint64, act api.NewAct) (api.Act, error) {
	return once[api.Act](ctx, c, http.MethodPost, sitePath(site, "/acts"), act)
}

// Acts gives what was done to many devices at once, the newest first, at most so many.
func (c *Client) Acts(ctx context.Context, site uint64, most int) ([]api.Act, error) {
	return first[api.Act](ctx, c, sitePath(site, "/acts"), nil, most)
}

// UndoAct takes back what an act has done, but for what somebody has changed since.
func (c *Client) UndoAct(ctx context.Context, act uint64) (api.Undone, error) {
	return do[api.Undone](ctx, c, http.MethodPost, fmt.Sprintf("/api/v1/acts/%d/undo", act), nil)
}

// Views gives the filters of some kinds that are saved; of all where none is named.
func (c *Client) Views(ctx context.Context, site uint64, kinds ...string) ([]api.View, error) {
	return all[api.View](ctx, c, sitePath(site, "/views?"+url.Values{"kind": kinds}.Encode()))
}

// SaveView saves a filter under a name.
func (c *Client) SaveView(ctx context.Context, site uint64, kind, name string, view api.SavedView) error {
	_, err := do[struct{}](ctx, c, http.MethodPut, viewPath(site, kind, name), view)
	return err
}

// DeleteView deletes a filter that is saved.
func (c *Client) DeleteView(ctx context.Context, site uint64, kind, name string) error {
	_, err := do[struct{}](ctx, c, http.MethodDelete, viewPath(site, kind, name), nil)
	return err
}

func viewPath(site uint64, kind, name string) string {
	return sitePath(site, "/views/"+kind+"/"+url.PathEscape(name))
}
