// Package cases turns saved cases and samples into the events that a platform
// sends, and judges what came back by what was expected.
package cases

import (
	"context"
	"fmt"
	"net/url"
	"strings"
	"time"

	"rudmar/core/expression"
	"rudmar/core/manifest"
	"rudmar/core/route"
)

// Call is what is sent to a function.
type Call struct {
	Trigger string `json:"trigger,omitempty"`
	Event   any    `json:"event"`
}

// Observed is what came back.
type Observed struct {
	Answer     any
	Failed     string // why there is no answer; "" where there is one
	Logs       []string
	Took       time.Duration
	MemoryPeak int64
	Cold       bool
}

// Outcome is one expectation with what was found.
type Outcome struct {
	Expected string `json:"expected"`
	Found    string `json:"found"`
	Holds    bool   `json:"holds"`
}

// Build gives the call that a case makes. Now stands in events that carry a time.
func Build(fn *manifest.Config, function string, send manifest.Send, now time.Time) (Call, error) {
	switch {
	case send.Route != "":
		return buildRoute(fn, send)
	case send.Trigger != "":
		for _, t := range fn.Triggers {
			if t.Name == send.Trigger {
				return Call{Trigger: t.Name, Event: triggerEvent(t, function, send.Event, now)}, nil
			}
		}
		return Call{}, fmt.Errorf("%s has no trigger %q", function, send.Trigger)
	}
	return Call{Event: send.Payload}, nil
}

func buildRoute(fn *manifest.Config, send manifest.Send) (Call, error) {
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
		return Call{}, fmt.Errorf("no route takes %s", send.Route)
	}
	return Call{Trigger: names[i], Event: RouteEvent(method, path, params, send.Query, send.Headers, send.Body)}, nil
}

// RouteEvent is the event of a request.
func RouteEvent(method, path string, params, query, headers map[string]string, body any) map[string]any {
	return map[string]any{"method": method, "path": path, "params": orEmpty(params), "query": orEmpty(query), "headers": orEmpty(headers), "body": body}
}

func orEmpty(m map[string]string) map[string]any {
	out := make(map[string]any, len(m))
	for k, v := range m {
		out[k] = v
	}
	return out
}

// triggerEvent is a CloudEvent like the one that the trigger sends.
func triggerEvent(t manifest.Trigger, function string, data any, now time.Time) map[string]any {
	kind, source := "rudmar.schedule.fired", "/schedules/"+t.Name
	switch t.Kind {
	case manifest.ObjectsTrigger:
		kind, source = "rudmar.object.created", "/objects"
	case manifest.QueueTrigger:
		kind, source = "rudmar.queue.batch", "/queues"
	case manifest.FunctionTrigger:
		kind, source = "rudmar.function.done", "/functions/"+function
	}
	if data == nil {
		data = sampleData(t, now)
	}
	return map[string]any{"specversion": "1.0", "id": "e-sample", "type": kind, "source": source,
		"time": now.UTC().Format(time.RFC3339), "datacontenttype": "application/json", "data": data}
}

func sampleData(t manifest.Trigger, now time.Time) any {
	switch t.Kind {
	case manifest.ObjectsTrigger:
		return map[string]any{"name": "raw/2031/sample.jpg", "size": 1024.0}
	case manifest.QueueTrigger:
		return map[string]any{"messages": []any{map[string]any{"id": "m-1", "body": map[string]any{}}}}
	case manifest.FunctionTrigger:
		return map[string]any{"event": map[string]any{}, "answer": nil}
	}
	return map[string]any{"schedule": t.Name, "due": now.UTC().Format(time.RFC3339)}
}

// Sample is a call that somebody may try, made from a trigger.
type Sample struct {
	Name string `json:"name"`
	Call Call   `json:"call"`
}

// Samples makes a sample for each trigger of a function, and one with an empty
// payload. Parameters of routes come from saved cases where there are any.
func Samples(f *manifest.Function, fn *manifest.Config, now time.Time) []Sample {
	function := f.Name
	var out []Sample
	for _, t := range fn.Triggers {
		if t.Kind != manifest.RouteTrigger {
			out = append(out, Sample{Name: t.Name + ": " + string(t.Kind), Call: Call{Trigger: t.Name, Event: triggerEvent(t, function, nil, now)}})
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
			Event: RouteEvent(method, max("/", path), params, nil, map[string]string{"accept": "application/json"}, body)}})
	}
	return append(out, Sample{Name: "an empty payload", Call: Call{Event: map[string]any{}}})
}

// savedParameters takes parameters from the first saved case that the route takes.
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

// Answer takes an answer apart the way a route does: {status, headers, body},
// or any other JSON as a 200.
func Answer(answer any) (status int64, headers map[string]string, body any) {
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

// Judge holds what came back against what was expected. A call that failed
// holds nothing.
func Judge(ctx context.Context, language *expression.Language, expect []manifest.Expectation, o Observed) ([]Outcome, bool) {
	status, headers, body := Answer(o.Answer)
	if o.Failed != "" {
		status = 502
	}
	variables := map[string]any{"status": status, "headers": headers, "body": body, "logs": append([]string{}, o.Logs...), "took": o.Took, "memory_peak": o.MemoryPeak, "cold": o.Cold}
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
			outcome.Found = "the call failed: " + o.Failed
		}
		all = all && outcome.Holds
		out = append(out, outcome)
	}
	return out, all
}
