// Package store keeps Rudmar's records in one SQLite file. All SQL of the engine is in this
// package; others use its rows and methods.
package store

import (
	"context"
	"database/sql"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"github.com/pressly/goose/v3"
	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"

	"rudmar/engine/bell"
	"rudmar/sqlstmt"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Errors of the store.
var (
	ErrNotFound = errors.New("not found") // no such row
	ErrNewer    = errors.New(
		"the database was created by a newer Rudmar; start that one, or restore the copy from before the upgrade")
	ErrKeyGone = errors.New(
		"a key of this installation is missing; restore it from your backup, or start once with --new-keys, which creates new ones: secrets must then be set again, and older versions can no longer be verified")
)

// Store is the database: one connection for writing, several for reading.
type Store struct {
	write, read *sqlstmt.DB
	now         func() time.Time
	told        bell.Bell // signaled by topic, after events were committed
}

const pragmas = "&_pragma=busy_timeout(5000)&_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)&_pragma=foreign_keys(1)"

// Open opens the database in a folder and brings it up to date. A file that
// has to be migrated is copied first.
func Open(ctx context.Context, dir string, now func() time.Time) (*Store, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("creating the data folder: %w", err)
	}
	file := filepath.Join(dir, "rudmar.db")
	s := &Store{now: now}
	made, err := os.OpenFile(file, os.O_CREATE|os.O_RDWR, 0o600) // so nobody else can read it or the files beside it
	if err != nil {
		return nil, fmt.Errorf("opening the database: %w", err)
	}
	made.Close()
	write, err := sql.Open("sqlite", "file:"+file+"?_txlock=immediate"+pragmas)
	if err != nil {
		return nil, fmt.Errorf("opening the database: %w", err)
	}
	s.write = sqlstmt.Of(write)
	s.write.SetMaxOpenConns(1)
	if err := s.migrate(ctx, file); err != nil {
		s.write.Close()
		return nil, fmt.Errorf("upgrading the database: %w", err)
	}
	read, err := sql.Open("sqlite", "file:"+file+"?mode=ro"+pragmas)
	if err != nil {
		s.write.Close()
		return nil, fmt.Errorf("opening the database: %w", err)
	}
	s.read = sqlstmt.Of(read)
	s.read.SetMaxOpenConns(4)
	return s, nil
}

// ErrNoData reports that a folder contains no data of Rudmar.
var ErrNoData = errors.New("no Rudmar data")

// OpenReading opens the database in a folder for reading alone: it creates nothing and changes nothing.
// ErrNoData if there is none.
func OpenReading(dir string, now func() time.Time) (*Store, error) {
	file := filepath.Join(dir, "rudmar.db")
	if _, err := os.Stat(file); err != nil {
		if errors.Is(err, fs.ErrNotExist) {
			return nil, fmt.Errorf("%w in %s", ErrNoData, dir)
		}
		return nil, fmt.Errorf("opening the database: %w", err)
	}
	read, err := sql.Open("sqlite", "file:"+file+"?mode=ro&_pragma=busy_timeout(5000)")
	if err != nil {
		return nil, fmt.Errorf("opening the database: %w", err)
	}
	read.SetMaxOpenConns(1)
	kept := sqlstmt.Of(read)
	return &Store{now: now, read: kept, write: kept}, nil
}

// WithRelaxedSync calls do without waiting for the disk at each write. Writes survive a killed program; a power
// failure can lose the newest ones, which is acceptable for data that can be created again.
func (s *Store) WithRelaxedSync(ctx context.Context, do func() error) error {
	if _, err := s.write.ExecContext(ctx, `PRAGMA synchronous = NORMAL`); err != nil {
		return fmt.Errorf("writing without waiting for the disk: %w", err)
	}
	err := do()
	if _, back := s.write.ExecContext(context.WithoutCancel(ctx),
		`PRAGMA synchronous = FULL; PRAGMA wal_checkpoint(FULL)`); back != nil {
		err = errors.Join(err, fmt.Errorf("waiting for the disk again: %w", back))
	}
	return err
}

func (s *Store) migrate(ctx context.Context, file string) error {
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	steps, err := goose.NewProvider(goose.DialectSQLite3, s.write.DB, files, goose.WithGoMigrations(wordsMigration()))
	if err != nil {
		return err
	}
	current, target, err := steps.GetVersions(ctx)
	if err != nil {
		return err
	}
	if current > target {
		return fmt.Errorf("%w (format %d, this program knows %d)", ErrNewer, current, target)
	}
	if copied := fmt.Sprintf("%s.before-%d", file, target); current > 0 && current < target {
		half := copied + ".half" // each migration runs completely or not at all: an interrupted upgrade continues
		if err := os.Remove(half); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("copying the database to %s: %w", copied, err)
		}
		if _, err := s.write.ExecContext(ctx, `VACUUM INTO ?`, half); err != nil {
			return fmt.Errorf("copying the database to %s: %w", copied, err)
		}
		if err := os.Rename(half, copied); err != nil {
			return fmt.Errorf("copying the database to %s: %w", copied, err)
		}
	}
	_, err = steps.Up(ctx)
	return err
}

