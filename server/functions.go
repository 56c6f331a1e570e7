package server

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"rudmar/core/cases"
	"rudmar/core/check"
	"rudmar/core/expand"
	"rudmar/core/manifest"
	"rudmar/core/plan"
	"rudmar/core/resource"
	"rudmar/engine/observe"
	"rudmar/engine/store"
	"rudmar/platform"
	wire "rudmar/platform/api"
	"rudmar/server/api"
	"rudmar/server/view"
)

func (h *handlers) GetFunction(ctx context.Context, r api.GetFunctionRequestObject) (api.GetFunctionResponseObject,
	error) {
	v, err := h.facts(ctx, r.Service)
	if err != nil {
		return nil, err
	}
	out := api.FunctionDetail{Function: r.Function, Stage: r.Stage, Functions: []string{}, Targets: []string{},
		Routes: []api.RouteAddress{}, Schedules: []api.ScheduleNext{},
		Samples: []api.Sample{}, Configuration: []api.RenderedAttribute{},
		Permissions: []api.PermissionUse{}, Drift: []api.Drifted{}}
	there, _ := v.VersionIn(r.Stage)
	if d := v.Current(r.Stage); d != nil {
		there = d.Choice.Version(r.Function, there)
	}
	service := v.Manifests
	if there > 0 {
		if service, _, err = h.engine.Planner.Service(ctx, r.Service, there); err != nil {
			return nil, err
		}
	}
	if service == nil {
		return nil, unreadable(r.Service)
	}
	for _, fn := range service.Functions {
		out.Functions = append(out.Functions, fn.Name)
	}
	fn, stage := service.Function(r.Function), service.Stage(r.Stage)
	switch {
	case stage == nil:
		return nil, noStage(service, r.Stage)
	case fn == nil && there > 0:
		return nil, store.NotFound("version %[2]d in %[1]s has no function %[3]s", r.Stage, there,
			r.Function)
	case fn == nil:
		return nil, store.Missing(store.ErrNotFound, "function %s", r.Function)
	}
	out.Description = fn.About
	for _, t := range stage.Targets {
		out.Targets = append(out.Targets, t.String())
	}
	h.describe(&out, fn, r.Stage)
	manifests := check.Result{Service: service}
	inputs, units, err := h.inputs(ctx, r.Service, manifests, r.Stage)
	if err != nil {
		return nil, err
	}
	var settings []expand.Resource
	for _, res := range h.resources(r.Service, manifests, r.Stage, inputs) {
		if res.Function == r.Function && (res.Kind == resource.Function || res.Kind == resource.Logs) {
			settings = append(settings, res)
		}
	}
	shown, err := renderedOf(settings, units)
	if err != nil {
		return nil, err
	}
	for _, res := range shown {
		out.Configuration = append(out.Configuration, res.Attributes...)
	}
	err = h.actual(ctx, &out, v)
	return api.GetFunction200JSONResponse(out), err
}

// describe adds the manifests' part: schedules with their next times, and samples.
func (h *handlers) describe(out *api.FunctionDetail, fn *manifest.Function, stage string) {
	now := h.engine.Store.Now()
	config := fn.At(stage)
	for _, t := range config.Triggers {
		if t.Kind != manifest.CronTrigger && t.Kind != manifest.EveryTrigger {
			continue
		}
		next := api.ScheduleNext{Trigger: t.Name, Text: view.CallerWords(t), Enabled: t.Enabled.V, Next: []int64{}}
		if schedule, err := t.Schedule(); err == nil {
			for _, at := range schedule.Times(now, 3) {
				next.Next = append(next.Next, at.UnixMilli())
			}
		}
		out.Schedules = append(out.Schedules, next)
	}
	for _, s := range cases.Samples(fn, config, now) {
		event := s.Call.Event
		out.Samples = append(out.Samples, api.Sample{Name: s.Name, Trigger: api.Optional(s.Call.Trigger), Event: &event})
	}
	for _, c := range fn.Cases {
		if call, err := cases.Build(config, fn.Name, c.Send, now); err == nil {
			event := call.Event
			out.Samples = append(out.Samples,
				api.Sample{Name: c.Name, Trigger: api.Optional(call.Trigger), Event: &event, Case: api.Optional(true)})
		}
	}
}

// actual adds the recorded and the actual state.
func (h *handlers) actual(ctx context.Context, out *api.FunctionDetail, v *view.Facts) error {
	var metrics observe.Metrics
	asked, cancel := context.WithTimeout(ctx, reading) // of all targets together
	defer cancel()
	for _, p := range v.At(out.Stage) {
		record, err := h.engine.Store.Record(ctx, p.Place)
		if err != nil {
			return err
		}
		to := map[string]string{}
		for _, rec := range record {
			if rec.Function != out.Function {
				continue
			}
			_, rest, _ := strings.Cut(rec.Address, "/"+out.Function+"/")
			switch rec.Kind {
			case resource.Opening:
				to[rest] = words(rec.Attributes["to"])
			case resource.Revision:
				out.Deployed, out.Version = true, &rec.Version
			case resource.Route:
				out.Routes = append(out.Routes,
					api.RouteAddress{Target: p.Target.String(), Trigger: rest, Method: textOf(rec.Attributes["method"]),
						Url: textOf(rec.Platform["url"]), To: to[rest], Enabled: rec.Attributes["enabled"] != false})
			case resource.Grant:
				grant := api.PermissionUse{Resource: textOf(rec.Attributes["resource"]),
					Verbs: strings.Split(words(rec.Attributes["verbs"]), ", "), Granted: api.Optional(true)}
				if !slices.ContainsFunc(out.Permissions, func(p api.PermissionUse) bool { return p.Resource == grant.Resource }) {
					out.Permissions = append(out.Permissions, grant)
				}
			}
		}
		look := v.Looks[p.Place]
		metrics = metrics.Plus(look.Functions[out.Function])
		if err := addDrift(out, look.Drift, p.Target.String()); err != nil {
			return err
		}
		if err := h.uses(asked, out, p.Place); err != nil {
			return err
		}
	}
	total, err := convert[api.MetricsSummary](metrics)
	out.Metrics = &total
	return err
}

