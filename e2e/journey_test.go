package e2e

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"rudmar/server/api"
)

const base = "/services/frostline"

// stateOf returns the state of a version in a stage.
func (r *rig) stateOf(version int, stage string) string {
	r.Helper()
	var d api.DeliveryStage
	if status, _ := r.try("wren", "GET", fmt.Sprintf("%s/deliveries/%d/stages/%s", base, version, stage),
		nil, &d); status != 200 {
		return ""
	}
	return string(d.Place.State)
}

func (r *rig) settles(version int, stage string) {
	r.Helper()
	waits(r.T, func() bool { return r.stateOf(version, stage) == "settled" }, func() string {
		now, _ := json.Marshal(r.stage(version, stage)) // it was parsed as JSON
		return fmt.Sprintf("version %d is settled in %s; it is %s\n%s", version, stage, now, r.log)
	})
}

func (r *rig) stage(version int, stage string) api.DeliveryStage {
	r.Helper()
	var d api.DeliveryStage
	r.ask("wren", "GET", fmt.Sprintf("%s/deliveries/%d/stages/%s", base, version, stage), nil, &d)
	return d
}

func (r *rig) act(username string, version int, stage, action string) (int, string) {
	r.Helper()
	at := fmt.Sprintf("%s/deliveries/%d/stages/%s/", base, version, stage)
	var means api.Impact
	if status, text := r.try(username, "GET", at+"impact", nil, &means); status != 200 {
		return status, text
	}
	return r.try(username, "POST", at+action,
		map[string]string{"comment": "said in a test", "impactDigest": means.Digest, "confirm": stage}, nil)
}

func (r *rig) plan(stage string, version int) api.SavedPlan {
	r.Helper()
	wish := map[string]any{"stage": stage}
	if version > 0 {
		wish["version"] = version
	}
	var kept api.SavedPlan
	r.ask("wren", "POST", base+"/plans", wish, &kept)
	return kept
}

func (r *rig) function(stage, name string) api.FunctionDetail {
	r.Helper()
	var f api.FunctionDetail
	r.ask("wren", "GET", fmt.Sprintf("%s/stages/%s/functions/%s", base, stage, name), nil, &f)
	return f
}

func get(t *testing.T, address string) (int, map[string]any) {
	t.Helper()
	status, text := sent(t, "GET", address, nil, nil)
	var body map[string]any
	_ = json.Unmarshal([]byte(text), &body) // a list or a text stays nil
	return status, body
}

