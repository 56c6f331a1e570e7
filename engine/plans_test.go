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
	"rudmar/engine"
	"rudmar/engine/branches"
	"rudmar/engine/deploy"
	"rudmar/engine/notice"
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

// Ignored drift of a place is no step of its plans until its time is over; then it is drift again. One notification
// reports that it began, and one that it is over. A refresh reads the platform, long before it is read again.
func TestDriftIgnoredUntil(t *testing.T) {
	r := newRigWith(t, func(o *engine.Options) { o.NotificationsInside, o.ObserveEvery = true, time.Hour })
	receiver := newReceiver(t, func(int) int { return 204 })
	_, err := r.Notifications.Add(t.Context(), notice.NewTarget{Name: "board", URL: receiver.server.URL, Kinds: []string{"drift."}}, "k", "wren")
	must(t, err)
	r.push(first())
	r.reaches(1, "trial", delivery.Settled)
	at := place("trial", "north")
	observed := func() []plan.Drift {
		t.Helper()
		must(t, r.Watch.Refresh(t.Context(), at.Service, ""))
		looks, err := r.Watch.Observations(t.Context(), at.Service)
		must(t, err)
		return looks[at].Drift
	}
	if drift := observed(); len(drift) > 0 {
		t.Errorf("right after the deployment: %+v", drift)
	}
	byHand(r, "identity/a", "somebody")
	if drift := observed(); len(drift) != 1 || !drift[0].Open() {
		t.Errorf("right after the change: %+v", drift)
	}
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
	if drift := observed(); len(drift) != 1 || drift[0].Open() || drift[0].Attributes[0].Left.Reason != "harvest" {
		t.Errorf("ignored: %+v", drift)
	}
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
	entries, err := r.Store.Journal(t.Context(), at.Service, true, store.Part{Limit: 50}, store.Entry{})
	if err != nil || !slices.ContainsFunc(entries, func(e store.Entry) bool {
		return e.Person == "wren" && strings.Contains(e.What, "drift ignored") && strings.Contains(e.Text, "harvest")
	}) {
		t.Errorf("the journal does not say that it was left: %v %v", entries, err)
	}
	p, err := r.Planner.Compute(t.Context(), at, 1)
	must(t, err)
	id, err := r.Runner.Start(t.Context(), r.keeps(p), "wren")
	must(t, err)
	r.ended(id, store.Succeeded)
	if drift := observed(); len(drift) > 0 {
		t.Errorf("right after it was reverted: %+v", drift)
	}
	r.until("both notifications", func() bool { return receiver.count() >= 2 })
	for i, want := range []string{
		`"change":"changed","changes":[{"resource":"identity/a","attribute":"owner","before":"cold-nights","after":"somebody"}],"service":"frostline","stage":"trial","target":"local/north","text":"changed outside Rudmar in trial on local/north: identity/a: owner cold-nights → somebody"},`,
		`"text":"drift is over in trial on local/north: identity/a owner"},`} {
		if !strings.Contains(receiver.bodies[i], want) || receiver.count() != 2 {
			t.Errorf("%d notifications: %s\nwant %s", receiver.count(), receiver.bodies[i], want)
		}
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

// A deletion names the version that dropped the resource, also when a later one is planned, or an earlier one.
func TestDeletionNamesItsVersion(t *testing.T) {
	r := newRig(t)
	r.push(first())
	r.actual()
	r.push(map[string]string{"a/cases/works.yaml": "", "b/function.yaml": "", "b/main.py": "", "a/function.yaml": "function: a\nhandler: main:run\ntriggers: {other: {route: GET /other, open_to: anyone}}\n"})
	r.push(map[string]string{"a/main.py": "def run(call): return 'third'\n"})
	r.push(map[string]string{"a/function.yaml": fn("a", "")})
	r.reaches(4, "trial", delivery.Settled)
	for _, c := range []struct {
		stage   string
		version int
		address string
		want    string
	}{
		{"live", 3, "function/b", "version 2 removed function b"}, {"live", 3, "route/a/ask", "version 2 no longer declares it"},
		{"live", 4, "function/b", "version 2 removed function b"}, {"trial", 3, "route/a/ask", "version 3 does not declare it"},
	} {
		p, err := r.Planner.Compute(t.Context(), place(c.stage, "north"), c.version)
		must(t, err)
		if at := slices.IndexFunc(p.Steps, func(s plan.Step) bool { return s.Address == c.address }); at < 0 ||
			p.Steps[at].Because[0].Text != c.want {
			t.Errorf("%s of version %d: %+v", c.address, c.version, p.Steps)
		}
	}
}
