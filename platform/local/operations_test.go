package local_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"rudmar/platform"
)

// An asynchronous change is executed even if the platform ends meanwhile, once, and in the order of requests.
func TestOperationsSurviveRestart(t *testing.T) {
	dir := t.TempDir()
	c := &clock{now: time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)}
	s, end := again(t, dir, c.Now)
	s.weather(`{"take_ms": 60000}`)
	wish := func(owner string) platform.Change {
		return platform.Change{Key: "to-" + owner, Attributes: map[string]any{"owner": owner}, Version: 1}
	}
	ask := func(owner string) error {
		ctx, cancel := context.WithTimeout(t.Context(), 100*time.Millisecond)
		defer cancel()
		_, err := s.client.Put(ctx, s.scope, "identity/warn", wish(owner))
		return err
	}
	for _, owner := range []string{"first", "second"} {
		if err := ask(owner); !errors.Is(err, context.DeadlineExceeded) {
			t.Fatalf("a change of a minute ends at once: %v", err)
		}
	}
	if owner := s.owner("identity/warn"); owner != nil {
		t.Errorf("it is there before its time: %v", owner)
	}
	end()
	c.set(c.Now().Add(time.Minute))
	s, end = again(t, dir, c.Now)
	defer end()
	if _, err := s.client.Put(t.Context(), s.scope, "identity/warn", wish("first")); err != nil {
		t.Errorf("following the first change after the restart: %v", err)
	}
	if _, err := s.client.Put(t.Context(), s.scope, "identity/warn", wish("second")); err != nil {
		t.Errorf("following the second change after the restart: %v", err)
	}
	if owner := s.owner("identity/warn"); owner != "second" {
		t.Errorf("the owner is %v", owner)
	}
	s.weather(`{"take_ms": 1}`)
	refused := platform.Change{Key: "refused", Match: "other", Attributes: map[string]any{"owner": "x"}}
	failed := make(chan error)
	go func() { _, err := s.client.Put(t.Context(), s.scope, "identity/warn", refused); failed <- err }()
	for {
		c.set(c.Now().Add(time.Second))
		select {
		case err := <-failed:
			if !platform.HasStatus(err, http.StatusPreconditionFailed) || !strings.Contains(err.Error(), "has changed: its tag") {
				t.Errorf("a change with an outdated tag: %v", err)
			}
			return
		case <-time.After(10 * time.Millisecond): // the platform reads its clock again
		}
	}
}

// What is wrong in itself is refused at once, whatever the faults.
func TestOperationsAreValidatedFirst(t *testing.T) {
	s := newStand(t)
	s.weather(`{"take_ms": 600000}`)
	for address, want := range map[string]int{"color/warn": http.StatusUnprocessableEntity,
		"identity": http.StatusUnprocessableEntity} {
		if _, err := s.client.Put(t.Context(), s.scope, address,
			platform.Change{Key: address, Attributes: map[string]any{"owner": "x"}}); !platform.HasStatus(err, want) {
			t.Errorf("%s: %v", address, err)
		}
	}
}

// A change is an operation if the caller prefers it, or if a fault makes it slow; otherwise the response comes
// when it is done.
func TestAsynchronousKinds(t *testing.T) {
	s := newStand(t)
	ask := func(method, prefer string) (int, string) {
		t.Helper()
		var body io.Reader
		if method == http.MethodPut {
			body = strings.NewReader(`{"attributes": {"owner": "cold-nights"}}`)
		}
		s.keys++
		headers := map[string]string{"Idempotency-Key": fmt.Sprint("o", s.keys)}
		if prefer != "" {
			headers["Prefer"] = prefer
		}
		answer, _ := s.asks(method, "/regions/north/scopes/frostline/trial/resources/identity%2Fwarn", body, headers)
		return answer.StatusCode, answer.Header.Get("Location")
	}
	for _, tt := range []struct {
		prefer string
		takes  int
		put    int
		remove int
	}{
		{"", 0, http.StatusOK, http.StatusNoContent},
		{"wait=10", 0, http.StatusOK, http.StatusNoContent},
		{"respond-async", 0, http.StatusAccepted, http.StatusAccepted},
		{"wait=10, respond-async", 0, http.StatusAccepted, http.StatusAccepted},
		{"", 1, http.StatusAccepted, http.StatusAccepted},
	} {
		s.weather(fmt.Sprintf(`{"take_ms": %d}`, tt.takes))
		for _, method := range []string{http.MethodPut, http.MethodDelete} {
			want := tt.put
			if method == http.MethodDelete {
				want = tt.remove
			}
			status, where := ask(method, tt.prefer)
			if status != want || strings.HasPrefix(where, "/operations/o-") != (want == http.StatusAccepted) {
				t.Errorf("%s with %q, taking %d ms: %d %s", method, tt.prefer, tt.takes, status, where)
			}
		}
	}
}
