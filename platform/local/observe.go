package local

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"rudmar/core/metrics"
	"rudmar/platform/api"
	"rudmar/sqlstmt"
)

// flushEvery is how long a log line or a count can be in memory only.
const flushEvery = 200 * time.Millisecond

// keptMinutes is the retention of metrics.
const keptMinutes = 90 * 24 * time.Hour

type minuteKey struct {
	member
	revision, cause string
	minute          int64
}

type useKey struct {
	member
	verb, resource string
	allowed        bool
}

type useSum struct {
	count  int
	lastAt int64
}

type placedLine struct {
	scope
	api.LogLine
}

// observations gathers log lines and counts, and writes them in batches.
type observations struct {
	store *store
	log   *slog.Logger
	now   func() time.Time

	writing sync.Mutex // held while a batch is written, and while a function is renamed

	mu      sync.Mutex
	nextID  int64
	lines   []placedLine
	minutes map[minuteKey]*api.MinuteSum
	uses    map[useKey]*useSum
	behind  bool              // the newest batch could not be written
	renamed map[member]string // former names, of invocations in progress
	news    chan struct{}     // closed at the next line; nil without a reader
}

func newObservations(ctx context.Context, s *store, log *slog.Logger, now func() time.Time) (*observations, error) {
	o := &observations{store: s, log: log, now: now, minutes: map[minuteKey]*api.MinuteSum{}, uses: map[useKey]*useSum{},
		renamed: map[member]string{}}
	var last sql.NullInt64
	if err := s.db.QueryRowContext(ctx, `SELECT max(id) FROM log_lines`).Scan(&last); err != nil {
		return nil, fmt.Errorf("reading the newest log line: %w", err)
	}
	o.nextID = last.Int64 + 1
	return o, nil
}

func (o *observations) line(at member, l api.LogLine) api.LogLine {
	o.mu.Lock()
	defer o.mu.Unlock()
	l.Function = o.nameOf(member{at.scope, l.Function}).function
	l.Id = o.nextID
	o.nextID++
	o.lines = append(o.lines, placedLine{at.scope, l})
	if o.news != nil {
		close(o.news)
		o.news = nil
	}
	return l
}

// next returns a channel that is closed at the next line.
func (o *observations) next() <-chan struct{} {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.news == nil {
		o.news = make(chan struct{})
	}
	return o.news
}

func (o *observations) count(c call, inv api.Invocation) {
	cause := c.purpose + ":" + c.trigger
	o.mu.Lock()
	defer o.mu.Unlock()
	key := minuteKey{o.nameOf(c.at), inv.Revision, cause, o.now().Truncate(time.Minute).UnixMilli()}
	m := o.minutes[key]
	if m == nil {
		m = &api.MinuteSum{ErrorKinds: map[string]int{}, FineDurations: map[string]int{}}
		o.minutes[key] = m
	}
	if inv.Outcome == api.Throttled {
		m.Throttled++
		return
	}
	m.Invocations++
	if inv.Outcome != api.Succeeded {
		m.Errors++
		m.ErrorKinds[string(inv.Outcome)]++
	}
	if inv.Cold {
		m.Cold++
	} else {
		m.FineDurations[strconv.Itoa(metrics.Bucket(inv.DurationMs))]++
	}
	m.TotalMs += inv.DurationMs
	m.MaxMs = max(m.MaxMs, inv.DurationMs)
	m.MemoryPeak = max(m.MemoryPeak, inv.MemoryPeak)
}

// merged adds counts in their stored JSON form.
func merged(kept string, more map[string]int) string {
	sum := map[string]int{}
	_ = json.Unmarshal([]byte(kept), &sum) // unreadable values count as nothing
	add(&sum, more)
	text, _ := json.Marshal(sum) // a map of numbers can always be marshaled
	return string(text)
}

func (o *observations) use(at member, verb, resource string, allowed bool) {
	o.mu.Lock()
	defer o.mu.Unlock()
	key := useKey{o.nameOf(at), verb, resource, allowed}
	u := o.uses[key]
	if u == nil {
		u = &useSum{}
		o.uses[key] = u
	}
	u.count++
	u.lastAt = o.now().UnixMilli()
}

