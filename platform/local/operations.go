package local

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"rudmar/platform/api"
)

// keptOperations is the retention of ended operations.
const keptOperations = 7 * 24 * time.Hour

// operations executes asynchronous changes, one after another. An accepted one is executed, even after a
// restart.
type operations struct {
	platform *Platform
	wake     chan struct{}
}

func newOperations(p *Platform) *operations {
	return &operations{platform: p, wake: make(chan struct{}, 1)}
}

// requested reports whether a change is asynchronous: if the caller prefers that (RFC 7240), or if the region's
// faults make changes slow.
func (o *operations) requested(sc scope, prefer *string) bool {
	for word := range strings.SplitSeq(orZero(prefer), ",") {
		if strings.TrimSpace(word) == "respond-async" {
			return true
		}
	}
	return o.platform.skies.of(sc.region).TakeMs > 0
}

// begin accepts a change. The same key returns the same operation; a failed one is retried once more, like a
// change that failed at once.
func (o *operations) begin(ctx context.Context, sc scope, address string, w changeRequest) (api.Operation, error) {
	if !w.Remove {
		if err := admissible(sc, address, w.Attributes); err != nil {
			return api.Operation{}, err
		}
	}
	text, err := json.Marshal(w)
	if err != nil {
		return api.Operation{}, fmt.Errorf("storing an operation: %w", err)
	}
	now := o.platform.options.Now()
	due := now.Add(msDuration(o.platform.skies.of(sc.region).TakeMs))
	if _, err := o.platform.store.db.ExecContext(ctx,
		`INSERT INTO operations (id, key, region, service, stage, address, wish, state, begun_at, due_at)
		VALUES (?,?,?,?,?,?,?,'waiting',?,?)
		ON CONFLICT (key) DO UPDATE SET wish = excluded.wish, state = 'waiting',
			problem = 'null', due_at = excluded.due_at, ended_at = 0
		WHERE state = 'failed'`,
		"o-"+random(8), w.Key, sc.region, sc.service, sc.stage, address, o.platform.store.sealed(sc, string(text)),
		now.UnixMilli(), due.UnixMilli()); err != nil {
		return api.Operation{}, err
	}
	select {
	case o.wake <- struct{}{}:
	default:
	}
	return o.find(ctx, "key", w.Key)
}

// find returns the operation of an id or of a key.
func (o *operations) find(ctx context.Context, column, value string) (api.Operation, error) {
	var out api.Operation
	var ended int64
	var resource, problem string
	err := o.platform.store.db.QueryRowContext(ctx,
		`SELECT id, state, address, begun_at, ended_at, resource, problem FROM operations WHERE `+column+` = ?`, value).
		Scan(&out.Id, &out.State, &out.Address, &out.StartedAt, &ended, &resource, &problem)
	if errors.Is(err, sql.ErrNoRows) {
		return out, refuse(404, "unknown operation %q; operations are kept for a week after their end", value)
	}
	if err != nil {
		return out, err
	}
	if ended > 0 {
		out.EndedAt = &ended
	}
	return out, errors.Join(json.Unmarshal([]byte(resource), &out.Resource), json.Unmarshal([]byte(problem), &out.Problem))
}

// run executes operations until the context ends.
func (o *operations) run(ctx context.Context) {
	for {
		next, err := o.round(ctx)
		if err != nil && ctx.Err() == nil {
			o.platform.options.Log.Error("executing operations", "error", err)
		}
		timer := time.NewTimer(next)
		select {
		case <-ctx.Done():
			timer.Stop()
			return
		case <-o.wake:
			timer.Stop()
		case <-timer.C:
		}
	}
}

