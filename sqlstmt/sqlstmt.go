// Package sqlstmt caches the prepared statements of a database: SQLite takes as long to prepare a statement as
// to run it.
package sqlstmt

import (
	"context"
	"database/sql"
	"sync"

	lru "github.com/hashicorp/golang-lru/v2/simplelru"
)

// most is the capacity of the cache, which keeps the most recently used statements.
const most = 400

// DB is a database with cached statements. It is safe for concurrent use.
type DB struct {
	*sql.DB
	mu    sync.Mutex
	known *lru.LRU[string, *sql.Stmt]
}

// Of caches the statements of a database.
func Of(db *sql.DB) *DB {
	known, err := lru.NewLRU[string, *sql.Stmt](most, nil)
	if err != nil {
		panic(err) // the cache has no room: usually a mistake
	}
	return &DB{DB: db, known: known}
}

// get returns a cached statement; nil for none.
func (d *DB) get(query string) *sql.Stmt {
	d.mu.Lock()
	defer d.mu.Unlock()
	s, _ := d.known.Get(query)
	return s
}

// keep prepares a statement and caches it.
func (d *DB) keep(ctx context.Context, query string) (*sql.Stmt, error) {
	s, err := d.PrepareContext(ctx, query)
	if err != nil {
		return nil, err
	}
	kept, spare := d.put(query, s)
	if spare == nil {
		return kept, nil
	}
	// Without the lock: closing waits for its users, who may wait for a connection whose transaction requests a
	// statement.
	return kept, spare.Close()
}

// put caches a statement. It returns the cached one for a query, which is another one if a concurrent call was
// faster, and one to be closed, or nil.
func (d *DB) put(query string, s *sql.Stmt) (kept, spare *sql.Stmt) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if before, there := d.known.Get(query); there {
		return before, s
	}
	if d.known.Len() >= most {
		_, spare, _ = d.known.RemoveOldest()
	}
	d.known.Add(query, s)
	return s, spare
}

func (d *DB) statement(ctx context.Context, query string) (*sql.Stmt, error) {
	if s := d.get(query); s != nil {
		return s, nil
	}
	return d.keep(ctx, query)
}

// QueryContext is sql.DB's, with a cached statement.
func (d *DB) QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error) {
	s, err := d.statement(ctx, query)
	if err != nil {
		return nil, err
	}
	return s.QueryContext(ctx, args...)
}

// QueryRowContext is sql.DB's, with a cached statement.
func (d *DB) QueryRowContext(ctx context.Context, query string, args ...any) *sql.Row {
	s, err := d.statement(ctx, query)
	if err != nil { // the row reports the error
		return d.DB.QueryRowContext(ctx, query, args...)
	}
	return s.QueryRowContext(ctx, args...)
}

// Tx is a transaction with cached statements. It is not safe for concurrent use.
type Tx struct {
	*sql.Tx
	db     *DB
	missed *[]string // to cache it once the transaction has ended and its connection is free
}

// Within runs work in one transaction.
func (d *DB) Within(ctx context.Context, work func(tx Tx) error) error {
	tx, err := d.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	var missed []string
	if err := work(Tx{tx, d, &missed}); err != nil {
		return err
	}
	if err := tx.Commit(); err != nil {
		return err
	}
	for _, query := range missed {
		if _, err := d.keep(ctx, query); err != nil {
			return nil // the work is done; releasing is retried with the next one
		}
	}
	return nil
}

func (t Tx) statement(ctx context.Context, query string) *sql.Stmt {
	s := t.db.get(query)
	if s == nil {
		*t.missed = append(*t.missed, query)
		return nil
	}
	return t.StmtContext(ctx, s)
}

// ExecContext is sql.Tx's, with a cached statement.
func (t Tx) ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error) {
	if s := t.statement(ctx, query); s != nil {
		return s.ExecContext(ctx, args...)
	}
	return t.Tx.ExecContext(ctx, query, args...)
}

// QueryContext is sql.Tx's, with a cached statement.
func (t Tx) QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error) {
	if s := t.statement(ctx, query); s != nil {
		return s.QueryContext(ctx, args...)
	}
	return t.Tx.QueryContext(ctx, query, args...)
}

// QueryRowContext is sql.Tx's, with a cached statement.
func (t Tx) QueryRowContext(ctx context.Context, query string, args ...any) *sql.Row {
	if s := t.statement(ctx, query); s != nil {
		return s.QueryRowContext(ctx, args...)
	}
	return t.Tx.QueryRowContext(ctx, query, args...)
}
