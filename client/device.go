package client

import (
	"context"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"strconv"

	"airdrift/api"
)

// DeviceQuery says which devices to list; the zero value means the first hundred by address.
type DeviceQuery struct {
	Filter url.Values // what inventory.Parameters names, such as kind, text or sort
	Limit  int
	Cursor string // next of the page before
}

func (q DeviceQuery) encode() string {
	v := maps.Clone(q.Filter)
	if v == nil {
		v = url.Values{}
	}
	if q.Cursor != "" {
		v.Set("cursor", q.Cursor)
	}
	if q.Limit > 0 {
		v.Set("limit", strconv.Itoa(q.Limit))
	}
	return v.Encode()
}

// Devices gives one page of a site's devices.
func (c *Client) Devices(ctx context.Context, site uint64, q DeviceQuery) (api.List[api.DeviceLine], error) {
	return do[api.List[api.DeviceLine]](ctx, c, http.MethodGet, sitePath(site, "/devices?"+q.encode()), nil)
}

// Device gives all that is known of one device.
func (c *Client) Device(ctx context.Context, id uint64) (api.Device, error) {
	return do[api.Device](ctx, c, http.MethodGet, fmt.Sprintf("/api/v1/devices/%d", id), nil)
}

func devicePath(device uint64, rest string) string {
	return fmt.Sprintf("/api/v1/devices/%d%s", device, rest)
}

// History gives when and where a device was seen.
func (c *Client) History(ctx context.Context, device uint64) ([]api.Seen, error) {
	return all[api.Seen](ctx, c, devicePath(device, "/history"))
}

// SetNote writes a note on a device; an empty one deletes it.
func (c *Client) SetNote(ctx context.Context, device uint64, text string) error {
	_, err := do[struct{}](ctx, c, http.MethodPut, devicePath(device, "/note"), api.Note{Text: text})
	return err
}

// SetAside sets a device aside for a reason.
func (c *Client) SetAside(ctx context.Context, device uint64, reason string) error {
	_, err := do[struct{}](ctx, c, http.MethodPut, devicePath(device, "/aside"), map[string]string{"reason": reason})
	return err
}

// TakeBack takes back that a device is set aside.
func (c *Client) TakeBack(ctx context.Context, device uint64) error {
	_, err := do[struct{}](ctx, c, http.MethodDelete, devicePath(device, "/aside"), nil)
	return err
}

// Decisions gives what people have said of a device, the newest first.
func (c *Client) Decisions(ctx context.Context, device uint64) ([]api.Decision, error) {
	return all[api.Decision](ctx, c, devicePath(device, "/decisions"))
}

// Undo undoes a decision; the one holds again whose place it had taken.
func (c *Client) Undo(ctx context.Context, decision uint64) error {
	_, err := do[struct{}](ctx, c, http.MethodPost, fmt.Sprintf("/api/v1/decisions/%d/undo", decision), nil)
	return err
}

// Blink tells a device to show itself for some seconds, and gives by which protocol.
func (c *Client) Blink(ctx context.Context, device uint64) (string, error) {
	blinked, err := do[api.Blinked](ctx, c, http.MethodPost, devicePath(device, "/blink"), nil)
	return blinked.By, err
}
