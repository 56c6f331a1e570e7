package engine_test

import (
	"database/sql"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"rudmar/core/delivery"
	"rudmar/core/plan"
	"rudmar/core/rights"
	"rudmar/engine/copies"
	"rudmar/engine/deploy"
	"rudmar/engine/people"
	"rudmar/engine/source"
	"rudmar/engine/store"
	"rudmar/platform"
)

func loose(files map[string]string) map[string]*source.Content {
	out := map[string]*source.Content{}
	for name, text := range files {
		out[name] = &source.Content{Bytes: []byte(text)}
	}
	return out
}

// A copy shares only the settings of the stage, is deleted when it is unused, and belongs to one user.
func TestPrivateCopies(t *testing.T) {
	r, shift := newRigAhead(t)
	ctx := t.Context()
	r.add(people.NewUser{Username: "teasel", Role: rights.Reader})
	r.add(people.NewUser{Username: "sorrel", Role: rights.Author})
	files := first()
	files["a/function.yaml"] = fn("a", "env: {KEY: \"${secrets.key}\"}\npermissions: [{allow: [write], resource: tables/rows}]\n")
	files["a/main.py"] = "import rudmar\ndef run(call):\n    print(call)\n    rudmar.table('rows').write('4', {'row': 4})\n"
	delete(files, "a/cases/works.yaml")
	must(t, r.People.SetSecret(ctx, "frostline", "trial", "key", "four-rows-of-pears", "wren"))
	r.push(files)
	r.reaches(1, "trial", delivery.Settled)
	_, before, err := actual(r, "trial")
	must(t, err)

	if _, err := r.Copies.Put(ctx, "frostline", r.person("teasel"), copies.Change{Files: loose(files)}); !errors.Is(err,
		rights.ErrDenied) {
		t.Errorf("who may not write has a copy: %v", err)
	}
	out, err := r.Copies.Put(ctx, "frostline", r.person("wren"), copies.Change{Files: loose(files)})
	if err != nil || len(out.Packed) == 0 || len(out.Steps) == 0 || out.Stage != "trial" {
		t.Fatalf("%v: %+v", err, out)
	}
	if _, err := r.Copies.Put(ctx, "frostline", r.person("wren"), copies.Change{Base: "another"}); !errors.Is(err,
		copies.ErrBase) {
		t.Errorf("a change of another folder: %v", err)
	}
	same, err := r.Copies.Put(ctx, "frostline", r.person("wren"), copies.Change{Base: out.Digest})
	if err != nil || len(same.Steps) != 0 || len(same.Packed) != 0 {
		t.Errorf("the same again: %v %v %v", err, same.Steps, same.Packed)
	}
	broken, err := r.Copies.Put(ctx, "frostline", r.person("wren"),
		copies.Change{Base: out.Digest, Files: loose(map[string]string{"a/function.yaml": "function: [\n"})})
	if err != nil || broken.Result.OK() || len(broken.Steps) != 0 {
		t.Errorf("a broken folder: %v %+v", err, broken)
	}
	other := files["rudmar.yaml"]
	if _, err := r.Copies.Put(ctx, "frostline", r.person("wren"), copies.Change{Base: broken.Digest,
		Files: loose(map[string]string{"a/function.yaml": files["a/function.yaml"],
			"rudmar.yaml": strings.Replace(other, "service: frostline", "service: watering", 1)})}); !errors.Is(err,
		copies.ErrFolder) {
		t.Errorf("the folder of another service: %v", err)
	}
	if _, after, err := actual(r, "trial"); err != nil || after != before {
		t.Errorf("trial was touched: %v, %s, before %s", err, after, before)
	}
	if n, _, err := actual(r, "trial~wren"); err != nil || n == 0 {
		t.Errorf("the copy has %d resources: %v", n, err)
	}

	// Without the right to set the stage's secrets a copy has none; and a copy takes nothing from another's.
	must(t, r.People.Add(ctx, people.NewUser{Username: "sorrel", Role: rights.Author, Password: "orchard-at-dawn",
		Places: []string{"frostline"}}, ""))
	sorrel := r.person("sorrel")
	sorrel.Token = &store.Token{Name: "narrow", Grants: []rights.Grant{{Right: "view"}, {Right: "write"}}}
	noted, err := r.Copies.Put(ctx, "frostline", sorrel, copies.Change{Files: loose(files)})
	if err != nil || len(noted.Notes) != 1 || !strings.Contains(noted.Notes[0], "secrets are placeholders") {
		t.Errorf("%v: %v", err, noted.Notes)
	}
	list, err := r.Store.Copies(ctx)
	if err != nil || len(list) != 2 {
		t.Fatalf("%v: %+v", err, list)
	}

	inv, err := r.platform.Invoke(ctx, platform.Scope{Region: "north", Service: "frostline", Stage: "trial~wren"}, "a", "ask",
		"", map[string]any{}, time.Minute)
	if err != nil || inv.Error != nil || len(r.dataOf("trial~wren")) < 3 {
		t.Errorf("%v %v: the copy has data in %v", err, inv.Error, r.dataOf("trial~wren"))
	}

	// Idle copies are deleted with all their data, used ones stay; then those of a closed account.
	shift.Store(int64(copies.IdleFor - time.Minute))
	if _, err := r.Copies.Private(ctx, "frostline", "sorrel"); err != nil {
		t.Fatal(err)
	}
	shift.Store(int64(copies.IdleFor + time.Minute))
	must(t, r.Copies.Sweep(ctx))
	if n, _, err := actual(r, "trial~wren"); err != nil || n != 0 {
		t.Errorf("an idle copy has %d resources: %v", n, err)
	}
	if left := r.dataOf("trial~wren"); len(left) > 0 || len(r.dataOf("trial~sorrel")) == 0 {
		t.Errorf("a deleted copy has data in %v", left)
	}
	if n, _, err := actual(r, "trial~sorrel"); err != nil || n == 0 {
		t.Errorf("a copy in use has %d resources: %v", n, err)
	}
	must(t, r.People.Change(ctx, "sorrel", "", "closed", func(p *store.Person) error { p.Closed = true; return nil }))
	must(t, r.Copies.Sweep(ctx))
	if n, _, err := actual(r, "trial~sorrel"); err != nil || n != 0 {
		t.Errorf("the copy of somebody who is closed has %d resources: %v", n, err)
	}
	if _, after, err := actual(r, "trial"); err != nil || after != before {
		t.Errorf("trial was touched: %v, %s, before %s", err, after, before)
	}
}

