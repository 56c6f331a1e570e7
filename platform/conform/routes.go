package conform

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"

	"rudmar/core/expand"
	"rudmar/platform/api"
)

// routed opens a route to somebody, calls it as a stranger, and gives what came.
func (t *trial) routed(ctx context.Context, to string) (status int, body string, err error) {
	if !slices.ContainsFunc(t.kinds.Kinds, func(k api.Kind) bool { return k.Kind == expand.Route }) {
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
	q, err := http.NewRequestWithContext(ctx, http.MethodGet, strings.Replace(address, "{what}", "pears", 1), nil)
	if err != nil {
		return 0, "", err
	}
	response, err := http.DefaultClient.Do(q)
	if err != nil {
		return 0, "", err
	}
	defer response.Body.Close()
	text, err := io.ReadAll(io.LimitReader(response.Body, 64<<10))
	return response.StatusCode, string(text), err
}
