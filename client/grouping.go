package client

import (
	"context"
	"fmt"
	"net/http"

	"airdrift/api"
)

// Merge says that a device and another are one.
func (c *Client) Merge(ctx context.Context, device uint64, said api.Merging) (api.Grouping, error) {
	return once[api.Grouping](ctx, c, http.MethodPost, fmt.Sprintf("/api/v1/devices/%d/merge", device), said)
}

// Split says that a part of a device is another one.
func (c *Client) Split(ctx context.Context, device uint64, said api.Splitting) (api.Grouping, error) {
	return once[api.Grouping](ctx, c, http.MethodPost, fmt.Sprintf("/api/v1/devices/%d/split", device), said)
}

// Pin says that whoever is met at an address, or with a MAC address, is a device.
func (c *Client) Pin(ctx context.Context, device uint64, said api.Pinning) (api.Grouping, error) {
	return once[api.Grouping](ctx, c, http.MethodPost, fmt.Sprintf("/api/v1/devices/%d/pin", device), said)
}

// Link says which entry of the register a device is. It gives the number of the decision.
func (c *Client) Link(ctx context.Context, device uint64, said api.Linking) (uint64, error) {
	done, err := once[api.Decided](ctx, c, http.MethodPost, fmt.Sprintf("/api/v1/devices/%d/link", device), said)
	return done.Decision, err
}

// SetGroup says what a device belongs to; "" takes it out.
func (c *Client) SetGroup(ctx context.Context, device uint64, name string) error {
	_, err := do[struct{}](ctx, c, http.MethodPut, devicePath(device, "/group"), api.Group{Name: name})
	return err
}
