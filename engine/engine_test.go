package engine_test

import (
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/url"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"golang.org/x/crypto/bcrypt"

	"rudmar/core/delivery"
	"rudmar/core/diagnostic"
	"rudmar/core/manifest"
	"rudmar/core/plan"
	"rudmar/core/rights"
	"rudmar/engine"
	"rudmar/engine/deliver"
	"rudmar/engine/deploy"
	"rudmar/engine/people"
	"rudmar/engine/source"
	"rudmar/engine/store"
	"rudmar/platform"
	"rudmar/platform/api"
	"rudmar/platform/local"
)

// rig is an engine over a local platform whose answers a test can spoil.
type rig struct {
	testing.TB
	*engine.Engine
	dir      string
	routes   string // the address of the platform's routes
	platform *platform.Client
	spoil    atomic.Pointer[func(w http.ResponseWriter, r *http.Request, next http.Handler)]
	most     atomic.Int64 // requests for resources concurrently
	head     string
	change   func(o *engine.Options)
}

// besides are the tests that run beside others: they wait much of their time.
var besides sync.Map

// beside runs a test in parallel, unless it changes shared state.
func beside(t testing.TB) {
	one, ok := t.(*testing.T)
	alone := func(part string) bool { return strings.Contains(t.Name(), part) }
	_, twice := besides.LoadOrStore(t.Name(), true)
	if ok && !twice && !slices.ContainsFunc([]string{"IsIsolated", "OfEachRuntime", "TestShift", "TestNotification", "ApprovedPlan", "/"}, alone) {
		one.Parallel()
	}
}

// must ends a test that cannot continue.
func must(t testing.TB, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

func newRig(t testing.TB) *rig {
	t.Helper()
	return newRigWith(t, func(*engine.Options) {})
}

func newRigWith(t testing.TB, change func(o *engine.Options)) *rig {
	t.Helper()
	beside(t)
	r := &rig{TB: t, dir: t.TempDir(), change: change}
	var p *local.Platform
	var inFlight atomic.Int64
	var next http.Handler // the platform's protocol
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		if strings.Contains(q.URL.Path, "/resources/") {
			if n := inFlight.Add(1); n > r.most.Load() {
				r.most.Store(n)
			}
			defer inFlight.Add(-1)
		}
		if spoil := r.spoil.Load(); spoil != nil {
			(*spoil)(w, q, next)
			return
		}
		next.ServeHTTP(w, q)
	}))
	routes := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		if spoil := r.spoil.Load(); spoil != nil {
			(*spoil)(w, q, p.Routes())
			return
		}
		p.Routes().ServeHTTP(w, q)
	}))
	r.routes = routes.URL
	log := slog.New(slog.DiscardHandler)
	var err error
	if p, err = local.Open(t.Context(),
		local.Options{Dir: r.dir + "/platform", Token: "t", RoutesAt: routes.URL, DataAt: server.URL,
			Log: log}); err != nil {
		t.Fatal(err)
	}
	next = p.Protocol()
	if r.platform, err = platform.NewClient(server.URL, "t"); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := r.Engine.Close(); err != nil {
			t.Error(err)
		}
		server.Close()
		routes.Close()
		if err := p.Close(); err != nil {
			t.Error(err)
		}
	})
	r.start()
	ctx := t.Context()
	must(t, r.CreateRepository(ctx, "brambleford", "wren"))
	r.add(people.NewUser{Username: "wren", Role: rights.Author})
	r.add(people.NewUser{Username: "linden", Role: rights.Approver, Groups: []string{"council"}})
	return r
}

// newRigAhead is newRig with a clock that can be put ahead, by nanoseconds.
func newRigAhead(t testing.TB) (*rig, *atomic.Int64) {
	t.Helper()
	var ahead atomic.Int64
	return newRigWith(t, func(o *engine.Options) {
		o.Now = func() time.Time { return time.Now().Add(time.Duration(ahead.Load())) }
	}), &ahead
}

// keeps stores a plan, so it can be executed, and returns its ID.
func (r *rig) keeps(p *plan.Plan) int64 {
	r.Helper()
	id, err := r.Store.AddPlan(r.Context(), "wren", p)
	must(r, err)
	return id
}

// reach returns the client and scope of a place.
func (r *rig) reach(p manifest.Place) (*platform.Client, platform.Scope) {
	r.Helper()
	client, scope, err := r.Planner.Platform(p)
	must(r, err)
	return client, scope
}