func (o *observations) run(ctx context.Context) {
	tick := time.NewTicker(flushEvery)
	defer tick.Stop()
	tidy := time.NewTicker(10 * time.Minute)
	defer tidy.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			o.flush(ctx)
		case <-tidy.C:
			o.tidy(ctx)
		}
	}
}

// mostWaiting is how many log lines wait in memory at most, while they cannot be
// written.
const mostWaiting = 100_000

// flush writes the data in memory. Data that cannot be written now is kept for the next time.
func (o *observations) flush(ctx context.Context) {
	o.writing.Lock()
	defer o.writing.Unlock()
	o.mu.Lock()
	lines, minutes, uses := o.lines, o.minutes, o.uses
	o.lines, o.minutes, o.uses = nil, map[minuteKey]*api.MinuteSum{}, map[useKey]*useSum{}
	o.mu.Unlock()
	if len(lines)+len(minutes)+len(uses) == 0 {
		return
	}
	err := o.store.within(context.WithoutCancel(ctx),
		func(tx sqlstmt.Tx) error { return write(tx, lines, minutes, uses) })
	o.mu.Lock()
	defer o.mu.Unlock()
	if err == nil {
		if o.behind {
			o.log.Info("writing log lines and metrics again")
		}
		o.behind = false
		return
	}
	if !o.behind {
		o.log.Error("log lines and metrics cannot be written; they are kept in memory", "error", err)
	}
	o.behind = true
	o.lines = append(lines, o.lines...)
	if over := len(o.lines) - mostWaiting; over > 0 {
		o.log.Error("the oldest log lines are lost: they could not be written for too long", "lines", over)
		o.lines = slices.Clone(o.lines[over:])
	}
	o.restore(minutes, uses)
}

// restore merges unwritten data with newer counts.
func (o *observations) restore(minutes map[minuteKey]*api.MinuteSum, uses map[useKey]*useSum) {
	for key, m := range minutes {
		now := o.minutes[key]
		if now == nil {
			o.minutes[key] = m
			continue
		}
		now.Invocations, now.Errors, now.Throttled, now.Cold = now.Invocations+m.Invocations, now.Errors+m.Errors,
			now.Throttled+m.Throttled, now.Cold+m.Cold
		now.TotalMs, now.MaxMs, now.MemoryPeak = now.TotalMs+m.TotalMs, max(now.MaxMs, m.MaxMs),
			max(now.MemoryPeak, m.MemoryPeak)
		add(&now.ErrorKinds, m.ErrorKinds)
		add(&now.FineDurations, m.FineDurations)
	}
	for key, u := range uses {
		if now := o.uses[key]; now != nil {
			now.count += u.count
			continue
		}
		o.uses[key] = u
	}
}

// atOnceWritten is the number of log lines per statement.
const atOnceWritten = 64

func writeLines(tx sqlstmt.Tx, lines []placedLine) error {
	for part := range slices.Chunk(lines, atOnceWritten) {
		values := strings.Repeat(",(?,?,?,?,?,?,?,?,?,?,?)", len(part))[1:]
		args := make([]any, 0, 11*len(part))
		for _, l := range part {
			args = append(args, l.Id, l.At, l.region, l.service, l.stage, l.Function, l.Revision, l.Invocation, l.Instance,
				string(l.Stream), l.Text)
		}
		if _, err := tx.Exec(
			`INSERT INTO log_lines (id, at, region, service, stage, function, revision, invocation, instance, stream, text) VALUES `+values, args...); err != nil {
			return err
		}
	}
	return nil
}

