package conform

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"

	"rudmar/core/resource"
	"rudmar/platform/api"
)

// routed opens a route to some callers, requests it as a stranger, and returns the response.
func (t *trial) routed(ctx context.Context, to string) (status int, body string, err error) {
	if !slices.ContainsFunc(t.kinds.Kinds, func(k api.Kind) bool { return k.Kind == resource.Route }) {
		return 0, "", errSkip
	}
	if runtime, _, _ := t.code(); runtime == "" {
		return 0, "", errSkip
	}
	if _, err := t.put(ctx, "opening/warn/look", map[string]any{"to": []any{to}}); err != nil {
		return 0, "", err
	}
	route, err := t.put(ctx, "route/warn/look", map[string]any{"method": "GET", "path": "/look/{what}", "enabled": true})
	if err != nil {
		return 0, "", err
	}
	address, _ := route.Attributes["url"].(string)
	if address == "" {
		return 0, "", fmt.Errorf("the route has no url: %v", route.Attributes)
	}
	response, err := fetch(ctx, http.MethodGet, strings.Replace(address, "{what}", "pears", 1), "", nil, "")
	if err != nil {
		return 0, "", err
	}
	text, err := io.ReadAll(response.Body)
	return response.StatusCode, string(text), err
}
