package store_test

import (
	"context"
	"database/sql"
	"errors"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"rudmar/core/delivery"
	"rudmar/core/manifest"
	"rudmar/core/pack"
	"rudmar/core/plan"
	"rudmar/core/rights"
	"rudmar/engine/store"
)

// clock is a time that tests move on.
type clock struct {
	mu  sync.Mutex
	now time.Time
}

func (c *clock) Now() time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.now
}

func (c *clock) add(d time.Duration) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.now = c.now.Add(d)
}

func open(t *testing.T) (*store.Store, *clock, string) {
	t.Helper()
	c := &clock{now: time.UnixMilli(1_800_000_000_000)}
	dir := t.TempDir()
	s, err := store.Open(t.Context(), dir, c.Now)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	return s, c, dir
}

func must(t *testing.T, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

// write records steps of a deployment that is not cancelled.
func write(t *testing.T, s *store.Store, l store.Lease, id int64, ended []store.Outcome, begun []store.Intent) error {
	t.Helper()
	_, cancelled, err := s.WriteSteps(t.Context(), l, id, ended, begun)
	if cancelled {
		t.Error("it is cancelled")
	}
	return err
}

// withVersion adds a service and a version of it.
func withVersion(t *testing.T, s *store.Store, content string) int {
	t.Helper()
	ctx := t.Context()
	must(t, s.AddRepository(ctx, "brambleford", "wren"))
	must(t, s.AddService(ctx, store.Service{Name: "frostline", Repository: "brambleford", Dir: "frostline"}, true, "wren"))
	heads, err := s.Heads(ctx, "brambleford")
	must(t, err)
	if heads["main"] != content {
		must(t, s.RecordHead(ctx, store.Head{Repository: "brambleford", Branch: "main", Before: heads["main"], Hash: content,
			Builds: []store.Build{{Service: "frostline", Hash: content, Branch: "main", Person: "wren"}}}))
	}
	queued, err := s.QueuedBuilds(ctx)
	must(t, err)
	number, _, err := s.FinishBuild(ctx, store.Built{
		Build: queued[0],
		Version: store.Version{Service: "frostline", Hash: "abcdef0123", Author: "wren", Person: "wren", Content: content,
			Manifests: map[string]string{"rudmar.yaml": "x"}, CommittedAt: s.Now()},
		Functions: []store.VersionFunction{{Function: "warn", Digest: "sha256:" + content,
			Sources: "s" + content, Changed: true}},
		Artifacts: []store.Artifact{{Digest: "sha256:" + content, Bytes: 5,
			Listing: pack.Listing{{Path: "a.py", Mode: "0644"}}}},
		Attest: func(int) (store.Provenance, error) { return store.Provenance{Envelope: "e", Contents: "c"}, nil },
	})
	must(t, err)
	return number
}

func TestVersionsAreImmutable(t *testing.T) {
	s, _, dir := open(t)
	if one, two, again := withVersion(t, s, "a"), withVersion(t, s, "b"), withVersion(t, s, "a"); one != 1 ||
		two != 2 || again != 1 {
		t.Errorf("numbers %d, %d and, for the same content, %d", one, two, again)
	}
	v, err := s.Version(t.Context(), "frostline", 2)
	if err != nil || v.Manifests["rudmar.yaml"] != "x" || v.Author != "wren" {
		t.Errorf("%+v %v", v, err)
	}
	if digest, err := s.BuiltFrom(t.Context(), "sb"); digest != "sha256:b" || err != nil {
		t.Errorf("built from the same sources: %q %v", digest, err)
	}
	if digest, err := s.BuiltFrom(t.Context(), "never"); digest != "" || err != nil {
		t.Errorf("built from other sources: %q %v", digest, err)
	}
	changed, err := s.ChangedAfter(t.Context(), "frostline", 1)
	if err != nil || changed["warn"] != 1 {
		t.Errorf("changed after version 1: %v %v", changed, err)
	}
	if _, err := s.Version(t.Context(), "frostline", 9); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("a version that is not: %v", err)
	}
	// Even direct writes to the database file cannot change them.
	db, err := sql.Open("sqlite", filepath.Join(dir, "rudmar.db"))
	must(t, err)
	defer db.Close()
	must(t, s.Note(t.Context(), store.Entry{What: "something"}))
	run := &plan.Plan{Base: plan.Base{Place: manifest.Place{Service: "frostline"}}}
	id, err := s.AddPlan(t.Context(), "wren", run)
	must(t, err)
	_, err = s.AddDeployment(t.Context(), store.Begin{PlanID: id, Plan: run, Person: "wren"})
	must(t, err)
	for _, statement := range []string{
		"UPDATE versions SET author = 'nobody'", "DELETE FROM versions", "UPDATE version_functions SET digest = 'x'",
		"DELETE FROM version_functions",
		"UPDATE artifacts SET bytes = 1", "UPDATE plans SET body = '{}'", "DELETE FROM plans",
		"UPDATE journal SET text = ''", "DELETE FROM journal",
	} {
		if _, err := db.Exec(statement); err == nil {
			t.Errorf("%s was carried out", statement)
		}
	}
}

