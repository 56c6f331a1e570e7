package store

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
)

// The kinds of notifications, beside those of deliveries: "delivery." and a state, such as
// "delivery.rolled-back".
const (
	NoticeBuildFailed = "build.failed"
	NoticeVersion     = "version.built"
	NoticeDrift       = "drift.detected"
	NoticeDriftOver   = "drift.ended"
	noticeDelivery    = "delivery."
)

// Hook is a notification target.
type NotificationTarget struct {
	ID             int64
	Name, URL      string
	Sealed         []byte   // their signing key
	Kinds          []string // "delivery.settled"; a kind that ends in a period is a prefix; none for all
	Service, Stage string   // "" for all
	Person         string
	Made           time.Time
}

// Takes reports whether the target receives a notification.
func (h NotificationTarget) Takes(kind, service, stage string) bool {
	return (h.Service == "" || h.Service == service) && (h.Stage == "" || h.Stage == stage) &&
		(len(h.Kinds) == 0 || slices.ContainsFunc(h.Kinds, func(k string) bool {
			return k == kind || strings.HasSuffix(k, ".") && strings.HasPrefix(kind, k)
		}))
}

// The states of a notification.
const (
	NotificationQueued = "queued"
	NotificationSent   = "sent"
	NotificationFailed = "failed" // all attempts failed
)

// Notification is a message to a notification target.
type Notification struct {
	ID                   int64
	NotificationTarget   int64
	Kind, Service, Stage string
	Body                 string // a CloudEvent (CloudEvents 1.0, structured, JSON)
	State                string
	Attempts             int
	Due, Made, Ended     time.Time
	Response             string // the last response
}

// NewNotification is a notification of a fact about a stage.
type NewNotification struct {
	Kind, Text string
	Data       map[string]any
}

// ErrHookNamed reports that there is a hook of that name.
var ErrHookNamed = errors.New("the name is in use; delete the other target first, or choose another name")

const hookColumns = `id, name, url, sealed, kinds, service, stage, person, made_at`

func takeHook(r scanner) (NotificationTarget, error) {
	var h NotificationTarget
	var kinds string
	var made int64
	err := r.Scan(&h.ID, &h.Name, &h.URL, &h.Sealed, &kinds, &h.Service, &h.Stage, &h.Person, &made)
	if kinds != "" {
		h.Kinds = strings.Split(kinds, ",")
	}
	h.Made = millis(made)
	return h, err
}

const noticeColumns = `id, hook, kind, service, stage, body, state, tries, due_at, made_at, ended_at, answer`

func takeNotice(r scanner) (Notification, error) {
	var n Notification
	var due, made, ended int64
	err := r.Scan(&n.ID, &n.NotificationTarget, &n.Kind, &n.Service, &n.Stage, &n.Body, &n.State, &n.Attempts,
		&due, &made, &ended,
		&n.Response)
	n.Due, n.Made, n.Ended = millis(due), millis(made), millis(ended)
	return n, err
}

// CreateNotificationTarget stores a notification target; ErrHookNamed if the name exists.
func (s *Store) CreateNotificationTarget(ctx context.Context, h NotificationTarget) (id int64, err error) {
	err = s.Within(ctx, func(tx Tx) error {
		result, err := tx.ExecContext(ctx, `INSERT INTO hooks (name, url, sealed, kinds, service, stage, person, made_at)
			VALUES (?,?,?,?,?,?,?,?) ON CONFLICT DO NOTHING`, h.Name, h.URL, h.Sealed, strings.Join(h.Kinds, ","), h.Service,
			h.Stage, h.Person, s.stamp())
		if err != nil {
			return err
		}
		if n, err := result.RowsAffected(); err != nil || n == 0 {
			return errors.Join(err, fmt.Errorf("%w: %s", ErrHookNamed, h.Name))
		}
		if id, err = result.LastInsertId(); err != nil {
			return err
		}
		return tx.Note(ctx, Entry{Person: h.Person, Service: h.Service, Stage: h.Stage, What: "notification target created",
			Text: h.Name + " to " + h.URL})
	})
	return id, err
}

