package conform_test

import (
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"

	"rudmar/platform/conform"
	"rudmar/platform/local"
)

// newPlatform starts a local platform, with a proxy between it and its callers.
func newPlatform(t *testing.T, between func(w http.ResponseWriter, r *http.Request, next http.Handler)) string {
	t.Helper()
	var p *local.Platform
	server := httptest.NewServer(
		http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { between(w, r, p.Protocol()) }))
	var err error
	routes := httptest.NewServer(
		http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { p.Routes().ServeHTTP(w, r) }))
	t.Cleanup(routes.Close)
	if p, err = local.Open(t.Context(),
		local.Options{Dir: t.TempDir(), Token: "secret", RoutesAt: routes.URL, DataAt: server.URL,
			Log: slog.New(slog.DiscardHandler)}); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		server.Close()
		if err := p.Close(); err != nil {
			t.Error(err)
		}
	})
	return server.URL
}

func TestLocalPlatformConforms(t *testing.T) {
	address := newPlatform(t, func(w http.ResponseWriter, r *http.Request, next http.Handler) { next.ServeHTTP(w, r) })
	results, err := conform.Run(t.Context(), address, "secret")
	if err != nil || len(results) < 20 {
		t.Fatalf("%d rules were tried, %v", len(results), err)
	}
	for _, r := range results {
		if r.Problem != "" || r.Skipped {
			t.Errorf("%s: %s (skipped: %v)", r.Rule, r.Problem, r.Skipped)
		}
	}
}

// plainErrors answers problems as plain JSON.
type plainErrors struct{ http.ResponseWriter }

func (p plainErrors) WriteHeader(status int) {
	if status >= http.StatusBadRequest {
		p.Header().Set("Content-Type", "application/json")
	}
	p.ResponseWriter.WriteHeader(status)
}

func (p plainErrors) Flush() { _ = http.NewResponseController(p.ResponseWriter).Flush() }

// A platform that breaks a rule fails that rule.
func TestConformanceFaultsAreFound(t *testing.T) {
	var others atomic.Int64
	for _, c := range []struct {
		rule    string
		between func(w http.ResponseWriter, r *http.Request, next http.Handler)
	}{
		{"requests without the installation's token are refused", func(w http.ResponseWriter, r *http.Request, next http.Handler) {
			r.Header.Set("Authorization", "Bearer secret")
			next.ServeHTTP(w, r)
		}},
		{"the same key executes a change once", func(w http.ResponseWriter, r *http.Request, next http.Handler) {
			if key := r.Header.Get("Idempotency-Key"); key != "" {
				r.Header.Set("Idempotency-Key", fmt.Sprint(key, "-", others.Add(1)))
			}
			next.ServeHTTP(w, r)
		}},
		{"a change of a resource that has changed since is refused",
			func(w http.ResponseWriter, r *http.Request, next http.Handler) {
				r.Header.Del("If-Match")
				next.ServeHTTP(w, r)
			}},
		{"regions are separate", func(w http.ResponseWriter, r *http.Request, next http.Handler) {
			r.URL.Path = strings.Replace(r.URL.Path, "/regions/coast/", "/regions/north/", 1)
			r.URL.RawPath = strings.Replace(r.URL.RawPath, "/regions/coast/", "/regions/north/", 1)
			next.ServeHTTP(w, r)
		}},
		{"problems are RFC 9457", func(w http.ResponseWriter, r *http.Request, next http.Handler) {
			next.ServeHTTP(plainErrors{w}, r)
		}},
		{"a route that is not open to anyone", func(w http.ResponseWriter, r *http.Request, next http.Handler) {
			if strings.Contains(r.URL.RawPath, "opening%2F") {
				r.Body = io.NopCloser(strings.NewReader(`{"attributes": {"to": ["anyone"]}}`))
			}
			next.ServeHTTP(w, r)
		}},
		{"a known snapshot is not sent again", func(w http.ResponseWriter, r *http.Request, next http.Handler) {
			r.Header.Del("If-None-Match")
			next.ServeHTTP(w, r)
		}},
		{"a failed operation reports the same reason", func(w http.ResponseWriter, r *http.Request, next http.Handler) {
			if strings.HasPrefix(r.URL.Path, "/operations/") {
				w.Header().Set("Content-Type", "application/json")
				_, _ = io.WriteString(w, `{"id": "o", "state": "succeeded", "address": "function/alone", "startedAt": 1}`)
				return
			}
			next.ServeHTTP(w, r)
		}},
		{"logs can be followed", func(w http.ResponseWriter, r *http.Request, next http.Handler) {
			query := r.URL.Query()
			query.Del("follow")
			r.URL.RawQuery = query.Encode()
			next.ServeHTTP(w, r)
		}},
	} {
		t.Run(c.rule, func(t *testing.T) {
			t.Parallel()
			results, err := conform.Run(t.Context(), newPlatform(t, c.between), "secret")
			if err != nil {
				t.Fatal(err)
			}
			told := false
			for _, r := range results {
				told = told || strings.HasPrefix(r.Rule, c.rule) && r.Problem != ""
			}
			if !told {
				t.Error("nothing is told")
			}
		})
	}
}
