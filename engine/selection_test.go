package engine_test

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"rudmar/core/delivery"
	"rudmar/core/rights"
	"rudmar/engine/deliver"
	"rudmar/engine/people"
	"rudmar/platform"
)

func answering(word string) string { return "def run(call): return '" + word + "'\n" }

// answer returns a function's response in live; "" if it is not deployed.
func (r *rig) answer(function string) string {
	r.Helper()
	inv, err := r.platform.Invoke(r.Context(), platform.Scope{Region: "north", Service: "frostline", Stage: "live"}, function,
		"ask", "", map[string]any{}, time.Minute)
	if err != nil || inv.Error != nil {
		return ""
	}
	return fmt.Sprint(inv.Response)
}

func (r *rig) answers(want map[string]string) {
	r.Helper()
	for function, word := range want {
		if got := r.answer(function); word == "" && got != "" || !strings.Contains(got, word) {
			r.Errorf("%s answers %q, not %q", function, got, word)
		}
	}
}

// Some functions of a version enter a stage, the others stay unchanged and follow on request; if they fail, the
// deployed ones stay.
func TestSelectFunctions(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	r.add(people.NewUser{Username: "teasel", Role: rights.Reader})
	files := map[string]string{
		"rudmar.yaml": `rudmar: 1
service: frostline
owner: cold-nights
stages:
  - {stage: trial, target: local/north, run_cases: none, enter: {when: push}}
  - {stage: live, target: local/north, run_cases: all, enter: {after: trial, when: request, allow_partial: true}}
  - {stage: late, target: local/coast, run_cases: none, enter: {after: live, when: request}}
`,
		"a/function.yaml": fn("a", ""), "a/main.py": answering("a1"),
		"b/function.yaml": fn("b", "env: {CAME_WITH: \"${version}\"}\n"), "b/main.py": answering("b1"),
		"c/function.yaml": fn("c", ""), "c/main.py": answering("c1"),
	}
	ask := func(version int, functions ...string) error {
		r.Helper()
		m, _, err := r.Line.ImpactOfSelection(ctx, "frostline", "live", version, functions)
		if err != nil {
			return err
		}
		return r.Line.Request(ctx, "frostline", version, "live",
			deliver.Command{By: r.person("wren"), Shown: m.Digest, Confirm: "live", Functions: functions})
	}
	r.push(files)
	r.reaches(1, "trial", delivery.Settled)
	must(t, ask(1))
	r.reaches(1, "live", delivery.Settled)
	// arrived reports whether a version is evaluated as one that can enter the stage after.
	arrived := func(version int, says string) bool {
		t.Helper()
		d, err := r.Store.Delivery(ctx, "frostline", version, "late")
		must(t, err)
		j, err := r.Line.Judge(ctx, d)
		must(t, err)
		if !strings.Contains(fmt.Sprint(j.Gates), says) {
			t.Errorf("version %d: %+v", version, j.Gates)
		}
		return j.Impact != nil
	}
	if !arrived(1, "") {
		t.Error("version 1 is whole in live, and is not judged for the stage after it")
	}

	// a and b change, c is deleted, e is created, with a case that fails.
	r.push(map[string]string{"a/main.py": answering("a2"), "b/main.py": answering("b2"),
		"c/function.yaml": "", "c/main.py": "", "e/function.yaml": fn("e", ""), "e/main.py": answering("e2"),
		"b/cases/new.yaml": "case: b is new\nsend: {route: GET /b}\nexpect: [body == \"b2\"]\n",
		"e/cases/no.yaml":  "case: e is otherwise\nsend: {route: GET /e}\nexpect: [body == \"e3\"]\n"})
	r.reaches(2, "trial", delivery.Settled)
	for _, wrong := range [][]string{{"zinnia"}, {"a", "d"}} {
		if err := ask(2, wrong...); !errors.Is(err, delivery.ErrSelection) || !strings.Contains(err.Error(), "a, b, c, e") {
			t.Errorf("%v: %v", wrong, err)
		}
	}
	must(t, ask(2, "a"))
	d := r.reaches(2, "live", delivery.Settled)
	if d.Choice == nil || strings.Join(d.Choice.Functions, " ") != "a" {
		t.Errorf("%+v", d.Choice)
	}
	if arrived(2, "waiting for all functions in live, not only a") {
		t.Error("a part of version 2 is judged for the stage after it")
	}
	r.answers(map[string]string{"a": "a2", "b": "b1", "c": "c1", "e": ""})
	r.upToDate("live", "north", 2)
	if runs, err := r.Store.CaseRuns(ctx, "frostline", 2, "live"); err != nil || len(runs) != 0 {
		t.Errorf("cases of what stayed ran: %+v %v", runs, err)
	}
	if there, err := r.Planner.DeployedVersions(ctx, "frostline", "live"); err != nil ||
		fmt.Sprint(there) != "map[a:2 b:1 c:1]" {
		t.Errorf("%v %v", there, err)
	}

	// The rest follows, and rolls back automatically: the deployed functions stay.
	follow := func(username string) error {
		m, _, err := r.Line.ImpactOfSelection(ctx, "frostline", "live", 2, nil)
		must(t, err)
		return r.Line.Follow(ctx, "frostline", 2, "live", deliver.Command{By: r.person(username), Shown: m.Digest, Confirm: "live"})
	}
	if err := follow("teasel"); !errors.Is(err, rights.ErrDenied) {
		t.Errorf("somebody who may only look: %v", err)
	}
	must(t, follow("wren"))
	r.until("the rest to have gone back", func() bool {
		d, err := r.Store.Delivery(ctx, "frostline", 2, "live")
		return err == nil && d.State == delivery.Settled && !d.Rest && d.Choice != nil && len(d.Deployments) > 0 &&
			r.answer("b") == "b1" && r.answer("e") == ""
	})
	r.answers(map[string]string{"a": "a2", "c": "c1"})
	r.upToDate("live", "north", 2)

	// The next version brings all of it.
	r.push(map[string]string{"e/main.py": answering("e3")})
	r.reaches(3, "trial", delivery.Settled)
	must(t, ask(3, "b", "c", "e"))
	if d := r.reaches(3, "live", delivery.Settled); d.Choice != nil {
		t.Errorf("nothing is skipped, and it says %+v", d.Choice)
	}
	r.answers(map[string]string{"a": "a2", "b": "b2", "c": "", "e": "e3"})
	r.upToDate("live", "north", 3)
}

