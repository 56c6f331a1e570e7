package conform

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"time"

	"rudmar/core/resource"
	"rudmar/platform"
	"rudmar/platform/api"
)

func (t *trial) path(rest string) string {
	return fmt.Sprintf("/regions/%s/scopes/%s/%s%s", t.scope.Region, t.scope.Service, t.scope.Stage, rest)
}

func notModified(ctx context.Context, t *trial) error {
	first, err := t.ask(ctx, http.MethodGet, t.path(""), t.token, nil, "")
	if err != nil {
		return err
	}
	tag := first.Header.Get("ETag")
	if tag == "" {
		return errors.New("the snapshot has no ETag")
	}
	same, err := t.ask(ctx, http.MethodGet, t.path(""), t.token, map[string]string{"If-None-Match": tag}, "")
	if err == nil && same.StatusCode != http.StatusNotModified {
		err = fmt.Errorf("the response is %d, not 304", same.StatusCode)
	}
	if err != nil {
		return err
	}
	if _, err := t.put(ctx, "identity/tagged", map[string]any{"owner": t.key()}); err != nil {
		return err
	}
	other, err := t.ask(ctx, http.MethodGet, t.path(""), t.token, map[string]string{"If-None-Match": tag}, "")
	if err == nil && other.StatusCode != http.StatusOK {
		err = fmt.Errorf("after a change, the response is %d, not 200", other.StatusCode)
	}
	return err
}

// operation requests a change as an operation, and follows it to its end. A platform without operations
// responds at once, which also conforms.
func (t *trial) operation(ctx context.Context, address string, attributes map[string]any) (api.Operation, error) {
	var op api.Operation
	body, err := json.Marshal(api.ResourceRequest{Attributes: attributes})
	if err != nil {
		return op, err
	}
	header := map[string]string{"Idempotency-Key": t.key(), "Prefer": "respond-async"}
	path := t.path("/resources/" + url.PathEscape(address))
	answer, err := t.ask(ctx, http.MethodPut, path, t.token, header, string(body))
	if err != nil {
		return op, err
	}
	if answer.StatusCode != http.StatusAccepted {
		return op, errSkip
	}
	where := answer.Header.Get("Location")
	if err := json.NewDecoder(answer.Body).Decode(&op); err != nil {
		return op, fmt.Errorf("reading the operation: %w", err)
	}
	if op.Id == "" || op.Address != address || where != "/operations/"+op.Id {
		return op, fmt.Errorf("the operation is %+v, at %q", op, where)
	}
	again, err := t.ask(ctx, http.MethodPut, path, t.token, header, string(body))
	if err != nil {
		return op, err
	}
	var same api.Operation
	if err := json.NewDecoder(again.Body).Decode(&same); err != nil || same.Id != op.Id {
		return op, errors.Join(err, fmt.Errorf("the same key gives the operation %q, then %q", op.Id, same.Id))
	}
	err = eventually(ctx, 30*time.Second, func() (bool, error) {
		answer, err := t.ask(ctx, http.MethodGet, where, t.token, nil, "")
		if err == nil {
			err = json.NewDecoder(answer.Body).Decode(&op)
		}
		return op.State != api.OperationWaiting, err
	})
	return op, err
}

func followed(ctx context.Context, t *trial) error {
	op, err := t.operation(ctx, "identity/slow", map[string]any{"owner": "somebody"})
	if err != nil {
		return err
	}
	if op.State != api.OperationSucceeded || op.Resource == nil || op.EndedAt == nil {
		return fmt.Errorf("it ends as %+v", op)
	}
	found, _, err := t.find(ctx, "identity/slow")
	if err == nil && (found == nil || found.Tag != op.Resource.Tag) {
		err = fmt.Errorf("the operation reports %+v, and the snapshot has %+v", op.Resource, found)
	}
	return err
}

// mostMade is the maximum number of resources that a trial creates to reach a quota.
const mostMade = 200

func beyondQuota(ctx context.Context, t *trial) error {
	for _, q := range t.kinds.Quotas {
		if q.Kind != resource.Grant || q.Per == api.QuotaPerRegion || q.Limit > mostMade {
			continue
		}
		var err error
		for i := 0; i <= q.Limit && err == nil; i++ {
			_, err = t.put(ctx, fmt.Sprintf("grant/warn/n%d", i),
				map[string]any{"resource": fmt.Sprintf("tables/n%d", i), "verbs": []any{"read"}})
			if err != nil && i < q.Limit {
				return fmt.Errorf("grant %d of %d is refused: %w", i+1, q.Limit, err)
			}
		}
		var p *platform.Problem
		if !errors.As(err, &p) || p.Status != http.StatusForbidden || p.Type != "urn:rudmar:quota" {
			return fmt.Errorf("grant %d of %d returns %+v; expected a 403 of type urn:rudmar:quota",
				q.Limit+1, q.Limit, err)
		}
		for i := range q.Limit {
			if err := t.client.Delete(ctx, t.scope, fmt.Sprintf("grant/warn/n%d", i), platform.Change{Key: t.key()}); err != nil {
				return err
			}
		}
		return nil
	}
	return errSkip
}

