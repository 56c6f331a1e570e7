package local

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/pressly/goose/v3"

	"rudmar/core/pack"
	"rudmar/core/resource"
	"rudmar/platform/api"
)

// putting returns a platform without background loops, and a function that writes resources.
func putting(t *testing.T) (p *Platform, sc scope, put func(address string, attributes map[string]any) error) {
	t.Helper()
	now := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	p, sc = still(t, &now, slog.New(slog.DiscardHandler)), scope{"north", "frostline", "trial"}
	return p, sc, func(address string, attributes map[string]any) error {
		now = now.Add(time.Second)
		_, err := p.put(t.Context(), sc, address, changeRequest{Key: random(8), Attributes: attributes, Replace: true})
		return err
	}
}

// config is the configuration of a small function.
func config() map[string]any {
	return map[string]any{"runtime": "python", "handler": "main:run", "memory": 1.0 * (1 << 27), "timeout": 5000.0}
}

// withFunctions is putting with the functions warn and watch.
func withFunctions(t *testing.T) func(address string, attributes map[string]any) error {
	t.Helper()
	_, _, put := putting(t)
	for _, name := range []string{"warn", "watch"} {
		must(t, errors.Join(put("identity/"+name, map[string]any{"owner": "x"}), put("function/"+name, config())))
	}
	return put
}

// The ten newest revisions of a function are kept, and those that are called, however old.
func TestKeptRevisions(t *testing.T) {
	p, sc, put := putting(t)
	code := filepath.Join(t.TempDir(), "a.zip")
	file, err := os.Create(code)
	must(t, err)
	entries := []pack.Entry{{Path: "main.py", Content: []byte("def run(call): return 1\n")}}
	listing, err := pack.List(entries)
	archive, readErr := []byte(nil), errors.Join(err, pack.Write(file, entries), file.Close())
	if archive, err = os.ReadFile(code); err != nil || readErr != nil {
		t.Fatal(err, readErr)
	}
	must(t, errors.Join(p.archives.put(listing.Digest(), archive), put("identity/warn", map[string]any{"owner": "x"})))
	var ids []string
	for i := range 14 {
		config := map[string]any{"runtime": "python", "handler": "main:run", "memory": float64(64+i) * (1 << 20), "timeout": 5000.0, "max_concurrency": 5.0}
		configuration := resource.Configuration(config)
		id := resource.RevisionID(listing.Digest(), configuration)
		ids = append(ids, id)
		err := errors.Join(put("function/warn", config),
			put("revision/warn", map[string]any{"artifact": listing.Digest(), "configuration": configuration, "id": id}))
		if i == 1 {
			err = errors.Join(err, put("pointer/warn", map[string]any{"shares": map[string]any{ids[0]: 40.0, ids[1]: 60.0}}))
		}
		must(t, err)
	}
	var kept []string
	for _, id := range ids {
		if _, there, err := p.store.revision(t.Context(), p.store.db, sc, "warn", id); err != nil {
			t.Fatal(err)
		} else if there {
			kept = append(kept, id)
		}
	}
	if want := slices.Concat(ids[:2], ids[4:]); !slices.Equal(kept, want) {
		t.Errorf("kept are %v of %v", kept, ids)
	}
}

// One resource beyond the quota is rejected, with the number of existing ones; another function, and a change
// of an existing one, is not.
func TestQuotaBoundaries(t *testing.T) {
	put := withFunctions(t)
	schedule := map[string]any{"every": 60_000.0, "enabled": true}
	for i := range 50 {
		if err := put(fmt.Sprintf("schedule/warn/at%d", i), schedule); err != nil {
			t.Fatalf("number %d: %v", i+1, err)
		}
	}
	err := put("schedule/warn/more", schedule)
	var known *refusal
	if !errors.As(err, &known) || known.status != 403 || known.kind != quotaProblem ||
		!strings.Contains(err.Error(), "warn in north/frostline/trial can have 50 resources of kind schedule, and has 50") {
		t.Errorf("one more: %v", err)
	}
	if err := errors.Join(put("schedule/warn/at7", map[string]any{"every": 120_000.0, "enabled": true}), put("schedule/watch/more", schedule)); err != nil {
		t.Error(err)
	}
}

