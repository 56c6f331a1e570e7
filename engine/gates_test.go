package engine_test

import (
	"errors"
	"maps"
	"slices"
	"strings"
	"testing"
	"time"

	"rudmar/core/delivery"
	"rudmar/core/rights"
	"rudmar/engine/deliver"
	"rudmar/engine/deploy"
	"rudmar/engine/people"
	"rudmar/engine/source"
	"rudmar/engine/store"
	"rudmar/platform"
)

// live delivers version 1 through to live, by its rules.
func (r *rig) actual() {
	r.Helper()
	r.letIn(1)
}

// letIn delivers a version through trial, requests and approves it in live, and waits until it has settled
// there.
func (r *rig) letIn(version int) {
	r.Helper()
	r.reaches(version, "trial", delivery.Settled)
	r.asks(version, "live")
	r.approves(version, "live")
	r.reaches(version, "live", delivery.Settled)
}

// asks has wren request a version in a stage.
func (r *rig) asks(version int, stage string) {
	r.Helper()
	must(r, r.Line.Request(r.Context(), "frostline", version, stage, r.say("wren", stage, version)))
}

// approves has linden approve it.
func (r *rig) approves(version int, stage string) {
	r.Helper()
	must(r, r.Line.Approve(r.Context(), "frostline", version, stage, r.say("linden", stage, version)))
}

// until waits for a condition of a test.
func (r *rig) until(what string, holds func() bool) {
	r.Helper()
	for limit := time.Now().Add(3 * time.Minute); !holds(); {
		if time.Now().After(limit) {
			r.Fatalf("it never came that %s", what)
		}
		time.Sleep(10 * time.Millisecond) // interval of checks of a condition
	}
}

// judgedOn waits until a gate of a version in a stage is in a state, and returns it.
func (r *rig) judgedOn(version int, stage, kind string, state delivery.GateState) delivery.Gate {
	r.Helper()
	var g delivery.Gate
	r.until("version "+stage+" was judged by "+kind, func() bool {
		g = r.gate(version, stage, kind)
		return g.State == state
	})
	return g
}

// TestGatesBelongToTheStage has an author remove the gates from the manifest, or the whole stage, and push:
// nothing enters live before somebody of the council has seen that the gates are weaker.
func TestGatesBelongToTheStage(t *testing.T) {
	loose := strings.Replace(root,
		`enter: {after: trial, when: request}, gates: {approvals: {from: council}, rules: {few: "plan.deletes.size() == 0"}}`,
		`enter: {when: push, branch: main}`, 1)
	gone := root[:strings.Index(root, "  - {stage: live")]
	for name, manifest := range map[string]string{"gates taken out": loose, "stage taken out": gone} {
		t.Run(name, func(t *testing.T) {
			r := newRig(t)
			r.push(first())
			r.actual()
			r.push(map[string]string{"rudmar.yaml": manifest})
			r.reaches(2, "trial", delivery.Settled)
			g := r.judgedOn(2, "live", delivery.ApprovalsGate, delivery.GateWaiting)
			if name == "gates taken out" && !g.Standing {
				t.Errorf("the approval: %+v", g)
			}
			m, err := r.Line.ImpactOf(t.Context(), "frostline", "live", 2)
			must(t, err)
			rules := m.Plans()[0].Impact.Rules
			if len(rules) == 0 || !rules[0].Loosens {
				t.Errorf("what it loosens: %+v", rules)
			}
			if name == "stage taken out" {
				if m.Confirm == "" {
					t.Error("taking a stage away needs no confirmation")
				}
				if err := r.Line.Request(t.Context(), "frostline", 2, "live",
					deliver.Command{By: r.person("wren"), Shown: m.Digest}); !errors.Is(err, deliver.ErrConfirm) {
					t.Errorf("requested without the stage's name: %v", err)
				}
			}
			d, err := r.Store.Delivery(t.Context(), "frostline", 2, "live")
			if err != nil || d.State != delivery.Waiting || d.Removes != (name == "stage taken out") {
				t.Fatalf("%+v %v", d, err)
			}
			r.asks(2, "live")
			if name == "stage taken out" { // the rule that is there forbids deletes
				if g := r.judgedOn(2, "live", delivery.RuleGate, delivery.GateNotMet); g.State != delivery.GateNotMet {
					t.Errorf("the rule: %+v", g)
				}
				return
			}
			r.approves(2, "live")
			r.reaches(2, "live", delivery.Settled)
			standing, err := r.Store.Standing(t.Context(), "frostline")
			if err != nil || standing["live"] != 2 {
				t.Errorf("the rules that stand: %v %v", standing, err)
			}
		})
	}
}

