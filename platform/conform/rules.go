package conform

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"rudmar/core/pack"
	"rudmar/core/resource"
	"rudmar/platform"
	"rudmar/platform/api"
)

// rules are tested in this order; later ones use resources of earlier ones.
func rules() []rule {
	return []rule{
		{"requests without the installation's token are refused", func(ctx context.Context, t *trial) error {
			for _, token := range []string{"", "wrong"} {
				response, err := t.ask(ctx, http.MethodGet, "/kinds", token, nil, "")
				if err != nil {
					return err
				}
				if response.StatusCode != http.StatusUnauthorized {
					return fmt.Errorf("the token %q returns %d, not 401", token, response.StatusCode)
				}
			}
			return nil
		}},
		{"problems are RFC 9457", func(ctx context.Context, t *trial) error {
			response, err := t.ask(ctx, http.MethodGet, "/kinds", "wrong", nil, "")
			if err != nil {
				return err
			}
			if kind := response.Header.Get("Content-Type"); !strings.HasPrefix(kind, "application/problem+json") {
				return fmt.Errorf("a problem is %q, not application/problem+json", kind)
			}
			return nil
		}},
		{"the kinds that Rudmar uses exist, with their attributes", listsKinds},
		{"an unused scope is empty", func(ctx context.Context, t *trial) error {
			_, s, err := t.find(ctx, "")
			if err == nil && len(s.Resources) != 0 {
				err = fmt.Errorf("it has %d resources", len(s.Resources))
			}
			return err
		}},
		{"an archive whose bytes do not match its digest is refused", func(ctx context.Context, t *trial) error {
			digest, archive, err := t.archive()
			if err != nil {
				return err
			}
			other, err := packed("other " + t.salt)
			if err != nil || len(archive) == 0 {
				return err
			}
			return rejected(t.client.PutArtifact(ctx, digest, other), http.StatusUnprocessableEntity, "an archive with other bytes")
		}},
		{"an archive can be uploaded twice", func(ctx context.Context, t *trial) error {
			digest, archive, err := t.archive()
			for range 2 {
				if err == nil {
					err = t.client.PutArtifact(ctx, digest, archive)
				}
			}
			return err
		}},
		{"a resource exists after its creation, with a tag", func(ctx context.Context, t *trial) error {
			put, err := t.put(ctx, "identity/warn", map[string]any{"owner": "somebody"})
			if err != nil {
				return err
			}
			found, _, err := t.find(ctx, "identity/warn")
			if err == nil && (found == nil || found.Tag == "" || found.Tag != put.Tag ||
				found.Attributes["owner"] != "somebody") {
				err = fmt.Errorf("the response was %+v, and the snapshot has %+v", put, found)
			}
			return err
		}},
		{"the same key executes a change once", sameKey},
		{"a change of a resource that has changed since is refused", func(ctx context.Context, t *trial) error {
			before, _, err := t.find(ctx, "identity/warn")
			if err != nil || before == nil {
				return fmt.Errorf("identity/warn is missing: %w", err)
			}
			if _, err := t.put(ctx, "identity/warn", map[string]any{"owner": "another"}); err != nil {
				return err
			}
			_, err = t.client.Put(ctx, t.scope, "identity/warn",
				platform.Change{Key: t.key(), Match: before.Tag, Attributes: map[string]any{"owner": "third"}, Version: 1})
			return rejected(err, http.StatusPreconditionFailed, "a change with an outdated tag")
		}},
		{"a change under a lost lease is refused", rejectsOldFence},
		{"a change of a fixed attribute is refused or replaces the whole resource", fixed},
		{"the snapshot's fingerprint changes exactly with the state", fingerprint},
		{"a known snapshot is not sent again", notModified},
		{"a renamed function keeps its data, if the platform supports renames", renamed},
		{"a long operation can be followed to its end", followed},
		{"a failed operation reports the same reason as the request", func(ctx context.Context, t *trial) error {
			op, err := t.operation(ctx, "function/alone", t.config())
			if err == nil && (op.State != api.OperationFailed || op.Problem == nil || op.Problem.Status != http.StatusConflict) {
				err = fmt.Errorf("a function without an identity ends as %s, %+v; expected failed with 409", op.State, op.Problem)
			}
			return err
		}},
		{"a resource beyond a quota is refused", beyondQuota},
		{"an unknown attribute is refused", func(ctx context.Context, t *trial) error {
			_, err := t.put(ctx, "identity/warn", map[string]any{"color": "green"})
			return rejected(err, http.StatusUnprocessableEntity, "an unknown attribute")
		}},
		{"a resource with missing dependencies is refused", func(ctx context.Context, t *trial) error {
			_, err := t.put(ctx, "function/alone", t.config())
			return rejected(err, http.StatusConflict, "a function without an identity")
		}},
		{"a function can be deployed and invoked", deployed},
		{"an invocation returns its response, timing, memory, log lines and revision", func(ctx context.Context, t *trial) error {
			inv, err := t.call(ctx, map[string]any{"same": "pear"})
			if err != nil {
				return err
			}
			answer, _ := inv.Response.(map[string]any)
			if answer["same"] != "pear" || answer["id"] != inv.Id || inv.DurationMs <= 0 || inv.MemoryPeak <= 0 ||
				inv.Revision == "" || len(inv.Logs) == 0 || inv.Logs[0].Text != "called" || inv.Logs[0].Invocation != inv.Id {
				return fmt.Errorf("it returns %+v", inv)
			}
			return nil
		}},
		{"a function that raises an error returns its message", func(ctx context.Context, t *trial) error {
			inv, err := t.call(ctx, map[string]any{"fail": true})
			if err == nil && (inv.Outcome != api.Failed || inv.Error == nil ||
				!strings.Contains(inv.Error.Message, "as asked")) {
				err = fmt.Errorf("it returns %s, %+v", inv.Outcome, inv.Error)
			}
			return err
		}},
		{"a function that exceeds its timeout is stopped", func(ctx context.Context, t *trial) error {
			begun := time.Now()
			inv, err := t.call(ctx, map[string]any{"sleep": 30})
			if err == nil && (inv.Outcome != api.TimedOut || time.Since(begun) > 15*time.Second) {
				err = fmt.Errorf("it returns %s after %s", inv.Outcome, time.Since(begun))
			}
			return err
		}},
		{"max_concurrency limits concurrent invocations", throttled},
		{"logs can be read by invocation", func(ctx context.Context, t *trial) error {
			inv, err := t.call(ctx, nil)
			if err != nil {
				return err
			}
			return eventually(ctx, 5*time.Second, func() (bool, error) {
				lines, err := t.client.Logs(ctx, t.scope, platform.LogQuery{Function: "warn", Invocation: inv.Id})
				return len(lines) > 0 && lines[0].Text == "called", err
			})
		}},
		{"logs can be followed and resumed", followedLogs},
		{"logs can be read by revision and since a time", func(ctx context.Context, t *trial) error {
			inv, err := t.call(ctx, nil)
			if err != nil {
				return err
			}
			for _, q := range []platform.LogQuery{{Revision: "another"}, {Since: time.Now().Add(time.Hour).UnixMilli()}} {
				lines, err := t.client.Logs(ctx, t.scope, q)
				if err == nil && len(lines) > 0 {
					err = fmt.Errorf("%+v returns %d lines that do not match", q, len(lines))
				}
				if err != nil {
					return err
				}
			}
			return eventually(ctx, 5*time.Second, func() (bool, error) {
				lines, err := t.client.Logs(ctx, t.scope,
					platform.LogQuery{Revision: inv.Revision, Since: time.Now().Add(-time.Hour).UnixMilli()})
				return len(lines) > 0, err
			})
		}},
		{"a route responds at its reported address", func(ctx context.Context, t *trial) error {
			status, body, err := t.routed(ctx, "anyone")
			if err == nil && (status != http.StatusOK || !strings.Contains(body, `"id"`)) {
				err = fmt.Errorf("it responds %d, %s", status, body)
			}
			return err
		}},
		{"a route that is not open to anyone refuses strangers", func(ctx context.Context, t *trial) error {
			status, body, err := t.routed(ctx, "authenticated")
			if err == nil && (status != http.StatusUnauthorized && status != http.StatusForbidden ||
				!strings.Contains(body, `"detail"`)) {
				err = fmt.Errorf("it responds %d, %s; expected a problem with 401 or 403", status, body)
			}
			return err
		}},
		{"a temporary caller's token is valid in its scope, with its groups, and its invocation can be read", temporaryCallers},
		{"routes that match the same request are refused", func(ctx context.Context, t *trial) error {
			_, err := t.put(ctx, "route/warn/again", map[string]any{"method": "GET", "path": "/look/{other}", "enabled": true})
			return rejected(err, http.StatusConflict, "a second route for the same requests")
		}},
		{"metrics count invocations and errors", func(ctx context.Context, t *trial) error {
			return eventually(ctx, 5*time.Second, func() (bool, error) {
				minutes, err := t.client.Metrics(ctx, t.scope, time.Time{})
				calls, errors := 0, 0
				for _, m := range minutes {
					calls, errors = calls+m.Invocations, errors+m.Errors
				}
				return calls >= 4 && errors >= 2, err
			})
		}},
		{"metrics are available as one sum of the whole period, and stored data is counted", wholeSums},
		{"a function with dependents cannot be deleted", func(ctx context.Context, t *trial) error {
			return rejected(t.client.Delete(ctx, t.scope, "function/warn", platform.Change{Key: t.key()}), http.StatusConflict,
				"deleting a function that a pointer needs")
		}},
		{"a missing resource cannot be deleted", func(ctx context.Context, t *trial) error {
			path := fmt.Sprintf("/regions/%s/scopes/%s/%s/resources/identity%%2Fnobody", t.scope.Region,
				t.scope.Service, t.scope.Stage)
			response, err := t.ask(ctx, http.MethodDelete, path, t.token, map[string]string{"Idempotency-Key": t.key()}, "")
			if err == nil && response.StatusCode != http.StatusNotFound {
				err = fmt.Errorf("the response is %d, not 404", response.StatusCode)
			}
			return err
		}},
		{"deleting a scope deletes its stored data, once it has no resources", deletedScopes},
		{"regions are separate", func(ctx context.Context, t *trial) error {
			if len(t.kinds.Regions) < 2 {
				return errSkip
			}
			other := t.scope
			other.Region = t.kinds.Regions[1]
			s, err := t.client.Snapshot(ctx, other)
			if err == nil && len(s.Resources) != 0 {
				err = fmt.Errorf("%s has %d of the resources of %s", other.Region, len(s.Resources), t.scope.Region)
			}
			return err
		}},
	}
}

