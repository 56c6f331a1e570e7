package server

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"

	"github.com/labstack/echo/v5"

	"rudmar/core/rights"
	"rudmar/engine"
	"rudmar/server/api"
)

func (h *handlers) GetHealth(ctx context.Context, _ api.GetHealthRequestObject) (api.GetHealthResponseObject, error) {
	now, err := h.engine.Health(ctx)
	if err != nil {
		return nil, err
	}
	state, missing := h.engine.Build.Isolation()
	out := api.Health{Platforms: []api.PlatformHealth{},
		Builds: api.BuildHealth{State: api.BuildHealthState(state), Notes: missing},
		Checks: []api.HealthCheck{}, Stalled: []api.StalledWork{}, Unreachable: []api.UnreachableTarget{},
		Backlogs: []api.Backlog{}}
	for _, b := range now.Backlogs {
		if may(ctx, rights.View, "", "") != nil {
			break // targets are everybody's
		}
		out.Backlogs = append(out.Backlogs, api.Backlog{Target: b.Target, Queued: b.Queued, Oldest: b.Oldest.UnixMilli(),
			Attempts: b.Attempts, Response: b.Response, Due: b.Due.UnixMilli()})
	}
	for _, c := range now.Checks {
		out.Checks = append(out.Checks, api.HealthCheck{Name: c.What, Problem: c.Problem,
			Warning: api.Optional(c.Problem != "" && c.Warning)})
	}
	for _, p := range now.Platforms {
		one := api.PlatformHealth{Name: p.Name, Notes: []string{}}
		if p.Err != nil {
			one.Reason = api.Optional(p.Err.Error())
		} else {
			one.Reachable, one.Simulated, one.Notes = true, p.Kinds.Simulated, p.Kinds.Notes
		}
		out.Platforms = append(out.Platforms, one)
	}
	for _, s := range now.Stuck {
		if may(ctx, rights.View, s.Service, s.Stage) != nil {
			continue
		}
		out.Stalled = append(out.Stalled,
			api.StalledWork{Service: s.Service, Stage: s.Stage, Work: s.What, Since: s.Since.UnixMilli()})
	}
	for _, s := range now.Sick {
		if may(ctx, rights.View, s.Service, s.Stage) != nil {
			continue
		}
		out.Unreachable = append(out.Unreachable, api.UnreachableTarget{Service: s.Service, Stage: s.Stage,
			Target: s.Target.String(), Reason: s.Reason,
			Since: s.Since.UnixMilli()})
	}
	return api.GetHealth200JSONResponse(out), nil
}

// GetWelcome is public, and contains only public facts.
func (h *handlers) GetWelcome(context.Context, api.GetWelcomeRequestObject) (api.GetWelcomeResponseObject, error) {
	return api.GetWelcome200JSONResponse{Demo: h.options.Demo}, nil
}

var errNotWell = errors.New("unhealthy")

// healthz reports to a supervisor whether Rudmar can work: 200, or 503 with the names of failed checks. It
// requires no sign-in, and returns only names.
func (s *Server) healthz(c *echo.Context) error {
	if err := s.serves(c.Request().Context()); err != nil {
		return c.String(http.StatusServiceUnavailable, err.Error()+"\n")
	}
	return c.String(http.StatusOK, "ok\n")
}

// serves returns the names of failed checks, as an [errNotWell].
func (s *Server) serves(ctx context.Context) error {
	checks := s.engine.Needs(ctx)
	if engine.Serves(checks) {
		return nil
	}
	var missing []string
	for _, check := range checks {
		if check.Fails() {
			missing = append(missing, check.What)
		}
	}
	return fmt.Errorf("%w: %s", errNotWell, strings.Join(missing, ", "))
}
