// Package platform is the client of the platform protocol. The description of the protocol and its
// types are in platform/api.
package platform

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/cenkalti/backoff/v5"

	"rudmar/platform/api"
)

// Scope is one stage of one service in one region.
type Scope struct{ Region, Service, Stage string }

// Problem is an error response of a platform.
type Problem struct{ api.Problem }

func (p *Problem) Error() string { return p.Detail }

// Unreachable reports that the platform did not answer.
type Unreachable struct {
	Address string
	Err     error
}

func (u *Unreachable) Error() string {
	return fmt.Sprintf("platform %s is unreachable: %v", u.Address, u.Err)
}

// Unwrap returns the network's error.
func (u *Unreachable) Unwrap() error { return u.Err }

// HasStatus reports whether an error is a platform's problem of that status.
func HasStatus(err error, status int) bool {
	var p *Problem
	return errors.As(err, &p) && p.Status == status
}

// Transient reports whether an error can resolve itself: the platform does not respond, or it reports an error
// of its own (5xx).
func Transient(err error) bool {
	var gone *Unreachable
	var p *Problem
	return errors.As(err, &gone) || errors.As(err, &p) && p.Status >= http.StatusInternalServerError
}

// answerFor is the time limit of a platform's response, besides the duration of an invoked function.
const answerFor = 15 * time.Second

// Client is a client of one platform. Every request has a deadline: a stuck platform counts as an unreachable
// one. Its methods can be called concurrently.
type Client struct {
	address string
	api     *api.Client
	within  time.Duration // for a response
	// patience is how long a request is repeated if the platform asks for that.
	patience time.Duration

	mu   sync.Mutex
	seen map[Scope]snapshotSeen
}

// snapshotSeen is the newest snapshot of a scope, as received: each caller gets its own copy.
type snapshotSeen struct {
	tag  string // its ETag; "" if the platform sends none
	body []byte
}

// Option changes how a client talks to its platform.
type Option func(*Client)

// Within returns a platform another time for an answer than 15 seconds. A function
// that is called has its own timeout, and the platform four times as long for its part.
func Within(d time.Duration) Option { return func(c *Client) { c.within = d } }

// WithRetryTime replaces the minute for which a throttled request is repeated (429 and 503).
func WithRetryTime(d time.Duration) Option { return func(c *Client) { c.patience = d } }

// NewClient creates a client of the platform at an address, with the installation's token.
func NewClient(address, token string, options ...Option) (*Client, error) {
	if parsed, err := url.Parse(address); err != nil || parsed.Host == "" || parsed.Scheme != "http" &&
		parsed.Scheme != "https" {
		return nil, fmt.Errorf("%q is not a platform address such as http://127.0.0.1:7071", address)
	}
	inner, err := api.NewClient(address, api.WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
		r.Header.Set("Authorization", "Bearer "+token)
		return nil
	}))
	if err != nil {
		return nil, fmt.Errorf("creating a client for %s: %w", address, err)
	}
	return (&Client{address: address, api: inner, within: answerFor, patience: time.Minute}).With(options...), nil
}

// With returns a client of the same platform that talks to it in another way.
func (c *Client) With(options ...Option) *Client {
	other := &Client{address: c.address, api: c.api, within: c.within, patience: c.patience,
		seen: map[Scope]snapshotSeen{}}
	for _, change := range options {
		change(other)
	}
	return other
}

// Kinds returns the platform's kinds, features and limits.
func (c *Client) Kinds(ctx context.Context) (api.Kinds, error) {
	var out api.Kinds
	err := c.ask(ctx, &out, func(ctx context.Context) (*http.Response, error) { return c.api.GetKinds(ctx) })
	return out, err
}

// Snapshot returns the actual state. An unchanged snapshot is not transferred again.
func (c *Client) Snapshot(ctx context.Context, s Scope) (api.Snapshot, error) {
	now, err := c.look(ctx, s)
	if err != nil {
		return api.Snapshot{}, err
	}
	var out api.Snapshot
	if err := json.Unmarshal(now.body, &out); err != nil {
		return out, fmt.Errorf("reading the platform's response: %w", err)
	}
	return out, nil
}

// SnapshotTag returns the entity tag of the actual state; "" if the platform has none.
func (c *Client) SnapshotTag(ctx context.Context, s Scope) (string, error) {
	now, err := c.look(ctx, s)
	return now.tag, err
}

func (c *Client) look(ctx context.Context, s Scope) (snapshotSeen, error) {
	c.mu.Lock()
	before := c.seen[s]
	c.mu.Unlock()
	now := before
	err := c.exchange(ctx, func(ctx context.Context) (*http.Response, error) {
		return c.api.GetSnapshot(ctx, s.Region, s.Service, s.Stage, &api.GetSnapshotParams{IfNoneMatch: optional(before.tag)})
	}, func(r *http.Response) error {
		if r.StatusCode == http.StatusNotModified {
			return nil
		}
		text, err := io.ReadAll(r.Body)
		if err == nil && !json.Valid(text) {
			err = fmt.Errorf("reading the platform's response: %w", io.ErrUnexpectedEOF)
		}
		now = snapshotSeen{r.Header.Get("ETag"), text}
		return err
	})
	if err == nil && now.tag != before.tag {
		c.mu.Lock()
		c.seen[s] = now
		c.mu.Unlock()
	}
	return now, err
}