// liveWithoutRules brings the first version to live, whose gates there have no rules.
func (r *rig) liveWithoutRules() {
	r.Helper()
	files := first()
	files["rudmar.yaml"] = strings.Replace(root, `, rules: {few: "plan.deletes.size() == 0"}`, "", 1)
	r.push(files)
	r.actual()
}

// A case of the stage before that runs again has neither failed nor passed.
func TestRunningCasesDoNotCount(t *testing.T) {
	r := newRig(t)
	files := first()
	files["rudmar.yaml"] = strings.Replace(root, `approvals: {from: council}`, `cases: all`, 1)
	r.push(files)
	trial := r.reaches(1, "trial", delivery.Settled)
	actual := r.reaches(1, "live", delivery.Waiting)
	holds := func() bool {
		judged, err := r.Line.Judge(t.Context(), actual)
		return err == nil && slices.ContainsFunc(judged.Gates, func(g delivery.Gate) bool {
			return g.Kind == delivery.CasesGate && g.State == delivery.GatePassed
		})
	}
	late := store.CaseRun{Target: "local/north", Function: "a", File: "works.yaml", Name: "it works"}
	var err error
	if late.ID, err = r.Store.BeginCase(t.Context(), trial, late); err != nil || !holds() {
		t.Errorf("it counts before its end (%v)", err)
	}
	if err := r.Store.EndCase(t.Context(), late); err != nil || holds() {
		t.Errorf("its failure does not count (%v)", err)
	}
}

// A strict stage rejects wildcard permissions, though the version declares that it is not strict.
func TestStrictStageStaysStrict(t *testing.T) {
	r := newRig(t)
	files := first()
	files["rudmar.yaml"] = strings.Replace(root, "{when: push}", "{when: push}, wildcards: forbid", 1)
	r.push(files)
	r.reaches(1, "trial", delivery.Settled)
	r.push(map[string]string{"rudmar.yaml": root, "a/function.yaml": fn("a", "permissions: [{allow: [read], resource: tables/*}]\n")})
	r.reaches(2, "trial", delivery.Waiting)
	if g := r.judgedOn(2, "trial", delivery.StrictGate, delivery.GateNotMet); !strings.HasSuffix(g.Reason, ": a") {
		t.Errorf("why: %s", g.Reason)
	}
}

// A version superseded in a stage does not wait for it in the next one.
func TestSupersededDeliveriesDoNotWait(t *testing.T) {
	r := newRig(t)
	files := first()
	files["rudmar.yaml"] = strings.Replace(root, "{when: push}", "{when: push}, gates: {approvals: {from: council}}", 1)
	r.push(files)
	r.reaches(1, "trial", delivery.Waiting)
	r.reaches(1, "live", delivery.Waiting)
	r.push(map[string]string{"b/main.py": answering("b2")})
	r.reaches(2, "trial", delivery.Waiting)
	r.approves(2, "trial")
	r.reaches(2, "trial", delivery.Settled)
	r.reaches(1, "trial", delivery.Superseded)
	if d := r.reaches(1, "live", delivery.Superseded); !strings.Contains(d.Reason, "did not pass the preceding stage") {
		t.Errorf("why: %q", d.Reason)
	}
}

