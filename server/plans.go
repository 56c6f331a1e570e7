package server

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"rudmar/core/canon"
	"rudmar/core/language"
	"rudmar/core/manifest"
	"rudmar/core/plan"
	"rudmar/engine/deliver"
	"rudmar/engine/deploy"
	"rudmar/engine/store"
	"rudmar/server/api"
	"rudmar/server/view"
)

func (h *handlers) SavePlan(ctx context.Context, r api.SavePlanRequestObject) (api.SavePlanResponseObject, error) {
	p, err := h.compute(ctx, manifest.PlaceOf(r.Service, r.Body.Stage, api.OrZero(r.Body.Target)),
		api.OrZero(r.Body.Version), api.OrZero(r.Body.Deletions))
	if err != nil {
		return nil, err
	}
	if shown := api.OrZero(r.Body.Digest); shown != "" && shown != p.Digest {
		return nil, fmt.Errorf("the plan has changed since it was shown; review it again: %w",
			deploy.ErrOutOfDate)
	}
	id, err := h.engine.Store.AddPlan(ctx, who(ctx).person.Username, p)
	if err != nil {
		return nil, err
	}
	out, err := h.keptPlan(ctx, id)
	return api.SavePlan201JSONResponse(out), err
}

func (h *handlers) ComputePlan(ctx context.Context,
	r api.ComputePlanRequestObject) (api.ComputePlanResponseObject, error) {
	p, err := h.compute(ctx, manifest.PlaceOf(r.Service, r.Params.Stage, api.OrZero(r.Params.Target)),
		api.OrZero(r.Params.Version), api.OrZero(r.Params.Deletions))
	if err != nil {
		return nil, err
	}
	out, err := h.shownPlan(ctx, store.Plan{Person: who(ctx).person.Username, CreatedAt: h.engine.Store.Now(), Plan: p})
	return api.ComputePlan200JSONResponse(out), err
}

// compute plans a version for a place; by default the deployed version.
func (h *handlers) compute(ctx context.Context, place manifest.Place, version int,
	deletions []string) (*plan.Plan, error) {
	v, err := h.facts(ctx, place.Service)
	if err != nil {
		return nil, err
	}
	stage := v.Stage(place.Stage)
	if stage == nil {
		return nil, store.NotFound("%s has no stage %s", place.Service, place.Stage)
	}
	if place.Target == (manifest.Target{}) && len(stage.Targets) > 0 {
		place.Target = stage.Targets[0]
	}
	if version == 0 {
		there, err := h.engine.Store.Stage(ctx, place)
		if err != nil {
			return nil, err
		}
		if version = there.Version; version == 0 {
			version = v.Newest
		}
	}
	if version == 0 {
		return nil, badRequest("there is no version yet; push a commit to the branch of the first stage")
	}
	return h.engine.Planner.Foresee(ctx, deploy.Request{Place: place, Version: version, Deletions: deletions})
}

func (h *handlers) GetPlan(ctx context.Context, r api.GetPlanRequestObject) (api.GetPlanResponseObject, error) {
	out, err := h.keptPlan(ctx, r.Id)
	return api.GetPlan200JSONResponse(out), err
}

func (h *handlers) keptPlan(ctx context.Context, id int64) (api.SavedPlan, error) {
	kept, err := h.engine.Store.Plan(ctx, id)
	if err != nil {
		return api.SavedPlan{}, store.Missing(err, "plan %d", id)
	}
	return h.shownPlan(ctx, kept)
}

func (h *handlers) shownPlan(ctx context.Context, kept store.Plan) (api.SavedPlan, error) {
	if len(kept.Plan.Steps) > firstPart {
		h.large.Add(kept.Plan.Digest, kept.Plan)
	}
	var err error
	out := api.SavedPlan{Id: kept.ID, Person: kept.Person, CreatedAt: kept.CreatedAt.UnixMilli(),
		Confirm: api.Optional(kept.Plan.Confirmation())}
	if out.Plan, err = shownAs(kept.Plan, firstPart); err != nil {
		return out, err
	}
	if out.Runnable, err = h.runnable(ctx, kept.Plan); err != nil || out.Runnable.Action != api.RunnableActionRollback {
		return out, err
	}
	b := kept.Plan.Base
	m := &deliver.Impact{Confirm: kept.Plan.Confirmation()}
	why, err := h.engine.Line.RollbackConfirmation(ctx, b.Service, b.Stage, b.Version, m)
	out.Confirm = api.Optional(why)
	return out, err
}

// shownAs returns a plan as shown, with its impact in words; of a large plan, the steps of the first functions.
func shownAs(p *plan.Plan, steps int) (api.Plan, error) {
	part, total := *p, p.Total()
	var next string
	if steps > 0 && total.Steps > steps {
		part.Steps, next = p.Part("", steps)
	}
	out, err := convert[api.Plan](struct {
		*plan.Plan
		Impact  []plan.ImpactLine `json:"impact"` // replaces the impact without sentences
		Changes []string          `json:"changes"`
	}{&part, append([]plan.ImpactLine{}, p.ImpactLines()...), shownChanges(p)})
	if err != nil {
		return out, err
	}
	out.Total, out.Next = api.PlanTotal{Steps: total.Steps, Functions: total.Functions}, api.Optional(next)
	out.Sentence = p.Summary()
	return out, nil
}

