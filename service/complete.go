package service

import (
	"context"
	"math"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"airdrift/api"
	"airdrift/books"
	"airdrift/core/complete"
	"airdrift/core/wording"
)

func (s *Service) registerCompleteness(humaAPI huma.API) {
	huma.Register(humaAPI, huma.Operation{
		OperationID: "get-completeness", Method: http.MethodGet, Path: "/api/v1/sites/{site}/completeness", Summary: "How many devices were missed, by the agreement of the ways of looking",
		Tags: []string{"findings"}, Extensions: needs(Look),
	}, s.getCompleteness)
}

func (s *Service) getCompleteness(ctx context.Context, in *struct {
	SiteInput
	Sweep uint64 `query:"sweep" doc:"Number of a sweep; of each network the latest that looked through it where left out"`
}) (*struct{ Body api.Completeness }, error) {
	figures, unswept, err := s.books.Complete(ctx, in.Site, in.Sweep)
	if err != nil {
		return nil, problem(ctx, err)
	}
	words := wording.In(wording.Default)
	out := api.Completeness{Networks: []api.CompletenessFigure{}, Unswept: []string{}, Assumptions: words.Assumptions}
	parts := make([]complete.Figure, len(figures))
	for i, f := range figures {
		parts[i] = f.Figure
		out.Networks = append(out.Networks, toCompleteness(f, words))
	}
	out.Site = toFigure(complete.Sum(parts), words)
	for _, n := range unswept {
		out.Unswept = append(out.Unswept, n.Name)
	}
	return &struct{ Body api.Completeness }{out}, nil
}

func toCompleteness(c books.Completeness, words *wording.Catalogue) api.CompletenessFigure {
	out := toFigure(c.Figure, words)
	out.Network, out.Subnet, out.Sweep, out.At = c.Network.Name, c.Subnet.String(), c.Sweep.ID, &c.Sweep.Began
	return out
}

func toFigure(f complete.Figure, words *wording.Catalogue) api.CompletenessFigure {
	tenth := func(devices float64) float64 { return math.Round(devices*10) / 10 }
	out := api.CompletenessFigure{
		Seen: f.Seen, Listed: f.Listed, Told: f.Told, Missed: tenth(f.Missed), Low: tenth(f.Low), High: tenth(f.High), AtLeast: tenth(f.AtLeast), Ways: []api.WayCount{}, Advice: []string{},
	}
	for _, w := range f.Ways {
		out.Ways = append(out.Ways, api.WayCount{Way: words.Ways[string(w.Way)], Devices: w.Devices, Alone: w.Alone})
	}
	for _, a := range f.Advice {
		out.Advice = append(out.Advice, words.Advice[string(a)])
	}
	return out
}
