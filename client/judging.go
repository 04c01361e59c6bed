package client

import (
	"context"
	"net/http"
	"net/url"
	"strconv"

	"airdrift/api"
)

// TimesQuery says which response times are meant. The zero value means those of the newest sweep in the protocol that most devices answered in.
type TimesQuery struct {
	Sweep         uint64
	Protocol      string
	Kinds, Models []string
	Fastest       bool // the fastest come first, in place of the slowest
}

// everyDevice is the most that the service gives at once, which is more than a site has.
const everyDevice = 1_000_000

// ResponseTimes gives how long devices of a site took over their answers, at most so many devices.
func (c *Client) ResponseTimes(ctx context.Context, site uint64, q TimesQuery, most int) (api.ResponseTimes, error) {
	if most <= 0 {
		most = everyDevice
	}
	values := url.Values{"limit": {strconv.Itoa(most)}, "kind": q.Kinds, "model": q.Models}
	if q.Sweep != 0 {
		values.Set("sweep", strconv.FormatUint(q.Sweep, 10))
	}
	if q.Protocol != "" {
		values.Set("protocol", q.Protocol)
	}
	if q.Fastest {
		values.Set("order", "fastest")
	}
	return do[api.ResponseTimes](ctx, c, http.MethodGet, sitePath(site, "/response-times?"+values.Encode()), nil)
}

// DeviceTimes gives how long a device took over its answers, sweep by sweep, the newest first, at most so many lines.
func (c *Client) DeviceTimes(ctx context.Context, device uint64, most int) ([]api.VisitTimes, error) {
	return first[api.VisitTimes](ctx, c, devicePath(device, "/response-times"), nil, most)
}

// Firmware gives how the versions of firmware lie over the devices of each model of a site.
func (c *Client) Firmware(ctx context.Context, site uint64) ([]api.FirmwareSpread, error) {
	return all[api.FirmwareSpread](ctx, c, sitePath(site, "/firmware"))
}

// WantFirmware says which version of its firmware a site wants on a model; an empty version takes the wish away.
func (c *Client) WantFirmware(ctx context.Context, site uint64, wanted api.WantedFirmware) error {
	_, err := do[struct{}](ctx, c, http.MethodPut, sitePath(site, "/firmware"), wanted)
	return err
}

// Openness gives how the devices of a site's systems can be read; of one system, or in one way, alone where they are named.
func (c *Client) Openness(ctx context.Context, site uint64, system, state string) (api.Openness, error) {
	values := url.Values{}
	for name, text := range map[string]string{"system": system, "state": state} {
		if text != "" {
			values.Set(name, text)
		}
	}
	return do[api.Openness](ctx, c, http.MethodGet, sitePath(site, "/openness?"+values.Encode()), nil)
}