// planned keeps the plan of a version in trial.
func (r *rig) planned(version int) int64 {
	r.Helper()
	p, err := r.Planner.Compute(r.Context(), place("trial", "north"), version)
	must(r, err)
	return r.keeps(p)
}

// ended waits until a deployment is in a state, and returns it.
func (r *rig) ended(id int64, state string) store.Deployment {
	r.Helper()
	var d store.Deployment
	r.until("the deployment is "+state, func() bool {
		var err error
		d, err = r.Store.Deployment(r.Context(), id)
		return err == nil && d.State == state
	})
	return d
}

func (r *rig) add(w people.NewUser) {
	r.Helper()
	hash, err := bcrypt.GenerateFromPassword([]byte("orchard-at-dawn"), bcrypt.MinCost) // as quick as can be
	must(r, err)
	grants, err := w.Grants()
	must(r, err)
	p := store.Person{Username: w.Username, Granted: grants, Groups: w.Groups, Password: string(hash)}
	must(r, r.Store.PutPerson(r.Context(), p, "", "user created"))
}

// say is the command of a user who has seen a version's impact in a stage, and types the stage's name.
func (r *rig) say(username, stage string, version int) deliver.Command {
	r.Helper()
	m, err := r.Line.ImpactOf(r.Context(), "frostline", stage, version)
	must(r, err)
	return deliver.Command{By: r.person(username), Shown: m.Digest, Confirm: stage}
}

// gate returns the gate of a kind of a version that waits for a stage.
func (r *rig) gate(version int, stage, kind string) delivery.Gate {
	r.Helper()
	d, err := r.Store.Delivery(r.Context(), "frostline", version, stage)
	must(r, err)
	j, err := r.Line.Judge(r.Context(), d)
	must(r, err)
	for _, g := range j.Gates {
		if g.Kind == kind {
			return g
		}
	}
	return delivery.Gate{}
}

func (r *rig) start() {
	r.Helper()
	var err error
	o := engine.Options{Dir: r.dir, Self: "/bin/true", Platforms: map[string]*platform.Client{"local": r.platform},
		ObserveEvery: 50 * time.Millisecond, Log: slog.New(slog.DiscardHandler)}
	r.change(&o)
	r.Engine, err = engine.Open(r.Context(), o)
	must(r, err)
}

const root = `rudmar: 1
service: frostline
owner: cold-nights
secrets: [key]
stages:
  - {stage: trial, target: local/north, enter: {when: push}}
  - {stage: live, targets: [local/north, local/coast], enter: {after: trial, when: request}, gates: {approvals: {from: council}, rules: {few: "plan.deletes.size() == 0"}}}
`

func fn(name, extra string) string {
	return fmt.Sprintf("function: %s\nhandler: main:run\ntriggers: {ask: {route: GET /%s, open_to: anyone}}\n%s", name,
		name, extra)
}

// push commits files to main, as a push would.
func (r *rig) push(files map[string]string) {
	r.Helper()
	change := source.Change{Branch: "main", Base: r.head, Message: "a change", Author: "wren", Email: "w@x.invalid",
		Files: map[string][]byte{}}
	for name, text := range files {
		change.Files[name] = []byte(text)
		if text == "" {
			change.Files[name] = nil
		}
	}
	var err error
	if r.head, err = r.Host.Repository("brambleford").Apply(r.Context(), change); err == nil {
		err = r.Build.Pushed(r.Context(), "brambleford", "wren")
	}
	must(r, err)
}

func first() map[string]string {
	return map[string]string{
		"rudmar.yaml":     root,
		"a/function.yaml": fn("a", ""), "a/main.py": "def run(call): return 'a'\n",
		"b/function.yaml": fn("b", ""), "b/main.py": "def run(call): return 'b'\n",
		"a/cases/works.yaml": "case: it works\nsend: {route: GET /a}\nexpect: [status == 200, body == \"a\"]\n",
	}
}

// idle waits until no deployment runs any more.
func (r *rig) idle() {
	r.Helper()
	r.until("nothing is deployed", func() bool {
		list, err := r.Store.RunningDeployments(r.Context())
		return err == nil && len(list) == 0
	})
}

