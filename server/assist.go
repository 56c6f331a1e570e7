package server

import (
	"context"
	"slices"
	"strings"

	"rudmar/core/author"
	"rudmar/core/check"
	"rudmar/core/manifest"
	"rudmar/core/route"
	"rudmar/engine/store"
	"rudmar/server/api"
	"rudmar/server/view"
)

// shownFires is how many of a schedule's next times are shown.
const shownFires = 10

// edited checks a service with an edit.
func (h *handlers) edited(ctx context.Context, service, branch string,
	files map[string]*string) (manifest.Overlay, check.Result, error) {
	_, folder, err := h.engine.Source(ctx, service, branch)
	if err != nil {
		return manifest.Overlay{}, check.Result{}, err
	}
	over := manifest.Overlay{Under: folder, Changed: changedFiles(files)}
	return over, h.engine.Checks.Check(ctx, service, over), nil
}

func (h *handlers) AssistSource(ctx context.Context, r api.AssistSourceRequestObject) (api.AssistSourceResponseObject,
	error) {
	over, result, err := h.edited(ctx, r.Service, r.Body.Branch, r.Body.Files)
	if err != nil {
		return nil, err
	}
	text, err := over.Read(r.Body.File)
	if err != nil {
		return nil, store.Missing(store.ErrNotFound, "file %s", r.Body.File)
	}
	found := author.At(author.Cursor{File: r.Body.File, Text: string(text), Line: r.Body.Line, Column: r.Body.Column},
		author.Names{Service: result.Service, Offers: h.engine.Checks.Offers(ctx)})
	out, err := convert[api.AssistResult](found)
	if err != nil {
		return nil, err
	}
	if out.Path == nil {
		out.Path = []string{}
	}
	out.Notes = []api.LineNote{}
	if result.Service != nil {
		for _, fn := range result.Service.Functions {
			if fn.File == r.Body.File {
				out.Notes = append(out.Notes, h.lineNotes(ctx, r.Service, fn, api.OrZero(r.Body.Stage), int32(r.Body.Line))...)
			}
		}
	}
	return api.AssistSource200JSONResponse(out), nil
}

// lineNotes returns notes on the lines of a function's manifest.
func (h *handlers) lineNotes(ctx context.Context, service string, fn *manifest.Function, stage string,
	line int32) []api.LineNote {
	var out []api.LineNote
	config := fn.At(stage)
	for _, t := range config.Triggers {
		on := t.From.Line == line || t.Cron.From.Line == line || t.Every.From.Line == line || t.Zone.From.Line == line ||
			t.Route.From.Line == line
		if !on || t.From.File != fn.File {
			continue
		}
		switch t.Kind {
		case manifest.CronTrigger, manifest.EveryTrigger:
			note := api.LineNote{Kind: api.Runs, Title: "Next runs of " + t.Name, Lines: []string{}, Fires: []int64{},
				Zone: api.Optional(t.Zone.V)}
			if !t.Enabled.V {
				note.Title += " if it were enabled"
			}
			if schedule, err := t.Schedule(); err == nil {
				for _, at := range schedule.Times(h.engine.Store.Now(), shownFires) {
					note.Fires = append(note.Fires, at.UnixMilli())
				}
				note.Lines = append(note.Lines, view.TimesADay(schedule.PerDay(h.engine.Store.Now())))
			}
			out = append(out, note)
		case manifest.RouteTrigger:
			out = append(out, api.LineNote{Kind: api.Route, Title: "Requests matched by " + t.Name + "", Fires: []int64{},
				Lines: view.RouteWords(t)})
		}
	}
	for _, p := range config.Permissions {
		if p.From.Line == line && p.From.File == fn.File {
			out = append(out, api.LineNote{Kind: api.Permission, Title: "Access granted to " + fn.Name + " by this permission",
				Fires: []int64{}, Lines: view.PermissionWords(p)})
		}
	}
	if config.Memory.From.Line == line && config.Memory.From.File == fn.File || config.Timeout.From.Line == line &&
		config.Timeout.From.File == fn.File {
		out = append(out, h.observed(ctx, service, fn.Name))
	}
	return out
}

// observed returns a function's recent metrics, in each stage.
func (h *handlers) observed(ctx context.Context, service, function string) api.LineNote {
	note := api.LineNote{Kind: api.Observed, Title: "Observed in the last hour", Fires: []int64{}, Lines: []string{}}
	looks, err := h.engine.Watch.Observations(ctx, service)
	if err != nil {
		return note
	}
	for place, look := range looks {
		if f, ok := look.Functions[function]; ok && f.Invocations > 0 {
			note.Lines = append(note.Lines, view.ObservedWords(place, f))
		}
	}
	slices.Sort(note.Lines)
	if len(note.Lines) == 0 {
		note.Lines = append(note.Lines, view.NothingObserved)
	}
	return note
}

func (h *handlers) TestRoute(ctx context.Context, r api.TestRouteRequestObject) (api.TestRouteResponseObject,
	error) {
	_, result, err := h.edited(ctx, r.Service, r.Body.Branch, r.Body.Files)
	if err != nil {
		return nil, err
	}
	if result.Service == nil {
		return nil, badRequest("rudmar.yaml cannot be read, so no routes can be tested")
	}
	path := r.Body.Path
	if !strings.HasPrefix(path, "/") {
		return nil, badRequest("a path must start with /")
	}
	path, _, _ = strings.Cut(path, "?")
	out := api.RouteResult{Matches: []api.RouteMatch{}}
	var routes []route.Route
	for _, fn := range result.Service.Functions {
		for _, t := range fn.At(r.Body.Stage).Triggers {
			if t.Kind != manifest.RouteTrigger || !t.Enabled.V {
				continue
			}
			params, ok := t.Route.V.Match(r.Body.Method, path)
			if !ok {
				continue
			}
			taker := api.RouteMatch{Function: fn.Name, Trigger: t.Name, Route: t.Route.V.String(), Params: params,
				File: t.Route.From.File, Line: int(t.Route.From.Line)}
			at, _ := slices.BinarySearchFunc(routes, t.Route.V, func(a, b route.Route) int {
				if b.Before(a) {
					return 1
				}
				return -1
			})
			routes, out.Matches = slices.Insert(routes, at, t.Route.V), slices.Insert(out.Matches, at, taker)
		}
	}
	out.Reason = view.WhyRoute(routes)
	return api.TestRoute200JSONResponse(out), nil
}