// Two routes can match the same requests only while one is disabled.
func TestDisabledRoutes(t *testing.T) {
	put := withFunctions(t)
	route := func(path string, on bool) map[string]any {
		return map[string]any{"method": "GET", "path": path, "enabled": on}
	}
	for i, tt := range []struct {
		address string
		route   map[string]any
		refused bool
	}{
		{"route/warn/ask", route("/hills/{id}", true), false},
		{"route/watch/ask", route("/hills/{hill}", true), true},
		{"route/watch/ask", route("/hills/{hill}", false), false},
		{"route/watch/ask", route("/hills/{hill}", true), true},
		{"route/warn/ask", route("/hills/{id}", false), false},
		{"route/watch/ask", route("/hills/{hill}", true), false},
		{"route/warn/ask", route("/hills/{id}", true), true},
	} {
		if err := put(tt.address, tt.route); (err != nil) != tt.refused || tt.refused && !strings.Contains(err.Error(), "both match the request") {
			t.Errorf("%d: %v", i, err)
		}
	}
}

// The keys of an older platform's routes are filled in; a newer platform's folder is refused.
func TestOlderPlatform(t *testing.T) {
	dir := t.TempDir()
	name := filepath.Join(dir, "platform.db")
	open := func() (*Platform, error) {
		return Open(t.Context(), Options{Dir: dir, Token: "secret", Log: slog.New(slog.DiscardHandler)})
	}
	p, err := open()
	must(t, err)
	sc := scope{"north", "frostline", "trial"}
	for _, r := range []struct {
		address    string
		attributes map[string]any
	}{{"identity/warn", map[string]any{"owner": "x"}}, {"function/warn", config()},
		{"route/warn/ask", map[string]any{"method": "GET", "path": "/hills", "enabled": true}}} {
		if _, err := p.put(t.Context(), sc, r.address, changeRequest{Key: r.address, Attributes: r.attributes}); err != nil {
			t.Fatal(err)
		}
	}
	must(t, p.Close())
	change := func(do func(db *sql.DB, steps *goose.Provider) error) {
		t.Helper()
		db, err := sql.Open("sqlite", "file:"+name)
		must(t, err)
		steps, err := goose.NewProvider(goose.DialectSQLite3, db, os.DirFS("migrations"))
		if err = errors.Join(err, do(db, steps), db.Close()); err != nil {
			t.Fatal(err)
		}
	}
	change(func(db *sql.DB, _ *goose.Provider) error {
		_, err := db.Exec(`UPDATE resources SET taken = NULL`) // as a program from before it left them
		return err
	})
	if p, err = open(); err != nil {
		t.Fatal(err)
	}
	_, err = p.put(t.Context(), sc, "route/warn/other", changeRequest{Key: "other", Attributes: map[string]any{"method": "GET", "path": "/hills", "enabled": true}})
	if err == nil || !strings.Contains(err.Error(), "route/warn/ask both match the request GET /hills") {
		t.Errorf("what an older program put there is taken twice: %v", err)
	}
	must(t, p.Close())
	change(func(db *sql.DB, _ *goose.Provider) error {
		_, err := db.Exec(`INSERT INTO goose_db_version (version_id, is_applied) VALUES (9999, 1)`)
		return err
	})
	if p, err = open(); !errors.Is(err, ErrNewer) {
		t.Errorf("a newer platform's: %v", err)
		if err == nil {
			_ = p.Close()
		}
	}
}