// PutArtifact puts an archive there, unless it is there already.
func (c *Client) PutArtifact(ctx context.Context, digest string, archive []byte) error {
	err := c.ask(ctx, nil, func(ctx context.Context) (*http.Response, error) { return c.api.HasArtifact(ctx, digest) })
	if !HasStatus(err, http.StatusNotFound) {
		return err
	}
	return c.ask(ctx, nil, func(ctx context.Context) (*http.Response, error) {
		return c.api.PutArtifactWithBody(ctx, digest, "application/zip", bytes.NewReader(archive))
	})
}

// DeleteScope deletes all stored data of a scope without resources.
func (c *Client) DeleteScope(ctx context.Context, s Scope) error {
	return c.ask(ctx, nil, func(ctx context.Context) (*http.Response, error) {
		return c.api.DeleteScope(ctx, s.Region, s.Service, s.Stage)
	})
}

// startTimes is the number of usual time limits for the start and the result of an invocation, besides the
// function's own timeout.
const startTimes = 4

// Invoke invokes a function once, for a purpose: api.Case, api.Manual, or "" for regular traffic. timeout is
// the function's own; the platform has a minute more for its own part.
func (c *Client) Invoke(ctx context.Context, s Scope, function, trigger string, purpose api.Purpose,
	event any, timeout time.Duration) (api.Invocation, error) {
	var out api.Invocation
	wish := api.InvocationRequest{Event: event, Trigger: optional(trigger)}
	if purpose != "" {
		wish.Purpose = &purpose
	}
	err := c.exchangeWithin(ctx, timeout+startTimes*c.within, func(ctx context.Context) (*http.Response, error) {
		return c.api.Invoke(ctx, s.Region, s.Service, s.Stage, function, wish)
	}, func(r *http.Response, _ *time.Timer) error { return decode(r, &out) })
	return out, err
}

// Metrics returns the sums per minute since a time, of a function's own calls:
// those of cases and by hand are left out.
func (c *Client) Metrics(ctx context.Context, s Scope, since time.Time) ([]api.MinuteSum, error) {
	from := since.UnixMilli()
	var out struct{ Minutes []api.MinuteSum }
	err := c.ask(ctx, &out, func(ctx context.Context) (*http.Response, error) {
		return c.api.GetMetrics(ctx, s.Region, s.Service, s.Stage, &api.GetMetricsParams{Since: &from})
	})
	return slices.DeleteFunc(out.Minutes, func(m api.MinuteSum) bool { return m.Purpose != nil }), err
}

// Sums returns one sum per function, revision and trigger since a time, of regular traffic.
func (c *Client) Sums(ctx context.Context, s Scope, since time.Time) ([]api.MinuteSum, error) {
	from, whole := since.UnixMilli(), true
	var out struct{ Minutes []api.MinuteSum }
	err := c.ask(ctx, &out, func(ctx context.Context) (*http.Response, error) {
		return c.api.GetMetrics(ctx, s.Region, s.Service, s.Stage, &api.GetMetricsParams{Since: &from, Whole: &whole})
	})
	return slices.DeleteFunc(out.Minutes, func(m api.MinuteSum) bool { return m.Purpose != nil }), err
}

// Holdings returns the stored data of each function, which a delete loses.
func (c *Client) Holdings(ctx context.Context, s Scope) ([]api.Holding, error) {
	var out struct{ Holdings []api.Holding }
	err := c.ask(ctx, &out, func(ctx context.Context) (*http.Response, error) {
		return c.api.GetHoldings(ctx, s.Region, s.Service, s.Stage)
	})
	return out.Holdings, err
}

// Access returns which permissions were used, and which calls were refused.
func (c *Client) Access(ctx context.Context, s Scope) ([]api.AccessUse, error) {
	var out struct{ Uses []api.AccessUse }
	err := c.ask(ctx, &out, func(ctx context.Context) (*http.Response, error) {
		return c.api.GetAccess(ctx, s.Region, s.Service, s.Stage)
	})
	return out.Uses, err
}

func optional[T comparable](v T) *T {
	var zero T
	if v == zero {
		return nil
	}
	return &v
}

// Messages returns the waiting messages and dead letters of a scope's functions.
func (c *Client) Messages(ctx context.Context, s Scope, deadLetter bool) ([]api.Message, error) {
	var out []api.Message
	for after := int64(0); ; {
		next, err := c.MessagesAfter(ctx, s, deadLetter, after)
		if err != nil || len(next) == 0 {
			return out, err
		}
		out, after = append(out, next...), next[len(next)-1].Id
	}
}

// MessagesAfter returns some of them, those after an id.
func (c *Client) MessagesAfter(ctx context.Context, s Scope, deadLetter bool, after int64) ([]api.Message, error) {
	var out []api.Message
	err := c.ask(ctx, &out, func(ctx context.Context) (*http.Response, error) {
		return c.api.GetMessages(ctx, s.Region, s.Service, s.Stage, &api.GetMessagesParams{DeadLetter: &deadLetter,
			After: &after})
	})
	return out, err
}