// Unselected functions of a waiting version stay unchanged when it enters: another version may have been
// restored meanwhile.
func TestUnselectedFunctionsStayUnchanged(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	files := map[string]string{
		"rudmar.yaml": `rudmar: 1
service: frostline
owner: cold-nights
stages:
  - {stage: trial, target: local/north, run_cases: none, enter: {when: push}}
  - {stage: live, target: local/north, enter: {after: trial, when: request, allow_partial: true}, gates: {approvals: {from: council}}}
`,
		"a/function.yaml": fn("a", ""), "a/main.py": answering("a1"),
		"b/function.yaml": fn("b", ""), "b/main.py": answering("b1"),
		"c/function.yaml": fn("c", ""), "c/main.py": answering("c1"), // which no version changes
	}
	r.push(files)
	r.letIn(1)
	r.push(map[string]string{"b/main.py": answering("b2")})
	r.letIn(2)
	r.push(map[string]string{"a/main.py": answering("a3"), "b/main.py": answering("b3")})
	r.reaches(3, "trial", delivery.Settled)
	if _, _, err := r.Line.ImpactOfSelection(ctx, "frostline", "trial", 2, []string{"a"}); !errors.Is(err, delivery.ErrSelection) ||
		!strings.Contains(err.Error(), "allow_partial: true") {
		t.Errorf("a stage without a choice: %v", err)
	}
	if names, err := r.Line.Differing(ctx, "frostline", "live", 3); err != nil || strings.Join(names, " ") != "a b" {
		t.Errorf("what differs: %v %v", names, err)
	}
	say := func(username string) deliver.Command {
		t.Helper()
		m, _, err := r.Line.ImpactOfSelection(ctx, "frostline", "live", 3, []string{"a"})
		must(t, err)
		return deliver.Command{By: r.person(username), Shown: m.Digest, Confirm: "live", Functions: []string{"a"}}
	}
	waits := func(kept int) {
		t.Helper()
		r.until(fmt.Sprintf("b stays at version %d", kept), func() bool {
			d, err := r.Store.Delivery(ctx, "frostline", 3, "live")
			must(t, err)
			left, err := r.Line.Excluded(ctx, d)
			return err == nil && d.Choice != nil && d.Choice.Kept["b"] == kept && strings.Join(left, " ") == "b" &&
				d.State == delivery.Waiting && r.Line.AllowsPartial(ctx, d)
		})
	}
	must(t, r.Line.Request(ctx, "frostline", 3, "live", say("wren")))
	waits(2)
	back := r.say("wren", "live", 1)
	back.Comment = "the hill is too cold"
	must(t, r.Line.RollBackTo(ctx, "frostline", 1, "live", back))
	if err := r.Line.RollBackTo(ctx, "frostline", 1, "live", back); !errors.Is(err, delivery.ErrTransition) {
		t.Errorf("put back while it is put back: %v", err)
	}
	r.reaches(1, "live", delivery.Settled)
	if d, err := r.Store.Delivery(ctx, "frostline", 2, "live"); err != nil || !strings.Contains(d.Reason, "rolled back to version 1 by wren: the hill is too cold") {
		t.Errorf("version 2: %+v %v", d, err)
	}
	waits(1)
	must(t, r.Line.Approve(ctx, "frostline", 3, "live", say("linden")))
	d := r.reaches(3, "live", delivery.Settled)
	r.answers(map[string]string{"a": "a3", "b": "b1"})
	if r.Line.AllowsPartial(ctx, d) {
		t.Error("of what has come in something may be chosen")
	}
	if err := r.Line.Follow(ctx, "frostline", 1, "live", deliver.Command{By: r.person("wren")}); !errors.Is(err, delivery.ErrTransition) {
		t.Errorf("nothing is skipped of version 1: %v", err)
	}

	// The rest is requested and waits, and a newer version enters first: the deployed functions stayed.
	m, _, err := r.Line.ImpactOfSelection(ctx, "frostline", "live", 3, nil)
	must(t, err)
	must(t, r.Line.Follow(ctx, "frostline", 3, "live", deliver.Command{By: r.person("wren"), Shown: m.Digest, Confirm: "live"}))
	rest := func(waits bool, why string) {
		t.Helper()
		r.until(fmt.Sprintf("the rest waits: %v", waits), func() bool {
			d, err := r.Store.Delivery(ctx, "frostline", 3, "live")
			return err == nil && d.Rest == waits && (waits || d.State == delivery.Settled && d.Choice != nil && strings.Contains(d.Reason, why))
		})
	}
	rest(true, "")
	r.push(map[string]string{"a/main.py": answering("a4")})
	r.letIn(4)
	rest(false, "the deployed state is kept: superseded by a newer version")
	r.answers(map[string]string{"a": "a4", "b": "b3"})
}
