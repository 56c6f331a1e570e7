package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/go-rod/rod/lib/input"
	"github.com/go-rod/rod/lib/proto"

	"rudmar/server/api"
)

// TestPageJourney goes from an edit to live in the browser.
func TestPageJourney(t *testing.T) {
	r := demo(t)
	browser := browse(t)
	wren := r.open(browser, "wren")

	// Edit: a mistake is shown during typing, with the likely intention; then it is fixed and committed.
	wren.goTo("source?file=functions/warn/function.yaml")
	wren.typeAtEnd("memroy: 256 MiB")
	wren.reads(`"memroy" is not a key of a function; did you mean "memory"?`, "1 error")
	wren.goTo("source?file=functions/warn/warn.py")
	wren.typeAtEnd("# looked through by wren\n")
	wren.reads("edited", "no errors")
	wren.fill(`input[aria-label="Message"]`, "Look through the warnings")
	wren.press("^Commit 1 file")
	wren.reads("Look through the warnings", "built as version 8")

	// A new function from a starter is an edit like any other: it can be seen before it is
	// committed, and dropped.
	wren.goTo("source")
	wren.press("^New function")
	wren.fill(`input[aria-label="Name of the new function"]`, "thaw")
	wren.press("^Create")
	wren.reads("functions/thaw/function.yaml", "new", "This edit: new: function/thaw", "route/thaw/ask", "no errors")
	wren.press("^Show differences")
	wren.reads("left: committed")
	wren.press("^Discard edit")
	wren.goTo("source?file=functions/intake/cases/bad.yaml")
	wren.press("^Delete file")
	wren.reads("deleted", "Restore file")
	wren.press("^Restore file")
	wren.reads("Delete file")

	// A renamed function: one function still, in all references.
	wren.goTo("source?file=functions/intake/function.yaml")
	wren.press("^Rename intake")
	wren.fill("#renamed", "warn")
	wren.press("^Rename$")
	wren.reads("a function of this name already exists: warn")
	wren.fill("#renamed", "harvest")
	wren.press("^Rename$")
	wren.reads("functions/harvest/function.yaml", "renamed_from", "This edit: new: function/harvest",
		"deleted: function/intake", "no errors")
	wren.fill(`input[aria-label="Message"]`, "Intake is called harvest")
	wren.fill(`input[aria-label="New branch"]`, "harvest")
	wren.press("^Commit \\d+ files")
	wren.must("waiting for the new branch",
		wren.page.Timeout(patience).Wait(
			rodEval(`() => location.search.includes('branch=harvest') && document.querySelector('select[aria-label="Branch"]')?.value === 'harvest'`)))
	wren.choose(`select[aria-label="Branch"]`, "main")
	wren.reads("functions/intake")

	// The history of a file.
	wren.goTo("source?file=functions/warn/warn.py")
	wren.press("^history")
	wren.reads("Look through the warnings", "Log warnings in capitals")
	wren.press("Log warnings in capitals")
	wren.sees("the difference", ".history .cm-changedLine")

	// For the line of the cursor: a schedule's times, the trigger that a request matches, suggestions.
	wren.goTo("source?file=functions/night-report/function.yaml&line=7")
	wren.reads("Next runs of morning", "in Europe/Oslo")
	wren.fill(`input[aria-label="Request to test"]`, "GET /stations/hill")
	wren.press("Test route")
	wren.reads("only this route matches", "station = hill")
	key, err := wren.page.Timeout(patience).ElementR(".cm-line span", "^handler$")
	wren.must("looking for a key", err)
	wren.must("pointing at it", key.Hover())
	wren.reads("handler: file:function, without the extension")
	wren.typeAtEnd("\nmax_c")
	wren.must("asking for what may be written",
		wren.page.KeyActions().Press(input.ControlLeft).Type(input.Space).Release(input.ControlLeft).Do())
	wren.reads("max_concurrency", "The largest number of concurrent invocations")
	option, err := wren.page.Timeout(patience).ElementR(".cm-tooltip-autocomplete li", "max_concurrency")
	wren.must("looking for what may be written", err)
	wren.must("choosing it", option.Click(proto.InputMouseButtonLeft, 1))
	wren.reads("max_concurrency has no value")

	// The version was deployed to trial automatically; its plan and its steps are readable.
	wren.goTo("deliveries/8/trial")
	wren.reads("settled", "8 cases passed", "a mild night gives no warning")
	wren.press("a mild night gives no warning")
	wren.reads("Expected", "Received", "status is 200")
	wren.press("^deployment \\d+")
	wren.reads("2 of 2 steps succeeded", "revision/warn", "pointer/warn", "Outputs")
	wren.press("^Saved plan$")
	wren.reads("2 steps in 2 phases", "changed: warn.py", "next invocation is a cold start: warn")
	wren.goTo("plan?stage=live&version=6")
	wren.reads("Version 6 updates", "in live", "by wren")
	wren.goTo("plan?stage=trial")
	wren.reads("Up to date since", "when version 8 was deployed")

	// Invoke it, and read its logs; follow the log during invocations.
	wren.goTo("functions/warn/invoke?stage=trial")
	wren.choose(`select[aria-label="Sample"]`, "ask: GET")
	wren.click("main button.btn-primary")
	wren.reads("succeeded", "memory peak", `"station": "hill"`, "Logs", "hill:")
	wren.fill(`textarea`, "{not json")
	wren.reads("Not JSON")
	log := r.open(browser, "sorrel")
	log.goTo("functions/stations/logs?stage=trial")
	log.reads("following")
	address := r.function("trial", "stations").Routes[0].Url
	_, _ = get(t, strings.Replace(address, "{station}", "moon", 1))
	log.reads("platform", "succeeded in")
	log.goTo("functions/stations/logs?stage=trial")
	var sent []api.LogLine
	r.ask("sorrel", "GET", "/services/frostline/stages/trial/logs?target=local/north&function=stations", nil, &sent)
	log.waits("each line once", fmt.Sprintf(`() => document.querySelector('.lines').getAttribute('aria-label') === '%d log lines' &&
		new Set([...document.querySelectorAll('.lines .line')].map((l) => l.style.transform)).size === document.querySelectorAll('.lines .line').length`, len(sent)))

	// Preview waits for somebody else; linden approves, and the page updates itself.
	wren.goTo("deliveries/8/preview")
	wren.reads("waiting for 1 approval from growers-council; wren pushed this version and cannot approve it", "No actions available")
	linden := r.open(browser, "linden")
	linden.goTo("board?stage=preview")
	linden.press("Version 8 cannot enter preview yet")
	linden.fill(`input[placeholder="Reason"]`, "good for the cold nights")
	linden.reads("Impact of version 8 in preview", "GET /stations/{station}/history opens to authenticated")
	linden.press("^Approve")
	linden.reads("settled", "good for the cold nights", "all 8 passed", "5 of 5 archives identical to the deployed ones")
	wren.reads("settled", "approved by linden")

	// Somebody changed a function by hand: the page shows it and puts it right.
	linden.goTo("functions/warn/invoke?stage=live")
	linden.reads("Actual state differs from the record", "env.MODE", "quiet", "loud", "256 MiB")
	linden.press("Revert drift")
	linden.reads("reverts drift of 1 function", "changed outside Rudmar: env.MODE, memory")
	linden.press("^Deploy version")
	linden.reads("Deployment", "3 of 3 steps succeeded")
	linden.goTo("plan?stage=live&target=local/north")
	linden.reads("Up to date since")

	// The version before is restored.
	wren.goTo("plan?stage=preview&version=6")
	wren.reads("Rolls preview back from version 8 to version 6")
	wren.press("^Roll back to version 6")
	wren.reads("Type preview to confirm") // it deletes a route
	wren.fill(".modal label:nth-of-type(2) input", "preview")
	wren.fill(".modal label:nth-of-type(1) input", "too many warnings")
	wren.key(input.Enter)
	wren.reads("Version 6 in preview")
	wren.goTo("deliveries/8/preview")
	wren.reads("rolled back to version 6 by wren: too many warnings")

	worksByKeyboard(wren)
}

