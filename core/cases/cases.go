// Package cases turns saved cases and samples into events for a platform, and compares responses
// with expectations.
//
// All its functions can be called concurrently.
package cases

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"rudmar/core/event"
	"rudmar/core/expression"
	"rudmar/core/manifest"
	"rudmar/core/route"
)

// Call is the input of an invocation.
type Call struct {
	Trigger string `json:"trigger,omitempty"`
	Event   any    `json:"event"`
}

// Reply is the response of a route, as its caller receives it.
type Reply struct {
	Status  int64
	Headers map[string]string // names in lower case
	Body    any
}

// ParseReply interprets a response body by its type: JSON, text, or base64 of other bytes.
func ParseReply(status int, headers map[string]string, body []byte) *Reply {
	r := &Reply{Status: int64(status), Headers: headers}
	var parsed any
	switch {
	case len(body) == 0:
		if strings.HasPrefix(headers["content-type"], "text/") {
			r.Body = ""
		}
	case strings.Contains(headers["content-type"], "json") && json.Unmarshal(body, &parsed) == nil:
		r.Body = parsed
	case utf8.Valid(body):
		r.Body = string(body)
	default:
		r.Body = base64.StdEncoding.EncodeToString(body)
	}
	return r
}

// Observed is the result of an invocation.
type Observed struct {
	// Reply is set if the invocation was a request to a route; then Response is not used.
	Reply      *Reply
	Response   any
	Failed     string // why there is no response; "" if there is one
	Logs       []string
	Took       time.Duration
	MemoryPeak int64
	Cold       bool
}

// Outcome is one expectation with its actual value.
type Outcome struct {
	Expected string `json:"expected"`
	Found    string `json:"received"`
	Holds    bool   `json:"passed"`
}

// Build returns the invocation of a case. Now is the time in events that contain one.
func Build(fn *manifest.Config, function string, send manifest.Send, now time.Time) (Call, error) {
	switch {
	case send.Route != "":
		return buildRoute(fn, send, now)
	case send.Trigger != "":
		for _, t := range fn.Triggers {
			switch {
			case t.Name != send.Trigger:
			case t.Kind == manifest.RouteTrigger:
				return Call{}, fmt.Errorf("%s is a route; send to route: %s", t.Name, t.Route.V)
			default:
				built := triggerEvent(t, send.Event, now)
				if wrong := event.Check(kindOf(t), built); len(wrong) > 0 {
					return Call{}, fmt.Errorf("the event does not match the format of %s: %s", t.Name, strings.Join(wrong, "; "))
				}
				return Call{Trigger: t.Name, Event: built}, nil
			}
		}
		return Call{}, fmt.Errorf("%s has no trigger %q", function, send.Trigger)
	}
	return Call{Event: send.Payload}, nil
}

// kindOf returns a trigger's kind of event.
func kindOf(t manifest.Trigger) string {
	switch t.Kind {
	case manifest.RouteTrigger:
		return event.Route
	case manifest.ObjectsTrigger:
		return event.Objects
	case manifest.QueueTrigger:
		return event.Queue
	case manifest.FunctionTrigger:
		return event.After
	}
	return event.Schedule
}

// Check returns how an event, as parsed from JSON, differs from the format of a trigger of a function.
func Check(fn *manifest.Config, trigger string, sent any) []string {
	for _, t := range fn.Triggers {
		if t.Name == trigger {
			return event.Check(kindOf(t), sent)
		}
	}
	return []string{fmt.Sprintf("there is no trigger %q", trigger)}
}

func buildRoute(fn *manifest.Config, send manifest.Send, now time.Time) (Call, error) {
	method, path, _ := strings.Cut(send.Route, " ")
	var routes []route.Route
	var names []string
	for _, t := range fn.Triggers {
		if t.Kind == manifest.RouteTrigger {
			routes, names = append(routes, t.Route.V), append(names, t.Name)
		}
	}
	i, params := route.Winner(routes, method, path)
	if i < 0 {
		return Call{}, fmt.Errorf("no route matches %s", send.Route)
	}
	return Call{Trigger: names[i], Event: sample(now).Requested(event.Request{Method: method, Path: path, Params: params,
		Query: send.Query, Headers: send.Headers, Body: send.Body})}, nil
}

// sample returns the envelope of a sample event.
func sample(now time.Time) event.Of {
	return event.Of{ID: "e-sample", At: now.UTC().Truncate(time.Second)}
}

// triggerEvent returns a sample event of a trigger with other data; fields that are not given keep the sample's
// values.
func triggerEvent(t manifest.Trigger, data any, now time.Time) map[string]any {
	of := sample(now)
	source, _ := t.Source.V.Literal()
	var out map[string]any
	switch t.Kind {
	case manifest.ObjectsTrigger:
		object := event.Object{Store: source, Key: sampleKey(t), Type: "application/octet-stream", Size: 1024}
		switch {
		case len(t.Events.V) == 0 || slices.Contains(t.Events.V, event.Created):
			out = of.Written(event.Created, object)
		case slices.Contains(t.Events.V, event.Changed):
			out = of.Written(event.Changed, object)
		default:
			out = of.Deleted(object)
		}
	case manifest.QueueTrigger:
		out = of.Messages(source, []event.Message{{ID: 1, Body: map[string]any{}, Attempts: 1, SentAt: now}})
	case manifest.FunctionTrigger:
		end := event.End{Function: source, Invocation: "c-sample", Outcome: event.Succeeded, Response: map[string]any{},
			Event: map[string]any{}}
		if len(t.Events.V) > 0 && !slices.Contains(t.Events.V, event.Succeeded) {
			end.Outcome, end.Response, end.Error = "failed", nil, map[string]any{"kind": "Error", "message": "a sample"}
		}
		out = of.Ended(end)
	default:
		out = of.Fired(t.Name, 0)
	}
	given, isMapping := data.(map[string]any)
	sent, _ := out["data"].(map[string]any)
	switch {
	case isMapping:
		maps.Copy(sent, given)
		if list, ok := given["messages"].([]any); ok && t.Kind == manifest.QueueTrigger {
			sent["messages"] = completeMessages(list, now)
		}
	case data != nil:
		out = event.With(out, data)
	}
	return out
}

