package store_test

import (
	"context"
	"database/sql"
	"flag"
	"fmt"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"rudmar/core/delivery"
	"rudmar/core/manifest"
	"rudmar/core/pack"
	"rudmar/core/plan"
	"rudmar/core/resource"
	"rudmar/core/rights"
	"rudmar/dbtest"
	"rudmar/engine/store"
)

var update = flag.Bool("update", false, "write testdata/acts.txt anew")

// story simulates a service from its first push to its end. Values from one operation, such as an ID, are
// available to later ones.
func story(s *store.Store) []dbtest.Act {
	at := manifest.PlaceOf("frostline", "live", "local/north")
	head := func(before, hash string, builds ...store.Build) store.Head {
		return store.Head{Repository: "brambleford", Branch: "main", Before: before, Hash: hash, Person: "wren",
			Services: []string{"frostline"}, Builds: builds}
	}
	asked := func(hash string) store.Build {
		return store.Build{Service: "frostline", Hash: hash, Branch: "main", Person: "wren"}
	}
	built := func(ctx context.Context, content string, stages, removes []string) error {
		queued, err := s.QueuedBuilds(ctx)
		if err != nil || len(queued) == 0 {
			return fmt.Errorf("%d builds wait: %w", len(queued), err)
		}
		_, _, err = s.FinishBuild(ctx, store.Built{Build: queued[0],
			Version: store.Version{Service: "frostline", Hash: queued[0].Hash, Branch: "main", Author: "Wren", Person: "wren",
				Message: "a change", Content: content, Manifests: map[string]string{"rudmar.yaml": "x"}, CommittedAt: s.Now()},
			Functions: []store.VersionFunction{{Function: "warn", Digest: "sha256:" + content, Sources: "s" + content, Changed: true}},
			Artifacts: []store.Artifact{{Digest: "sha256:" + content, FileSHA256: "f", Bytes: 5, Listing: pack.Listing{}}},
			Attest: func(n int) (store.Provenance, error) {
				return store.Provenance{Envelope: fmt.Sprint(n), Contents: "c"}, nil
			},
			Stages: stages, Removes: removes})
		return err
	}
	moves := func(version int, stage string, to delivery.State, change func(d *store.Delivery)) func(ctx context.Context) error {
		return func(ctx context.Context) error {
			d, err := s.Delivery(ctx, "frostline", version, stage)
			if err != nil {
				return err
			}
			m := store.Move{From: d.State, To: d, Person: "linden"}
			m.To.State, m.To.Reason = to, ""
			if change != nil {
				change(&m.To)
			}
			return s.MoveDeliveries(ctx, m)
		}
	}
	steps := []plan.Step{
		{Index: 0, Address: "identity/warn", Kind: "identity", Function: "warn", Change: resource.Create, Want: map[string]any{"owner": "x"}},
		{Index: 1, Address: "logs/warn", Kind: "logs", Function: "warn", Change: resource.Create,
			Want: map[string]any{"retention": 5.0}, WantNeeds: []string{"identity/warn"}},
		{Index: 2, Address: "function/warn", Kind: "function", Function: "warn", Change: resource.Create, Want: map[string]any{"memory": 134217728.0, "timeout": 2000.0}},
		{Index: 3, Address: "revision/warn", Kind: "revision", Function: "warn", Change: resource.Create},
		{Index: 4, Address: "route/warn/a", Kind: "route", Function: "warn", Change: resource.Create},
	}
	renamed := plan.Step{Index: 0, Address: "logs/alert", Kind: "logs", Function: "alert", RenamedFrom: "warn", Change: resource.Update,
		Want: map[string]any{"retention": 5.0}, WantNeeds: []string{"identity/alert"}}
	var kept, deployment int64
	var lease store.Lease
	plans := func(version int, serial int64, steps []plan.Step) *plan.Plan {
		return &plan.Plan{Base: plan.Base{Place: at, Version: version, Serial: serial}, Steps: steps}
	}
	keeps := func(p *plan.Plan) func(ctx context.Context) error {
		return func(ctx context.Context) (err error) {
			kept, err = s.AddPlan(ctx, "wren", p)
			return err
		}
	}
	deploys := func(p *plan.Plan) func(ctx context.Context) error {
		return func(ctx context.Context) error {
			id, err := s.AddDeployment(ctx, store.Begin{PlanID: kept, Plan: p, Person: "wren", Holder: "me"})
			if err == nil {
				deployment = id
			}
			return err
		}
	}
	leases := func(ctx context.Context) (err error) {
		lease, err = s.TakeLease(ctx, at, "me", time.Minute)
		return err
	}
	writes := func(ended []store.Outcome, begun ...store.Intent) func(ctx context.Context) error {
		return func(ctx context.Context) error {
			_, _, err := s.WriteSteps(ctx, lease, deployment, ended, begun)
			return err
		}
	}
	ends := func(version int, state, why string) func(ctx context.Context) error {
		return func(ctx context.Context) error {
			return s.EndDeployment(ctx, lease, store.Deployment{ID: deployment, Place: at, Version: version, State: state, Reason: why, Person: "wren"})
		}
	}
	first := store.Delivery{Service: "frostline", Version: 1, Stage: "live"}
	second := store.Delivery{Service: "frostline", Version: 2, Stage: "live"}
	part := &delivery.Choice{Functions: []string{"warn"}, Kept: map[string]int{"watch": 1}}
	var hook, token int64
	steered := func(v *store.Shift) error { v.Held = "linden"; return nil }
	list := []struct {
		Name string
		Do   func(ctx context.Context) error
	}{
		{"a person is added", func(ctx context.Context) error {
			return s.PutPerson(ctx, store.Person{Username: "wren", Granted: []rights.Grant{{Right: "author"}}, Password: "x", Groups: []string{"growers"}}, "linden", "user created")
		}},
		{"a person signs in", func(ctx context.Context) error {
			return s.AddSession(ctx, "hash", store.Session{Username: "wren", CSRF: "c", Until: s.Now().Add(time.Hour), Address: "127.0.0.1"})
		}},
		{"a token is made", func(ctx context.Context) (err error) {
			token, err = s.AddToken(ctx, "th", store.Token{Username: "wren", Name: "nightly", Grants: []rights.Grant{{Right: "look"}, {Right: "run"}}, Until: s.Now().Add(time.Hour)})
			return err
		}},
		{"a token for a place is made", func(ctx context.Context) error {
			_, err := s.AddToken(ctx, "tp", store.Token{Username: "wren", Name: "live", Grants: []rights.Grant{{Right: "view", In: rights.Scope{Service: "frostline", Stage: "live"}}}, Until: s.Now().Add(time.Hour)})
			return err
		}},
		{"a token is used", func(ctx context.Context) error { return s.UsedToken(ctx, store.Token{ID: token}, "127.0.0.1") }},
		{"a repository is made", func(ctx context.Context) error { return s.AddRepository(ctx, "brambleford", "linden") }},
		{"a repository is made again", func(ctx context.Context) error { return s.AddRepository(ctx, "brambleford", "linden") }},
		{"another repository is made", func(ctx context.Context) error { return s.AddRepository(ctx, "canal", "linden") }},
		{"notifications are requested", func(ctx context.Context) (err error) {
			hook, err = s.CreateNotificationTarget(ctx, store.NotificationTarget{Name: "chat", URL: "https://chat.example/in", Sealed: []byte("k"), Person: "linden"})
			return err
		}},
		{"a service is made", func(ctx context.Context) error {
			return s.AddService(ctx, store.Service{Name: "frostline", Repository: "brambleford", Dir: "frostline"}, true, "wren")
		}},
		{"somebody pushes", func(ctx context.Context) error {
			return s.AddPush(ctx, store.Push{Repository: "brambleford", Branch: "main", Before: "0", After: "aaaaaaaaaaaaaa", Person: "wren"}, []string{"aaaaaaaaaaaaaa"})
		}},
		{"a head is seen", func(ctx context.Context) error {
			return s.RecordHead(ctx, head("", "aaaaaaaaaaaaaa", asked("aaaaaaaaaaaaaa")))
		}},
		{"a head is seen twice", func(ctx context.Context) error {
			return s.RecordHead(ctx, head("", "aaaaaaaaaaaaaa", asked("aaaaaaaaaaaaaa")))
		}},
		{"version 1 is built", func(ctx context.Context) error { return built(ctx, "one", []string{"trial", "live"}, nil) }},
		{"a branch is pushed that no stage takes", func(ctx context.Context) error {
			h := store.Head{Repository: "brambleford", Branch: "idea", Hash: "dddddddddddddd", Person: "wren", Services: []string{"frostline"}}
			h.Plans = []store.BranchPlan{{Service: "frostline", Branch: "idea", Hash: "dddddddddddddd", Person: "wren"}}
			return s.RecordHead(ctx, h)
		}},
		{"what it changes is told", func(ctx context.Context) error {
			list, err := s.QueuedBranches(ctx)
			if err != nil || len(list) != 1 {
				return fmt.Errorf("%+v: %w", list, err)
			}
			return s.EndBranchPlan(ctx, list[0], "live", "2 steps", []string{"it opens a route"})
		}},
		{"a secret is set", func(ctx context.Context) error {
			return s.PutSecret(ctx, "frostline", "live", store.Sealed{Name: "key", Value: []byte("v"), Person: "wren"})
		}},
		{"it was judged", func(ctx context.Context) error {
			return s.PutGateResults(ctx, "frostline", store.GateResults{Version: 1, Stage: "live", Body: "{}"})
		}},
		{"somebody looks", func(ctx context.Context) error { return s.RecordView(ctx, first, "linden") }},
		{"somebody looks again at once", func(ctx context.Context) error { return s.RecordView(ctx, first, "linden") }},
		{"somebody else looks", func(ctx context.Context) error { return s.RecordView(ctx, first, "wren") }},
		{"it is requested", func(ctx context.Context) error {
			return s.Request(ctx, "frostline", 1, "live", "wren", nil, time.Time{})
		}},
		{"a part is requested, later", func(ctx context.Context) error {
			return s.Request(ctx, "frostline", 1, "live", "wren", part, s.Now().Add(time.Hour))
		}},
		{"the part is another", func(ctx context.Context) error {
			d, err := s.Delivery(ctx, "frostline", 1, "live")
			if err != nil {
				return err
			}
			return s.UpdateChoice(ctx, d, &delivery.Choice{Functions: []string{"warn"}, Kept: map[string]int{"watch": 0}})
		}},
		{"it is approved", func(ctx context.Context) error {
			return s.Approve(ctx, "frostline", 1, "live", store.Approval{Person: "linden", Comment: "cold nights", Shown: []string{"create a"}})
		}},
		{"an approval is taken back", func(ctx context.Context) error { return s.WithdrawApproval(ctx, first, "linden") }},
		{"it is taken back twice", func(ctx context.Context) error { return s.WithdrawApproval(ctx, first, "linden") }},
		{"it is approved again", func(ctx context.Context) error {
			return s.Approve(ctx, "frostline", 1, "live", store.Approval{Person: "linden"})
		}},
		{"a gate is passed over", func(ctx context.Context) error {
			return s.Override(ctx, first, delivery.Override{Kind: "soak", Name: "soak", Person: "linden", Reason: "it is cold"})
		}},
		{"it enters", moves(1, "live", delivery.Planning, func(d *store.Delivery) { d.Agreed = []string{"create a"} })},
		{"it enters trial, too", moves(1, "trial", delivery.Planning, nil)},
		{"a plan is kept", keeps(plans(1, 0, steps))},
		{"a deployment is requested", deploys(plans(1, 0, steps))},
		{"another one at once", deploys(plans(1, 0, steps))},
		{"its place is taken", leases},
		{"it is started", func(ctx context.Context) error {
			return s.StartDeployment(ctx, store.Deployment{ID: deployment, Place: at})
		}},
		{"two steps begin", writes(nil, store.Intent{Step: &steps[0], Key: "k0"}, store.Intent{Step: &steps[1], Key: "k1"})},
		{"one is done, one fails", writes([]store.Outcome{{Step: &steps[0], Version: 1, Platform: map[string]any{"id": "i"}}, {Step: &steps[1], Version: 1, Error: "quota"}})},
		{"two more are done", writes([]store.Outcome{{Step: &steps[2], Version: 1}, {Step: &steps[3], Version: 1}})},
		{"the place is kept", func(ctx context.Context) error { return s.RenewLease(ctx, lease, time.Hour) }},
		{"it is partially-succeeded", ends(1, store.PartiallySucceeded, "logs/warn: quota")},
		{"it goes on", func(ctx context.Context) error {
			return s.Reopen(ctx, store.Deployment{ID: deployment, Place: at}, "linden", "me")
		}},
		{"its place is taken again", leases},
		{"the step begins again", writes(nil, store.Intent{Step: &steps[1], Key: "k2"})},
		{"one that was skipped is done", writes([]store.Outcome{{Step: &steps[4], Version: 1}})},
		{"it is cancelled", func(ctx context.Context) error { return s.Cancel(ctx, deployment) }},
		{"after that none begins but what was sent", writes(nil, store.Intent{Step: &steps[0], Key: "k3"},
			store.Intent{Step: &steps[1], Key: "k2", Again: true})},
		{"the step is done", writes([]store.Outcome{{Step: &steps[1], Version: 1}})},
		{"it is done", ends(1, store.Succeeded, "")},
		{"it is done twice", ends(1, store.Succeeded, "")},
		{"what is done is opened again", func(ctx context.Context) error {
			return s.Reopen(ctx, store.Deployment{ID: deployment, Place: at}, "linden", "me")
		}},
		{"it is deployed", moves(1, "live", delivery.Deploying, func(d *store.Delivery) { d.Deployments = []int64{deployment} })},
		{"it is proved", moves(1, "live", delivery.Testing, nil)},
		{"a case begins", func(ctx context.Context) error {
			_, err := s.BeginCase(ctx, first, store.CaseRun{Target: "local/north", Function: "warn", File: "a.yaml", Name: "it warns"})
			return err
		}},
		{"the case begins again", func(ctx context.Context) error {
			_, err := s.BeginCase(ctx, first, store.CaseRun{ID: 1})
			return err
		}},
		{"the case passes", func(ctx context.Context) error { return s.EndCase(ctx, store.CaseRun{ID: 1, Passed: true, Body: "{}"}) }},
		{"it has settled", moves(1, "live", delivery.Settled, func(d *store.Delivery) { d.Reason = "1 case passed" })},
		{"the rest follows", func(ctx context.Context) error { return s.Follow(ctx, first, "wren") }},
		{"the rest follows twice", func(ctx context.Context) error { return s.Follow(ctx, first, "wren") }},
		{"drift is found", func(ctx context.Context) error {
			return s.PutObservation(ctx, store.Observation{Place: at, Body: "{}"}, true,
				store.NewNotification{Kind: store.NoticeDrift, Text: "memory was changed", Data: map[string]any{"change": "changed"}})
		}},
		{"nothing else is found", func(ctx context.Context) error {
			return s.PutObservation(ctx, store.Observation{Place: at, Body: "{}"}, false)
		}},
		{"drift is left for a while", func(ctx context.Context) error {
			return s.IgnoreDrift(ctx, at, plan.IgnoredDrift{Address: "logs/warn", Attribute: "retention", Actual: 7.0, Reason: "audit", Person: "linden", Until: 1_900_000_000_000})
		}},
		{"drift is left for good", func(ctx context.Context) error {
			return s.IgnoreDrift(ctx, at, plan.IgnoredDrift{Address: "logs/warn", Attribute: "retention", Actual: 7.0, Reason: "audit", Person: "linden"})
		}},
		{"drift is left no more", func(ctx context.Context) error { return s.Unignore(ctx, at, "logs/warn", "retention", "linden") }},
		{"it is left no more twice", func(ctx context.Context) error { return s.Unignore(ctx, at, "logs/warn", "retention", "linden") }},
		{"version 2 is pushed", func(ctx context.Context) error {
			return s.RecordHead(ctx, head("aaaaaaaaaaaaaa", "bbbbbbbbbbbbbb", asked("bbbbbbbbbbbbbb")))
		}},
		{"version 2 is built", func(ctx context.Context) error { return built(ctx, "two", []string{"live"}, []string{"trial"}) }},
		{"the stage is removed", moves(2, "trial", delivery.Settled, func(d *store.Delivery) { d.Removes = true })},
		{"it comes in by shares", moves(2, "live", delivery.Shifting, nil)},
		{"version 1 would move beside it", moves(1, "live", delivery.Planning, nil)},
		{"its shift begins", func(ctx context.Context) error {
			return s.PutShift(ctx, store.Shift{Service: "frostline", Version: 2, Stage: "live", Active: true, Before: 1,
				Shift: delivery.Shift{Steps: []float64{20}, Every: time.Minute}})
		}},
		{"it is held", func(ctx context.Context) error { return s.ChangeShift(ctx, second, "linden", "shift: hold", steered) }},
		{"it is judged by what was read before", func(ctx context.Context) error {
			return s.JudgeShift(ctx, store.Shift{Service: "frostline", Version: 2, Stage: "live", Active: true})
		}},
		{"it was rolled back", moves(2, "live", delivery.RolledBack, func(d *store.Delivery) { d.Reason = "1 of 5 calls failed" })},
		{"it is held when it is over", func(ctx context.Context) error { return s.ChangeShift(ctx, second, "linden", "shift: hold", steered) }},
		{"a function is renamed: by an old plan", deploys(plans(2, 4, []plan.Step{renamed}))},
		{"a function is renamed: requested", deploys(plans(2, 5, []plan.Step{renamed}))},
		{"a function is renamed: taken", leases},
		{"a route is removed", writes([]store.Outcome{{Step: &plan.Step{Index: 1, Address: "route/warn/a", Kind: "route", Function: "warn", Change: resource.Delete}}})},
		{"a function is renamed", writes([]store.Outcome{{Step: &renamed, Version: 2}})},
		{"a function is renamed: done", ends(2, store.Succeeded, "")},
		{"version 1 is pushed again", func(ctx context.Context) error {
			return s.RecordHead(ctx, head("bbbbbbbbbbbbbb", "cccccccccccccc", asked("cccccccccccccc")))
		}},
		{"version 1 comes again", func(ctx context.Context) error { return built(ctx, "one", []string{"live"}, nil) }},
		{"a push that cannot be built", func(ctx context.Context) error {
			return s.RecordHead(ctx, head("cccccccccccccc", "eeeeeeeeeeeeee", asked("eeeeeeeeeeeeee")))
		}},
		{"its build fails", func(ctx context.Context) error {
			queued, err := s.QueuedBuilds(ctx)
			if err != nil || len(queued) == 0 {
				return fmt.Errorf("none waits: %w", err)
			}
			queued[0].State, queued[0].Reason = store.BuildFailed, "line 3: a colon is missing"
			return s.EndBuild(ctx, queued[0])
		}},
		{"a notice is sent", func(ctx context.Context) error {
			due, err := s.DueNotifications(ctx)
			if err != nil || len(due) == 0 {
				return fmt.Errorf("none is due: %w", err)
			}
			due[0].State, due[0].Attempts, due[0].Response = store.NotificationSent, 1, "204"
			return s.RecordAttempt(ctx, due[0])
		}},
		{"a notice is tried in vain", func(ctx context.Context) error {
			due, err := s.DueNotifications(ctx)
			if err != nil || len(due) == 0 {
				return fmt.Errorf("none is due: %w", err)
			}
			due[0].Attempts, due[0].Response, due[0].Due = 1, "503", s.Now().Add(time.Minute)
			return s.RecordAttempt(ctx, due[0])
		}},
		{"a notice is sent again", func(ctx context.Context) error { return s.RetryMessage(ctx, 1) }},
		{"it is sent again twice", func(ctx context.Context) error { return s.RetryMessage(ctx, 1) }},
		{"notices are ended", func(ctx context.Context) error {
			h, err := s.NotificationTarget(ctx, hook)
			if err != nil {
				return err
			}
			return s.DeleteNotificationTarget(ctx, h, "linden")
		}},
		{"a private copy is made", func(ctx context.Context) error { return s.PutCopy(ctx, store.Copy{Place: at, Username: "wren"}) }},
		{"it is used", func(ctx context.Context) error { return s.PutCopy(ctx, store.Copy{Place: at, Username: "wren"}) }},
		{"it is removed", func(ctx context.Context) error {
			return s.DropCopy(ctx, store.Copy{Place: at, Username: "wren"}, "linden", "nobody used it")
		}},
		{"a repository follows another", func(ctx context.Context) error {
			return s.PutMirror(ctx, store.Mirror{Repository: "canal", URL: "https://git.example/canal", User: "reader", Sealed: []byte("p"), Key: []byte("k"), Every: time.Minute, Person: "wren"})
		}},
		{"it cannot be followed", func(ctx context.Context) error { return s.RecordFetch(ctx, "canal", "it is unreachable") }},
		{"it is followed", func(ctx context.Context) error { return s.RecordFetch(ctx, "canal", "") }},
		{"it follows no more", func(ctx context.Context) error { return s.DeleteMirror(ctx, "canal", "wren") }},
		{"it follows no more twice", func(ctx context.Context) error { return s.DeleteMirror(ctx, "canal", "wren") }},
		{"a calendar is read", func(ctx context.Context) error {
			return s.PutCalendar(ctx, store.Calendar{Address: "https://cal.example/a", Text: "BEGIN"})
		}},
		{"unreadable", func(ctx context.Context) error {
			return s.PutCalendar(ctx, store.Calendar{Address: "https://cal.example/a", Error: "404"})
		}},
		{"a service is moved", func(ctx context.Context) error { return s.MoveService(ctx, "frostline", "canal", "linden") }},
		{"a service that runs is removed", func(ctx context.Context) error { return s.DeleteService(ctx, "frostline", "linden") }},
		{"a service is called otherwise", func(ctx context.Context) error { return s.RenamedTo(ctx, "frostline", "hoarfrost") }},
		{"secrets are forgotten", s.ClearSecrets},
		{"a token is ended", func(ctx context.Context) error { return s.RevokeToken(ctx, "wren", token) }},
		{"a person is closed", func(ctx context.Context) error {
			return s.PutPerson(ctx, store.Person{Username: "wren", Granted: []rights.Grant{{Right: "author"}}, Password: "x", Closed: true}, "linden", "user closed")
		}},
		{"a repository is removed", func(ctx context.Context) error { return s.DeleteRepository(ctx, "brambleford", "linden") }},
	}
	var out []dbtest.Act
	for _, a := range list {
		out = append(out, dbtest.Act(a))
	}
	return out
}

