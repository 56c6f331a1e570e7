package server

import (
	"context"
	"time"

	"rudmar/core/measure"
	"rudmar/server/api"
)

// before is the additional period that is read, so a version that settles again is not counted as new.
const before = 365 * 24 * time.Hour

// GetDeliveryMetrics reports how a stage is delivered to.
func (h *handlers) GetDeliveryMetrics(ctx context.Context,
	r api.GetDeliveryMetricsRequestObject) (api.GetDeliveryMetricsResponseObject,
	error) {
	now := h.engine.Store.Now()
	since := measure.Monday(now).AddDate(0, 0, -7*r.Params.Weeks).Add(-before)
	passages, err := h.engine.Store.Passages(ctx, r.Service, since)
	if err != nil {
		return nil, err
	}
	m := measure.Of(r.Params.Stage, passages, now, r.Params.Weeks)
	out := api.GetDeliveryMetrics200JSONResponse{Stage: m.Stage, LeadTimeMs: m.Lead.Milliseconds(), PerWeek: m.PerWeek,
		ChangeFailureRate: m.ChangeFailureRate, RecoveryTimeMs: m.Restore.Milliseconds(), Weeks: []api.DeliveryWeek{}}
	for _, w := range m.Weeks {
		week := api.DeliveryWeek{Begin: w.Begin.UnixMilli(), LeadTimeMs: w.Lead.Milliseconds(),
			Delivered: []api.DeliveredVersion{}, Failed: []api.FailedVersion{}}
		for _, d := range w.Delivered {
			week.Delivered = append(week.Delivered, api.DeliveredVersion{Version: d.Version, At: d.At.UnixMilli(),
				LeadTimeMs: d.Lead.Milliseconds()})
		}
		for _, f := range w.Failed {
			failed := api.FailedVersion{Version: f.Version, At: f.At.UnixMilli(), State: api.DeliveryState(f.State)}
			if !f.Until.IsZero() {
				failed.Until = api.Optional(f.Until.UnixMilli())
			}
			week.Failed = append(week.Failed, failed)
		}
		out.Weeks = append(out.Weeks, week)
	}
	return out, nil
}
