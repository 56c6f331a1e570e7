package server

import (
	"context"
	"fmt"

	"github.com/labstack/echo/v5"

	"rudmar/core/cases"
	"rudmar/core/diagnostic"
	"rudmar/core/manifest"
	"rudmar/core/rights"
	"rudmar/engine/copies"
	"rudmar/engine/deploy"
	"rudmar/engine/source"
	"rudmar/engine/store"
	wire "rudmar/platform/api"
	"rudmar/server/api"
)

// ListCopies lists the private copies of all services.
func (h *handlers) ListCopies(ctx context.Context, _ api.ListCopiesRequestObject) (api.ListCopiesResponseObject,
	error) {
	list, err := h.engine.Store.Copies(ctx)
	out := api.ListCopies200JSONResponse{}
	for _, c := range list {
		if may(ctx, rights.View, c.Service, "") != nil {
			continue
		}
		out = append(out, api.PrivateCopy{Service: c.Service, Username: c.Username, Stage: c.Stage, Target: c.Target.String(),
			CreatedAt: c.Made.UnixMilli(), UsedAt: c.Used.UnixMilli(), EndsAt: c.Used.Add(copies.IdleFor).UnixMilli()})
	}
	return out, err
}

// DeleteCopy deletes a copy: the user's own, or another's with the right to administer.
func (h *handlers) DeleteCopy(ctx context.Context, r api.DeleteCopyRequestObject) (api.DeleteCopyResponseObject,
	error) {
	person := who(ctx).person
	act, why := rights.Write, "deleted by its owner"
	if r.Username != person.Username {
		act, why = rights.Administer, "deleted by another user"
	}
	if err := may(ctx, act, r.Service, ""); err != nil {
		return nil, err
	}
	return api.DeleteCopy204Response{}, h.engine.Copies.Remove(ctx, r.Service, r.Username, person.Username, why)
}

// PutCopy updates the user's copy from their files.
func (h *handlers) PutCopy(ctx context.Context, r api.PutCopyRequestObject) (api.PutCopyResponseObject, error) {
	if _, err := h.engine.Store.Service(ctx, r.Service); err != nil {
		return nil, store.Missing(err, "service %s, which needs a pushed version first", r.Service)
	}
	openness := api.OrZero(r.Body.Routes)
	change := copies.Change{Base: r.Body.Base, Files: map[string]*source.Content{}, NewToken: api.OrZero(r.Body.NewToken),
		Open: openness == api.CopyChangeRoutesOpen, Close: openness == api.CopyChangeRoutesClose}
	for name, f := range r.Body.Files {
		change.Files[name] = nil
		if f != nil {
			change.Files[name] = &source.Content{Bytes: f.Content, Executable: api.OrZero(f.Executable)}
		}
	}
	person := who(ctx).person
	got, err := h.engine.Copies.Put(ctx, r.Service, person, change)
	if err != nil {
		return nil, err
	}
	out := api.CopyOutcome{Token: got.Token, Digest: got.Digest, Stage: got.Stage, Target: got.Target, Log: got.Log,
		Notes: append([]string{}, got.Notes...), Packed: append([]string{}, got.Packed...),
		Steps: append([]string{}, got.Steps...), Functions: []api.CopyFunction{},
		CheckMs: float64(got.Checking.Microseconds()) / 1000, PackMs: float64(got.Packing.Microseconds()) / 1000,
		SendMs: float64(got.Ran.Microseconds()) / 1000}
	if !got.OpenUntil.IsZero() {
		out.OpenUntil = api.Optional(got.OpenUntil.UnixMilli())
	}
	if out.Diagnostics, err = convert[[]api.Diagnostic](append([]diagnostic.Diagnostic{},
		got.Result.Diagnostics...)); err != nil || got.Stage == "" {
		return api.PutCopy200JSONResponse(out), err
	}
	copied, err := h.engine.Copies.Private(ctx, r.Service, person.Username)
	if err != nil {
		return nil, err
	}
	routes, err := h.engine.Copies.Routes(ctx, copied)
	if err != nil {
		return nil, err
	}
	for _, fn := range copied.Service.Functions {
		shown := api.CopyFunction{Name: fn.Name, Routes: append([]string{}, routes[fn.Name]...), Samples: []string{},
			Cases: len(fn.Cases)}
		for _, s := range samplesOf(fn, got.Stage, h.engine.Store) {
			shown.Samples = append(shown.Samples, s.Name)
		}
		out.Functions = append(out.Functions, shown)
	}
	return api.PutCopy200JSONResponse(out), nil
}

