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

// An administrator adds a notification target, sees that internal addresses are refused, and reads the
// responses; others are denied.
func TestNotificationsInThePage(t *testing.T) {
	r := demo(t)
	addHeron(t, r)
	heron := commands{t, []string{"RUDMAR_SERVER=" + r.address, "RUDMAR_USERNAME=heron", "RUDMAR_PASSWORD=orchard-at-dawn"}}
	wren := commands{t, []string{"RUDMAR_SERVER=" + r.address, "RUDMAR_USERNAME=wren", "RUDMAR_PASSWORD=orchard-at-dawn"}}
	wren.refused("notification create board http://localhost:9/board", "not allowed")
	heron.refused("notification create board http://127.0.0.1:9/", "address is internal")
	heron.refused("notification create board http://localhost:9/board --type delivery.lost", "unknown type")
	heron.refused("notification show nothing", "no notification target")
	heron.want("notification create all http://localhost:9/all --service watering", "cannot be shown again")
	heron.want("notification list", "all", "watering")
	heron.want("notification delete all")

	p := r.open(browse(t), "heron")
	p.arrive("/notifications")
	p.reads("No targets. Create one below.")
	p.fill("input[autocomplete=off]", "board")
	p.fill("input[type=url]", "http://10.0.0.1/")
	p.press("^Create target")
	p.reads("the address is internal")
	p.fill("input[type=url]", "http://localhost:9/board")
	p.press("^Create target")
	p.reads("cannot be shown again")
	if status, text := r.act("linden", 7, "preview", "approve"); status != 204 { // something happens
		t.Fatalf("%d %s", status, text)
	}
	p.press("Show notifications")
	p.reads("delivery.planning", "1 attempt", "address is internal", "retries automatically")
	p.press("^Delete…")
	p.press("^Delete$")
	p.reads("No targets. Create one below.")
	teasel := r.open(browse(t), "teasel")
	teasel.arrive("/notifications")
	teasel.reads("No targets.", "Only administrators can create targets")
}

// An administrator overrides a gate with a reason, and an approver withdraws an approval.
func TestOverrideInThePage(t *testing.T) {
	r := demo(t)
	addHeron(t, r)
	browser := browse(t)
	linden := r.open(browser, "linden")
	if status, text := r.act("linden", 6, "live", "approve"); status != 204 {
		t.Fatalf("%d %s", status, text)
	}
	linden.arrive("/s/frostline/deliveries/6/live")
	linden.reads("Approvals")
	linden.press("^Withdraw approval")
	linden.waits("the approval to be gone", `() => !document.body.innerText.includes('Withdraw approval')`)

	heron := r.open(browser, "heron")
	heron.arrive("/s/frostline/deliveries/7/preview")
	heron.reads("Impact of version 7 in preview", "Override a gate with this reason")
	heron.fill("input[placeholder=Reason]", "linden is on the mountain")
	heron.choose("aside select", "approval")
	heron.press("^Override")
	heron.reads("overridden by heron: linden is on the mountain")
	r.settles(7, "preview")
	if status, text := r.try("linden", "POST", base+"/deliveries/6/stages/live/override",
		map[string]string{"gate": "approval", "comment": "why not"}, nil); status != 403 {
		t.Errorf("an approver passes over: %d %s", status, text)
	}
}

// addHeron adds an administrator, whom the demo has not.
func addHeron(t *testing.T, r *rig) {
	t.Helper()
	if out, err := person(t, r, "orchard-at-dawn\n", "create", "heron", "--role", "administrator"); err != nil {
		t.Fatal(out)
	}
}

