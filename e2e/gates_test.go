package e2e

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"github.com/go-rod/rod/lib/input"

	"rudmar/server/api"
)

// granary returns a service of three stages, with every gate between them: a request, cases, invocations in the
// stage before, an approval, a window, and a rule.
func granary(answer string) map[string]string {
	return map[string]string{
		"rudmar.yaml": `rudmar: 1
service: granary
owner: cold-nights
stages:
  - {stage: trial, target: local/north, enter: {when: push}}
  - stage: preview
    target: local/north
    enter: {after: trial, when: request}
    gates: {cases: all, approvals: {count: 1, from: growers-council}}
  - stage: live
    target: local/coast
    enter: {after: preview, when: ready}
    gates:
      soak: {for: 1s, min_invocations: 2, errors_under: 50%}
      window: {days: mon-sun, hours: "00:00-23:59", zone: UTC}
      rules: {small: "plan.steps.size() < 100"}
      approvals: {count: 2, from: growers-council}
`,
		"functions/store/function.yaml": "function: store\nhandler: store:run\ntriggers: {ask: {route: GET /store, open_to: anyone}}\n",
		"functions/store/store.py":      fmt.Sprintf("def run(call):\n    return {\"grain\": %q}\n", answer),
		"functions/store/cases/grain.yaml": "case: there is grain\nsend: {route: GET /store}\nexpect:\n  - status == 200\n" +
			"  - size(body.grain) > 0\nno_side_effects: true\n",
	}
}

// A version goes from a push through three stages and every gate, by clicks; the next one too; and the last
// stage is rolled back in the stage line.
func TestEveryGateInThePage(t *testing.T) {
	r := demo(t)
	r.ask("wren", "POST", "/repositories", api.RepositoryName{Name: "granary"}, nil)
	dir := filepath.Join(t.TempDir(), "granary")
	git(t, t.TempDir(), "clone", "--quiet", strings.Replace(r.address, "http://", "http://wren:orchard-at-dawn@", 1)+"/git/granary.git", dir)
	brings := func(answer, message string) {
		t.Helper()
		put(t, dir, granary(answer))
		if out, err := push(t, dir, message); err != nil {
			t.Fatalf("%v\n%s", err, out)
		}
	}
	answer := func(stage string) string {
		var list []api.StageOutput
		r.try("wren", "GET", "/services/granary/outputs?stage="+stage, nil, &list) // it may not exist yet
		for _, o := range list {
			if strings.HasPrefix(o.Value, "http") && !strings.Contains(o.Value, ".localhost") { // not its origin
				_, body := get(t, o.Value)
				return fmt.Sprint(body)
			}
		}
		return ""
	}
	lives := func(stage, says string) {
		t.Helper()
		until(t, stage+" answers "+says, func() bool {
			if stage == "live" { // which waits for calls in preview since that settled
				answer("preview")
			}
			return strings.Contains(answer(stage), says)
		})
	}
	browser := browse(t)
	wren, linden, teasel := r.open(browser, "wren"), r.open(browser, "linden"), r.open(browser, "teasel")
	agrees := func(p *tab, button, stage string) { // it opens a route, which is confirmed by the stage's name
		t.Helper()
		p.press(button)
		p.fill(".modal.show input", stage)
		p.key(input.Enter)
		p.waits("no question", `() => !document.querySelector('.modal.show')`)
	}
	brings("oats", "Store oats")
	lives("trial", "oats")
	wren.arrive("/s/granary/deliveries/1/preview")
	wren.reads("waiting for a delivery request", "cases in trial",
		"waiting for 1 approval from growers-council; wren pushed this version and cannot approve it")
	agrees(wren, "^Request delivery", "preview")
	linden.arrive("/s/granary/deliveries/1/preview")
	linden.reads("requested by wren")
	linden.fill(`input[placeholder=Reason]`, "the bins are empty")
	agrees(linden, "^Approve", "preview")
	lives("preview", "oats")
	linden.arrive("/s/granary/deliveries/1/live")
	linden.reads("the window is open", "small", "settled in preview", "waiting for 2 approvals")
	lives("preview", "oats") // the second of the calls that this stage waits for
	agrees(linden, "^Approve", "live")
	teasel.arrive("/s/granary/deliveries/1/live")
	teasel.reads("waiting for 1 more", "linden")
	teasel.fill(`input[placeholder=Reason]`, "the harvest does not wait")
	agrees(teasel, "^Approve", "live")
	lives("live", "oats")
	linden.reads("settled", "the harvest does not wait")

	brings("rye", "Store rye")
	lives("trial", "rye")
	for _, say := range [][3]string{{"wren", "preview", "request"}, {"linden", "preview", "approve"},
		{"linden", "live", "approve"}, {"teasel", "live", "approve"}} {
		at := "/services/granary/deliveries/2/stages/" + say[1]
		var means api.Impact
		r.ask(say[0], "GET", at+"/impact", nil, &means)
		r.ask(say[0], "POST", at+"/"+say[2], api.DeliveryDecision{ImpactDigest: &means.Digest}, nil)
	}
	for range 2 {
		lives("preview", "rye")
	}
	lives("live", "rye")
	var made api.CreatedToken
	basic := "Basic " + base64.StdEncoding.EncodeToString([]byte("wren:orchard-at-dawn"))
	r.ask("wren", "POST", "/account/tokens", api.NewToken{Name: "looks", Permissions: []string{}, Scopes: []string{}}, &made)
	backTo := func(header string) int {
		var line api.StageLine
		status, text := answers(r, "GET", "/api/services/granary/stage-line", nil, map[string]string{"Authorization": header})
		if err := json.Unmarshal(text, &line); err != nil || status != 200 {
			t.Fatalf("%v %d %s", err, status, text)
		}
		return api.OrZero(line.Stages[2].Before)
	}
	until(t, "live can be taken back", func() bool { return backTo(basic) == 1 })
	if version := backTo("Bearer " + made.Text); version != 0 {
		t.Errorf("who may only look is offered to take it back to %d", version)
	}
	linden.arrive("/s/granary/board?stage=live")
	linden.press("^Roll back to 1")
	linden.reads("Version 1 in live", "local/coast (now version 2)")
	linden.fill(`input[placeholder="Reason"]`, "the oats were better")
	linden.press("^Redeploy version")
	linden.reads("live is the last stage")
	linden.fill(".modal input", "live")
	linden.key(input.Enter)
	lives("live", "oats")
	linden.reads("settled")
	linden.arrive("/s/granary/deliveries/2/live")
	linden.reads("rolled back to version 1 by linden: the oats were better", "Executed plan")
}