// acting opens a store with its operations, and its database file.
func acting(t *testing.T) dbtest.Stage {
	t.Helper()
	s, c, dir := open(t)
	db, err := sql.Open("sqlite", "file:"+filepath.Join(dir, "rudmar.db")+"?_pragma=busy_timeout(5000)")
	must(t, err)
	db.SetMaxOpenConns(1)
	t.Cleanup(func() { db.Close() })
	counted := regexp.MustCompile(`^(. (?:events|journal)) \d+`)
	return dbtest.Stage{Acts: story(s), DB: db, After: func() { c.add(time.Second) }, Mask: func(line string) string {
		now := c.Now()
		line = strings.NewReplacer(fmt.Sprint(now.UnixMilli()), "now", now.UTC().Format(time.RFC3339Nano), "now").Replace(line)
		return counted.ReplaceAllString(line, "$1") // so a further operation moves nothing after it
	}}
}

// TestWritesPerOperation compares the writes of each operation with testdata/acts.txt: rows, journal, events,
// and notifications.
func TestWritesPerOperation(t *testing.T) {
	dbtest.Held(t, acting(t), "testdata/acts.txt", *update)
}

// TestOperationsAreAtomic fails each operation at each table that it writes to.
func TestOperationsAreAtomic(t *testing.T) {
	if faults := dbtest.Whole(t, acting(t), acting(t)); faults < 150 {
		t.Errorf("only %d faults were tried", faults)
	}
}
