package e2e

import (
	"fmt"
	"path/filepath"
	"testing"

	"github.com/go-rod/rod/lib/input"

	"rudmar/server/api"
)

// A user watches a deployment to a slow region, in which functions are changed outside Rudmar meanwhile: the
// page shows the failure, its reason, and the remedy.
func TestFailedDeployment(t *testing.T) {
	r := demo(t)
	dir := r.clone("wren")
	brings := func(version int, memory string) {
		t.Helper()
		orchard(t, dir, 18, "row%02d", "defaults: {memory: "+memory+"}\nstages:\n  - {stage: trial, target: local/north, enter: {when: push, branch: main}}\n",
			func(int) string { return "" }) // two more than go to the platform at once
		if out, err := push(t, dir, fmt.Sprint("Rows ", version)); err != nil {
			t.Fatal(out)
		}
	}
	state := func(version int) (d api.DeliveryStage) {
		r.try("wren", "GET", fmt.Sprintf("/services/orchard/deliveries/%d/stages/trial", version), nil, &d)
		return d
	}
	settles := func(version int) {
		t.Helper()
		until(t, fmt.Sprintf("version %d settled", version), func() bool { return state(version).Place.State == "settled" })
	}
	brings(1, "128 MiB")
	settles(1)
	hand := commands{t, nil}
	at := " --data " + r.data + " --platform " + r.platformAddress() + " --platform-token-file " +
		filepath.Join(r.data, "platform.token")
	hand.want("platform faults north slow=1s"+at, "")
	brings(2, "192 MiB")
	until(t, "it is deployed", func() bool { return len(state(2).Deployments) > 0 })
	for _, row := range []string{"row16", "row17"} { // the last ones; the others are in progress
		hand.want("platform change north/orchard/trial function/"+row+" memory=268435456"+at, "Changed function")
	}
	p := r.open(browse(t), "wren")
	p.arrive(fmt.Sprintf("/s/orchard/deployments/%d", state(2).Deployments[0]))
	p.reads("partially-succeeded", "16 of 18", "2 failed", "the resource has changed: its tag is", "Plan version 2 again", "skipped")
	first := p.page.MustEval(`() => document.querySelectorAll('main table')[1].querySelector('tbody .fold').innerText`).Str()
	if first != "− row16" {
		t.Errorf("the first function is %q, not open or not one that failed", first)
	}
	if n := p.page.MustEval(`() => document.querySelectorAll('main [aria-expanded=true]').length`).Int(); n != 2 {
		t.Errorf("%d functions are open, of 18 of which 2 failed", n)
	}
	p.press("^\\+ row03")
	p.reads("pointer/row03")
	hand.want("platform faults north"+at, "")
	p.press("^Retry remaining steps") // resources changed since fail again
	until(t, "it was tried again", func() bool {
		var d api.DeploymentDetail
		r.ask("wren", "GET", fmt.Sprint("/deployments/", state(2).Deployments[0]), nil, &d)
		for _, s := range d.Steps {
			if s.State == "failed" && s.Attempts == 2 {
				return d.Retryable && state(2).Place.State == "failed"
			}
		}
		return false
	})
	p.reads("2 drifted", "failed", "2 attempts") // the page has shown the end and the next observation: nothing changes any more
	p.press("^Plan version 2 again")
	p.reads("reverts drift of 2", "also reverts drift", "memory", "Redeploys version 2 to trial")
	p.press("^Redeploy version 2")
	p.fill(".modal input", "the region has recovered")
	p.key(input.Enter)
	settles(2)
	p.arrive(fmt.Sprintf("/s/orchard/deployments/%d", state(2).Deployments[0]))     // of this try
	p.reads("succeeded", "6 of 6 steps succeeded", "2 functions", "function/row16") // few steps are all open
	p.arrive(fmt.Sprintf("/s/orchard/deployments/%d", state(1).Deployments[0]))     // the first deployment created all
	p.reads("18 identities, 18 logs", "18 functions")
}