// RetryMessage retries a dead letter.
func (c *Client) RetryMessage(ctx context.Context, s Scope, id int64) error {
	return c.ask(ctx, nil, func(ctx context.Context) (*http.Response, error) {
		return c.api.RetryMessage(ctx, s.Region, s.Service, s.Stage, id)
	})
}

// DeleteMessage deletes a dead letter.
func (c *Client) DeleteMessage(ctx context.Context, s Scope, id int64) error {
	return c.ask(ctx, nil, func(ctx context.Context) (*http.Response, error) {
		return c.api.DeleteMessage(ctx, s.Region, s.Service, s.Stage, id)
	})
}

// RoutesAt returns the base address of a scope's routes, from the platform's description.
func RoutesAt(k api.Kinds, s Scope) string {
	return strings.NewReplacer("{region}", url.PathEscape(s.Region), "{service}", url.PathEscape(s.Service), "{stage}",
		url.PathEscape(s.Stage)).Replace(k.RoutesAt)
}

// Units returns the units of attributes, by "kind.name"; attributes without one are absent.
func Units(kinds []api.Kind) map[string]string {
	units := map[string]string{}
	for _, k := range kinds {
		for _, a := range k.Attributes {
			if a.Unit != nil {
				units[k.Kind+"."+a.Name] = string(*a.Unit)
			}
		}
	}
	return units
}

// ask sends a request and reads its response.
func (c *Client) ask(ctx context.Context, out any, send func(context.Context) (*http.Response, error)) error {
	return c.exchange(ctx, send, func(r *http.Response) error { return decode(r, out) })
}

// errSilent is the cause of the end of a request without a response in time.
var errSilent = errors.New("no data arrived for too long")

// exchange sends a request. A 429 or 503 is repeated at the platform's interval, up to a minute in all; the
// caller decides about other errors.
func (c *Client) exchange(ctx context.Context, send func(context.Context) (*http.Response, error),
	take func(*http.Response) error) error {
	return c.exchangeWithin(ctx, c.within, send, func(r *http.Response, _ *time.Timer) error { return take(r) })
}

// exchangeWithin is exchange with a deadline for each attempt; take can stop its timer for an endless response.
func (c *Client) exchangeWithin(ctx context.Context, within time.Duration,
	send func(context.Context) (*http.Response, error), take func(*http.Response, *time.Timer) error) error {
	var last error // the platform's error, rather than that it throttled the request
	_, err := backoff.Retry(ctx, func() (struct{}, error) {
		ctx, cancel := context.WithCancelCause(ctx)
		defer cancel(nil)
		deadline := time.AfterFunc(within, func() { cancel(errSilent) })
		defer deadline.Stop()
		silent := func(err error) error {
			if errors.Is(context.Cause(ctx), errSilent) {
				err = fmt.Errorf("%w (%s)", errSilent, within)
			}
			return backoff.Permanent(error(&Unreachable{Address: c.address, Err: err}))
		}
		response, err := send(ctx)
		if err != nil {
			return struct{}{}, silent(err)
		}
		defer response.Body.Close()
		if response.StatusCode == http.StatusTooManyRequests || response.StatusCode == http.StatusServiceUnavailable {
			last = problemOf(response)
			if seconds, parsed := strconv.Atoi(response.Header.Get("Retry-After")); parsed == nil {
				return struct{}{}, &backoff.RetryAfterError{Duration: time.Duration(seconds) * time.Second}
			}
			return struct{}{}, last
		}
		if response.StatusCode >= http.StatusBadRequest {
			return struct{}{}, backoff.Permanent(problemOf(response))
		}
		switch err := take(response, deadline); {
		case err != nil && (errors.Is(context.Cause(ctx), errSilent) || isCutOff(err)):
			return struct{}{}, silent(err)
		case err != nil:
			return struct{}{}, backoff.Permanent(err)
		}
		return struct{}{}, nil
	}, backoff.WithMaxElapsedTime(c.patience))
	var again *backoff.RetryAfterError
	if errors.As(err, &again) || err != nil && last != nil && errors.Is(err, context.DeadlineExceeded) {
		return last
	}
	return err
}

// isCutOff reports whether a response is incomplete, as when a platform ends in the middle.
func isCutOff(err error) bool {
	var syntax *json.SyntaxError
	return errors.As(err, &syntax) || errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF)
}

// problemOf parses an error response.
func problemOf(response *http.Response) error {
	var p Problem
	text, _ := io.ReadAll(io.LimitReader(response.Body, 64<<10)) // the supported features
	if json.Unmarshal(text, &p.Problem) != nil || p.Detail == "" {
		p.Detail = fmt.Sprintf("the platform responded %s", response.Status)
	}
	p.Status = response.StatusCode
	return &p
}

func decode(response *http.Response, out any) error {
	if out == nil || response.StatusCode == http.StatusNoContent {
		return nil
	}
	if err := json.NewDecoder(response.Body).Decode(out); err != nil {
		return fmt.Errorf("reading the platform's response: %w", err)
	}
	return nil
}
