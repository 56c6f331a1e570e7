package engine_test

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"rudmar/core/delivery"
	"rudmar/engine"
	"rudmar/engine/source"
	"rudmar/engine/store"
	"rudmar/platform"
)

// beside opens the rig's database like another process, with one connection.
func (r *rig) beside() *sql.Conn {
	r.Helper()
	db, err := sql.Open("sqlite", "file:"+filepath.Join(r.dir, "rudmar.db")+"?_pragma=busy_timeout(5000)")
	must(r, err)
	r.Cleanup(func() { db.Close() })
	c, err := db.Conn(r.Context())
	must(r, err)
	return c
}

func (r *rig) do(c *sql.Conn, text string) {
	r.Helper()
	if _, err := c.ExecContext(r.Context(), text); err != nil {
		r.Fatalf("%s: %v", text, err)
	}
}

// TestOneUnhealthyScopeStopsNothingElse has a platform not respond to one service, which sorts before another:
// the other is planned, deployed and tested; the unhealthy place is reported, with since when, and recovers
// automatically.
func TestOneUnhealthyScopeStopsNothingElse(t *testing.T) {
	r := newRigWith(t, func(o *engine.Options) {
		o.Platforms["local"] = o.Platforms["local"].With(platform.Within(time.Second))
	})
	apricots := strings.ReplaceAll(root, "service: frostline", "service: apricots")
	in := func(dir, manifest string) map[string]string {
		return map[string]string{dir + "/rudmar.yaml": manifest, dir + "/a/function.yaml": fn("a", ""),
			dir + "/a/main.py": "def run(call): return 'a'\n"}
	}
	r.push(in("apricots", apricots))
	r.until("apricots are there", func() bool {
		d, err := r.Store.Delivery(t.Context(), "apricots", 1, "trial")
		return err == nil && d.State == delivery.Settled
	})
	gone := make(chan struct{})
	r.spoilWith(func(w http.ResponseWriter, q *http.Request, next http.Handler) {
		if strings.Contains(q.URL.Path, "/apricots/") {
			select {
			case <-gone: // and then an answer that is cut off
			case <-q.Context().Done():
			}
			return
		}
		next.ServeHTTP(w, q)
	})
	both := in("frostline", root)
	both["apricots/a/main.py"] = "def run(call): return 'b'\n"
	r.push(both)
	r.reaches(1, "trial", delivery.Settled)
	at := place("trial", "north")
	at.Service = "apricots"
	r.until("the sick place is named", func() bool {
		looks, err := r.Watch.Observations(t.Context(), "apricots")
		return err == nil && strings.Contains(looks[at].Error, "is unreachable") && looks[at].Since > 0
	})
	close(gone)
	r.spoilWith(nil)
	r.until("the sick place is well", func() bool {
		looks, err := r.Watch.Observations(t.Context(), "apricots")
		d, deliveryErr := r.Store.Delivery(t.Context(), "apricots", 2, "trial")
		return err == nil && deliveryErr == nil && looks[at].Error == "" && looks[at].Since == 0 &&
			d.State == delivery.Settled
	})
}

// TestReadOnlyDatabase prevents a deployment from recording the outcomes of its steps: by a long lock, by
// failed writes, and by a removed lease. It continues automatically, and so does the next one.
func TestReadOnlyDatabase(t *testing.T) {
	for name, faults := range map[string]func(r *rig, c *sql.Conn) (end func()){
		"a lock": func(r *rig, c *sql.Conn) func() {
			r.do(c, `BEGIN IMMEDIATE`)
			return func() {
				wait := time.NewTimer(5500 * time.Millisecond) // longer than the wait for a lock
				defer wait.Stop()
				<-wait.C
				r.do(c, `COMMIT`)
			}
		},
		"writes that fail": func(r *rig, c *sql.Conn) func() {
			r.do(c, `CREATE TRIGGER full BEFORE UPDATE ON deployment_steps BEGIN SELECT raise(ABORT, 'disk full'); END`)
			return func() { r.do(c, `DROP TRIGGER full`) }
		},
		"a lease that is lost": func(r *rig, c *sql.Conn) func() {
			r.do(c, `UPDATE leases SET fence = fence + 1`)
			return func() {}
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			r := newRig(t)
			begun, hold := r.holdsAt("function/a")
			r.push(first())
			<-begun
			end := faults(r, r.beside())
			close(hold)
			end()
			r.reaches(1, "trial", delivery.Settled)
			r.upToDate("trial", "north", 1)
			r.push(map[string]string{"a/main.py": "def run(call): return 'a' # again\n"})
			r.reaches(2, "trial", delivery.Settled)
		})
	}
}

