package local_test

import (
	"database/sql"
	"fmt"
	"net/http"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"rudmar/platform"
)

// noting is a function that stores its events, and fails for bad ones.
const noting = `
import json
import rudmar
def run(call):
    event = call.event
    if event.get("fail") or "bad" in json.dumps(event.get("data")):
        raise ValueError("bad")
    rudmar.table("seen").write(call.function + "-" + call.id, event)
`

func (s *stand) noting(name string, changes map[string]any) {
	s.Helper()
	s.deploy(name, noting, changes)
	s.put("grant/"+name+"/tables/seen", map[string]any{"resource": "tables/seen", "verbs": []any{"write", "query"}})
}

// seen returns the events that a function stored, through a function with read permission.
func (s *stand) seen(name string) []map[string]any {
	s.Helper()
	inv := s.call("looker", map[string]any{"prefix": name + "-"})
	rows, _ := inv.Response.(map[string]any)
	var out []map[string]any
	for _, row := range rows {
		out = append(out, row.(map[string]any))
	}
	return out
}

func (s *stand) looker() {
	s.Helper()
	s.deploy("looker", "import rudmar\ndef run(call):\n    return rudmar.table('seen').query(call.event['prefix'])\n", nil)
	s.put("grant/looker/tables/seen", map[string]any{"resource": "tables/seen", "verbs": []any{"query"}})
}

func (s *stand) deadLetters() int {
	s.Helper()
	list, err := s.client.Messages(s.Context(), s.scope, true)
	must(s, err)
	return len(list)
}

// Messages are delivered in batches, once there are enough or the oldest has waited; after five failures a
// message is a dead letter, which can be read and retried.
func TestQueues(t *testing.T) {
	c := &clock{now: time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)}
	s, end := again(t, t.TempDir(), c.Now)
	defer end()
	s.looker()
	s.noting("intake", nil)
	s.put("subscription/intake/reading",
		map[string]any{"source": "queue/readings", "batch_size": 3.0, "max_wait": 60_000.0, "enabled": true})
	s.deploy("sender", "import rudmar\ndef run(call):\n    return rudmar.queue(call.event['to']).send(call.event['body'])\n", nil)
	s.put("grant/sender/queues/readings", map[string]any{"resource": "queues/readings", "verbs": []any{"send"}})
	send := func(body any) {
		if inv := s.call("sender", map[string]any{"to": "readings", "body": body}); inv.Error != nil {
			t.Fatal(inv.Error.Message)
		}
	}
	if inv := s.call("sender", map[string]any{"to": "others", "body": 1}); inv.Error == nil ||
		!strings.Contains(inv.Error.Message, "cannot send queues/others") {
		t.Errorf("a queue that is not granted: %+v", inv)
	}
	send(1)
	send(2)
	if got := s.seen("intake"); len(got) != 0 {
		t.Errorf("before the batch is full: %v", got)
	}
	send(3)
	until(t, "a whole batch comes", func() bool { return len(s.seen("intake")) == 1 })
	data := s.seen("intake")[0]["data"].(map[string]any)
	if list := data["messages"].([]any); len(list) != 3 || list[2].(map[string]any)["body"] != 3.0 ||
		data["queue"] != "readings" {
		t.Errorf("the batch: %v", data)
	}
	send(4)
	c.set(c.Now().Add(time.Minute))
	until(t, "it waited long enough", func() bool { return len(s.seen("intake")) == 2 })

	send("bad")
	for attempt := range 5 {
		c.set(c.Now().Add(10 * time.Minute))
		until(t, fmt.Sprintf("attempt %d was made", attempt+1), func() bool {
			waiting, err := s.client.Messages(t.Context(), s.scope, false)
			return err == nil && len(waiting) == 1 && waiting[0].Attempts == attempt+1 &&
				waiting[0].DueAt > c.Now().UnixMilli() || s.deadLetters() == 1
		})
	}
	list, err := s.client.Messages(t.Context(), s.scope, true)
	if err != nil || len(list) != 1 || list[0].Body != "bad" || list[0].Reason != "ValueError: bad" ||
		list[0].Source != "queues/readings" || list[0].Attempts != 5 {
		t.Fatalf("dead letters: %+v %v", list, err)
	}
	s.deploy("intake", strings.Replace(noting, `"bad" in`, `"worse" in`, 1), nil)
	must(t, s.client.RetryMessage(t.Context(), s.scope, list[0].Id))
	c.set(c.Now().Add(10 * time.Minute))
	until(t, "it comes through", func() bool { return len(s.seen("intake")) == 3 && s.deadLetters() == 0 })
	if err := s.client.RetryMessage(t.Context(), s.scope, list[0].Id); !platform.HasStatus(err, http.StatusNotFound) {
		t.Errorf("sent again what is gone: %v", err)
	}
}

