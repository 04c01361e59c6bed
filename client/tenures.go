package client

import (
	"context"
	"net/url"
	"strconv"
	"time"

	"airdrift/api"
)

// TenureQuery says which tenures are meant. The zero value means all of a site.
type TenureQuery struct {
	Device    uint64
	Addr, MAC string
	At        time.Time
}

// Tenures gives which devices of a site held which addresses, the latest first, at most so many.
func (c *Client) Tenures(ctx context.Context, site uint64, q TenureQuery, most int) ([]api.Tenure, error) {
	values := url.Values{}
	for name, text := range map[string]string{"addr": q.Addr, "mac": q.MAC} {
		if text != "" {
			values.Set(name, text)
		}
	}
	if q.Device != 0 {
		values.Set("device", strconv.FormatUint(q.Device, 10))
	}
	if !q.At.IsZero() {
		values.Set("at", q.At.Format(time.RFC3339))
	}
	return first[api.Tenure](ctx, c, sitePath(site, "/tenures"), values, most)
}