func write(tx sqlstmt.Tx, lines []placedLine, minutes map[minuteKey]*api.MinuteSum, uses map[useKey]*useSum) error {
	if err := writeLines(tx, lines); err != nil {
		return err
	}
	for k, m := range minutes {
		kinds, durations := "{}", "{}"
		err := tx.QueryRow(`SELECT error_kinds, fine_durations FROM minutes WHERE region = ? AND service = ? AND stage = ? AND function = ? AND revision = ? AND cause = ? AND minute = ?`,
			k.region, k.service, k.stage, k.function, k.revision, k.cause, k.minute).Scan(&kinds, &durations)
		if err != nil && !errors.Is(err, sql.ErrNoRows) {
			return err
		}
		if _, err := tx.Exec(
			`INSERT INTO minutes (region, service, stage, function, revision, cause, minute, calls, errors, throttled, cold, total_ms, max_ms, memory_peak, error_kinds, fine_durations)
			VALUES (?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?)
			ON CONFLICT DO UPDATE SET calls = calls + excluded.calls, errors = errors + excluded.errors,
			throttled = throttled + excluded.throttled, cold = cold + excluded.cold, total_ms = total_ms + excluded.total_ms,
			max_ms = max(max_ms, excluded.max_ms), memory_peak = max(memory_peak, excluded.memory_peak),
			error_kinds = excluded.error_kinds, fine_durations = excluded.fine_durations`,
			k.region, k.service, k.stage, k.function, k.revision, k.cause, k.minute, m.Invocations, m.Errors,
			m.Throttled, m.Cold,
			m.TotalMs, m.MaxMs, m.MemoryPeak, merged(kinds, m.ErrorKinds), merged(durations, m.FineDurations)); err != nil {
			return err
		}
	}
	for k, u := range uses {
		if _, err := tx.Exec(
			`INSERT INTO uses (region, service, stage, function, verb, resource, allowed, count, last_at) VALUES (?,?,?,?,?,?,?,?,?)
			ON CONFLICT DO UPDATE SET count = count + excluded.count, last_at = excluded.last_at`,
			k.region, k.service, k.stage, k.function, k.verb, k.resource, k.allowed, u.count, u.lastAt); err != nil {
			return err
		}
	}
	return nil
}

// tidy deletes log lines older than their function's retention.
func (o *observations) tidy(ctx context.Context) {
	now := o.now()
	var errs error
	for _, old := range []struct {
		text string
		arg  int64
	}{
		{`DELETE FROM log_lines WHERE at < ? - coalesce((SELECT json_extract(r.attributes, '$.retention') FROM resources r
			WHERE r.region = log_lines.region AND r.service = log_lines.service AND r.stage = log_lines.stage AND r.address = 'logs/' || log_lines.function), 1209600000)`, now.UnixMilli()},
		{`DELETE FROM minutes WHERE minute < ?`, now.Add(-keptMinutes).UnixMilli()},
		{`DELETE FROM answered WHERE at < ?`, now.Add(-keptOperations).UnixMilli()},
		{`DELETE FROM operations WHERE state <> 'waiting' AND ended_at < ?`, now.Add(-keptOperations).UnixMilli()},
	} {
		_, err := o.store.db.ExecContext(ctx, old.text, old.arg)
		errs = errors.Join(errs, err)
	}
	if errs != nil && ctx.Err() == nil { // the next run deletes the rest
		o.log.Error("deleting old data", "error", errs)
	}
}

// summed sums all minutes of a function, revision and trigger, in the order of their first ones.
func summed(minutes []api.MinuteSum) []api.MinuteSum {
	type key struct{ function, revision, trigger, purpose string }
	at := map[key]int{}
	out := []api.MinuteSum{}
	for _, m := range minutes {
		k := key{function: m.Function, revision: m.Revision, trigger: m.Trigger}
		if m.Purpose != nil {
			k.purpose = string(*m.Purpose)
		}
		i, known := at[k]
		if !known {
			at[k], out = len(out), append(out, m)
			continue
		}
		s := &out[i]
		s.Invocations, s.Errors, s.Throttled, s.Cold = s.Invocations+m.Invocations, s.Errors+m.Errors,
			s.Throttled+m.Throttled, s.Cold+m.Cold
		s.TotalMs, s.MaxMs, s.MemoryPeak = s.TotalMs+m.TotalMs, max(s.MaxMs, m.MaxMs), max(s.MemoryPeak, m.MemoryPeak)
		add(&s.ErrorKinds, m.ErrorKinds)
		add(&s.FineDurations, m.FineDurations)
		add(&s.Durations, m.Durations)
	}
	return out
}

