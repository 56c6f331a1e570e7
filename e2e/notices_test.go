package e2e

import (
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/go-rod/rod/lib/input"

	"rudmar/server/api"
)

// Somebody who looks after things says where notices go, sees that nothing goes
// inside, and what came back; who may not is told so.
func TestNoticesInThePage(t *testing.T) {
	r := demo(t)
	addHeron(t, r)
	heron := commands{t, []string{"RUDMAR_SERVER=" + r.address, "RUDMAR_HANDLE=heron", "RUDMAR_PASSWORD=orchard-at-dawn"}}
	wren := commands{t, []string{"RUDMAR_SERVER=" + r.address, "RUDMAR_HANDLE=wren", "RUDMAR_PASSWORD=orchard-at-dawn"}}
	wren.refused("notice add board http://localhost:9/board", "not allowed")
	heron.refused("notice add board http://127.0.0.1:9/", "points inside")
	heron.refused("notice add board http://localhost:9/board --kind delivery.lost", "there is no kind")
	heron.refused("notice sent nothing", "no notices go to")
	heron.want("notice add all http://localhost:9/all --service watering", "cannot be shown again")
	heron.want("notice list", "all", "watering")
	heron.want("notice end all")

	p := r.open(browse(t), "heron")
	p.arrive("/notifications")
	p.reads("Nothing goes out yet")
	p.fill("input[autocomplete=off]", "board")
	p.fill("input[type=url]", "http://10.0.0.1/")
	p.press("^Send them")
	p.reads("the address points inside")
	p.fill("input[type=url]", "http://localhost:9/board")
	p.press("^Send them")
	p.reads("cannot be shown again")
	if status, text := r.act("linden", 7, "preview", "approve"); status != 204 { // something happens
		t.Fatalf("%d %s", status, text)
	}
	p.press("^What went there")
	p.reads("delivery.planning", "1 try", "points inside", "is tried by itself")
	p.press("^Revoke…")
	p.press("^Revoke$")
	p.reads("Nothing goes out yet")
	teasel := r.open(browse(t), "teasel")
	teasel.arrive("/notifications")
	teasel.reads("You administer none", "An administrator says where notices go")
}

// An administrator passes over a gate for a reason, and who approved takes it back.
func TestPassingOverInThePage(t *testing.T) {
	r := demo(t)
	addHeron(t, r)
	browser := browse(t)
	linden := r.open(browser, "linden")
	if status, text := r.act("linden", 6, "live", "approve"); status != 204 {
		t.Fatalf("%d %s", status, text)
	}
	linden.arrive("/s/frostline/deliveries/6/live")
	linden.reads("Approved")
	linden.press("^Take your approval back")
	linden.waits("the approval to be gone", `() => !document.body.innerText.includes('Take your approval back')`)

	heron := r.open(browser, "heron")
	heron.arrive("/s/frostline/deliveries/7/preview")
	heron.reads("Impact of version", "Pass over a gate")
	heron.fill("input[placeholder=Reason]", "linden is on the mountain")
	heron.choose("aside select", "approval")
	heron.press("^Pass over it")
	heron.reads("passed over by heron: linden is on the mountain")
	r.settles(7, "preview")
	if status, text := r.try("linden", "POST", base+"/deliveries/6/stages/live/pass-over",
		map[string]string{"gate": "approval", "comment": "why not"}, nil); status != 403 {
		t.Errorf("an approver passes over: %d %s", status, text)
	}
}

// addHeron adds an administrator, whom the demo has not.
func addHeron(t *testing.T, r *rig) {
	t.Helper()
	if out, err := person(t, r, "orchard-at-dawn\n", "add", "heron", "--role", "administrator"); err != nil {
		t.Fatal(out)
	}
}

