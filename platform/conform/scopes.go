package conform

import (
	"context"
	"fmt"
	"net/http"
	"time"

	"rudmar/platform"
)

// deletedScopes deletes a private copy's scope: first with a function and its log lines, metrics and resources, then
// without resources. The scope of the trial stays.
func deletedScopes(ctx context.Context, t *trial) error {
	if err := rejected(t.client.DeleteScope(ctx, t.scope), http.StatusConflict, "deleting a scope with resources"); err != nil {
		return err
	}
	own := *t
	own.scope.Stage += "~wren"
	attributes := map[string]any{"owner": "wren"}
	if _, err := own.put(ctx, "identity/warn", attributes); err != nil {
		return err
	}
	before, err := t.client.Holdings(ctx, t.scope)
	if err != nil {
		return err
	}
	if err := t.client.Delete(ctx, own.scope, "identity/warn", platform.Change{Key: own.key()}); err != nil {
		return err
	}
	t.keys = own.keys
	for range 2 {
		if err := t.client.DeleteScope(ctx, own.scope); err != nil {
			return err
		}
	}
	left, err := t.client.Holdings(ctx, own.scope)
	if err == nil && len(left) > 0 {
		err = fmt.Errorf("the deleted scope holds %v", left)
	}
	if err != nil {
		return err
	}
	minutes, err := t.client.Metrics(ctx, own.scope, time.Time{})
	if err == nil && len(minutes) > 0 {
		err = fmt.Errorf("the deleted scope has %d minutes of metrics", len(minutes))
	}
	if err != nil {
		return err
	}
	after, err := t.client.Holdings(ctx, t.scope)
	if err == nil && len(after) < len(before) {
		err = fmt.Errorf("another scope has lost data: %v, it was %v", after, before)
	}
	return err
}
