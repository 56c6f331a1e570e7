package engine_test

import (
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"rudmar/core/delivery"
	"rudmar/engine"
	"rudmar/engine/store"
)

// wantsKey are files with a function that wants a secret.
func wantsKey() map[string]string {
	files := first()
	files["a/function.yaml"] = fn("a", "env: {KEY: \"${secrets.key}\"}\n")
	return files
}

// TestFailedDeliveryResumes fails a delivery for a missing secret, and one for failing cases: the first
// continues once it is set, the other rolls back.
func TestFailedDeliveryResumes(t *testing.T) {
	r := newRig(t)
	r.push(wantsKey())
	if d := r.reaches(1, "trial", delivery.Failed); d.Missing != store.BlockedByPlan {
		t.Errorf("without a secret it misses %q", d.Missing)
	}
	must(t, r.People.SetSecret(t.Context(), "frostline", "trial", "key", "hidden", "wren"))
	r.Line.Changed("frostline")
	r.reaches(1, "trial", delivery.Settled)

	r.push(map[string]string{"a/main.py": "def run(call): return 'b'\n"}) // its case expects an a
	if d := r.reaches(2, "trial", delivery.RolledBack); d.Missing != "" || !strings.Contains(d.Reason, "cases failed") {
		t.Errorf("with a case that fails it misses %q: %s", d.Missing, d.Reason)
	}
	r.reaches(1, "trial", delivery.Settled)
}

// A failed delivery continues while a newer version waits for a person.
func TestFailedDeliveryResumesBesideWaitingOne(t *testing.T) {
	r := newRig(t)
	r.push(wantsKey())
	r.reaches(1, "trial", delivery.Failed)
	r.push(map[string]string{"rudmar.yaml": strings.Replace(root, "enter: {when: push}}", "enter: {when: push}, gates: {approvals: {from: council}}}", 1)})
	r.reaches(2, "trial", delivery.Waiting)
	must(t, r.People.SetSecret(t.Context(), "frostline", "trial", "key", "hidden", "wren"))
	r.Line.Changed("frostline")
	r.reaches(1, "trial", delivery.Settled)
	if d, err := r.Store.Delivery(t.Context(), "frostline", 2, "trial"); err != nil || d.State != delivery.Waiting {
		t.Errorf("the newer one is %s: %v", d.State, err)
	}
}

// A missing need is checked again with growing pauses, and found automatically: here the clock advances by more
// than the longest pause.
func TestMissedWorkIsFound(t *testing.T) {
	var ahead atomic.Int64
	r := newRigWith(t, func(o *engine.Options) {
		o.ObserveEvery = time.Hour // so only planning reads the actual state
		o.Now = func() time.Time { return time.Now().Add(time.Duration(ahead.Load())) }
	})
	var planned atomic.Int64 // reads of the actual state of trial
	r.spoilWith(func(w http.ResponseWriter, q *http.Request, next http.Handler) {
		if strings.HasSuffix(q.URL.Path, "/frostline/trial") {
			planned.Add(1)
		}
		next.ServeHTTP(w, q)
	})
	r.push(wantsKey())
	stopped := r.reaches(1, "trial", delivery.Failed)
	for range 3 { // unsuccessfully
		before := planned.Load()
		ahead.Add(int64(2 * time.Minute))
		r.Line.AdvanceSoon()
		r.until("it is looked for again", func() bool { return planned.Load() > before })
	}
	if d, err := r.Store.Delivery(t.Context(), "frostline", 1, "trial"); err != nil || d.State != delivery.Failed || !d.Since.Equal(stopped.Since) {
		t.Errorf("%+v %v", d, err)
	}
	must(t, r.People.SetSecret(t.Context(), "frostline", "trial", "key", "hidden", "wren"))
	ahead.Add(int64(2 * time.Minute))
	r.Line.AdvanceSoon()
	if d := r.reaches(1, "trial", delivery.Settled); d.Missing != "" {
		t.Errorf("it misses %q", d.Missing)
	}
}

// A target on a platform that is not connected, or lacks a function's runtime, fails a version, with its name.
func TestUnsupportedKinds(t *testing.T) {
	r := newRig(t)
	files := first()
	files["rudmar.yaml"] = strings.Replace(root, "target: local/north", "target: moon/north", 1)
	r.push(files)
	if b := r.ends(store.BuildFailed); !strings.Contains(b.Reason, `unknown platform "moon" (expected local/coast`) {
		t.Errorf("why: %s", b.Reason)
	}
	r.spoilWith(func(w http.ResponseWriter, q *http.Request, next http.Handler) {
		if !strings.HasSuffix(q.URL.Path, "/kinds") {
			next.ServeHTTP(w, q)
			return
		}
		recorder := httptest.NewRecorder()
		next.ServeHTTP(recorder, q)
		w.Header().Set("Content-Type", "application/json")
		_, _ = strings.NewReplacer(`"python",`, "", `,"python"`, "").WriteString(w, recorder.Body.String())
	})
	files["rudmar.yaml"] = root
	r.push(files)
	d := r.reaches(r.ends(store.BuildSucceeded).Version, "trial", delivery.Failed)
	if !strings.Contains(d.Reason, "a needs the runtime python; local/north has") {
		t.Errorf("why: %s", d.Reason)
	}
}

// TestTransientPlatformFailure responds with 503s and 500s to a plan, to steps and to cases: the delivery is
// slower, and succeeds.
func TestTransientPlatformFailure(t *testing.T) {
	r := newRig(t)
	var failed [3]atomic.Int64
	r.spoilWith(func(w http.ResponseWriter, q *http.Request, next http.Handler) {
		kind := 0
		switch {
		case address(q) != "":
			kind = 1
		case strings.HasSuffix(q.URL.Path, "/callers"), strings.Contains(q.URL.Path, "/invocations/"):
			kind = 2
		}
		if failed[kind].Add(1) <= 3 {
			http.Error(w, `{"type":"about:blank","title":"x","status":500,"detail":"out of order"}`,
				http.StatusInternalServerError)
			return
		}
		next.ServeHTTP(w, q)
	})
	r.push(first())
	r.reaches(1, "trial", delivery.Settled)
	for kind := range failed {
		if failed[kind].Load() < 4 {
			t.Errorf("kind %d failed %d times", kind, failed[kind].Load())
		}
	}
	r.spoilWith(nil)
	r.upToDate("trial", "north", 1)
}
