package sqlstmt

import (
	"database/sql"
	"errors"
	"fmt"
	"path/filepath"
	"runtime"
	"testing"

	_ "modernc.org/sqlite"
)

// Statements are cached, also after a transaction; a failed commit is reported, and changes nothing.
func TestStatementCache(t *testing.T) {
	db, err := sql.Open("sqlite", "file:"+filepath.Join(t.TempDir(), "a.db")+"?_pragma=foreign_keys(1)")
	if err != nil {
		t.Fatal(err)
	}
	db.SetMaxOpenConns(1)
	d := Of(db)
	defer d.Close()
	ctx := t.Context()
	for _, text := range []string{`CREATE TABLE hills (name TEXT PRIMARY KEY)`,
		`CREATE TABLE nights (hill TEXT REFERENCES hills (name) DEFERRABLE INITIALLY DEFERRED)`} {
		if _, err := d.ExecContext(ctx, text); err != nil {
			t.Fatal(err)
		}
	}
	const count, insert = `SELECT count(*) FROM nights`, `INSERT INTO nights (hill) VALUES (?)`
	nights := func() (n int) {
		t.Helper()
		if err := d.QueryRowContext(ctx, count).Scan(&n); err != nil {
			t.Fatal(err)
		}
		return n
	}
	if d.get(count) != nil || nights() != 0 || d.get(count) == nil {
		t.Error("what was asked is not kept")
	}
	add := func(hill any) func(tx Tx) error {
		return func(tx Tx) error { _, err := tx.ExecContext(ctx, insert, hill); return err }
	}
	if err := d.Within(ctx, add(nil)); err != nil || d.get(insert) == nil {
		t.Errorf("what was done in a transaction is not kept: %v", err)
	}
	if err := d.Within(ctx, add("nowhere")); err == nil {
		t.Error("what cannot be committed is not told")
	}
	failed := errors.New("not so")
	if err := d.Within(ctx, func(tx Tx) error { return errors.Join(add(nil)(tx), failed) }); !errors.Is(err, failed) {
		t.Errorf("%v", err)
	}
	if n := nights(); n != 1 {
		t.Errorf("there are %d, not 1", n)
	}
}

// The user of an evicted statement does not wait for a transaction that requests another one.
func TestRelease(t *testing.T) {
	db, err := sql.Open("sqlite", "file:"+filepath.Join(t.TempDir(), "a.db"))
	if err != nil {
		t.Fatal(err)
	}
	db.SetMaxOpenConns(1)
	d, ctx, asked, n := Of(db), t.Context(), make(chan error, 1), 0
	defer d.Close()
	const one = `SELECT 1`
	if err := d.QueryRowContext(ctx, one).Scan(&n); err != nil {
		t.Fatal(err)
	}
	others := make([]*sql.Stmt, most)
	for i := range others {
		if others[i], err = db.PrepareContext(ctx, one); err != nil {
			t.Fatal(err)
		}
	}
	err = d.Within(ctx, func(tx Tx) error {
		go func() { var n int; asked <- d.QueryRowContext(ctx, one).Scan(&n) }()
		for db.Stats().WaitCount == 0 {
			runtime.Gosched()
		}
		var spare *sql.Stmt
		for i, s := range others {
			_, spare = d.put(fmt.Sprint(i), s)
		}
		go spare.Close() // it waits for its user
		return tx.QueryRowContext(ctx, `SELECT 2`).Scan(&n)
	})
	if err := errors.Join(err, <-asked); err != nil || n != 2 {
		t.Error(n, err)
	}
}