// TestJourney goes from a push to live with git, requests and the command line.
func TestJourney(t *testing.T) {
	r := demo(t)
	dir := r.clone("wren")

	// A broken push is rejected with its errors.
	edit(t, dir, "frostline/functions/warn/function.yaml", "memory: 192 MiB", "memroy: 192 MiB")
	out, err := push(t, dir, "a slip")
	if err == nil || !strings.Contains(out,
		`function.yaml:4:1: "memroy" is not a key of a function; did you mean "memory"? (RM1101)`) ||
		!strings.Contains(out, "^^^^^^") {
		t.Fatalf("a broken push: %v\n%s", err, out)
	}
	var versions []api.VersionSummary
	r.ask("wren", "GET", base+"/versions", nil, &versions)
	if versions[0].Number != 7 {
		t.Fatalf("a broken push made version %d", versions[0].Number)
	}

	// A valid one builds a version: only the changed function is new.
	edit(t, dir, "frostline/functions/warn/function.yaml", "memroy: 192 MiB", "memory: 256 MiB")
	edit(t, dir, "frostline/functions/warn/warn.py", `"mode": MODE}`, `"mode": MODE, "said_by": "version eight"}`)
	if out, err := push(t, dir, "Say which version speaks"); err != nil {
		t.Fatalf("a good push: %v\n%s", err, out)
	}
	r.settles(8, "trial")
	r.ask("wren", "GET", base+"/versions", nil, &versions)
	if v := versions[0]; v.Number != 8 || !slices.Equal(v.Changed, []string{"warn"}) ||
		!slices.Equal(v.Stages, []string{"trial on local/north"}) {
		t.Errorf("the newest version: %+v", v)
	}
	var seven, eight api.VersionDetail
	r.ask("wren", "GET", base+"/versions/7", nil, &seven)
	r.ask("wren", "GET", base+"/versions/8", nil, &eight)
	for i, f := range eight.Functions {
		if same := f.Digest == seven.Functions[i].Digest; same == (f.Function == "warn") {
			t.Errorf("%s: same digest %v", f.Function, same)
		}
	}
	if !strings.Contains(eight.Log, "intake: unchanged") {
		t.Errorf("the build log: %s", eight.Log)
	}

	// Its plan had exactly the steps of that function, each with its reason, and the next one is empty.
	trial := r.stage(8, "trial")
	if len(trial.Deployments) != 1 {
		t.Fatalf("deployments: %v", trial.Deployments)
	}
	var d api.DeploymentDetail
	r.ask("wren", "GET", fmt.Sprint("/deployments/", trial.Deployments[0]), nil, &d)
	var kept api.SavedPlan
	r.ask("wren", "GET", fmt.Sprint("/plans/", d.Deployment.Plan), nil, &kept)
	reasons := map[string]string{}
	for _, s := range kept.Plan.Steps {
		reasons[s.Address] = s.Because[0].Text
		if from := s.Because[0].From; from != nil && from.File != nil {
			reasons[s.Address] += fmt.Sprintf(" %s:%d", *from.File, *from.Line)
		}
	}
	want := map[string]string{"function/warn": "memory functions/warn/function.yaml:4",
		"revision/warn": "changed: warn.py", "pointer/warn": "revision/warn is replaced"}
	if fmt.Sprint(reasons) != fmt.Sprint(want) {
		t.Errorf("steps and reasons: %v\nwant %v", reasons, want)
	}
	if next := r.plan("trial", 0); len(next.Plan.Steps) != 0 || next.Runnable.Action != "none" {
		t.Errorf("the next plan: %+v", next.Plan.Steps)
	}

	// Its cases ran, expected and found side by side.
	for _, c := range trial.Cases {
		if !c.Passed || len(c.Outcomes) == 0 || c.Outcomes[0].Received == "" {
			t.Errorf("case %s: %+v", c.Name, c.Outcomes)
		}
	}
	if len(trial.Cases) != 8 {
		t.Errorf("%d cases ran", len(trial.Cases))
	}

	// It is called at its own address, and by trying.
	warn := r.function("trial", "warn")
	address := strings.Replace(warn.Routes[0].Url, "{station}", "hill", 1)
	if status, body := get(t, address); status != 200 || body["said_by"] != "version eight" || body["limit"] != 0.5 {
		t.Errorf("%s: %d %v", address, status, body)
	}
	var inv api.Invocation
	r.ask("wren", "POST", base+"/stages/trial/functions/warn/invocations",
		map[string]any{"target": "local/north", "trigger": "ask", "event": warn.Samples[0].Event}, &inv)
	if inv.Outcome != "succeeded" || inv.MemoryPeak < 1<<20 || inv.MemoryLimit != 256<<20 ||
		orZero(inv.Version) != 8 || len(inv.Logs) < 2 {
		t.Errorf("trying: %+v", inv)
	}
	if status, text := r.try("sorrel", "POST", base+"/stages/trial/functions/warn/invocations",
		map[string]any{"target": "local/nowhere", "event": nil}, nil); status != 200 && status < 400 {
		t.Errorf("trying in a region that is not: %d %s", status, text)
	}

	// Preview waits for somebody other than the author.
	until(t, "preview was judged", func() bool { return strings.HasPrefix(r.stage(8, "preview").Summary, "2 of") })
	preview := r.stage(8, "preview")
	if preview.Place.State != "waiting" ||
		!strings.Contains(preview.Summary,
			"2 of 3 gates passed: waiting for 1 approval from growers-council; wren pushed this version and cannot approve it") {
		t.Errorf("preview: %s %q", preview.Place.State, preview.Summary)
	}
	if status, text := r.act("wren", 8, "preview", "approve"); status != 403 {
		t.Errorf("the author approves: %d %s", status, text)
	}
	before := r.plan("preview", 8)
	if before.Runnable.Action != "delivery" {
		t.Errorf("a plan that goes around the gates: %+v", before.Runnable)
	}
	if status, _ := r.try("wren", "POST", fmt.Sprintf("/plans/%d/deployments", before.Id),
		map[string]string{}, nil); status != 422 {
		t.Errorf("running it: %d", status)
	}
	if status, text := r.act("linden", 8, "preview", "approve"); status != 204 {
		t.Fatalf("approving: %d %s", status, text)
	}
	r.settles(8, "preview")
	for _, pair := range r.stage(8, "preview").Digests {
		if pair.Digest != pair.Deployed {
			t.Errorf("%s runs as %s, not as %s", pair.Function, pair.Deployed, pair.Digest)
		}
	}
	if _, body := get(t, strings.Replace(r.function("preview", "warn").Routes[0].Url, "{station}", "hill",
		1)); body["limit"] != 1.0 {
		t.Errorf("the setting of preview: %v", body)
	}

	driftIsPutRight(t, r)
	versionIsTakenBack(t, r)

	var journal []api.JournalEntry
	r.ask("wren", "GET", base+"/journal", nil, &journal)
	said := ""
	for _, e := range journal {
		said += e.Person + " " + e.Action + "\n"
	}
	for _, what := range []string{"linden approved", "wren pushed", "wren built", " delivery", "deployment succeeded"} {
		if !strings.Contains(said, what) {
			t.Errorf("the journal does not say %q", what)
		}
	}
}