func packed(text string) ([]byte, error) {
	var out bytes.Buffer
	err := pack.Write(&out, []pack.Entry{{Path: "main.py", Content: []byte(text)}})
	return out.Bytes(), err
}

func listsKinds(_ context.Context, t *trial) error {
	for kind, attributes := range map[string][]string{
		resource.Identity: {"owner"}, resource.Grant: {"resource", "verbs"}, resource.Logs: {"retention"},
		resource.Function: {"runtime", "handler", "memory", "timeout", "max_concurrency", "env.*"},
		resource.Revision: {"artifact", "configuration", "id"}, resource.Pointer: {"shares"}, resource.Opening: {"to"},
		resource.Route: {"method", "path", "enabled"},
	} {
		i := slices.IndexFunc(t.kinds.Kinds, func(k api.Kind) bool { return k.Kind == kind })
		if i < 0 {
			return fmt.Errorf("there is no kind %q", kind)
		}
		for _, name := range attributes {
			if !slices.ContainsFunc(t.kinds.Kinds[i].Attributes, func(a api.AttributeKind) bool { return a.Name == name }) {
				return fmt.Errorf("a %s has no attribute %q", kind, name)
			}
		}
	}
	if len(t.kinds.Runtimes) == 0 || t.kinds.RoutesAt == "" {
		return fmt.Errorf("it does not report its runtimes, or the address of routes")
	}
	return nil
}

