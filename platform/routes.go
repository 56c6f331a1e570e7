package platform

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"

	"rudmar/platform/api"
)

// PurposeHeader carries a token of CreateCaller with a request to a route: its invocation has the purpose of the
// token, and can be read. InvocationHeader carries the invocation's ID with the response.
const (
	PurposeHeader    = "Rudmar-Purpose"
	InvocationHeader = "Rudmar-Invocation"
)

// maxReply is the maximum size of a route's response, in bytes.
const maxReply = 16 << 20

// Caller is a temporary caller of a scope's routes.
type Caller struct {
	Purpose api.Purpose
	Groups  []string
	For     time.Duration // how long its token is valid, up to a day; 0 for ten minutes
}

// CreateCaller returns a token for a caller of a scope's routes.
func (c *Client) CreateCaller(ctx context.Context, s Scope, w Caller) (string, error) {
	var out struct{ Token string }
	err := c.ask(ctx, &out, func(ctx context.Context) (*http.Response, error) {
		return c.api.CreateCaller(ctx, s.Region, s.Service, s.Stage, api.CallerRequest{Purpose: w.Purpose,
			Groups: append([]string{}, w.Groups...), Seconds: optional(int(w.For.Seconds()))})
	})
	return out.Token, err
}

// Invocation returns an invocation by a route with a token of CreateCaller.
func (c *Client) Invocation(ctx context.Context, s Scope, id string) (api.Invocation, error) {
	var out api.Invocation
	err := c.ask(ctx, &out, func(ctx context.Context) (*http.Response, error) {
		return c.api.GetInvocation(ctx, s.Region, s.Service, s.Stage, id)
	})
	return out, err
}

// RouteCall is a request to a route.
type RouteCall struct {
	Method, URL string
	Headers     map[string]string
	Body        []byte
}

// RouteReply is the response of a route, whatever its status. Names of headers are in lower case.
type RouteReply struct {
	Status     int
	Headers    map[string]string
	Body       []byte
	Invocation string // its ID; "" if there was none
}

// CallRoute sends a request to a route as any caller does, within a time limit. Redirects are not followed. The
// error wraps Unreachable if there was no response.
func (c *Client) CallRoute(ctx context.Context, call RouteCall, within time.Duration) (RouteReply, error) {
	ctx, cancel := context.WithTimeoutCause(ctx, within, errSilent)
	defer cancel()
	request, err := http.NewRequestWithContext(ctx, call.Method, call.URL, bytes.NewReader(call.Body))
	if err != nil {
		return RouteReply{}, fmt.Errorf("the request is not valid: %w", err)
	}
	for name, value := range call.Headers {
		request.Header.Set(name, value)
	}
	client := http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	response, err := client.Do(request)
	if err == nil {
		defer response.Body.Close()
		out := RouteReply{Status: response.StatusCode, Headers: map[string]string{},
			Invocation: response.Header.Get(InvocationHeader)}
		for name, values := range response.Header {
			out.Headers[strings.ToLower(name)] = strings.Join(values, ", ")
		}
		if out.Body, err = io.ReadAll(io.LimitReader(response.Body, maxReply)); err == nil {
			return out, nil
		}
	}
	if errors.Is(context.Cause(ctx), errSilent) {
		err = fmt.Errorf("%w (%s)", errSilent, within)
	}
	return RouteReply{}, &Unreachable{Address: call.URL, Err: err}
}
