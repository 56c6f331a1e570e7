package local

import (
	"bytes"
	"context"
	"log/slog"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"rudmar/platform/api"
)

// rowsOf reads a table whole, as text.
func rowsOf(t *testing.T, p *Platform, query string) []string {
	t.Helper()
	rows, err := p.store.db.Query(query)
	must(t, err)
	defer rows.Close()
	names, err := rows.Columns()
	must(t, err)
	var out []string
	for rows.Next() {
		values := make([]string, len(names))
		into := make([]any, len(names))
		for i := range values {
			into[i] = &values[i]
		}
		must(t, rows.Scan(into...))
		out = append(out, strings.Join(values, " "))
	}
	must(t, rows.Err())
	return out
}

// must ends a test that cannot continue.
func must(t testing.TB, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

// still opens a platform without background loops.
func still(t *testing.T, now *time.Time, log *slog.Logger) *Platform {
	t.Helper()
	p, err := Open(t.Context(), Options{Dir: t.TempDir(), Token: "secret", Now: func() time.Time { return *now }, Log: log})
	must(t, err)
	p.cancel()
	p.running.Wait()
	t.Cleanup(func() { _ = p.Close() })
	return p
}

// Log lines and metrics that cannot be written wait, and are complete in the end; the delay is reported once,
// and so is its end.
func TestFullDisk(t *testing.T) {
	now := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	var told bytes.Buffer
	sick := still(t, &now, slog.New(slog.NewTextHandler(&told, nil)))
	sound := still(t, &now, slog.New(slog.DiscardHandler))
	stop := func(text string) {
		t.Helper()
		if _, err := sick.store.db.Exec(text); err != nil {
			t.Fatal(err)
		}
	}
	at := member{scope{"north", "frostline", "trial"}, "watch"}
	steps := []struct {
		before string
		ms     float64
		out    api.InvocationOutcome
		cold   bool
	}{
		{"", 12, api.Succeeded, true},
		{"CREATE TRIGGER full BEFORE INSERT ON minutes BEGIN SELECT RAISE(ABORT, 'the disk is full'); END", 31, api.Succeeded, false},
		{"", 900, api.Failed, false},
		{"", 7, api.TimedOut, false},
		{"", 0, api.Throttled, false},
		{"DROP TRIGGER full", 45, api.Failed, false},
		{"", 5, api.Succeeded, false},
	}
	for i, s := range steps {
		if s.before != "" {
			stop(s.before)
		}
		for _, p := range []*Platform{sick, sound} {
			for _, purpose := range []string{"route", "case"} {
				p.observed.count(call{at: at, purpose: purpose, trigger: "ask"}, api.Invocation{Outcome: s.out, DurationMs: s.ms,
					Cold: s.cold, Revision: "r1", MemoryPeak: int64(1000 * i)})
			}
			p.observed.line(at, api.LogLine{At: now.UnixMilli(), Function: "watch", Text: strings.Repeat("x", i)})
			p.observed.use(at, "read", "tables/hills", true)
			p.observed.use(at, "send", "queues/alarms", i%2 == 0)
			p.observed.flush(context.Background())
		}
		now = now.Add(20 * time.Second)
	}
	for _, table := range []string{"minutes", "uses", "log_lines"} {
		query := "SELECT * FROM " + table + " ORDER BY 1, 2, 3, 4, 5, 6"
		if got, want := rowsOf(t, sick, query), rowsOf(t, sound, query); !reflect.DeepEqual(got, want) || len(want) == 0 {
			t.Errorf("%s:\n%s\nnot\n%s", table, strings.Join(got, "\n"), strings.Join(want, "\n"))
		}
	}
	for text, times := range map[string]int{"they are kept in memory": 1, "the disk is full": 1, "writing log lines and metrics again": 1, "are lost": 0} {
		if n := strings.Count(told.String(), text); n != times {
			t.Errorf("%q was logged %d times: %s", text, n, told.String())
		}
	}
}

// Counts during a failed write are merged with the unwritten batch.
func TestUsageIsBatched(t *testing.T) {
	now := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	whole, cut := still(t, &now, slog.New(slog.DiscardHandler)), still(t, &now, slog.New(slog.DiscardHandler))
	at := member{scope{"north", "frostline", "trial"}, "watch"}
	dice := rand.New(rand.NewPCG(5, 8))
	outcomes := []api.InvocationOutcome{api.Succeeded, api.Failed, api.TimedOut, api.Throttled}
	for range 200 {
		minutes, uses := map[minuteKey]*api.MinuteSum{}, map[useKey]*useSum{}
		from := dice.IntN(8)
		for i := range 8 {
			if i == from {
				cut.observed.minutes, minutes = minutes, cut.observed.minutes
				cut.observed.uses, uses = uses, cut.observed.uses
			}
			inv := api.Invocation{Outcome: outcomes[dice.IntN(4)], DurationMs: float64(dice.IntN(3000)), Cold: dice.IntN(3) == 0,
				Revision: "r1", MemoryPeak: dice.Int64N(1 << 20)}
			verb := []string{"read", "write"}[dice.IntN(2)]
			for _, p := range []*Platform{whole, cut} {
				p.observed.count(call{at: at, purpose: "route", trigger: "ask"}, inv)
				p.observed.use(at, verb, "tables/hills", true)
			}
			now = now.Add(time.Second)
		}
		cut.observed.restore(minutes, uses)
	}
	whole.observed.flush(t.Context())
	cut.observed.flush(t.Context())
	for _, table := range []string{"minutes", "uses"} {
		query := "SELECT * FROM " + table + " ORDER BY 1, 2, 3, 4, 5, 6, 7"
		if got, want := rowsOf(t, cut, query), rowsOf(t, whole, query); !reflect.DeepEqual(got, want) || len(want) < 2 {
			t.Errorf("%s:\n%s\nnot\n%s", table, strings.Join(got, "\n"), strings.Join(want, "\n"))
		}
	}
}

// Unwritten data is bounded: the oldest lines are dropped, which is reported.
func TestQueueBound(t *testing.T) {
	now := time.Now()
	var told bytes.Buffer
	p := still(t, &now, slog.New(slog.NewTextHandler(&told, nil)))
	if _, err := p.store.db.Exec("CREATE TRIGGER full BEFORE INSERT ON log_lines BEGIN SELECT RAISE(ABORT, 'full'); END"); err != nil {
		t.Fatal(err)
	}
	at := member{scope{"north", "frostline", "trial"}, "watch"}
	for i := range mostWaiting + 2 {
		p.observed.line(at, api.LogLine{Function: "watch", Text: "x"})
		if i == mostWaiting-1 {
			if p.observed.flush(t.Context()); strings.Contains(told.String(), "are lost") {
				t.Error("as many as may wait are lost")
			}
		}
	}
	p.observed.flush(t.Context())
	ids := func(l placedLine) int64 { return l.Id }
	if first := ids(p.observed.lines[0]); len(p.observed.lines) != mostWaiting || first != 3 ||
		!slices.IsSortedFunc(p.observed.lines, func(a, b placedLine) int { return int(ids(a) - ids(b)) }) {
		t.Errorf("%d wait, from %d on", len(p.observed.lines), first)
	}
	if !strings.Contains(told.String(), "lines=2") {
		t.Errorf("that two are lost is not told: %s", told.String())
	}
}