// completeMessages returns messages with the values of a sample for what they leave out beside their body.
func completeMessages(list []any, now time.Time) []any {
	out := slices.Clone(list)
	for i := range out {
		given, ok := out[i].(map[string]any)
		if !ok {
			continue
		}
		whole := map[string]any{"id": float64(i + 1), "attempts": 1.0, "sent_at": float64(now.UnixMilli())}
		maps.Copy(whole, given)
		out[i] = whole
	}
	return out
}

// sampleKey is the key of an object that a trigger wants.
func sampleKey(t manifest.Trigger) string {
	match, _ := t.Match.V.Literal()
	if match == "" {
		return "some-object"
	}
	return strings.NewReplacer("**/", "some/", "**", "some/object", "*", "some", "?", "s").Replace(match)
}

// Sample is a sample invocation of a trigger.
type Sample struct {
	Name string `json:"name"`
	Call Call   `json:"call"`
}

// Samples returns a sample for each trigger of a function, and one with an empty payload. Route parameters come
// from saved cases if there are any.
func Samples(f *manifest.Function, fn *manifest.Config, now time.Time) []Sample {
	var out []Sample
	for _, t := range fn.Triggers {
		if t.Kind != manifest.RouteTrigger {
			out = append(out, Sample{Name: t.Name + ": " + string(t.Kind),
				Call: Call{Trigger: t.Name, Event: triggerEvent(t, nil, now)}})
			continue
		}
		params, path := map[string]string{}, ""
		known := savedParameters(f, t.Route.V)
		for _, s := range t.Route.V.Segments {
			text := s.Text
			if s.Kind != route.Literal {
				if text = known[s.Text]; text == "" {
					text = sampleParameter(s.Text)
				}
				params[s.Text] = text
			}
			path += "/" + url.PathEscape(text)
		}
		method := t.Route.V.Method
		if method == "ANY" {
			method = "GET"
		}
		var body any
		if method == "POST" || method == "PUT" || method == "PATCH" {
			body = map[string]any{}
		}
		out = append(out, Sample{Name: t.Name + ": " + t.Route.V.String(), Call: Call{Trigger: t.Name,
			Event: sample(now).Requested(event.Request{Method: method, Path: max("/", path), Params: params,
				Headers: map[string]string{"accept": "application/json"}, Body: body})}})
	}
	return append(out, Sample{Name: "an empty payload", Call: Call{Event: map[string]any{}}})
}

// savedParameters returns the parameters of the first saved case that the route matches.
func savedParameters(f *manifest.Function, r route.Route) map[string]string {
	for _, c := range f.Cases {
		method, path, _ := strings.Cut(c.Send.Route, " ")
		if params, ok := r.Match(method, path); ok {
			return params
		}
	}
	return nil
}

func sampleParameter(name string) string { return "some-" + strings.ReplaceAll(name, "_", "-") }

// Response interprets a return value as a route does: {status, headers, body}, or any other JSON as a 200.
func Response(answer any) (status int64, headers map[string]string, body any) {
	headers = map[string]string{}
	m, ok := answer.(map[string]any)
	s, numbered := m["status"].(float64)
	if !ok || !numbered {
		return 200, headers, answer
	}
	given, _ := m["headers"].(map[string]any)
	for k, v := range given {
		headers[strings.ToLower(k)] = fmt.Sprint(v)
	}
	return int64(s), headers, m["body"]
}

// Judge evaluates expectations, until the context's deadline. A failed invocation meets none.
func Judge(ctx context.Context, language *expression.Language, expect []manifest.Expectation,
	o Observed) ([]Outcome, bool) {
	status, headers, body := Response(o.Response)
	switch {
	case o.Reply != nil:
		status, headers, body = o.Reply.Status, o.Reply.Headers, o.Reply.Body
	case o.Failed != "":
		status = 502
	}
	variables := map[string]any{"status": status, "headers": headers, "body": body,
		"logs": append([]string{}, o.Logs...), "took": o.Took, "memory_peak": o.MemoryPeak, "cold": o.Cold}
	out := make([]Outcome, 0, len(expect))
	all := true
	for _, e := range expect {
		outcome := Outcome{Expected: e.Text}
		compiled, err := language.Compile(e.Text)
		if err == nil {
			outcome.Holds, err = compiled.Holds(ctx, variables)
		}
		outcome.Found = language.Found(ctx, e.Text, variables)
		if err != nil {
			outcome.Holds, outcome.Found = false, err.Error()
		}
		if o.Failed != "" && !outcome.Holds {
			outcome.Found = "the invocation failed: " + o.Failed
		}
		all = all && outcome.Holds
		out = append(out, outcome)
	}
	return out, all
}