// NotificationTargets lists notification targets.
func (s *Store) NotificationTargets(ctx context.Context) ([]NotificationTarget, error) {
	return list(ctx, s.read, takeHook, `SELECT `+hookColumns+` FROM hooks WHERE ended_at = 0 ORDER BY name`)
}

// NotificationTarget returns a notification target, also a deleted one.
func (s *Store) NotificationTarget(ctx context.Context, id int64) (NotificationTarget, error) {
	return one(ctx, s.read, takeHook, `SELECT `+hookColumns+` FROM hooks WHERE id = ?`, id)
}

// DeleteNotificationTarget deletes a notification target; its queued notifications are not sent.
func (s *Store) DeleteNotificationTarget(ctx context.Context, h NotificationTarget, person string) error {
	return s.Within(ctx, func(tx Tx) error {
		result, err := tx.ExecContext(ctx, `UPDATE hooks SET ended_at = ? WHERE id = ? AND ended_at = 0`, s.stamp(), h.ID)
		if err != nil {
			return err
		}
		if n, err := result.RowsAffected(); err != nil || n == 0 {
			return errors.Join(err, ErrNotFound)
		}
		if _, err := tx.ExecContext(ctx, `UPDATE notices SET state = ?, ended_at = ?, answer = 'notices to it were ended'
			WHERE hook = ? AND state = ?`, NotificationFailed, s.stamp(), h.ID, NotificationQueued); err != nil {
			return err
		}
		return tx.Note(ctx, Entry{Person: person, Service: h.Service, Stage: h.Stage, What: "notification target deleted", Text: h.Name})
	})
}

// Notify queues a notification for every matching target, in the transaction of its cause.
func (tx Tx) Notify(ctx context.Context, kind, service, stage, text string, data map[string]any) error {
	hooks, err := list(ctx, tx, takeHook, `SELECT `+hookColumns+` FROM hooks WHERE ended_at = 0`)
	if err != nil {
		return err
	}
	for _, h := range hooks {
		if !h.Takes(kind, service, stage) {
			continue
		}
		var id int64
		if err := tx.QueryRowContext(ctx, `INSERT INTO notices (hook, kind, service, stage, body, state, due_at, made_at)
			VALUES (?,?,?,?,'',?,?,?) RETURNING id`, h.ID, kind, service, stage, NotificationQueued, tx.s.stamp(),
			tx.s.stamp()).Scan(&id); err != nil {
			return err
		}
		all := map[string]any{"service": service, "stage": stage, "text": text}
		for k, v := range data {
			all[k] = v
		}
		body := toJSON(map[string]any{"specversion": "1.0", "id": "notice-" + itoa(int(id)),
			"source": "urn:rudmar:" + service, "type": "rudmar." + strings.ReplaceAll(kind, " ", "-"),
			"subject": strings.TrimSuffix(service+"/"+stage, "/"), "time": tx.s.now().UTC().Format(time.RFC3339Nano),
			"datacontenttype": "application/json", "data": all})
		if _, err := tx.ExecContext(ctx, `UPDATE notices SET body = ? WHERE id = ?`, body, id); err != nil {
			return err
		}
		if err := tx.Publish(ctx, service, TopicNotice, map[string]any{"hook": h.ID}); err != nil {
			return err
		}
	}
	return nil
}

// firstQueued is the condition that a notification is the oldest queued one of its target: a target receives its
// notifications in order, so the others wait for it.
const firstQueued = `state = 'queued' AND NOT EXISTS (SELECT 1 FROM notices o
	WHERE o.hook = notices.hook AND o.state = 'queued' AND o.id < notices.id)`

// DueNotifications returns the due notifications, at most one of each target, the longest due first.
func (s *Store) DueNotifications(ctx context.Context) ([]Notification, error) {
	return list(ctx, s.read, takeNotice, `SELECT `+noticeColumns+` FROM notices WHERE due_at <= ? AND `+firstQueued+`
		ORDER BY due_at, id`, s.stamp())
}

