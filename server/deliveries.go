package server

import (
	"context"
	"encoding/json"
	"slices"
	"time"

	"rudmar/core/delivery"
	"rudmar/core/resource"
	"rudmar/core/rights"
	"rudmar/engine/deliver"
	"rudmar/engine/deploy"
	"rudmar/engine/store"
	"rudmar/server/api"
)

func deliveryPlace(d store.Delivery, gates []delivery.Gate) api.DeliveryPlace {
	out := api.DeliveryPlace{Stage: d.Stage, State: api.DeliveryState(d.State), Since: d.Since.UnixMilli(),
		Reason: d.Reason}
	if d.State == delivery.Waiting {
		out.BlockedBy = api.Optional(delivery.BlockedBy(gates))
	}
	if d.Choice != nil && !d.Rest {
		out.Only = &d.Choice.Functions
	}
	return out
}

func (h *handlers) ListDeliveries(ctx context.Context,
	r api.ListDeliveriesRequestObject) (api.ListDeliveriesResponseObject, error) {
	versions, err := h.engine.Store.ListVersions(ctx, r.Service, store.Part{Before: int64(api.OrZero(r.Params.Before)),
		Text: api.OrZero(r.Params.Text), State: string(api.OrZero(r.Params.State)), Limit: partSize})
	if err != nil {
		return nil, err
	}
	numbers := make([]int, len(versions))
	for i, v := range versions {
		numbers[i] = v.Number
	}
	rows, err := h.engine.Store.DeliveriesOf(ctx, r.Service, numbers...)
	if err != nil {
		return nil, err
	}
	judged, err := h.engine.Line.GateResults(ctx, r.Service, 0) // of all waiting deliveries
	if err != nil {
		return nil, err
	}
	places := map[int][]api.DeliveryPlace{}
	for _, d := range rows {
		gates := judged[deliver.Key{Version: d.Version, Stage: d.Stage}].Gates
		place := deliveryPlace(d, gates)
		if open := delivery.Open(gates); d.State == delivery.Waiting && place.Reason == "" && len(open) > 0 {
			place.Reason = open[0]
		}
		places[d.Version] = append(places[d.Version], place)
	}
	out := api.ListDeliveries200JSONResponse{}
	for _, v := range versions {
		if places[v.Number] != nil {
			out = append(out, api.Delivery{Version: v.Number, Author: v.Author, Person: v.Person, Message: v.Message,
				At: v.BuiltAt.UnixMilli(), Stages: places[v.Number]})
		}
	}
	return out, nil
}

func (h *handlers) GetDeliveryStage(ctx context.Context,
	r api.GetDeliveryStageRequestObject) (api.GetDeliveryStageResponseObject, error) {
	d, err := h.engine.Store.Delivery(ctx, r.Service, r.Version, r.Stage)
	if err != nil {
		return nil, store.Missing(err, "version %d in %s", r.Version, r.Stage)
	}
	judged, err := h.engine.Line.GateResults(ctx, r.Service, r.Version)
	if err != nil {
		return nil, err
	}
	gates := judged[deliver.Key{Version: r.Version, Stage: r.Stage}].Gates
	out := api.DeliveryStage{Place: deliveryPlace(d, gates), Summary: delivery.Summary(gates), Approvals: []api.Approval{},
		Cases: []api.CaseRun{}, Deployments: d.Deployments, Digests: []api.DigestPair{}}
	if n := len(d.Deployments); n > 0 && d.State != delivery.Waiting {
		newest, err := h.engine.Store.Deployment(ctx, d.Deployments[n-1])
		if err != nil {
			return nil, err
		}
		out.Plan = &newest.Plan
	}
	if out.Gates, err = convert[[]api.Gate](append([]delivery.Gate{}, gates...)); err != nil {
		return nil, err
	}
	for i, g := range gates {
		out.Gates[i].Overridable = api.Optional(g.Overridable())
	}
	approvals, err := h.engine.Store.Approvals(ctx, r.Service, r.Version, r.Stage)
	if err != nil {
		return nil, err
	}
	for _, a := range approvals {
		out.Approvals = append(out.Approvals, api.Approval{Person: a.Person, Comment: a.Comment, At: a.At.UnixMilli()})
	}
	if out.Cases, err = h.caseRuns(ctx, d); err != nil {
		return nil, err
	}
	if out.Digests, err = h.digests(ctx, d); err != nil {
		return nil, err
	}
	left, err := h.engine.Line.Excluded(ctx, d)
	if err != nil {
		return nil, err
	}
	if len(left) > 0 {
		out.Remaining = &left
	}
	looks, err := h.engine.Store.Viewers(ctx, d)
	if err != nil {
		return nil, err
	}
	looked := []api.Viewer{}
	for _, l := range looks {
		looked = append(looked, api.Viewer{Person: l.Person, At: l.At.UnixMilli()})
	}
	out.Viewers = &looked
	out.Actions = h.actions(ctx, d, gates)
	out.Partial = may(ctx, rights.Request, d.Service, d.Stage) == nil && h.engine.Line.AllowsPartial(ctx, d)
	if d.State == delivery.Waiting && slices.ContainsFunc(approvals, func(a store.Approval) bool {
		return a.Person == who(ctx).person.Username
	}) {
		out.Actions = append(out.Actions, api.DeliveryActionWithdraw)
	}
	if out.Shift, err = h.shift(ctx, d); err != nil {
		return nil, err
	}
	if out.Shift != nil && out.Shift.Active && d.State == delivery.Shifting &&
		may(ctx, rights.Deploy, d.Service, d.Stage) == nil {
		out.Actions = append(out.Actions, steering(out.Shift)...)
	}
	return api.GetDeliveryStage200JSONResponse(out), nil
}

