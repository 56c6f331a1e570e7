package server

import (
	"context"
	"slices"
	"time"

	"rudmar/core/manifest"
	"rudmar/core/metrics"
	"rudmar/core/resource"
	"rudmar/engine/deploy"
	wire "rudmar/platform/api"
	"rudmar/server/api"
)

// shownPoints is how many points a series has at most.
const shownPoints = 60

func (h *handlers) GetMetrics(ctx context.Context, r api.GetMetricsRequestObject) (api.GetMetricsResponseObject,
	error) {
	client, scope, err := h.engine.Planner.Platform(manifest.PlaceOf(r.Service, r.Stage, r.Params.Target))
	if err != nil {
		return nil, err
	}
	back := time.Duration(r.Params.Minutes) * time.Minute
	width := back / shownPoints
	to := h.engine.Store.Now().Truncate(width).Add(width)
	from := to.Add(-back)
	minutes, err := client.Metrics(ctx, scope, from)
	if err != nil {
		return nil, err
	}
	kinds, err := client.Kinds(ctx)
	if err != nil {
		return nil, err
	}
	snapshot, err := client.Snapshot(ctx, scope)
	if err != nil {
		return nil, err
	}
	measured := measuredOf(minutes, r.Function)
	out := api.FunctionMetrics{From: from.UnixMilli(), WidthMs: width.Milliseconds(), Points: []api.MetricsPoint{},
		Revisions: []api.RevisionMetrics{}}
	for _, p := range metrics.Series(measured, from.UnixMilli(), to.UnixMilli(), width.Milliseconds()) {
		out.Points = append(out.Points,
			api.MetricsPoint{At: p.At, Invocations: p.Invocations, Errors: p.Errors, Throttled: p.Throttled, Cold: p.Cold,
				P50: p.Quantile(0.5), P95: p.Quantile(0.95), MemoryPeak: p.MemoryPeak})
	}
	total := metrics.Sum{}
	for _, m := range metrics.ByRevision(measured) {
		total.Add(m.Sum)
		out.Revisions = append(out.Revisions,
			api.RevisionMetrics{Revision: m.Revision, Version: api.Optional(m.Version), Invocations: m.Invocations,
				Errors:    m.Errors,
				Throttled: m.Throttled, Cold: m.Cold,
				P50: m.Quantile(0.5), P95: m.Quantile(0.95), P99: m.Quantile(0.99), MaxMs: m.MaxMs, MemoryPeak: m.MemoryPeak,
				ErrorKinds: m.ErrorKinds})
	}
	out.Durations = stepsOf(total.Durations)
	i := slices.IndexFunc(snapshot.Resources,
		func(res wire.Resource) bool { return res.Address == resource.Function+"/"+r.Function })
	if i < 0 {
		return api.GetMetrics200JSONResponse(out), nil
	}
	memory, _ := snapshot.Resources[i].Attributes["memory"].(float64)
	limit := int64(memory)
	out.MemoryLimit = &limit
	out.Cost, err = costOf(total, limit, kinds.Prices)
	return api.GetMetrics200JSONResponse(out), err
}

// measuredOf converts a platform's metrics of a function.
func measuredOf(minutes []wire.MinuteSum, function string) []metrics.Measured {
	var out []metrics.Measured
	for _, m := range minutes {
		if m.Function != function {
			continue
		}
		out = append(out, metrics.Measured{At: m.Minute, Revision: m.Revision, Version: api.OrZero(m.Version),
			Sum: deploy.Sum(m)})
	}
	return out
}

// stepsOf converts the buckets of a histogram.
func stepsOf(h metrics.Histogram) []api.DurationStep {
	out := []api.DurationStep{}
	for _, b := range h.Steps() {
		out = append(out, api.DurationStep{UpToMs: b.UpTo, Invocations: b.Invocations})
	}
	return out
}

// costOf returns the cost of invocations by a platform's price list; nil if it has none.
func costOf(total metrics.Sum, limit int64, prices []wire.Price) (*api.Cost, error) {
	rates := deploy.Rates(prices)
	if rates.Currency == "" {
		return nil, nil
	}
	amount, how, err := metrics.Cost(total, limit, rates)
	return &api.Cost{Amount: amount, Currency: rates.Currency, How: how}, err
}