// TestRemovingAStage delivers a version that no longer declares a stage: its resources are deleted on every
// target, and the stage is removed.
func TestRemovingAStage(t *testing.T) {
	r := newRig(t)
	r.liveWithoutRules()
	kept, err := r.Line.GateResults(t.Context(), "frostline", 1)
	waiting, waitingErr := r.Line.GateResults(t.Context(), "frostline", 0)
	if err != nil || waitingErr != nil || len(kept[deliver.Key{Version: 1, Stage: "live"}].Gates) == 0 ||
		len(waiting) != 0 {
		t.Errorf("how what has settled was judged: %v %v; what waits: %v %v", kept, err, waiting, waitingErr)
	}
	r.push(map[string]string{"rudmar.yaml": root[:strings.Index(root, "  - {stage: live")]})
	r.reaches(2, "trial", delivery.Settled)
	p, err := r.Planner.Foresee(t.Context(), deploy.Request{Place: place("live", "north"), Version: 2})
	if err != nil || len(p.Steps) == 0 || p.Outlook == nil {
		t.Errorf("the plan that takes it away: %+v %v", p, err)
	}
	r.letIn(2)
	for _, region := range []string{"north", "coast"} {
		client, scope := r.reach(place("live", region))
		if snapshot, err := client.Snapshot(t.Context(), scope); err != nil || len(snapshot.Resources) != 0 {
			t.Errorf("%s still has %d resources, %v", region, len(snapshot.Resources), err)
		}
	}
	standing, err := r.Store.Standing(t.Context(), "frostline")
	if err != nil || standing["live"] != 0 || standing["trial"] != 2 {
		t.Errorf("the rules that stand: %v %v", standing, err)
	}
	// The next version has nothing to do with it any more.
	r.push(map[string]string{"a/main.py": "def run(call): return 'a'  # again\n"})
	r.reaches(3, "trial", delivery.Settled)
	if _, err := r.Store.Delivery(t.Context(), "frostline", 3, "live"); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("a stage that is gone: %v", err)
	}
}

// TestFourEyesCountPeople writes another author into commits: the people who pushed them cannot approve them,
// regardless of the commits' authors.
func TestFourEyesCountPeople(t *testing.T) {
	r := newRig(t)
	r.add(people.NewUser{Username: "teasel", Role: rights.Administrator, Groups: []string{"council"}})
	r.push(first())
	r.actual()
	repo := r.Host.Repository("brambleford")
	// Teasel commits in the page's way, signed in; the push after it is wren's.
	edit := source.Change{Branch: "main", Base: r.head, Message: "m", Author: "teasel", Email: "t@x.invalid",
		Files: map[string][]byte{"a/main.py": []byte("def run(call): return 'a'  # 2\n")}}
	var err error
	if r.head, err = repo.Apply(t.Context(), edit); err != nil {
		t.Fatal(err)
	}
	r.push(map[string]string{"b/main.py": "def run(call): return 'b'  # 2\n"})
	v := 0
	r.until("the newest version is built", func() bool {
		versions, err := r.Store.ListVersions(t.Context(), "frostline", store.Part{Limit: 1000})
		must(t, err)
		v = versions[0].Number
		return versions[0].Hash == r.head
	})
	r.reaches(v, "trial", delivery.Settled)
	if err := r.Line.Approve(t.Context(), "frostline", v, "live", r.say("teasel", "live", v)); !errors.Is(err,
		deliver.ErrNotCounts) || !strings.Contains(err.Error(), "teasel pushed") {
		t.Errorf("who pushed one of its commits approves: %v", err)
	}
	if g := r.judgedOn(v, "live", delivery.ApprovalsGate, delivery.GateWaiting); !strings.Contains(g.Reason,
		"teasel and wren pushed this version") {
		t.Errorf("the gate: %s", g.Reason)
	}
	if err := r.Line.Approve(t.Context(), "frostline", v, "live", r.say("linden", "live", v)); err != nil {
		t.Errorf("somebody else approves: %v", err)
	}
}

