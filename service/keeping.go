package service

import (
	"context"
	"log/slog"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"airdrift/api"
	"airdrift/store"
)

func (s *Service) registerKeeping(humaAPI huma.API) {
	huma.Register(humaAPI, huma.Operation{
		OperationID: "set-keeping", Method: http.MethodPut, Path: "/api/v1/sites/{site}/keeping", Summary: "Say for how long the evidence of a site's sweeps is kept",
		Tags: []string{"sites"}, Extensions: needs(Administer),
	}, s.setKeeping)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "list-due", Method: http.MethodGet, Path: "/api/v1/sites/{site}/due", Summary: "Sweeps whose evidence goes next, by what the site keeps",
		Tags: []string{"sweeps"}, Extensions: needs(Look),
	}, s.listDue)
	huma.Register(humaAPI, huma.Operation{
		OperationID: "thin-sweeps", Method: http.MethodPost, Path: "/api/v1/sites/{site}/thin",
		Summary: "Delete the evidence now that a site no longer keeps; it is done once an hour by itself", Tags: []string{"sweeps"}, Extensions: once(Administer),
	}, func(ctx context.Context, in *SiteInput) (*struct{ Body api.Thinned }, error) {
		gone, err := s.sweeper.thin(ctx, in.Site)
		if err != nil {
			return nil, problem(ctx, err)
		}
		remark(ctx, "%v", gone)
		return &struct{ Body api.Thinned }{api.Thinned{Sweeps: numbers(gone)}}, nil
	})
	huma.Register(humaAPI, huma.Operation{
		OperationID: "pin-sweep", Method: http.MethodPut, Path: "/api/v1/sweeps/{sweep}/pinned", Summary: "Say whether a sweep's evidence stays, whatever the site keeps",
		DefaultStatus: http.StatusNoContent, Tags: []string{"sweeps"}, Extensions: needs(Sweep),
	}, func(ctx context.Context, in *struct {
		SweepInput
		Body api.SweepPin
	}) (*struct{}, error) {
		if _, err := s.store.Sweep(ctx, in.Sweep); err != nil {
			return nil, problem(ctx, err)
		}
		return nil, problem(ctx, s.store.PinSweep(ctx, in.Sweep, in.Body.Pinned))
	})
}

// numbers gives an empty list rather than none.
func numbers(list []uint64) []uint64 {
	if list == nil {
		return []uint64{}
	}
	return list
}

func (s *Service) setKeeping(ctx context.Context, in *struct {
	SiteInput
	Body api.Keeping
}) (*siteOutput, error) {
	if _, err := s.store.Site(ctx, in.Site); err != nil {
		return nil, problem(ctx, err)
	}
	if in.Body.WeeklyDays != 0 && in.Body.WeeklyDays < in.Body.Days {
		return nil, problem(ctx, refuse(http.StatusUnprocessableEntity, "one sweep a week cannot be kept for %d days where all are kept for %d: want as many or more", in.Body.WeeklyDays, in.Body.Days))
	}
	remark(ctx, "%d and %d days", in.Body.Days, in.Body.WeeklyDays)
	if err := s.store.SetKeeping(ctx, in.Site, store.Keeping(in.Body)); err != nil {
		return nil, problem(ctx, err)
	}
	return s.siteOutput(ctx, in.Site)
}

func (s *Service) listDue(ctx context.Context, in *SiteInput) (*listOutput[uint64], error) {
	site, err := s.store.Site(ctx, in.Site)
	if err != nil {
		return nil, problem(ctx, err)
	}
	due, err := s.books.Due(ctx, site, time.Now())
	return listOf(due), problem(ctx, err)
}

// thin takes the evidence away that a site no longer keeps.
func (s *sweeper) thin(ctx context.Context, site uint64) (gone []uint64, err error) {
	err = s.aside(ctx, site, func() error {
		release, err := s.books.Hold(site)
		if err != nil {
			return err
		}
		defer release()
		gone, err = s.books.Thin(ctx, site, time.Now())
		return err
	})
	return gone, err
}

// thinEvery is how often it is looked whether evidence is no longer kept.
const thinEvery = time.Hour

// keepEvidence deletes evidence that is older than the site keeps it, until ctx ends. A site that is busy has its turn the next time.
func (s *sweeper) keepEvidence(ctx context.Context) {
	for waitOr(ctx, thinEvery) == nil {
		sites, err := s.store.Sites(ctx)
		if err != nil {
			slog.ErrorContext(ctx, "sites could not be looked through for evidence that is no longer kept", "error", err)
			continue
		}
		for _, site := range sites {
			if due, err := s.books.Due(ctx, site, time.Now()); err != nil || len(due) == 0 {
				continue
			}
			if gone, err := s.thin(ctx, site.ID); err != nil {
				slog.WarnContext(ctx, "evidence that is no longer kept could not be deleted", "site", site.Name, "error", err)
			} else {
				slog.InfoContext(ctx, "evidence that is no longer kept was deleted", "site", site.Name, "sweeps", gone)
			}
		}
	}
}
