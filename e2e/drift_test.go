package e2e

import (
	"fmt"
	"strings"
	"testing"

	"rudmar/server/api"
)

// Drift is a line that opens, with its actions: copying it to the manifest as an edit that a person commits,
// and ignoring it with a reason. A plan can be shared and compared with another one.
func TestDriftInThePage(t *testing.T) {
	r := demo(t)
	wren := r.open(browse(t), "wren")
	wren.goTo("functions/warn/invoke?stage=live")
	wren.reads("Actual state differs from the record", "env.MODE loud → quiet")
	wren.press("Actual state differs from the record")
	wren.reads("256 MiB", "since, 0 failed", "by request hand-")
	wren.press("^Copy to manifest")
	wren.waits("the edit", `() => location.pathname.endsWith('/source') && !location.search.includes('take')`)
	wren.reads("functions/warn/function.yaml", "left: committed", "Plan for live if committed", "This edit ")
	wren.waits("the value", `() => document.querySelector('main').innerText.includes('quiet')`)
	wren.press("^Discard edit")

	wren.goTo("functions/warn/invoke?stage=live")
	wren.press("Actual state differs from the record")
	for range 2 {
		wren.press("^Ignore until")
		wren.fill(`input[aria-label="Reason"]`, "a loud night")
		wren.press("^Ignore drift")
		wren.reads("ignored by wren: a loud night")
		wren.waits("the form to go", `() => !document.querySelector('input[aria-label="Reason"]')`)
	}
	wren.reads("Ignored drift")
	var line api.StageLine
	until(t, "nothing to wait for somebody", func() bool {
		r.ask("wren", "GET", base+"/stage-line", nil, &line)
		return line.Stages[2].Drifted == 0
	})
	wren.goTo("plan?stage=live&target=local/north")
	wren.reads("Up to date since")
	wren.goTo("functions/warn/invoke?stage=live")
	wren.press("Ignored drift")
	wren.press("^Stop ignoring")
	wren.reads("Actual state differs from the record")

	plan := func(version int) int64 {
		var kept api.SavedPlan
		stage := api.PlanRequest{Stage: "preview", Version: &version}
		r.ask("wren", "POST", base+"/plans", stage, &kept)
		return kept.Id
	}
	older, newer := plan(7), plan(3)
	wren.goTo("plan/" + fmt.Sprint(newer))
	wren.fill(`input[placeholder="number"]`, fmt.Sprint(older))
	wren.press("^By phase")
	wren.reads("Compared with plan "+fmt.Sprint(older), "no longer new-permission: relay can now read secrets/sms_key")
	wren.press("^Graph")
	wren.sees("the graph", `[role="img"] svg`)

	// Somebody's own resource can be removed by a plan.
	_, said := r.try("wren", "GET", base+"/plan?stage=live&target=local/north&deletions=route/warn/nothing", nil, nil)
	if !strings.Contains(said, `"sentence"`) {
		t.Errorf("a plan that takes away nothing: %s", said)
	}
}