func orZero[T any](v *T) T {
	if v == nil {
		var zero T
		return zero
	}
	return *v
}

// driftIsPutRight changes a function outside Rudmar and reverts the drift.
func driftIsPutRight(t *testing.T, r *rig) {
	token := filepath.Join(r.data, "platform.token")
	out, err := run(t, r.data, program, "platform", "change", "north/frostline/preview", "function/warn",
		"memory=512MiB", "env.MODE=shrill",
		"--platform", r.platformAddress(), "--platform-token-file", token)
	if err != nil || !strings.Contains(out, "Rudmar was not notified") {
		t.Fatalf("changing by hand: %v\n%s", err, out)
	}
	until(t, "the drift is seen", func() bool { return len(r.function("preview", "warn").Drift) == 3 })
	got := map[string]string{}
	for _, d := range r.function("preview", "warn").Drift {
		for _, a := range d.Attributes {
			got[d.Address+" "+a.Name] = fmt.Sprint(a.Recorded, " ", a.Actual)
		}
	}
	if got["function/warn memory"] != "2.68435456e+08 5.36870912e+08" || got["function/warn env.MODE"] != "quiet shrill" {
		t.Errorf("drift: %v", got)
	}
	stale := r.plan("preview", 0)
	if _, err := run(t, r.data, program, "platform", "change", "north/frostline/preview", "logs/warn", "retention=2d",
		"--platform", r.platformAddress(), "--platform-token-file", token); err != nil {
		t.Fatal(err)
	}
	if status, text := r.try("wren", "POST", fmt.Sprintf("/plans/%d/deployments", stale.Id), map[string]string{},
		nil); status != 409 || !strings.Contains(text, "logs/warn") {
		t.Errorf("a plan that is out of date: %d %s", status, text)
	}
	fresh := r.plan("preview", 0)
	for _, s := range fresh.Plan.Steps {
		if s.Change != "restore" && (s.RevertsDrift == nil || !*s.RevertsDrift) {
			t.Errorf("%s: %s", s.Address, s.Change)
		}
	}
	var started struct{ Deployment int64 }
	r.ask("wren", "POST", fmt.Sprintf("/plans/%d/deployments", fresh.Id), map[string]string{}, &started)
	until(t, "it is reverted to the record", func() bool {
		return len(r.function("preview", "warn").Drift) == 0 && len(r.plan("preview", 0).Plan.Steps) == 0
	})
}

