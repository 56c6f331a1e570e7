package engine_test

import (
	"errors"
	"fmt"
	"net/http"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"rudmar/core/delivery"
	"rudmar/core/rights"
	"rudmar/engine/deliver"
	"rudmar/engine/deploy"
	"rudmar/engine/people"
	"rudmar/engine/store"
	"rudmar/platform"
)

// An approval that would not count is rejected, with the reason; one of a closed account no longer counts.
func TestInvalidApprovals(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	r.add(people.NewUser{Username: "teasel", Role: rights.Approver, Groups: []string{"growers"}})
	r.add(people.NewUser{Username: "sorrel", Role: rights.Approver, Groups: []string{"council"}})
	files := first()
	files["rudmar.yaml"] = strings.NewReplacer("approvals: {from: council}", "approvals: {count: 2, from: council}",
		`, rules: {few: "plan.deletes.size() == 0"}`, "").Replace(root) + "  - {stage: late, target: local/coast, enter: {after: live, when: request}}\n"
	r.push(files)
	r.reaches(1, "trial", delivery.Settled)
	approve := func(username, stage string) error {
		t.Helper()
		return r.Line.Approve(ctx, "frostline", 1, stage, r.say(username, stage, 1))
	}
	if err := approve("linden", "late"); !errors.Is(err, deliver.ErrNotCounts) || !strings.Contains(err.Error(), "late requires no approval") {
		t.Errorf("of a stage that asks for none: %v", err)
	}
	if err := approve("teasel", "live"); !errors.Is(err, deliver.ErrNotCounts) ||
		!strings.Contains(err.Error(), "live requires approvals from council, and teasel is not a member") {
		t.Errorf("of somebody of another group: %v", err)
	}
	for _, err := range []error{approve("linden", "live"), approve("sorrel", "live")} {
		must(t, err)
	}
	if g := r.gate(1, "live", delivery.ApprovalsGate); g.State != delivery.GatePassed || g.Reason != "approved by linden and sorrel" {
		t.Errorf("%+v", g)
	}
	closed := func(username string, closed bool) {
		t.Helper()
		must(t, r.People.Change(ctx, username, "linden", "changed", func(p *store.Person) error { p.Closed = closed; return nil }))
	}
	closed("sorrel", true)
	if g := r.gate(1, "live", delivery.ApprovalsGate); g.State == delivery.GatePassed || strings.Contains(g.Reason, "sorrel") {
		t.Errorf("somebody whose account is closed approves: %+v", g)
	}
	if err := approve("sorrel", "live"); !errors.Is(err, rights.ErrDenied) {
		t.Errorf("somebody whose account is closed approves anew: %v", err)
	}
	closed("sorrel", false)
	if g := r.gate(1, "live", delivery.ApprovalsGate); g.State != delivery.GatePassed {
		t.Errorf("%+v", g)
	}
}

// Rules see every variable of plans and impact in docs/manifest.md: each of these rejects everything, and each
// blocks a version with all changes, for its own reason.
func TestRulesOverPlan(t *testing.T) {
	r := newRig(t)
	rules := map[string]string{ // the finding of each rule, by name
		"plan.steps": "function/d", "plan.creates": "identity/d", "plan.updates": "function/a", "plan.deletes": "identity/c",
		"plan.functions": "d", "impact.public_routes": "GET /d", "impact.wider_routes": "GET /d", "impact.closed_routes": "GET /c",
		"impact.rerouted": "GET /b", "impact.new_permissions": "d tables/hills", "impact.indirect_permissions": "a read tables/hills",
		"impact.removed_permissions": "a tables/rows", "impact.weaker_gates": "approvals", "impact.data_loss": "logs/c",
		"impact.cold_starts": "a",
	}
	head := "rudmar: 1\nservice: frostline\nowner: cold-nights\nstages:\n  - stage: trial\n    target: local/north\n    enter: {when: push}\n    run_cases: none\n    gates:\n"
	last := head + "      approvals: {from: council}\n      rules:\n"
	for name := range rules {
		last += fmt.Sprintf("        %s: \"%s.size() == 0\"\n", strings.NewReplacer(".", "-", "_", "-").Replace(name), name)
	}
	code := "def run(call): return 1\n"
	files := map[string]string{"rudmar.yaml": strings.Split(last, "    gates:\n")[0],
		"a/function.yaml": fn("a", "permissions: [{allow: [read], resource: tables/rows}]\n"), "a/main.py": code,
		"b/function.yaml": fn("b", ""), "b/main.py": code,
		"c/function.yaml": fn("c", ""), "c/main.py": code}
	r.push(files)
	r.reaches(1, "trial", delivery.Settled)
	r.push(map[string]string{"rudmar.yaml": last}) // from now on these rules are standing
	r.reaches(2, "trial", delivery.Waiting)
	r.approves(2, "trial")
	r.reaches(2, "trial", delivery.Settled)
	r.push(map[string]string{"rudmar.yaml": strings.Replace(last, "      approvals: {from: council}\n", "", 1),
		"a/function.yaml": fn("a", "memory: 256 MiB\npermissions: [{allow: [send], resource: queues/in}]\n"), "a/main.py": code + "# else\n",
		"b/function.yaml": strings.Replace(fn("b", ""), "GET /b", "POST /b", 1),
		"c/function.yaml": "", "c/main.py": "",
		"d/function.yaml": "function: d\nhandler: main:run\npermissions: [{allow: [read], resource: tables/hills}]\ntriggers:\n" +
			"  ask: {route: GET /d, open_to: anyone}\n  other: {route: GET /b, open_to: authenticated}\n  read: {queue: in}\n",
		"d/main.py": code})
	r.reaches(3, "trial", delivery.Waiting)
	d, err := r.Store.Delivery(t.Context(), "frostline", 3, "trial")
	must(t, err)
	j, err := r.Line.Judge(t.Context(), d)
	must(t, err)
	held := map[string]delivery.Gate{}
	for _, g := range j.Gates {
		held[g.Name] = g
	}
	for name, finds := range rules {
		g := held[strings.NewReplacer(".", "-", "_", "-").Replace(name)]
		if g.State != delivery.GateNotMet || !strings.Contains(fmt.Sprint(g), finds) {
			t.Errorf("%s does not find %q: %+v", name, finds, g)
		}
	}
}