func sameKey(ctx context.Context, t *trial) error {
	key := t.key()
	wish := platform.Change{Key: key, Attributes: map[string]any{"retention": 86_400_000.0}, Version: 1}
	first, err := t.client.Put(ctx, t.scope, "logs/warn", wish)
	if err != nil {
		return err
	}
	if _, err := t.put(ctx, "logs/warn", map[string]any{"retention": 172_800_000.0}); err != nil {
		return err
	}
	again, err := t.client.Put(ctx, t.scope, "logs/warn", wish)
	if err != nil {
		return err
	}
	found, _, err := t.find(ctx, "logs/warn")
	switch {
	case err != nil:
		return err
	case again.Tag != first.Tag:
		return fmt.Errorf("the second response is %q, the first %q", again.Tag, first.Tag)
	case found == nil || found.Attributes["retention"] != 172_800_000.0:
		return fmt.Errorf("the second request with the same key changed it again: %+v", found)
	}
	return nil
}

func fingerprint(ctx context.Context, t *trial) error {
	_, first, err := t.find(ctx, "")
	if err != nil {
		return err
	}
	_, second, err := t.find(ctx, "")
	if err != nil {
		return err
	}
	if first.Fingerprint == "" || first.Fingerprint != second.Fingerprint {
		return fmt.Errorf("without a change it was %q and then %q", first.Fingerprint, second.Fingerprint)
	}
	if _, err := t.put(ctx, "identity/warn", map[string]any{"owner": "a fourth"}); err != nil {
		return err
	}
	_, third, err := t.find(ctx, "")
	if err == nil && third.Fingerprint == first.Fingerprint {
		err = fmt.Errorf("it stays %q after a change", third.Fingerprint)
	}
	return err
}