// TestApprovalCoversTheShownPlan changes the state after an approval: it is requested again, with the changes.
func TestApprovalCoversTheShownPlan(t *testing.T) {
	r := newRig(t)
	files := first()
	files["rudmar.yaml"] = strings.Replace(root, "targets: [local/north, local/coast]", "target: local/north", 1)
	r.push(files)
	r.actual()
	r.push(map[string]string{"a/function.yaml": fn("a", "memory: 256 MiB\n")})
	r.reaches(2, "trial", delivery.Settled)
	before := r.say("linden", "live", 2)
	if err := r.Line.Approve(t.Context(), "frostline", 2, "live",
		deliver.Command{By: before.By}); !errors.Is(err, deliver.ErrImpactChanged) {
		t.Errorf("approved without looking: %v", err)
	}
	must(t, r.Line.Approve(t.Context(), "frostline", 2, "live", before))
	r.judgedOn(2, "live", delivery.ApprovalsGate, delivery.GatePassed)
	// Somebody changes something manually: the plan would undo that, too.
	client, scope := r.reach(place("live", "north"))
	record, err := r.Store.Record(t.Context(), place("live", "north"))
	must(t, err)
	for _, row := range record {
		if row.Address == "function/b" {
			row.Attributes["memory"] = 512 << 20
			if _, err := client.Put(t.Context(), scope, row.Address,
				platform.Change{Key: "by hand", Attributes: row.Attributes, Version: 1}); err != nil {
				t.Fatal(err)
			}
		}
	}
	g := r.judgedOn(2, "live", delivery.ApprovalsGate, delivery.GateWaiting)
	if !strings.Contains(g.Reason, "the impact changed after linden approved: added: restore function/b: memory") {
		t.Errorf("the gate: %s", g.Reason)
	}
	if err := r.Line.Approve(t.Context(), "frostline", 2, "live", before); !errors.Is(err, deliver.ErrImpactChanged) {
		t.Errorf("approved what is not so any more: %v", err)
	}
	r.asks(2, "live")
	if d, err := r.Store.Delivery(t.Context(), "frostline", 2, "live"); err != nil || d.State != delivery.Waiting {
		t.Errorf("%+v %v", d, err)
	}
	r.approves(2, "live")
	r.reaches(2, "live", delivery.Settled)
}

// TestOnlyTheApprovedPlanRuns changes the state between the entry and the execution of the plan: nothing is
// deployed, and the approval is requested again.
func TestOnlyTheApprovedPlanRuns(t *testing.T) {
	r := newRig(t)
	r.push(first())
	r.actual()
	r.push(map[string]string{"a/function.yaml": fn("a", "memory: 256 MiB\n")})
	r.reaches(2, "trial", delivery.Settled)
	d, err := r.Store.Delivery(t.Context(), "frostline", 2, "live")
	must(t, err)
	from := d.State
	d.State, d.Agreed = delivery.Planning, []string{`{"kind":"update","subject":"function/a","target":"local/north","values":[]}`}
	must(t, r.Store.MoveDeliveries(t.Context(), store.Move{From: from, To: d}))
	r.Line.AdvanceSoon()
	d = r.reaches(2, "live", delivery.Waiting)
	if !strings.Contains(d.Reason, "differs from the approved one: added: ") || len(d.Deployments) != 0 {
		t.Errorf("%+v", d)
	}
}

// TestRollbackIsConfirmed rolls back a stage with the loss of a function: it requires the right, a look at the
// impact, and the stage's name.
func TestRollbackIsConfirmed(t *testing.T) {
	r := newRig(t)
	r.add(people.NewUser{Username: "sorrel", Role: rights.Approver, Places: []string{"watering", "frostline/trial"},
		Groups: []string{"council"}})
	files := first()
	delete(files, "b/function.yaml")
	delete(files, "b/main.py")
	r.push(files)
	r.reaches(1, "trial", delivery.Settled)
	r.push(map[string]string{"b/function.yaml": fn("b", ""), "b/main.py": "def run(call): return 'b'\n"})
	r.reaches(2, "trial", delivery.Settled)
	good := r.say("wren", "trial", 1)
	for name, tt := range map[string]struct {
		say  deliver.Command
		want error
	}{
		"without looking": {deliver.Command{By: good.By, Confirm: "trial"}, deliver.ErrImpactChanged},
		"after looking elsewhere": {deliver.Command{By: good.By, Confirm: "trial", Shown: strings.Repeat("0", 64)},
			deliver.ErrImpactChanged},
		"without the name":  {deliver.Command{By: good.By, Shown: good.Shown}, deliver.ErrConfirm},
		"with another name": {deliver.Command{By: good.By, Shown: good.Shown, Confirm: "live"}, deliver.ErrConfirm},
		"by somebody without role": {deliver.Command{By: store.Person{Username: "x"}, Shown: good.Shown, Confirm: "trial"},
			rights.ErrDenied},
	} {
		if err := r.Line.RollBackTo(t.Context(), "frostline", 1, "trial", tt.say); !errors.Is(err, tt.want) {
			t.Errorf("%s: %v", name, err)
		}
	}
	sorrel := r.person("sorrel")
	for name, act := range map[string]func() error{
		"refuse":  func() error { return r.Line.Refuse(t.Context(), "frostline", 2, "live", sorrel, "") },
		"approve": func() error { return r.Line.Approve(t.Context(), "frostline", 2, "live", r.say("sorrel", "live", 2)) },
		"request": func() error { return r.Line.Request(t.Context(), "frostline", 2, "live", r.say("sorrel", "live", 2)) },
		"retry":   func() error { return r.Line.Retry(t.Context(), "frostline", 2, "live", sorrel) },
		"go back": func() error {
			return r.Line.RollBackTo(t.Context(), "frostline", 2, "live", deliver.Command{By: sorrel})
		},
	} {
		if err := act(); !errors.Is(err, rights.ErrDenied) {
			t.Errorf("%s in a stage where one has no right: %v", name, err)
		}
	}
	must(t, r.Line.RollBackTo(t.Context(), "frostline", 1, "trial", good))
	r.reaches(2, "trial", delivery.RolledBack)
	r.reaches(1, "trial", delivery.Settled)
}

