package client

import (
	"context"
	"fmt"
	"net/http"

	"airdrift/api"
)

// Rules lists the files of rules that a site has added.
func (c *Client) Rules(ctx context.Context, site uint64) ([]api.RuleFile, error) {
	return all[api.RuleFile](ctx, c, sitePath(site, "/rules"))
}

// TryRules checks rules and tells what they would change.
func (c *Client) TryRules(ctx context.Context, site uint64, file api.NewRuleFile) (api.RuleTrial, error) {
	return do[api.RuleTrial](ctx, c, http.MethodPost, sitePath(site, "/rules/trial"), file)
}

// SaveRules keeps a file of rules, switched off.
func (c *Client) SaveRules(ctx context.Context, site uint64, file api.NewRuleFile) (api.RuleFile, error) {
	return do[api.RuleFile](ctx, c, http.MethodPut, sitePath(site, "/rules"), file)
}

// SwitchRules switches a file of rules on or off.
func (c *Client) SwitchRules(ctx context.Context, file uint64, active bool) (api.RuleFile, error) {
	return do[api.RuleFile](ctx, c, http.MethodPut, fmt.Sprintf("/api/v1/rules/%d/active", file), api.Activity{Active: active})
}

// RemoveRules takes a file of rules away.
func (c *Client) RemoveRules(ctx context.Context, file uint64) error {
	_, err := do[struct{}](ctx, c, http.MethodDelete, fmt.Sprintf("/api/v1/rules/%d", file), nil)
	return err
}
