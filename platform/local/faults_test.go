package local_test

import (
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"rudmar/platform"
)

func (s *stand) weather(setting string) (int, string) {
	s.Helper()
	response, text := s.asks("PUT", "/hand/north/faults", strings.NewReader(setting), nil)
	return response.StatusCode, text
}

func (s *stand) owner(address string) any {
	s.Helper()
	snapshot, err := s.client.Snapshot(s.Context(), s.scope)
	must(s, err)
	for _, r := range snapshot.Resources {
		if r.Address == address {
			return r.Attributes["owner"]
		}
	}
	return nil
}

func TestFaults(t *testing.T) {
	dir := t.TempDir()
	c := &clock{now: time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)}
	s, end := again(t, dir, c.Now)
	wish := func(key, owner string) platform.Change {
		return platform.Change{Key: key, Attributes: map[string]any{"owner": owner}, Version: 1}
	}
	s.weather(`{"fail_before": 1}`)
	if _, err := s.client.Put(t.Context(), s.scope, "identity/warn", wish("a", "x")); !platform.HasStatus(err, 500) ||
		!strings.Contains(err.Error(), "failed without effect") {
		t.Errorf("failing before: %v", err)
	}
	s.weather(`{"fail_after": 1}`)
	_, err := s.client.Put(t.Context(), s.scope, "identity/warn", wish("b", "y"))
	if !platform.HasStatus(err, 500) || !strings.Contains(err.Error(), "failed after taking effect") {
		t.Errorf("failing after: %v", err)
	}
	end()
	s, end = again(t, dir, c.Now) // the faults stays over a restart
	defer end()
	if _, err := s.client.Put(t.Context(), s.scope, "identity/other", wish("c", "y")); !platform.HasStatus(err, 500) {
		t.Errorf("after a restart: %v", err)
	}
	other := s.scope
	other.Region = "coast"
	if _, err := s.client.Put(t.Context(), other, "identity/warn", wish("d", "y")); err != nil {
		t.Errorf("another region: %v", err)
	}
	s.weather(`{}`)
	if got := s.owner("identity/warn"); got != "y" {
		t.Errorf("what failed before and after took effect: %v", got)
	}
	// The same request again has no second effect, and is answered now.
	if r, err := s.client.Put(t.Context(), s.scope, "identity/warn", wish("b", "y")); err != nil ||
		r.Attributes["owner"] != "y" {
		t.Errorf("sent again: %v %v", r, err)
	}

	s.weather(`{"late_ms": 5000}`)
	if _, err := s.client.Put(t.Context(), s.scope, "identity/warn", wish("e", "late")); err != nil {
		t.Fatal(err)
	}
	if _, err := s.client.Put(t.Context(), s.scope, "identity/new", wish("f", "late")); err != nil {
		t.Fatal(err)
	}
	must(t, s.client.Delete(t.Context(), s.scope, "identity/other", platform.Change{Key: "g"}))
	if got := fmt.Sprintf("%v %v %v", s.owner("identity/warn"), s.owner("identity/new"),
		s.owner("identity/other")); got != "y <nil> y" {
		t.Errorf("before it can be seen: %s", got)
	}
	c.set(c.Now().Add(6 * time.Second))
	if got := fmt.Sprintf("%v %v %v", s.owner("identity/warn"), s.owner("identity/new"),
		s.owner("identity/other")); got != "late late <nil>" {
		t.Errorf("once it can be seen: %s", got)
	}

	s.weather(`{"slow_ms": 60}`)
	begun := time.Now()
	s.owner("identity/warn")
	if took := time.Since(begun); took < 60*time.Millisecond {
		t.Errorf("slow weather took %s", took)
	}
	s.weather(`{"throttled": 1}`)
	response, _ := s.asks("GET", "/regions/north/scopes/frostline/trial", nil, nil)
	if response.StatusCode != http.StatusTooManyRequests || response.Header.Get("Retry-After") != "1" {
		t.Errorf("throttled: %d %v", response.StatusCode, response.Header)
	}
	for _, wrong := range []string{`{"rain": 1}`, `{"throttled": 2}`, `{"slow_ms": -1}`, `nothing`} {
		if status, _ := s.weather(wrong); status != http.StatusUnprocessableEntity {
			t.Errorf("%s: %d", wrong, status)
		}
	}
}
