package store_test

import (
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/pressly/goose/v3"

	"rudmar/engine/store"
)

// A database of an older program is copied as it was before it is brought up to date,
// also where an upgrade before was interrupted in the middle of its copy; one that is up
// to date, or new, is not copied.
func TestAnOlderDatabaseIsCopiedFirst(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "rudmar.db")
	db, err := sql.Open("sqlite", "file:"+file)
	must(t, err)
	steps, err := goose.NewProvider(goose.DialectSQLite3, db, os.DirFS("migrations"))
	must(t, err)
	all := steps.ListSources()
	newest := all[len(all)-1].Version
	_, err = steps.UpTo(t.Context(), newest-1)
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
	if name != "brambleford" || version != newest-1 {
		t.Errorf("the copy is of %s at %d, not as it was at %d", name, version, newest-1)
	}
	must(t, os.Rename(copied, copied+".kept"))
	opens(dir, 1) // the one that is there already
	opens(t.TempDir(), 0)
}