func (r *rig) reaches(version int, stage string, want delivery.State) store.Delivery {
	r.Helper()
	limit := time.Now().Add(4 * time.Minute)
	for {
		d, err := r.Store.Delivery(r.Context(), "frostline", version, stage)
		if err == nil && d.State == want {
			return d
		}
		if time.Now().After(limit) {
			r.Fatalf("version %d in %s is %s (%s), not %s: %v", version, stage, d.State, d.Reason, want, err)
		}
		time.Sleep(10 * time.Millisecond) // interval of checks of a condition
	}
}

func (r *rig) person(username string) store.Person {
	r.Helper()
	p, err := r.People.Person(r.Context(), username)
	must(r, err)
	return p
}

func place(stage, region string) manifest.Place {
	return manifest.Place{Service: "frostline", Stage: stage, Target: manifest.ParseTarget("local/" + region)}
}

func (r *rig) spoilWith(f func(w http.ResponseWriter, q *http.Request, next http.Handler)) {
	if f == nil {
		r.spoil.Store(nil)
		return
	}
	r.spoil.Store(&f)
}

// holdsAt delays a change of a resource at the platform until hold is closed; started is closed when it
// arrives.
func (r *rig) holdsAt(resource string) (begun <-chan struct{}, hold chan struct{}) {
	came, hold := make(chan struct{}), make(chan struct{})
	var once sync.Once
	r.spoilWith(func(w http.ResponseWriter, q *http.Request, next http.Handler) {
		if address(q) == resource {
			once.Do(func() { close(came) })
			select {
			case <-hold:
			case <-q.Context().Done():
				return
			}
		}
		next.ServeHTTP(w, q)
	})
	return came, hold
}

func address(q *http.Request) string {
	_, escaped, _ := strings.Cut(q.URL.EscapedPath(), "/resources/")
	text, _ := url.PathUnescape(escaped)
	return text
}

// A failed step stops its dependents; the others continue; a retry finishes it.
func TestRetryAfterFailedStep(t *testing.T) {
	r := newRig(t)
	r.spoilWith(func(w http.ResponseWriter, q *http.Request, next http.Handler) {
		if address(q) == "function/a" {
			http.Error(w, `{"type":"about:blank","title":"Quota","status":403,"detail":"the quota is used up"}`,
				http.StatusForbidden)
			return
		}
		next.ServeHTTP(w, q)
	})
	r.push(first())
	d := r.reaches(1, "trial", delivery.Failed)
	if !strings.Contains(d.Reason, "function/a: the quota is used up") {
		t.Errorf("why: %s", d.Reason)
	}
	deployment, err := r.Store.Deployment(t.Context(), d.Deployments[0])
	if err != nil || deployment.State != store.PartiallySucceeded {
		t.Fatalf("%+v %v", deployment, err)
	}
	steps, err := r.Store.Steps(t.Context(), deployment.ID)
	must(t, err)
	states := map[string]string{}
	for _, s := range steps {
		states[s.Address] = s.State
	}
	for address, want := range map[string]string{"identity/a": "succeeded", "function/a": "failed", "revision/a": "skipped",
		"route/a/ask": "skipped", "pointer/b": "succeeded", "route/b/ask": "succeeded"} {
		if states[address] != want {
			t.Errorf("%s is %s, want %s", address, states[address], want)
		}
	}
	r.spoilWith(nil)
	must(t, r.Runner.Retry(t.Context(), deployment.ID, "wren"))
	r.reaches(1, "trial", delivery.Settled)
	if err := r.Runner.Retry(t.Context(), deployment.ID, "wren"); !errors.Is(err, deploy.ErrNotOpen) {
		t.Errorf("going on with what is done: %v", err)
	}
	r.upToDate("trial", "north", 1)
}

// upToDate checks that the next plan has no step.
func (r *rig) upToDate(stage, region string, version int) {
	r.Helper()
	p, err := r.Planner.Compute(r.Context(), place(stage, region), version)
	if err != nil || !p.Empty() {
		r.Fatalf("the next plan of %s: %+v %v", stage, p, err)
	}
}

