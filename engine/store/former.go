package store

import (
	"encoding/json"
	"regexp"
	"strings"
)

// The journal never changes, so former entries are translated when they are read.

// formerActions is the one table of former actions of the journal.
func formerActions() map[string]string {
	return map[string]string{
		"person added": "user created", "person closed": "user closed", "person opened": "user reopened",
		"repository made": "repository created", "repository removed": "repository deleted",
		"service made": "service created", "service removed": "service deleted",
		"private copy made": "private copy created", "private copy taken away": "private copy deleted",
		"token made": "token created", "token ended": "token revoked", "secrets gone": "secrets lost",
		"asked for": "delivery requested", "took an approval back": "approval withdrawn",
		"passed over a gate": "gate overridden", "left a change made by hand": "drift ignored",
		"no longer leaves a change made by hand": "drift no longer ignored",
		"notices asked for":                      "notification target created", "notices ended": "notification target deleted",
		"sign-in refused": "sign-in failed", "ran the cases": "cases run", "called by hand": "function invoked manually",
		"message tried again": "message retried", "message taken away": "message deleted", "refused": "denied",
		"deployment done": "deployment succeeded", "deployment partly done": "deployment partially-succeeded",
		"deployment stopped": "deployment failed", "shift: hold": "traffic shift: pause", "shift: release": "traffic shift: resume",
		"shift: further": "traffic shift: advance", "shift: back": "traffic shift: abort",
	}
}

// present returns an entry in the present words.
func (e Entry) present(actions map[string]string) Entry {
	if now, ok := actions[e.What]; ok {
		if e.What == "asked for" && strings.Contains(e.Text, " onto ") {
			now = "deployment requested"
		}
		if e.What == "token made" {
			e.Text = formerToken.ReplaceAllString(e.Text, ", $1 in $2, expires $3")
		}
		e.What = now
	}
	e.Text = presentText(e.Text)
	return e
}

// actionNames returns an action with the names under which it is stored, as JSON.
func actionNames(action string) string {
	names := []string{action}
	for former, now := range formerActions() {
		if now == action || former == "asked for" && action == "deployment requested" {
			names = append(names, former)
		}
	}
	text, _ := json.Marshal(names) //nolint:errchkjson // strings have a form in JSON
	return string(text)
}

// formerTexts are stored texts of before, with their present form.
var formerTexts = []struct {
	was *regexp.Regexp
	now string
}{
	{regexp.MustCompile(`^(version \d+) is proving$`), "$1 is testing"},
	{regexp.MustCompile(`^(version \d+) is stopped`), "$1 failed"},
	{regexp.MustCompile(`^(version \d+) is refused`), "$1 was rejected"},
	{regexp.MustCompile(`^(version \d+) is overtaken`), "$1 was superseded"},
	{regexp.MustCompile(`^(version \d+) (is went back|went back)`), "$1 was rolled back"},
	{regexp.MustCompile(`^(version \d+) was put back$`), "rolled back to $1"},
	{regexp.MustCompile(`^(version \d+) took the stage away$`), "$1 deleted the stage"},
	{regexp.MustCompile(`^(version \d+) onto `), "$1 to "},
	{regexp.MustCompile(`^a newer version came$`), "superseded by a newer version"},
	{regexp.MustCompile(`^it did not get through the stage before$`), "the version did not pass the preceding stage"},
	{regexp.MustCompile(`^it gets all calls$`), "it receives all traffic"},
	{regexp.MustCompile(`^no case runs here$`), "no case runs in this stage"},
	{regexp.MustCompile(`^nothing is left there$`), "nothing is deployed"},
	{regexp.MustCompile(`^asked for by `), "requested by "},
	{regexp.MustCompile(`^waits for somebody to ask for it$`), "waiting for a delivery request"},
	{regexp.MustCompile(`^taken back by `), "rolled back by "},
	{regexp.MustCompile(`^passed over by (.*) \(else: (.*)\)$`), "overridden by $1 (otherwise: $2)"},
	{regexp.MustCompile(`^what is live in (\S+) on (\S+) is otherwise than it was put there, or no longer is$`),
		"the actual state of $1 on $2 differs from the record"},
}

// formerToken is how the creation of a token was recorded: its permissions, scope and expiry.
var formerToken = regexp.MustCompile(`, for (.*) in (.*), until (.*)$`)

// presentText returns a stored text in the present words.
func presentText(text string) string {
	for _, f := range formerTexts {
		text = f.was.ReplaceAllString(text, f.now)
	}
	return text
}
