package server

import (
	"context"
	"errors"

	"rudmar/core/judge"
	"rudmar/engine/deliver"
	"rudmar/engine/store"
	"rudmar/server/api"
)

// shift returns the traffic shift of a version in a stage; nil if the stage has no traffic shift, and the
// version did not roll back automatically.
func (h *handlers) shift(ctx context.Context, d store.Delivery) (*api.TrafficShift, error) {
	v, err := h.engine.Store.Shift(ctx, d.Service, d.Version, d.Stage)
	if errors.Is(err, store.ErrNotFound) || err == nil && len(v.Steps) == 0 && v.Back == "" {
		return nil, nil //nolint:nilnil // there is none, which is no error
	}
	if err != nil {
		return nil, err
	}
	out := &api.TrafficShift{Active: v.Active, Before: v.Before, Steps: append([]float64{}, v.Steps...), Step: v.Step,
		Share: v.Share(), EveryMs: v.Every.Milliseconds(), PausedBy: api.Optional(v.Held),
		MinInvocations: v.Least(), AtMostMs: v.Longest().Milliseconds(),
		RollbackReason: api.Optional(v.Back), Reason: v.Reason,
		Findings: []api.Finding{}, CompletedSteps: []api.CompletedStep{}}
	if !v.Since.IsZero() {
		out.Since = api.Optional(v.Since.UnixMilli())
	}
	if !v.At.IsZero() && v.Active {
		out.At = api.Optional(v.At.UnixMilli())
	}
	if out.Points, err = convert[[]api.ShiftPoint](append([]store.ShiftPoint{}, v.Points...)); err != nil {
		return nil, err
	}
	for _, t := range v.Taken {
		out.CompletedSteps = append(out.CompletedSteps, api.CompletedStep{At: t.At.UnixMilli(), Share: t.Share,
			Reason: api.Optional(t.Reason)})
	}
	if v.Verdict == nil {
		return out, nil
	}
	outcome := api.FindingOutcome(v.Verdict.Outcome)
	out.Outcome = &outcome
	findings := append([]judge.Finding{}, v.Verdict.Findings...)
	for i := range findings {
		if findings[i].Limit > 0.5 { // judged by a former rule, by the probability of a regression
			findings[i].Limit, findings[i].Chance = 0, 0
		}
	}
	out.Findings, err = convert[[]api.Finding](findings)
	return out, err
}

// steering lists the commands that the user can give to a shift now.
func steering(v *api.TrafficShift) []api.DeliveryAction {
	if v.RollbackReason != nil {
		return nil
	}
	out := []api.DeliveryAction{deliver.Advance}
	if v.PausedBy != nil {
		out = append(out, deliver.Resume)
	} else {
		out = append(out, deliver.Pause)
	}
	return append(out, deliver.Abort)
}
