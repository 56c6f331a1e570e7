package conform

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"time"

	"rudmar/core/resource"
	"rudmar/platform"
	"rudmar/platform/api"
)

// routed opens a route to some callers, requests it as a stranger, and returns the response.
func (t *trial) routed(ctx context.Context, to string) (status int, body string, err error) {
	address, err := t.routeAt(ctx, to)
	if err != nil {
		return 0, "", err
	}
	response, err := fetch(ctx, http.MethodGet, address, "", nil, "")
	if err != nil {
		return 0, "", err
	}
	text, err := io.ReadAll(response.Body)
	return response.StatusCode, string(text), err
}

// routeAt puts a route that is open to somebody there, and returns an address that it matches.
func (t *trial) routeAt(ctx context.Context, to string) (string, error) {
	if !slices.ContainsFunc(t.kinds.Kinds, func(k api.Kind) bool { return k.Kind == resource.Route }) {
		return "", errSkip
	}
	if runtime, _, _ := t.code(); runtime == "" {
		return "", errSkip
	}
	if _, err := t.put(ctx, "opening/warn/look", map[string]any{"to": []any{to}}); err != nil {
		return "", err
	}
	route, err := t.put(ctx, "route/warn/look", map[string]any{"method": "GET", "path": "/look/{what}", "enabled": true})
	if err != nil {
		return "", err
	}
	address, _ := route.Attributes["url"].(string)
	if address == "" {
		return "", fmt.Errorf("the route has no url: %v", route.Attributes)
	}
	return strings.Replace(address, "{what}", "pears", 1), nil
}

// temporaryCallers requests a route with a token of its own, and without.
func temporaryCallers(ctx context.Context, t *trial) error {
	address, err := t.routeAt(ctx, "growers")
	if err != nil {
		return err
	}
	other := t.scope
	other.Stage = "elsewhere"
	for _, c := range []struct {
		scope  platform.Scope
		groups []string
		want   int
	}{{t.scope, []string{"growers"}, http.StatusOK}, {t.scope, nil, http.StatusForbidden},
		{other, []string{"growers"}, http.StatusUnauthorized}} {
		token, err := t.client.CreateCaller(ctx, c.scope, platform.Caller{Purpose: api.Case, Groups: c.groups})
		if err != nil {
			return err
		}
		reply, err := t.client.CallRoute(ctx, platform.RouteCall{Method: http.MethodGet, URL: address,
			Headers: map[string]string{"Authorization": "Bearer " + token, platform.PurposeHeader: token}}, time.Minute)
		if err != nil {
			return err
		}
		if reply.Status != c.want {
			return fmt.Errorf("with a token for %s and the groups %v the route responds %d, not %d", c.scope.Stage, c.groups,
				reply.Status, c.want)
		}
		if c.want != http.StatusOK {
			continue
		}
		inv, err := t.client.Invocation(ctx, t.scope, reply.Invocation)
		if err == nil && (inv.Id != reply.Invocation || inv.Outcome != api.Succeeded || inv.MemoryPeak == 0) {
			err = fmt.Errorf("invocation %s is read as %+v", reply.Invocation, inv)
		}
		if err != nil {
			return err
		}
		if _, err := t.client.Invocation(ctx, other, reply.Invocation); !platform.HasStatus(err, http.StatusNotFound) {
			return fmt.Errorf("in another scope the invocation is read: %v", err)
		}
	}
	return nil
}