// NextNotification returns the next notification of a target if it is due; ErrNotFound if there is none.
func (s *Store) NextNotification(ctx context.Context, target int64) (Notification, error) {
	return one(ctx, s.read, takeNotice, `SELECT `+noticeColumns+` FROM notices WHERE hook = ? AND due_at <= ? AND `+firstQueued,
		target, s.stamp())
}

// Backlog is the queue of a notification target.
type Backlog struct {
	Target   string
	Queued   int
	Oldest   time.Time // when its oldest notification was queued
	Attempts int       // of the oldest one
	Response string    // to the last attempt
	Due      time.Time // of the next attempt
}

// Backlogs returns the targets with queued notifications, sorted by name.
func (s *Store) Backlogs(ctx context.Context) ([]Backlog, error) {
	return list(ctx, s.read, func(r scanner) (Backlog, error) {
		var b Backlog
		var oldest, due int64
		err := r.Scan(&b.Target, &b.Queued, &oldest, &b.Attempts, &b.Response, &due)
		b.Oldest, b.Due = millis(oldest), millis(due)
		return b, err
	}, `SELECT hooks.name, (SELECT count(*) FROM notices q WHERE q.hook = notices.hook AND q.state = 'queued'), notices.made_at,
		tries, answer, due_at FROM notices JOIN hooks ON hooks.id = notices.hook WHERE `+firstQueued+` ORDER BY hooks.name`)
}

// Notifications returns the newest notifications to a hook.
func (s *Store) Notifications(ctx context.Context, hook int64, most int) ([]Notification, error) {
	return list(ctx, s.read, takeNotice, `SELECT `+noticeColumns+` FROM notices WHERE hook = ? ORDER BY id DESC LIMIT ?`, hook,
		most)
}

// Notification returns a notification.
func (s *Store) Notification(ctx context.Context, id int64) (Notification, error) {
	return one(ctx, s.read, takeNotice, `SELECT `+noticeColumns+` FROM notices WHERE id = ?`, id)
}

// noticesKept is how long sent and failed notifications are kept.
const noticesKept = 30 * 24 * time.Hour

// RecordAttempt records the result of an attempt: the notification is sent, failed, or due again.
func (s *Store) RecordAttempt(ctx context.Context, n Notification) error {
	return s.Within(ctx, func(tx Tx) error {
		ended := int64(0)
		if n.State != NotificationQueued {
			ended = s.stamp()
		}
		if _, err := tx.ExecContext(ctx, `UPDATE notices SET state = ?, tries = ?, due_at = ?, ended_at = ?, answer = ?
			WHERE id = ? AND state = 'queued'`, n.State, n.Attempts, n.Due.UnixMilli(), ended, n.Response, n.ID); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM notices WHERE ended_at > 0 AND ended_at < ?`,
			s.now().Add(-noticesKept).UnixMilli()); err != nil {
			return err
		}
		return tx.Publish(ctx, n.Service, TopicNotice, map[string]any{"hook": n.NotificationTarget})
	})
}

// RetryMessage queues an ended notification once more, unchanged.
func (s *Store) RetryMessage(ctx context.Context, id int64) error {
	return s.Within(ctx, func(tx Tx) error {
		result, err := tx.ExecContext(ctx, `UPDATE notices SET state = 'queued', tries = 0, due_at = ?, ended_at = 0
			WHERE id = ? AND state <> 'queued' AND EXISTS (SELECT 1 FROM hooks h WHERE h.id = hook AND h.ended_at = 0)`, s.stamp(), id)
		if err != nil {
			return err
		}
		if n, err := result.RowsAffected(); err != nil || n == 0 {
			return errors.Join(err, fmt.Errorf("notification %d is already queued, or its target was deleted: %w", id, ErrMoved))
		}
		return tx.Publish(ctx, "", TopicNotice, nil)
	})
}
