package server

import (
	"database/sql"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/labstack/echo/v5"

	"rudmar/engine"
	"rudmar/engine/store"
	"rudmar/platform"
)

// Faults of Rudmar's own database are reported as such, and not as the client's mistakes; "no rows" alone means
// that something does not exist.
func TestDatabaseFaults(t *testing.T) {
	dir := t.TempDir()
	s, err := store.Open(t.Context(), dir, time.Now)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	other, err := sql.Open("sqlite", "file:"+filepath.Join(dir, "rudmar.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close()
	other.SetMaxOpenConns(1)
	if _, err := other.Exec(`PRAGMA max_page_count = 1; BEGIN IMMEDIATE; ROLLBACK; PRAGMA query_only = 1`); err != nil {
		t.Fatal(err)
	}
	_, readOnly := other.Exec(`CREATE TABLE x (y)`)
	_, none := s.Version(t.Context(), "frostline", 3)
	for _, tt := range []struct {
		err    error
		status int
		text   string
	}{
		{fmt.Errorf("keeping: %w", readOnly), 503, "cannot read or write its database and has changed nothing"},
		{errors.Join(store.ErrNotFound, readOnly), 503, "cannot read or write"},
		{errors.Join(store.ErrLease, readOnly), 503, "cannot read or write"},
		{none, 404, "not found"},
		{fmt.Errorf("planning: %w", &platform.Unreachable{Address: "http://p", Err: errors.New("refused")}),
			503, "is unreachable"},
		{errors.New("open /srv/secret: no such file"), 500, "see its log"},
	} {
		server := &Server{options: Options{Log: slog.New(slog.DiscardHandler)}}
		router := echo.New()
		router.HTTPErrorHandler = server.problem
		router.GET("/", func(*echo.Context) error { return tt.err })
		answer := httptest.NewRecorder()
		router.ServeHTTP(answer, httptest.NewRequest("GET", "/", nil))
		if answer.Code != tt.status || !strings.Contains(answer.Body.String(), tt.text) ||
			strings.Contains(answer.Body.String(), "/srv") {
			t.Errorf("%v: %d %s", tt.err, answer.Code, answer.Body)
		}
	}
}

// healthz reports in one line whether Rudmar can work, to anybody, without private facts.
func TestHealthz(t *testing.T) {
	s, other := stand(t, engine.Options{})
	ask := func() (int, string) {
		answer := httptest.NewRecorder()
		s.ServeHTTP(answer, httptest.NewRequest(http.MethodGet, "/healthz", nil))
		return answer.Code, answer.Body.String()
	}
	if status, text := ask(); status != 200 || text != "ok\n" {
		t.Errorf("%d %q", status, text)
	}
	if _, err := other.Exec(`DROP TABLE beat`); err != nil {
		t.Fatal(err)
	}
	if status, text := ask(); status != 503 || text != "unhealthy: database\n" {
		t.Errorf("%d %q", status, text)
	}
}
