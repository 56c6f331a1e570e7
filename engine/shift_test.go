package engine_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"rudmar/core/delivery"
	"rudmar/core/rights"
	"rudmar/engine/deliver"
	"rudmar/engine/store"
	"rudmar/platform"
)

// shifted is a service whose only stage has a traffic shift.
func shifted(every, body string) map[string]string {
	return map[string]string{
		"rudmar.yaml": "rudmar: 1\nservice: frostline\nowner: cold-nights\nstages:\n" +
			"  - {stage: trial, target: local/north, enter: {when: push}, shift: {steps: [20%, 50%], every: " + every + "}}\n",
		// On a busy machine durations do not depend on the code.
		"a/function.yaml": fn("a", "objectives: {p95_under: 10s}\n"), "a/main.py": body,
	}
}

const (
	firstAnswer = "def run(call): return 'first'\n"
	goodAnswer  = "def run(call): return 'second'\n"
	badAnswer   = "import random\ndef run(call):\n    if random.random() < 0.5: raise ValueError('frozen')\n    return 'third'\n"
)

// traffic invokes a function until the test ends or stop is called, and counts the responses to invocations
// that started after a time.
func (r *rig) traffic(function string) (count func(since time.Time) map[string]int, stop func()) {
	ctx, cancel := context.WithCancel(r.Context())
	type answered struct {
		begun time.Time
		text  string
	}
	var mu sync.Mutex
	var answers []answered
	var group sync.WaitGroup
	for range 4 {
		group.Go(func() {
			for ctx.Err() == nil {
				begun := time.Now()
				inv, err := r.platform.Invoke(ctx, platform.Scope{Region: "north", Service: "frostline", Stage: "trial"}, function,
					"ask", "", map[string]any{}, time.Minute)
				text := fmt.Sprint(inv.Response)
				if err != nil {
					text = "no answer"
				} else if inv.Error != nil {
					text = "failed"
				}
				mu.Lock()
				answers = append(answers, answered{begun, text})
				mu.Unlock()
			}
		})
	}
	count = func(since time.Time) map[string]int {
		mu.Lock()
		defer mu.Unlock()
		out := map[string]int{}
		for _, a := range answers {
			if a.begun.After(since) {
				out[a.text]++
			}
		}
		return out
	}
	return count, func() { cancel(); group.Wait() }
}

func (r *rig) shift(version int) store.Shift {
	r.Helper()
	v, err := r.Store.Shift(r.Context(), "frostline", version, "trial")
	must(r, err)
	return v
}

// A regression rolls back automatically, by the judge's verdict, and soon receives no invocations; an equal
// version receives all of them.
func TestShiftAdvancesAndRollsBack(t *testing.T) {
	r := newRig(t)
	r.push(shifted("1s", firstAnswer))
	r.reaches(1, "trial", delivery.Settled)
	if _, err := r.Store.Shift(t.Context(), "frostline", 1, "trial"); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("the first version shifts: %v", err)
	}
	count, stop := r.traffic("a")
	defer stop()
	r.push(shifted("10m", goodAnswer)) // it enters by the standing rules, and its own apply from then on
	r.reaches(2, "trial", delivery.Settled)
	v := r.shift(2)
	if v.Active || len(v.Taken) != 2 || v.Taken[0].Share != 20 || v.Taken[1].Share != 50 || v.Before != 1 {
		t.Errorf("%+v", v)
	}
	if v.Verdict == nil || len(v.Verdict.Findings) != 1 || v.Verdict.Findings[0].New.Invocations == 0 || v.Verdict.Findings[0].Old.Invocations == 0 {
		t.Errorf("it was judged by nothing: %+v", v.Verdict)
	}
	shown := store.ShiftPoint{}
	for _, p := range v.Points {
		shown.New.Invocations += p.New.Invocations
		shown.Old.Invocations += p.Old.Invocations
	}
	if f := v.Verdict.Findings[0]; shown.New.Invocations != f.New.Invocations || shown.Old.Invocations != f.Old.Invocations {
		t.Errorf("%+v is shown of %+v", shown, f)
	}
	r.upToDate("trial", "north", 2)

	r.push(shifted("10m", badAnswer))
	gone := r.reaches(3, "trial", delivery.RolledBack)
	if !strings.Contains(gone.Reason, "invocations failed") || !strings.Contains(gone.Reason, "if both were equal") {
		t.Errorf("why: %s", gone.Reason)
	}
	since := time.Now()
	r.reaches(2, "trial", delivery.Settled)
	back := r.shift(3)
	if back.Active || back.Verdict.Findings[0].New.Invocations > back.Verdict.Findings[0].Old.Invocations {
		t.Errorf("%+v", back)
	}
	r.upToDate("trial", "north", 2)
	r.until("the version before answers", func() bool { return count(since)["second"] > 20 })
	if after := count(since); len(after) != 1 {
		t.Errorf("after it was rolled back it still answered: %v", after)
	}
	if standing, err := r.Store.Standing(t.Context(), "frostline"); err != nil || standing["trial"] != 2 {
		t.Errorf("%v: %v stands", err, standing)
	}
}