// TestVersionNumberIsDelivered fails the last write of a build's end: neither the version nor its delivery
// exists, and the build is repeated. Undelivered versions of a former process are delivered at the start.
func TestVersionNumberIsDelivered(t *testing.T) {
	r := newRig(t)
	c := r.beside()
	r.do(c, `CREATE TRIGGER full BEFORE UPDATE ON builds BEGIN SELECT raise(ABORT, 'disk full'); END`)
	r.push(first())
	r.until("the build has got to its end", func() bool {
		b, err := r.Build.Builds(t.Context(), "frostline", 1)
		return err == nil && len(b) == 1 && b[0].State == store.BuildQueued && b[0].Log == ""
	})
	versions, err := r.Store.ListVersions(t.Context(), "frostline", store.Part{Limit: 1000})
	if err != nil || len(versions) != 0 {
		t.Errorf("numbered without an end: %d versions, %v", len(versions), err)
	}
	r.do(c, `DROP TRIGGER full`)
	r.reaches(1, "trial", delivery.Settled)

	must(t, r.Close())
	r.do(c, `DELETE FROM judgements`)
	r.do(c, `DELETE FROM standing`)
	r.do(c, `DELETE FROM deliveries`)
	r.start()
	r.reaches(1, "trial", delivery.Settled)
}

// TestPushIsBuiltOnce records many pushes at once, repeatedly: each is built once, and each branch has one push
// of it.
func TestPushIsBuiltOnce(t *testing.T) {
	r := newRig(t)
	r.push(first())
	const pushes = 6
	for i := range pushes {
		change := map[string]string{"a/main.py": fmt.Sprintf("def run(call): return 'a' # %d\n", i)}
		r.push(change)
		var group sync.WaitGroup
		for range 10 {
			group.Go(func() {
				if err := r.Build.Pushed(t.Context(), "brambleford", "linden"); err != nil {
					t.Error(err)
				}
			})
		}
		group.Wait()
	}
	r.reaches(pushes+1, "trial", delivery.Settled)
	builds, err := r.Store.Builds(t.Context(), "frostline", 100)
	if err != nil || len(builds) != pushes+1 {
		t.Errorf("%d builds of %d pushes: %v", len(builds), pushes+1, err)
	}
	for _, b := range builds {
		if b.Person != "wren" || b.State != store.BuildSucceeded {
			t.Errorf("%+v", b)
		}
	}
	// A branch that git moved without a notification is found without a push.
	other, err := r.Host.Repository("brambleford").Apply(t.Context(),
		source.Change{Branch: "main", Base: r.head, Message: "unseen", Author: "wren", Email: "w@x.invalid",
			Files: map[string][]byte{"a/main.py": []byte("def run(call): return 'a' # unseen\n")}})
	must(t, err)
	must(t, r.Close())
	r.start()
	r.reaches(pushes+2, "trial", delivery.Settled)
	if v, err := r.Store.Version(t.Context(), "frostline", pushes+2); err != nil || v.Hash != other {
		t.Errorf("version %d is of %s: %v", pushes+2, v.Hash, err)
	}
}

