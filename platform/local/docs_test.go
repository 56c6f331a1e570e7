package local_test

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"os"
	"regexp"
	"strings"
	"testing"

	"rudmar/core/event"
	"rudmar/platform/api"
	"rudmar/platform/local/wasm"
)

// code returns the piece of docs/functions.md in a language.
func code(t *testing.T, language string) string {
	t.Helper()
	text, err := os.ReadFile("../../docs/functions.md")
	must(t, err)
	found := regexp.MustCompile("(?s)```" + language + "\n(.*?)```").FindStringSubmatch(string(text))
	if found == nil {
		t.Fatalf("docs/functions.md has no code in %s", language)
	}
	return found[1]
}

// TestDocumentedCode runs the code of docs/functions.md about resources.
func TestDocumentedCode(t *testing.T) {
	s := newStand(t)
	s.deploy("py", code(t, "python"), nil)
	s.deployFile("js", "main.mjs", []byte(code(t, "js")), map[string]any{"runtime": "node"})
	s.deployFile("go", wasm.File, compileGo(t, code(t, "go")), map[string]any{"runtime": "go"})
	if status, text := s.hand("PUT", "north/frostline/trial/secrets/sms_key", "s3cret"); status != http.StatusNoContent {
		t.Fatal(status, text)
	}
	for fn, want := range map[string]string{
		"py": "[map[limit:0.5] map[hill:map[limit:0.5]] bytes [raw/hill.jpg] s3cret]",
		"js": "[map[limit:0.5] map[hill:map[limit:0.5]] bytes [raw/hill.jpg] s3cret]", "go": "[map[limit:0.5] bytes s3cret]",
	} {
		for resource, verbs := range map[string][]any{"tables/stations": {"read", "query", "write", "delete"},
			"objects/photos": {"read", "list", "write", "delete"}, "queues/alerts": {"send"}, "secrets/sms_key": {"read"}} {
			s.put("grant/"+fn+"/"+resource, map[string]any{"resource": resource, "verbs": verbs})
		}
		if inv := s.call(fn, nil); inv.Outcome != api.Succeeded || fmt.Sprint(inv.Response) != want {
			t.Errorf("%s: %v %+v", fn, inv.Response, inv.Error)
		}
	}
}

// TestDocumentedEvents holds the events of docs/functions.md against those that
// are made: the request that it shows, and the keys of each kind of data.
func TestDocumentedEvents(t *testing.T) {
	s := newStand(t)
	s.deploy("warn", "def run(call): return {'status': 200, 'body': call.event}\n", nil)
	s.route("warn", "ask", "GET", "/stations/{station}/frost")
	_, answer := s.with(map[string]string{"Accept": "text/plain"}, "GET", "/stations/hill/frost?unit=c&day=mon&day=tue", nil)
	var got, want map[string]any
	must(t, errors.Join(json.Unmarshal([]byte(answer), &got),
		json.Unmarshal([]byte(code(t, "json route")), &want)))
	headers, _ := got["headers"].(map[string]any)
	got["headers"] = map[string]any{"accept": headers["accept"]}
	if wrong := event.Check(event.Route, got); len(wrong) > 0 {
		t.Errorf("%q", wrong)
	}
	got["id"], got["time"] = want["id"], want["time"]
	if fmt.Sprint(got) != fmt.Sprint(want) {
		t.Errorf("got\n%v\nthe docs say\n%v", got, want)
	}

	text, err := os.ReadFile("../../docs/functions.md")
	must(t, err)
	of := event.Of{}
	object := event.Object{Store: "photos", Key: "a.jpg"}
	ended := event.End{Outcome: "answered"}
	for _, e := range []map[string]any{of.Fired("s", 0), of.Written(event.Created, object),
		of.Written(event.Changed, object), of.Deleted(object), of.Messages("q", []event.Message{{}}), of.Ended(ended),
		of.Ended(event.End{})} {
		row := regexp.MustCompile("(?m)^\\|.*`" + regexp.QuoteMeta(fmt.Sprint(e["type"])) +
			"` \\|(.*)\\|$").FindStringSubmatch(string(text))
		if row == nil {
			t.Errorf("the docs have no row for %v", e["type"])
			continue
		}
		if strings.Contains(row[1], "the same") {
			continue
		}
		data, _ := e["data"].(map[string]any)
		for key := range data {
			if !strings.Contains(row[1], "`"+key+"`") {
				t.Errorf("the docs do not say that %v has %s", e["type"], key)
			}
		}
		for _, named := range regexp.MustCompile("`([a-z_]+)`").FindAllStringSubmatch(row[1], -1) {
			if _, there := data[named[1]]; !there && !strings.Contains("id body attempts sent_at", named[1]) {
				t.Errorf("%v has no %s", e["type"], named[1])
			}
		}
		for _, key := range []string{"specversion", "id", "source", "type", "time"} {
			if _, there := e[key]; !there {
				t.Errorf("%v has no %s", e["type"], key)
			}
		}
	}
}
