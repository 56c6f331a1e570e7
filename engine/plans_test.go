package engine_test

import (
	"errors"
	"slices"
	"strings"
	"testing"
	"time"

	"rudmar/core/delivery"
	"rudmar/core/manifest"
	"rudmar/core/plan"
	"rudmar/engine/branches"
	"rudmar/engine/deploy"
	"rudmar/engine/store"
	"rudmar/platform"
)

// An unmanaged resource is drift, is ignored by plans, and is deleted by a plan on request.
func TestDeletingUnmanagedResources(t *testing.T) {
	r := newRig(t)
	r.push(first())
	r.reaches(1, "trial", delivery.Settled)
	at := place("trial", "north")
	_, scope := r.reach(at)
	const odd = "grant/a/tables/odd"
	if _, err := r.platform.Put(t.Context(), scope, odd, platform.Change{Key: "odd",
		Attributes: map[string]any{"resource": "tables/odd", "verbs": []any{"read"}}}); err != nil {
		t.Fatal(err)
	}
	drift, err := r.Planner.Drift(t.Context(), at)
	if err != nil || len(drift) != 1 || !drift[0].Unknown || drift[0].Address != odd || drift[0].Function != "a" {
		t.Fatalf("%+v %v", drift, err)
	}
	r.upToDate("trial", "north", 1)
	p, err := r.Planner.Foresee(t.Context(), deploy.Request{Place: at, Version: 1, Deletions: []string{odd}})
	if err != nil || len(p.Steps) != 1 || p.Steps[0].Change != "delete" || p.Outlook == nil {
		t.Fatalf("%+v %v", p, err)
	}
	id := r.keeps(p)
	deployment, err := r.Runner.Start(t.Context(), id, "wren")
	must(t, err)
	r.ended(deployment, store.Succeeded)
	if drift, err := r.Planner.Drift(t.Context(), at); err != nil || len(drift) > 0 {
		t.Errorf("it is still there: %+v %v", drift, err)
	}
	if _, err := r.Runner.Start(t.Context(), id, "wren"); !errors.Is(err, deploy.ErrOutOfDate) {
		t.Errorf("it was removed twice: %v", err)
	}
}

// A plan names the files behind a new archive: new, changed and deleted ones, of each function with another
// archive, and of no other.
func TestChangedFilesAreNamed(t *testing.T) {
	r := newRig(t)
	files := first()
	files["a/gone.py"] = "GONE = True\n"
	r.push(files)
	r.reaches(1, "trial", delivery.Settled)
	files["a/gone.py"] = "" // deleted
	files["a/main.py"], files["a/new.py"] = "def run(call):\n    return 'a'\n", "NEW = True\n"
	r.push(files)
	r.reaches(2, "trial", delivery.Settled)
	p, err := r.Planner.Foresee(t.Context(), deploy.Request{Place: place("trial", "north"), Version: 1})
	must(t, err)
	var named []string
	for _, s := range p.Steps {
		for _, c := range s.Because {
			named = append(named, c.Files...)
		}
		if s.Function != "a" {
			t.Errorf("%s is changed", s.Address)
		}
	}
	if got := strings.Join(named, " "); got != "gone.py main.py new.py" {
		t.Errorf("it is said that these changed: %s", got)
	}
}

// byHand changes the owner of an identity in trial, outside Rudmar.
func byHand(r *rig, address, owner string) {
	r.Helper()
	_, scope := r.reach(place("trial", "north"))
	if _, err := r.platform.Put(r.Context(), scope, address,
		platform.Change{Key: owner + address, Attributes: map[string]any{"owner": owner}}); err != nil {
		r.Fatal(err)
	}
}

// An outdated plan names the cause: the outside change.
func TestOutdatedPlanNamesTheCause(t *testing.T) {
	r := newRig(t)
	r.push(first())
	r.reaches(1, "trial", delivery.Settled)
	overtaken := func(id int64, want string) {
		t.Helper()
		err := r.Runner.Check(t.Context(), id)
		if want == "" && err != nil || want != "" && (!errors.Is(err, deploy.ErrOutOfDate) || !strings.Contains(err.Error(), want)) {
			t.Errorf("%v, not %q", err, want)
		}
	}
	byHand(r, "identity/a", "somebody")
	one := r.planned(1)
	overtaken(one, "")
	byHand(r, "identity/b", "somebody")
	overtaken(one, "the actual state changed since then (identity/b)")
	byHand(r, "identity/a", "somebody else")
	overtaken(one, "the actual state changed since then (identity/a, identity/b)")
	both := r.planned(1)
	byHand(r, "identity/a", "growers") // as it should be
	overtaken(both, "the actual state changed since then (identity/a)")
	none := r.planned(1)
	id, err := r.Runner.Start(t.Context(), none, "wren")
	must(t, err)
	r.ended(id, store.Succeeded)
	overtaken(none, "another deployment ran since then")
	overtaken(one, "another deployment ran since then")
	if err := r.Runner.Check(t.Context(), 4711); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("no plan: %v", err)
	}
}

