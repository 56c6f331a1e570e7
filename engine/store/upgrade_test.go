package store_test

import (
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/pressly/goose/v3"

	"rudmar/engine/store"
)

// An older program's database is backed up before the upgrade, also if a former upgrade was interrupted during
// its backup; a current or new one is not.
func TestOlderDatabaseIsBackedUp(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "rudmar.db")
	db, err := sql.Open("sqlite", "file:"+file)
	must(t, err)
	steps, err := goose.NewProvider(goose.DialectSQLite3, db, os.DirFS("migrations"))
	must(t, err)
	all := steps.ListSources()
	newest, before := all[len(all)-1].Version, int64(18) // 19 is in Go
	_, err = steps.UpTo(t.Context(), before)
	must(t, err)
	_, err = db.Exec(`INSERT INTO repositories (name, made_at) VALUES ('brambleford', 5)`)
	must(t, err)
	must(t, db.Close())
	copied := fmt.Sprintf("%s.before-%d", file, newest)
	must(t, os.WriteFile(copied+".half", []byte("cut off"), 0o600))

	opens := func(dir string, copies int) {
		t.Helper()
		s, err := store.Open(t.Context(), dir, time.Now)
		must(t, err)
		defer s.Close()
		if found, err := filepath.Glob(filepath.Join(dir, "*.before-*")); err != nil || len(found) != copies {
			t.Errorf("copies: %v %v", found, err)
		}
		if names, err := s.Repositories(t.Context()); err != nil || len(names) != copies {
			t.Errorf("what was there: %v %v", names, err)
		}
	}
	opens(dir, 1)
	old, err := sql.Open("sqlite", "file:"+copied)
	must(t, err)
	defer old.Close()
	var name string
	var version int64
	must(t, old.QueryRow(`SELECT name, (SELECT max(version_id) FROM goose_db_version) FROM repositories`).Scan(&name, &version))
	if name != "brambleford" || version != before {
		t.Errorf("the copy is of %s at %d, not as it was at %d", name, version, before)
	}
	must(t, os.Rename(copied, copied+".kept"))
	opens(dir, 1) // the existing one
	opens(t.TempDir(), 0)
}

// A read-only store creates nothing and changes nothing, also beside a writer.
func TestReadOnly(t *testing.T) {
	empty := filepath.Join(t.TempDir(), "none")
	if _, err := store.OpenReading(empty, time.Now); !errors.Is(err, store.ErrNoData) || !strings.Contains(err.Error(), empty) {
		t.Errorf("where not found: %v", err)
	}
	if _, err := os.Stat(empty); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("reading made a folder: %v", err)
	}
	s, c, dir := open(t)
	must(t, s.AddRepository(t.Context(), "brambleford", "wren"))
	r, err := store.OpenReading(dir, c.Now)
	must(t, err)
	defer r.Close()
	must(t, s.AddRepository(t.Context(), "canal", "wren"))
	if names, err := r.Repositories(t.Context()); err != nil || len(names) != 2 {
		t.Errorf("%v %v", names, err)
	}
	if err := r.AddRepository(t.Context(), "weir", "wren"); err == nil {
		t.Error("who only reads has written")
	}
}

// Listeners are woken by committed events of their topics, and by nothing else.
func TestListenersAreWoken(t *testing.T) {
	s, _, _ := open(t)
	secrets, stop := s.Listen(store.TopicSecret)
	defer stop()
	woken := func() bool {
		select {
		case <-secrets:
			return true
		default:
			return false
		}
	}
	must(t, s.AddRepository(t.Context(), "brambleford", "wren"))
	must(t, s.Publish(t.Context(), "frostline", store.TopicObservation, nil))
	if woken() {
		t.Error("somebody was woken by another topic")
	}
	if err := s.Within(t.Context(), func(tx store.Tx) error {
		return errors.Join(tx.Publish(t.Context(), "frostline", store.TopicSecret, nil), errors.New("not so"))
	}); err == nil || woken() {
		t.Errorf("somebody was woken by what was not committed: %v", err)
	}
	must(t, s.Publish(t.Context(), "frostline", store.TopicSecret, nil))
	if !woken() {
		t.Error("nobody was woken")
	}
}