func TestLeases(t *testing.T) {
	s, c, _ := open(t)
	ctx := t.Context()
	at := manifest.PlaceOf("frostline", "trial", "local/north")
	first, err := s.TakeLease(ctx, at, "one", time.Minute)
	must(t, err)
	if _, err := s.TakeLease(ctx, at, "two", time.Minute); !errors.Is(err, store.ErrLease) {
		t.Errorf("a place that is taken: %v", err)
	}
	other := at
	other.Target = manifest.ParseTarget("local/coast")
	if _, err := s.TakeLease(ctx, other, "two", time.Minute); err != nil {
		t.Errorf("another target: %v", err)
	}
	c.add(50 * time.Second)
	must(t, s.RenewLease(ctx, first, time.Minute))
	c.add(50 * time.Second)
	if _, err := s.TakeLease(ctx, at, "two", time.Minute); !errors.Is(err, store.ErrLease) {
		t.Errorf("a lease that was renewed: %v", err)
	}
	c.add(time.Minute)
	second, err := s.TakeLease(ctx, at, "two", time.Minute)
	if err != nil || second.Fence <= first.Fence {
		t.Fatalf("a lease that ran out: %+v %v", second, err)
	}
	// Whoever lost the lease can write nothing any more.
	for name, err := range map[string]error{
		"renew": s.RenewLease(ctx, first, time.Minute), "begin": write(t, s, first, 1, nil, []store.Intent{{Step: &plan.Step{}, Key: "k"}}),
		"end": write(t, s, first, 1, []store.Outcome{{Step: &plan.Step{}}}, nil), "finish": s.EndDeployment(ctx, first, store.Deployment{}),
	} {
		if !errors.Is(err, store.ErrLease) {
			t.Errorf("%s with a lease that is lost: %v", name, err)
		}
	}
	must(t, s.EndLease(ctx, first)) // ends nothing: it is not the holder's
	if err := s.RenewLease(ctx, second, time.Minute); err != nil {
		t.Errorf("the second lease was ended by the first holder: %v", err)
	}
	must(t, s.EndLease(ctx, second))
	if _, err := s.TakeLease(ctx, at, "three", time.Minute); err != nil {
		t.Errorf("a place that was given free: %v", err)
	}
	must(t, s.DropLeases(ctx))
	if _, err := s.TakeLease(ctx, at, "four", time.Minute); err != nil {
		t.Errorf("after all leases were dropped: %v", err)
	}
}

// The outcome of a step and the record change together.
func TestDeliveries(t *testing.T) {
	s, c, _ := open(t)
	ctx := t.Context()
	version := withVersion(t, s, "a")
	must(t, s.StartDelivery(ctx, "frostline", version, []string{"trial", "live"}, nil))
	must(t, s.StartDelivery(ctx, "frostline", version, []string{"trial", "live"}, nil)) // once is enough
	rows, err := s.Deliveries(ctx, "frostline")
	if err != nil || len(rows) != 2 || rows[0].State != delivery.Waiting {
		t.Fatalf("%+v %v", rows, err)
	}
	d := rows[0]
	c.add(time.Minute)
	d.State, d.Deployments, d.Reason = delivery.Deploying, []int64{4, 5}, "because"
	must(t, s.MoveDeliveries(ctx, store.Move{From: delivery.Waiting, To: d, Person: "wren"}))
	if err := s.MoveDeliveries(ctx, store.Move{From: delivery.Waiting, To: d, Person: "linden"}); !errors.Is(err,
		store.ErrMoved) {
		t.Errorf("moved from where it is not any more: %v", err)
	}
	back, err := s.Delivery(ctx, "frostline", version, d.Stage)
	if err != nil || back.State != delivery.Deploying || len(back.Deployments) != 2 || !back.Since.Equal(c.Now()) {
		t.Errorf("%+v %v", back, err)
	}
	must(t, s.Request(ctx, "frostline", version, "live", "wren", nil, time.Time{}))
	must(t, s.Approve(ctx, "frostline", version, "live", store.Approval{Person: "linden", Comment: "yes"}))
	must(t, s.Approve(ctx, "frostline", version, "live", store.Approval{Person: "linden", Comment: "yes, again"}))
	approvals, err := s.Approvals(ctx, "frostline", version, "live")
	if err != nil || len(approvals) != 1 || approvals[0].Comment != "yes, again" {
		t.Errorf("%+v %v", approvals, err)
	}
	begun, err := s.BeginCase(ctx, d, store.CaseRun{Function: "warn", Name: "a"})
	must(t, err)
	must(t, s.EndCase(ctx, store.CaseRun{ID: begun, Passed: true, Body: "{}"}))
	from := d
	d.State = delivery.Planning
	must(t, s.MoveDeliveries(ctx, store.Move{From: from.State, To: d})) // the outcome of cases before is forgotten
	begun, err = s.BeginCase(ctx, d, store.CaseRun{Function: "warn", Name: "b"})
	must(t, err)
	again, err := s.BeginCase(ctx, d, store.CaseRun{ID: begun})
	if err != nil || again != begun {
		t.Errorf("a case that is begun again: %d, not %d: %v", again, begun, err)
	}
	must(t, s.EndCase(ctx, store.CaseRun{ID: begun, Body: "{}"}))
	runs, err := s.CaseRuns(ctx, "frostline", version, "trial")
	if err != nil || len(runs) != 1 || runs[0].Name != "b" || runs[0].Passed || !runs[0].Again || runs[0].Running {
		t.Errorf("%+v %v", runs, err)
	}
}