// TestConcurrentRollbacks rolls back to two versions concurrently, and approves and rejects concurrently: one
// succeeds, the other reports that somebody was faster, and one version has settled.
func TestConcurrentRollbacks(t *testing.T) {
	r := newRig(t)
	r.push(first())
	r.reaches(1, "trial", delivery.Settled)
	for version := 2; version <= 3; version++ {
		r.push(map[string]string{"b/main.py": fmt.Sprintf("def run(call): return 'b' # %d\n", version)})
		r.reaches(version, "trial", delivery.Settled)
	}
	var errs [2]error
	say := map[int]func() error{}
	for i := range errs {
		words := r.say("linden", "trial", i+1)
		say[i] = func() error { return r.Line.RollBackTo(t.Context(), "frostline", i+1, "trial", words) }
	}
	atOnce(say[0], say[1], &errs)
	if (errs[0] == nil) == (errs[1] == nil) {
		t.Fatalf("both or none was rolled back: %v, %v", errs[0], errs[1])
	}
	won, lost := 1, errs[1]
	if errs[0] != nil {
		won, lost = 2, errs[0]
	}
	if !errors.Is(lost, store.ErrMoved) && !errors.Is(lost, delivery.ErrTransition) {
		t.Errorf("who lost was told %v", lost)
	}
	r.reaches(won, "trial", delivery.Settled)
	rows, err := r.Store.Deliveries(t.Context(), "frostline")
	must(t, err)
	for _, d := range rows {
		if d.Stage == "trial" && d.Version > won && d.State == delivery.Settled {
			t.Errorf("version %d is settled beside version %d", d.Version, won)
		}
	}

	if err := r.Line.Request(t.Context(), "frostline", 1, "live", r.say("wren", "live", 1)); err != nil && won == 1 {
		t.Fatal(err)
	}
	for range 10 {
		words := r.say("linden", "live", won)
		atOnce(func() error { return r.Line.Approve(t.Context(), "frostline", won, "live", words) },
			func() error { return r.Line.Refuse(t.Context(), "frostline", won, "live", r.person("linden"), "no") }, &errs)
		d, err := r.Store.Delivery(t.Context(), "frostline", won, "live")
		if err != nil || errs[1] == nil && d.State != delivery.Rejected {
			t.Fatalf("refused, and it is %s: %v", d.State, err)
		}
		if errs[1] != nil || d.State == delivery.Rejected {
			break
		}
	}
}

func atOnce(one, two func() error, errs *[2]error) {
	var group sync.WaitGroup
	group.Go(func() { errs[0] = one() })
	group.Go(func() { errs[1] = two() })
	group.Wait()
}

// TestCasesRunOnce ends Rudmar while a case runs. After the start that one runs again, and says so; completed
// ones do not.
func TestCasesRunOnce(t *testing.T) {
	r := newRig(t)
	files := first()
	for _, name := range []string{"first", "second", "third"} {
		files["b/cases/"+name+".yaml"] = "case: " + name + "\nsend: {route: GET /b}\nexpect: [status == 200]\n"
	}
	var calls atomic.Int64
	begun := make(chan struct{})
	r.spoilWith(func(w http.ResponseWriter, q *http.Request, next http.Handler) {
		if q.URL.Path == "/north/frostline/trial/b" && calls.Add(1) == 2 {
			_, _ = io.Copy(io.Discard, q.Body) // only then the server notices the disconnect
			close(begun)
			<-q.Context().Done()
			return
		}
		next.ServeHTTP(w, q)
	})
	r.push(files)
	<-begun
	r.until("the case of a has ended, which runs beside it", func() bool {
		runs, err := r.Store.CaseRuns(t.Context(), "frostline", 1, "trial")
		return err == nil && len(runs) == 3 && runs[0].Function == "a" && !runs[0].Running
	})
	must(t, r.Close())
	r.start()
	r.reaches(1, "trial", delivery.Settled)
	if n := calls.Load(); n != 4 {
		t.Errorf("the three cases of b were called %d times", n)
	}
	runs, err := r.Store.CaseRuns(t.Context(), "frostline", 1, "trial")
	must(t, err)
	again := 0
	for _, run := range runs {
		if !run.Passed || run.Running {
			t.Errorf("%+v", run)
		}
		if run.Again {
			again++
		}
	}
	if len(runs) != 4 || again != 1 {
		t.Errorf("%d runs, %d of them again", len(runs), again)
	}
}