func worksByKeyboard(p *tab) {
	p.goTo("board?stage=trial")
	p.key('3')
	p.reads("Changed functions")
	p.key('1')
	p.reads("Needs attention")
	p.key(']')
	p.sees("preview in focus", `.station.focused[aria-pressed="true"]`)
	p.waits("the address", `() => location.search.includes('stage=preview')`)
	p.find("night-report") // and Enter at once, before the server responds
	p.key(input.Enter)
	p.reads("Sums up the night for the growers")
}

// An open page reports that the server is unreachable, and recovers.
func TestLostConnection(t *testing.T) {
	r := demo(t)
	wren := r.open(browse(t), "wren")
	wren.goTo("board?stage=trial")
	wren.reads("Needs attention")
	listen := strings.TrimPrefix(r.address, "http://")
	r.kill()
	wren.reads("Connection lost")
	launch(t, r.data, "demo", "--listen", listen, "--platform-listen", "127.0.0.1:0", "--routes-listen", "127.0.0.1:0")
	wren.waits("the connection", `() => !document.body.innerText.includes('Connection lost')`)
}

// An edit that conflicts with a newer commit shows both.
func TestConflictInThePage(t *testing.T) {
	r := demo(t)
	wren := r.editing(browse(t), "wren", "# mine\n")
	wren.reads("edited")
	dir := r.clone("sorrel")
	edit(t, dir, "frostline/functions/intake/intake.py", `"""Takes readings`, `"""Receives readings`)
	if out, err := push(t, dir, "Other words"); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	wren.reads("The branch has newer commits")
	wren.fill(`input[aria-label="Message"]`, "A note of mine")
	wren.press("^Commit 1 file")
	wren.reads("committed in the meantime", "Your edit is kept in the editor")
	wren.press("as committed by wren")
	wren.reads(`"""Receives readings`)
	wren.press("^Merge into my edit")
	wren.reads("# mine", "Receives readings") // different lines: both are kept
	wren.press("^Commit 1 file")
	wren.waits("the edit to be committed", `() => !document.querySelector('input[aria-label="Message"]')`)
	git(t, dir, "pull", "--quiet", "origin", "HEAD")
	file := filepath.Join(dir, "frostline/functions/intake/intake.py")
	text, err := os.ReadFile(file)
	if err != nil || !strings.Contains(string(text), "# mine") || !strings.Contains(string(text), `"""Receives readings`) {
		t.Errorf("a line of one of them is lost: %v\n%s", err, text)
	}

	// The same lines: both are kept between markers, which cannot be committed.
	wren.typeAtEnd("# the almanac\n")
	wren.reads("edited")
	if err := os.WriteFile(file, append(text, "# the calendar\n"...), 0o644); err != nil {
		t.Fatal(err)
	}
	if out, err := push(t, dir, "Another ending"); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	wren.reads("The branch has newer commits")
	wren.fill(`input[aria-label="Message"]`, "My ending")
	wren.press("^Commit 1 file")
	wren.reads("Both of you changed the same lines of functions/intake/intake.py")
	wren.press("^Merge into my edit")
	wren.reads("Resolve the conflicts", "<<<<<<< your edit", "# the almanac", "# the calendar")
	wren.press("^Commit 1 file")
	wren.reads("conflict markers are left")
}