// Close closes the database.
func (s *Store) Close() error { return errors.Join(s.read.Close(), s.write.Close()) }

// Now returns the time that rows are stamped with.
func (s *Store) Now() time.Time { return s.now() }

func (s *Store) stamp() int64 { return s.now().UnixMilli() }

// Tx is a write transaction.
type Tx struct {
	sqlstmt.Tx
	s         *Store
	published *[]string // topics of its events
}

// Within runs work in one write transaction.
func (s *Store) Within(ctx context.Context, work func(tx Tx) error) error {
	var told []string
	if err := s.write.Within(ctx, func(tx sqlstmt.Tx) error { return work(Tx{tx, s, &told}) }); err != nil {
		return err
	}
	if len(told) > 0 {
		s.told.Ring(told...)
	}
	return nil
}

func (s *Store) exec(ctx context.Context, query string, args ...any) error {
	_, err := s.write.ExecContext(ctx, query, args...)
	return err
}

// scanner is a row or the current one of several.
type scanner interface{ Scan(dest ...any) error }

type querier interface {
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
}

// rowQuerier reads one row, in or outside a transaction.
type rowQuerier interface {
	QueryRowContext(ctx context.Context, query string, args ...any) *sql.Row
}

// list reads all rows of a query.
func list[T any](ctx context.Context, q querier, take func(scanner) (T, error), query string,
	args ...any) ([]T, error) {
	rows, err := q.QueryContext(ctx, query, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := []T{}
	for rows.Next() {
		v, err := take(rows)
		if err != nil {
			return nil, err
		}
		out = append(out, v)
	}
	return out, rows.Err()
}

// one reads the first row of a query; ErrNotFound if there is none.
func one[T any](ctx context.Context, q querier, take func(scanner) (T, error), query string, args ...any) (T, error) {
	rows, err := list(ctx, q, take, query, args...)
	if err != nil || len(rows) == 0 {
		var zero T
		return zero, errors.Join(err, notFoundUnless(err))
	}
	return rows[0], nil
}

func notFoundUnless(err error) error {
	if err == nil {
		return ErrNotFound
	}
	return nil
}

func millis(ms int64) time.Time {
	if ms == 0 {
		return time.Time{}
	}
	return time.UnixMilli(ms)
}

// stampOf returns a time in Unix milliseconds; 0 for the zero time.
func stampOf(t time.Time) int64 {
	if t.IsZero() {
		return 0
	}
	return t.UnixMilli()
}

func toJSON(v any) string {
	text, err := json.Marshal(v)
	if err != nil {
		panic(fmt.Sprintf("store: a row that is not JSON: %v", err)) // a programming error: rows are plain data
	}
	return string(text)
}

// IsFault reports whether an error is the database's own, such as a full disk or a lock: the request is valid,
// and can be repeated.
func IsFault(err error) bool {
	var fault *sqlite.Error
	if !errors.As(err, &fault) {
		return false
	}
	switch fault.Code() & 0xff { // the primary code
	case sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED, sqlite3.SQLITE_FULL, sqlite3.SQLITE_IOERR, sqlite3.SQLITE_READONLY,
		sqlite3.SQLITE_CANTOPEN, sqlite3.SQLITE_NOMEM, sqlite3.SQLITE_PROTOCOL, sqlite3.SQLITE_INTERRUPT:
		return true
	}
	return false
}

// Missing names a missing object in an error, such as "version 9 of frostline", if err is ErrNotFound, which it
// still wraps; otherwise it returns err with that as its context.
func Missing(err error, format string, args ...any) error {
	what := fmt.Sprintf(format, args...)
	if errors.Is(err, ErrNotFound) {
		return notFound(what + " not found")
	}
	return fmt.Errorf("%s: %w", what, err)
}

// notFound is an ErrNotFound with the name of the missing object.
type notFound string

func (n notFound) Error() string { return string(n) }

func (n notFound) Is(target error) bool { return target == ErrNotFound }

// NotFound returns an ErrNotFound with a sentence that names the missing object and the place searched.
func NotFound(format string, args ...any) error { return notFound(fmt.Sprintf(format, args...)) }