// TestDuplicateEvents publishes every event again and again, from before the push to
// the end: nothing is built, deployed, sent or proved twice.
func TestDuplicateEvents(t *testing.T) {
	r := newRig(t)
	ctx, stop := context.WithCancel(t.Context())
	var told sync.WaitGroup
	told.Go(func() {
		for ctx.Err() == nil {
			list, err := r.Store.EventsAfter(ctx, 0, 100)
			for _, e := range list {
				err = errors.Join(err, r.Store.Publish(ctx, e.Service, e.Topic, map[string]any{"again": e.Body}))
			}
			if err != nil && ctx.Err() == nil {
				t.Error(err)
			}
			r.Line.AdvanceSoon()
			r.Watch.ObserveSoon()
		}
	})
	var calls atomic.Int64
	r.spoilWith(func(w http.ResponseWriter, q *http.Request, next http.Handler) {
		if q.URL.Path == "/north/frostline/trial/a" {
			calls.Add(1)
		}
		next.ServeHTTP(w, q)
	})
	r.push(first())
	r.actual()
	stop()
	told.Wait()
	deployments, err := r.Store.Deployments(t.Context(), "frostline", "", 100)
	if err != nil || len(deployments) != 3 {
		t.Errorf("%d deployments for three places: %v", len(deployments), err)
	}
	for _, d := range deployments {
		steps, err := r.Store.Steps(t.Context(), d.ID)
		must(t, err)
		for _, s := range steps {
			if s.Attempts != 1 {
				t.Errorf("deployment %d sent %s %d times", d.ID, s.Address, s.Attempts)
			}
		}
	}
	if n := calls.Load(); n != 1 {
		t.Errorf("the case of the first stage was called %d times", n)
	}
}

// TestMissingArchivesAreRebuilt removes archives and alters them: the next build makes them again from git,
// just unchanged.
func TestMissingArchivesAreRebuilt(t *testing.T) {
	r := newRig(t)
	r.push(first())
	r.reaches(1, "trial", delivery.Settled)
	functions, err := r.Store.VersionFunctions(t.Context(), "frostline", 1)
	if err != nil || len(functions) != 2 {
		t.Fatal(functions, err)
	}
	file := func(i int) string {
		return filepath.Join(r.dir, "artifacts", strings.TrimPrefix(functions[i].Digest, "sha256:")+".zip")
	}
	whole, err := os.ReadFile(file(1))
	must(t, err)
	whole[len(whole)/2] ^= 1
	must(t, errors.Join(os.Remove(file(0)), os.WriteFile(file(1), whole, 0o600)))
	if _, _, err := r.Build.Verify(t.Context(), "frostline", 1); err == nil {
		t.Error("nothing was noticed")
	}
	r.push(map[string]string{"a/function.yaml": fn("a", "memory: 256 MiB\n")})
	r.reaches(2, "trial", delivery.Settled)
	if b := r.ends(store.BuildSucceeded); strings.Count(b.Log, "rebuilding its archive") != 2 {
		t.Errorf("the log of the build:\n%s", b.Log)
	}
	for version := 1; version <= 2; version++ {
		if _, found, err := r.Build.Verify(t.Context(), "frostline", version); err != nil {
			t.Errorf("version %d: %v %v", version, found, err)
		}
	}
}

