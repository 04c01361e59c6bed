package client

import (
	"context"
	"errors"
	"io"
	"net/http"
)

// Backup writes all that the service has stored to out.
func (c *Client) Backup(ctx context.Context, out io.Writer) error {
	resp, err := c.send(ctx, http.MethodGet, "/api/v1/backup", nil)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	if _, err = io.Copy(out, resp.Body); err != nil {
		return errors.Join(errors.New("the connection was lost: the backup is incomplete and of no use"), err)
	}
	return nil
}