// add adds counts to others, if there are any.
func add(to *map[string]int, more map[string]int) {
	if *to == nil {
		*to = map[string]int{}
	}
	for k, n := range more {
		(*to)[k] += n
	}
}

// holdings counts a function's stored data: its log lines, and the waiting messages of its subscriptions.
func (o *observations) holdings(ctx context.Context, sc scope) ([]api.Holding, error) {
	o.flush(ctx)
	rows, err := o.store.db.QueryContext(ctx,
		`SELECT function, 'log lines', count(*), min(at) FROM log_lines
			WHERE region = ?1 AND service = ?2 AND stage = ?3 GROUP BY function
		UNION ALL
		SELECT substr(subscription, 14, instr(substr(subscription, 14), '/') - 1) AS name, 'waiting messages',
			count(*), min(sent_at)
			FROM messages WHERE region = ?1 AND service = ?2 AND stage = ?3 AND subscription <> '' GROUP BY name
		ORDER BY 1, 2`, sc.region, sc.service, sc.stage)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := []api.Holding{}
	for rows.Next() {
		var h api.Holding
		var oldest int64
		if err := rows.Scan(&h.Function, &h.What, &h.Count, &oldest); err != nil {
			return nil, err
		}
		h.Oldest = &oldest
		out = append(out, h)
	}
	return out, rows.Err()
}

func (o *observations) sums(ctx context.Context, sc scope, since int64) ([]api.MinuteSum, error) {
	o.flush(ctx)
	rows, err := o.store.db.QueryContext(ctx,
		`SELECT function, revision, cause, minute, calls, errors, throttled, cold, total_ms, max_ms, memory_peak, error_kinds, fine_durations, durations,
		(SELECT r.version FROM revisions r
			WHERE r.region = m.region AND r.service = m.service
				AND r.stage = m.stage AND r.function = m.function AND r.id = m.revision)
		FROM minutes m WHERE region = ? AND service = ? AND stage = ? AND minute >= ? ORDER BY minute, function`, sc.region,
		sc.service, sc.stage, since)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := []api.MinuteSum{}
	for rows.Next() {
		var m api.MinuteSum
		var kinds, fine, former string // former are the durations of minutes before an update
		if err := rows.Scan(&m.Function, &m.Revision, &m.Trigger, &m.Minute, &m.Invocations, &m.Errors, &m.Throttled, &m.Cold,
			&m.TotalMs, &m.MaxMs, &m.MemoryPeak, &kinds, &fine, &former, &m.Version); err != nil {
			return nil, err
		}
		if purpose, trigger, marked := strings.Cut(m.Trigger, ":"); marked {
			m.Trigger = trigger
			if purpose != "" {
				m.Purpose = (*api.Purpose)(&purpose)
			}
		}
		if err := errors.Join(json.Unmarshal([]byte(kinds), &m.ErrorKinds),
			json.Unmarshal([]byte(fine), &m.FineDurations), json.Unmarshal([]byte(former), &m.Durations)); err != nil {
			return nil, err
		}
		out = append(out, m)
	}
	return out, rows.Err()
}

func (o *observations) accessUses(ctx context.Context, sc scope) ([]api.AccessUse, error) {
	o.flush(ctx)
	rows, err := o.store.db.QueryContext(ctx, `SELECT function, verb, resource, allowed, count, last_at FROM uses
		WHERE region = ? AND service = ? AND stage = ? ORDER BY function, resource, verb`, sc.region, sc.service, sc.stage)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := []api.AccessUse{}
	for rows.Next() {
		var u api.AccessUse
		if err := rows.Scan(&u.Function, &u.Verb, &u.Resource, &u.Allowed, &u.Count, &u.LastAt); err != nil {
			return nil, err
		}
		out = append(out, u)
	}
	return out, rows.Err()
}
