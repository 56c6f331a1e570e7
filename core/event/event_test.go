package event_test

import (
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
		{event.Request{Method: "GET", Path: "/a", Query: map[string]any{"q": "1"}}.Whole(),
			`{"body":null,"headers":{},"method":"GET","params":{},"path":"/a","query":{"q":"1"}}`},
		{event.Request{Method: "PUT", Path: "/", Body: "AAE=", InBase64: true}.Whole(),
			`{"body":"AAE=","body_is_base64":true,"headers":{},"method":"PUT","params":{},"path":"/","query":{}}`},
	} {
		got, err := canon.Append(nil, c.event)
		if err != nil || string(got) != c.want {
			t.Errorf("%s, %v\nwant %s", got, err, c.want)
		}
	}
}