// TestStageRemovedFromTheMiddle removes a stage that the last one follows with a soak time: the last one waits
// for the removal, skips the stage and applies the soak time to the stage before it.
func TestStageRemovedFromTheMiddle(t *testing.T) {
	r := newRig(t)
	stages := func(middle, after string) string {
		return "rudmar: 1\nservice: frostline\nowner: cold-nights\nsecrets: [key]\nstages:\n" +
			"  - {stage: trial, target: local/north, enter: {when: push}}\n" + middle +
			"  - {stage: live, target: local/coast, enter: {after: " + after + ", when: request}, " +
			"gates: {approvals: {from: council}, soak: {for: 0s, min_invocations: 1}}}\n"
	}
	call := func(stage string) {
		t.Helper()
		inv, err := r.platform.Invoke(t.Context(), platform.Scope{Region: "north", Service: "frostline", Stage: stage}, "a",
			"ask", "", map[string]any{}, time.Minute)
		if must(t, err); inv.Error != nil {
			t.Fatal(inv.Error)
		}
	}
	files := first()
	files["rudmar.yaml"] = stages("  - {stage: rehearsal, target: local/north, enter: {after: trial, when: ready}}\n", "rehearsal")
	r.push(files)
	r.reaches(1, "rehearsal", delivery.Settled)
	call("rehearsal")
	r.letIn(1)
	r.push(map[string]string{"rudmar.yaml": stages("", "trial")})
	r.reaches(2, "rehearsal", delivery.Waiting)
	if g := r.judgedOn(2, "live", delivery.BeforeGate, delivery.GateWaiting); g.Reason != "waiting until this version has removed rehearsal" {
		t.Errorf("before the removal: %+v", g)
	}
	r.asks(2, "rehearsal")
	r.reaches(2, "rehearsal", delivery.Settled)
	if g := r.judgedOn(2, "live", delivery.SoakGate, delivery.GateWaiting); !strings.HasSuffix(g.Reason, "0 of 1 in trial") {
		t.Errorf("after the removal: %+v", g)
	}
	call("trial")
	r.letIn(2)
}

// A plan is not executed with another secret than it was computed with, and says so: before it starts, and if
// the secret is set in between.
func TestSecretSetDuringWaiting(t *testing.T) {
	r := newRig(t)
	set := func(value string) {
		t.Helper()
		must(t, r.People.SetSecret(t.Context(), "frostline", "trial", "key", value, "wren"))
	}
	set("first")
	files := first()
	r.push(files)
	r.reaches(1, "trial", delivery.Settled)
	files["rudmar.yaml"] = strings.Replace(root, "{when: push}", `{when: push}, gates: {rules: {never: "false"}}`, 1)
	files["a/function.yaml"] = fn("a", "env: {KEY: \"${secrets.key}\"}\n")
	r.push(files)
	r.reaches(2, "trial", delivery.Waiting)
	old := r.planned(2)
	set("second")
	if _, err := r.Runner.Start(t.Context(), old, "wren"); !errors.Is(err, deploy.ErrOutOfDate) ||
		!strings.Contains(err.Error(), "the required state of function/a has changed since then, for example because a secret was set") {
		t.Errorf("a plan with the first value: %v", err)
	}
	var holds atomic.Bool
	release := make(chan struct{})
	r.spoilWith(func(w http.ResponseWriter, q *http.Request, next http.Handler) {
		if strings.HasSuffix(q.URL.Path, "/kinds") && holds.Load() {
			<-release
		}
		next.ServeHTTP(w, q)
	})
	id, err := r.Runner.StartWith(t.Context(), r.planned(2), "wren", func(store.Tx, int64) error {
		holds.Store(true) // requested from here on
		return nil
	})
	must(t, err)
	set("third")
	close(release)
	d := r.ended(id, store.Failed)
	if !strings.Contains(d.Reason, "the secret in env.KEY of function/a was set since") {
		t.Errorf("why: %s", d.Reason)
	}
}