// TestRejectingRequiresTheGroup denies members of other groups to reject.
func TestRejectingRequiresTheGroup(t *testing.T) {
	r := newRig(t)
	r.add(people.NewUser{Username: "sorrel", Role: rights.Approver, Groups: []string{"others"}})
	r.push(first())
	r.reaches(1, "trial", delivery.Settled)
	if err := r.Line.Refuse(t.Context(), "frostline", 1, "live", r.person("sorrel"),
		"no"); !errors.Is(err, deliver.ErrNotCounts) {
		t.Errorf("somebody of another group refuses: %v", err)
	}
	must(t, r.Line.Refuse(t.Context(), "frostline", 1, "live", r.person("linden"), "no"))
	r.reaches(1, "live", delivery.Rejected)
	if err := r.Line.Approve(t.Context(), "frostline", 1, "live", r.say("linden", "live", 1)); !errors.Is(err,
		delivery.ErrTransition) {
		t.Errorf("approving what is refused: %v", err)
	}
}

// TestRevertIsDelivered pushes the content of an older version: it gets no new number, but is deployed again.
func TestRevertIsDelivered(t *testing.T) {
	r := newRig(t)
	r.push(first())
	r.reaches(1, "trial", delivery.Settled)
	r.push(map[string]string{"a/main.py": "def run(call): return 'a'  # worse\n"})
	r.reaches(2, "trial", delivery.Settled)
	r.push(map[string]string{"a/main.py": first()["a/main.py"]})
	r.until("version 1 runs again", func() bool {
		at, err := r.Store.Stage(t.Context(), place("trial", "north"))
		return err == nil && at.Version == 1
	})
	r.reaches(1, "trial", delivery.Settled)
	r.reaches(1, "live", delivery.Waiting)
	r.upToDate("trial", "north", 1)
	if n, err := r.Store.NewestVersion(t.Context(), "frostline"); err != nil || n != 2 {
		t.Errorf("the newest number: %d %v", n, err)
	}
	// A commit that changes nothing leaves all as it is.
	r.push(map[string]string{"README.md": "notes\n"})
	r.until("it was built", func() bool {
		b, err := r.Store.LatestBuild(t.Context(), "frostline")
		return err == nil && b.Hash == r.head && b.State == store.BuildSucceeded
	})
	if d := r.reaches(1, "trial", delivery.Settled); len(d.Deployments) == 0 {
		t.Errorf("%+v", d)
	}
}