// round executes due operations, and returns the time of the next one.
func (o *operations) round(ctx context.Context) (time.Duration, error) {
	const atLeast, atMost = 10 * time.Millisecond, time.Minute
	for {
		var id, key, address, text string
		var sc scope
		var due int64
		err := o.platform.store.db.QueryRowContext(ctx,
			`SELECT id, key, region, service, stage, address, wish, due_at FROM operations
			WHERE state = 'waiting' ORDER BY due_at, rowid LIMIT 1`).Scan(&id, &key, &sc.region, &sc.service,
			&sc.stage, &address, &text, &due)
		if errors.Is(err, sql.ErrNoRows) {
			return atMost, nil
		}
		if err != nil {
			return time.Second, err
		}
		if wait := time.UnixMilli(due).Sub(o.platform.options.Now()); wait > 0 {
			return min(max(wait, atLeast), atMost), nil
		}
		w := changeRequest{Key: key}
		if text, err = o.platform.store.unsealed(sc, text); err == nil {
			err = json.Unmarshal([]byte(text), &w)
		}
		if err != nil {
			return time.Second, fmt.Errorf("reading operation %s: %w", id, err)
		}
		waits, err := o.compiling(ctx, id, sc, address, w)
		if err == nil && !waits {
			err = o.execute(ctx, id, sc, address, w)
		}
		if err != nil {
			return time.Second, err
		}
	}
}

// compileEvery is the interval of checks whether a module is compiled.
const compileEvery = 100 * time.Millisecond

// compiling reports whether an operation waits for the compilation of its module; meanwhile others are executed.
func (o *operations) compiling(ctx context.Context, id string, sc scope, address string, w changeRequest) (bool,
	error) {
	module, err := o.platform.mustCompile(ctx, sc, address, w)
	if err != nil || module == "" || !o.platform.compileSoon(module) {
		return false, err
	}
	_, err = o.platform.store.db.ExecContext(ctx, `UPDATE operations SET due_at = ? WHERE id = ?`,
		o.platform.options.Now().Add(compileEvery).UnixMilli(), id)
	return true, err
}

// execute makes the change. Its key is that of the request, so a platform that was killed between the change
// and its record does not make it twice.
func (o *operations) execute(ctx context.Context, id string, sc scope, address string, w changeRequest) error {
	state := api.OperationSucceeded
	var resource *api.Resource
	var problem *api.Problem
	var err error
	if w.Remove {
		err = o.platform.remove(ctx, sc, address, w)
	} else {
		var out api.Resource
		if out, err = o.platform.put(ctx, sc, address, w); err == nil {
			resource = &out
		}
	}
	if err != nil {
		var known *refusal
		if !errors.As(err, &known) {
			return err // an error of the platform itself: the operation is still pending
		}
		told := known.problem()
		state, problem = api.OperationFailed, &told
	}
	shown, err := json.Marshal(resource)
	if err != nil {
		return err
	}
	told, err := json.Marshal(problem)
	if err != nil {
		return err
	}
	_, err = o.platform.store.db.ExecContext(context.WithoutCancel(ctx),
		`UPDATE operations SET state = ?, resource = ?, problem = ?, wish = '{}', ended_at = ? WHERE id = ?`,
		string(state), string(shown), string(told), o.platform.options.Now().UnixMilli(), id)
	return err
}

// accepted is how an operation is answered.
func (o *operations) accepted(ctx context.Context, sc scope, address string, w changeRequest) (
	api.AcceptedJSONResponse, error) {
	op, err := o.begin(ctx, sc, address, w)
	where := "/operations/" + op.Id
	return api.AcceptedJSONResponse{Body: op, Headers: api.AcceptedResponseHeaders{Location: &where}}, err
}

func (s *protocol) GetOperation(ctx context.Context, r api.GetOperationRequestObject) (api.GetOperationResponseObject,
	error) {
	op, err := s.p.operations.find(ctx, "id", r.Id)
	return api.GetOperation200JSONResponse{Body: op}, err
}

// orZero returns the value of a pointer, or the zero value.
func orZero[T any](v *T) T {
	if v == nil {
		var zero T
		return zero
	}
	return *v
}
