package engine_test

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"rudmar/core/delivery"
	"rudmar/engine/build"
	"rudmar/engine/store"
	"rudmar/platform/local"
	"rudmar/platform/local/wasm"
	"rudmar/starter"
)

// ends waits until the newest build of the service is in a state.
func (r *rig) ends(state string) store.Build {
	r.Helper()
	limit := time.Now().Add(4 * time.Minute)
	for {
		list, err := r.Build.Builds(r.Context(), "frostline", 1)
		if err == nil && len(list) == 1 && list[0].State == state {
			return list[0]
		}
		if time.Now().After(limit) {
			r.Fatalf("the build is %+v, not %s: %v", list, state, err)
		}
		time.Sleep(10 * time.Millisecond) // interval of checks of a condition
	}
}

// Commands build the content of the archive, in a clean folder; the same sources are not built again; the same
// commit results in the same digests.
func TestBuildCommands(t *testing.T) {
	r := newRig(t)
	files := first()
	files["a/function.yaml"] = fn("a",
		"build:\n  run: [\"echo building; mkdir out; cp main.py out/copy.py; echo $HOME > where\"]\n  exclude: [where]\n")
	r.push(files)
	b := r.ends("succeeded")
	if !strings.Contains(b.Log, "$ /bin/sh -ec echo building") || !strings.Contains(b.Log, "\nbuilding\n") {
		t.Errorf("the log: %s", b.Log)
	}
	functions, err := r.Store.VersionFunctions(t.Context(), "frostline", 1)
	must(t, err)
	_, entries, err := r.Build.Archive(functions[0].Digest)
	names := ""
	for _, e := range entries {
		names += e.Path + " "
	}
	if err != nil || names != "main.py out/copy.py " {
		t.Errorf("the archive has %s, %v", names, err)
	}
	r.push(map[string]string{"b/main.py": "def run(call): return 'other'\n"})
	r.reaches(2, "trial", delivery.Settled)
	if b := r.ends("succeeded"); !strings.Contains(b.Log, "a: unchanged") || strings.Contains(b.Log, "building") {
		t.Errorf("built again: %s", b.Log)
	}
	r.push(map[string]string{"a/function.yaml": fn("a",
		"build: {run: [\"echo almost; echo no such tool >&2; exit 3\"]}\n")})
	if b := r.ends("failed"); !strings.Contains(b.Reason, "building a: the command failed") ||
		!strings.Contains(b.Reason, "exit status 3: no such tool") {
		t.Errorf("why: %s", b.Reason)
	}
}

// A long build's log can be followed, the build can be cancelled, and the next one is built.
func TestCancelBuild(t *testing.T) {
	r := newRig(t)
	files := first()
	files["a/function.yaml"] = fn("a", "build: {run: [\"echo begun; (sleep 600; true) & wait\"]}\n")
	r.push(files)
	var b store.Build
	for b = r.ends("running"); !strings.Contains(b.Log, "begun"); b = r.ends("running") {
		time.Sleep(10 * time.Millisecond) // interval of checks of a condition
	}
	r.push(map[string]string{"a/function.yaml": fn("a", "")})
	must(t, r.Build.Cancel(t.Context(), b.ID, "linden"))
	r.reaches(1, "trial", delivery.Settled)
	ended, err := r.Store.Build(t.Context(), b.ID)
	if err != nil || ended.State != "cancelled" || ended.Version != 0 {
		t.Errorf("it ended %+v, %v", ended, err)
	}
	if err := r.Build.Cancel(t.Context(), b.ID, "linden"); err == nil || !strings.Contains(err.Error(), "already ended") {
		t.Errorf("cancelled twice: %v", err)
	}
}

