package server

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"rudmar/core/delivery"
	"rudmar/core/resource"
	"rudmar/engine/deliver"
	"rudmar/engine/people"
	"rudmar/engine/store"
	"rudmar/server/api"
)

func deliveryPlace(d store.Delivery) api.DeliveryPlace {
	return api.DeliveryPlace{Stage: d.Stage, State: string(d.State), Since: d.Since.UnixMilli(), Why: d.Why}
}

func (h *handlers) ListDeliveries(ctx context.Context, r api.ListDeliveriesRequestObject) (api.ListDeliveriesResponseObject, error) {
	versions, err := h.engine.Store.Versions(ctx, r.Service)
	if err != nil {
		return nil, err
	}
	rows, err := h.engine.Store.Deliveries(ctx, r.Service)
	if err != nil {
		return nil, err
	}
	places := map[int][]api.DeliveryPlace{}
	for _, d := range rows {
		places[d.Version] = append(places[d.Version], deliveryPlace(d))
	}
	out := api.ListDeliveries200JSONResponse{}
	for _, v := range versions {
		if places[v.Number] != nil {
			out = append(out, api.Delivery{Version: v.Number, Author: v.Author, Message: v.Message, At: v.BuiltAt.UnixMilli(), Stages: places[v.Number]})
		}
	}
	return out, nil
}

func (h *handlers) GetDeliveryStage(ctx context.Context, r api.GetDeliveryStageRequestObject) (api.GetDeliveryStageResponseObject, error) {
	d, err := h.engine.Store.Delivery(ctx, r.Service, r.Version, r.Stage)
	if err != nil {
		return nil, fmt.Errorf("version %d in %s: %w", r.Version, r.Stage, err)
	}
	gates, err := h.engine.Line.Gates(ctx, d)
	if err != nil {
		return nil, err
	}
	out := api.DeliveryStage{Place: deliveryPlace(d), Summary: delivery.Summary(gates), Approvals: []api.Approval{}, Cases: []api.CaseRun{}, Deployments: d.Deployments, Digests: []api.DigestPair{}}
	if out.Gates, err = convert[[]api.Gate](append([]delivery.Gate{}, gates...)); err != nil {
		return nil, err
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
	out.Actions = h.actions(ctx, d, gates)
	return api.GetDeliveryStage200JSONResponse(out), nil
}

func (h *handlers) caseRuns(ctx context.Context, d store.Delivery) ([]api.CaseRun, error) {
	runs, err := h.engine.Store.CaseRuns(ctx, d.Service, d.Version, d.Stage)
	if err != nil {
		return nil, err
	}
	out := []api.CaseRun{}
	for _, run := range runs {
		var found deliver.Found
		if err := json.Unmarshal([]byte(run.Body), &found); err != nil {
			return nil, err
		}
		c := api.CaseRun{Target: run.Target, Function: run.Function, File: run.File, Name: run.Name, Passed: run.Passed, At: run.At.UnixMilli()}
		c.Sent = &found.Call.Event
		outcomes, errOutcomes := convert[[]api.CaseOutcome](found.Outcomes)
		invocation, errInvocation := convert[api.Invocation](found.Invocation)
		if err := errors.Join(errOutcomes, errInvocation); err != nil {
			return nil, err
		}
		c.Outcomes, c.Invocation = outcomes, &invocation
		out = append(out, c)
	}
	return out, nil
}

// digests puts what the version holds beside what runs in the stage.
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
		out = append(out, api.DigestPair{Function: f.Function, Digest: f.Digest, There: there[f.Function]})
	}
	return out, nil
}

// actions lists what the person who is signed in may do with a delivery now.
func (h *handlers) actions(ctx context.Context, d store.Delivery, gates []delivery.Gate) []string {
	p := who(ctx).person
	out := []string{}
	for _, g := range gates {
		if d.State == delivery.Waiting && g.State == delivery.Waits {
			if g.Kind == delivery.RequestGate && people.May(p, people.Deploy) == nil {
				out = append(out, "request")
			}
			if g.Kind == delivery.ApprovalsGate && people.May(p, people.Approve) == nil {
				out = append(out, "approve")
			}
		}
	}
	if (d.State == delivery.Waiting || d.State == delivery.Stopped) && people.May(p, people.Approve) == nil {
		out = append(out, "refuse")
	}
	if d.State == delivery.Stopped && people.May(p, people.Deploy) == nil {
		out = append(out, "retry")
	}
	if _, err := delivery.Next(d.State, delivery.Return); err == nil && len(d.Deployments) > 0 && people.May(p, people.Deploy) == nil {
		if there, err := h.isThere(ctx, d); err == nil && !there {
			out = append(out, "return")
		}
	}
	return out
}

func (h *handlers) isThere(ctx context.Context, d store.Delivery) (bool, error) {
	places, err := h.engine.Store.Stages(ctx, d.Service)
	there := false
	for _, p := range places {
		there = there || p.Stage == d.Stage && p.Version == d.Version
	}
	return there, err
}

func (h *handlers) ActOnDelivery(ctx context.Context, r api.ActOnDeliveryRequestObject) (api.ActOnDeliveryResponseObject, error) {
	person, line, comment := who(ctx).person, h.engine.Line, api.OrZero(r.Body.Comment)
	var err error
	switch r.Action {
	case "request":
		err = line.Request(ctx, r.Service, r.Version, r.Stage, person)
	case "approve":
		err = line.Approve(ctx, r.Service, r.Version, r.Stage, person, comment)
	case "refuse":
		err = line.Refuse(ctx, r.Service, r.Version, r.Stage, person, comment)
	case "retry":
		err = line.Retry(ctx, r.Service, r.Version, r.Stage, person)
	case "return":
		err = line.GoBack(ctx, r.Service, r.Version, r.Stage, person, comment)
	}
	return api.ActOnDelivery204Response{}, err
}