// TestServiceBelongsToOneRepository denies another repository to take over a service, which only an explicit
// move allows.
func TestServiceBelongsToOneRepository(t *testing.T) {
	r := newRig(t)
	r.push(first())
	r.reaches(1, "trial", delivery.Settled)
	must(t, r.CreateRepository(t.Context(), "elsewhere", "wren"))
	change := source.Change{Branch: "main", Message: "mine now", Author: "sorrel", Email: "s@x.invalid",
		Files: map[string][]byte{}}
	for name, text := range first() {
		change.Files[name] = []byte(text)
	}
	if _, err := r.Host.Repository("elsewhere").Apply(t.Context(), change); err != nil {
		t.Fatal(err)
	}
	must(t, r.Build.Pushed(t.Context(), "elsewhere", "sorrel"))
	if s, err := r.Store.Service(t.Context(), "frostline"); err != nil || s.Repository != "brambleford" {
		t.Errorf("%+v %v", s, err)
	}
	if list, err := r.Store.Builds(t.Context(), "frostline", 10); err != nil || len(list) != 1 {
		t.Errorf("builds: %+v %v", list, err)
	}
	must(t, r.MoveService(t.Context(), "frostline", "elsewhere", "teasel"))
	r.until("what stands there was built", func() bool {
		list, err := r.Store.Builds(t.Context(), "frostline", 10)
		return err == nil && len(list) == 2 && list[0].State == store.BuildSucceeded && list[0].Person == "sorrel"
	})
	entries, err := r.Store.Journal(t.Context(), "frostline", true, store.Part{Limit: 200}, store.Entry{})
	must(t, err)
	told := ""
	for _, e := range entries {
		told += e.Person + " " + e.What + " " + e.Text + "\n"
	}
	for _, want := range []string{"teasel service moved frostline from brambleford to elsewhere",
		"wren repository created elsewhere", "service created frostline in brambleford"} {
		if !strings.Contains(told, want) {
			t.Errorf("the journal does not say %q:\n%s", want, told)
		}
	}
}

// TestRemovingAService removes a whole service by a commit without it: each stage by its rules; then it can be
// removed from the list, and its repository with it.
func TestRemovingAService(t *testing.T) {
	r := newRig(t)
	r.liveWithoutRules()
	if err := r.DeleteService(t.Context(), "frostline", "teasel"); !errors.Is(err, store.ErrInUse) {
		t.Errorf("a service that runs was removed: %v", err)
	}
	if err := r.DeleteRepository(t.Context(), "brambleford", "teasel"); !errors.Is(err, store.ErrInUse) {
		t.Errorf("a repository with a service was removed: %v", err)
	}
	gone := map[string]string{"README.md": "it was here\n"}
	for name := range first() {
		gone[name] = ""
	}
	r.push(gone)
	r.until("its version is there", func() bool {
		_, err := r.Store.Delivery(t.Context(), "frostline", 2, "trial")
		return err == nil
	})
	r.asks(2, "trial")
	r.letIn(2)
	must(t, errors.Join(r.DeleteService(t.Context(), "frostline", "teasel"),
		r.DeleteRepository(t.Context(), "brambleford", "teasel")))
	if list, err := r.Store.Services(t.Context()); err != nil || len(list) != 0 {
		t.Errorf("%v %v", list, err)
	}
}

// TestRenamedFunctionKeepsItsState delivers a version with a renamed function: its identity and its routes are
// the same, and the next plan is empty.
func TestRenamedFunctionKeepsItsState(t *testing.T) {
	r := newRig(t)
	r.push(first())
	r.reaches(1, "trial", delivery.Settled)
	renamed := strings.Replace(fn("c", "renamed_from: a\n"), "GET /c", "GET /a", 1)
	r.push(map[string]string{"a/function.yaml": "", "a/main.py": "", "a/cases/works.yaml": "",
		"c/function.yaml": renamed, "c/main.py": first()["a/main.py"], "c/cases/works.yaml": first()["a/cases/works.yaml"]})
	d := r.reaches(2, "trial", delivery.Settled)
	deployment, err := r.Store.Deployment(t.Context(), d.Deployments[0])
	must(t, err)
	kept, err := r.Store.Plan(t.Context(), deployment.Plan)
	if err != nil || len(kept.Plan.Steps) != 1 || kept.Plan.Steps[0].RenamedFrom != "a" || kept.Plan.Confirmation() != "" {
		t.Errorf("%+v %v", kept.Plan.Steps, err)
	}
	r.upToDate("trial", "north", 2)
}

