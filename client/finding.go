package client

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strconv"

	"airdrift/api"
)

// FindingQuery says which findings are meant. The zero value means those that are open.
type FindingQuery struct {
	States   []string
	Severity string // only those that are as bad or worse
	Worst    string // only those that are no worse
	Rules    []string
	Device   uint64
}

func (q FindingQuery) values() url.Values {
	values := url.Values{"state": q.States, "rule": q.Rules}
	if q.Severity != "" {
		values.Set("severity", q.Severity)
	}
	if q.Worst != "" {
		values.Set("worst", q.Worst)
	}
	if q.Device != 0 {
		values.Set("device", strconv.FormatUint(q.Device, 10))
	}
	return values
}

// Findings gives what is wrong at a site, the worst first, at most so many.
func (c *Client) Findings(ctx context.Context, site uint64, q FindingQuery, most int) ([]api.Finding, error) {
	return first[api.Finding](ctx, c, sitePath(site, "/findings"), q.values(), most)
}

// Finding gives one finding.
func (c *Client) Finding(ctx context.Context, number uint64) (api.Finding, error) {
	return do[api.Finding](ctx, c, http.MethodGet, fmt.Sprintf("/api/v1/findings/%d", number), nil)
}

// CountFindings gives how many findings there are of each rule, in each state.
func (c *Client) CountFindings(ctx context.Context, site uint64, q FindingQuery) ([]api.FindingCount, error) {
	return all[api.FindingCount](ctx, c, sitePath(site, "/findings/counts?"+q.values().Encode()))
}

// ReopenFindings takes the acceptance of findings back.
func (c *Client) ReopenFindings(ctx context.Context, site uint64, numbers []uint64) error {
	_, err := do[struct{}](ctx, c, http.MethodPost, sitePath(site, "/findings/reopen"), api.FindingNumbers{Findings: numbers})
	return err
}

// FindingRules gives the rules by which a site is judged.
func (c *Client) FindingRules(ctx context.Context, site uint64) ([]api.FindingRule, error) {
	return all[api.FindingRule](ctx, c, sitePath(site, "/finding-rules"))
}

// SetFindingRule says how a site wants a rule.
func (c *Client) SetFindingRule(ctx context.Context, site uint64, rule string, setting api.FindingSetting) error {
	_, err := do[struct{}](ctx, c, http.MethodPut, sitePath(site, "/finding-rules/"+url.PathEscape(rule)), setting)
	return err
}

// EndsOfSupport gives the site's list of ends of support.
func (c *Client) EndsOfSupport(ctx context.Context, site uint64) (api.ListText, error) {
	return do[api.ListText](ctx, c, http.MethodGet, sitePath(site, "/ends-of-support"), nil)
}

// SetEndsOfSupport replaces it.
func (c *Client) SetEndsOfSupport(ctx context.Context, site uint64, text string) error {
	_, err := do[struct{}](ctx, c, http.MethodPut, sitePath(site, "/ends-of-support"), api.ListText{Text: text})
	return err
}

// SetNetwork says what a network of the fence is called and is for, its gateway and its pool.
func (c *Client) SetNetwork(ctx context.Context, site uint64, network api.Network) (api.Site, error) {
	return do[api.Site](ctx, c, http.MethodPut, sitePath(site, "/networks"), network)
}
