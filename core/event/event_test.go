package event_test

import (
	"encoding/json"
	"slices"
	"strings"
	"testing"
	"time"

	"rudmar/core/canon"
	"rudmar/core/event"
)

func TestEvents(t *testing.T) {
	of := event.Of{ID: "e-1", At: time.Date(2031, 4, 2, 3, 0, 0, 5e6, time.FixedZone("", 3600))}
	const around = `"datacontenttype":"application/json","id":"e-1",`
	for _, c := range []struct {
		event any
		want  string
	}{
		{of.Fired("nightly", 2), `{"data":{"due":"2031-04-02T02:00:00Z","missed":2,"schedule":"nightly"},` + around +
			`"source":"/schedules/nightly","specversion":"1.0","time":"2031-04-02T02:00:00.005Z","type":"rudmar.schedule.fired"}`},
		{of.Written(event.Created, event.Object{Store: "photos", Key: "a/b.jpg", Type: "image/jpeg", Size: 3}),
			`{"data":{"key":"a/b.jpg","size":3,"store":"photos","type":"image/jpeg"},` + around +
				`"source":"/objects/photos","specversion":"1.0","subject":"a/b.jpg","time":"2031-04-02T02:00:00.005Z","type":"rudmar.object.created"}`},
		{of.Deleted(event.Object{Store: "photos", Key: "a/b.jpg"}), `{"data":{"key":"a/b.jpg","store":"photos"},` + around +
			`"source":"/objects/photos","specversion":"1.0","subject":"a/b.jpg","time":"2031-04-02T02:00:00.005Z","type":"rudmar.object.deleted"}`},
		{of.Messages("readings", []event.Message{{ID: 7, Body: []any{1.5}, Attempts: 2, SentAt: time.UnixMilli(9)}}),
			`{"data":{"messages":[{"attempts":2,"body":[1.5],"id":7,"sent_at":9}],"queue":"readings"},` + around +
				`"source":"/queues/readings","specversion":"1.0","time":"2031-04-02T02:00:00.005Z","type":"rudmar.queue.messages"}`},
		{of.Ended(event.End{Function: "warn", Invocation: "c-1", Outcome: "succeeded", Response: "yes", Event: nil}),
			`{"data":{"answer":"yes","error":null,"event":null,"function":"warn","invocation":"c-1","outcome":"succeeded","response":"yes"},` +
				around + `"source":"/functions/warn","specversion":"1.0","time":"2031-04-02T02:00:00.005Z","type":"rudmar.function.succeeded"}`},
		{of.Ended(event.End{Function: "warn", Outcome: "timed-out"}),
			`{"data":{"answer":null,"error":null,"event":null,"function":"warn","invocation":"","outcome":"timed-out","response":null},` +
				around + `"source":"/functions/warn","specversion":"1.0","time":"2031-04-02T02:00:00.005Z","type":"rudmar.function.failed"}`},
		{event.With(map[string]any{"data": 1.0, "id": "x"}, "own"), `{"data":"own","id":"x"}`},
		{of.Requested(event.Request{Method: "GET", Path: "/a", Query: map[string]any{"q": "1"}}),
			`{"body":null,"headers":{},"id":"e-1","method":"GET","params":{},"path":"/a","query":{"q":"1"},"time":"2031-04-02T02:00:00.005Z","type":"rudmar.route.requested"}`},
		{of.Requested(event.Request{Method: "PUT", Path: "/", Body: "AAE=", InBase64: true}),
			`{"body":"AAE=","body_is_base64":true,"headers":{},"id":"e-1","method":"PUT","params":{},"path":"/","query":{},"time":"2031-04-02T02:00:00.005Z","type":"rudmar.route.requested"}`},
	} {
		got, err := canon.Append(nil, c.event)
		if err != nil || string(got) != c.want {
			t.Errorf("%s, %v\nwant %s", got, err, c.want)
		}
	}
}

// Every event that a trigger sends matches its format; without a required field, or with an unknown one, it does
// not, and the field is named.
func TestCheck(t *testing.T) {
	of := event.Of{ID: "e-1", At: time.Date(2031, 4, 2, 3, 0, 0, 0, time.UTC)}
	for kind, events := range map[string][]any{
		event.Schedule: {of.Fired("nightly", 2)},
		event.Objects:  {of.Written(event.Changed, event.Object{Store: "photos", Key: "a", Size: 3}), of.Deleted(event.Object{Store: "photos"})},
		event.Queue:    {of.Messages("readings", []event.Message{{ID: 7, Body: nil}}), of.Messages("readings", nil)},
		event.After:    {of.Ended(event.End{Function: "warn", Outcome: "succeeded"}), of.Ended(event.End{Outcome: "timed-out"})},
		event.Route:    {of.Requested(event.Request{Method: "GET", Path: "/a", Query: map[string]any{"q": []any{"1", "2"}}})},
	} {
		for _, e := range events {
			var whole map[string]any
			text, err := json.Marshal(e)
			if err != nil || json.Unmarshal(text, &whole) != nil {
				t.Fatal(err)
			}
			if wrong := event.Check(kind, whole); len(wrong) > 0 {
				t.Errorf("%s: %q", text, wrong)
			}
			optional := []string{"subject", "datacontenttype", "size", "type", "answer"}
			for _, part := range []string{"", "data."} {
				m := whole
				if part != "" {
					m, _ = whole["data"].(map[string]any)
				}
				for name, v := range m {
					delete(m, name)
					if got := event.Check(kind, whole); !slices.Contains(got, part+name+" is missing") &&
						(!slices.Contains(optional, name) || part == "" && name == "type") {
						t.Errorf("%s without %s%s: %q", kind, part, name, got)
					}
					m[name+"s"] = v
					if got := event.Check(kind, whole); !slices.Contains(got, "unknown field "+part+name+"s") {
						t.Errorf("%s with %s%ss: %q", kind, part, name, got)
					}
					delete(m, name+"s")
					m[name] = v
				}
			}
		}
	}
	for _, c := range []struct {
		kind string
		sent any
		want string
	}{
		{event.Route, nil, "the event must be a mapping"}, {event.Queue, map[string]any{"data": 1.0}, "data must be a mapping"},
		{event.Route, map[string]any{"path": "a", "params": map[string]any{"x": 1.0}, "query": []any{}},
			"path must be a path that starts with /; params must be a mapping to strings; query must be a mapping to strings or lists of strings"},
		{event.Schedule, map[string]any{"time": "noon", "specversion": 1.0},
			"specversion must be 1.0; time must be a time such as 2031-04-02T03:00:00Z (RFC 3339)"},
		{event.Queue, map[string]any{"data": map[string]any{"queue": "a", "messages": []any{map[string]any{"id": "x"}}}},
			"data.messages[0].id must be a number; data.messages[0].body is missing"},
	} {
		got := slices.DeleteFunc(event.Check(c.kind, c.sent), func(s string) bool {
			return strings.HasSuffix(s, "is missing") && !strings.Contains(c.want, s)
		})
		if strings.Join(got, "; ") != c.want {
			t.Errorf("%s %v: %q, not %q", c.kind, c.sent, got, c.want)
		}
	}
}
