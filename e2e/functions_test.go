package e2e

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/go-rod/rod"

	"rudmar/server/api"
)

// A dead letter is read and retried, and deleted after it failed again; metrics are drawn; a missing secret is
// set in the plan, and reaches the function with the deployment.
func TestFunctionsInThePage(t *testing.T) {
	r := demo(t)
	browser := browse(t)
	linden := r.open(browser, "linden")
	linden.goTo("functions/relay/messages?stage=live")
	linden.reads("version 3 in live has no function relay")
	linden.goTo("functions/warn/messages?stage=live")
	linden.reads("No messages", "A message that fails five times becomes a dead letter")
	token := filepath.Join(r.data, "platform.token")
	sent := func(body string) {
		t.Helper()
		if out, err := run(t, r.data, program, "platform", "send", "north/frostline/trial", "alerts", body, "--platform",
			r.platformAddress(), "--platform-token-file", token); err != nil {
			t.Fatal(out)
		}
	}
	sent(`{"station": "moon", "celsius": -40}`)
	linden.goTo("functions/warn/metrics?stage=trial")
	linden.reads("Invocations", "Duration of warm invocations", "Distribution of warm durations", "By version and revision", "cost", "EUR")
	linden.sees("a chart that is drawn", "figure canvas")
	linden.choose(`select[aria-label="Period"]`, "Last day")
	linden.reads("By version and revision")

	linden.goTo("plan?stage=live&version=7")
	linden.reads("Blockers", `the secret "sms_key" has no value in live`, "Secrets of live", "secret without a value")
	linden.press("^Set value")
	linden.fill(`input[aria-label="Value of sms_key in live"]`, "hush-hush")
	linden.press("^Save value")
	linden.reads("enters live through its delivery")
	linden.goTo("functions/warn/configuration?stage=live")
	linden.reads("sms_key", "set by linden")
	linden.goTo("journal")
	linden.reads("secret set")

	linden.goTo("functions/relay/messages?stage=trial")
	until(t, "the message is a dead letter", func() bool {
		var deadLetters []api.Message
		r.ask("wren", "GET", "/services/frostline/stages/trial/messages?target=local/north&deadLetter=true", nil, &deadLetters)
		return slices.ContainsFunc(deadLetters, func(m api.Message) bool { return strings.Contains(fmt.Sprint(m.Body), "moon") })
	})
	linden.press("^Refresh")
	linden.reads("queues/alerts", "no phone number for moon")
	linden.goTo("board?stage=trial")
	linden.reads("failed five times", "in trial")
	linden.press("failed five times")
	linden.reads("Dead letters: ")
	linden.hit("Delete", func(page *rod.Page) (*rod.Element, error) {
		return page.ElementX(`//tr[contains(., "moon")]//button[contains(., "Delete")]`)
	})
	linden.reads("Deleted messages cannot be restored", "Type relay to confirm")
	linden.fill(".modal input", "relay")
	linden.press("^Delete 1 message")
	linden.reads("1 message deleted")
	linden.goTo("journal")
	linden.reads("message deleted")

	// At the command line, with a new value that the next plan deploys.
	password := tokenFile(t, "orchard-at-dawn")
	cli := func(stdin string, args ...string) (string, error) {
		return runWith(t, stdin, r.data, program,
			append(args, "--server", r.address, "--username", "linden", "--password-file", password)...)
	}
	if out, err := cli("", "secret", "list", "frostline", "live"); err != nil || !strings.Contains(out, "sms_key") ||
		!strings.Contains(out, "set by linden") || !strings.Contains(out, "relay") {
		t.Errorf("%v %s", err, out)
	}
	if out, err := cli("", "secret", "set", "frostline", "trial", "sms_key"); err == nil ||
		!strings.Contains(out, "on standard input") {
		t.Errorf("an empty secret: %v %s", err, out)
	}
	if out, err := cli("x", "secret", "set", "frostline", "trial", "other"); err == nil ||
		!strings.Contains(out, `declares no secret "other"`) {
		t.Errorf("an unknown secret: %v %s", err, out)
	}
	if out, err := cli("a new key\n", "secret", "set", "frostline", "trial", "sms_key"); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	linden.goTo("plan?stage=trial")
	linden.reads("grant/relay/secrets/sms_key")
	linden.press("^Deploy version")
	linden.reads("1 of 1 step succeeded")
	sent(`{"station": "hill", "celsius": -1}`)
	log := r.open(browser, "wren")
	log.goTo("functions/relay/logs?stage=trial")
	log.reads("with a key of 9 characters")
}