func (h *handlers) caseRuns(ctx context.Context, d store.Delivery) ([]api.CaseRun, error) {
	runs, err := h.engine.Store.CaseRuns(ctx, d.Service, d.Version, d.Stage)
	if err != nil {
		return nil, err
	}
	out := []api.CaseRun{}
	for _, run := range runs {
		if run.Running {
			out = append(out, api.CaseRun{Target: run.Target, Function: run.Function, File: run.File, Name: run.Name,
				Running: &run.Running, Again: &run.Again, At: run.At.UnixMilli(), Outcomes: []api.CaseOutcome{}})
			continue
		}
		var found deliver.Found
		if err := json.Unmarshal([]byte(run.Body), &found); err != nil {
			return nil, err
		}
		c := api.CaseRun{Target: run.Target, Function: run.Function, File: run.File, Name: run.Name, Passed: run.Passed,
			Again: &run.Again, At: run.At.UnixMilli()}
		if err := showFound(&c, found); err != nil {
			return nil, err
		}
		out = append(out, c)
	}
	return out, nil
}

// digests compares the archives of the version with those deployed in the stage.
func (h *handlers) digests(ctx context.Context, d store.Delivery) ([]api.DigestPair, error) {
	functions, err := h.engine.Store.VersionFunctions(ctx, d.Service, d.Version)
	if err != nil {
		return nil, err
	}
	places, err := h.engine.Store.Stages(ctx, d.Service)
	if err != nil {
		return nil, err
	}
	there := map[string]string{}
	for _, p := range places {
		if p.Stage != d.Stage {
			continue
		}
		record, err := h.engine.Store.Record(ctx, p.Place)
		if err != nil {
			return nil, err
		}
		for _, r := range record {
			if r.Kind == resource.Revision {
				there[r.Function] = textOf(r.Attributes["artifact"])
			}
		}
	}
	out := []api.DigestPair{}
	for _, f := range functions {
		out = append(out, api.DigestPair{Function: f.Function, Digest: f.Digest, Deployed: there[f.Function]})
	}
	return out, nil
}

// actions returns the actions on a delivery that the signed-in user can take now.
func (h *handlers) actions(ctx context.Context, d store.Delivery, gates []delivery.Gate) []api.DeliveryAction {
	can := func(a rights.Permission) bool { return may(ctx, a, d.Service, d.Stage) == nil }
	out := []api.DeliveryAction{}
	for _, g := range gates {
		if d.State == delivery.Waiting && g.State == delivery.GateWaiting {
			if g.Kind == delivery.RequestGate && can(rights.Request) {
				out = append(out, api.DeliveryActionRequest)
			}
			if g.Kind == delivery.ApprovalsGate && can(rights.Approve) && !slices.Contains(out, api.DeliveryActionApprove) {
				out = append(out, api.DeliveryActionApprove)
			}
		}
	}
	if d.State == delivery.Settled && d.Choice != nil && can(rights.Request) {
		if there, err := h.exists(ctx, d); err == nil && there {
			out = append(out, api.DeliveryActionRequestRemaining)
		}
	}
	if d.State == delivery.Waiting && can(rights.Override) && slices.ContainsFunc(gates, delivery.Gate.Overridable) {
		out = append(out, api.DeliveryActionOverride)
	}
	if (d.State == delivery.Waiting || d.State == delivery.Failed) && can(rights.Approve) {
		out = append(out, api.DeliveryActionReject)
	}
	if d.State == delivery.Failed && can(rights.Deploy) {
		out = append(out, api.DeliveryActionRetry)
	}
	if _, err := delivery.Next(d.State, delivery.Redeploy); err == nil && len(d.Deployments) > 0 && can(rights.Deploy) {
		if there, err := h.exists(ctx, d); err == nil && !there {
			out = append(out, api.DeliveryActionRollback)
		}
	}
	return out
}