func TestPeopleSessionsAndSecrets(t *testing.T) {
	s, c, _ := open(t)
	ctx := t.Context()
	must(t, s.PutPerson(ctx, store.Person{Username: "wren", Granted: []rights.Grant{{Right: "author"}}, Groups: []string{"a", "b"}, Password: "x"}, "",
		"user created"))
	must(t, s.PutPerson(ctx, store.Person{Username: "wren", Granted: []rights.Grant{{Right: "reader"}}, Password: "y"}, "", "user created"))
	p, err := s.Person(ctx, "wren")
	if err != nil || p.Granted[0].Right != "reader" || len(p.Groups) != 0 {
		t.Errorf("%+v %v", p, err)
	}
	must(t, s.AddSession(ctx, "token", store.Session{Username: "wren", CSRF: "c", Until: c.Now().Add(time.Hour), Address: "192.0.2.1"}))
	c.add(2 * time.Hour)
	if _, err := s.Session(ctx, "token"); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("a session that ran out: %v", err)
	}
	withVersion(t, s, "a")
	must(t, s.PutSecret(ctx, "frostline", "live", store.Sealed{Name: "key", Value: []byte{1}}))
	must(t, s.PutSecret(ctx, "frostline", "live", store.Sealed{Name: "key", Value: []byte{2}}))
	secrets, err := s.Secrets(ctx, "frostline", "live")
	if err != nil || len(secrets) != 1 || secrets[0].Value[0] != 2 {
		t.Errorf("%+v %v", secrets, err)
	}
	if none, _ := s.Secrets(ctx, "frostline", "trial"); len(none) != 0 {
		t.Errorf("another stage has %v", none)
	}
}

func TestEventOrder(t *testing.T) {
	s, _, _ := open(t)
	ctx := t.Context()
	var group sync.WaitGroup
	for range 8 {
		group.Add(1)
		go func() {
			defer group.Done()
			for range 20 {
				if err := s.Publish(ctx, "frostline", store.TopicObservation, nil); err != nil {
					t.Error(err)
				}
			}
		}()
	}
	group.Wait()
	list, err := s.EventsAfter(ctx, 100, 500)
	if err != nil || len(list) != 60 {
		t.Fatalf("%d events %v", len(list), err)
	}
	for i, e := range list {
		if e.ID != int64(101+i) {
			t.Fatalf("event %d has the id %d", i, e.ID)
		}
	}
	if newest, err := s.NewestEvent(ctx); newest != 160 || err != nil {
		t.Errorf("newest %d %v", newest, err)
	}
}

func TestReopen(t *testing.T) {
	s, c, dir := open(t)
	withVersion(t, s, "a")
	head := store.Head{Repository: "brambleford", Branch: "main", Before: "a", Hash: "abc",
		Builds: []store.Build{{Service: "frostline", Hash: "abc", Branch: "main", Person: "wren"}}}
	must(t, s.RecordHead(t.Context(), head))
	if err := s.RecordHead(t.Context(), head); !errors.Is(err, store.ErrMoved) {
		t.Errorf("a head that was seen: %v", err)
	}
	must(t, s.Close())
	again, err := store.Open(context.Background(), dir, c.Now)
	must(t, err)
	defer again.Close()
	queued, err := again.QueuedBuilds(t.Context())
	if err != nil || len(queued) != 1 || queued[0].Hash != "abc" {
		t.Errorf("a build that waited: %+v %v", queued, err)
	}
	heads, err := again.Heads(t.Context(), "brambleford")
	if err != nil || heads["main"] != "abc" {
		t.Errorf("%v %v", heads, err)
	}
	queued[0].State, queued[0].Version = "succeeded", 1
	must(t, again.EndBuild(t.Context(), queued[0]))
	if err := again.EndBuild(t.Context(), queued[0]); !errors.Is(err, store.ErrMoved) {
		t.Errorf("a build that has ended: %v", err)
	}
	if b, err := again.BuildOf(t.Context(), "frostline", 1); err != nil || b.State != "succeeded" {
		t.Errorf("%+v %v", b, err)
	}
}