// Sums of minutes are exact, separate for each function, revision, trigger and purpose, in the order of their
// first.
func TestMetricSums(t *testing.T) {
	dice := rand.New(rand.NewPCG(4, 4))
	hand := api.Purpose("hand")
	for range 200 {
		var minutes []api.MinuteSum
		calls, worst, kinds, order := map[string]int{}, map[string]float64{}, map[string]int{}, []string{}
		for i := range dice.IntN(12) {
			m := api.MinuteSum{Function: []string{"a", "b"}[dice.IntN(2)], Revision: []string{"r1", "r2"}[dice.IntN(2)],
				Trigger: []string{"ask", "tell"}[dice.IntN(2)], Minute: int64(i), Invocations: dice.IntN(5), Errors: dice.IntN(3),
				Throttled: dice.IntN(2), Cold: dice.IntN(2), TotalMs: float64(dice.IntN(100)), MaxMs: float64(dice.IntN(100)),
				MemoryPeak: dice.Int64N(100), ErrorKinds: map[string]int{"ValueError": dice.IntN(3)}, FineDurations: map[string]int{"7": dice.IntN(4)}}
			if dice.IntN(3) == 0 {
				m.Purpose = &hand
			}
			key := fmt.Sprint(m.Function, m.Revision, m.Trigger, m.Purpose != nil)
			if _, there := worst[key]; !there {
				order = append(order, key)
			}
			for what, n := range map[string]int{"calls": m.Invocations, "errors": m.Errors, "throttled": m.Throttled, "cold": m.Cold,
				"ms": int(m.TotalMs), "took": m.FineDurations["7"]} {
				calls[key+what] += n
			}
			worst[key] = max(worst[key], m.MaxMs)
			calls[key+"peak"] = max(calls[key+"peak"], int(m.MemoryPeak))
			kinds[key] += m.ErrorKinds["ValueError"]
			minutes = append(minutes, m)
		}
		var got []string
		for _, s := range summed(minutes) {
			key := fmt.Sprint(s.Function, s.Revision, s.Trigger, s.Purpose != nil)
			got = append(got, key)
			want := map[string]int{}
			for _, what := range []string{"calls", "errors", "throttled", "cold", "ms", "took", "peak"} {
				want[what] = calls[key+what]
			}
			is := map[string]int{"calls": s.Invocations, "errors": s.Errors, "throttled": s.Throttled, "cold": s.Cold, "ms": int(s.TotalMs),
				"took": s.FineDurations["7"], "peak": int(s.MemoryPeak)}
			if !maps.Equal(is, want) || s.MaxMs != worst[key] || s.ErrorKinds["ValueError"] != kinds[key] {
				t.Fatalf("%s: %v, want %v; %+v", key, is, want, s)
			}
		}
		if !slices.Equal(got, order) {
			t.Fatalf("%v, want %v", got, order)
		}
	}
}

// A function's collected data moves with its name, after any number of renames before it is written, and so
// does data of invocations under a former name.
func TestRenamedMetrics(t *testing.T) {
	p, sc, put := putting(t)
	must(t, put("identity/warn", map[string]any{"owner": "x"}))
	seen := func(name string) {
		at := member{sc, name}
		p.observed.line(at, api.LogLine{At: 1_800_000_000_000, Function: name, Text: "frost"})
		p.observed.count(call{at: at, trigger: "ask"}, api.Invocation{Outcome: api.Succeeded, DurationMs: 3})
		p.observed.use(at, "read", "tables/hills", true)
	}
	seen("warn")
	for was, now := range []string{"alert", "alarm"} {
		before := []string{"warn", "alert"}[was]
		if _, err := p.put(t.Context(), sc, "identity/"+now, changeRequest{Key: now, RenamedFrom: before, Attributes: map[string]any{"owner": "x"}}); err != nil {
			t.Fatal(err)
		}
		seen("warn") // of a call that began under the first name
	}
	p.observed.flush(t.Context())
	for query, want := range map[string][]string{
		"SELECT DISTINCT function FROM log_lines": {"alarm"}, "SELECT count(*) FROM log_lines": {"3"},
		"SELECT function, sum(calls) FROM minutes GROUP BY 1": {"alarm 3"}, "SELECT function, sum(count) FROM uses GROUP BY 1": {"alarm 3"},
	} {
		if got := rowsOf(t, p, query); !reflect.DeepEqual(got, want) {
			t.Errorf("%s: %v, not %v", query, got, want)
		}
	}
}

// The data lost with functions is counted for each.
func TestStoredData(t *testing.T) {
	p, sc, _ := putting(t)
	for _, name := range []string{"watch", "warn", "warn"} {
		p.observed.line(member{sc, name}, api.LogLine{At: 1_800_000_000_000 + int64(len(name)), Function: name, Text: "frost"})
	}
	s := subscription{at: member{sc, "warn"}, address: "subscription/warn/seen"}
	for range 2 {
		must(t, p.putEvent(t.Context(), p.store.db, s, map[string]any{}))
	}
	if _, err := p.enqueue(t.Context(), sc, "readings", "1"); err != nil { // a queue belongs to no function
		t.Fatal(err)
	}
	held, err := p.observed.holdings(context.WithoutCancel(t.Context()), sc)
	must(t, err)
	var got []string
	for _, h := range held {
		got = append(got, fmt.Sprint(h.Function, " ", h.What, " ", h.Count, " ", *h.Oldest > 1_700_000_000_000))
	}
	if want := []string{"warn log lines 2 true", "warn waiting messages 2 true", "watch log lines 1 true"}; !slices.Equal(got, want) {
		t.Errorf("%v, not %v", got, want)
	}
}
