package server

import (
	"database/sql"
	"log/slog"
	"path/filepath"
	"testing"

	"rudmar/engine"
)

// stand returns a server over an engine of its own, and its database like another process would open it.
func stand(t testing.TB, o engine.Options) (*Server, *sql.DB) {
	t.Helper()
	o.Dir, o.Self, o.Log = t.TempDir(), "/bin/true", slog.New(slog.DiscardHandler)
	e, err := engine.Open(t.Context(), o)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := e.Close(); err != nil {
			t.Error(err)
		}
	})
	s, err := New(e, Options{Address: "http://127.0.0.1", Log: o.Log})
	if err != nil {
		t.Fatal(err)
	}
	db, err := sql.Open("sqlite",
		"file:"+filepath.Join(o.Dir, "rudmar.db")+"?_pragma=busy_timeout(20000)&_pragma=synchronous(OFF)")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	db.SetMaxOpenConns(1)
	return s, db
}
