package server

import (
	"context"
	"fmt"

	"rudmar/core/cases"
	"rudmar/engine/deliver"
	"rudmar/engine/store"
	"rudmar/server/api"
)

// RunCases runs the saved cases of a stage's deployed functions, now.
func (h *handlers) RunCases(ctx context.Context, r api.RunCasesRequestObject) (api.RunCasesResponseObject, error) {
	places, err := h.engine.Store.Stages(ctx, r.Service)
	if err != nil {
		return nil, err
	}
	out, there := api.RunCases200JSONResponse{}, false
	for _, p := range places {
		if p.Stage != r.Stage || p.Version == 0 {
			continue
		}
		there = true
		service, _, err := h.engine.Planner.Service(ctx, r.Service, p.Version)
		if err != nil {
			return nil, err
		}
		_, scope, err := h.engine.Planner.Platform(p.Place)
		if err != nil {
			return nil, err
		}
		runs, err := h.engine.Line.RunCases(ctx, p.Place, scope, service, api.OrZero(r.Params.Function))
		if err != nil {
			return nil, err
		}
		shown, err := h.shownRuns(runs)
		if err != nil {
			return nil, err
		}
		out = append(out, shown...)
	}
	if !there {
		return nil, store.NotFound("nothing of %s is deployed in %s", r.Service, r.Stage)
	}
	return out, h.engine.Store.Note(ctx, store.Entry{Person: who(ctx).person.Username, Service: r.Service, Stage: r.Stage,
		What: "cases run", Text: fmt.Sprintf("%d cases", len(out))})
}

// shownRuns returns runs of cases as the API has them, with the whole call of each.
func (h *handlers) shownRuns(runs []deliver.CaseRun) ([]api.CaseRun, error) {
	out := []api.CaseRun{}
	for _, run := range runs {
		shown := api.CaseRun{Target: run.Target.String(), Function: run.Function, File: run.File, Name: run.Name,
			Passed: run.Passed, At: h.engine.Store.Now().UnixMilli()}
		if err := showFound(&shown, run.Found); err != nil {
			return nil, err
		}
		out = append(out, shown)
	}
	return out, nil
}

// showFound converts the outcome of a case.
func showFound(shown *api.CaseRun, found deliver.Found) (err error) {
	shown.Sent, shown.Attempts = &found.Call.Event, api.Optional(found.Attempts)
	shown.Address, shown.Direct = api.Optional(found.Address), api.Optional(found.Direct)
	if shown.Outcomes, err = convert[[]api.CaseOutcome](append([]cases.Outcome{}, found.Outcomes...)); err != nil {
		return err
	}
	invocation, err := convert[api.Invocation](found.Invocation)
	shown.Invocation = &invocation
	return err
}