// Authorized people pause, resume and roll back a shift; the judge decides all the same.
func TestShiftByHand(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	r.push(shifted("10m", firstAnswer))
	r.reaches(1, "trial", delivery.Settled)
	r.push(shifted("10m", goodAnswer))
	r.reaches(2, "trial", delivery.Shifting)
	say := func(word, who string) error {
		return r.Line.Steer(ctx, "frostline", 2, "trial", word, r.person(who), "cold feet")
	}
	r.until("it has its first share", func() bool { return len(r.shift(2).Taken) == 1 })
	reader := r.person("wren")
	reader.Granted = []rights.Grant{{Right: rights.Reader}}
	if err := r.Line.Steer(ctx, "frostline", 2, "trial", deliver.Abort, reader, ""); !errors.Is(err, rights.ErrDenied) {
		t.Errorf("who may only look takes it back: %v", err)
	}
	if err := say("jump", "wren"); !errors.Is(err, delivery.ErrTransition) {
		t.Errorf("an unknown word: %v", err)
	}
	if err := say(deliver.Pause, "wren"); err != nil || r.shift(2).Held != "wren" {
		t.Errorf("%v: %+v", err, r.shift(2))
	}
	// In the middle of a shift nothing is drift, and a plan has nothing to do.
	p, err := r.Planner.Compute(ctx, place("trial", "north"), 2)
	if err != nil || len(p.Steps) != 0 {
		t.Errorf("%v: %+v", err, p.Steps)
	}
	if drift, err := r.Planner.Drift(ctx, place("trial", "north")); err != nil || len(drift) != 0 {
		t.Errorf("%v: %+v", err, drift)
	}
	// A change of shares does not revert outside changes: nobody approved that.
	scope := platform.Scope{Region: "north", Service: "frostline", Stage: "trial"}
	if _, err := r.platform.Put(ctx, scope, "identity/a", platform.Change{Key: "hand",
		Attributes: map[string]any{"owner": "somebody-else"}}); err != nil {
		t.Fatal(err)
	}
	must(t, say(deliver.Advance, "wren"))
	r.until("it has its second share", func() bool {
		v := r.shift(2)
		return len(v.Taken) == 2 && v.Taken[1].Share == 50
	})
	if drift, err := r.Planner.Drift(ctx, place("trial", "north")); err != nil || len(drift) != 1 {
		t.Errorf("moving calls put right what was changed outside Rudmar: %v %+v", err, drift)
	}
	// After a restart it continues from its last state.
	must(t, r.Engine.Close())
	r.start()
	if d := r.reaches(2, "trial", delivery.Shifting); d.Version != 2 || r.shift(2).Share() != 50 {
		t.Errorf("%+v", r.shift(2))
	}
	must(t, say(deliver.Abort, "wren"))
	gone := r.reaches(2, "trial", delivery.RolledBack)
	if gone.Reason != "rolled back by wren: cold feet" {
		t.Errorf("why: %s", gone.Reason)
	}
	r.reaches(1, "trial", delivery.Settled)
	r.upToDate("trial", "north", 1)
	if err := say(deliver.Abort, "wren"); !errors.Is(err, store.ErrMoved) {
		t.Errorf("what is over is taken back: %v", err)
	}
}

