package client

import (
	"context"
	"fmt"
	"net/http"

	"airdrift/api"
)

// Credentials lists how a site's agents let us in.
func (c *Client) Credentials(ctx context.Context, site uint64) ([]api.Credential, error) {
	return all[api.Credential](ctx, c, sitePath(site, "/credentials"))
}

// CreateCredential enters a credential.
func (c *Client) CreateCredential(ctx context.Context, site uint64, credential api.NewCredential) (api.Credential, error) {
	return do[api.Credential](ctx, c, http.MethodPost, sitePath(site, "/credentials"), credential)
}

// RemoveCredential takes a credential away.
func (c *Client) RemoveCredential(ctx context.Context, id uint64) error {
	_, err := do[struct{}](ctx, c, http.MethodDelete, fmt.Sprintf("/api/v1/credentials/%d", id), nil)
	return err
}

// TryCredential tries a credential on one device.
func (c *Client) TryCredential(ctx context.Context, device, credential uint64) (api.CredentialTrial, error) {
	return do[api.CredentialTrial](ctx, c, http.MethodPost, devicePath(device, fmt.Sprintf("/credentials/%d", credential)), nil)
}