// Only the author's faults fail a build: while archives cannot be written it stays queued with the reason, without this
// machine's paths, newer builds of the service wait behind it, and both are built in order when the fault is gone. A
// failed build can be run again.
func TestTransientBuildFaults(t *testing.T) {
	r := newRig(t)
	r.push(first())
	r.reaches(1, "trial", delivery.Settled)
	folder := filepath.Join(r.dir, "artifacts")
	must(t, os.Rename(folder, folder+".away"))
	must(t, os.WriteFile(folder, nil, 0o600))
	r.push(map[string]string{"a/main.py": "def run(call): return 'a' # sleet\n"})
	b := r.ends("queued")
	for b.Reason == "" {
		time.Sleep(10 * time.Millisecond) // interval of checks of a condition
		b = r.ends("queued")
	}
	if !strings.Contains(b.Reason, "will be tried again") || strings.Contains(b.Reason, r.dir) {
		t.Errorf("the reason: %s", b.Reason)
	}
	health, err := r.Health(t.Context())
	if err != nil || len(health.Stuck) == 0 || !strings.Contains(health.Stuck[0].What, "will be tried again") {
		t.Errorf("health: %v %+v", err, health.Stuck)
	}
	r.push(map[string]string{"a/main.py": "def run(call): return 'a' # snow\n"})
	must(t, os.Remove(folder))
	must(t, os.Rename(folder+".away", folder))
	r.reaches(3, "trial", delivery.Settled)
	for number, want := range map[int]string{2: "sleet", 3: "snow"} {
		functions, err := r.Store.VersionFunctions(t.Context(), "frostline", number)
		must(t, err)
		archive, entries, err := r.Build.Archive(functions[0].Digest)
		if err != nil || len(archive) == 0 || !strings.Contains(string(entries[0].Content), want) {
			t.Errorf("version %d: %v, not %s", number, err, want)
		}
	}

	r.push(map[string]string{"a/function.yaml": fn("a", "build: {run: [\"exit 3\"]}\n")})
	failed := r.ends("failed")
	must(t, r.Build.Retry(t.Context(), failed.ID, "wren"))
	again := r.ends("failed")
	for again.EndedAt.Equal(failed.EndedAt) {
		time.Sleep(10 * time.Millisecond) // interval of checks of a condition
		again = r.ends("failed")
	}
	if again.ID != failed.ID || !strings.Contains(again.Reason, "exit status 3") {
		t.Errorf("run again: %+v", again)
	}
	if err := r.Build.Retry(t.Context(), 1, "wren"); !errors.Is(err, store.ErrNotFailed) {
		t.Errorf("a succeeded build was run again: %v", err)
	}
}

// starters is a service with a function from each starter.
func starters(t *testing.T) map[string]string {
	t.Helper()
	files := map[string]string{"rudmar.yaml": root}
	for _, runtime := range starter.Runtimes() {
		own, err := starter.Function("hello-"+runtime, runtime)
		must(t, err)
		for name, text := range own {
			files[name] = text
		}
	}
	return files
}

// A function from each starter is built, deployed and answers its case.
func TestStartersWork(t *testing.T) {
	r := newRig(t)
	r.push(starters(t))
	d := r.reaches(1, "trial", delivery.Settled)
	results, err := r.Store.CaseRuns(t.Context(), d.Service, d.Version, d.Stage)
	if err != nil || len(results) != 3 {
		t.Fatalf("%d cases, %v", len(results), err)
	}
	for _, c := range results {
		if !c.Passed {
			t.Errorf("%s %s: %+v", c.Function, c.Name, c)
		}
	}
}

// The same commit, built by two installations in two folders at two times, results in the same digests and the
// same bytes, for each runtime.
func TestTheSameCommitGivesTheSameDigests(t *testing.T) {
	files := starters(t)
	files["functions/hello-node/package.json"] = `{"name": "hello-node", "version": "1.0.0"}`
	files["functions/hello-node/package-lock.json"] = `{"name": "hello-node", "version": "1.0.0", "lockfileVersion": 3, "packages": {"": {"name": "hello-node", "version": "1.0.0"}}}`
	files["functions/hello-python/function.yaml"] += "build: {run: [\"date > when; date > when.txt\"], exclude: [when, when.txt]}\n"
	var found []map[string]string
	for range 2 {
		r := newRig(t)
		r.push(files)
		r.ends("succeeded")
		functions, err := r.Store.VersionFunctions(t.Context(), "frostline", 1)
		if err != nil || len(functions) != 3 {
			t.Fatal(functions, err)
		}
		own := map[string]string{}
		for _, f := range functions {
			a, err := r.Store.Artifact(t.Context(), f.Digest)
			must(t, err)
			own[f.Function] = f.Digest + " " + a.FileSHA256
		}
		found = append(found, own)
	}
	for name, digest := range found[0] {
		if found[1][name] != digest {
			t.Errorf("%s: %s, and then %s", name, digest, found[1][name])
		}
	}
}