// Responses that get lost after the change took effect do no harm: the step is sent again with the same key.
func TestLostResponses(t *testing.T) {
	r := newRig(t)
	var mu sync.Mutex
	lost, keys := map[string]int{}, map[string]map[string]bool{}
	r.spoilWith(func(w http.ResponseWriter, q *http.Request, next http.Handler) {
		at := address(q)
		if at == "" {
			next.ServeHTTP(w, q)
			return
		}
		mu.Lock()
		if keys[at] == nil {
			keys[at] = map[string]bool{}
		}
		keys[at][q.Header.Get("Idempotency-Key")] = true
		lost[at]++
		first := lost[at] == 1
		mu.Unlock()
		if first {
			next.ServeHTTP(httptest.NewRecorder(), q) // it takes effect
			connection, _, err := http.NewResponseController(w).Hijack()
			if err == nil {
				connection.Close() // and the response is lost
			}
			return
		}
		next.ServeHTTP(w, q)
	})
	r.push(first())
	r.reaches(1, "trial", delivery.Settled)
	r.spoilWith(nil)
	for at, n := range lost {
		if n != 2 || len(keys[at]) != 1 {
			t.Errorf("%s was sent %d times with %d keys", at, n, len(keys[at]))
		}
	}
	r.upToDate("trial", "north", 1)
}

// The platform is unreachable during a deployment, for a while: the steps are sent until it is back.
func TestPlatformKilledDuringDeployment(t *testing.T) {
	r := newRig(t)
	var gone atomic.Int64
	r.spoilWith(func(w http.ResponseWriter, q *http.Request, next http.Handler) {
		if at := address(q); (at == "function/a" || gone.Load() > 0) && gone.Add(1) <= 25 {
			if connection, _, err := http.NewResponseController(w).Hijack(); err == nil {
				connection.Close()
			}
			return
		}
		next.ServeHTTP(w, q)
	})
	r.push(first())
	d := r.reaches(1, "trial", delivery.Settled)
	if gone.Load() < 25 {
		t.Errorf("only %d requests found it gone", gone.Load())
	}
	steps, err := r.Store.Steps(t.Context(), d.Deployments[0])
	must(t, err)
	for _, s := range steps {
		if s.State != store.StepSucceeded {
			t.Errorf("%s is %s", s.Address, s.State)
		}
	}
	r.upToDate("trial", "north", 1)
}

// Steps run concurrently as far as their needs allow, and 429 is obeyed.
func TestParallelAndThrottled(t *testing.T) {
	r := newRig(t)
	var throttled atomic.Int64
	r.spoilWith(func(w http.ResponseWriter, q *http.Request, next http.Handler) {
		if at := address(q); at != "" {
			if at == "identity/a" && throttled.Add(1) == 1 {
				w.Header().Set("Retry-After", "1")
				http.Error(w, `{"type":"about:blank","title":"Slow down","status":429,"detail":"slow down"}`,
					http.StatusTooManyRequests)
				return
			}
			time.Sleep(30 * time.Millisecond) // a slow platform
		}
		next.ServeHTTP(w, q)
	})
	r.push(first())
	r.reaches(1, "trial", delivery.Settled)
	if most := r.most.Load(); most < 2 || most > 8 {
		t.Errorf("%d steps at the same time", most)
	}
	if throttled.Load() != 2 {
		t.Errorf("identity/a was sent %d times", throttled.Load())
	}
}

