package local

import (
	"context"
	"log/slog"
	"testing"
	"time"

	"rudmar/platform/api"
)

// Log lines are kept for their function's retention, metrics and responses for the platform's.
func TestRetention(t *testing.T) {
	now := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	p := still(t, &now, slog.New(slog.DiscardHandler)) // the rest of the test advances the clock
	ctx := context.Background()
	sc := scope{"north", "frostline", "trial"}
	put := func(address, key string, attributes map[string]any) {
		t.Helper()
		if _, err := p.put(ctx, sc, address, changeRequest{Key: key, Attributes: attributes}); err != nil {
			t.Fatal(err)
		}
	}
	put("logs/short", "a", map[string]any{"retention": 3_600_000.0})
	put("logs/long", "b", map[string]any{"retention": 90 * 86_400_000.0})
	if _, err := p.operations.begin(ctx, sc, "identity/short",
		changeRequest{Key: "c", Attributes: map[string]any{"owner": "x"}}); err != nil {
		t.Fatal(err)
	}
	if _, err := p.operations.round(ctx); err != nil {
		t.Fatal(err)
	}
	for _, function := range []string{"short", "long", "unsaid"} {
		at := member{sc, function}
		p.observed.line(at, api.LogLine{At: now.UnixMilli(), Function: function, Text: "said"})
		p.observed.count(call{at: at}, api.Invocation{Outcome: api.Succeeded})
	}
	count := func(table string) (n int) {
		t.Helper()
		must(t, p.store.db.QueryRow("SELECT count(*) FROM "+table).Scan(&n))
		return n
	}
	p.observed.flush(ctx)
	for _, c := range []struct {
		after                                time.Duration
		lines, minutes, answered, operations int
	}{
		{30 * time.Minute, 3, 3, 3, 1},
		{2 * time.Hour, 2, 3, 3, 1},
		{8 * 24 * time.Hour, 2, 3, 0, 0},
		{15 * 24 * time.Hour, 1, 3, 0, 0}, // the default is two weeks
		{89 * 24 * time.Hour, 1, 3, 0, 0},
		{91 * 24 * time.Hour, 0, 0, 0, 0},
	} {
		now = time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC).Add(c.after)
		p.observed.tidy(ctx)
		if lines, minutes, answered, operations := count("log_lines"), count("minutes"), count("answered"),
			count("operations"); lines != c.lines || minutes != c.minutes || answered != c.answered ||
			operations != c.operations {
			t.Errorf("after %s: %d lines, %d minutes, %d answers, %d operations; want %+v", c.after, lines, minutes,
				answered, operations, c)
		}
	}
}
