package deliver

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"rudmar/core/cases"
	"rudmar/core/event"
	"rudmar/core/expression"
	"rudmar/core/manifest"
	"rudmar/core/resource"
	"rudmar/engine/deploy"
	"rudmar/platform"
	"rudmar/platform/api"
)

// Found is the outcome of a case: the event, the response, and each expectation.
type Found struct {
	Call       cases.Call      `json:"call"`
	Outcomes   []cases.Outcome `json:"outcomes"`
	Invocation api.Invocation  `json:"invocation"`
	// Attempts is how often the case ran, from 1 on.
	Attempts int `json:"attempts"`
	// Address is the requested address of a case with a route. Direct is why it was invoked directly instead.
	Address string `json:"address,omitempty"`
	Direct  string `json:"direct,omitempty"`
}

// caseRunner runs the cases of a place in a scope of its target, with the settings of the place.
type caseRunner struct {
	line     *StageLine
	client   *platform.Client
	scope    platform.Scope
	at       manifest.Place
	language *expression.Language
	// addresses returns the base addresses of routes, by function and trigger; it asks the platform once.
	addresses func() (map[string]string, error)
}

func (l *StageLine) newCaseRunner(at manifest.Place, scope platform.Scope) (*caseRunner, error) {
	client, _, err := l.planner.Platform(at)
	if err != nil {
		return nil, err
	}
	language, err := expression.ForCases()
	if err != nil {
		return nil, err
	}
	return &caseRunner{line: l, client: client, scope: scope, at: at, language: language,
		addresses: sync.OnceValues(func() (map[string]string, error) { return routeBases(client, scope) })}, nil
}

// routeBases returns the base address of each route of a scope, by function and trigger, as the platform has it now: a
// platform that was started again can have another address than the deployment returned.
func routeBases(client *platform.Client, scope platform.Scope) (map[string]string, error) {
	ctx, cancel := context.WithTimeout(context.Background(), planning) // its result is shared between cases
	defer cancel()
	snapshot, err := deploy.RetryUnavailable(ctx, func() (api.Snapshot, error) { return client.Snapshot(ctx, scope) })
	if err != nil {
		return nil, err
	}
	out := map[string]string{}
	for _, r := range snapshot.Resources {
		address, ok := r.Attributes["url"].(string)
		if trigger, isRoute := strings.CutPrefix(r.Address, resource.Route+"/"); isRoute && ok {
			out[trigger] = strings.TrimSuffix(address, fmt.Sprint(r.Attributes["path"]))
		}
	}
	return out, nil
}

// run runs a case up to its number of attempts, until it passes. The error is not the case's.
func (r *caseRunner) run(ctx context.Context, fn *manifest.Function, c manifest.Case) (Found, bool, error) {
	for attempt := 1; ; attempt++ {
		found, passed, err := r.once(ctx, fn, c)
		found.Attempts = attempt
		if err != nil || passed || attempt >= c.Attempts {
			return found, passed, err
		}
	}
}

func (r *caseRunner) once(ctx context.Context, fn *manifest.Function, c manifest.Case) (Found, bool, error) {
	config := fn.At(r.at.Stage)
	call, err := cases.Build(config, fn.Name, c.Send, r.line.store.Now())
	if err != nil {
		return notSent(Found{}, err)
	}
	found := Found{Call: call}
	var observed cases.Observed
	request, isRoute := call.Event.(event.Request)
	switch {
	case isRoute && r.scope.Stage == r.at.Stage:
		bases, err := r.addresses()
		if err != nil {
			return found, false, err
		}
		base, ok := bases[fn.Name+"/"+call.Trigger]
		if !ok {
			return notSent(found, fmt.Errorf("%s is not deployed in %s on %s", c.Send.Route, r.at.Stage, r.at.Target))
		}
		observed, err = r.request(ctx, config, &found, base, request)
		if err != nil {
			return found, false, err
		}
	default:
		if isRoute {
			found.Direct = "invoked directly, because a private copy has no open routes"
		}
		found.Invocation, err = deploy.RetryUnavailable(ctx, func() (api.Invocation, error) {
			return r.client.Invoke(ctx, r.scope, fn.Name, call.Trigger, api.Case, call.Event, config.Timeout.V)
		})
		if err != nil {
			return found, false, err
		}
		observed = Observed(found.Invocation)
	}
	judge, cancel := context.WithTimeout(ctx, judging)
	defer cancel()
	var passed bool
	found.Outcomes, passed = cases.Judge(judge, r.language, c.Expect, observed)
	return found, passed, nil
}