// What takes something away for good is confirmed by its name.
func TestConfirmingInThePage(t *testing.T) {
	r := demo(t)
	addHeron(t, r)
	p := r.open(browse(t), "heron")
	p.arrive("/services")
	p.fill("input[placeholder='its name']", "cellar")
	p.press("^Create")
	// It follows another one, but for what lies inside.
	p.click(`[aria-label="What cellar follows"]`)
	p.fill(".modal.show input[type=url]", "http://10.1.2.3/cellar.git")
	p.key(input.Enter)
	p.reads("/pushed/cellar", "cannot be shown again")
	p.key(input.Escape)
	p.reads("the address points inside")
	heron := commands{t, []string{"RUDMAR_SERVER=" + r.address, "RUDMAR_HANDLE=heron", "RUDMAR_PASSWORD=orchard-at-dawn"}}
	wren := commands{t, []string{"RUDMAR_SERVER=" + r.address, "RUDMAR_HANDLE=wren", "RUDMAR_PASSWORD=orchard-at-dawn"}}
	heron.want("repository list", "follows http://10.1.2.3/cellar.git")
	heron.want("repository mirror cellar --now")
	wren.refused("repository mirror cellar http://10.1.2.3/other.git", "not allowed")
	heron.refused("repository mirror cellar file:///etc", "is no address")
	for _, name := range []string{"cellar", "lost"} { // who has no key learns nothing
		answer, err := http.Post(r.address+"/pushed/"+name, "application/json", strings.NewReader("{}"))
		if err != nil || answer.StatusCode != 403 {
			t.Errorf("a notice without a signature, for %s: %v %v", name, answer, err)
		}
	}
	heron.want("repository mirror cellar --end")

	p.click(`[aria-label="Remove cellar"]`)
	p.reads("It goes with its whole history", "Type cellar to confirm")
	p.waits("a dialog over the page", `() => getComputedStyle(document.querySelector('.modal')).position === 'fixed'`)
	p.fill(".modal.show input", "cella")
	p.key(input.Enter)
	p.press("^No$")
	p.waits("no question", `() => !document.querySelector('.modal.show')`)
	p.reads("cellar")
	p.click(`[aria-label="Remove cellar"]`)
	p.fill(".modal.show input", "cellar")
	p.press("^Remove it")
	p.waits("no cellar", `() => !document.querySelector('[aria-label="Remove cellar"]')`)
	var left []api.Repository
	r.ask("heron", "GET", "/repositories", nil, &left)
	if slices.ContainsFunc(left, func(o api.Repository) bool { return o.Name == "cellar" }) {
		t.Errorf("it exists: %+v", left)
	}
}

// Somebody asks for some functions of a version; the others stay as they are, the Board
// says so, and they follow when somebody asks.
func TestChoosingFunctionsInThePage(t *testing.T) {
	r := demo(t)
	wren := commands{t, []string{"RUDMAR_SERVER=" + r.address, "RUDMAR_HANDLE=wren", "RUDMAR_PASSWORD=orchard-at-dawn"}}
	wren.refused("delivery ask frostline 7 preview --only warn", "allow it there by enter: {allow_partial: true}")
	wren.refused("delivery ask frostline 6 live --only moon", "does not differ from what is there")
	wren.refused("delivery ask frostline 6 live --at soon", "is not a time")
	wren.refused("delivery ask frostline 6 live --at 2020-01-01T10:00:00Z", "2020-01-01 10:00 UTC is over")
	wren.want("delivery ask frostline 6 live --at " + time.Now().Add(time.Hour).Format(time.RFC3339))
	until(t, "the gate says who asked", func() bool {
		out, err := wren.run("delivery", "show", "frostline", "6", "live")
		return err == nil && strings.Contains(out, "requested by wren, from ")
	})
	p := r.open(browse(t), "wren")
	p.goTo("deliveries/7/preview")
	p.reads("No actions available") // it waits for others; what it means wren may know all the same
	p.press("^Impact of version")
	p.reads("relay can now read secrets/sms_key", "What differs in code and manifests from version 6")
	p.goTo("deliveries/6/live")
	p.reads("requested by wren, from ", "Looked at what it means", "Not before")
	p.press("^Ask for some of its functions alone")
	p.click(`input[value="night-report"]`)
	p.reads("What only night-report means in live")
	p.press("^Request delivery")
	p.reads("only night-report", "waiting for 2 more approvals")
	p.waits("the time to be gone", `() => !document.querySelector('main').textContent.includes('requested by wren, from')`)
	for _, council := range []string{"linden", "teasel"} {
		if status, text := r.act(council, 6, "live", "approve"); status != 204 {
			t.Fatalf("%s: %d %s", council, status, text)
		}
	}
	p.reads("settled", "only night-report", "without ", "Let the rest follow")
	wren.want("delivery show frostline 6 live", "only night-report; without")
	var plan api.SavedPlan
	r.ask("wren", "GET", "/services/frostline/plan?stage=live&version=6", nil, &plan)
	if len(plan.Plan.Steps) > 0 {
		t.Errorf("after it is settled there is left to do: %d steps", len(plan.Plan.Steps))
	}
	p.goTo("board?stage=live")
	p.reads("left out of 6", "Version 6 came into live without")
	p.goTo("functions/warn?stage=live")
	p.reads("changed last by version 3")
	wren.want("delivery follow frostline 6 live --confirm live", "What it means in live")
	p.goTo("deliveries/6/live")
	p.reads("the remaining functions follow", "waiting for 2 more approvals")
	p.goTo("journal")
	p.reads("night-report of version 6", "the remaining functions of version 6")
}
