package engine_test

import (
	"testing"

	"rudmar/core/consequence"
	"rudmar/core/delivery"
	"rudmar/engine/deploy"
	"rudmar/platform"
)

// A plan holds what it changes against what calls took, in its stage and in the one
// before it, and says how much is lost with what it deletes.
func TestPlansTellWhatWasSeen(t *testing.T) {
	r := newRig(t)
	files := first()
	delete(files, "a/cases/works.yaml")
	files["a/main.py"] = "import time\ndef run(call):\n    time.sleep(0.12)\n    return 'a'\n"
	files["b/main.py"] = "def run(call):\n    print('one')\n    print('two')\n    return 'b'\n"
	r.push(files)
	r.reaches(1, "trial", delivery.Settled)
	_, trial, err := r.Planner.Platform(place("trial", "north"))
	if err != nil {
		t.Fatal(err)
	}
	for _, function := range []string{"a", "b"} {
		for range 5 {
			if inv, err := r.platform.Invoke(t.Context(), trial, function, "ask", "", map[string]any{}); err != nil || inv.Error != nil {
				t.Fatal(inv.Error, err)
			}
		}
	}
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
	for _, stage := range []string{"trial", "live"} {
		p, err := r.Planner.Foresee(t.Context(), deploy.Wish{Place: place(stage, "north"), Version: 2})
		if err != nil || p.Outlook == nil {
			t.Fatalf("%+v %v", p, err)
		}
		var tight *consequence.Tight
		for i, one := range p.Outlook.Tight {
			if one.Function == "a" && one.What == "timeout" {
				tight = &p.Outlook.Tight[i]
			}
		}
		before := map[string]string{"trial": "", "live": "trial"}[stage]
		if tight == nil || tight.Seen < 120 || !tight.Under || tight.Limit != 100 || tight.Stage != before {
			t.Errorf("%s: the timeout: %+v of %+v", stage, tight, p.Outlook.Tight)
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
}