// versionIsTakenBack rolls back to the previous version.
func versionIsTakenBack(t *testing.T, r *rig) {
	back := r.plan("preview", 6)
	if back.Runnable.Action != "rollback" {
		t.Fatalf("a plan back: %+v", back.Runnable)
	}
	body := map[string]string{}
	if back.Confirm != nil {
		if status, _ := r.try("wren", "POST", fmt.Sprintf("/plans/%d/deployments", back.Id), body, nil); status != 422 {
			t.Errorf("a plan that deletes ran without being confirmed: %d", status)
		}
		body["confirm"] = "preview"
	}
	r.ask("wren", "POST", fmt.Sprintf("/plans/%d/deployments", back.Id), body, nil)
	r.settles(6, "preview")
	if state := r.stateOf(8, "preview"); state != "rolled-back" {
		t.Errorf("version 8 is %s", state)
	}
	if _, answer := get(t, strings.Replace(r.function("preview", "warn").Routes[0].Url, "{station}", "hill",
		1)); answer["said_by"] != nil {
		t.Errorf("version 8 still answers: %v", answer)
	}
	if next := r.plan("preview", 0); next.Plan.Base.Version != 6 || len(next.Plan.Steps) != 0 {
		t.Errorf("the next plan: version %d, %d steps", next.Plan.Base.Version, len(next.Plan.Steps))
	}
}

// platformAddress returns the local platform's address, from a function's environment.
func (r *rig) platformAddress() string {
	r.Helper()
	text, err := os.ReadFile(filepath.Join(r.data, "platform.address"))
	if err != nil {
		r.Fatal(err)
	}
	return strings.TrimSpace(string(text))
}

func TestStrangersAreRejected(t *testing.T) {
	r := demo(t)
	dir := r.clone("linden")
	edit(t, dir, "README.md", "Brambleford", "Bramble Ford")
	if out, err := push(t, dir, "by somebody who may not"); err == nil || !strings.Contains(out, "403") {
		t.Errorf("a push without rights: %v\n%s", err, out)
	}
	if out, err := run(t, t.TempDir(), "git", "clone", strings.Replace(r.address, "http://", "http://wren:wrong@", 1)+
		"/git/brambleford.git"); err == nil {
		t.Errorf("a clone with a wrong password: %s", out)
	}
	for _, tt := range []struct {
		username, method, path string
		body                   any
		status                 int
		says                   string
	}{
		{"nobody", "GET", base + "/stage-line", nil, 401, "username or password"},
		{"wren", "GET", "/services/nothing/stage-line", nil, 404, "nothing"},
		{"wren", "GET", base + "/versions/99", nil, 404, "version 99"},
		{"wren", "GET", base + "/versions/x", nil, 400, "version"},
		{"wren", "POST", base + "/plans", map[string]any{"stage": "Trial!"}, 400, "stage"},
		{"wren", "POST", base + "/plans", map[string]any{"stage": "moon"}, 404, "moon"},
		{"wren", "POST", base + "/plans", map[string]any{}, 400, "stage"},
		{"wren", "GET", "/plans/9999", nil, 404, "plan 9999"},
		{"wren", "POST", "/deployments/1/retry", nil, 409, "it is succeeded"},
		{"wren", "POST", base + "/deliveries/7/stages/trial/approve", map[string]string{}, 403, "approver"},
		{"linden", "POST", base + "/deliveries/7/stages/trial/approve", map[string]string{}, 409, "settled"},
		{"linden", "POST", base + "/deliveries/3/stages/live/retry", map[string]string{}, 409, "settled"},
		{"wren", "POST", base + "/deliveries/7/stages/live/rollback", map[string]string{}, 404, "never in the stage"},
		{"wren", "DELETE", base + "?confirm=frostline", nil, 403, "administrator"},
		{"wren", "DELETE", "/repositories/brambleford?confirm=brambleford", nil, 403, "administrator"},
		{"wren", "PUT", base + "/repository?confirm=frostline", map[string]string{"name": "elsewhere"}, 403, "administrator"},
		{"wren", "GET", base + "/source/file?path=../../etc/passwd", nil, 404, "passwd"},
		{"linden", "POST", base + "/source/commits",
			map[string]any{"branch": "main", "base": strings.Repeat("0", 40), "message": "m",
				"files": map[string]string{"a": "b"}}, 403, "author"},
		{"wren", "POST", base + "/source/commits",
			map[string]any{"branch": "main", "base": "x", "message": "m", "files": map[string]string{}}, 400, "base"},
		{"wren", "PUT", base + "/stages/trial/secrets/nothing", map[string]string{"value": "x"}, 422, "declares no secret"},
		{"wren", "GET", "/nothing", nil, 404, ""},
	} {
		if status, text := r.try(tt.username, tt.method, tt.path, tt.body, nil); status != tt.status ||
			!strings.Contains(text, tt.says) {
			t.Errorf("%s %s as %s: %d %s, want %d %q", tt.method, tt.path, tt.username, status, text, tt.status, tt.says)
		}
	}
	// A session's cookie alone changes nothing.
	jar := &http.Cookie{}
	response, err := http.Post(r.address+"/api/session", "application/json",
		strings.NewReader(`{"username":"wren","password":"orchard-at-dawn"}`))
	if err != nil {
		t.Fatal(err)
	}
	response.Body.Close()
	for _, c := range response.Cookies() {
		jar = c
	}
	if !jar.HttpOnly || jar.SameSite != http.SameSiteStrictMode {
		t.Errorf("the cookie: %+v", jar)
	}
	q, _ := http.NewRequest("POST", r.address+"/api"+base+"/plans", strings.NewReader(`{"stage":"trial"}`))
	q.AddCookie(jar)
	q.Header.Set("Content-Type", "application/json")
	forged, err := http.DefaultClient.Do(q)
	if err != nil {
		t.Fatal(err)
	}
	forged.Body.Close()
	if forged.StatusCode != 403 {
		t.Errorf("a request without the token: %d", forged.StatusCode)
	}
}

