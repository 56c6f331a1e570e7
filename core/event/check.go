package event

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"
)

// The kinds of triggers, in the terms of Check.
const (
	Route    = "route"
	Schedule = "schedule"
	Objects  = "objects"
	Queue    = "queue"
	After    = "after_function"
)

// requested is the type of a route's events.
const requested = "rudmar.route.requested"

// field is one field of a format.
type field struct {
	name     string
	optional bool
	check    func(v any) string // "" for a value that is allowed, otherwise what is expected
}

func text(v any) string {
	if _, ok := v.(string); !ok {
		return "a string"
	}
	return ""
}

func number(v any) string {
	if _, ok := v.(float64); !ok {
		return "a number"
	}
	return ""
}

func anything(any) string { return "" }

func moment(v any) string {
	s, _ := v.(string)
	if _, err := time.Parse(time.RFC3339, s); err != nil {
		return "a time such as 2031-04-02T03:00:00Z (RFC 3339)"
	}
	return ""
}

func oneOf(names ...string) func(any) string {
	return func(v any) string {
		if s, ok := v.(string); !ok || !slices.Contains(names, s) {
			return strings.Join(names, " or ")
		}
		return ""
	}
}

// texts checks a mapping to strings, and to lists of strings if that is allowed.
func texts(lists bool) func(any) string {
	return func(v any) string {
		m, ok := v.(map[string]any)
		for _, item := range m {
			_, isText := item.(string)
			list, isList := item.([]any)
			ok = ok && (isText || lists && isList && !slices.ContainsFunc(list, func(i any) bool { return text(i) != "" }))
		}
		switch {
		case ok:
			return ""
		case lists:
			return "a mapping to strings or lists of strings"
		}
		return "a mapping to strings"
	}
}

// Check returns how an event, as parsed from JSON, differs from the format of a kind of trigger: one sentence for
// each missing, unknown or wrong field. It returns nothing for an event that the trigger can send.
func Check(kind string, event any) []string {
	if kind == Route {
		return fields("", event, []field{{"type", false, oneOf(requested)}, {"id", false, text}, {"time", false, moment},
			{"method", false, text}, {"path", false, path}, {"params", false, texts(false)}, {"query", false, texts(true)},
			{"headers", false, texts(false)}, {"body", false, anything}, {"body_is_base64", true, truth}})
	}
	object := []field{{"store", false, text}, {"key", false, text}, {"size", true, number}, {"type", true, text}}
	types, data := map[string][]string{
		Schedule: {"rudmar.schedule.fired"},
		Objects:  {"rudmar.object.created", "rudmar.object.changed", "rudmar.object.deleted"},
		Queue:    {"rudmar.queue.messages"},
		After:    {"rudmar.function.succeeded", "rudmar.function.failed"},
	}[kind], map[string][]field{
		Schedule: {{"schedule", false, text}, {"due", false, moment}, {"missed", false, number}},
		Objects:  object,
		Queue:    {{"queue", false, text}, {"messages", false, list}},
		After: {{"function", false, text}, {"invocation", false, text}, {"outcome", false, text}, {"response", false, anything},
			{"answer", true, anything}, {"error", false, anything}, {"event", false, anything}},
	}[kind]
	out := fields("", event, []field{{"specversion", false, oneOf("1.0")}, {"type", false, oneOf(types...)}, {"id", false, text},
		{"source", false, text}, {"time", false, moment}, {"subject", true, text},
		{"datacontenttype", true, oneOf("application/json")}, {"data", false, anything}})
	whole, _ := event.(map[string]any)
	if whole["data"] == nil {
		return out
	}
	out = append(out, fields("data.", whole["data"], data)...)
	inside, _ := whole["data"].(map[string]any)
	messages, _ := inside["messages"].([]any)
	for i, m := range messages {
		if kind == Queue {
			out = append(out, fields(fmt.Sprintf("data.messages[%d].", i), m, []field{{"id", false, number}, {"body", false, anything},
				{"attempts", false, number}, {"sent_at", false, number}})...)
		}
	}
	return out
}

func path(v any) string {
	if s, _ := v.(string); !strings.HasPrefix(s, "/") {
		return "a path that starts with /"
	}
	return ""
}

func truth(v any) string {
	if _, ok := v.(bool); !ok {
		return "true or false"
	}
	return ""
}

func list(v any) string {
	if _, ok := v.([]any); !ok {
		return "a list"
	}
	return ""
}

// fields compares a mapping with its fields.
func fields(before string, v any, known []field) []string {
	m, ok := v.(map[string]any)
	if !ok {
		if before == "" {
			before = "the event."
		}
		return []string{strings.TrimSuffix(before, ".") + " must be a mapping"}
	}
	var out []string
	for _, f := range known {
		value, there := m[f.name]
		switch {
		case !there && !f.optional:
			out = append(out, before+f.name+" is missing")
		case there:
			if wanted := f.check(value); wanted != "" {
				out = append(out, fmt.Sprintf("%s%s must be %s", before, f.name, wanted))
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(m)) {
		if !slices.ContainsFunc(known, func(f field) bool { return f.name == name }) {
			out = append(out, "unknown field "+before+name)
		}
	}
	return out
}
