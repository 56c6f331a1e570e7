package local

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"rudmar/core/event"
	"rudmar/core/pack"
	"rudmar/core/resource"
	"rudmar/platform/api"
	"rudmar/sqlstmt"
)

// maxAttempts is the number of attempts before a message becomes a dead letter.
const maxAttempts = 5

// maxChain is the maximum length of a chain of functions that start one another.
const maxChain = 16

// dispatcher delivers messages and events to subscribed functions.
type dispatcher struct {
	platform *Platform
	wake     chan struct{}

	mu   sync.Mutex
	busy map[string]int // calls in progress, by scope and subscription
}

func newDispatcher(p *Platform) *dispatcher {
	return &dispatcher{platform: p, wake: make(chan struct{}, 1), busy: map[string]int{}}
}

func (d *dispatcher) nudge() {
	select {
	case d.wake <- struct{}{}:
	default:
	}
}

// subscription is a subscription resource, read.
type subscription struct {
	at            member
	address, name string
	kind, source  string // such as "queue" and "readings"
	on            []string
	match         string
	batch         int
	wait          time.Duration
}

func readSubscription(sc scope, r row) (subscription, bool) {
	if r.attributes["enabled"] == false {
		return subscription{}, false
	}
	s := subscription{address: r.address, batch: 1}
	_, rest, _ := strings.Cut(r.address, "/")
	s.at.scope = sc
	s.at.function, s.name, _ = strings.Cut(rest, "/")
	source, _ := r.attributes["source"].(string)
	s.kind, s.source, _ = strings.Cut(source, "/")
	on, _ := r.attributes["events"].([]any)
	for _, word := range on {
		s.on = append(s.on, fmt.Sprint(word))
	}
	s.match, _ = r.attributes["match"].(string)
	if batch, ok := r.attributes["batch_size"].(float64); ok {
		s.batch = max(1, int(batch))
	}
	wait, _ := r.attributes["max_wait"].(float64)
	s.wait = msDuration(wait)
	return s, true
}

// subscriptions lists those of all scopes.
func (p *Platform) subscriptions(ctx context.Context) ([]subscription, error) {
	rows, err := p.store.db.QueryContext(ctx,
		`SELECT region, service, stage, address, attributes FROM resources WHERE kind = ?`, resource.Subscription)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []subscription
	for rows.Next() {
		var sc scope
		var r row
		var text string
		if err := rows.Scan(&sc.region, &sc.service, &sc.stage, &r.address, &text); err != nil {
			return nil, err
		}
		if err := json.Unmarshal([]byte(text), &r.attributes); err != nil {
			return nil, err
		}
		if s, ok := readSubscription(sc, r); ok {
			out = append(out, s)
		}
	}
	return out, rows.Err()
}

// objectEvent puts an event for each function that subscribes to it, in the
// transaction that changes the object.
func (p *Platform) objectEvent(ctx context.Context, tx sqlstmt.Tx, sc scope, what string, object event.Object) error {
	rows, err := p.store.resources(ctx, tx, sc, "AND kind = ?", resource.Subscription)
	if err != nil {
		return err
	}
	for _, r := range rows {
		s, on := readSubscription(sc, r)
		wanted := len(s.on) == 0 && what == event.Created || slices.Contains(s.on, what)
		if !on || s.kind != "objects" || s.source != object.Store || !wanted || s.match != "" &&
			!pack.Exclude([]string{s.match}, object.Key) {
			continue
		}
		told := eventOf(p.options.Now()).Written(what, object)
		if what == event.Deleted {
			told = eventOf(p.options.Now()).Deleted(object)
		}
		if err := p.putEvent(ctx, tx, s, told); err != nil {
			return err
		}
	}
	return nil
}

type executor interface {
	ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error)
}

