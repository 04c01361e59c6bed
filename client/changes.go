package client

import (
	"context"
	"net/http"
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

// changesPage is how many changes are asked for at once.
const changesPage = 500

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
	changes := []api.Change{}
	for len(changes) < most {
		values.Set("limit", strconv.Itoa(min(most-len(changes), changesPage)))
		page, err := do[api.ChangeList](ctx, c, http.MethodGet, sitePath(site, "/changes?"+values.Encode()), nil)
		if err != nil {
			return nil, err
		}
		changes = append(changes, page.Changes...)
		if page.Next == 0 {
			break
		}
		values.Set("below", strconv.FormatUint(page.Next, 10))
	}
	return changes, nil
}