// wholeSums compares the sums of the whole time with those of its minutes.
func wholeSums(ctx context.Context, t *trial) error {
	return eventually(ctx, 5*time.Second, func() (bool, error) {
		minutes, err := t.client.Metrics(ctx, t.scope, time.Time{})
		if err != nil {
			return false, err
		}
		sums, err := t.client.Sums(ctx, t.scope, time.Time{})
		if err != nil {
			return false, err
		}
		calls, seen := 0, map[string]bool{}
		for _, m := range minutes {
			calls += m.Invocations
		}
		for _, s := range sums {
			calls -= s.Invocations
			if key := s.Function + " " + s.Revision + " " + s.Trigger; seen[key] {
				return false, fmt.Errorf("there are two sums of %s", key)
			} else {
				seen[key] = true
			}
		}
		held, err := t.client.Holdings(ctx, t.scope)
		lines := slices.ContainsFunc(held, func(h api.Holding) bool {
			return h.Function == "warn" && h.What == api.LogLines && h.Count > 0
		})
		return calls == 0 && len(sums) > 0 && lines, err
	})
}

// fixed changes the first immutable attribute of a kind that only needs an identity: the resource of a grant.
func fixed(ctx context.Context, t *trial) error {
	inPlace, verb, kind := true, "", ""
	for _, k := range t.kinds.Kinds {
		for _, a := range k.Attributes {
			if k.Kind == resource.Grant && a.Name == "resource" {
				inPlace = a.InPlace
			}
		}
	}
	for _, p := range t.kinds.Permissions {
		if len(p.Verbs) > 0 {
			kind, verb = p.Kind, p.Verbs[0]
		}
	}
	if inPlace || verb == "" {
		return errSkip
	}
	to := func(name string) map[string]any {
		return map[string]any{"resource": kind + "/" + name, "verbs": []any{verb}}
	}
	if _, err := t.put(ctx, "grant/warn/fixed", to("first")); err != nil {
		return err
	}
	_, err := t.put(ctx, "grant/warn/fixed", to("second"))
	if err := rejected(err, http.StatusUnprocessableEntity, "a change of what cannot change in place"); err != nil {
		return err
	}
	got, err := t.client.Put(ctx, t.scope, "grant/warn/fixed",
		platform.Change{Key: t.key(), Attributes: to("second"), Version: 1, Replace: true})
	if err == nil && got.Attributes["resource"] != kind+"/second" {
		err = fmt.Errorf("it was replaced, and is %v", got.Attributes)
	}
	return errors.Join(err, t.client.Delete(ctx, t.scope, "grant/warn/fixed", platform.Change{Key: t.key()}))
}

func deployed(ctx context.Context, t *trial) error {
	runtime, _, _ := t.code()
	if runtime == "" {
		return errSkip
	}
	digest, _, err := t.archive()
	if err != nil {
		return err
	}
	config := t.config()
	configuration := resource.Configuration(config)
	id := resource.RevisionID(digest, configuration)
	for _, r := range []struct {
		address    string
		attributes map[string]any
	}{
		{"function/warn", config},
		{"revision/warn", map[string]any{"artifact": digest, "configuration": configuration, "id": id}},
		{"pointer/warn", map[string]any{"shares": map[string]any{id: 100.0}}},
	} {
		if _, err := t.put(ctx, r.address, r.attributes); err != nil {
			return fmt.Errorf("creating %s: %w", r.address, err)
		}
	}
	inv, err := t.call(ctx, nil)
	if err == nil && (inv.Outcome != api.Succeeded || inv.Revision != id) {
		err = fmt.Errorf("it returns %s by %s instead of a response by %s: %+v", inv.Outcome, inv.Revision, id, inv.Error)
	}
	return err
}

func (t *trial) call(ctx context.Context, event any) (api.Invocation, error) {
	if runtime, _, _ := t.code(); runtime == "" {
		return api.Invocation{}, errSkip
	}
	return t.client.Invoke(ctx, t.scope, "warn", "", "", event, callFor)
}

func throttled(ctx context.Context, t *trial) error {
	var group sync.WaitGroup
	var mu sync.Mutex
	answered, refused := 0, 0
	var failed error
	for range 6 {
		group.Add(1)
		go func() {
			defer group.Done()
			inv, err := t.call(ctx, map[string]any{"sleep": 1})
			mu.Lock()
			defer mu.Unlock()
			switch {
			case err != nil:
				failed = err
			case inv.Outcome == api.Throttled:
				refused++
			case inv.Outcome == api.Succeeded:
				answered++
			}
		}()
	}
	group.Wait()
	if failed != nil {
		return failed
	}
	if answered < 2 || refused == 0 || answered+refused != 6 {
		return fmt.Errorf("of six simultaneous invocations, %d succeeded and %d were throttled; max_concurrency is 2", answered, refused)
	}
	return nil
}