// A message that arrives at the function's concurrency limit waits, which is not an attempt.
func TestThrottledMessageIsNotAnAttempt(t *testing.T) {
	c := &clock{now: time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)}
	s, end := again(t, t.TempDir(), c.Now)
	defer end()
	s.looker()
	s.noting("intake", map[string]any{"max_concurrency": 1.0})
	const all = 8
	for i := range all {
		if status, text := s.hand("POST", "north/frostline/trial/queues/readings", i); status != http.StatusAccepted {
			t.Fatal(status, text)
		}
	}
	s.put("subscription/intake/reading",
		map[string]any{"source": "queue/readings", "batch_size": 1.0, "max_wait": 0.0, "enabled": true})
	throttled := func() (n int) {
		t.Helper()
		minutes, err := s.client.Metrics(t.Context(), s.scope, time.Time{})
		must(t, err)
		for _, m := range minutes {
			n += m.Throttled
		}
		return n
	}
	until(t, "some had to wait, and all have come", func() bool {
		c.set(c.Now().Add(2 * time.Second))
		return len(s.seen("intake")) == all && throttled() > 0
	})
	for _, e := range s.seen("intake") {
		for _, m := range e["data"].(map[string]any)["messages"].([]any) {
			if n := m.(map[string]any)["attempts"]; n != 1.0 {
				t.Errorf("attempt %v of %v", n, m)
			}
		}
	}
	if n := s.deadLetters(); n > 0 {
		t.Errorf("%d are dead letters", n)
	}
}

// At most four invocations of one subscription run concurrently.
func TestParallelDeliveries(t *testing.T) {
	s := newStand(t)
	s.deploy("intake", "import time\ndef run(call):\n    time.sleep(0.2)\n", map[string]any{"max_concurrency": 4.0})
	for i := range 12 {
		if status, text := s.hand("POST", "north/frostline/trial/queues/readings", i); status != http.StatusAccepted {
			t.Fatal(status, text)
		}
	}
	s.put("subscription/intake/reading", map[string]any{"source": "queue/readings", "batch_size": 1.0, "max_wait": 0.0, "enabled": true})
	until(t, "all have come", func() bool {
		minutes, err := s.client.Metrics(t.Context(), s.scope, time.Time{})
		must(t, err)
		calls := 0
		for _, m := range minutes {
			if calls += m.Invocations; m.Throttled > 0 {
				t.Fatal("more than four came at once")
			}
		}
		return calls == 12
	})
}

// Deliveries in progress at the platform's end are repeated after its restart.
func TestMessagesSurviveRestart(t *testing.T) {
	dir := t.TempDir()
	s, end := again(t, dir, time.Now)
	for i := range 20 {
		if status, text := s.hand("POST", "north/frostline/trial/queues/readings", i); status != http.StatusAccepted {
			t.Fatal(status, text)
		}
	}
	end()
	db, err := sql.Open("sqlite", "file:"+filepath.Join(dir, "platform.db"))
	must(t, err)
	// They were in progress at the end, without a record of the first two attempts.
	if _, err := db.Exec(`UPDATE messages SET taken = 1;
		CREATE TABLE tries (at INTEGER);
		CREATE TRIGGER full BEFORE UPDATE OF taken ON messages WHEN NEW.taken = 0 AND (SELECT count(*) FROM tries) < 2
		BEGIN INSERT INTO tries VALUES (1); SELECT RAISE(FAIL, 'the disk is full'); END`); err != nil {
		t.Fatal(err)
	}
	db.Close()
	s, end = again(t, dir, time.Now)
	defer end()
	s.looker()
	s.noting("intake", nil)
	s.put("subscription/intake/reading",
		map[string]any{"source": "queue/readings", "batch_size": 4.0, "max_wait": 0.0, "enabled": true})
	until(t, "all have come", func() bool {
		seen := map[any]bool{}
		for _, event := range s.seen("intake") {
			for _, m := range event["data"].(map[string]any)["messages"].([]any) {
				seen[m.(map[string]any)["body"]] = true
			}
		}
		return len(seen) == 20
	})
}