// A version without a shift whose cases fail rolls back too, without a person; the first of a stage has no
// predecessor and fails.
func TestFailedCasesRollBack(t *testing.T) {
	r := newRig(t)
	files := shifted("1m", firstAnswer)
	files["rudmar.yaml"] = strings.Replace(files["rudmar.yaml"], ", shift: {steps: [20%, 50%], every: 1m}", "", 1)
	wrong := "case: it is first\nsend: {route: GET /a}\nexpect: [body == \"first\"]\n"
	files["a/cases/works.yaml"] = strings.Replace(wrong, "first\"", "last\"", 1)
	var calls atomic.Int32
	r.spoilWith(func(w http.ResponseWriter, q *http.Request, next http.Handler) {
		if strings.HasSuffix(q.URL.Path, "/callers") {
			calls.Add(1)
		}
		next.ServeHTTP(w, q)
	})
	r.push(files)
	stopped := r.reaches(1, "trial", delivery.Failed)
	if !strings.Contains(stopped.Reason, "1 of 1 cases failed") || calls.Load() != 1 {
		t.Errorf("why: %s, after %d calls", stopped.Reason, calls.Load())
	}
	r.spoilWith(nil)
	files["a/cases/works.yaml"] = wrong
	r.push(files)
	r.reaches(2, "trial", delivery.Settled)
	files["a/main.py"] = goodAnswer
	var proving atomic.Bool // its invocations are newer than the deployment
	begun, hold := make(chan struct{}), make(chan struct{})
	var once sync.Once
	r.spoilWith(func(w http.ResponseWriter, q *http.Request, next http.Handler) {
		if strings.HasSuffix(q.URL.Path, "/callers") {
			proving.Store(true)
		}
		if address(q) == "pointer/a" && proving.Load() {
			once.Do(func() { close(begun) })
			<-hold
		}
		next.ServeHTTP(w, q)
	})
	r.push(files)
	<-begun
	if d, err := r.Store.Delivery(t.Context(), "frostline", 3, "trial"); err != nil || d.State != delivery.Testing {
		t.Errorf("before its calls are back it is %s: %v", d.State, err)
	}
	close(hold)
	gone := r.reaches(3, "trial", delivery.RolledBack)
	if !strings.Contains(gone.Reason, "1 of 1 cases failed: it is first") {
		t.Errorf("why: %s", gone.Reason)
	}
	d := r.reaches(2, "trial", delivery.Settled)
	if !strings.Contains(d.Reason, "1 case passed") {
		t.Errorf("the version before was not proved again: %s", d.Reason)
	}
	r.upToDate("trial", "north", 2)
	inv, err := r.platform.Invoke(t.Context(), platform.Scope{Region: "north", Service: "frostline", Stage: "trial"}, "a", "ask", "",
		map[string]any{}, time.Minute)
	if err != nil || inv.Response != "first" {
		t.Errorf("%v: it answers %v", err, inv.Response)
	}
}

// Invocations before the shift, also those in its first minute, are not compared.
func TestShiftLeavesOutEarlierInvocations(t *testing.T) {
	r := newRig(t)
	files := shifted("10m", "def run(call):\n    if call.event.get('frost'): raise ValueError('frozen')\n    return 'first'\n")
	files["b/function.yaml"], files["b/main.py"] = fn("b", ""), firstAnswer // it stays as it is
	r.push(files)
	r.reaches(1, "trial", delivery.Settled)
	for i := range 5 {
		for _, function := range []string{"a", "b"} {
			_, err := r.platform.Invoke(t.Context(), platform.Scope{Region: "north", Service: "frostline", Stage: "trial"}, function,
				"ask", "", map[string]any{"frost": i < 2}, time.Minute)
			must(t, err)
		}
	}
	files["a/main.py"] = goodAnswer
	r.push(files)
	r.until("it has begun", func() bool {
		v, err := r.Store.Shift(t.Context(), "frostline", 2, "trial")
		return err == nil && !v.Begun.IsZero()
	})
	v := r.shift(2)
	if len(v.Splits) != 1 {
		t.Fatalf("at the start of its step: %+v", v.Splits)
	}
	for of := range v.Splits[0] { // in its first minute, if they were in it
		if !strings.Contains(of, " a ") || len(v.Splits[0]) > 1 {
			t.Errorf("in the minute before it: %+v", v.Splits)
		}
	}
}

// Without traffic, each step of a shift lasts as long as it can, and says so.
func TestShiftWithoutTraffic(t *testing.T) {
	r := newRig(t)
	r.push(shifted("1s, at_most: 2s", firstAnswer))
	r.reaches(1, "trial", delivery.Settled)
	begun := time.Now()
	r.push(shifted("1s, at_most: 2s", goodAnswer))
	r.reaches(2, "trial", delivery.Settled)
	v := r.shift(2)
	if took := time.Since(begun); took < 4*time.Second || len(v.Taken) != 2 || !strings.Contains(v.Taken[1].Reason, "advances after the time limit of 2s (no changed function was invoked in this step)") {
		t.Errorf("after %s: %+v %+v", took, v.Taken, v.Verdict)
	}
}