// Asynchronous changes are followed: also if the response of a poll gets lost, and if an operation fails.
func TestAsynchronousOperations(t *testing.T) {
	r := newRig(t)
	var operations, asked atomic.Int64
	var refused atomic.Bool
	r.spoilWith(func(w http.ResponseWriter, q *http.Request, next http.Handler) {
		if at := address(q); at != "" {
			operations.Add(1)
			q.Header.Set("Prefer", "respond-async")
			if at == "pointer/a" && refused.CompareAndSwap(false, true) {
				q.Header.Set("If-Match", "another") // the operation will fail
			}
		}
		if strings.HasPrefix(q.URL.Path, "/operations/") && asked.Add(1) == 1 {
			w.Header().Set("Retry-After", "1")
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		next.ServeHTTP(w, q)
	})
	r.push(first())
	stopped := r.reaches(1, "trial", delivery.Failed)
	if !strings.Contains(stopped.Reason, "no longer exists") || operations.Load() < 3 || asked.Load() < 3 {
		t.Errorf("%q, %d operations, %d questions", stopped.Reason, operations.Load(), asked.Load())
	}
	must(t, r.Runner.Retry(t.Context(), stopped.Deployments[len(stopped.Deployments)-1], "wren"))
	r.reaches(1, "trial", delivery.Settled)
	r.spoilWith(nil)
	r.upToDate("trial", "north", 1)
}

// A cancelled deployment finishes the steps in flight and stops; one deployment at a time per place.
func TestCancelAndLease(t *testing.T) {
	r := newRig(t)
	begun, hold := r.holdsAt("identity/a")
	r.push(first())
	<-begun
	d := r.reaches(1, "trial", delivery.Deploying)
	if _, err := r.Runner.Start(t.Context(), r.planned(1), "wren"); !errors.Is(err, store.ErrLease) {
		t.Errorf("a second deployment at the same place: %v", err)
	}
	must(t, r.Runner.Cancel(t.Context(), d.Deployments[0]))
	close(hold)
	d = r.reaches(1, "trial", delivery.Failed)
	if !strings.Contains(d.Reason, "cancelled") {
		t.Errorf("why: %s", d.Reason)
	}
	r.spoilWith(nil)
	must(t, r.Line.Retry(t.Context(), "frostline", 1, "trial", r.person("wren")))
	r.reaches(1, "trial", delivery.Settled)
	r.upToDate("trial", "north", 1)
	// The platform knows the newest holder: later requests of an earlier one are rejected.
	late := platform.Change{Key: "late", Fence: time.Now().Add(-time.Minute).UnixMilli(), Attributes: map[string]any{"owner": "late"}}
	_, err := r.platform.Put(t.Context(), platform.Scope{Region: "north", Service: "frostline", Stage: "trial"}, "identity/a",
		late)
	if !platform.HasStatus(err, http.StatusPreconditionFailed) {
		t.Errorf("a change of a holder that was replaced: %v", err)
	}
	r.upToDate("trial", "north", 1)
}

// The engine is closed in the middle of a deployment; opened again, it continues.
func TestClosedDuringDeployment(t *testing.T) {
	r := newRig(t)
	begun, hold := r.holdsAt("function/b")
	r.push(first())
	<-begun
	must(t, r.Engine.Close())
	close(hold)
	r.start()
	r.reaches(1, "trial", delivery.Settled)
	r.upToDate("trial", "north", 1)
}

// Cancelled and then closed while a step is with the platform: opened again, it finds out the outcome of that
// step, and stops there.
func TestCancelledAndClosed(t *testing.T) {
	r := newRig(t)
	begun, hold := r.holdsAt("function/b")
	r.push(first())
	<-begun
	d := r.reaches(1, "trial", delivery.Deploying)
	must(t, r.Runner.Cancel(t.Context(), d.Deployments[0]))
	must(t, r.Engine.Close())
	close(hold)
	r.spoilWith(nil)
	r.start()
	d = r.reaches(1, "trial", delivery.Failed)
	steps, err := r.Store.Steps(t.Context(), d.Deployments[0])
	must(t, err)
	skipped := 0
	for _, s := range steps {
		switch {
		case s.State == store.StepSkipped:
			skipped++
		case s.State != store.StepSucceeded:
			t.Errorf("%s is %s in a deployment that has ended", s.Address, s.State)
		case s.Address == "function/b" && s.Attempts != 2:
			t.Errorf("function/b was sent %d times", s.Attempts)
		}
	}
	if skipped == 0 {
		t.Error("nothing was left out, though it was cancelled")
	}
	must(t, r.Line.Retry(t.Context(), "frostline", 1, "trial", r.person("wren")))
	r.reaches(1, "trial", delivery.Settled)
	r.upToDate("trial", "north", 1)
}

// Targets are deployed one after the other, or in parallel if the stage says so.
func TestParallelTargets(t *testing.T) {
	for order, together := range map[string]bool{"sequential": false, "parallel": true} {
		r := newRig(t)
		var mu sync.Mutex
		begun := map[string]time.Time{}
		held := make(chan struct{})
		r.spoilWith(func(w http.ResponseWriter, q *http.Request, next http.Handler) {
			region := strings.Split(strings.TrimPrefix(q.URL.Path, "/regions/"), "/")[0]
			if address(q) != "" {
				mu.Lock()
				if begun[region].IsZero() {
					begun[region] = time.Now()
				}
				mu.Unlock()
			}
			if address(q) == "pointer/a" && region == "north" {
				<-held
			}
			next.ServeHTTP(w, q)
		})
		files := first()
		files["rudmar.yaml"] = fmt.Sprintf("rudmar: 1\nservice: frostline\nowner: o\nstages: [{stage: trial, targets: [local/north, local/coast], target_order: %s, enter: {when: push}}]\n", order)
		r.push(files)
		both := func() bool {
			mu.Lock()
			defer mu.Unlock()
			return !begun["north"].IsZero() && !begun["coast"].IsZero()
		}
		if together {
			r.until("both to be at work", both)
		} else {
			r.until("the first to be at work", func() bool { mu.Lock(); defer mu.Unlock(); return !begun["north"].IsZero() })
			if both() {
				t.Error("the second began before the first was done")
			}
		}
		close(held)
		d := r.reaches(1, "trial", delivery.Settled)
		if len(d.Deployments) != 2 {
			t.Errorf("together %v: %d deployments", together, len(d.Deployments))
		}
		r.spoilWith(nil)
		r.upToDate("trial", "north", 1)
		r.upToDate("trial", "coast", 1)
	}
}

// With test_each, the cases run on each target before the next one is deployed; if they fail the version rolls
// back, and later targets are unchanged.
func TestTargetsWithCasesBetween(t *testing.T) {
	r := newRig(t)
	files := first()
	files["rudmar.yaml"] = "rudmar: 1\nservice: frostline\nowner: o\nstages: [{stage: trial, targets: [local/north, local/coast], target_order: test_each, enter: {when: push}}]\n"
	r.push(files)
	r.reaches(1, "trial", delivery.Settled)
	runs, err := r.Store.CaseRuns(t.Context(), "frostline", 1, "trial")
	begun := map[string]int64{}
	for _, run := range runs {
		begun[run.Target] = run.ID
	}
	if err != nil || len(runs) != 2 || begun["local/north"] == 0 || begun["local/coast"] < begun["local/north"] {
		t.Errorf("each case runs once a target, the first one's before the second's: %v %v", begun, err)
	}
	coast := func() string {
		t.Helper()
		snapshot, err := r.platform.Snapshot(t.Context(), platform.Scope{Region: "coast", Service: "frostline", Stage: "trial"})
		must(t, err)
		return snapshot.Fingerprint
	}
	before := coast()
	var touched atomic.Bool
	r.spoilWith(func(w http.ResponseWriter, q *http.Request, next http.Handler) {
		if q.Method != http.MethodGet && strings.HasPrefix(q.URL.Path, "/regions/coast/") && address(q) != "" {
			touched.Store(true)
		}
		next.ServeHTTP(w, q)
	})
	r.push(map[string]string{"a/main.py": "def run(call): return 'frozen'\n"})
	d := r.reaches(2, "trial", delivery.RolledBack)
	if len(d.Deployments) != 1 || !strings.Contains(d.Reason, "1 of 1 cases failed: it works") {
		t.Errorf("%+v", d)
	}
	if touched.Load() || coast() != before {
		t.Error("the second target was touched")
	}
	r.reaches(1, "trial", delivery.Settled)
	r.upToDate("trial", "north", 1)
	r.upToDate("trial", "coast", 1)
}

// Where it does not, all targets have a version before its cases run.
func TestTargetsWithoutCasesBetween(t *testing.T) {
	for word, deployments := range map[string]int{"": 2, "target_order: sequential, ": 2, "target_order: test_each, ": 1} {
		r := newRig(t)
		files := first()
		files["rudmar.yaml"] = "rudmar: 1\nservice: frostline\nowner: o\nstages: [{stage: trial, targets: [local/north, local/coast], " +
			word + "enter: {when: push}}]\n"
		files["a/main.py"] = "def run(call): return 'frozen'\n"
		r.push(files)
		d := r.reaches(1, "trial", delivery.Failed)
		if len(d.Deployments) != deployments || !strings.Contains(d.Reason, "cases failed: it works") {
			t.Errorf("%q: %d deployments: %s", word, len(d.Deployments), d.Reason)
		}
	}
}

func TestSeveralTargetsSecretsAndRules(t *testing.T) {
	r := newRig(t)
	files := first()
	files["a/function.yaml"] = fn("a", "env: {KEY: \"${secrets.key}\"}\n")
	files["a/main.py"] = "import os\ndef run(call): return os.environ['KEY'] if call.event.get('tell') else 'a'\n"
	knows := func(stage, region, value string) {
		t.Helper()
		inv, err := r.platform.Invoke(t.Context(), platform.Scope{Region: region, Service: "frostline", Stage: stage}, "a", "ask",
			api.Manual, map[string]any{"tell": true}, time.Minute)
		if err != nil || inv.Response != value {
			t.Errorf("in %s %s the function's secret is %v %v, not %s", stage, region, inv.Response, err, value)
		}
	}
	r.push(files)
	d := r.reaches(1, "trial", delivery.Failed)
	if !strings.Contains(d.Reason, `the secret "key" has no value in trial`) {
		t.Errorf("why: %s", d.Reason)
	}
	ahead := func() []string {
		judged, err := r.Line.GateResults(t.Context(), "frostline", 1)
		must(t, err)
		return judged[deliver.Key{Version: 1, Stage: "live"}].Stops
	}
	r.until("what live lacks to be told before anything waits there", func() bool {
		return len(ahead()) == 1 && strings.Contains(ahead()[0], `the secret "key" has no value in live`)
	})
	for _, stage := range []string{"trial", "live"} {
		must(t, r.People.SetSecret(t.Context(), "frostline", stage, "key", "hidden-"+stage, "wren"))
	}
	must(t, r.Line.Retry(t.Context(), "frostline", 1, "trial", r.person("wren")))
	r.reaches(1, "trial", delivery.Settled)
	r.until("nothing to be lacking", func() bool { return len(ahead()) == 0 })
	if err := r.Line.Approve(t.Context(), "frostline", 1, "live",
		r.say("wren", "live", 1)); !errors.Is(err, rights.ErrDenied) {
		t.Errorf("the author approves: %v", err)
	}
	r.asks(1, "live")
	r.approves(1, "live")
	if d := r.reaches(1, "live", delivery.Settled); len(d.Deployments) != 2 {
		t.Errorf("deployments: %v", d.Deployments)
	}
	r.upToDate("live", "north", 1)
	r.upToDate("live", "coast", 1)
	knows("trial", "north", "hidden-trial")
	knows("live", "north", "hidden-live")
	knows("live", "coast", "hidden-live")

	// A plan from before a secret was changed is out of date.
	for _, value := range []string{"second", "third"} {
		must(t, r.People.SetSecret(t.Context(), "frostline", "live", "key", value, "wren"))
		p, err := r.Planner.Compute(t.Context(), place("live", "north"), 1)
		if err != nil || len(p.Steps) == 0 {
			t.Fatalf("a new secret changes nothing: %v", err)
		}
		id := r.keeps(p)
		if value == "third" {
			if _, err := r.Runner.Start(t.Context(), id, "wren"); err != nil {
				t.Errorf("a plan with the newest secret: %v", err)
			}
			break
		}
		must(t, r.People.SetSecret(t.Context(), "frostline", "live", "key", "another", "wren"))
		if _, err := r.Runner.Start(t.Context(), id, "wren"); !errors.Is(err, deploy.ErrOutOfDate) ||
			!strings.Contains(err.Error(), "secret") {
			t.Errorf("a plan with an older secret: %v", err)
		}
	}
	r.idle()
	r.upToDate("live", "north", 1)
	knows("live", "north", "third")
	record, err := r.Store.Record(t.Context(), place("live", "coast"))
	if err != nil || strings.Contains(fmt.Sprint(record), "hidden-") {
		t.Errorf("the record shows a secret, or %v", err)
	}

	// A version with a delete is blocked by the rule.
	r.push(map[string]string{"b/function.yaml": "", "b/main.py": ""})
	r.reaches(2, "trial", delivery.Settled)
	if g := r.gate(2, "live", delivery.RuleGate); g.State != delivery.GateNotMet {
		t.Errorf("the rule: %+v", g)
	}
	if err := r.Line.RollBackTo(t.Context(), "frostline", 2, "live",
		r.say("wren", "live", 2)); !errors.Is(err, deliver.ErrNotThere) {
		t.Errorf("going back to what never was there: %v", err)
	}
}

// Unsupported features are reported before anything changes.
func TestProblemsStopAPlan(t *testing.T) {
	r := newRig(t)
	// While the platform does not respond, the check cannot report them.
	silent := func(w http.ResponseWriter, _ *http.Request, _ http.Handler) { w.WriteHeader(http.StatusTeapot) }
	r.spoil.Store(&silent)
	r.Checks.Offers(t.Context())
	r.spoil.Store(nil)
	files := first()
	files["a/function.yaml"] = fn("a",
		"permissions:\n  - {allow: [hang], resource: paintings/alerts}\n  - {allow: [paint], resource: tables/x}\n")
	files["b/function.yaml"] = "function: b\nhandler: main:run\nruntime: python\ntriggers: {hourly: {every: 1h}}\n"
	files["rudmar.yaml"] = strings.Replace(root, "local/north, enter: {when: push}", "local/moon, enter: {when: push}", 1)
	r.push(files)
	d := r.reaches(1, "trial", delivery.Failed)
	if len(d.Deployments) != 0 {
		t.Errorf("something was deployed: %v", d.Deployments)
	}
	p, err := r.Planner.Compute(t.Context(),
		manifest.Place{Service: "frostline", Stage: "trial", Target: manifest.ParseTarget("local/moon")}, 1)
	must(t, err)
	said := ""
	for _, problem := range p.Blockers {
		said += problem.Message + "\n"
	}
	for _, want := range []string{`no region "moon"`, `no resources of kind "paintings"`,
		"cannot paint tables/x: the verbs of tables are read, query, write, delete"} {
		if !strings.Contains(said, want) {
			t.Errorf("it is not said that %s:\n%s", want, said)
		}
	}
	if len(p.Blockers) != 3 {
		t.Errorf("more than that is said:\n%s", said)
	}
}

func TestFailedBuildsAreReported(t *testing.T) {
	r := newRig(t)
	files := first()
	files["a/huge.bin"] = strings.Repeat("x", 51<<20)
	r.push(files)
	limit := time.Now().Add(4 * time.Minute)
	for {
		b, err := r.Store.LatestBuild(t.Context(), "frostline")
		if err == nil && b.State == "failed" {
			if !strings.Contains(b.Reason, "building a: the archive exceeds the limit") || !strings.Contains(b.Reason, "build.exclude") {
				t.Errorf("why: %s", b.Reason)
			}
			break
		}
		if time.Now().After(limit) {
			t.Fatalf("the build is %s %v", b.State, err)
		}
		time.Sleep(10 * time.Millisecond) // interval of checks of a condition
	}
	r.push(map[string]string{"a/function.yaml": fn("a", "build: {exclude: [\"*.bin\"]}\n")})
	r.reaches(1, "trial", delivery.Settled)
}

// The same commit built in two installations results in the same digests.
func TestBuildsAreReproducible(t *testing.T) {
	var digests []string
	for range 2 {
		r := newRig(t)
		r.push(first())
		r.reaches(1, "trial", delivery.Settled)
		list, err := r.Store.VersionFunctions(t.Context(), "frostline", 1)
		must(t, err)
		text := ""
		for _, f := range list {
			a, err := r.Store.Artifact(t.Context(), f.Digest)
			must(t, err)
			text += f.Digest + " " + a.FileSHA256 + "\n"
			if archive, _, err := r.Build.Archive(f.Digest); err != nil || int64(len(archive)) != a.Bytes {
				t.Errorf("the archive of %s: %v", f.Function, err)
			}
		}
		digests = append(digests, text)
	}
	if digests[0] != digests[1] {
		t.Errorf("%s and\n%s", digests[0], digests[1])
	}
}

func TestEditing(t *testing.T) {
	r := newRig(t)
	r.push(first())
	r.reaches(1, "trial", delivery.Settled)
	wren := r.person("wren")
	edit := engine.Edit{Service: "frostline", Branch: "main", Base: r.head, Message: "m",
		Files: map[string][]byte{"a/function.yaml": []byte("function: a\n")}}
	var broken *engine.BrokenError
	if _, err := r.Commit(t.Context(), edit, wren); !errors.As(err, &broken) ||
		!slices.ContainsFunc(broken.Diagnostics,
			func(d diagnostic.Diagnostic) bool { return d.Code == diagnostic.CodeMissingKey }) {
		t.Errorf("a broken edit: %v", err)
	}
	edit.Files["a/function.yaml"] = []byte(fn("a", "description: better\n"))
	hash, err := r.Commit(t.Context(), edit, wren)
	must(t, err)
	r.reaches(2, "trial", delivery.Settled)
	var conflict *engine.ConflictError
	if _, err := r.Commit(t.Context(), edit, wren); !errors.As(err, &conflict) || conflict.Head != hash ||
		!strings.Contains(conflict.Theirs["a/function.yaml"], "better") {
		t.Errorf("an edit on an old commit: %v", err)
	}
	if _, _, err := r.Source(t.Context(), "nothing", "main"); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("a service that is not: %v", err)
	}
	if _, _, err := r.Source(t.Context(), "frostline", "nowhere"); !errors.Is(err, source.ErrNoCommit) {
		t.Errorf("a branch that is not: %v", err)
	}
}