func TestObjectsAndFunctionEnds(t *testing.T) {
	s := newStand(t)
	s.looker()
	s.noting("thumb", nil)
	s.put("subscription/thumb/photo",
		map[string]any{"source": "objects/photos", "events": []any{"created"}, "match": "raw/**/*.jpg", "enabled": true})
	s.noting("tidy", nil)
	s.put("subscription/tidy/gone", map[string]any{"source": "objects/photos", "events": []any{"deleted"}, "enabled": true})
	s.noting("relay", nil)
	s.put("subscription/relay/failed", map[string]any{"source": "function/camera", "events": []any{"failed"}, "enabled": true})
	s.deploy("camera", `
import rudmar
def run(call):
    if call.event.get("break"):
        raise RuntimeError("no film")
    photos = rudmar.objects("photos")
    photos.write("raw/hill/1.jpg", bytes(range(256)), type="image/jpeg")
    photos.write("raw/notes.txt", b"notes")
    listed = [o["key"] for o in photos.list("raw/")]
    same = photos.read("raw/hill/1.jpg") == bytes(range(256))
    photos.delete("raw/notes.txt")
    photos.delete("raw/never.txt")
    return {"listed": listed, "same": same, "none": photos.read("raw/notes.txt"), "key": rudmar.secret("sms_key")}
`, nil)
	s.put("grant/camera/objects/photos",
		map[string]any{"resource": "objects/photos", "verbs": []any{"read", "write", "list"}})
	s.put("grant/camera/objects/photos/raw/*",
		map[string]any{"resource": "objects/photos/raw/*", "verbs": []any{"delete"}})
	s.put("grant/camera/secrets/sms_key", map[string]any{"resource": "secrets/sms_key", "verbs": []any{"read"}})
	if status, text := s.hand("PUT", "north/frostline/trial/secrets/sms_key", "s3cret"); status != http.StatusNoContent {
		t.Fatal(status, text)
	}
	inv := s.call("camera", map[string]any{})
	if got := fmt.Sprint(inv.Response); got != `map[key:s3cret listed:[raw/hill/1.jpg raw/notes.txt] none:<nil> same:true]` {
		t.Errorf("%s %+v", got, inv.Error)
	}
	until(t, "the photo's event comes", func() bool { return len(s.seen("thumb")) == 1 })
	if e := s.seen("thumb")[0]; e["type"] != "rudmar.object.created" || e["subject"] != "raw/hill/1.jpg" ||
		e["specversion"] != "1.0" || e["data"].(map[string]any)["size"] != 256.0 {
		t.Errorf("the event: %v", e)
	}
	until(t, "the deletion's event comes", func() bool { return len(s.seen("tidy")) == 1 })
	if len(s.seen("relay")) != 0 {
		t.Error("called after a function that did not fail")
	}
	s.call("camera", map[string]any{"break": true})
	until(t, "the failure's event comes", func() bool { return len(s.seen("relay")) == 1 })
	if e := s.seen("relay")[0]; e["type"] != "rudmar.function.failed" ||
		e["data"].(map[string]any)["outcome"] != "failed" {
		t.Errorf("the event: %v", e)
	}
}

// Loops of functions are stopped.
func TestTriggerLoops(t *testing.T) {
	s := newStand(t)
	s.deploy("echo", "def run(call):\n    return 1\n", nil)
	s.put("subscription/echo/again", map[string]any{"source": "function/echo", "enabled": true})
	s.call("echo", nil)
	until(t, "the circle is told", func() bool {
		lines, err := s.client.Logs(t.Context(), s.scope, platform.LogQuery{Function: "echo"})
		return err == nil && strings.Contains(fmt.Sprint(lines), "probably in a cycle")
	})
}

// A secret is deployed with its read permission, changes with it, and survives outside changes.
func TestSecretsRequirePermission(t *testing.T) {
	s := newStand(t)
	s.deploy("warn", "import os, rudmar\ndef run(call):\n    return [rudmar.secret('sms_key'), rudmar.secret('kept')]\n",
		nil)
	s.put("grant/warn/secrets/kept", map[string]any{"resource": "secrets/kept", "verbs": []any{"read"}})
	if status, text := s.hand("PUT", "north/frostline/trial/secrets/kept", "by hand"); status != 204 {
		t.Fatal(status, text)
	}
	grant := func(key, value string) {
		t.Helper()
		if _, err := s.client.Put(t.Context(), s.scope, "grant/warn/secrets/sms_key",
			platform.Change{Key: key, Secrets: map[string]string{"value": value},
				Attributes: map[string]any{"resource": "secrets/sms_key", "verbs": []any{"read"},
					"value": fmt.Sprint("secret ", len(value))}}); err != nil {
			t.Fatal(err)
		}
	}
	for _, value := range []string{"first", "second"} {
		grant("of-"+value, value)
		if inv := s.call("warn", nil); fmt.Sprint(inv.Response) != "["+value+" by hand]" {
			t.Errorf("%v %+v", inv.Response, inv.Error)
		}
	}
	if status, text := s.hand("PUT", "north/frostline/trial/grant%2Fwarn%2Fsecrets%2Fsms_key",
		map[string]any{"verbs": []any{"read", "list"}}); status != 200 {
		t.Fatal(status, text)
	}
	if inv := s.call("warn", nil); fmt.Sprint(inv.Response) != "[second by hand]" {
		t.Errorf("after a change by hand: %v %+v", inv.Response, inv.Error)
	}
	snapshot, err := s.client.Snapshot(t.Context(), s.scope)
	must(t, err)
	if text := fmt.Sprint(snapshot); strings.Contains(text, "second") || strings.Contains(text, "by hand") {
		t.Error("the snapshot tells a secret")
	}
}