// GetImpact computes the present plan and impact of a version in a stage.
func (h *handlers) GetImpact(ctx context.Context, r api.GetImpactRequestObject) (api.GetImpactResponseObject,
	error) {
	line, functions := h.engine.Line, api.OrZero(r.Params.Functions)
	var m *deliver.Impact
	var chosen *deploy.Chosen
	var err error
	if len(functions) > 0 || api.OrZero(r.Params.Rest) {
		chosen = &deploy.Chosen{}
		m, chosen.Choice, err = line.ImpactOfSelection(ctx, r.Service, r.Stage, r.Version, functions)
	} else {
		m, err = line.ImpactOf(ctx, r.Service, r.Stage, r.Version)
	}
	if err != nil {
		return nil, err
	}
	out := api.Impact{Digest: m.Digest, Confirm: api.Optional(m.Confirm), Lines: []string{}, Targets: []api.TargetImpact{}}
	for _, p := range m.Plans() {
		t := api.TargetImpact{Target: p.Base.Target.String(), From: p.Base.From, Steps: len(p.Steps),
			Functions: p.Functions(), Changes: shownChanges(p)}
		wish := deploy.Request{Place: p.Base.Place, Version: p.Base.Version, Chosen: chosen}
		if foreseen, err := h.engine.Planner.Foresee(ctx, wish); err == nil && foreseen.Digest == p.Digest {
			p = foreseen // the same plan, with new observations
		}
		t.Sentence = p.Summary()
		if t.Impact, err = convert[[]api.ImpactLine](p.ImpactLines()); err != nil {
			return nil, err
		}
		if t.Blockers, err = convert[[]api.Blocker](p.Blockers); err != nil {
			return nil, err
		}
		out.Targets = append(out.Targets, t)
		on := ""
		if len(m.Plans()) > 1 {
			on = " on " + t.Target
		}
		for _, line := range t.Changes {
			out.Lines = append(out.Lines, line+on)
		}
		for _, line := range t.Impact {
			out.Lines = append(out.Lines, line.Text+on)
		}
	}
	d, err := h.engine.Store.Delivery(ctx, r.Service, r.Version, r.Stage)
	if err != nil {
		return nil, err
	}
	if d.State != delivery.Waiting { // it would be redeployed
		why, err := line.RollbackConfirmation(ctx, r.Service, r.Stage, r.Version, m)
		if err != nil {
			return nil, err
		}
		out.Confirm = api.Optional(why)
	}
	if d.State == delivery.Waiting {
		if err := h.engine.Store.RecordView(ctx, d, who(ctx).person.Username); err != nil {
			return nil, err
		}
	}
	if line.AllowsPartial(ctx, d) {
		differing, err := line.Differing(ctx, r.Service, r.Stage, r.Version)
		if err != nil {
			return nil, err
		}
		out.Differing = &differing
	}
	return api.GetImpact200JSONResponse(out), nil
}

func (h *handlers) exists(ctx context.Context, d store.Delivery) (bool, error) {
	places, err := h.engine.Store.Stages(ctx, d.Service)
	there := false
	for _, p := range places {
		there = there || p.Stage == d.Stage && p.Version == d.Version
	}
	return there, err
}

func (h *handlers) ActOnDelivery(ctx context.Context,
	r api.ActOnDeliveryRequestObject) (api.ActOnDeliveryResponseObject, error) {
	line, say := h.engine.Line,
		deliver.Command{By: who(ctx).person, Comment: api.OrZero(r.Body.Comment), Shown: api.OrZero(r.Body.ImpactDigest),
			Confirm: api.OrZero(r.Body.Confirm), Functions: api.OrZero(r.Body.Functions)}
	if at := api.OrZero(r.Body.At); at > 0 {
		say.At = time.UnixMilli(at)
	}
	var err error
	switch r.Action {
	case api.DeliveryActionRequest:
		err = line.Request(ctx, r.Service, r.Version, r.Stage, say)
	case api.DeliveryActionApprove:
		err = line.Approve(ctx, r.Service, r.Version, r.Stage, say)
	case api.DeliveryActionReject:
		err = line.Refuse(ctx, r.Service, r.Version, r.Stage, say.By, say.Comment)
	case api.DeliveryActionRetry:
		err = line.Retry(ctx, r.Service, r.Version, r.Stage, say.By)
	case api.DeliveryActionWithdraw:
		err = line.WithdrawApproval(ctx, r.Service, r.Version, r.Stage, say.By)
	case api.DeliveryActionOverride:
		err = line.Override(ctx, r.Service, r.Version, r.Stage, api.OrZero(r.Body.Gate), say)
	case api.DeliveryActionPause, api.DeliveryActionResume, api.DeliveryActionAdvance, api.DeliveryActionAbort:
		err = line.Steer(ctx, r.Service, r.Version, r.Stage, string(r.Action), say.By, say.Comment)
	case api.DeliveryActionRequestRemaining:
		err = line.Follow(ctx, r.Service, r.Version, r.Stage, say)
	case api.DeliveryActionRollback:
		err = line.RollBackTo(ctx, r.Service, r.Version, r.Stage, say)
	default:
		err = badRequest("unknown action " + string(r.Action))
	}
	return api.ActOnDelivery204Response{}, err
}