// A shift executes the approved plan: shares in steps are not another plan. A step that the platform rejects
// stops it, with the reason, and it continues on request.
func TestApprovedShift(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	r.push(map[string]string{
		"rudmar.yaml": `rudmar: 1
service: frostline
owner: cold-nights
stages:
  - {stage: live, target: local/north, enter: {when: push}, gates: {approvals: {from: council}}, shift: {steps: [20%, 50%], every: 10m}}
`,
		"a/function.yaml": fn("a", ""), "a/main.py": firstAnswer,
	})
	agree := func(version int) {
		t.Helper()
		r.reaches(version, "live", delivery.Waiting)
		must(t, r.Line.Approve(ctx, "frostline", version, "live", r.say("linden", "live", version)))
	}
	agree(1)
	r.reaches(1, "live", delivery.Settled)
	r.push(map[string]string{"a/main.py": goodAnswer})
	agree(2)
	r.reaches(2, "live", delivery.Shifting)
	shift := func() store.Shift {
		t.Helper()
		v, err := r.Store.Shift(ctx, "frostline", 2, "live")
		must(t, err)
		return v
	}
	r.until("it has its first share", func() bool { return len(shift().Taken) == 1 })

	r.spoilWith(func(w http.ResponseWriter, q *http.Request, next http.Handler) {
		if address(q) == "pointer/a" {
			http.Error(w, `{"type":"about:blank","title":"No","status":403,"detail":"the calls are pinned"}`, http.StatusForbidden)
			return
		}
		next.ServeHTTP(w, q)
	})
	must(t, r.Line.Steer(ctx, "frostline", 2, "live", deliver.Advance, r.person("wren"), ""))
	stopped := r.reaches(2, "live", delivery.Failed)
	if !strings.Contains(stopped.Reason, "which moves the traffic") || !strings.Contains(stopped.Reason, "the calls are pinned") {
		t.Errorf("why: %s", stopped.Reason)
	}
	r.spoilWith(nil)
	must(t, r.Line.Retry(ctx, "frostline", 2, "live", r.person("wren")))
	r.until("it has its second share", func() bool { v := shift(); return len(v.Taken) == 2 && v.Taken[1].Share == 50 })
	must(t, r.Line.Steer(ctx, "frostline", 2, "live", deliver.Advance, r.person("wren"), ""))
	r.reaches(2, "live", delivery.Settled)
	r.upToDate("live", "north", 2)
	events, err := r.Store.EventsAfter(ctx, 0, 5000)
	must(t, err)
	var states []string
	for _, e := range events {
		var told struct {
			Version int
			State   string
		}
		if err := json.Unmarshal([]byte(e.Body), &told); e.Topic == store.TopicDelivery && told.Version == 2 && told.State != "" {
			states = append(states, told.State)
		} else if err != nil {
			t.Fatal(err)
		}
	}
	const want = "waiting waiting planning deploying shifting failed planning deploying shifting testing settled"
	if got := strings.Join(states, " "); got != want {
		t.Errorf("it went through %s, not %s", got, want)
	}
}

// A rollback to a version that was settled in the stage moves all traffic at once, by a deployment of pointers alone
// before anything else, past the steps of a shift. One to a version that never settled shifts like any new version.
func TestRollbackBypassesTheShift(t *testing.T) {
	r := newRig(t)
	settle := func(version int) {
		t.Helper()
		r.until("a step", func() bool {
			_ = r.Line.Steer(t.Context(), "frostline", version, "trial", deliver.Advance, r.person("wren"), "")
			d, err := r.Store.Delivery(t.Context(), "frostline", version, "trial")
			return err == nil && d.State == delivery.Settled
		})
	}
	r.push(shifted("10m", firstAnswer))
	r.reaches(1, "trial", delivery.Settled)
	r.push(shifted("10m", goodAnswer))
	settle(2)
	count, stop := r.traffic("a")
	must(t, r.Line.RollBackTo(t.Context(), "frostline", 1, "trial", r.say("wren", "trial", 1)))
	d := r.reaches(1, "trial", delivery.Settled)
	v, err := r.Store.Shift(t.Context(), "frostline", 1, "trial")
	must(t, err)
	one, err := r.Store.Deployment(t.Context(), v.Pointing["local/north"])
	must(t, err)
	if !v.Restores || len(v.Steps) > 0 || len(d.Deployments) != 1 || d.Deployments[0] <= one.ID || one.State != store.Succeeded {
		t.Errorf("%+v of %+v, %+v", d, v, one)
	}
	after := time.Now()
	r.until("responses", func() bool { return len(count(after)) > 0 })
	got, all := count(after), count(time.Time{})
	stop()
	if got["second"] > 0 || got["first"] == 0 || all["failed"]+all["no answer"] > 0 {
		t.Errorf("after the rollback: %v of %v", got, all)
	}
}
