package store

import (
	"context"
	"errors"
	"slices"
	"strings"
)

// Push is a move of a branch by a user, as signed in.
type Push struct {
	Repository, Branch string
	Before, After      string // hashes; all zeros before the first
	Person             string
}

// LastPush returns the newest push of a branch that is known; ErrNotFound if there is none.
func (s *Store) LastPush(ctx context.Context, repository, branch string) (Push, error) {
	return one(ctx, s.read, func(r scanner) (Push, error) {
		p := Push{Repository: repository, Branch: branch}
		return p, r.Scan(&p.Before, &p.After, &p.Person)
	}, `SELECT before, after, person FROM pushes WHERE repository = ? AND branch = ? ORDER BY id DESC LIMIT 1`,
		repository, branch)
}

// PushesSince returns the pushes of a branch after the newest one that moved it to a commit, oldest first; only
// the newest push if that commit is unknown.
func (s *Store) PushesSince(ctx context.Context, repository, branch, after string) ([]Push, error) {
	return list(ctx, s.read, func(r scanner) (Push, error) {
		p := Push{Repository: repository, Branch: branch}
		return p, r.Scan(&p.Before, &p.After, &p.Person)
	}, `SELECT before, after, person FROM pushes WHERE repository = ?1 AND branch = ?2
		AND id > coalesce((SELECT max(id) FROM pushes WHERE repository = ?1 AND branch = ?2 AND after = ?3),
			(SELECT max(id) - 1 FROM pushes WHERE repository = ?1 AND branch = ?2)) ORDER BY id`, repository, branch, after)
}

// MoveRecorded reports whether a move of a branch has been processed: its head is there, or at a later move.
func (s *Store) MoveRecorded(ctx context.Context, repository, branch, before, after string) (bool, error) {
	n, err := one(ctx, s.read, func(r scanner) (n int, err error) { err = r.Scan(&n); return n, err }, `SELECT count(*) FROM heads h
		JOIN pushes last ON last.repository = h.repository AND last.branch = h.branch AND last.after = h.hash
		WHERE h.repository = ?1 AND h.branch = ?2 AND last.id >= (SELECT max(id) FROM pushes
			WHERE repository = ?1 AND branch = ?2 AND before = ?3 AND after = ?4)`, repository, branch, before, after)
	return n > 0, err
}

// AddPush records who moved a branch, with the commits of the push.
func (s *Store) AddPush(ctx context.Context, p Push, commits []string) error {
	return s.Within(ctx, func(tx Tx) error {
		if _, err := tx.ExecContext(ctx,
			`INSERT INTO pushes (repository, branch, before, after, person, at) VALUES (?,?,?,?,?,?)`,
			p.Repository, p.Branch, p.Before, p.After, p.Person, s.stamp()); err != nil {
			return err
		}
		insert, err := tx.PrepareContext(ctx,
			`INSERT INTO pushed_commits (repository, hash, person) VALUES (?,?,?) ON CONFLICT DO NOTHING`)
		if err != nil {
			return err
		}
		defer insert.Close()
		for _, hash := range commits {
			if _, err := insert.ExecContext(ctx, p.Repository, hash, p.Person); err != nil {
				return err
			}
		}
		return nil
	})
}

// pushersAtOnce is the number of commits per query.
const pushersAtOnce = 500

// PushersOf returns, by commit, who pushed it.
func (s *Store) PushersOf(ctx context.Context, repository string, commits []string) (map[string][]string, error) {
	out := map[string][]string{}
	type row struct{ hash, person string }
	for some := range slices.Chunk(commits, pushersAtOnce) {
		args := []any{repository}
		for _, c := range some {
			args = append(args, c)
		}
		rows, err := list(ctx, s.read, func(r scanner) (row, error) {
			var v row
			return v, r.Scan(&v.hash, &v.person)
		}, `SELECT hash, person FROM pushed_commits WHERE repository = ? AND hash IN (?`+
			strings.Repeat(",?", len(some)-1)+`)`, args...)
		if err != nil {
			return nil, err
		}
		for _, r := range rows {
			out[r.hash] = append(out[r.hash], r.person)
		}
	}
	return out, nil
}

// BranchesOf lists the branches whose pushes were built to a version.
func (s *Store) BranchesOf(ctx context.Context, service string, version int) ([]string, error) {
	return list(ctx, s.read, takeText,
		`SELECT DISTINCT branch FROM builds WHERE service = ? AND version = ? ORDER BY branch`, service, version)
}

// Standing returns the version whose rules apply in each stage of a service.
func (s *Store) Standing(ctx context.Context, service string) (map[string]int, error) {
	type row struct {
		stage   string
		version int
	}
	rows, err := list(ctx, s.read, func(r scanner) (row, error) {
		var v row
		return v, r.Scan(&v.stage, &v.version)
	}, `SELECT stage, version FROM standing WHERE service = ?`, service)
	out := map[string]int{}
	for _, r := range rows {
		out[r.stage] = r.version
	}
	return out, err
}

// stand records with a settled delivery that its version's rules apply in the stage from now on, or that the
// stage is empty.
func (tx Tx) stand(ctx context.Context, d Delivery) error {
	if !d.Removes {
		_, err := tx.ExecContext(ctx, `INSERT INTO standing (service, stage, version, since) VALUES (?,?,?,?)
			ON CONFLICT DO UPDATE SET version = excluded.version, since = excluded.since`, d.Service, d.Stage,
			d.Version, tx.s.stamp())
		return err
	}
	var errs error
	for _, table := range []string{"standing", "stages", "looks", "records"} {
		_, err := tx.ExecContext(ctx, `DELETE FROM `+table+` WHERE service = ? AND stage = ?`, d.Service, d.Stage)
		errs = errors.Join(errs, err)
	}
	return errs
}