// TestRenamedService renames a service in its folder: the old one names its successor, and its newest version
// deletes its resources.
func TestRenamedService(t *testing.T) {
	r := newRig(t)
	r.push(first())
	r.reaches(1, "trial", delivery.Settled)
	r.push(map[string]string{"rudmar.yaml": strings.Replace(root, "service: frostline", "service: frost-line", 1)})
	r.until("its last version waits for a request", func() bool {
		d, err := r.Store.Delivery(t.Context(), "frostline", 2, "trial")
		return err == nil && d.Removes
	})
	if p, err := r.Planner.Compute(t.Context(), place("trial", "north"), 2); err != nil || len(p.Steps) == 0 ||
		p.Steps[0].Because[0].Text != "version 2 no longer declares the stage trial" {
		t.Errorf("what takes the stage away: %+v %v", p, err)
	}
	if s, err := r.Store.Service(t.Context(), "frostline"); err != nil || s.RenamedTo != "frost-line" {
		t.Errorf("%+v %v", s, err)
	}
	r.until("the new one runs", func() bool {
		d, err := r.Store.Delivery(t.Context(), "frost-line", 1, "trial")
		return err == nil && d.State == delivery.Settled
	})
	r.push(map[string]string{"rudmar.yaml": root}) // and back again
	r.until("it is itself again", func() bool {
		s, err := r.Store.Service(t.Context(), "frostline")
		return err == nil && s.RenamedTo == ""
	})
	r.reaches(1, "trial", delivery.Settled)
}

// TestCasesRunInTheirStages runs a case in each stage except the last one, where only cases without side
// effects run, unless the stage says otherwise.
func TestCasesRunInTheirStages(t *testing.T) {
	r := newRig(t)
	files := first()
	files["a/cases/harmless.yaml"] = "case: nothing happens\nsend: {route: GET /a}\nexpect: [status == 200]\nno_side_effects: true\n"
	files["a/cases/elsewhere.yaml"] = "case: only in live\nsend: {route: GET /a}\nexpect: [status == 200]\nno_side_effects: true\nstages: [live]\n"
	r.push(files)
	r.actual()
	for stage, want := range map[string]string{"trial": "it works, nothing happens",
		"live": "nothing happens, only in live"} {
		runs, err := r.Store.CaseRuns(t.Context(), "frostline", 1, stage)
		must(t, err)
		names := map[string]bool{}
		for _, run := range runs {
			names[run.Name] = true
		}
		if got := strings.Join(slices.Sorted(maps.Keys(names)), ", "); got != want {
			t.Errorf("in %s ran %s, want %s", stage, got, want)
		}
	}
	for _, region := range []string{"north", "coast"} { // invocations of cases do not count
		client, scope := r.reach(place("live", region))
		if minutes, err := client.Metrics(t.Context(), scope, time.Unix(0, 0)); err != nil || len(minutes) != 0 {
			t.Errorf("figures of %s: %+v %v", region, minutes, err)
		}
	}
}

// A gate reports since when it is in its state, regardless of repeated evaluations.
func TestGateTimes(t *testing.T) {
	r, ahead := newRigAhead(t)
	r.push(first())
	r.reaches(1, "trial", delivery.Settled)
	gates := func() map[string]delivery.Gate {
		t.Helper()
		judged, err := r.Line.GateResults(t.Context(), "frostline", 1)
		must(t, err)
		out := map[string]delivery.Gate{}
		for _, g := range judged[deliver.Key{Version: 1, Stage: "live"}].Gates {
			out[g.Kind] = g
		}
		return out
	}
	approvals := r.judgedOn(1, "live", delivery.ApprovalsGate, delivery.GateWaiting).Kind
	r.until("it was judged", func() bool { return gates()[delivery.RuleGate].State == delivery.GatePassed && len(gates()) > 1 })
	before := gates()
	ahead.Store(int64(time.Hour))
	r.approves(1, "live")
	r.until("the approval counts", func() bool { return gates()[approvals].State == delivery.GatePassed })
	after := gates()
	if after[delivery.RuleGate].Since != before[delivery.RuleGate].Since || after[delivery.RuleGate].Since == 0 {
		t.Errorf("the rules: since %v, before %v", after[delivery.RuleGate].Since, before[delivery.RuleGate].Since)
	}
	if moved := after[approvals].Since - before[approvals].Since; moved < time.Hour.Milliseconds() {
		t.Errorf("the approvals moved by %v ms", moved)
	}
}