// A folder cannot name the stage of its copy, so a copy has neither another stage's secrets nor open routes.
func TestCopyIsOfTheSettledFirstStage(t *testing.T) {
	r, shift := newRigAhead(t)
	ctx := t.Context()
	files := first()
	files["a/function.yaml"] = fn("a", "env: {KEY: \"${secrets.key}\"}\n")
	files["a/main.py"] = "import os\ndef run(call): return os.environ['KEY']\n"
	files["a/cases/works.yaml"] = "case: it works\nsend: {route: GET /a}\nexpect: [status == 200]\n"
	for stage, value := range map[string]string{"trial": "Four-Rows-7", "preview": "of-preview", "live": "of-live"} {
		must(t, r.People.SetSecret(ctx, "frostline", stage, "key", value, "wren"))
	}
	r.push(files)
	r.reaches(1, "trial", delivery.Settled)
	stolen := maps.Clone(files)
	stolen["rudmar.yaml"] = "rudmar: 1\nservice: frostline\nowner: cold-nights\nsecrets: [key]\nstages:\n  - {stage: live, target: local/north, enter: {when: push}}\n"
	if _, err := r.Copies.Put(ctx, "frostline", r.person("wren"), copies.Change{Files: loose(stolen)}); !errors.Is(err,
		copies.ErrFolder) || !strings.Contains(err.Error(), "does not declare trial") {
		t.Fatalf("a folder whose only stage is live: %v", err)
	}
	stolen["rudmar.yaml"] += "  - {stage: trial, target: local/coast, enter: {after: live, when: request}}\n"
	call := func(method func(q *http.Request)) (int, string) {
		t.Helper()
		q, err := http.NewRequestWithContext(ctx, http.MethodGet, r.routes+"/north/frostline/trial~wren/a", http.NoBody)
		must(t, err)
		method(q)
		answer, err := http.DefaultClient.Do(q)
		must(t, err)
		defer answer.Body.Close()
		text, err := io.ReadAll(answer.Body)
		must(t, err)
		return answer.StatusCode, string(text)
	}
	anybody := func(*http.Request) {}
	out, err := r.Copies.Put(ctx, "frostline", r.person("wren"), copies.Change{Files: loose(stolen)})
	if err != nil || out.Stage != "trial" || out.Target != "local/north" || out.Token == "" {
		t.Fatalf("%v: %+v", err, out)
	}
	owner := func(q *http.Request) { q.Header.Set("Authorization", "Bearer "+out.Token) }
	if code, text := call(owner); code != 200 || text != "Four-Rows-7" {
		t.Errorf("the owner: %d %s", code, text)
	}
	if code, text := call(anybody); code != 401 {
		t.Errorf("anybody: %d %s", code, text)
	}
	open, err := r.Copies.Put(ctx, "frostline", r.person("wren"), copies.Change{Base: out.Digest, Open: true})
	must(t, err)
	if code, text := call(anybody); code != 200 || open.OpenUntil.IsZero() {
		t.Errorf("anybody, while it is open: %d %s", code, text)
	}
	shift.Store(int64(copies.OpenFor) - int64(time.Minute))
	_, err = r.Copies.Put(ctx, "frostline", r.person("wren"), copies.Change{Base: out.Digest}) // stays open, and used
	must(t, err)
	if code, text := call(anybody); code != 200 {
		t.Errorf("anybody, after a change: %d %s", code, text)
	}
	shift.Store(int64(copies.OpenFor) + int64(time.Minute))
	must(t, r.Copies.Sweep(ctx))
	if code, text := call(anybody); code != 401 {
		t.Errorf("anybody, after an hour: %d %s", code, text)
	}
	// Without the right to use secrets there is a text of the same form.
	must(t, r.People.Add(ctx, people.NewUser{Username: "wren", Role: rights.Author, Password: "orchard-at-dawn-again"}, ""))
	narrow := r.person("wren")
	narrow.Token = &store.Token{Name: "narrow", Grants: []rights.Grant{{Right: "view"}, {Right: "write"}, {Right: "set-secrets"}}}
	out, err = r.Copies.Put(ctx, "frostline", narrow, copies.Change{Files: loose(stolen)})
	must(t, err)
	if code, text := call(owner); code != 200 || text != "Xxxx-Xxxx-0" {
		t.Errorf("without the right to use secrets: %d %s", code, text)
	}
}

