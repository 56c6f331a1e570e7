package server

import (
	"context"
	"strings"

	"rudmar/core/diagnostic"
	"rudmar/core/manifest"
	"rudmar/engine/store"
	"rudmar/server/api"
)

// DraftPlan plans an uncommitted edit.
func (h *handlers) DraftPlan(ctx context.Context,
	r api.DraftPlanRequestObject) (api.DraftPlanResponseObject, error) {
	over, result, err := h.edited(ctx, r.Service, r.Body.Branch, r.Body.Files)
	if err != nil {
		return nil, err
	}
	var wrong []diagnostic.Diagnostic
	for _, d := range result.Diagnostics {
		if d.Severity == diagnostic.Error {
			wrong = append(wrong, d)
		}
	}
	out := api.DraftPlan{Plan: api.Plan{Steps: []api.Step{}, Impact: []api.ImpactLine{}, Blockers: []api.Blocker{}}}
	if out.Errors, err = convert[[]api.Diagnostic](append([]diagnostic.Diagnostic{}, wrong...)); err != nil {
		return nil, err
	}
	if len(wrong) > 0 || result.Service == nil {
		return api.DraftPlan200JSONResponse(out), nil
	}
	stage := result.Service.Stage(r.Body.Stage)
	if stage == nil || len(stage.Targets) == 0 {
		return nil, store.NotFound("the edit has no stage %s", r.Body.Stage)
	}
	place := manifest.PlaceOf(r.Service, r.Body.Stage, api.OrZero(r.Body.Target))
	if place.Target == (manifest.Target{}) {
		place.Target = stage.Targets[0]
	}
	p, err := h.engine.Branches.DraftPlan(ctx, place, result.Service, over)
	if err != nil {
		return nil, err
	}
	var text strings.Builder
	if err := p.Write(&text, nil); err != nil {
		return nil, err
	}
	out.Text = text.String()
	out.Plan, err = shownAs(p, api.OrZero(r.Body.Steps))
	return api.DraftPlan200JSONResponse(out), err
}