// commit edits through the API, as the page does.
func (r *rig) commit(baseHash, message string, files map[string]string) (int, string) {
	r.Helper()
	return r.try("wren", "POST", base+"/source/commits",
		map[string]any{"branch": "main", "base": baseHash, "message": message, "files": files}, nil)
}

// helpsToWrite requests the suggestions for a position, and the notes on its line.
func helpsToWrite(t *testing.T, r *rig) {
	ask := func(file, text string, line, column int) api.AssistResult {
		var out api.AssistResult
		r.ask("wren", "POST", base+"/source/assist",
			map[string]any{"branch": "main", "stage": "trial", "file": file, "line": line, "column": column,
				"files": map[string]string{file: text}}, &out)
		return out
	}
	const file = "functions/night-report/function.yaml"
	var schema struct{ Title string }
	if r.ask("wren", "GET", "/schemas/function", nil, &schema); schema.Title != "A function" {
		t.Errorf("the schema: %+v", schema)
	}
	if about := ask(file, "memory: 1", 1, 9).Description; !strings.Contains(about, "multiple of 16 MiB") {
		t.Errorf("about memory: %q", about)
	}
	text := "function: night-report\nhandler: report:run\nmemory: 160 MiB\ntriggers:\n  morning: {cron: \"30 6 * * *\", zone: Europe/Oslo}\npermissions:\n  - {allow: [query], resource: tables/readings}\n"
	fires := ask(file, text, 5, 5)
	if len(fires.Notes) != 1 || len(fires.Notes[0].Fires) != 10 || orZero(fires.Notes[0].Zone) != "Europe/Oslo" ||
		fires.Notes[0].Lines[0] != "once a day" {
		t.Errorf("a schedule's line: %+v", fires.Notes)
	}
	if oslo := time.UnixMilli(fires.Notes[0].Fires[0]).UTC(); oslo.Minute() != 30 || oslo.Hour() != 5 && oslo.Hour() != 4 {
		t.Errorf("the next fire: %v", oslo)
	}
	if n := ask(file, text, 7, 5).Notes; len(n) != 1 || n[0].Lines[0] != "query the table readings" {
		t.Errorf("a permission's line: %+v", n)
	}
	if n := ask(file, text, 3, 9).Notes; len(n) != 1 ||
		!strings.Contains(strings.Join(n[0].Lines, "\n"), "trial on local/north: ") {
		t.Errorf("a memory limit's line: %+v", n)
	}
	labels := []string{}
	for _, c := range ask(file, text+"env:\n  L: ${", 9, 8).Completions {
		labels = append(labels, c.Label)
	}
	if !slices.Contains(labels, "settings.frost_limit") || !slices.Contains(labels, "functions.warn.url") {
		t.Errorf("completions: %v", labels)
	}
	for request, want := range map[string]string{
		"GET /stations/hill/frost": "only this route matches warn/ask map[station:hill]",
		"GET /nothing":             "no route matches; the response is 404 ",
		"GET /stations/latest":     "GET /stations/latest has precedence: segment 2 is a literal, and GET /stations/{station} has a parameter night-report/latest map[] stations/one map[station:latest]",
	} {
		method, path, _ := strings.Cut(request, " ")
		var out api.RouteResult
		edited := strings.Replace(text, "permissions:",
			"  latest: {route: GET /stations/latest, open_to: anyone}\npermissions:", 1)
		r.ask("wren", "POST", base+"/source/route",
			map[string]any{"branch": "main", "stage": "trial", "method": method, "path": path,
				"files": map[string]string{file: edited}}, &out)
		var takers []string
		for _, taker := range out.Matches {
			takers = append(takers, fmt.Sprint(taker.Function, "/", taker.Trigger, " ", taker.Params))
		}
		if got := out.Reason + " " + strings.Join(takers, " "); got != want {
			t.Errorf("%s: %s, want %s", request, got, want)
		}
	}
}

