package client

import (
	"context"
	"fmt"
	"net/http"
	"net/url"

	"airdrift/api"
)

// Users gives all users.
func (c *Client) Users(ctx context.Context) ([]api.User, error) {
	return all[api.User](ctx, c, "/api/v1/users")
}

// CreateUser enters a user.
func (c *Client) CreateUser(ctx context.Context, user api.NewUser) (api.User, error) {
	return do[api.User](ctx, c, http.MethodPost, "/api/v1/users", user)
}

// SetRole changes what a user may do.
func (c *Client) SetRole(ctx context.Context, user, role string) error {
	_, err := do[struct{}](ctx, c, http.MethodPut, "/api/v1/users/"+url.PathEscape(user)+"/role", api.Role{Role: role})
	return err
}

// ResetPassword gives a user a new password.
func (c *Client) ResetPassword(ctx context.Context, user, password string) error {
	_, err := do[struct{}](ctx, c, http.MethodPut, "/api/v1/users/"+url.PathEscape(user)+"/password", api.Password{Password: password})
	return err
}

// DeleteUser takes a user away.
func (c *Client) DeleteUser(ctx context.Context, user string) error {
	_, err := do[struct{}](ctx, c, http.MethodDelete, "/api/v1/users/"+url.PathEscape(user), nil)
	return err
}

// Audit gives who did what, the newest first.
func (c *Client) Audit(ctx context.Context, limit int) ([]api.AuditLine, error) {
	return first[api.AuditLine](ctx, c, "/api/v1/audit", nil, limit)
}

// CreateToken makes a token of one's own that is good for so many days, 0 for the usual number.
func (c *Client) CreateToken(ctx context.Context, label string, days int) (api.Token, error) {
	return do[api.Token](ctx, c, http.MethodPost, "/api/v1/tokens", api.NewToken{Label: label, Days: days})
}

// UserAccess gives a user's sessions and tokens.
func (c *Client) UserAccess(ctx context.Context, user string) (api.Access, error) {
	return do[api.Access](ctx, c, http.MethodGet, "/api/v1/users/"+url.PathEscape(user)+"/access", nil)
}

// RevokeUserAccess ends a user's sessions and deletes the tokens.
func (c *Client) RevokeUserAccess(ctx context.Context, user string) error {
	_, err := do[struct{}](ctx, c, http.MethodDelete, "/api/v1/users/"+url.PathEscape(user)+"/access", nil)
	return err
}

// RevokeAccess deletes all of one's own tokens and ends one's sessions.
func (c *Client) RevokeAccess(ctx context.Context) error {
	_, err := do[struct{}](ctx, c, http.MethodDelete, "/api/v1/access", nil)
	return err
}

// ResetSecondFactor turns a user's second factor off.
func (c *Client) ResetSecondFactor(ctx context.Context, user string) error {
	_, err := do[struct{}](ctx, c, http.MethodDelete, "/api/v1/users/"+url.PathEscape(user)+"/second-factor", nil)
	return err
}

// Tokens gives one's own tokens.
func (c *Client) Tokens(ctx context.Context) ([]api.Token, error) {
	return all[api.Token](ctx, c, "/api/v1/tokens")
}

// DeleteToken takes one of one's own tokens away.
func (c *Client) DeleteToken(ctx context.Context, id uint64) error {
	_, err := do[struct{}](ctx, c, http.MethodDelete, fmt.Sprintf("/api/v1/tokens/%d", id), nil)
	return err
}

// SetPassword sets one's own password.
func (c *Client) SetPassword(ctx context.Context, password api.OwnPassword) error {
	_, err := do[struct{}](ctx, c, http.MethodPut, "/api/v1/password", password)
	return err
}
