package service

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/common/expfmt"

	"airdrift/core/finding"
	"airdrift/store"
)

func (s *Service) registerMetrics(humaAPI huma.API) {
	huma.Register(humaAPI, huma.Operation{
		OperationID: "get-metrics", Method: http.MethodGet, Path: "/metrics", Summary: "What is at all sites in figures, for programs that watch (OpenMetrics 1.0)",
		Tags: []string{"metrics"}, Extensions: needs(Look),
		Responses: map[string]*huma.Response{"200": {Description: "The figures", Content: map[string]*huma.MediaType{"application/openmetrics-text": {Schema: &huma.Schema{Type: huma.TypeString}}}}},
	}, s.getMetrics)
}

func (s *Service) getMetrics(ctx context.Context, _ *struct{}) (*huma.StreamResponse, error) {
	figures, err := s.store.Figures(ctx)
	if err != nil {
		return nil, problem(ctx, err)
	}
	waiting, bytes, err := s.sweeper.spool.Waiting()
	if err != nil {
		return nil, problem(ctx, err)
	}
	registry := prometheus.NewPedanticRegistry()
	gauge := func(name, help string, labels ...string) *prometheus.GaugeVec {
		g := prometheus.NewGaugeVec(prometheus.GaugeOpts{Namespace: "airdrift", Name: name, Help: help}, labels)
		registry.MustRegister(g)
		return g
	}
	devices := gauge("devices", "Devices of a site, by standing and kind.", "site", "standing", "kind")
	for _, d := range figures.Devices {
		devices.WithLabelValues(d.Site, d.Standing, d.Kind).Set(float64(d.Devices))
	}
	findings := gauge("findings", "Findings of a site, by severity and state.", "site", "severity", "state")
	for _, f := range figures.Findings {
		findings.WithLabelValues(f.Site, finding.Severity(f.Severity).String(), f.State).Set(float64(f.Findings))
	}
	sweeps := gauge("sweeps", "Sweeps of a site, by state.", "site", "state")
	running := 0
	for _, w := range figures.Sweeps {
		sweeps.WithLabelValues(w.Site, w.State).Set(float64(w.Sweeps))
		if w.State == string(store.Running) {
			running += w.Sweeps
		}
	}
	gauge("sweeps_running", "Sweeps that run now.").WithLabelValues().Set(float64(running))
	gauge("spool_sweeps", "Sweeps of which the spool on disk holds what the database has not been given.").WithLabelValues().Set(float64(waiting))
	gauge("spool_bytes", "Size of the spool on disk, in bytes.").WithLabelValues().Set(float64(bytes))
	gathered, err := registry.Gather()
	if err != nil {
		return nil, problem(ctx, err)
	}
	return &huma.StreamResponse{Body: func(out huma.Context) {
		format := expfmt.NewFormat(expfmt.TypeOpenMetrics)
		out.SetHeader("Content-Type", string(format))
		to := expfmt.NewEncoder(out.BodyWriter(), format)
		for _, family := range gathered {
			if to.Encode(family) != nil {
				return // the client has gone away
			}
		}
		if closer, ok := to.(expfmt.Closer); ok {
			_ = closer.Close() // writes the end of the list
		}
	}}, nil
}