func TestEditsAreKept(t *testing.T) {
	r := demo(t)
	helpsToWrite(t, r)
	var source api.Source
	r.ask("wren", "GET", base+"/source", nil, &source)
	var file api.FileText
	r.ask("wren", "GET", base+"/source/file?path=functions/warn/function.yaml", nil, &file)
	if status, text := r.commit(source.Head.Hash, "break it",
		map[string]string{"functions/warn/function.yaml": file.Text + "colour: green\n"}); status != 422 ||
		!strings.Contains(text, "RM1101") {
		t.Errorf("committing what is broken: %d %s", status, text)
	}
	if status, text := r.commit(source.Head.Hash, "Fewer at once",
		map[string]string{"functions/warn/function.yaml": strings.Replace(file.Text, "max_concurrency: 8",
			"max_concurrency: 4", 1)}); status != 201 {
		t.Fatalf("committing: %d %s", status, text)
	}
	status, text := r.commit(source.Head.Hash, "More at once",
		map[string]string{"functions/warn/function.yaml": strings.Replace(file.Text, "max_concurrency: 8", "max_concurrency: 16", 1)})
	var conflict api.Conflict
	if err := json.Unmarshal([]byte(text), &conflict); err != nil || status != 409 || conflict.By != "wren" ||
		!strings.Contains(conflict.Theirs["functions/warn/function.yaml"], "max_concurrency: 4") {
		t.Fatalf("a conflict: %d %s %v", status, text, err)
	}
	r.settles(8, "trial")
	if status, text := r.commit(conflict.Head, "More at once",
		map[string]string{"functions/warn/function.yaml": strings.Replace(file.Text, "max_concurrency: 8",
			"max_concurrency: 16", 1)}); status != 201 {
		t.Fatalf("on top of it: %d %s", status, text)
	}
	r.settles(9, "trial")
	// The same content again is no new version.
	var now api.Source
	r.ask("wren", "GET", base+"/source", nil, &now)
	if status, text := r.commit(now.Head.Hash, "Words only",
		map[string]string{"NOTES.txt": "nothing of it is built"}); status != 201 {
		t.Fatalf("committing a note: %d %s", status, text)
	}
	until(t, "the note is built", func() bool {
		var line api.StageLine
		r.ask("wren", "GET", base+"/stage-line", nil, &line)
		return line.Source.Message == "Words only" && line.Source.State == "built"
	})
	var versions []api.VersionSummary
	r.ask("wren", "GET", base+"/versions", nil, &versions)
	if versions[0].Number != 9 {
		t.Errorf("a note made version %d", versions[0].Number)
	}
}

