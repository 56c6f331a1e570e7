package local

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"rudmar/core/event"
	"rudmar/platform/api"
	"rudmar/sqlstmt"
)

// eventOf starts an event of a due time.
func eventOf(at time.Time) event.Of { return event.Of{ID: "e-" + random(8), At: at} }

// runSchedules fires schedules until the context ends. The last due time is stored, so a restart neither
// repeats nor forgets one: due times during an outage are logged and made up for once.
func (p *Platform) runSchedules(ctx context.Context) {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	var calls sync.WaitGroup
	defer calls.Wait()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			if err := p.fireDue(ctx, &calls); err != nil && ctx.Err() == nil {
				p.options.Log.Error("running schedules", "error", err)
			}
		}
	}
}

type due struct {
	at       member
	address  string
	time     time.Time
	missed   int // later due times
	schedule string
}

func (p *Platform) fireDue(ctx context.Context, calls *sync.WaitGroup) error {
	list, err := p.dueSchedules(ctx)
	if err != nil {
		return err
	}
	for _, d := range list {
		// The due time is recorded before the invocation: a restart in between loses one rather than repeating
		// it.
		if err := p.markFired(ctx, p.store.db, d); err != nil {
			return err
		}
		calls.Add(1)
		go func() {
			defer calls.Done()
			if d.missed > 0 {
				p.observed.line(d.at, api.LogLine{At: p.options.Now().UnixMilli(), Function: d.at.function, Stream: "platform",
					Text: fmt.Sprintf("the platform was down: %s was due %d times since %s; it runs once now",
						d.schedule, d.missed+1, d.time.UTC().Format(time.RFC3339))})
			}
			if _, err := p.invoke(ctx,
				call{at: d.at, event: eventOf(d.time).Fired(d.schedule, d.missed), trigger: d.schedule}); err != nil {
				p.options.Log.Error("invoking a schedule", "address", d.address, "error", err)
			}
		}()
	}
	return nil
}

func (p *Platform) dueSchedules(ctx context.Context) ([]due, error) {
	rows, err := p.store.db.QueryContext(ctx,
		`SELECT r.region, r.service, r.stage, r.address, r.attributes, r.changed_at, f.last_at FROM resources r
		LEFT JOIN fires f USING (region, service, stage, address) WHERE r.kind = 'schedule'`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	now := p.options.Now()
	var out, back []due
	for rows.Next() {
		var d due
		var text string
		var changed int64
		var last sql.NullInt64
		if err := rows.Scan(&d.at.region, &d.at.service, &d.at.stage, &d.address, &text, &changed, &last); err != nil {
			return nil, err
		}
		attributes, err := decodeMap(text)
		if err != nil || attributes["enabled"] == false {
			continue
		}
		schedule, err := scheduleOf(attributes)
		if err != nil {
			continue // rejected when it was created
		}
		if ahead := now.Add(clockSlack).UnixMilli(); changed > ahead || last.Int64 > ahead {
			back = append(back, d)
			continue
		}
		next, ok := schedule.Next(time.UnixMilli(max(changed, last.Int64)))
		if !ok || next.After(now) {
			continue
		}
		d.time = next
		if after, ok := schedule.Next(next); ok && !after.After(now.Add(-time.Second)) {
			d.missed = schedule.Count(next, now)
		}
		_, rest, _ := strings.Cut(d.address, "/")
		d.at.function, d.schedule, _ = strings.Cut(rest, "/")
		out = append(out, d)
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return nil, err
	}
	for _, d := range back {
		if err := p.startOver(ctx, d); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// clockSlack is how far in the future a stored time can be: further, the clock was set back.
const clockSlack = 2 * time.Second

// startOver makes a schedule count from now on, after the clock was set back: otherwise it would pause until
// the clock reaches its former time.
func (p *Platform) startOver(ctx context.Context, d due) error {
	p.options.Log.Warn("the clock was set back: schedules count from now on", "scope",
		d.at.scope.String(), "schedule", d.address)
	now := p.options.Now()
	d.time, d.missed = now, 0
	return p.store.within(ctx, func(tx sqlstmt.Tx) error {
		_, err := tx.ExecContext(ctx,
			`UPDATE resources SET changed_at = min(changed_at, ?) WHERE region = ? AND service = ? AND stage = ? AND address = ?`,
			now.UnixMilli(), d.at.region, d.at.service, d.at.stage, d.address)
		return errors.Join(err, p.markFired(ctx, tx, d))
	})
}

func (p *Platform) markFired(ctx context.Context, q executor, d due) error {
	at := d.time
	if d.missed > 0 {
		at = p.options.Now()
	}
	_, err := q.ExecContext(ctx, `INSERT INTO fires (region, service, stage, address, last_at) VALUES (?,?,?,?,?)
		ON CONFLICT DO UPDATE SET last_at = excluded.last_at`, d.at.region, d.at.service, d.at.stage,
		d.address, at.UnixMilli())
	return err
}
