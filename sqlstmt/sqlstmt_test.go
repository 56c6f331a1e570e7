package sqlstmt_test

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"path/filepath"
	"sync"
	"testing"
	"time"

	_ "modernc.org/sqlite"

	"rudmar/sqlstmt"
)

func open(t testing.TB, connections int) *sqlstmt.DB {
	t.Helper()
	db, err := sql.Open("sqlite", "file:"+filepath.Join(t.TempDir(), "a.db")+"?_txlock=immediate&_pragma=journal_mode(WAL)")
	if err != nil {
		t.Fatal(err)
	}
	db.SetMaxOpenConns(connections)
	d := sqlstmt.Of(db)
	t.Cleanup(func() { d.Close() })
	if _, err := d.ExecContext(t.Context(), `CREATE TABLE sorts (name TEXT PRIMARY KEY, kept INTEGER) STRICT`); err != nil {
		t.Fatal(err)
	}
	return d
}

func count(t testing.TB, d *sqlstmt.DB) (n int) {
	t.Helper()
	if err := d.QueryRowContext(t.Context(), `SELECT count(*) FROM sorts`).Scan(&n); err != nil {
		t.Fatal(err)
	}
	return n
}

func add(ctx context.Context, tx sqlstmt.Tx, name string) error {
	_, err := tx.ExecContext(ctx, `INSERT INTO sorts (name, kept) VALUES (?, 1)`, name)
	return err
}

// One connection is enough, in a transaction and outside it, and errors have no effect on the next.
func TestTransactions(t *testing.T) {
	d, ctx := open(t, 1), t.Context()
	for i := range 5 {
		err := d.Within(ctx, func(tx sqlstmt.Tx) error {
			var before int
			if err := tx.QueryRowContext(ctx, `SELECT count(*) FROM sorts`).Scan(&before); err != nil {
				return err
			}
			rows, err := tx.QueryContext(ctx, `SELECT name FROM sorts WHERE kept = ?`, 1)
			if err != nil {
				return err
			}
			found := 0
			for rows.Next() {
				found++
			}
			if err := errors.Join(rows.Err(), rows.Close()); err != nil || found != i || before != i {
				return fmt.Errorf("%d and %d, not %d: %w", found, before, i, err)
			}
			return add(ctx, tx, fmt.Sprint("apple ", i))
		})
		if err != nil {
			t.Fatal(err)
		}
		failed := errors.New("no")
		if err := d.Within(ctx, func(tx sqlstmt.Tx) error {
			return errors.Join(add(ctx, tx, "never"), failed)
		}); !errors.Is(err, failed) {
			t.Errorf("the error is %v", err)
		}
		if err := d.Within(ctx, func(tx sqlstmt.Tx) error { return add(ctx, tx, "apple 0") }); err == nil {
			t.Error("it is there twice")
		}
		if n := count(t, d); n != i+1 {
			t.Errorf("%d rows, not %d", n, i+1)
		}
	}
	if err := d.Within(ctx, func(tx sqlstmt.Tx) error {
		_, err := tx.ExecContext(ctx, `INSERT INTO pears (name) VALUES (?)`, "x")
		return err
	}); err == nil {
		t.Error("there is no table of that name")
	}
	if err := d.QueryRowContext(ctx, `SELECT moon FROM sorts`).Scan(new(int)); err == nil {
		t.Error("there is no column of that name")
	}
}

// More statements than are kept, from several sides, while rows are read.
func TestManyStatements(t *testing.T) {
	d, ctx := open(t, 4), t.Context()
	for i := range 50 {
		if err := d.Within(ctx, func(tx sqlstmt.Tx) error { return add(ctx, tx, fmt.Sprint(i)) }); err != nil {
			t.Fatal(err)
		}
	}
	var group sync.WaitGroup
	for side := range 4 {
		group.Go(func() {
			for i := range 300 {
				rows, err := d.QueryContext(ctx, fmt.Sprintf(`SELECT name FROM sorts WHERE kept = 1 AND %d <= %d`, side*100, side*100+i))
				if err != nil {
					t.Error(err)
					return
				}
				n := 0
				for rows.Next() {
					n++
				}
				if err := errors.Join(rows.Err(), rows.Close()); err != nil || n != 50 {
					t.Errorf("%d rows: %v", n, err)
					return
				}
			}
		})
	}
	group.Wait()
}

// BenchmarkPrepared reports the duration of a cached statement relative to one that is parsed again.
func BenchmarkPrepared(b *testing.B) {
	d := open(b, 1)
	const text = `SELECT name FROM sorts WHERE kept = ?1 AND name > ?2 ORDER BY name LIMIT ?3`
	took := func(query func(ctx context.Context, text string, args ...any) *sql.Row) time.Duration {
		begun := time.Now()
		for range 5000 {
			_ = query(b.Context(), text, 1, "m", 3).Scan(new(string)) // no row is there
		}
		return time.Since(begun)
	}
	for b.Loop() {
		b.ReportMetric(float64(took(d.QueryRowContext))/float64(took(d.DB.QueryRowContext)), "x-unprepared")
	}
}