func (p *Platform) putEvent(ctx context.Context, tx executor, s subscription, event map[string]any) error {
	text, err := json.Marshal(event)
	if err != nil {
		return err
	}
	now := p.options.Now().UnixMilli()
	_, err = tx.ExecContext(ctx,
		`INSERT INTO messages (region, service, stage, queue, subscription, body, sent_at, due_at) VALUES (?,?,?,'',?,?,?,?)`,
		s.at.region, s.at.service, s.at.stage, s.address, string(text), now, now)
	return err
}

// ended sends messages to the functions that run after a function.
func (p *Platform) ended(ctx context.Context, c call, inv api.Invocation) {
	end := event.End{Function: c.at.function, Invocation: inv.Id, Outcome: string(inv.Outcome), Response: inv.Response,
		Error: inv.Error, Event: c.event}
	there, err := p.directory.of(ctx, c.at.scope)
	for i := 0; err == nil && i < len(there.subscriptions); i++ {
		s := there.subscriptions[i]
		if s.kind != "function" || s.source != c.at.function || len(s.on) > 0 && !slices.Contains(s.on, end.What()) {
			continue
		}
		if c.chain >= maxChain {
			p.observed.line(s.at, api.LogLine{At: p.options.Now().UnixMilli(), Function: s.at.function, Stream: "platform",
				Text: fmt.Sprintf("not invoked after %s: %d functions invoked one another already, probably in a cycle",
					c.at.function, maxChain)})
			continue
		}
		told := eventOf(p.options.Now()).Ended(end)
		told["rudmarchain"] = c.chain + 1
		if c.purpose != "" {
			told["rudmarpurpose"] = c.purpose
		}
		err = p.putEvent(ctx, p.store.db, s, told)
		p.dispatch.nudge()
	}
	if err != nil {
		p.options.Log.Error("reporting the end of a function", "function", c.at.function, "error", err)
	}
}

// run delivers messages until the context ends. Deliveries that a former process did not finish are repeated.
func (d *dispatcher) run(ctx context.Context) {
	free := false // messages that an earlier process had taken can be taken again
	tick := time.NewTicker(250 * time.Millisecond)
	defer tick.Stop()
	var calls sync.WaitGroup
	defer calls.Wait()
	for {
		var err error
		if !free {
			_, err = d.platform.store.db.ExecContext(ctx, `UPDATE messages SET taken = 0`)
			free = err == nil
		}
		if free {
			err = d.round(ctx, &calls)
		}
		if err != nil && ctx.Err() == nil {
			d.platform.options.Log.Error("delivering messages", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		case <-d.wake:
		}
	}
}

// message is a message in delivery.
type message struct {
	id, sentAt int64
	attempts   int
	body       string
}

func (d *dispatcher) round(ctx context.Context, calls *sync.WaitGroup) error {
	all, err := d.platform.subscriptions(ctx)
	if err != nil {
		return err
	}
	var errs error // an error in one subscription does not affect others
	for _, s := range all {
		for ctx.Err() == nil && d.enter(s) {
			batch, err := d.take(ctx, s)
			if err != nil || len(batch) == 0 {
				d.leave(s)
				if err != nil {
					errs = errors.Join(errs, fmt.Errorf("for %s of %s: %w", s.address, s.at.scope, err))
				}
				break
			}
			calls.Add(1)
			go func() {
				defer calls.Done()
				defer d.nudge()
				defer d.leave(s)
				d.deliver(ctx, s, batch)
			}()
		}
	}
	return errs
}

// underWay is the maximum number of concurrent invocations per subscription.
const underWay = 4

func (d *dispatcher) enter(s subscription) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	key := s.at.scope.String() + " " + s.address
	if d.busy[key] >= underWay {
		return false
	}
	d.busy[key]++
	return true
}

func (d *dispatcher) leave(s subscription) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.busy[s.at.scope.String()+" "+s.address]--
}