// TestDataFolderIsLocked starts a second Rudmar on a data folder, one on a newer database, and one without its
// keys: each refuses with the remedy, and nothing is lost.
func TestDataFolderIsLocked(t *testing.T) {
	r := newRig(t)
	r.push(first())
	r.reaches(1, "trial", delivery.Settled)
	must(t, r.People.SetSecret(t.Context(), "frostline", "trial", "key", "hidden", "wren"))
	o := engine.Options{Dir: r.dir, Self: "/bin/true", Log: slog.New(slog.DiscardHandler)}
	refused := func(want error) {
		t.Helper()
		e, err := engine.Open(t.Context(), o)
		if err == nil {
			err = e.Close()
		}
		if !errors.Is(err, want) {
			t.Errorf("%v, not %v", err, want)
		}
	}
	refused(engine.ErrTaken)
	must(t, r.Close())
	c := r.beside()
	r.do(c, `INSERT INTO goose_db_version (version_id, is_applied) VALUES (9999, 1)`)
	refused(store.ErrNewer)
	r.do(c, `DELETE FROM goose_db_version WHERE version_id = 9999`)
	for _, name := range []string{"secret.key", "signing.key"} {
		kept, err := os.ReadFile(filepath.Join(r.dir, name))
		must(t, err)
		must(t, os.Remove(filepath.Join(r.dir, name)))
		refused(store.ErrKeyGone)
		must(t, os.WriteFile(filepath.Join(r.dir, name), kept, 0o600))
	}
	r.start()
	if open, err := r.People.Secrets(t.Context(), "frostline", "trial"); err != nil || open["key"] != "hidden" {
		t.Errorf("the secret: %v %v", open, err)
	}
	// The operator declares them lost.
	must(t, errors.Join(r.Close(), os.Remove(filepath.Join(r.dir, "secret.key"))))
	r.change = func(o *engine.Options) { o.NewKeys = true }
	r.start()
	if open, err := r.People.Secrets(t.Context(), "frostline", "trial"); err != nil || len(open) != 0 {
		t.Errorf("the secret under a key that is gone: %v %v", open, err)
	}
}

// TestHealth removes one resource after another that Rudmar needs: it is reported, soon, even if others hang.
func TestHealth(t *testing.T) {
	r := newRig(t)
	wrong := func() string {
		t.Helper()
		begun := time.Now()
		h, err := r.Health(t.Context())
		if err != nil || time.Since(begun) > 30*time.Second {
			t.Fatalf("after %s: %v", time.Since(begun), err)
		}
		var out []string
		for _, c := range h.Checks {
			if c.Problem != "" {
				out = append(out, c.What)
			}
		}
		for _, p := range h.Platforms {
			if p.Err != nil {
				out = append(out, p.Name)
			}
		}
		for _, s := range h.Stuck {
			out = append(out, s.What)
		}
		return strings.Join(out, ", ")
	}
	if got := wrong(); got != "" {
		t.Errorf("wrong at the start: %s", got)
	}
	must(t, os.Rename(filepath.Join(r.dir, "secret.key"), filepath.Join(r.dir, "away")))
	hold := make(chan struct{})
	r.spoilWith(func(_ http.ResponseWriter, q *http.Request, _ http.Handler) {
		select {
		case <-hold:
		case <-q.Context().Done():
		}
	})
	c := r.beside()
	r.do(c, `INSERT INTO services (name, repository, dir, made_at) VALUES ('frostline', 'brambleford', '.', 1)`)
	r.do(c, `INSERT INTO versions (service, number, hash, branch, author, message, committed_at, built_at, content, manifests) VALUES ('frostline', 1, 'abc', 'main', 'wren', '', 1, 1, 'c', '{}')`)
	r.do(c, `INSERT INTO deliveries (service, version, stage, state, since) VALUES ('frostline', 1, 'trial', 'refused', 1)`)
	r.do(c, `INSERT INTO builds (service, hash, branch, person, state, asked_at) VALUES ('frostline', 'abcdef0123', 'gone', 'wren', 'queued', 1)`)
	r.do(c, `BEGIN IMMEDIATE`)
	if got := wrong(); got != "database, secret.key, local, a build of abcdef01" {
		t.Errorf("wrong: %s", got)
	}
	r.do(c, `ROLLBACK`)
	close(hold)
	r.spoilWith(nil)
	must(t, os.Rename(filepath.Join(r.dir, "away"), filepath.Join(r.dir, "secret.key")))
	for _, folder := range []string{"repositories", "artifacts"} {
		must(t, os.Rename(filepath.Join(r.dir, folder), filepath.Join(r.dir, "away")))
		if checks := r.Needs(t.Context()); engine.Serves(checks) || !strings.Contains(wrong(), folder) {
			t.Errorf("without %s: %+v", folder, checks)
		}
		must(t, os.Rename(filepath.Join(r.dir, "away"), filepath.Join(r.dir, folder)))
	}
	if !engine.Serves([]engine.Check{{What: "disk", Problem: "little space", Warning: true}}) {
		t.Error("with little space it does not serve")
	}
	r.until("all is well but the build",
		func() bool { got := wrong(); return got == "" || strings.HasPrefix(got, "a build") })
}

