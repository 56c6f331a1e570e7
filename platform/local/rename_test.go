package local_test

import (
	"fmt"
	"net/http"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"rudmar/platform"
)

// TestRenamedFunction sends requests to a route while its function is renamed: each gets a response, and logs,
// metrics and messages are under the new name.
func TestRenamedFunction(t *testing.T) {
	s := newStand(t)
	s.deploy("old", "def run(call):\n    print('a line')\n    return 'yes'\n", nil)
	s.route("old", "ask", "GET", "/frost")
	s.put("opening/old/older", map[string]any{"to": []any{"anyone"}})
	s.deploy("old-timer", "def run(call): return 1\n", nil) // whose name begins alike
	address := fmt.Sprintf("%s/north/frostline/trial/frost", s.routes.URL)
	var calls, failed atomic.Int64
	stop, over := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(over)
		for {
			select {
			case <-stop:
				return
			default:
			}
			response, err := http.Get(address)
			if err != nil || response.StatusCode != http.StatusOK {
				failed.Add(1)
			}
			if err == nil {
				response.Body.Close()
			}
			calls.Add(1)
		}
	}()
	wait := func(n int64) {
		for limit := time.Now().Add(3 * time.Minute); calls.Load() < n; {
			if time.Now().After(limit) {
				t.Fatal("no calls")
			}
			time.Sleep(time.Millisecond) // interval of checks of a condition
		}
	}
	wait(20)
	wish := platform.Change{Key: "renamed", Attributes: map[string]any{"owner": "cold-nights"}, RenamedFrom: "old", Version: 4}
	for range 2 { // the same again does no harm
		if _, err := s.client.Put(t.Context(), s.scope, "identity/new", wish); err != nil {
			t.Fatal(err)
		}
	}
	wait(calls.Load() + 20)
	close(stop)
	<-over
	if failed.Load() > 0 {
		t.Errorf("%d of %d calls failed", failed.Load(), calls.Load())
	}
	snapshot, err := s.client.Snapshot(t.Context(), s.scope)
	must(t, err)
	var addresses []string
	for _, r := range snapshot.Resources {
		addresses = append(addresses, r.Address)
	}
	want := "function/new function/old-timer identity/new identity/old-timer logs/new logs/old-timer opening/new/ask opening/new/older pointer/new pointer/old-timer revision/new revision/old-timer route/new/ask"
	if got := strings.Join(addresses, " "); got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
	lines, counted := 0, 0
	for limit := time.Now().Add(time.Minute); (int64(lines) < calls.Load() || int64(counted) < calls.Load()) &&
		time.Now().Before(limit); {
		lines, counted = 0, 0
		found, err := s.client.Logs(t.Context(), s.scope, platform.LogQuery{Function: "new", Limit: 5000})
		must(t, err)
		for _, l := range found {
			if l.Text == "a line" {
				lines++
			}
		}
		minutes, err := s.client.Metrics(t.Context(), s.scope, time.Unix(0, 0))
		must(t, err)
		for _, m := range minutes {
			if m.Function == "old" {
				t.Fatalf("figures of the old name: %+v", m)
			}
			if m.Function == "new" {
				counted += m.Invocations
			}
		}
	}
	if int64(lines) != calls.Load() || int64(counted) != calls.Load() {
		t.Errorf("%d calls, %d lines, %d counted", calls.Load(), lines, counted)
	}
	for name, w := range map[string]struct {
		address string
		wish    platform.Change
	}{
		"one that is not":   {"identity/newer", platform.Change{RenamedFrom: "nobody"}},
		"one that is taken": {"identity/old-timer", platform.Change{RenamedFrom: "new"}},
		"a route":           {"route/x/ask", platform.Change{RenamedFrom: "new"}},
	} {
		w.wish.Key, w.wish.Attributes = "k-"+name, map[string]any{"owner": "x"}
		if name == "a route" {
			w.wish.Attributes = map[string]any{"method": "GET", "path": "/x"}
		}
		if _, err := s.client.Put(t.Context(), s.scope, w.address, w.wish); err == nil {
			t.Errorf("%s was renamed", name)
		}
	}
}
