package engine_test

import (
	"net/http"
	"strings"
	"sync/atomic"
	"testing"

	"rudmar/core/delivery"
	"rudmar/engine/store"
)

// TestWhatStoppedGoesOnByItself stops a delivery for want of a secret, and lets one fail
// for want of cases that pass: the first goes on when it has come, the other goes back.
func TestWhatStoppedGoesOnByItself(t *testing.T) {
	r := newRig(t)
	files := first()
	files["a/function.yaml"] = fn("a", "env: {KEY: \"${secrets.key}\"}\n")
	r.push(files)
	if d := r.reaches(1, "trial", delivery.Stopped); d.Missing != store.MissesPlan {
		t.Errorf("without a secret it misses %q", d.Missing)
	}
	if err := r.People.SetSecret(t.Context(), "frostline", "trial", "key", "hidden", "wren"); err != nil {
		t.Fatal(err)
	}
	r.Line.Changed("frostline")
	r.reaches(1, "trial", delivery.Settled)

	r.push(map[string]string{"a/main.py": "def run(call): return 'b'\n"}) // its case expects an a
	if d := r.reaches(2, "trial", delivery.WentBack); d.Missing != "" || !strings.Contains(d.Why, "cases failed") {
		t.Errorf("with a case that fails it misses %q: %s", d.Missing, d.Why)
	}
	r.reaches(1, "trial", delivery.Settled)
}

// TestAPlatformThatFailsForAWhile answers 503s and 500s to a plan, to steps and
// to cases: the delivery takes its time, and arrives.
func TestAPlatformThatFailsForAWhile(t *testing.T) {
	r := newRig(t)
	var failed [3]atomic.Int64
	r.spoilWith(func(w http.ResponseWriter, q *http.Request, next http.Handler) {
		kind := 0
		switch {
		case address(q) != "":
			kind = 1
		case strings.HasSuffix(q.URL.Path, "/invocations"):
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
