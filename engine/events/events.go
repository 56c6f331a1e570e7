// Package events tells pages what has happened: each event is kept with an id,
// so that somebody who comes back can ask for what was missed.
package events

import (
	"context"
	"encoding/json"
	"log/slog"

	"rudmar/engine/store"
)

// Hub keeps events and wakes those who listen.
type Hub struct {
	store *store.Store
	log   *slog.Logger
	bell  Bell
}

// NewHub makes a hub over the store.
func NewHub(s *store.Store, log *slog.Logger) *Hub {
	return &Hub{store: s, log: log}
}

// Tell keeps an event and wakes the listeners.
func (h *Hub) Tell(ctx context.Context, service, topic string, body any) {
	text, err := json.Marshal(body)
	if err == nil {
		_, err = h.store.AddEvent(context.WithoutCancel(ctx), store.Event{Service: service, Topic: topic, Body: string(text)})
	}
	if err != nil {
		h.log.Error("keeping an event", "topic", topic, "error", err)
	}
	h.bell.Ring()
}

// Listen gives a channel that receives after each event, until stop is called.
func (h *Hub) Listen() (wake <-chan struct{}, stop func()) { return h.bell.Listen() }

// After gives what happened after an event.
func (h *Hub) After(ctx context.Context, id int64) ([]store.Event, error) {
	return h.store.EventsAfter(ctx, id, 500)
}