// dataOf lists the tables of the local platform's database with data of a stage; the counters stay.
func (r *rig) dataOf(stage string) (tables []string) {
	r.Helper()
	db, err := sql.Open("sqlite", "file:"+filepath.Join(r.dir, "platform", "platform.db"))
	must(r, err)
	defer db.Close()
	var names string
	must(r, db.QueryRow(`SELECT group_concat(m.name, ' ') FROM sqlite_master m, pragma_table_info(m.name) c
		WHERE m.type = 'table' AND c.name = 'stage' AND m.name NOT IN ('changes', 'fences')`).Scan(&names))
	for _, name := range strings.Fields(names) {
		var n int
		must(r, db.QueryRow(`SELECT count(*) FROM `+name+` WHERE stage = ?`, stage).Scan(&n))
		if n > 0 {
			tables = append(tables, name)
		}
	}
	return tables
}

// A copy that cannot be deployed completely says why, keeps the deployed part, and receives the rest after the
// fix.
func TestInvalidCopy(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	files := first()
	r.push(files)
	r.reaches(1, "trial", delivery.Settled)
	put := func(base string, files map[string]string) (copies.Outcome, error) {
		return r.Copies.Put(ctx, "frostline", r.person("wren"), copies.Change{Base: base, Files: loose(files)})
	}
	schedules := "function: a\nhandler: main:run\ntriggers:\n"
	for i := range 51 {
		schedules += fmt.Sprintf("  at%d: {every: 5m}\n", i)
	}
	files["a/function.yaml"] = schedules
	delete(files, "a/cases/works.yaml")
	if _, err := put("", files); !errors.Is(err, deploy.ErrPrivate) || !strings.Contains(err.Error(), "50") {
		t.Errorf("more schedules than there may be: %v", err)
	}
	if n, _, err := actual(r, "trial~wren"); err != nil || n != 0 {
		t.Errorf("of what cannot be there are %d resources: %v", n, err)
	}

	r.spoilWith(func(w http.ResponseWriter, q *http.Request, next http.Handler) {
		if address(q) == "function/b" && q.Method == http.MethodPut {
			http.Error(w, `{"type":"about:blank","title":"No","status":403,"detail":"b is not welcome"}`, http.StatusForbidden)
			return
		}
		next.ServeHTTP(w, q)
	})
	files["a/function.yaml"] = fn("a", "")
	if _, err := put("", files); !errors.Is(err, deploy.ErrPrivate) || !strings.Contains(err.Error(), "function/b: b is not welcome") {
		t.Errorf("what the platform refuses: %v", err)
	}
	kept, _, err := actual(r, "trial~wren")
	if err != nil || kept == 0 {
		t.Errorf("%d resources are there: %v", kept, err)
	}
	r.spoilWith(nil)
	out, err := put("", files)
	if err != nil || len(out.Steps) == 0 {
		t.Errorf("%+v %v", out, err)
	}
	if n, _, err := actual(r, "trial~wren"); err != nil || n != kept+len(out.Steps) {
		t.Errorf("%d resources are there, after %d and %d steps: %v", n, kept, len(out.Steps), err)
	}
}