func notSent(found Found, why error) (Found, bool, error) {
	found.Outcomes = []cases.Outcome{{Expected: "the case can be sent", Found: why.Error()}}
	return found, false, nil
}

// startTime is the time for the start of an instance and for the transfer, besides the function's own timeout.
const startTime = time.Minute

// request sends a case to its route, as a caller with a token of the case's own would, and reads the invocation.
func (r *caseRunner) request(ctx context.Context, config *manifest.Config, found *Found, base string,
	request event.Request) (cases.Observed, error) {
	found.Address = address(base, request)
	call := platform.RouteCall{Method: request.Method, URL: found.Address, Headers: maps.Clone(request.Headers)}
	if err := encodeBody(&call, request.Body); err != nil {
		return cases.Observed{}, err
	}
	groups, open := callersOf(config, found.Call.Trigger)
	reply, err := deploy.RetryUnavailable(ctx, func() (platform.RouteReply, error) {
		token, err := r.client.CreateCaller(ctx, r.scope, platform.Caller{Purpose: api.Case, Groups: groups})
		if err != nil {
			return platform.RouteReply{}, err
		}
		sent := call
		sent.Headers = maps.Clone(call.Headers)
		sent.Headers[platform.PurposeHeader] = token
		if _, own := headerOf(sent.Headers, "Authorization"); !own && !open {
			sent.Headers["Authorization"] = "Bearer " + token
		}
		return r.client.CallRoute(ctx, sent, config.Timeout.V+startTime)
	})
	if err != nil {
		return cases.Observed{}, err
	}
	var observed cases.Observed
	found.Invocation = api.Invocation{Logs: []api.LogLine{}}
	if reply.Invocation != "" {
		found.Invocation, err = deploy.RetryUnavailable(ctx, func() (api.Invocation, error) {
			return r.client.Invocation(ctx, r.scope, reply.Invocation)
		})
		if err != nil && !platform.HasStatus(err, http.StatusNotFound) { // such as after a restart of the platform
			return observed, err
		}
		observed = Observed(found.Invocation)
	}
	observed.Reply = cases.ParseReply(reply.Status, reply.Headers, reply.Body)
	found.Invocation.Response = map[string]any{"status": reply.Status, "headers": reply.Headers, "body": observed.Reply.Body}
	return observed, nil
}

// callersOf returns the groups that a trigger is open to, and whether it is open to anyone.
func callersOf(config *manifest.Config, trigger string) (groups []string, open bool) {
	for _, t := range config.Triggers {
		if t.Name == trigger {
			groups = t.OpenTo.V
		}
	}
	open = slices.Contains(groups, "anyone")
	return slices.DeleteFunc(slices.Clone(groups), func(g string) bool { return g == "anyone" || g == "authenticated" }), open
}

// address returns the address of a request.
func address(base string, request event.Request) string {
	query := url.Values{}
	for name, value := range request.Query {
		if list, ok := value.([]any); ok {
			for _, item := range list {
				query.Add(name, fmt.Sprint(item))
			}
			continue
		}
		query.Add(name, fmt.Sprint(value))
	}
	if len(query) == 0 {
		return base + request.Path
	}
	return base + request.Path + "?" + query.Encode()
}

func headerOf(headers map[string]string, name string) (value string, ok bool) {
	for k, v := range headers {
		if http.CanonicalHeaderKey(k) == name {
			return v, true
		}
	}
	return "", false
}

// encodeBody sets the body of a request: a text as it is, anything else as JSON.
func encodeBody(call *platform.RouteCall, body any) error {
	if body == nil {
		return nil
	}
	kind, named := headerOf(call.Headers, "Content-Type")
	if text, ok := body.(string); ok && !strings.Contains(kind, "json") {
		if call.Body = []byte(text); !named {
			call.Headers["Content-Type"] = "text/plain; charset=utf-8"
		}
		return nil
	}
	encoded, err := json.Marshal(body)
	if err != nil {
		return fmt.Errorf("encoding the body: %w", err)
	}
	if call.Body = encoded; !named {
		call.Headers["Content-Type"] = "application/json"
	}
	return nil
}

// Observed converts an invocation for the evaluation of cases.
func Observed(inv api.Invocation) cases.Observed {
	o := cases.Observed{Response: inv.Response,
		Took:       time.Duration((inv.ColdStartMs + inv.DurationMs) * float64(time.Millisecond)),
		MemoryPeak: inv.MemoryPeak, Cold: inv.Cold}
	if inv.Error != nil {
		o.Failed = inv.Error.Kind + ": " + inv.Error.Message
	}
	for _, line := range inv.Logs {
		if line.Stream != "platform" {
			o.Logs = append(o.Logs, line.Text)
		}
	}
	return o
}