// What removes something for good is confirmed by its name.
func TestConfirmingInThePage(t *testing.T) {
	r := demo(t)
	addHeron(t, r)
	p := r.open(browse(t), "heron")
	p.arrive("/services")
	p.fill("input[placeholder='Name']", "cellar")
	p.press("^Create")
	// The repository becomes a mirror, but not of an internal address.
	p.click(`[aria-label="Mirror of cellar"]`)
	p.fill(".modal.show input[type=url]", "http://10.1.2.3/cellar.git")
	p.key(input.Enter)
	p.reads("/pushed/cellar", "cannot be shown again")
	p.key(input.Escape)
	p.reads("the address is internal")
	heron := commands{t, []string{"RUDMAR_SERVER=" + r.address, "RUDMAR_USERNAME=heron", "RUDMAR_PASSWORD=orchard-at-dawn"}}
	wren := commands{t, []string{"RUDMAR_SERVER=" + r.address, "RUDMAR_USERNAME=wren", "RUDMAR_PASSWORD=orchard-at-dawn"}}
	heron.want("repository list", "mirrors http://10.1.2.3/cellar.git")
	heron.want("repository mirror cellar --now")
	wren.refused("repository mirror cellar http://10.1.2.3/other.git", "not allowed")
	heron.refused("repository mirror cellar file:///etc", "is not an https:// or http:// address")
	for _, name := range []string{"cellar", "lost"} { // without the key the response reveals nothing
		answer, err := http.Post(r.address+"/pushed/"+name, "application/json", strings.NewReader("{}"))
		if err != nil || answer.StatusCode != 403 {
			t.Errorf("a notice without a signature, for %s: %v %v", name, answer, err)
		}
	}
	heron.want("repository mirror cellar --end")

	p.click(`[aria-label="Delete cellar"]`)
	p.reads("This deletes the repository and its complete history", "Type cellar to confirm")
	p.waits("a dialog over the page", `() => getComputedStyle(document.querySelector('.modal')).position === 'fixed'`)
	p.fill(".modal.show input", "cella")
	p.key(input.Enter)
	p.press("^Cancel$")
	p.waits("no question", `() => !document.querySelector('.modal.show')`)
	p.reads("cellar")
	p.click(`[aria-label="Delete cellar"]`)
	p.fill(".modal.show input", "cellar")
	p.press("^Delete cellar$")
	p.waits("no cellar", `() => !document.querySelector('[aria-label="Delete cellar"]')`)
	var left []api.Repository
	r.ask("heron", "GET", "/repositories", nil, &left)
	if slices.ContainsFunc(left, func(o api.Repository) bool { return o.Name == "cellar" }) {
		t.Errorf("it exists: %+v", left)
	}
}

// A user requests some functions of a version; the others stay unchanged, the Board says so, and they follow on
// request.
func TestChoosingFunctionsInThePage(t *testing.T) {
	r := demo(t)
	wren := commands{t, []string{"RUDMAR_SERVER=" + r.address, "RUDMAR_USERNAME=wren", "RUDMAR_PASSWORD=orchard-at-dawn"}}
	wren.refused("delivery request frostline 7 preview --only warn", "allow a selection with enter: {allow_partial: true}")
	wren.refused("delivery request frostline 6 live --only moon", `"moon" is unchanged`)
	wren.refused("delivery request frostline 6 live --at soon", "is not a time")
	wren.refused("delivery request frostline 6 live --at 2020-01-01T10:00:00Z", "2020-01-01 10:00 UTC is in the past")
	wren.want("delivery request frostline 6 live --at " + time.Now().Add(time.Hour).Format(time.RFC3339))
	until(t, "the gate says who asked", func() bool {
		out, err := wren.run("delivery", "show", "frostline", "6", "live")
		return err == nil && strings.Contains(out, "requested by wren, not before ")
	})
	p := r.open(browse(t), "wren")
	p.goTo("deliveries/7/preview")
	p.reads("No actions available") // it waits for others; wren can see the impact all the same
	p.press("^Show impact in preview")
	p.reads("relay can now read secrets/sms_key", "Compare code and manifests with version 6")
	p.goTo("deliveries/6/live")
	p.reads("requested by wren, not before ", "Viewers of the impact", "Not before")
	p.press("^Select functions")
	p.click(`input[value="night-report"]`)
	p.reads("Impact of only night-report in live")
	p.press("^Request delivery")
	p.reads("only night-report", "waiting for 2 approvals")
	p.waits("the time to be gone", `() => !document.querySelector('main').textContent.includes('requested by wren, not before')`)
	for _, council := range []string{"linden", "teasel"} {
		if status, text := r.act(council, 6, "live", "approve"); status != 204 {
			t.Fatalf("%s: %d %s", council, status, text)
		}
	}
	p.reads("settled", "only night-report", "without ", "Request remaining functions")
	wren.want("delivery show frostline 6 live", "only night-report; without")
	var plan api.SavedPlan
	r.ask("wren", "GET", "/services/frostline/plan?stage=live&version=6", nil, &plan)
	if len(plan.Plan.Steps) > 0 {
		t.Errorf("after it is settled there is left to do: %d steps", len(plan.Plan.Steps))
	}
	p.goTo("board?stage=live")
	p.reads("not in version 6", "Version 6 entered live without")
	p.goTo("functions/warn?stage=live")
	p.reads("last changed by version 3")
	wren.want("delivery request-remaining frostline 6 live --confirm live", "Changes in live")
	p.goTo("deliveries/6/live")
	p.reads("the remaining functions follow", "waiting for 2 approvals")
	p.goTo("journal")
	p.reads("night-report of version 6", "the remaining functions of version 6")
}