// TestPruning shows the data beyond its retention and deletes it: plans that were never executed, logs, and
// unused archives. Deployed, executed and new data is kept, and deleted archives can be built again.
func TestPruning(t *testing.T) {
	clock := time.Now
	var ahead atomic.Int64
	r := newRigWith(t, func(o *engine.Options) {
		o.Now = func() time.Time { return clock().Add(time.Duration(ahead.Load())) }
	})
	r.push(first())
	r.reaches(1, "trial", delivery.Settled)
	for version := 2; version <= 24; version++ {
		r.push(map[string]string{"a/main.py": fmt.Sprintf("def run(call): return 'a' # %d\n", version)})
	}
	r.reaches(24, "trial", delivery.Settled)
	unused := r.planned(3)
	tidy := func(keep engine.Keep, do bool) string {
		t.Helper()
		gone, err := engine.Tidy(t.Context(), r.Store, r.dir, keep, do)
		must(t, err)
		var out []string
		for _, g := range gone {
			out = append(out, fmt.Sprint(g.Count))
		}
		return strings.Join(out, " ")
	}
	week := 7 * 24 * time.Hour
	all := engine.Keep{Plans: week, Logs: week, Archives: week}
	if got := tidy(all, true); got != "0 0 0" {
		t.Errorf("of what is new, %s would go", got)
	}
	c := r.beside()
	r.do(c, `UPDATE deliveries SET state = 'overtaken' WHERE version < 24 AND stage = 'live'`) // nothing old waits
	ahead.Store(int64(2 * week))
	if got := tidy(engine.Keep{}, true); got != "0 0 0" {
		t.Errorf("without rules %s went", got)
	}
	shown := tidy(all, false)
	// versions 1 to 4 have an archive of a of their own
	if went := tidy(all, true); went != shown || !strings.HasSuffix(shown, " 24 4") {
		t.Errorf("%s was shown, and %s went", shown, went)
	}
	if got := tidy(all, true); got != "0 0 0" {
		t.Errorf("the second time %s went", got)
	}
	if _, err := r.Store.Plan(t.Context(), unused); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("the plan that was never run: %v", err)
	}
	d, err := r.Store.Delivery(t.Context(), "frostline", 24, "trial")
	must(t, err)
	if deployment, err := r.Store.Deployment(t.Context(), d.Deployments[0]); err != nil {
		t.Error(err)
	} else if _, err := r.Store.Plan(t.Context(), deployment.Plan); err != nil {
		t.Errorf("the plan that was run: %v", err)
	}
	if _, _, err := r.Build.Verify(t.Context(), "frostline", 24); err != nil {
		t.Errorf("the version that runs: %v", err)
	}
	r.push(map[string]string{"a/main.py": "def run(call): return 'a' # 2\n"}) // as version 2 was
	r.until("rebuilding its archive", func() bool {
		_, _, err := r.Build.Verify(t.Context(), "frostline", 2)
		return err == nil
	})
}