// What is left in a place is no step of its plans until its time is over; then it is
// drift again.
func TestDriftIgnoredUntil(t *testing.T) {
	r := newRig(t)
	r.push(first())
	r.reaches(1, "trial", delivery.Settled)
	at := place("trial", "north")
	byHand(r, "identity/a", "somebody")
	steps := func() int {
		t.Helper()
		p, err := r.Planner.Compute(t.Context(), at, 1)
		must(t, err)
		return len(p.Steps)
	}
	if n := steps(); n != 1 {
		t.Fatalf("%d steps", n)
	}
	means := func() string {
		t.Helper()
		m, err := r.Line.ImpactOf(t.Context(), at.Service, "trial", 1)
		must(t, err)
		return strings.Join(m.Lines, "; ")
	}
	if said := means(); !strings.Contains(said, `"kind":"restore","subject":"identity/a"`) {
		t.Errorf("before anything is left it means %s", said)
	}
	left := plan.IgnoredDrift{Address: "identity/a", Attribute: "owner", Actual: "somebody", Person: "wren", Reason: "harvest",
		Until: r.Store.Now().Add(time.Hour).UnixMilli()}
	must(t, r.Store.IgnoreDrift(t.Context(), at, left))
	if n := steps(); n != 0 {
		t.Errorf("what is left makes %d steps", n)
	}
	if said := means(); said != "" {
		t.Errorf("what is left means %s", said)
	}
	r.until("the look to say that it is left", func() bool {
		looks, err := r.Watch.Observations(t.Context(), at.Service)
		drift := looks[at].Drift
		return err == nil && len(drift) == 1 && !drift[0].Open() && drift[0].Attributes[0].Left.Reason == "harvest"
	})
	left.Until = 1
	must(t, r.Store.IgnoreDrift(t.Context(), at, left))
	if n := steps(); n != 1 {
		t.Errorf("what was left until long ago makes %d steps", n)
	}
	if err := r.Store.Unignore(t.Context(), at, "identity/a", "owner", "wren"); err != nil {
		t.Error(err)
	}
	if err := r.Store.Unignore(t.Context(), at, "identity/a", "owner", "wren"); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("twice: %v", err)
	}
	entries, err := r.Store.Journal(t.Context(), at.Service, store.Part{Limit: 50}, store.Entry{})
	if err != nil || !slices.ContainsFunc(entries, func(e store.Entry) bool {
		return e.Person == "wren" && strings.Contains(e.What, "drift ignored") && strings.Contains(e.Text, "harvest")
	}) {
		t.Errorf("the journal does not say that it was left: %v %v", entries, err)
	}
}

// An uncommitted edit is planned against the deployed state, with code that is not built yet.
func TestPlanOfEdits(t *testing.T) {
	r := newRig(t)
	files := first()
	r.push(files)
	r.reaches(1, "trial", delivery.Settled)
	at := place("trial", "north")
	own, _, err := r.Planner.Service(t.Context(), at.Service, 1)
	must(t, err)
	for _, tt := range []struct {
		code map[string][]string
		want string
	}{
		{map[string][]string{}, ""},
		{map[string][]string{"a": {"a/main.py"}}, "replace revision/a, update pointer/a"},
	} {
		p, err := r.Planner.DraftPlan(t.Context(), deploy.Draft{Place: at, Version: 1, Service: own, Code: tt.code})
		must(t, err)
		var steps []string
		for _, s := range p.Steps {
			steps = append(steps, string(s.Change)+" "+s.Address)
		}
		slices.Sort(steps)
		if got := strings.Join(steps, ", "); got != tt.want || !p.Draft {
			t.Errorf("%v: %s, draft %v", tt.code, got, p.Draft)
		}
	}
}

// The plan of a folder includes the differences of git from the newest version, and edits on top of that: also
// new and deleted files.
func TestPlanOfAFolder(t *testing.T) {
	r := newRig(t)
	r.push(first())
	r.reaches(1, "trial", delivery.Settled)
	at := place("trial", "north")
	own, _, err := r.Planner.Service(t.Context(), at.Service, 1)
	must(t, err)
	_, folder, err := r.Engine.Source(t.Context(), at.Service, "main")
	must(t, err)
	text := []byte("# thaw\n")
	for _, tt := range []struct {
		changed map[string][]byte
		want    []string // functions
	}{
		{nil, []string{}},
		{map[string][]byte{"a/main.py": text}, []string{"a"}},
		{map[string][]byte{"b/more.py": text}, []string{"b"}},
		{map[string][]byte{"a/main.py": nil, "b/more.py": text}, []string{"a", "b"}},
		{map[string][]byte{"notes.txt": text}, []string{}},
	} {
		p, err := r.Branches.DraftPlan(t.Context(), at, own, manifest.Overlay{Under: folder, Changed: tt.changed})
		must(t, err)
		if got := p.Functions(); !slices.Equal(got, tt.want) || !p.Draft {
			t.Errorf("%v: %v, draft %v", tt.changed, got, p.Draft)
		}
	}
	at.Service = "orchard"
	if _, err := r.Branches.DraftPlan(t.Context(), at, own, manifest.Overlay{Under: folder}); !errors.Is(err, branches.ErrNothing) {
		t.Errorf("with nothing to compare it with: %v", err)
	}
}
