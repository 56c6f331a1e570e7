package server

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"rudmar/core/diagnostic"
	"rudmar/core/manifest"
	"rudmar/engine/deploy"
	"rudmar/engine/store"
	"rudmar/server/api"
)

// SketchPlan plans an edit that nobody has committed.
func (h *handlers) SketchPlan(ctx context.Context,
	r api.SketchPlanRequestObject) (api.SketchPlanResponseObject, error) {
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
	out := api.Sketch{Plan: api.Plan{Steps: []api.Step{}, Says: []api.PlanLine{}, Problems: []api.PlanProblem{}}}
	if out.Errors, err = convert[[]api.Diagnostic](append([]diagnostic.Diagnostic{}, wrong...)); err != nil {
		return nil, err
	}
	if len(wrong) > 0 || result.Service == nil {
		return api.SketchPlan200JSONResponse(out), nil
	}
	stage := result.Service.Stage(r.Body.Stage)
	if stage == nil || len(stage.Targets) == 0 {
		return nil, fmt.Errorf("the edit has no stage %s: %w", r.Body.Stage, store.ErrNotFound)
	}
	place := manifest.PlaceOf(r.Service, r.Body.Stage, api.OrZero(r.Body.Onto))
	if place.Target == (manifest.Target{}) {
		place.Target = stage.Targets[0]
	}
	newest, err := h.engine.Store.NewestVersion(ctx, r.Service)
	if err != nil {
		return nil, err
	}
	if newest == 0 {
		return nil, badRequest("there is no version yet to compare the edit with; push a commit to the branch that the first stage takes")
	}
	version, err := h.engine.Store.Version(ctx, r.Service, newest)
	if err != nil {
		return nil, err
	}
	code := editedCode(result.Service, r.Body.Files)
	if folder, ok := over.Under.(manifest.Stamped); ok { // what the branch itself has otherwise counts too
		committed, err := h.engine.Branches.Differing(ctx, result.Service, folder, over.Under.Files(), version)
		if err != nil {
			return nil, err
		}
		for fn, files := range committed {
			code[fn] = slices.Compact(slices.Sorted(slices.Values(slices.Concat(code[fn], files))))
		}
	}
	p, err := h.engine.Planner.Sketch(ctx,
		deploy.Draft{Place: place, Version: newest, Service: result.Service, Code: code})
	if err != nil {
		return nil, err
	}
	var text strings.Builder
	if err := p.Write(&text); err != nil {
		return nil, err
	}
	out.Text = text.String()
	out.Plan, err = shownAs(p)
	return api.SketchPlan200JSONResponse(out), err
}

// editedCode gives, per function, the edited files that its archive would have.
func editedCode(s *manifest.Service, files map[string]*string) map[string][]string {
	out := map[string][]string{}
	for _, fn := range s.Functions {
		for name := range files {
			if strings.HasPrefix(name, fn.Code+"/") && !manifest.IsManifest(name) {
				out[fn.Name] = append(out[fn.Name], name)
			}
		}
		slices.Sort(out[fn.Name])
	}
	return out
}
