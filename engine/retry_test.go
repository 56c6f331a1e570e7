package engine_test

import (
	"errors"
	"net/http"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"rudmar/core/delivery"
	"rudmar/engine"
	"rudmar/engine/deliver"
	"rudmar/engine/deploy"
	"rudmar/engine/store"
)

// A deployment without executed steps says so, and can be retried, until another one follows. A plan with a
// blocker is not started.
func TestEmptyPlan(t *testing.T) {
	r := newRig(t)
	r.spoilWith(func(w http.ResponseWriter, q *http.Request, next http.Handler) {
		if strings.Contains(q.URL.Path, "/resources/") && q.Method == http.MethodPut {
			http.Error(w, `{"type":"about:blank","title":"Quota","status":403,"detail":"the quota is used up"}`, http.StatusForbidden)
			return
		}
		next.ServeHTTP(w, q)
	})
	r.push(first())
	stopped := r.reaches(1, "trial", delivery.Failed)
	one := r.ended(stopped.Deployments[0], store.Failed)
	if !strings.Contains(one.Reason, "the quota is used up") {
		t.Errorf("why: %s", one.Reason)
	}
	if d, err := r.Store.Stage(t.Context(), place("trial", "north")); err != nil || d.Version != 0 {
		t.Errorf("there is version %d: %v", d.Version, err)
	}
	r.spoilWith(nil)
	two, err := r.Runner.Start(t.Context(), r.planned(1), "wren")
	must(t, err)
	r.ended(two, store.Succeeded)
	if err := r.Runner.Retry(t.Context(), one.ID, "wren"); !errors.Is(err, deploy.ErrNotOpen) || !strings.Contains(err.Error(), "is newer") {
		t.Errorf("going on with what another one came after: %v", err)
	}
	r.reaches(1, "trial", delivery.Settled) // it continues by the manual deployment

	files := map[string]string{"a/function.yaml": fn("a", "env: {KEY: \"${secrets.key}\"}\n")}
	r.push(files)
	r.reaches(2, "trial", delivery.Failed)
	p, err := r.Planner.Compute(t.Context(), place("trial", "north"), 2)
	if err != nil || len(p.Blockers) != 1 {
		t.Fatalf("%+v %v", p, err)
	}
	if _, err := r.Runner.Start(t.Context(), r.keeps(p), "wren"); !errors.Is(err, deploy.ErrStopped) || !strings.Contains(err.Error(), "has no value in trial") {
		t.Errorf("a plan with a problem: %v", err)
	}
}

// A waiting version is evaluated again as soon as its place can be planned, and not only later: its clock
// stands still here.
func TestFailedPlanIsRetried(t *testing.T) {
	var frozen atomic.Pointer[time.Time]
	r := newRigWith(t, func(o *engine.Options) {
		o.ObserveEvery = time.Hour // no observation reports it
		o.Now = func() time.Time {
			if at := frozen.Load(); at != nil {
				return *at
			}
			return time.Now()
		}
	})
	files := first()
	files["rudmar.yaml"] = strings.Replace(root, `, rules: {few: "plan.deletes.size() == 0"}`, "", 1)
	r.push(files)
	r.reaches(1, "trial", delivery.Settled)
	r.approves(1, "live")
	waits := func(says string) { // "" if healthy
		t.Helper()
		r.until("version 1 waits as it should", func() bool {
			all, err := r.Line.GateResults(t.Context(), "frostline", 0)
			must(t, err)
			for _, g := range all[deliver.Key{Version: 1, Stage: "live"}].Gates {
				if g.Kind == delivery.ApprovalsGate {
					return strings.HasPrefix(g.Reason, "approved by linden") && strings.Contains(g.Reason, "out of order") == (says != "")
				}
			}
			return false
		})
	}
	waits("")
	r.spoilWith(func(w http.ResponseWriter, q *http.Request, next http.Handler) {
		if strings.Contains(q.URL.Path, "/coast/") {
			http.Error(w, `{"type":"about:blank","title":"x","status":500,"detail":"out of order"}`, http.StatusInternalServerError)
			return
		}
		next.ServeHTTP(w, q)
	})
	r.Line.Changed("frostline")
	waits("out of order")
	now := time.Now()
	frozen.Store(&now)
	r.spoilWith(nil)
	waits("")
}
