package engine_test

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"rudmar/core/delivery"
	"rudmar/engine/deliver"
	"rudmar/platform"
)

// The result of each case is reported in order, with each expectation, the event and the logs; manual runs of
// one function or of all are not stored.
func TestCaseResults(t *testing.T) {
	r := newRig(t)
	files := first()
	files["a/main.py"] = "def run(call):\n    print('looking')\n    return 'a'\n"
	files["a/cases/works.yaml"] = "case: it works\nsend: {route: GET /a}\nexpect: [body == \"a\", \"'looking' in logs\", took < duration(\"30s\"), memory_peak > 1000, status == 200]\n"
	files["a/cases/cold.yaml"] = "case: it stays warm\nsend: {route: GET /a}\nexpect: [body == \"b\", memory_peak > 0]\n"
	files["a/cases/live.yaml"] = "case: only in live\nsend: {route: GET /a}\nexpect: [body == \"z\"]\nstages: [live]\n"
	files["b/main.py"] = "def run(call): raise ValueError('frozen')\n"
	files["b/cases/works.yaml"] = "case: it thaws\nsend: {route: GET /b}\nexpect: [body == \"b\"]\n"
	files["b/cases/again.yaml"] = "case: and again\nsend: {route: GET /b}\nexpect: [status == 200]\n"
	files["c/function.yaml"] = "function: c\nhandler: main:run\nmax_concurrency: 1\ntriggers: {ask: {route: \"POST /c/{who}\", open_to: [council]}}\n"
	files["c/main.py"] = "n = 0\ndef run(call):\n    global n\n    n += 1\n    return {'status': 201, 'headers': {'X-Who': call.event['params']['who']}, 'body': [n, call.event['query'], call.event['body']]}\n"
	files["c/cases/member.yaml"] = "case: a member\nsend: {route: POST /c/wren, query: {day: [mon, tue]}, body: {a: 1}}\n" +
		"expect: [status == 201, \"headers['x-who'] == 'wren'\", \"headers['content-type'] == 'application/json'\", \"body[1] == {'day': ['mon', 'tue']}\", \"body[2] == {'a': 1}\"]\n"
	files["c/cases/other.yaml"] = "case: another caller\nsend: {route: POST /c/wren, headers: {authorization: none}}\nexpect: [status == 401, logs.size() == 0, '!cold']\n"
	files["c/cases/third.yaml"] = "case: third time\nsend: {route: POST /c/wren}\nexpect: ['body[0] == 4']\nattempts: 5\n"
	r.push(files)
	const three = "3 of 7 cases failed: and again, it stays warm, it thaws"
	if d := r.reaches(1, "trial", delivery.Failed); d.Reason != three {
		t.Errorf("why: %s", d.Reason)
	}
	kept, err := r.Store.CaseRuns(t.Context(), "frostline", 1, "trial")
	if err != nil || len(kept) != 7 {
		t.Fatalf("%+v %v", kept, err)
	}
	for _, run := range kept {
		var found deliver.Found
		if err := json.Unmarshal([]byte(run.Body), &found); err != nil || run.Passed != (run.Function == "c" || run.Name == "it works") || len(found.Outcomes) == 0 {
			t.Errorf("%+v %v", run, err)
		}
		attempts, address := 1, r.routes+"/north/frostline/trial/c/wren"
		switch {
		case run.Name == "third time":
			attempts = 3
		case run.Name == "a member":
			address += "?day=mon&day=tue"
		case run.Function != "c":
			address = r.routes + "/north/frostline/trial/" + run.Function
		}
		if found.Attempts != attempts || found.Address != address || found.Direct != "" {
			t.Errorf("%s: %d attempts at %s", run.Name, found.Attempts, found.Address)
		}
	}

	service, _, err := r.Planner.Service(t.Context(), "frostline", 1)
	must(t, err)
	scope := platform.Scope{Region: "north", Service: "frostline", Stage: "trial"}
	tell := func(function string) string {
		t.Helper()
		runs, err := r.Line.RunCases(t.Context(), place("trial", "north"), scope, service, function)
		must(t, err)
		var told []string
		for _, run := range runs {
			text := fmt.Sprintf("%s %s: %v", run.Function, run.Name, run.Passed)
			for _, o := range run.Found.Outcomes {
				text += fmt.Sprintf(" %v", o.Holds)
			}
			if run.Place != place("trial", "north") || run.Found.Invocation.Id == "" || !strings.HasPrefix(run.File, run.Function+"/cases/") {
				t.Errorf("%+v", run)
			}
			told = append(told, text)
		}
		return strings.Join(told, "\n")
	}
	const ofA = "a it stays warm: false false true\na it works: true true true true true true"
	const ofB = "b and again: false false\nb it thaws: false false"
	for function, want := range map[string]string{"a": ofA, "b": ofB, "zinnia": ""} {
		if got := tell(function); got != want {
			t.Errorf("of %q:\n%s\nnot\n%s", function, got, want)
		}
	}
	if again, err := r.Store.CaseRuns(t.Context(), "frostline", 1, "trial"); err != nil || fmt.Sprint(again) != fmt.Sprint(kept) {
		t.Errorf("what was run by hand is kept: %+v %v", again, err)
	}
}