// errEnough ends a stream.
var errEnough = errors.New("enough")

// followedLogs follows the log of an invocation, disconnects, and must receive the lines of an invocation
// during the interruption.
func followedLogs(ctx context.Context, t *trial) error {
	if runtime, _, _ := t.code(); runtime == "" {
		return errSkip
	}
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	newest, err := t.client.Logs(ctx, t.scope, platform.LogQuery{Limit: 1})
	if err != nil {
		return err
	}
	q := platform.LogQuery{Function: "warn"}
	if len(newest) > 0 {
		q.After = newest[0].Id
	}
	begun, called := false, make(chan error, 1)
	err = t.until(ctx, &q, func(l *api.LogLine) bool {
		if !begun { // the stream is open: lines of new invocations must arrive
			begun = true
			go func() {
				_, err := t.call(ctx, nil)
				called <- err
			}()
		}
		return l != nil && l.Text == "called"
	})
	if err != nil {
		return err
	}
	if err := <-called; err != nil {
		return err
	}
	inv, err := t.call(ctx, nil)
	if err != nil {
		return err
	}
	return t.until(ctx, &q, func(l *api.LogLine) bool { return l != nil && l.Text == "called" && l.Invocation == inv.Id })
}

// until follows the log until a line arrives, and stores its position.
func (t *trial) until(ctx context.Context, q *platform.LogQuery, seen func(*api.LogLine) bool) error {
	err := t.client.Follow(ctx, t.scope, *q, func(l *api.LogLine) error {
		if l != nil {
			if l.Id <= q.After {
				return fmt.Errorf("line %d comes after line %d", l.Id, q.After)
			}
			q.After = l.Id
		}
		if seen(l) {
			return errEnough
		}
		return nil
	})
	if errors.Is(err, errEnough) {
		return nil
	}
	return fmt.Errorf("the stream ended before the expected line: %w", errors.Join(err, ctx.Err()))
}

// renamed renames a function and checks that its data is kept.
func renamed(ctx context.Context, t *trial) error {
	kinds, err := t.client.Kinds(ctx)
	if err != nil {
		return err
	}
	if kinds.Renames == nil || !*kinds.Renames {
		return errSkip
	}
	for address, attributes := range map[string]map[string]any{"identity/first-name": {"owner": "somebody"},
		"logs/first-name": {"retention": 86_400_000.0}} {
		if _, err := t.put(ctx, address, attributes); err != nil {
			return err
		}
	}
	wish := platform.Change{Key: t.key(), Attributes: map[string]any{"owner": "somebody"}, RenamedFrom: "first-name"}
	for range 2 {
		if _, err := t.client.Put(ctx, t.scope, "identity/second-name", wish); err != nil {
			return err
		}
	}
	for address, there := range map[string]bool{"identity/first-name": false, "logs/first-name": false,
		"identity/second-name": true, "logs/second-name": true} {
		found, _, err := t.find(ctx, address)
		if err == nil && (found != nil) != there {
			err = fmt.Errorf("%s exists: %v", address, found != nil)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// rejectsOldFence changes a resource under a lease, under a later one, and under the first again: only the last
// must be rejected.
func rejectsOldFence(ctx context.Context, t *trial) error {
	put := func(fence int64, owner string) error {
		_, err := t.client.Put(ctx, t.scope, "identity/fenced",
			platform.Change{Key: t.key(), Fence: fence, Attributes: map[string]any{"owner": owner}})
		return err
	}
	for _, fence := range []int64{7, 9, 9, 0} { // the same again, and by hand without a revision
		if err := put(fence, fmt.Sprint("under ", fence)); err != nil {
			return fmt.Errorf("a change with the fence %d: %w", fence, err)
		}
	}
	err := rejected(put(8, "late"), http.StatusPreconditionFailed, "a change with an older fence")
	if err == nil {
		err = rejected(t.client.Delete(ctx, t.scope, "identity/fenced", platform.Change{Key: t.key(), Fence: 7}),
			http.StatusPreconditionFailed, "a deletion with an older fence")
	}
	if err != nil {
		return err
	}
	found, _, err := t.find(ctx, "identity/fenced")
	if err == nil && (found == nil || found.Attributes["owner"] != "under 0") {
		err = fmt.Errorf("the refused change took effect: %+v", found)
	}
	return err
}
