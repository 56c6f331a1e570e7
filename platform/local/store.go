package local

import (
	"context"
	"crypto/cipher"
	"database/sql"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/pressly/goose/v3"
	_ "modernc.org/sqlite" // the driver

	"rudmar/core/resource"
	"rudmar/sqlstmt"
)

//go:embed migrations/*.sql
var migrations embed.FS

// store is the platform's state: one SQLite file, one writer.
type store struct {
	db   *sqlstmt.DB
	seal cipher.AEAD
}

func openStore(ctx context.Context, dir string) (*store, error) {
	// Created here, so nobody else can read it or the files beside it.
	file, err := os.OpenFile(filepath.Join(dir, "platform.db"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("opening the platform's database: %w", err)
	}
	file.Close()
	db, err := sql.Open("sqlite", "file:"+filepath.Join(dir, "platform.db")+
		"?_txlock=immediate&_pragma=busy_timeout(5000)&_pragma=journal_mode(WAL)&_pragma=synchronous(NORMAL)&_pragma=foreign_keys(1)")
	if err != nil {
		return nil, fmt.Errorf("opening the platform's database: %w", err)
	}
	db.SetMaxOpenConns(1)
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return nil, err
	}
	steps, err := goose.NewProvider(goose.DialectSQLite3, db, files)
	if err == nil {
		err = upgrade(ctx, steps)
	}
	if err != nil {
		db.Close()
		return nil, fmt.Errorf("upgrading the platform's database: %w", err)
	}
	s := &store{db: sqlstmt.Of(db)}
	err = s.fillTaken(ctx)
	var sealed bool
	if err == nil {
		sealed, err = s.hasSealed(ctx)
	}
	if err == nil {
		s.seal, err = openSeal(dir, !sealed)
	}
	if err == nil {
		err = s.sealAll(ctx)
	}
	if err != nil {
		db.Close()
		return nil, err
	}
	return s, nil
}

// fillTaken fills in the keys of routes that an older program wrote.
func (s *store) fillTaken(ctx context.Context) error {
	rows, err := s.db.QueryContext(ctx, `SELECT rowid, attributes FROM resources WHERE kind = 'route' AND taken IS NULL`)
	if err != nil {
		return err
	}
	taken := map[int64]string{}
	for rows.Next() {
		var id int64
		var text string
		var attributes map[string]any
		if err := errors.Join(rows.Scan(&id, &text), json.Unmarshal([]byte(text), &attributes)); err != nil {
			return errors.Join(err, rows.Close())
		}
		taken[id] = takenBy(resource.Route, attributes)
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return err
	}
	return s.within(ctx, func(tx sqlstmt.Tx) error {
		for id, key := range taken {
			if _, err := tx.ExecContext(ctx, `UPDATE resources SET taken = ? WHERE rowid = ?`, key, id); err != nil {
				return err
			}
		}
		return nil
	})
}

// ErrNewer reports that the platform's database was made by a newer program.
var ErrNewer = errors.New("the platform's database was created by a newer Rudmar; start that one")

func upgrade(ctx context.Context, steps *goose.Provider) error {
	current, target, err := steps.GetVersions(ctx)
	if err != nil {
		return err
	}
	if current > target {
		return fmt.Errorf("%w (format %d, this program knows %d)", ErrNewer, current, target)
	}
	_, err = steps.Up(ctx)
	return err
}

// scope is one stage of one service in one region.
type scope struct{ region, service, stage string }

func (s scope) String() string { return s.region + "/" + s.service + "/" + s.stage }

// row is a stored resource.
type row struct {
	address, kind string
	attributes    map[string]any
	tag           string
	changedAt     int64
	changedBy     string // the key of the request that changed it
	version       int
}

func (s *store) resources(ctx context.Context, q querier, sc scope, where string, args ...any) ([]row, error) {
	rows, err := q.QueryContext(ctx, `SELECT address, kind, attributes, tag, changed_at, changed_by, version FROM resources
		WHERE region = ? AND service = ? AND stage = ? `+where+` ORDER BY address`,
		append([]any{sc.region, sc.service, sc.stage}, args...)...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []row
	for rows.Next() {
		var r row
		var text string
		if err := rows.Scan(&r.address, &r.kind, &text, &r.tag, &r.changedAt, &r.changedBy, &r.version); err != nil {
			return nil, err
		}
		if err := json.Unmarshal([]byte(text), &r.attributes); err != nil {
			return nil, err
		}
		out = append(out, r)
	}
	return out, rows.Err()
}

type querier interface {
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
	QueryRowContext(ctx context.Context, query string, args ...any) *sql.Row
}

// resource returns one resource; false if there is none.
func (s *store) resource(ctx context.Context, q querier, sc scope, address string) (row, bool, error) {
	rows, err := s.resources(ctx, q, sc, "AND address = ?", address)
	if err != nil || len(rows) == 0 {
		return row{}, false, err
	}
	return rows[0], true, nil
}

// secrets returns the values of a resource's secret attributes.
func (s *store) secrets(ctx context.Context, sc scope, address string) (map[string]string, error) {
	var text string
	if err := s.db.QueryRowContext(ctx,
		`SELECT secrets FROM resources WHERE region = ? AND service = ? AND stage = ? AND address = ?`,
		sc.region, sc.service, sc.stage, address).Scan(&text); err != nil {
		return nil, err
	}
	return s.unsealedSecrets(sc, text)
}

// revision is the content of a revision.
type revision struct {
	id, artifact string
	config       map[string]any
	secrets      map[string]string
	version      int
}

func (s *store) revision(ctx context.Context, q querier, sc scope, function, id string) (revision, bool, error) {
	r := revision{id: id}
	var config, secrets string
	err := q.QueryRowContext(ctx,
		`SELECT artifact, config, secrets, version FROM revisions WHERE region = ? AND service = ? AND stage = ? AND function = ? AND id = ?`,
		sc.region, sc.service, sc.stage, function, id).Scan(&r.artifact, &config, &secrets, &r.version)
	if errors.Is(err, sql.ErrNoRows) {
		return r, false, nil
	}
	if err == nil {
		var opened error
		r.secrets, opened = s.unsealedSecrets(sc, secrets)
		err = errors.Join(json.Unmarshal([]byte(config), &r.config), opened)
	}
	return r, err == nil, err
}

// within runs work in one transaction.
func (s *store) within(ctx context.Context, work func(tx sqlstmt.Tx) error) error {
	return s.db.Within(ctx, work)
}
