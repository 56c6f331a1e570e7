package engine_test

import (
	"fmt"
	"strings"
	"testing"

	"rudmar/core/delivery"
	"rudmar/engine/deliver"
	"rudmar/engine/source"
)

// The standing rules of a stage are those of its settled version: a failed one has none. Case results are
// reported once, regardless of retries; and they contain the function's output, not the platform's.
func TestFailedDeliveryIsNotDeployed(t *testing.T) {
	r := newRig(t)
	files := first()
	files["a/main.py"] = "def run(call):\n    print('hello')\n    return 'a'\n"
	files["a/cases/works.yaml"] = "case: it works\nsend: {route: GET /a}\nexpect:\n  - body == \"a\"\n  - logs == [\"hello\"]\n"
	r.push(files)
	r.reaches(1, "trial", delivery.Settled)
	stands := func(want int) {
		t.Helper()
		standing, err := r.Store.Standing(t.Context(), "frostline")
		if err != nil || standing["trial"] != want {
			t.Errorf("version %d stands in trial, not %d: %v", standing["trial"], want, err)
		}
	}
	stands(1)
	r.push(map[string]string{"a/main.py": "def run(call):\n    print('hello')\n    return 'b'\n"})
	ran := func() int {
		t.Helper()
		runs, err := r.Store.CaseRuns(t.Context(), "frostline", 2, "trial")
		must(t, err)
		return len(runs)
	}
	d := r.reaches(2, "trial", delivery.RolledBack)
	r.reaches(1, "trial", delivery.Settled)
	stands(1)
	first := ran()
	if first == 0 {
		t.Fatal("no case ran")
	}
	must(t, r.Line.RollBackTo(t.Context(), "frostline", 2, "trial", r.say("wren", "trial", 2)))
	r.until("it to go back again", func() bool {
		now, err := r.Store.Delivery(t.Context(), "frostline", 2, "trial")
		return err == nil && now.State == delivery.RolledBack && now.Since.After(d.Since)
	})
	r.reaches(1, "trial", delivery.Settled)
	if n := ran(); n != first {
		t.Errorf("%d cases are told after the second time, %d after the first", n, first)
	}
	stands(1)
	r.push(map[string]string{"a/main.py": files["a/main.py"] + "# again\n", "b/function.yaml": ""})
	r.reaches(3, "trial", delivery.Settled)
	stands(3)
	m, err := r.Line.ImpactOf(t.Context(), "frostline", "trial", 1)
	if err != nil || strings.Contains(m.Confirm, "local/north") {
		t.Errorf("a stage with one target is confirmed by %q: %v", m.Confirm, err)
	}
}

// Rules can use narrower access, rerouted requests, and indirect permissions.
func TestRulesOverImpact(t *testing.T) {
	r := newRig(t)
	files := first()
	files["rudmar.yaml"] = strings.Replace(root, "enter: {when: push}}", "enter: {when: push}, gates: {rules: "+
		"{stays: impact.closed_routes.size() == 0, near: impact.rerouted.size() == 0, apart: impact.indirect_permissions.size() == 0}}}", 1)
	r.push(files)
	r.reaches(1, "trial", delivery.Settled)
	sends := "permissions: [{allow: [send], resource: queues/q}]\n"
	taken := strings.Replace(fn("a", sends), "GET /a, open_to: anyone}", "GET /b, open_to: anyone}", 1)
	reads := "permissions: [{allow: [read], resource: tables/t}]\n"
	r.push(map[string]string{"a/function.yaml": taken, "a/cases/works.yaml": "",
		"b/function.yaml": "function: b\nhandler: main:run\ntriggers: {in: {queue: q}}\n" + reads})
	for rule, want := range map[string]string{"stays": "GET /a", "near": "GET /b", "apart": "a read tables/t"} {
		r.until("the rule "+rule+" to be judged", func() bool {
			judged, err := r.Line.GateResults(t.Context(), "frostline", 2)
			must(t, err)
			for _, g := range judged[deliver.Key{Version: 2, Stage: "trial"}].Gates {
				if strings.Contains(g.Name, rule) && g.State != delivery.GatePassed && strings.Contains(g.Reason, want) {
					return true
				}
			}
			return false
		})
	}
}

// A push to another branch, whose manifest makes a stage deploy from that branch, does not enter: the standing
// rules name the branch, and the gate names the branch of the version.
func TestStageBranch(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	r.push(first())
	r.reaches(1, "trial", delivery.Settled)
	change := source.Change{Branch: "thaw", New: true, Base: r.head, Message: "Mine", Author: "wren", Email: "w@x.invalid",
		Files: map[string][]byte{"rudmar.yaml": []byte(strings.Replace(root, "enter: {when: push}", "enter: {when: push, branch: thaw}", 1))}}
	if _, err := r.Host.Repository("brambleford").Apply(ctx, change); err != nil {
		t.Fatal(err)
	}
	must(t, r.Build.Pushed(ctx, "brambleford", "wren"))
	r.reaches(2, "trial", delivery.Waiting)
	d, err := r.Store.Delivery(ctx, "frostline", 2, "trial")
	must(t, err)
	j, err := r.Line.Judge(ctx, d)
	must(t, err)
	var told []string
	for _, g := range j.Gates {
		if g.Kind == delivery.BranchGate {
			told = append(told, fmt.Sprint(g.State, ": ", g.Reason))
		}
	}
	if got := strings.Join(told, "; "); got != "not-met: built from thaw; this stage deploys from main" {
		t.Errorf("%s", got)
	}
}
