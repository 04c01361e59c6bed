package service

import (
	"net/http"

	"github.com/danielgtaylor/huma/v2"
)

// oneImport lets one file be read in at a time, as each may hold as much as the service can bear. Who comes meanwhile waits.
// It stands before the body is read.
func (s *Service) oneImport(humaAPI huma.API) func(huma.Context, func(huma.Context)) {
	return func(ctx huma.Context, next func(huma.Context)) {
		select {
		case s.importing <- struct{}{}:
			defer func() { <-s.importing }()
			next(ctx)
		case <-ctx.Context().Done():
			_ = huma.WriteErr(humaAPI, ctx, http.StatusServiceUnavailable, "another import is going on: try again in a moment")
		}
	}
}
