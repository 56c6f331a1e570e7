package engine_test

import (
	"strings"
	"testing"
	"time"

	"rudmar/core/delivery"
	"rudmar/core/impact"
	"rudmar/core/plan"
	"rudmar/engine/deploy"
	"rudmar/platform"
)

// A plan compares its changes with past invocations, in its stage and in the one before it, and reports the
// data that its deletes lose.
func TestPlanObservations(t *testing.T) {
	r, ahead := newRigAhead(t)
	files := first()
	delete(files, "a/cases/works.yaml")
	files["a/main.py"] = "import time\ndef run(call):\n    time.sleep(0.12)\n    return 'a'\n"
	files["b/main.py"] = "def run(call):\n    print('one')\n    print('two')\n    return 'b'\n"
	files["rudmar.yaml"] = strings.Replace(root, "{when: push}", "{when: push}, gates: {approvals: {from: council}}", 1) // version 2 waits
	r.push(files)
	r.reaches(1, "trial", delivery.Waiting)
	r.approves(1, "trial")
	r.reaches(1, "trial", delivery.Settled)
	_, trial := r.reach(place("trial", "north"))
	call := func(function string) {
		t.Helper()
		for range 5 {
			if inv, err := r.platform.Invoke(t.Context(), trial, function, "ask", "", map[string]any{}, time.Minute); err != nil || inv.Error != nil {
				t.Fatal(inv.Error, err)
			}
		}
	}
	call("a")
	call("b")
	lines, err := r.platform.Logs(t.Context(), trial, platform.LogQuery{Function: "b"})
	if err != nil || len(lines) < 10 {
		t.Fatal(lines, err)
	}
	files["a/function.yaml"] = fn("a", "timeout: 100ms\n")
	files["b/function.yaml"], files["b/main.py"] = "", ""
	r.push(files)
	r.until("it is built", func() bool {
		_, err := r.Store.Version(t.Context(), "frostline", 2)
		return err == nil
	})
	meaning := func(stage string) (*plan.Plan, impact.NearLimit) {
		t.Helper()
		p, err := r.Planner.Foresee(t.Context(), deploy.Request{Place: place(stage, "north"), Version: 2})
		if err != nil || p.Outlook == nil {
			t.Fatalf("%+v %v", p, err)
		}
		for _, one := range p.Outlook.Tight {
			if one.Function == "a" && one.What == "timeout" {
				return p, one
			}
		}
		t.Fatalf("%s: the timeout is not told: %+v", stage, p.Outlook.Tight)
		return nil, impact.NearLimit{}
	}
	for _, stage := range []string{"trial", "live"} {
		p, tight := meaning(stage)
		before := map[string]string{"trial": "", "live": "trial"}[stage]
		if tight.Seen < 120 || !tight.Under || tight.Limit != 100 || tight.Stage != before || tight.Invocations != 5 {
			t.Errorf("%s: the timeout: %+v", stage, tight)
		}
		lost := p.Outlook.Losses
		if stage == "live" && len(lost) > 0 {
			t.Errorf("nothing is live yet that could be lost: %+v", lost)
		}
		if stage == "trial" && (len(lost) != 1 || lost[0].Function != "b" || lost[0].Count != int64(len(lines)) ||
			lost[0].Oldest == 0) {
			t.Errorf("lost: %+v", lost)
		}
	}
	// Figures are read again after a minute.
	call("a")
	if _, tight := meaning("trial"); tight.Invocations != 5 {
		t.Errorf("within the minute: %+v", tight)
	}
	ahead.Store(int64(2 * time.Minute))
	if _, tight := meaning("trial"); tight.Invocations != 10 {
		t.Errorf("after two minutes: %+v", tight)
	}
	call("a")
	ahead.Store(0)
	if _, tight := meaning("trial"); tight.Invocations != 15 {
		t.Errorf("when the clock was rolled back: %+v", tight)
	}
}
