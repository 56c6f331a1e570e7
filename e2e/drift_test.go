package e2e

import (
	"fmt"
	"strings"
	"testing"

	"rudmar/server/api"
)

// What was changed by hand is a line that opens, with its ways on: into the manifest
// as an edit that a person commits, and left with a reason. A plan can be sent and
// held against another one.
func TestDriftInThePage(t *testing.T) {
	r := demo(t)
	wren := r.open(browse(t), "wren")
	wren.goTo("functions/warn/try?stage=live")
	wren.reads("Live is not what was recorded", "env.MODE loud → quiet")
	wren.press("Live is not what was recorded")
	wren.reads("256 MiB", "since, 0 failed", "by the request hand-")
	wren.press("^Take over into the manifest")
	wren.waits("the edit", `() => location.pathname.endsWith('/source') && !location.search.includes('take')`)
	wren.reads("functions/warn/function.yaml", "committed at the left", "In live, if committed", "This edit onto live")
	wren.waits("the value", `() => document.querySelector('main').innerText.includes('quiet')`)
	wren.press("^Drop the edit")

	wren.goTo("functions/warn/try?stage=live")
	wren.press("Live is not what was recorded")
	for range 2 {
		wren.press("^Leave it…")
		wren.fill(`input[aria-label="Reason"]`, "a loud night")
		wren.press("^Leave it$")
		wren.reads("left by wren: a loud night")
		wren.waits("the form to go", `() => !document.querySelector('input[aria-label="Reason"]')`)
	}
	wren.reads("Left as it was changed outside Rudmar")
	var line api.StageLine
	until(t, "nothing to wait for somebody", func() bool {
		r.ask("wren", "GET", base+"/line", nil, &line)
		return line.Stages[2].Drifted == 0
	})
	wren.goTo("plan?stage=live&target=local/north")
	wren.reads("Nothing to do")
	wren.goTo("functions/warn/try?stage=live")
	wren.press("Left as it was changed outside Rudmar")
	wren.press("^No longer")
	wren.reads("Live is not what was recorded")

	plan := func(version int) int64 {
		var kept api.SavedPlan
		stage := api.PlanRequest{Stage: "preview", Version: &version}
		r.ask("wren", "POST", base+"/plans", stage, &kept)
		return kept.Id
	}
	older, newer := plan(7), plan(3)
	wren.goTo("plan/" + fmt.Sprint(newer))
	wren.fill(`input[placeholder="number"]`, fmt.Sprint(older))
	wren.press("^By order")
	wren.reads("Otherwise than plan "+fmt.Sprint(older), "removed: reach: relay can now read secrets/sms_key")
	wren.press("^As a graph")
	wren.sees("the graph", `[role="img"] svg`)

	// Somebody's own resource can be taken away by a plan.
	_, said := r.try("wren", "GET", base+"/plan?stage=live&onto=local/north&takeAway=route/warn/nothing", nil, nil)
	if !strings.Contains(said, `"sentence"`) {
		t.Errorf("a plan that takes away nothing: %s", said)
	}
}