// mostChanges is the maximum number of lines of a plan's changes in a response.
const mostChanges = 200

// shownChanges returns the changes of a plan, of a large one the first.
func shownChanges(p *plan.Plan) []string {
	all := append([]string{}, p.Changes()...)
	if more := len(all) - mostChanges; more > 0 {
		all = append(all[:mostChanges], "and "+language.FormatCount(more, "more change"))
	}
	return all
}

// firstPart and laterPart are the approximate numbers of steps of a large plan per response; some large plans
// are cached for the later parts.
const (
	firstPart, laterPart = 1_000, 5_000
	largePlans           = 4
)

// ListPlanSteps returns a part of a plan.
func (h *handlers) ListPlanSteps(ctx context.Context,
	r api.ListPlanStepsRequestObject) (api.ListPlanStepsResponseObject, error) {
	p, known := h.large.Get(r.Params.Digest)
	if id := api.OrZero(r.Params.Plan); !known && id > 0 {
		kept, err := h.engine.Store.Plan(ctx, id)
		if err != nil {
			return nil, store.Missing(err, "plan %d", id)
		}
		p = kept.Plan
		h.large.Add(p.Digest, p)
	}
	if p == nil || p.Base.Service != r.Service || p.Digest != r.Params.Digest {
		return nil, store.NotFound("this plan of %s is no longer available; recompute it", r.Service)
	}
	steps, next := p.Part(r.Params.After, laterPart)
	out, err := convert[[]api.Step](steps)
	return api.ListPlanSteps200JSONResponse{Steps: out, Next: api.Optional(next)}, err
}

func (h *handlers) GetPlanDocument(ctx context.Context,
	r api.GetPlanDocumentRequestObject) (api.GetPlanDocumentResponseObject, error) {
	kept, err := h.engine.Store.Plan(ctx, r.Id)
	if err != nil {
		return nil, store.Missing(err, "plan %d", r.Id)
	}
	plain, err := canon.Plain(kept.Plan)
	if err != nil {
		return nil, err
	}
	text, err := canon.Append(nil, plain)
	return planDocument(text), err
}

// planDocument is a plan's canonical form, sent byte by byte.
type planDocument []byte

// VisitGetPlanDocumentResponse sends it.
func (d planDocument) VisitGetPlanDocumentResponse(w http.ResponseWriter) error {
	w.Header().Set("Content-Type", "application/json")
	_, err := w.Write(d)
	return err
}

func (h *handlers) GetPlanText(ctx context.Context,
	r api.GetPlanTextRequestObject) (api.GetPlanTextResponseObject, error) {
	kept, err := h.engine.Store.Plan(ctx, r.Id)
	if err != nil {
		return nil, store.Missing(err, "plan %d", r.Id)
	}
	lines := map[string][]int{}
	for _, o := range kept.Plan.Origins(plan.MostOrigins) {
		lines[o.File] = append(lines[o.File], int(o.Line))
	}
	commits, err := h.authors(ctx, kept.Plan.Base.Service, kept.Plan.Base.Version, lines)
	if err != nil && !errors.Is(err, store.ErrNotFound) { // the plan of a deleted version is still readable
		return nil, err
	}
	var out strings.Builder
	err = kept.Plan.Write(&out, func(place string) string {
		c, known := commits[place]
		if !known {
			return ""
		}
		return c.Author + ": " + c.Message
	})
	return api.GetPlanText200TextResponse(out.String()), err
}

func (h *handlers) ComparePlans(ctx context.Context,
	r api.ComparePlansRequestObject) (api.ComparePlansResponseObject, error) {
	kept, err := h.engine.Store.Plan(ctx, r.Id)
	if err != nil {
		return nil, store.Missing(err, "plan %d", r.Id)
	}
	older, err := h.engine.Store.Plan(ctx, r.Other)
	if err != nil {
		return nil, store.Missing(err, "plan %d", r.Other)
	}
	out, err := convert[api.PlanDifference](kept.Plan.Against(older.Plan))
	return api.ComparePlans200JSONResponse(out), err
}

// runnable returns how a plan is run.
func (h *handlers) runnable(ctx context.Context, p *plan.Plan) (api.Runnable, error) {
	rows, err := h.engine.Store.Deliveries(ctx, p.Base.Service)
	if err != nil {
		return api.Runnable{}, err
	}
	was := slices.ContainsFunc(rows, func(d store.Delivery) bool {
		return d.Stage == p.Base.Stage && d.Version == p.Base.Version && len(d.Deployments) > 0
	})
	return view.Runnable(p, was), nil
}

