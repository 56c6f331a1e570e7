package store

import (
	"context"
	"time"
)

// Topics of events.
const (
	TopicSource      = "source"       // a branch moved
	TopicMirror      = "mirror"       // a fetch of a mirror ended
	TopicBuild       = "build"        // a build started, wrote output, or ended
	TopicDelivery    = "delivery"     // a delivery changed its state
	TopicGates       = "gates"        // gate results changed
	TopicDeployment  = "deployment"   // a deployment was requested, or progressed
	TopicSecret      = "secret"       // a secret was set
	TopicShift       = "shift"        // a traffic shift advanced, or has a new judgment
	TopicNotice      = "notification" // a notification is queued, or was sent
	TopicCopy        = "copy"         // a private copy was created or deleted
	TopicObservation = "observation"  // the observed state changed
)

// Deployments is signaled, besides the events themselves, when a deployment is requested, is cancelled or has
// ended: for listeners that do not need each step.
const Deployments = "deployments"

// Event is stored in the transaction of its cause, and notifies pages and loops of what to read again.
type Event struct {
	ID      int64
	At      time.Time
	Service string
	Topic   string
	Body    string // JSON
}

// eventsKept is how many of the newest events are stored, for pages that reconnect.
const eventsKept = 5000

// Publish stores an event in a transaction. Listeners are woken once it is committed.
func (tx Tx) Publish(ctx context.Context, service, topic string, body map[string]any) error {
	result, err := tx.ExecContext(ctx, `INSERT INTO events (at, service, topic, body) VALUES (?,?,?,?)`, tx.s.stamp(),
		service, topic, toJSON(body))
	if err != nil {
		return err
	}
	*tx.published = append(*tx.published, topic)
	id, err := result.LastInsertId()
	if err == nil && id%500 == 0 {
		_, err = tx.ExecContext(ctx, `DELETE FROM events WHERE id < ?`, id-eventsKept)
	}
	return err
}

// Publish stores an event without other data.
func (s *Store) Publish(ctx context.Context, service, topic string, body map[string]any) error {
	return s.Within(ctx, func(tx Tx) error { return tx.Publish(ctx, service, topic, body) })
}

// Listen returns a channel that receives after events of the topics were committed, or after any event without
// topics, until stop is called.
func (s *Store) Listen(topics ...string) (wake <-chan struct{}, stop func()) {
	return s.told.Listen(topics...)
}

// EventsAfter returns the events after one, oldest first.
func (s *Store) EventsAfter(ctx context.Context, id int64, limit int) ([]Event, error) {
	return list(ctx, s.read, func(r scanner) (Event, error) {
		var e Event
		var at int64
		err := r.Scan(&e.ID, &at, &e.Service, &e.Topic, &e.Body)
		e.At = millis(at)
		return e, err
	}, `SELECT id, at, service, topic, body FROM events WHERE id > ? ORDER BY id LIMIT ?`, id, limit)
}
