package local

import (
	"bytes"
	"context"
	"errors"
	"flag"
	"fmt"
	"log/slog"
	"net/http/httptest"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"rudmar/core/pack"
	"rudmar/core/resource"
	"rudmar/dbtest"
	"rudmar/platform/api"
)

var update = flag.Bool("update", false, "write testdata/acts.txt anew")

// acting simulates the operations on a scope of a platform without background loops.
func acting(t *testing.T) dbtest.Stage {
	t.Helper()
	now := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	var told bytes.Buffer
	p := still(t, &now, slog.New(slog.NewTextHandler(&told, nil)))
	sc := scope{"north", "frostline", "trial"}
	entries := []pack.Entry{{Path: "main.py", Content: []byte("def run(call): return 1\n")}}
	var archive bytes.Buffer
	listing, err := pack.List(entries)
	if err = errors.Join(err, pack.Write(&archive, entries)); err == nil {
		err = p.archives.put(listing.Digest(), archive.Bytes())
	}
	must(t, err)

	keys := 0
	wished := func(address string, attributes map[string]any, change func(w *changeRequest)) (string, changeRequest) {
		keys++
		w := changeRequest{Key: fmt.Sprint("k", keys), Attributes: attributes, Version: 3}
		if change != nil {
			change(&w)
		}
		return address, w
	}
	put := func(name, address string, attributes map[string]any, change func(w *changeRequest)) dbtest.Act {
		address, w := wished(address, attributes, change)
		return dbtest.Act{Name: name, Do: func(ctx context.Context) error { _, err := p.put(ctx, sc, address, w); return err }}
	}
	remove := func(name, address string, change func(w *changeRequest)) dbtest.Act {
		address, w := wished(address, nil, change)
		return dbtest.Act{Name: name, Do: func(ctx context.Context) error { return p.remove(ctx, sc, address, w) }}
	}
	p.pool.tokens["mine"] = member{sc, "alarm"}
	protocol := p.Protocol()
	ask := func(name, token, method, path, body string) dbtest.Act {
		return dbtest.Act{Name: name, Do: func(ctx context.Context) error {
			told.Reset()
			q := httptest.NewRequestWithContext(ctx, method, path, strings.NewReader(body))
			q.Header.Set("Authorization", "Bearer "+token)
			q.Header.Set("Content-Type", "application/json")
			w := httptest.NewRecorder()
			if protocol.ServeHTTP(w, q); w.Code < 300 {
				return nil
			}
			return fmt.Errorf("%d %s%s", w.Code, w.Body.String(), told.String())
		}}
	}
	const at, hand, data = "/regions/north/scopes/frostline/trial", "/hand/north/frostline/trial", "/data"
	config := func(memory float64) map[string]any {
		return map[string]any{"runtime": "python", "handler": "main:run", "memory": memory, "timeout": 5000.0, "max_concurrency": 5.0, "env.KEY": "-"}
	}
	first, second := resource.Configuration(config(1<<27)), resource.Configuration(config(1<<28))
	frozen := func(configuration string) map[string]any {
		return map[string]any{"artifact": listing.Digest(), "configuration": configuration, "id": resource.RevisionID(listing.Digest(), configuration)}
	}
	secret := func(w *changeRequest) { w.Secrets = map[string]string{"env.KEY": "hidden"} }
	replaced := func(w *changeRequest) { w.Replace = true }
	subscribed := func(source string) map[string]any { return map[string]any{"source": source, "enabled": true} }
	route := func(path string) map[string]any {
		return map[string]any{"method": "GET", "path": path, "enabled": true}
	}
	identity := func(owner string) map[string]any { return map[string]any{"owner": owner} }
	subscription := func(address string) subscription {
		all, err := p.subscriptions(t.Context())
		for _, s := range all {
			if s.address == address {
				return s
			}
		}
		t.Fatalf("there is no %s: %v", address, err)
		return subscription{}
	}
	var gathered sync.Once
	var batch []message
	takes := func(address string) func(ctx context.Context) error {
		return func(ctx context.Context) (err error) {
			batch, err = p.dispatch.take(ctx, subscription(address))
			return err
		}
	}
	delivers := func(address string) func(ctx context.Context) error {
		return func(ctx context.Context) error {
			told.Reset()
			p.dispatch.deliver(ctx, subscription(address), batch)
			if told.Len() > 0 {
				return errors.New(told.String())
			}
			return nil
		}
	}
	// triedFor delivers a message after former attempts, and checks whether its log reports a dead letter.
	triedFor := func(before int, dead bool) func(ctx context.Context) error {
		return func(ctx context.Context) error {
			batch[0].attempts = before
			if err := delivers("subscription/alarm/read")(ctx); err != nil {
				return err
			}
			if told := slices.ContainsFunc(p.observed.lines, func(l placedLine) bool { return strings.HasPrefix(l.Text, "dead letter after 5") }); told != dead {
				return fmt.Errorf("after %d attempts it is told that it is a dead letter: %v", before+1, told)
			}
			return nil
		}
	}
	begins := func(name, address string, attributes map[string]any, change func(w *changeRequest)) dbtest.Act {
		address, w := wished(address, attributes, change)
		return dbtest.Act{Name: name, Do: func(ctx context.Context) error { _, err := p.operations.begin(ctx, sc, address, w); return err }}
	}
	carriesOut := func(ctx context.Context) error { _, err := p.operations.round(ctx); return err }
	fires := func(ctx context.Context) error {
		var calls sync.WaitGroup
		defer calls.Wait()
		return p.fireDue(ctx, &calls)
	}
	list := []dbtest.Act{
		put("an identity is put", "identity/warn", identity("cold-nights"), nil),
		{Name: "it is put by the same key", Do: func(ctx context.Context) error {
			_, err := p.put(ctx, sc, "identity/warn", changeRequest{Key: "k1", Attributes: identity("somebody")})
			return err
		}},
		put("it is changed by who saw another", "identity/warn", identity("growers"), func(w *changeRequest) { w.Match = "other" }),
		put("it is changed by who saw it", "identity/warn", identity("growers"), func(w *changeRequest) { w.Match = tagOf(identity("cold-nights")) }),
		put("what does not exist is changed", "identity/gone", identity("growers"), func(w *changeRequest) { w.Match = "*" }),
		put("a grant with a secret is put", "grant/warn/secrets/key", map[string]any{"resource": "secrets/key", "verbs": []any{"read"}},
			func(w *changeRequest) { w.Secrets = map[string]string{"value": "hidden"} }),
		put("who deploys puts log lines", "logs/warn", map[string]any{"retention": 5_000_000.0}, func(w *changeRequest) { w.Fence = 7 }),
		put("who deployed before is too late", "logs/warn", map[string]any{"retention": 6_000_000.0}, func(w *changeRequest) { w.Fence = 6 }),
		put("a function is put", "function/warn", config(1<<27), secret),
		put("a revision is put", "revision/warn", frozen(first), nil),
		put("a pointer is put", "pointer/warn", map[string]any{"shares": map[string]any{resource.RevisionID(listing.Digest(), first): 100.0}}, nil),
		put("an opening is put", "opening/warn/ask", map[string]any{"to": []any{"authenticated"}}, nil),
		put("a route is put", "route/warn/ask", route("/warn"), nil),
		put("another one takes the same", "route/warn/other", route("/warn"), nil),
		put("a schedule is put", "schedule/warn/sweep", map[string]any{"every": 60_000.0, "enabled": true}, nil),
		put("it takes from a queue", "subscription/warn/read", subscribed("queue/readings"), nil),
		put("it takes from objects", "subscription/warn/seen", subscribed("objects/maps"), nil),
		put("its memory changes", "function/warn", config(1<<28), secret),
		put("its revision cannot change in place", "revision/warn", frozen(second), nil),
		put("its revision is another", "revision/warn", frozen(second), replaced),
		put("both are called", "pointer/warn", map[string]any{"shares": map[string]any{
			resource.RevisionID(listing.Digest(), first): 80.0, resource.RevisionID(listing.Digest(), second): 20.0}}, nil),
		put("its owner is no text", "identity/warn", map[string]any{"owner": 7.0}, nil),
		{Name: "lines and calls are written down", Do: func(ctx context.Context) error {
			gathered.Do(func() {
				told.Reset()
				p.observed.line(member{sc, "warn"}, api.LogLine{At: now.UnixMilli(), Function: "warn", Stream: "out", Text: "frost"})
				p.observed.count(call{at: member{sc, "warn"}, trigger: "ask"}, api.Invocation{Outcome: api.Succeeded, DurationMs: 12, Revision: "r1"})
				p.observed.use(member{sc, "warn"}, "read", "tables/hills", true)
			})
			p.observed.flush(ctx)
			if len(p.observed.lines)+len(p.observed.minutes)+len(p.observed.uses) > 0 {
				return errors.New(told.String())
			}
			return nil
		}},
		ask("a message is handed in", "secret", "POST", hand+"/queues/readings", `{"hill": 2}`),
		ask("a message is handed in that is no JSON", "secret", "POST", hand+"/queues/readings", `hill`),
		{Name: "it is taken", Do: takes("subscription/warn/read")},
		ask("an object is handed in", "secret", "PUT", hand+"/objects/maps/north.png", "png"),
		ask("a secret is kept", "secret", "PUT", hand+"/secrets/salt", `"hidden"`),
		ask("a secret is kept that is no text", "secret", "PUT", hand+"/secrets/salt", `7`),
		ask("the owner is changed by hand", "secret", "PUT", hand+"/identity%2Fwarn", `{"owner": "somebody"}`),
		ask("a caller is known", "secret", "POST", "/hand/callers", `{"name": "vet", "groups": ["growers", "vets"]}`),
		put("its log lines are kept too short", "logs/warn", map[string]any{"retention": 1000.0}, nil),
		{Name: "an hour goes by", Do: func(context.Context) error { now = now.Add(time.Hour); return nil }},
		{Name: "it fires", Do: fires},
		put("it is called alarm", "identity/alarm", identity("growers"), func(w *changeRequest) { w.RenamedFrom = "warn" }),
		put("it is called alarm again", "identity/alarm", identity("growers"), func(w *changeRequest) { w.RenamedFrom = "warn" }),
		put("nothing is called alert", "identity/alert", identity("growers"), func(w *changeRequest) { w.RenamedFrom = "warn" }),
		put("a log is no identity", "logs/alert", map[string]any{"retention": 5_000_000.0}, func(w *changeRequest) { w.RenamedFrom = "alarm" }),
		remove("its pointer is removed by who saw another", "pointer/alarm", func(w *changeRequest) { w.Match = "other" }),
		remove("a function that is called is removed", "function/alarm", nil),
		remove("its pointer is removed", "pointer/alarm", nil),
		remove("its pointer is removed twice", "pointer/alarm", nil),
		{Name: "what it took finds nobody", Do: delivers("subscription/alarm/read")},
		{Name: "nothing is due so soon", Do: takes("subscription/alarm/read")},
		{Name: "a minute goes by", Do: func(context.Context) error { now = now.Add(time.Minute); return nil }},
		{Name: "it is taken again", Do: takes("subscription/alarm/read")},
		{Name: "it is tried for the last time but one", Do: triedFor(maxAttempts-2, false)},
		{Name: "it is tried for the last time", Do: triedFor(maxAttempts-1, true)},
		ask("it is sent again", "secret", "POST", at+"/messages/1", ""),
		ask("it is sent again twice", "secret", "POST", at+"/messages/1", ""),
		ask("a message that is not a dead letter is deleted", "secret", "DELETE", at+"/messages/1", ""),
		{Name: "it fires again", Do: fires},
		{Name: "it does not fire so soon", Do: fires},
		{Name: "the clock is put back", Do: func(context.Context) error { now = now.Add(-2 * time.Hour); return nil }},
		{Name: "it counts from now on", Do: fires},
		put("it may write", "grant/alarm/tables/hills", map[string]any{"resource": "tables/hills", "verbs": []any{"write", "delete"}}, nil),
		put("it may keep", "grant/alarm/objects/maps", map[string]any{"resource": "objects/maps", "verbs": []any{"*"}}, nil),
		put("it may send", "grant/alarm/queues/out", map[string]any{"resource": "queues/out", "verbs": []any{"send"}}, nil),
		ask("it writes a row", "mine", "PUT", data+"/tables/hills/2", `{"cold": true}`),
		ask("it writes it again", "mine", "PUT", data+"/tables/hills/2", `{"cold": false}`),
		ask("it writes no JSON", "mine", "PUT", data+"/tables/hills/2", `cold`),
		ask("it writes elsewhere", "mine", "PUT", data+"/tables/rows/2", `{}`),
		ask("it deletes the row", "mine", "DELETE", data+"/tables/hills/2", ""),
		ask("it changes an object", "mine", "PUT", data+"/objects/maps/north.png", "gif"),
		ask("it makes an object", "mine", "PUT", data+"/objects/maps/coast.png", "gif"),
		ask("it deletes an object", "mine", "DELETE", data+"/objects/maps/coast.png", ""),
		ask("it deletes an object twice", "mine", "DELETE", data+"/objects/maps/coast.png", ""),
		ask("it reads its own secret", "mine", "GET", data+"/secrets/key", ""),
		put("it may read secrets", "grant/alarm/secrets/*", map[string]any{"resource": "secrets/*", "verbs": []any{"read"}}, nil),
		ask("it reads a secret that is nowhere", "mine", "GET", data+"/secrets/pepper", ""),
		ask("it reads a secret", "mine", "GET", data+"/secrets/salt", ""),
		ask("an operation is looked at that is none", "secret", "GET", "/operations/o-1", ""),
		ask("it sends", "mine", "POST", data+"/queues/out", "7"),
		begins("a change is accepted", "logs/alarm", map[string]any{"retention": 9_000_000.0}, nil),
		{Name: "it is carried out", Do: carriesOut},
		begins("a change is accepted that cannot be", "logs/alarm", map[string]any{"retention": 9_000_000.0}, func(w *changeRequest) { w.Match, w.Key = "other", "again" }),
		{Name: "it fails", Do: carriesOut},
		begins("it is requested once more", "logs/alarm", map[string]any{"retention": 8_000_000.0}, func(w *changeRequest) { w.Key = "again" }),
		{Name: "it is carried out now", Do: carriesOut},
		begins("its log lines are to be removed", "logs/alarm", nil, func(w *changeRequest) { w.Remove = true }),
		{Name: "they are removed", Do: carriesOut},
		begins("what is done is requested again", "logs/alarm", map[string]any{"retention": 7_000_000.0}, func(w *changeRequest) { w.Key = "again" }),
		ask("the weather is slow", "secret", "PUT", "/hand/north/faults", `{"take_ms": 5}`),
		remove("its revision is removed", "revision/alarm", nil),
		remove("its function is removed", "function/alarm", nil),
	}
	return dbtest.Stage{Acts: list, DB: p.store.db.DB, After: func() { now = now.Add(10 * time.Millisecond) },
		Mask: func(line string) string {
			return masked(strings.NewReplacer(fmt.Sprint(now.UnixMilli()), "now", now.UTC().Format(time.RFC3339Nano), "now").Replace(line))
		},
		InParts: []string{"it is carried out", "it is carried out now", "it fails", "they are removed"}} // the record of an operation follows it
}

// masked hides values that differ between runs.
func masked(line string) string {
	for text, with := range map[string]string{`^(. changes .*n: )\d+`: "${1}…", `sealed:[A-Za-z0-9+/=]+`: "sealed", `\b([oei])-[0-9a-f]{16}`: "$1-…",
		`hand-[0-9a-f]{16}`: "hand-…", `\b[0-9a-f]{64}\b`: "…"} {
		line = regexp.MustCompile(text).ReplaceAllString(line, with)
	}
	return line
}

// TestWritesPerOperation holds all that each act leaves behind against testdata/acts.txt.
func TestWritesPerOperation(t *testing.T) {
	dbtest.Held(t, acting(t), "testdata/acts.txt", *update)
}

// TestOperationsAreAtomic fails each operation at each table that it writes to.
func TestOperationsAreAtomic(t *testing.T) {
	if faults := dbtest.Whole(t, acting(t), acting(t)); faults < 80 {
		t.Errorf("only %d faults were tried", faults)
	}
}