// samplesOf returns the sample invocations of a function: its saved cases, and samples of its triggers.
func samplesOf(fn *manifest.Function, stage string, s *store.Store) []cases.Sample {
	var out []cases.Sample
	for _, c := range fn.Cases {
		if call, err := cases.Build(fn.At(stage), fn.Name, c.Send, s.Now()); err == nil {
			out = append(out, cases.Sample{Name: c.Name, Call: call})
		}
	}
	return append(out, cases.Samples(fn, fn.At(stage), s.Now())...)
}

// ownCopy returns the user's copy, which must be up to date with a folder.
func (s *Server) ownCopy(ctx context.Context, service string) (deploy.Private, error) {
	copied, err := s.engine.Copies.Private(ctx, service, who(ctx).person.Username)
	if err == nil && copied.Service == nil {
		err = fmt.Errorf("%w", copies.ErrBase)
	}
	return copied, err
}

// InvokeCopy invokes a function of the user's copy.
func (h *handlers) InvokeCopy(ctx context.Context,
	r api.InvokeCopyRequestObject) (api.InvokeCopyResponseObject, error) {
	copied, err := h.ownCopy(ctx, r.Service)
	if err != nil {
		return nil, err
	}
	fn := copied.Service.Function(r.Body.Function)
	if fn == nil {
		return nil, store.NotFound("the folder has no function %s", r.Body.Function)
	}
	event, trigger := any(nil), ""
	if r.Body.Event != nil {
		event = r.Body.Event
	} else {
		found := false
		for _, s := range samplesOf(fn, copied.Place.Stage, h.engine.Store) {
			if wanted := api.OrZero(r.Body.Sample); wanted == "" || wanted == s.Name {
				event, trigger, found = s.Call.Event, s.Call.Trigger, true
				break
			}
		}
		if !found {
			return nil, badRequest(fmt.Sprintf("%s has no sample %q", fn.Name, api.OrZero(r.Body.Sample)))
		}
	}
	client, _, err := h.engine.Planner.Platform(copied.Place)
	if err != nil {
		return nil, err
	}
	got, err := client.Invoke(ctx, copied.Scope(), fn.Name, trigger, wire.Manual, event,
		fn.At(copied.Place.Stage).Timeout.V)
	if err != nil {
		return nil, err
	}
	out, err := convert[api.Invocation](got)
	return api.InvokeCopy200JSONResponse(out), err
}

// RunCopyCases runs the saved cases of the user's folder in their copy.
func (h *handlers) RunCopyCases(ctx context.Context,
	r api.RunCopyCasesRequestObject) (api.RunCopyCasesResponseObject, error) {
	copied, err := h.ownCopy(ctx, r.Service)
	if err != nil {
		return nil, err
	}
	runs, err := h.engine.Copies.Cases(ctx, copied, api.OrZero(r.Params.Function))
	if err != nil {
		return nil, err
	}
	out, err := h.shownRuns(runs)
	return api.RunCopyCases200JSONResponse(out), err
}

// followCopyLogs sends the log lines of the user's copy.
func (s *Server) followCopyLogs(c *echo.Context) error {
	copied, err := s.ownCopy(c.Request().Context(), c.Param("service"))
	if err != nil {
		return err
	}
	client, _, err := s.engine.Planner.Platform(copied.Place)
	if err != nil {
		return err
	}
	return s.follow(c, client, copied.Scope())
}
