package platform

import (
	"context"
	"fmt"
	"net/http"
	"strconv"
	"time"

	"github.com/cenkalti/backoff/v5"

	"rudmar/platform/api"
)

// followFor bounds how long an operation is waited for.
const followFor = 30 * time.Minute

// PendingError reports that an operation was still pending when the wait ended. It may end later: the same
// request with the same key follows it again.
type PendingError struct{ Operation api.Operation }

func (u *PendingError) Error() string {
	return fmt.Sprintf("the platform is still changing %s (operation %s), after %s", u.Operation.Address,
		u.Operation.Id, followFor)
}

// Change is a resource as it is to be.
type Change struct {
	Key         string // of idempotency
	Match       string // the tag that it must have now; "" for any
	Attributes  map[string]any
	Secrets     map[string]string
	Version     int
	RenamedFrom string // of an identity: the function's former name
	Fence       int64  // the lease under which it is requested; 0 for none
	Replace     bool   // attributes that cannot change in place can differ: the new resource replaces the old one
}

// Put creates or updates a resource, and waits for completion.
func (c *Client) Put(ctx context.Context, s Scope, address string, w Change) (api.Resource, error) {
	body := api.ResourceRequest{Attributes: w.Attributes, Version: &w.Version}
	if len(w.Secrets) > 0 {
		body.Secrets = &w.Secrets
	}
	body.RenamedFrom = optional(w.RenamedFrom)
	if w.Replace {
		body.Replace = &w.Replace
	}
	params := &api.PutResourceParams{IdempotencyKey: w.Key, IfMatch: optional(w.Match), Fence: optional(w.Fence)}
	return c.change(ctx, func(ctx context.Context) (*http.Response, error) {
		return c.api.PutResource(ctx, s.Region, s.Service, s.Stage, address, params, body)
	})
}

// Delete deletes a resource, and waits for completion; of the wish it uses Key, Match and Fence. A missing
// resource is no error.
func (c *Client) Delete(ctx context.Context, s Scope, address string, w Change) error {
	params := &api.DeleteResourceParams{IdempotencyKey: w.Key, IfMatch: optional(w.Match), Fence: optional(w.Fence)}
	_, err := c.change(ctx, func(ctx context.Context) (*http.Response, error) {
		return c.api.DeleteResource(ctx, s.Region, s.Service, s.Stage, address, params)
	})
	if HasStatus(err, http.StatusNotFound) {
		return nil
	}
	return err
}

// change sends a change, and follows its operation if the platform starts one. A failed operation is reported
// like a failed request.
func (c *Client) change(ctx context.Context, send func(context.Context) (*http.Response, error)) (api.Resource, error) {
	var out api.Resource
	var op *api.Operation
	err := c.exchange(ctx, send, func(r *http.Response) error {
		if r.StatusCode != http.StatusAccepted {
			return decode(r, &out)
		}
		op = &api.Operation{}
		return decode(r, op)
	})
	if err != nil || op == nil {
		return out, err
	}
	ended, err := c.follow(ctx, *op)
	switch {
	case err != nil:
		return out, err
	case ended.State == api.OperationFailed && ended.Problem != nil:
		return out, &Problem{*ended.Problem}
	case ended.State == api.OperationFailed:
		return out, fmt.Errorf("operation %s failed without a reason", ended.Id)
	case ended.Resource != nil:
		out = *ended.Resource
	}
	return out, nil
}

// follow polls an operation until it has ended, at the platform's interval, or with growing pauses.
func (c *Client) follow(ctx context.Context, op api.Operation) (api.Operation, error) {
	ctx, cancel := context.WithTimeoutCause(ctx, followFor, &PendingError{op})
	defer cancel()
	pace := backoff.NewExponentialBackOff()
	pace.InitialInterval, pace.MaxInterval = 50*time.Millisecond, 5*time.Second
	wait := pace.NextBackOff()
	for op.State == api.OperationWaiting {
		timer := time.NewTimer(wait)
		select {
		case <-ctx.Done():
			timer.Stop()
			return op, context.Cause(ctx)
		case <-timer.C:
		}
		wait = pace.NextBackOff()
		err := c.exchange(ctx, func(ctx context.Context) (*http.Response, error) { return c.api.GetOperation(ctx, op.Id) },
			func(r *http.Response) error {
				if seconds, err := strconv.Atoi(r.Header.Get("Retry-After")); err == nil && seconds > 0 {
					wait = time.Duration(seconds) * time.Second
				}
				return decode(r, &op)
			})
		if err != nil {
			return op, fmt.Errorf("following operation %s: %w", op.Id, err)
		}
	}
	return op, nil
}