func (h *handlers) RunPlan(ctx context.Context, r api.RunPlanRequestObject) (api.RunPlanResponseObject, error) {
	person := who(ctx).person
	kept, err := h.engine.Store.Plan(ctx, r.Id)
	if err != nil {
		return nil, store.Missing(err, "plan %d", r.Id)
	}
	b := kept.Plan.Base
	if reason := kept.Plan.Confirmation(); reason != "" && api.OrZero(r.Body.Confirm) != b.Stage {
		return nil, badRequest(fmt.Sprintf("%s: type the stage's name, %s, to confirm", reason, b.Stage))
	}
	how, err := h.runnable(ctx, kept.Plan)
	if err != nil {
		return nil, err
	}
	switch how.Action {
	case api.RunnableActionRun:
		id, err := h.engine.Runner.Start(ctx, r.Id, person.Username)
		return api.RunPlan201JSONResponse{Deployment: id}, err
	case api.RunnableActionRollback:
		return api.RunPlan201JSONResponse{}, h.goBack(ctx, kept, r.Body)
	}
	return nil, badRequest(how.Reason)
}

// goBack rolls a stage back by a plan that somebody has seen, which must equal the present plan.
func (h *handlers) goBack(ctx context.Context, kept store.Plan, wish *api.RunRequest) error {
	b := kept.Plan.Base
	if err := h.engine.Runner.Check(ctx, kept.ID); err != nil {
		return err
	}
	m, err := h.engine.Line.ImpactOf(ctx, b.Service, b.Stage, b.Version)
	if err != nil {
		return err
	}
	if !slices.Equal(m.Lines, kept.Plan.Facts()) {
		return badRequest(fmt.Sprintf(
			"%s has other targets than %s, which change with it: roll back on the page of version %d in %s, which shows all of them", b.Stage, b.Target, b.Version, b.Stage))
	}
	return h.engine.Line.RollBackTo(ctx, b.Service, b.Version, b.Stage,
		deliver.Command{By: who(ctx).person, Shown: m.Digest, Confirm: api.OrZero(wish.Confirm),
			Comment: api.OrZero(wish.Reason)})
}

func deploymentOf(d store.Deployment) api.Deployment {
	out := api.Deployment{Id: d.ID, Plan: d.Plan, Service: d.Service, Stage: d.Stage,
		Target: d.Target.String(), Version: d.Version,
		State: api.DeploymentState(d.State), Reason: d.Reason, Person: d.Person, StartedAt: d.StartedAt.UnixMilli()}
	if !d.EndedAt.IsZero() {
		out.EndedAt = d.EndedAt.UnixMilli()
	}
	return out
}

func (h *handlers) ListDeployments(ctx context.Context,
	r api.ListDeploymentsRequestObject) (api.ListDeploymentsResponseObject, error) {
	list, err := h.engine.Store.Deployments(ctx, r.Service, "", 50)
	out := api.ListDeployments200JSONResponse{}
	for _, d := range list {
		out = append(out, deploymentOf(d))
	}
	return out, err
}

func (h *handlers) GetDeployment(ctx context.Context,
	r api.GetDeploymentRequestObject) (api.GetDeploymentResponseObject, error) {
	d, err := h.engine.Store.Deployment(ctx, r.Id)
	if err != nil {
		return nil, store.Missing(err, "deployment %d", r.Id)
	}
	kept, err := h.engine.Store.Plan(ctx, d.Plan)
	if err != nil {
		return nil, err
	}
	states, err := h.engine.Store.Steps(ctx, d.ID)
	if err != nil {
		return nil, err
	}
	out := api.DeploymentDetail{Deployment: deploymentOf(d), Steps: []api.DeploymentStep{},
		Retryable: d.State == store.PartiallySucceeded || d.State == store.Failed}
	for _, s := range states {
		step := kept.Plan.Steps[s.Step]
		row := api.DeploymentStep{Index: s.Step, Address: s.Address, Change: string(step.Change), Phase: step.Phase,
			State: api.StepState(s.State), Error: s.Error, Attempts: s.Attempts}
		if !s.StartedAt.IsZero() {
			row.StartedAt = s.StartedAt.UnixMilli()
		}
		if !s.EndedAt.IsZero() {
			row.EndedAt = s.EndedAt.UnixMilli()
		}
		out.Steps = append(out.Steps, row)
	}
	out.Outputs, err = h.outputs(ctx, d.Place)
	return api.GetDeployment200JSONResponse(out), err
}

func words(v any) string {
	list, _ := v.([]any)
	out := make([]string, 0, len(list))
	for _, w := range list {
		out = append(out, textOf(w))
	}
	return strings.Join(out, ", ")
}

func (h *handlers) ActOnDeployment(ctx context.Context,
	r api.ActOnDeploymentRequestObject) (api.ActOnDeploymentResponseObject, error) {
	var err error
	if r.Action == "cancel" {
		err = h.engine.Runner.Cancel(ctx, r.Id)
	} else {
		err = h.engine.Runner.Retry(ctx, r.Id, who(ctx).person.Username)
	}
	return api.ActOnDeployment204Response{}, err
}
