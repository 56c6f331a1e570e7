// Package event builds the events that invoke functions: a request for a route, and otherwise an
// event in the CloudEvents 1.0 format.
//
// Its values can be used concurrently.
package event

import "time"

// Of has the fields of an individual event.
type Of struct {
	ID string
	At time.Time
}

func (o Of) cloud(kind, source string, data any) map[string]any {
	return map[string]any{
		"specversion": "1.0", "id": o.ID, "type": kind, "source": source,
		"time": o.At.UTC().Format(time.RFC3339Nano), "datacontenttype": "application/json", "data": data,
	}
}

// With replaces the data of an event.
func With(event map[string]any, data any) map[string]any {
	event["data"] = data
	return event
}

// Fired returns the event of a schedule; missed counts later due times during an outage of the platform, which
// this event covers.
func (o Of) Fired(schedule string, missed int) map[string]any {
	return o.cloud("rudmar.schedule.fired", "/schedules/"+schedule, map[string]any{
		"schedule": schedule, "due": o.At.UTC().Format(time.RFC3339), "missed": float64(missed)})
}

// Object is an object in an event. Size and Type are set for written objects.
type Object struct {
	Store, Key, Type string
	Size             int // bytes
}

// What can happen to an object, and how a function can end, in the terms of triggers.
const (
	Created   = "created"
	Changed   = "changed"
	Deleted   = "deleted"
	Succeeded = "succeeded"
	Failed    = "failed"
)

// Written returns the event of a written object: what is Created or Changed.
func (o Of) Written(what string, object Object) map[string]any {
	out := o.cloud("rudmar.object."+what, "/objects/"+object.Store, map[string]any{
		"store": object.Store, "key": object.Key, "size": float64(object.Size), "type": object.Type})
	out["subject"] = object.Key
	return out
}

// Deleted is the event of an object that was removed.
func (o Of) Deleted(object Object) map[string]any {
	out := o.cloud("rudmar.object.deleted", "/objects/"+object.Store,
		map[string]any{"store": object.Store, "key": object.Key})
	out["subject"] = object.Key
	return out
}

// Message is one message of a queue.
type Message struct {
	ID       int64
	Body     any
	Attempts int // including this one
	SentAt   time.Time
}

// Messages is the event of a batch from a queue.
func (o Of) Messages(queue string, batch []Message) map[string]any {
	list := make([]any, len(batch))
	for i, m := range batch {
		list[i] = map[string]any{"id": float64(m.ID), "body": m.Body, "attempts": float64(m.Attempts),
			"sent_at": float64(m.SentAt.UnixMilli())}
	}
	return o.cloud("rudmar.queue.messages", "/queues/"+queue, map[string]any{"queue": queue, "messages": list})
}

// End is the end of an invocation.
type End struct {
	Function, Invocation string
	Outcome              string // "succeeded", or the kind of failure
	Response, Error      any
	Event                any // its event
}

// What returns the outcome in the terms of triggers: succeeded, or failed.
func (e End) What() string {
	if e.Outcome == Succeeded {
		return Succeeded
	}
	return Failed
}

// Ended returns the event of a function's end.
func (o Of) Ended(e End) map[string]any {
	return o.cloud("rudmar.function."+e.What(), "/functions/"+e.Function, map[string]any{
		"function": e.Function, "invocation": e.Invocation, "outcome": e.Outcome, "response": e.Response,
		"answer": e.Response, // the former name, for functions that are deployed
		"error":  e.Error, "event": e.Event})
}

// Request is the event of a route. Header names are in lower case. Functions receive Requested.
type Request struct {
	Type   string            `json:"type"`
	ID     string            `json:"id"`
	Time   string            `json:"time"` // RFC 3339
	Method string            `json:"method"`
	Path   string            `json:"path"`
	Params map[string]string `json:"params"`
	// Query has one text per key; a list of texts for a repeated key.
	Query   map[string]any    `json:"query"`
	Headers map[string]string `json:"headers"`
	// Body is JSON, text, or nil. Bytes are base64, with InBase64.
	Body     any  `json:"body"`
	InBase64 bool `json:"body_is_base64,omitempty"`
}

// Requested returns the event of a request, with empty mappings in place of missing ones.
func (o Of) Requested(r Request) Request {
	r.Type, r.ID, r.Time = requested, o.ID, o.At.UTC().Format(time.RFC3339Nano)
	for _, m := range []*map[string]string{&r.Params, &r.Headers} {
		if *m == nil {
			*m = map[string]string{}
		}
	}
	if r.Query == nil {
		r.Query = map[string]any{}
	}
	return r
}
