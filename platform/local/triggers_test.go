package local_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"rudmar/core/event"
	"rudmar/core/language"
	"rudmar/core/manifest"
)

// TestEveryTrigger invokes a function by each kind of trigger, with each of its values, and by no other.
func TestEveryTrigger(t *testing.T) {
	if got := strings.Join(append(language.TriggerEvents("objects"), language.TriggerEvents(string(manifest.FunctionTrigger))...),
		" "); got != strings.Join([]string{event.Created, event.Changed, event.Deleted, event.Succeeded, event.Failed}, " ") {
		t.Errorf("the language has the words %s", got)
	}
	c := &clock{now: time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)}
	s, end := again(t, t.TempDir(), c.Now)
	defer end()
	s.looker()
	s.deploy("source", `
import rudmar
def run(call):
    what = call.event["what"]
    if what == "fail":
        raise RuntimeError("it fails")
    if what == "write":
        rudmar.objects("photos").write("a.jpg", b"x")
    if what == "delete":
        rudmar.objects("photos").delete("a.jpg")
    if what == "send":
        rudmar.queue("readings").send({"n": 1})
`, nil)
	s.put("grant/source/objects/photos", map[string]any{"resource": "objects/photos", "verbs": []any{"write", "delete"}})
	s.put("grant/source/queues/readings", map[string]any{"resource": "queues/readings", "verbs": []any{"send"}})
	happens := map[string][]string{ // causes each value of a trigger
		"objects created": {"write"}, "objects changed": {"write", "write"}, "objects deleted": {"write", "delete"},
		"after_function succeeded": {"succeed"}, "after_function failed": {"fail"},
	}
	for _, kind := range manifest.TriggerKinds() {
		words := language.TriggerEvents(string(kind))
		if words == nil {
			words = []string{""}
		}
		for _, word := range words {
			name := strings.TrimRight(fmt.Sprintf("by-%s-%s", kind, word), "-")
			s.noting(name, nil)
			on := map[string]any{"enabled": true}
			if word != "" {
				on["events"] = []any{word}
			}
			want := ""
			switch kind {
			case manifest.RouteTrigger:
				s.route(name, "t", "GET", "/asked")
				if answer, body := s.request("GET", "/asked"); answer.StatusCode != 200 {
					t.Errorf("%s: %d %s", name, answer.StatusCode, body)
				}
				want = "rudmar.route.requested"
			case manifest.CronTrigger, manifest.EveryTrigger:
				schedule := map[string]any{"cron": "*/5 * * * *", "zone": "UTC", "enabled": true}
				if kind == manifest.EveryTrigger {
					schedule = map[string]any{"every": 300_000.0, "enabled": true}
				}
				s.put("schedule/"+name+"/t", schedule)
				c.set(c.Now().Add(6 * time.Minute))
				want = "rudmar.schedule.fired"
			case manifest.QueueTrigger:
				on["source"] = "queue/readings"
				s.put("subscription/"+name+"/t", on)
				s.call("source", map[string]any{"what": "send"})
				want = "rudmar.queue.messages"
			case manifest.ObjectsTrigger, manifest.FunctionTrigger:
				s.call("source", map[string]any{"what": "delete"}) // as if nothing had been
				on["source"] = map[manifest.TriggerKind]string{manifest.ObjectsTrigger: "objects/photos",
					manifest.FunctionTrigger: "function/source"}[kind]
				s.put("subscription/"+name+"/t", on)
				steps := happens[string(kind)+" "+word]
				if steps == nil {
					t.Fatalf("nothing makes %s of %s happen", word, kind)
				}
				for _, step := range steps {
					s.call("source", map[string]any{"what": step})
				}
				want = "rudmar.object." + word
				if kind == manifest.FunctionTrigger {
					want = "rudmar.function." + word
				}
			default:
				t.Fatalf("the kind %s is not tried", kind)
			}
			until(t, name+" was called", func() bool { return len(s.seen(name)) > 0 })
			for _, e := range s.seen(name) {
				if got, _ := e["type"].(string); got != want {
					t.Errorf("%s got %q, want %q", name, got, want)
				}
			}
			c.set(c.Now().Add(time.Second))
			if kind == manifest.ObjectsTrigger || kind == manifest.FunctionTrigger {
				if n := len(s.seen(name)); n != 1 && !(word == event.Succeeded && n > 0) {
					t.Errorf("%s was called %d times", name, n)
				}
			}
		}
	}
}