// A version whose cases fail rolls back automatically, with the expected and the actual result.
func TestFailingCasesRollBack(t *testing.T) {
	r := demo(t)
	dir := r.clone("wren")
	edit(t, dir, "frostline/functions/warn/warn.py", "warning = celsius < limit", "warning = celsius < limit / 0")
	if out, err := push(t, dir, "Divide by nothing"); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	until(t, "version 8 was rolled back", func() bool { return r.stateOf(8, "trial") == "rolled-back" })
	r.settles(7, "trial")
	d := r.stage(8, "trial")
	if !strings.Contains(d.Place.Reason, "cases failed: ") {
		t.Errorf("why: %s", d.Place.Reason)
	}
	failed := ""
	for _, c := range d.Cases {
		if !c.Passed {
			failed += c.Name + ": " + c.Outcomes[0].Expected + " / " + c.Outcomes[0].Received + "\n"
		}
	}
	if !strings.Contains(failed, "a mild night gives no warning: status == 200 / the invocation failed: ZeroDivisionError") {
		t.Errorf("failed cases:\n%s", failed)
	}
	if answered := r.function("trial", "warn"); answered.Version == nil || *answered.Version == 8 {
		t.Errorf("version 8 still answers: %+v", answered.Version)
	}
	if status, text := r.try("wren", "POST", base+"/deliveries/6/stages/trial/rollback",
		map[string]string{"confirm": "trial"}, nil); status != 409 || !strings.Contains(text, "review the impact first") {
		t.Errorf("going back without a look: %d %s", status, text)
	}
	if status, text := r.act("wren", 6, "trial", "rollback"); status != 204 {
		t.Fatalf("going back: %d %s", status, text)
	}
	r.settles(6, "trial")
	if d := r.stage(7, "trial"); d.Place.State != "rolled-back" {
		t.Errorf("version 7 is %s", d.Place.State)
	}
}

// Rudmar is killed while it deploys; started again, it continues and loses nothing.
func TestKilledWhileDeploying(t *testing.T) {
	r := demo(t)
	dir := r.clone("wren")
	for round := range 3 {
		for _, fn := range []string{"warn", "stations", "night-report", "intake"} {
			file := "frostline/functions/" + fn + "/function.yaml"
			text, err := os.ReadFile(filepath.Join(dir, file))
			if err != nil {
				t.Fatal(err)
			}
			changed := strings.TrimSpace(string(text)) + "\n"
			if i := strings.Index(changed, "timeout:"); i >= 0 {
				end := i + strings.IndexByte(changed[i:], '\n') + 1
				changed = changed[:i] + changed[end:]
			}
			if err := os.WriteFile(filepath.Join(dir, file),
				[]byte(changed+fmt.Sprintf("timeout: %ds\n", 10+round)), 0o644); err != nil {
				t.Fatal(err)
			}
		}
		version := 8 + round
		if out, err := push(t, dir, fmt.Sprint("Other time limits ", round)); err != nil {
			t.Fatalf("%v\n%s", err, out)
		}
		until(t, "it moves", func() bool { s := r.stateOf(version, "trial"); return s != "" && s != "waiting" })
		r.kill()
		r = launch(t, r.data, "demo", "--listen", "127.0.0.1:0", "--platform-listen", "127.0.0.1:0", "--routes-listen",
			"127.0.0.1:0", "--observe-every", "300ms")
		r.settles(version, "trial")
		git(t, dir, "remote", "set-url", "origin",
			strings.Replace(r.address, "http://", "http://wren:orchard-at-dawn@", 1)+"/git/brambleford.git")
		if next := r.plan("trial", 0); len(next.Plan.Steps) != 0 || next.Plan.Base.Version != version {
			t.Errorf("round %d: version %d, next plan has %d steps", round, next.Plan.Base.Version, len(next.Plan.Steps))
		}
	}
}

