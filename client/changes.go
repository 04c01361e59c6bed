package client

import (
	"context"
	"fmt"
	"net/url"
	"strconv"
	"time"

	"airdrift/api"
)

// ChangeQuery says which changes are meant. The zero value means all.
type ChangeQuery struct {
	Sweep, Device uint64
	Kinds         []string
	Attributes    []string
	Since, Until  time.Time
}

// Changes gives what sweeps of a site have found changed, the newest first, at most so many.
func (c *Client) Changes(ctx context.Context, site uint64, q ChangeQuery, most int) ([]api.Change, error) {
	values := url.Values{"kind": q.Kinds, "attribute": q.Attributes}
	for name, number := range map[string]uint64{"sweep": q.Sweep, "device": q.Device} {
		if number != 0 {
			values.Set(name, strconv.FormatUint(number, 10))
		}
	}
	for name, at := range map[string]time.Time{"since": q.Since, "until": q.Until} {
		if !at.IsZero() {
			values.Set(name, at.Format(time.RFC3339))
		}
	}
	return first[api.Change](ctx, c, sitePath(site, "/changes"), values, most)
}

// Compare gives what another sweep has found that a sweep had not.
func (c *Client) Compare(ctx context.Context, sweep, other uint64) ([]api.Change, error) {
	return all[api.Change](ctx, c, fmt.Sprintf("/api/v1/sweeps/%d/comparison/%d", sweep, other))
}
