package local_test

import (
	"fmt"
	"testing"

	"rudmar/platform/local"
)

// A pointer with two revisions divides the invocations by their shares; an identified caller always gets the
// same one.
func TestTrafficShares(t *testing.T) {
	s := newStand(t)
	s.deploy("warn", "def run(call):\n    return 'old'\n", nil)
	found, err := s.client.Snapshot(t.Context(), s.scope)
	must(t, err)
	ids := []string{}
	revision := func() string {
		for _, r := range found.Resources {
			if r.Address == "revision/warn" {
				return r.Attributes["id"].(string)
			}
		}
		return ""
	}
	ids = append(ids, revision())
	s.deploy("warn", "def run(call):\n    return 'new'\n", nil)
	if found, err = s.client.Snapshot(t.Context(), s.scope); err != nil {
		t.Fatal(err)
	}
	ids = append(ids, revision())
	if ids[0] == ids[1] {
		t.Fatal(ids)
	}
	s.put("pointer/warn", map[string]any{"shares": map[string]any{ids[0]: 75.0, ids[1]: 25.0}})
	s.route("warn", "ask", "GET", "/warn")
	call := func(sticky string) string {
		response, text := s.with(map[string]string{local.StickyHeader: sticky}, "GET", "/warn", nil)
		if response.StatusCode != 200 {
			t.Fatal(response.StatusCode, text)
		}
		return text
	}
	count := map[string]int{}
	for range 400 {
		count[call("")]++
	}
	// With a share of a quarter, 60 or fewer or 140 or more of 400 happen once in two million runs.
	if n := count["new"]; n < 60 || n > 140 {
		t.Errorf("of 400 calls %v", count)
	}
	spread := map[string]bool{}
	for caller := range 40 {
		name := fmt.Sprint("caller ", caller)
		first := call(name)
		spread[first] = true
		for range 4 {
			if again := call(name); again != first {
				t.Fatalf("%s came to %s and then to %s", name, first, again)
			}
		}
	}
	if len(spread) != 2 {
		t.Errorf("all callers came to %v", spread)
	}
}
