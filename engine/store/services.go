package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"

	"rudmar/core/language"
)

// Errors of services and repositories.
var (
	ErrOwned = errors.New("it belongs to another repository")
	ErrInUse = errors.New("it still has deployed resources")
)

// Service is a folder of a repository that contains a rudmar.yaml.
type Service struct {
	Name, Repository, Dir string
	// RenamedTo is the service's present name, if it was renamed.
	RenamedTo string
}

// AddRepository adds a repository, if it is not there.
func (s *Store) AddRepository(ctx context.Context, name, by string) error {
	return s.Within(ctx, func(tx Tx) error {
		result, err := tx.ExecContext(ctx, `INSERT INTO repositories (name, made_at) VALUES (?,?) ON CONFLICT DO NOTHING`,
			name, s.stamp())
		if err != nil {
			return err
		}
		if n, err := result.RowsAffected(); err != nil || n == 0 {
			return err
		}
		return tx.Note(ctx, Entry{Person: by, What: "repository created", Text: name})
	})
}

// Repositories lists the names.
func (s *Store) Repositories(ctx context.Context) ([]string, error) {
	return list(ctx, s.read, takeText, `SELECT name FROM repositories WHERE removed_at = 0 ORDER BY name`)
}

func takeText(r scanner) (string, error) {
	var v string
	return v, r.Scan(&v)
}

// AddService adds a service of a repository, or updates its folder. ErrOwned if it belongs to another
// repository.
func (s *Store) AddService(ctx context.Context, v Service, move bool, by string) error {
	return s.Within(ctx, func(tx Tx) error {
		var owner string
		var removed int64
		err := tx.QueryRowContext(ctx, `SELECT repository, removed_at FROM services WHERE name = ?`,
			v.Name).Scan(&owner, &removed)
		switch {
		case errors.Is(err, sql.ErrNoRows):
			if _, err := tx.ExecContext(ctx, `INSERT INTO services (name, repository, dir, made_at) VALUES (?,?,?,?)`, v.Name,
				v.Repository, v.Dir, s.stamp()); err != nil {
				return err
			}
			return tx.Note(ctx, Entry{Person: by, Service: v.Name, What: "service created", Text: v.Name + " in " + v.Repository})
		case err != nil:
			return err
		case owner != v.Repository && removed == 0:
			return fmt.Errorf("the service %s: %w: %s", v.Name, ErrOwned, owner)
		}
		_, err = tx.ExecContext(ctx,
			`UPDATE services SET repository = ?2, dir = CASE WHEN ?4 THEN ?3 ELSE dir END, removed_at = 0, became = CASE WHEN ?4 THEN '' ELSE became END WHERE name = ?1`,
			v.Name, v.Repository, v.Dir, move)
		return err
	})
}

// RenamedTo records the present name of a service, "" for none.
func (s *Store) RenamedTo(ctx context.Context, service, name string) error {
	return s.exec(ctx, `UPDATE services SET became = ? WHERE name = ?`, name, service)
}

// MoveService moves a service to another repository and adds a journal entry.
func (s *Store) MoveService(ctx context.Context, name, repository, by string) error {
	return s.Within(ctx, func(tx Tx) error {
		var owner string
		err := tx.QueryRowContext(ctx, `SELECT repository FROM services WHERE name = ? AND removed_at = 0`, name).Scan(&owner)
		if errors.Is(err, sql.ErrNoRows) {
			return ErrNotFound
		}
		if err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `UPDATE services SET repository = ? WHERE name = ?`, repository, name); err != nil {
			return err
		}
		// So existing resources are observed.
		if _, err := tx.ExecContext(ctx, `DELETE FROM heads WHERE repository = ?`, repository); err != nil {
			return err
		}
		return tx.Note(ctx, Entry{Person: by, Service: name, What: "service moved",
			Text: name + " from " + owner + " to " + repository})
	})
}

// DeleteService removes a service without resources from the list. Its versions and its journal are kept.
// ErrInUse if it has resources.
func (s *Store) DeleteService(ctx context.Context, name, by string) error {
	return s.Within(ctx, func(tx Tx) error {
		var left int
		if err := tx.QueryRowContext(ctx,
			`SELECT (SELECT count(*) FROM standing WHERE service = ?1) + (SELECT count(*) FROM records WHERE service = ?1)`,
			name).Scan(&left); err != nil {
			return err
		}
		if left > 0 {
			return fmt.Errorf("the service %s: %w", name, ErrInUse)
		}
		result, err := tx.ExecContext(ctx, `UPDATE services SET removed_at = ? WHERE name = ? AND removed_at = 0`,
			s.stamp(), name)
		if err != nil {
			return err
		}
		if n, err := result.RowsAffected(); err != nil || n == 0 {
			return errors.Join(err, ErrNotFound)
		}
		return tx.Note(ctx, Entry{Person: by, Service: name, What: "service deleted", Text: name})
	})
}

// DeleteRepository removes a repository from the list. ErrInUse if it has services.
func (s *Store) DeleteRepository(ctx context.Context, name, by string) error {
	return s.Within(ctx, func(tx Tx) error {
		var left int
		if err := tx.QueryRowContext(ctx, `SELECT count(*) FROM services WHERE repository = ? AND removed_at = 0`,
			name).Scan(&left); err != nil {
			return err
		}
		if left > 0 {
			return fmt.Errorf("the repository %s has %s: %w", name, language.FormatCount(left, "service"), ErrInUse)
		}
		result, err := tx.ExecContext(ctx, `UPDATE repositories SET removed_at = ? WHERE name = ? AND removed_at = 0`,
			s.stamp(), name)
		if err != nil {
			return err
		}
		if n, err := result.RowsAffected(); err != nil || n == 0 {
			return errors.Join(err, ErrNotFound)
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM heads WHERE repository = ?`, name); err != nil {
			return err
		}
		return tx.Note(ctx, Entry{Person: by, What: "repository deleted", Text: name})
	})
}

const serviceColumns = `name, repository, dir, became`

func takeService(r scanner) (Service, error) {
	var v Service
	return v, r.Scan(&v.Name, &v.Repository, &v.Dir, &v.RenamedTo)
}

// Services lists all services.
func (s *Store) Services(ctx context.Context) ([]Service, error) {
	return list(ctx, s.read, takeService, `SELECT `+serviceColumns+` FROM services WHERE removed_at = 0 ORDER BY name`)
}

// ServicesOf lists the services of a repository.
func (s *Store) ServicesOf(ctx context.Context, repository string) ([]Service, error) {
	return list(ctx, s.read, takeService,
		`SELECT `+serviceColumns+` FROM services WHERE removed_at = 0 AND repository = ? ORDER BY name`, repository)
}

// Service returns a service by name.
func (s *Store) Service(ctx context.Context, name string) (Service, error) {
	return one(ctx, s.read, takeService, `SELECT `+serviceColumns+` FROM services WHERE name = ? AND removed_at = 0`, name)
}
