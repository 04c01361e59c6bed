package client

import (
	"context"
	"io"
	"net/http"
	"net/url"
)

// ReportQuery says how a report or an extract is made. The zero value of each field leaves it to the service.
type ReportQuery struct {
	Form, Paper, Language string
	At, Since             string // days, such as 2026-11-02
	Name                  string // of an extract that is saved
	Filter                string // of an extract that is not, as a query
	Sheet                 string // of an extract as CSV
}

func (q ReportQuery) encode() string {
	values := url.Values{}
	for name, text := range map[string]string{"form": q.Form, "paper": q.Paper, "language": q.Language, "at": q.At, "since": q.Since, "name": q.Name, "sheet": q.Sheet, "filter": q.Filter} {
		if text != "" {
			values.Set(name, text)
		}
	}
	return values.Encode()
}

// Report writes the report of a site.
func (c *Client) Report(ctx context.Context, site uint64, q ReportQuery, out io.Writer) error {
	return c.copy(ctx, sitePath(site, "/report?"+q.encode()), out)
}

// Extract writes an extract of a site's devices.
func (c *Client) Extract(ctx context.Context, site uint64, q ReportQuery, out io.Writer) error {
	return c.copy(ctx, sitePath(site, "/extract?"+q.encode()), out)
}

// copy writes what a path answers with.
func (c *Client) copy(ctx context.Context, path string, out io.Writer) error {
	resp, err := c.send(ctx, http.MethodGet, path, nil)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	_, err = io.Copy(out, resp.Body)
	return err
}