func addDrift(out *api.FunctionDetail, drift []plan.Drift, target string) error {
	for _, d := range drift {
		if d.Function != out.Function {
			continue
		}
		row, err := convert[api.Drifted](d)
		if err != nil {
			return err
		}
		row.Target = target
		out.Drift = append(out.Drift, row)
	}
	return nil
}

// uses counts used permissions and denied requests. If the platform does not respond the counts are zero, and
// the stage line reports that.
func (h *handlers) uses(ctx context.Context, out *api.FunctionDetail, p manifest.Place) error {
	client, scope, err := h.engine.Planner.Platform(p)
	if err != nil {
		return err
	}
	uses, err := client.Access(ctx, scope)
	if err != nil {
		return nil //nolint:nilerr // the page is of use without the counts
	}
	for _, u := range uses {
		if u.Function != out.Function {
			continue
		}
		i := slices.IndexFunc(out.Permissions, func(g api.PermissionUse) bool {
			return api.OrZero(g.Granted) && g.Resource == u.Resource && (!u.Allowed || slices.Contains(g.Verbs, u.Verb))
		})
		switch {
		case i >= 0 && u.Allowed:
			out.Permissions[i].Used += u.Count
		case !u.Allowed:
			out.Permissions = append(out.Permissions,
				api.PermissionUse{Resource: u.Resource, Verbs: []string{u.Verb}, Denied: u.Count})
		}
	}
	return nil
}

// checkEvent rejects an event that differs from the format of a trigger of a deployed function.
func (h *handlers) checkEvent(ctx context.Context, at manifest.Place, function, trigger string, event any) error {
	deployed, err := h.engine.Planner.DeployedVersions(ctx, at.Service, at.Stage)
	if err != nil {
		return err
	}
	version := deployed[function]
	if version == 0 {
		there, err := h.engine.Store.Stage(ctx, at)
		if err != nil {
			return err
		}
		version = there.Version
	}
	service, _, err := h.engine.Planner.Service(ctx, at.Service, version)
	if err != nil {
		return err
	}
	fn := service.Function(function)
	if fn == nil { // the platform reports that there is no such function
		return nil
	}
	if wrong := cases.Check(fn.At(at.Stage), trigger, event); len(wrong) > 0 {
		return badRequest(fmt.Sprintf("the event does not match the format of the trigger %s: %s; docs/functions.md has the formats",
			trigger, strings.Join(wrong, "; ")))
	}
	return nil
}

func (h *handlers) InvokeFunction(ctx context.Context,
	r api.InvokeFunctionRequestObject) (api.InvokeFunctionResponseObject,
	error) {
	place := manifest.PlaceOf(r.Service, r.Stage, r.Body.Target)
	client, scope, err := h.engine.Planner.Platform(place)
	if err != nil {
		return nil, err
	}
	timeout, err := h.engine.Store.Timeout(ctx, place, r.Function)
	if err != nil {
		return nil, err
	}
	if trigger := api.OrZero(r.Body.Trigger); trigger != "" {
		if err := h.checkEvent(ctx, place, r.Function, trigger, r.Body.Event); err != nil {
			return nil, err
		}
	}
	inv, err := client.Invoke(ctx, scope, r.Function, api.OrZero(r.Body.Trigger), wire.Manual, r.Body.Event, timeout)
	if err != nil {
		return nil, err
	}
	if err := h.engine.Store.Note(ctx,
		store.Entry{Person: who(ctx).person.Username, Service: r.Service, Stage: r.Stage, What: "function invoked manually",
			Text: r.Function + " on " + r.Body.Target + ": " + inv.Id}); err != nil {
		return nil, err
	}
	out, err := convert[api.Invocation](inv)
	return api.InvokeFunction200JSONResponse(out), err
}

// logsWithin is the time limit of one page of log lines.
const logsWithin = 1500 * time.Millisecond

func (h *handlers) GetLogs(ctx context.Context, r api.GetLogsRequestObject) (api.GetLogsResponseObject, error) {
	client, scope, err := h.engine.Planner.Platform(manifest.PlaceOf(r.Service, r.Stage, r.Params.Target))
	if err != nil {
		return nil, err
	}
	lines, err := client.With(platform.Within(logsWithin)).Logs(ctx, scope,
		platform.LogQuery{Function: api.OrZero(r.Params.Function), After: api.OrZero(r.Params.After),
			Before: api.OrZero(r.Params.Before), Limit: 500})
	if err != nil {
		return nil, err
	}
	out, err := convert[[]api.LogLine](lines)
	return api.GetLogs200JSONResponse(out), err
}