// The platform is a process of its own, and is down for a while.
func TestPlatformIsDown(t *testing.T) {
	t.Parallel()
	data, lane := grown(t)
	platformData := filepath.Join(data, "platform")
	shared := tokenFile(t, "shared")
	p := launch(t, platformData, "platform", "--platform-listen", "127.0.0.1:0", "--routes-listen", lane.routes,
		"--platform-token-file", shared)
	listen := strings.TrimPrefix(p.address, "http://")
	r := launch(t, data, "demo", "--listen", "127.0.0.1:0", "--platform", p.address,
		"--platform-token-file", shared, "--observe-every", "300ms")
	// It hangs, like a machine that swaps: requests still get a response.
	if err := p.cmd.Process.Signal(syscall.SIGSTOP); err != nil {
		t.Fatal(err)
	}
	var health api.Health
	r.ask("wren", "GET", "/health", nil, &health)
	if health.Platforms[0].Reachable || health.Platforms[0].Reason == nil {
		t.Errorf("of a platform that stands still: %+v", health.Platforms)
	}
	for _, c := range health.Checks {
		if c.Problem != "" {
			t.Errorf("%s: %s", c.Name, c.Problem)
		}
	}
	if answer, err := http.Get(r.address + "/healthz"); err != nil || answer.StatusCode != 200 {
		t.Errorf("/healthz: %v %v", answer, err)
	}
	begun := time.Now()
	var detail api.FunctionDetail
	r.ask("wren", "GET", base+"/stages/trial/functions/warn", nil, &detail)
	if !detail.Deployed || len(detail.Routes) == 0 {
		t.Errorf("what is known of the function: %+v", detail)
	}
	if status, text := r.try("wren", "GET", base+"/stages/trial/logs?target=local/north&function=warn", nil, nil); status != 503 ||
		!strings.Contains(text, "is unreachable") {
		t.Errorf("its logs: %d %s", status, text)
	}
	if took := time.Since(begun); took > 12*time.Second { // a request to a platform has 15 seconds
		t.Errorf("both pages took %s", took)
	}
	p.kill()
	until(t, "the line says so", func() bool {
		var line api.StageLine
		r.ask("wren", "GET", base+"/stage-line", nil, &line)
		return line.Stages[0].Problem != nil && strings.Contains(*line.Stages[0].Problem, "is unreachable") &&
			line.Stages[0].ProblemSince != nil
	})
	if status, text := r.try("wren", "POST", base+"/plans", map[string]any{"stage": "trial"}, nil); status != 503 ||
		!strings.Contains(text, "is unreachable") {
		t.Errorf("a plan: %d %s", status, text)
	}
	dir := r.clone("wren")
	edit(t, dir, "frostline/functions/warn/function.yaml", "max_concurrency: 8", "max_concurrency: 9")
	pushMeanwhile(t, dir, "While it is down")
	until(t, "the delivery fails", func() bool { return r.stateOf(8, "trial") == "failed" })
	if why := r.stage(8, "trial").Place.Reason; !strings.Contains(why, "is unreachable") {
		t.Errorf("why: %s", why)
	}
	launch(t, platformData, "platform", "--platform-listen", listen, "--routes-listen", lane.routes,
		"--platform-token-file", shared)
	if status, text := r.act("wren", 8, "trial", "retry"); status != 204 {
		t.Fatalf("going on: %d %s", status, text)
	}
	r.settles(8, "trial")
	until(t, "the line is well again", func() bool {
		var line api.StageLine
		r.ask("wren", "GET", base+"/stage-line", nil, &line)
		return line.Stages[0].Problem == nil
	})
}

// Logs can be followed, and events arrive without requests.
func TestStreams(t *testing.T) {
	r := demo(t)
	open := func(path string) io.ReadCloser {
		q, err := http.NewRequestWithContext(t.Context(), "GET", r.address+"/api"+path, nil)
		if err != nil {
			t.Fatal(err)
		}
		q.SetBasicAuth("wren", "orchard-at-dawn")
		answer, err := http.DefaultClient.Do(q)
		if err != nil || answer.StatusCode != 200 {
			t.Fatalf("%s: %v %v", path, answer, err)
		}
		t.Cleanup(func() { answer.Body.Close() })
		return answer.Body
	}
	hears := func(body io.Reader, what string) {
		t.Helper()
		heard := make(chan string, 1)
		go func() {
			text := ""
			buffer := make([]byte, 4096)
			for !strings.Contains(text, what) {
				n, err := body.Read(buffer)
				if text += string(buffer[:n]); err != nil {
					break
				}
			}
			heard <- text
		}()
		select {
		case text := <-heard:
			if !strings.Contains(text, what) {
				t.Errorf("heard only %s", text)
			}
		case <-time.After(2 * time.Minute):
			t.Errorf("did not hear %q", what)
		}
	}
	logs, news := open(base+"/stages/trial/logs/stream?target=local/north&function=stations"), open("/events")
	hears(news, "hello")
	r.ask("wren", "POST", base+"/stages/trial/functions/stations/invocations",
		map[string]any{"target": "local/north", "event": map[string]any{
			"method": "POST", "path": "/stations/weir/limit", "params": map[string]string{"station": "weir"},
			"body": map[string]any{"limit": 2.5}}}, nil)
	hears(logs, "weir: limit is 2.5")
	hears(news, `"topic":"observation"`)
}