// TestMain lets the test program be the WebAssembly worker.
func TestMain(m *testing.M) {
	if len(os.Args) == 2 && os.Args[1] == local.WorkerCommand {
		if err := wasm.Work(context.Background(), os.NewFile(3, "calls"), os.NewFile(4, "answers")); err != nil {
			os.Exit(1)
		}
		return
	}
	os.Exit(m.Run())
}

// A flipped byte anywhere in the stored parts of a version is found.
func TestVerifyFindsEveryFlippedByte(t *testing.T) {
	r := newRig(t)
	r.push(first())
	r.reaches(1, "trial", delivery.Settled)
	ctx := t.Context()
	facts, checked, err := r.Build.Verify(ctx, "frostline", 1)
	if err != nil || len(checked) != 5 || facts.Commit != r.head || facts.Author != "wren" {
		t.Fatalf("%v %+v %+v", err, facts, checked)
	}
	archives, err := filepath.Glob(filepath.Join(r.dir, "artifacts", "*.zip"))
	if err != nil || len(archives) != 2 {
		t.Fatal(archives, err)
	}
	for _, name := range archives {
		whole, err := os.ReadFile(name)
		must(t, err)
		for at := 0; at < len(whole); at += 7 {
			flipped := bytes.Clone(whole)
			flipped[at] ^= 1 << (at % 8)
			must(t, os.WriteFile(name, flipped, 0o600))
			if _, _, err := r.Build.Verify(ctx, "frostline", 1); !errors.Is(err, build.ErrAltered) {
				t.Fatalf("byte %d of %s was flipped: %v", at, filepath.Base(name), err)
			}
		}
		must(t, os.WriteFile(name, whole, 0o600))
	}
	// The database rejects changes; a file editor bypasses it.
	db, err := sql.Open("sqlite", "file:"+filepath.Join(r.dir, "rudmar.db")+"?_pragma=busy_timeout(5000)")
	must(t, err)
	defer db.Close()
	for _, trigger := range []string{"versions_stay", "version_functions_stay", "artifacts_stay", "provenance_stays"} {
		if _, err := db.Exec("DROP TRIGGER " + trigger); err != nil {
			t.Fatal(err)
		}
	}
	for _, column := range []struct{ table, name string }{
		{"versions", "manifests"}, {"versions", "content"}, {"versions", "hash"}, {"versions", "author"},
		{"versions", "branch"}, {"version_functions", "digest"},
		{"artifacts", "file_sha256"}, {"artifacts", "listing"}, {"artifacts", "bytes"}, {"provenance", "envelope"},
		{"provenance", "contents"},
	} {
		var before string
		must(t, db.QueryRow("SELECT "+column.name+" FROM "+column.table+" LIMIT 1").Scan(&before))
		at := len(before) / 2
		for before[at] == '"' || before[at] == ':' || before[at] == '{' { // invalid JSON would be reported anyway
			at++
		}
		after := before[:at] + string(before[at]^1) + before[at+1:]
		change := func(from, to string) {
			done, err := db.Exec("UPDATE "+column.table+" SET "+column.name+" = ? WHERE "+column.name+" = ?", to, from)
			must(t, err)
			if n, _ := done.RowsAffected(); n == 0 {
				t.Fatalf("%s.%s was not changed", column.table, column.name)
			}
		}
		change(before, after)
		if _, _, err := r.Build.Verify(ctx, "frostline", 1); err == nil {
			t.Errorf("%s.%s was changed from %q to %q, and nothing is told", column.table, column.name,
				before[at:min(len(before), at+10)], after[at:min(len(after), at+10)])
		}
		change(after, before)
	}
	if _, _, err := r.Build.Verify(ctx, "frostline", 1); err != nil {
		t.Errorf("with all put back: %v", err)
	}
}
