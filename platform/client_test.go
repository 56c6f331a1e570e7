package platform_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"rudmar/platform"
)

// answering returns a client of a platform that answers with a function.
func answering(t *testing.T, answer http.HandlerFunc, options ...platform.Option) *platform.Client {
	t.Helper()
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		_, _ = io.Copy(io.Discard, q.Body) // only then the disconnect is noticed
		answer(w, q)
	}))
	t.Cleanup(server.Close)
	c, err := platform.NewClient(server.URL, "t", options...)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// A platform that does not respond, breaks off, or sends an unreadable response counts as unreachable: every
// request ends, and can be retried.
func TestUnreachablePlatforms(t *testing.T) {
	scope := platform.Scope{Region: "north", Service: "frostline", Stage: "trial"}
	for name, answer := range map[string]http.HandlerFunc{
		"silent": func(_ http.ResponseWriter, q *http.Request) { <-q.Context().Done() },
		"silent later": func(w http.ResponseWriter, q *http.Request) {
			fmt.Fprint(w, `{"resources": [`)
			w.(http.Flusher).Flush()
			<-q.Context().Done()
		},
		"cut off": func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, `{"resources": [`) },
		"broken off": func(w http.ResponseWriter, _ *http.Request) {
			fmt.Fprint(w, `{`)
			w.(http.Flusher).Flush()
			panic(http.ErrAbortHandler)
		},
		"empty": func(http.ResponseWriter, *http.Request) {},
		"failing": func(w http.ResponseWriter, _ *http.Request) {
			http.Error(w, "out of order", http.StatusInternalServerError)
		},
	} {
		t.Run(name, func(t *testing.T) {
			c := answering(t, answer, platform.Within(200*time.Millisecond))
			for call, do := range map[string]func() error{
				"kinds":    func() error { _, err := c.Kinds(t.Context()); return err },
				"snapshot": func() error { _, err := c.Snapshot(t.Context(), scope); return err },
				"metrics":  func() error { _, err := c.Metrics(t.Context(), scope, time.Now()); return err },
				"put":      func() error { _, err := c.Put(t.Context(), scope, "identity/a", platform.Change{Key: "k"}); return err },
			} {
				if err := do(); !platform.Transient(err) {
					t.Errorf("%s: %v", call, err)
				}
			}
		})
	}
}

// The caller sets the time limit of an invocation; a platform that does not respond for longer counts as
// unreachable.
func TestInvocationTimeout(t *testing.T) {
	c := answering(t, func(w http.ResponseWriter, q *http.Request) {
		wait := time.NewTimer(300 * time.Millisecond) // longer than the platform has for an answer
		defer wait.Stop()
		select {
		case <-wait.C:
			w.Header().Set("Content-Type", "application/json")
			fmt.Fprint(w, `{"id": "i", "outcome": "answered"}`)
		case <-q.Context().Done():
		}
	}, platform.Within(100*time.Millisecond))
	scope := platform.Scope{Region: "north", Service: "frostline", Stage: "trial"}
	if inv, err := c.Invoke(t.Context(), scope, "a", "", "", nil, time.Minute); err != nil || inv.Id != "i" {
		t.Errorf("%+v %v", inv, err)
	}
	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	if _, err := c.Invoke(ctx, scope, "a", "", "", nil, time.Minute); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("for longer than the caller waits: %v", err)
	}
	if _, err := c.With(platform.Within(10*time.Millisecond)).Invoke(t.Context(), scope, "a", "", "", nil,
		50*time.Millisecond); !platform.Transient(err) || !strings.Contains(err.Error(), "90ms") {
		t.Errorf("for longer than the function runs: %v", err)
	}
}

// People read the platform's own error, also after repeated throttling.
func TestPlatformErrorsAreKept(t *testing.T) {
	asked := 0
	c := answering(t, func(w http.ResponseWriter, _ *http.Request) {
		asked++
		w.Header().Set("Retry-After", "1")
		w.WriteHeader(http.StatusTooManyRequests)
		fmt.Fprint(w, `{"status": 429, "detail": "too many at once for the orchard"}`)
	}, platform.WithRetryTime(1500*time.Millisecond))
	_, err := c.Kinds(t.Context())
	if err == nil || !strings.Contains(err.Error(), "too many at once for the orchard") ||
		!platform.HasStatus(err, 429) || asked < 2 {
		t.Errorf("asked %d times: %v", asked, err)
	}
}