// take takes the messages of one invocation: a whole batch, or fewer once the oldest has waited long enough.
func (d *dispatcher) take(ctx context.Context, s subscription) ([]message, error) {
	now := d.platform.options.Now().UnixMilli()
	var out []message
	err := d.platform.store.within(ctx, func(tx sqlstmt.Tx) error {
		queue, own := "", s.address
		if s.kind == "queue" {
			queue, own = s.source, ""
		}
		rows, err := tx.QueryContext(ctx,
			`SELECT id, sent_at, attempts, body FROM messages WHERE region = ? AND service = ? AND stage = ? AND queue = ? AND subscription = ?
			AND dead = 0 AND taken = 0 AND due_at <= ? ORDER BY id LIMIT ?`, s.at.region, s.at.service, s.at.stage,
			queue, own, now, s.batch)
		if err != nil {
			return err
		}
		defer rows.Close()
		oldest := now
		for rows.Next() {
			var m message
			if err := rows.Scan(&m.id, &m.sentAt, &m.attempts, &m.body); err != nil {
				return err
			}
			out, oldest = append(out, m), min(oldest, m.sentAt)
		}
		if err := rows.Err(); err != nil {
			return err
		}
		if len(out) < s.batch && now-oldest < s.wait.Milliseconds() {
			out = nil
			return nil
		}
		for _, m := range out {
			if _, err := tx.ExecContext(ctx, `UPDATE messages SET taken = 1, attempts = attempts + 1 WHERE id = ?`,
				m.id); err != nil {
				return err
			}
		}
		return nil
	})
	return out, err
}

// deliver invokes the function with a batch. Confirmed messages are done; others are retried later, and become
// dead letters after the fifth attempt.
func (d *dispatcher) deliver(ctx context.Context, s subscription, batch []message) {
	p := d.platform
	c := call{at: s.at, trigger: s.name}
	if s.kind == "queue" {
		list := make([]event.Message, len(batch))
		for i, m := range batch {
			list[i] = event.Message{ID: m.id, Body: json.RawMessage(m.body), Attempts: m.attempts + 1,
				SentAt: time.UnixMilli(m.sentAt)}
		}
		c.event = eventOf(p.options.Now()).Messages(s.source, list)
	} else {
		var told map[string]any
		if err := json.Unmarshal([]byte(batch[0].body), &told); err == nil {
			chain, _ := told["rudmarchain"].(float64)
			c.chain = int(chain)
			c.purpose, _ = told["rudmarpurpose"].(string)
		}
		c.event = told
	}
	inv, err := p.invoke(ctx, c)
	why := ""
	switch {
	case err != nil:
		why = err.Error()
	case inv.Outcome != api.Succeeded && inv.Error != nil:
		why = inv.Error.Kind + ": " + inv.Error.Message
	case inv.Outcome != api.Succeeded:
		why = string(inv.Outcome)
	}
	ctx = context.WithoutCancel(ctx)
	now := p.options.Now()
	err = p.store.within(ctx, func(tx sqlstmt.Tx) error {
		for _, m := range batch {
			attempts := m.attempts + 1
			query, args := `DELETE FROM messages WHERE id = ?`, []any{m.id}
			switch {
			case why == "":
			case inv.Outcome == api.Throttled: // not an attempt of the function
				query, args = `UPDATE messages SET taken = 0, attempts = attempts - 1, due_at = ? WHERE id = ?`,
					[]any{now.Add(time.Second).UnixMilli(), m.id}
			default:
				query, args = `UPDATE messages SET taken = 0, due_at = ?, dead = ?, why = ? WHERE id = ?`,
					[]any{now.Add(backOff(attempts)).UnixMilli(), attempts >= maxAttempts, why, m.id}
			}
			if _, err := tx.ExecContext(ctx, query, args...); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		p.options.Log.Error("ending messages", "subscription", s.address, "error", err)
	}
	if why != "" && batch[0].attempts+1 >= maxAttempts && inv.Outcome != api.Throttled {
		p.observed.line(s.at, api.LogLine{At: now.UnixMilli(), Function: s.at.function, Stream: "platform",
			Text: fmt.Sprintf("dead letter after %d attempts, of %s: %d; retry it under Messages or with rudmar platform retry", maxAttempts, s.source, len(batch))})
	}
}