// A copy of many functions sends no more requests at a time than a deployment.
func TestCopyLimits(t *testing.T) {
	r := newRig(t)
	files := first()
	r.push(files)
	r.reaches(1, "trial", delivery.Settled)
	for i := range 2 * plan.Parallelism {
		name := fmt.Sprintf("row%d", i)
		files[name+"/function.yaml"], files[name+"/main.py"] = fn(name, ""), "def run(call): return 1\n"
	}
	r.spoilWith(func(w http.ResponseWriter, q *http.Request, next http.Handler) {
		if strings.HasPrefix(address(q), "identity/row") { // all possible requests are in flight
			until := time.Now().Add(2 * time.Second)
			for r.most.Load() < plan.Parallelism && time.Now().Before(until) {
				time.Sleep(time.Millisecond) // interval of checks of a condition
			}
		}
		next.ServeHTTP(w, q)
	})
	r.most.Store(0)
	if _, err := r.Copies.Put(t.Context(), "frostline", r.person("wren"), copies.Change{Files: loose(files)}); err != nil {
		t.Fatal(err)
	}
	if most := r.most.Load(); most > plan.Parallelism || most < 2 {
		t.Errorf("%d at the same time, not up to %d", most, plan.Parallelism)
	}
}

// live counts the resources of a scope, and returns its fingerprint.
func actual(r *rig, stage string) (int, string, error) {
	s, err := r.platform.Snapshot(r.Context(), platform.Scope{Region: "north", Service: "frostline", Stage: stage})
	return len(s.Resources), s.Fingerprint, err
}
