package store

import (
	"context"
	"errors"
	"time"

	"rudmar/core/manifest"
)

// Copy is somebody's private copy of a stage.
type Copy struct {
	manifest.Place // the stage whose settings it has
	Username       string
	Made, Used     time.Time
	OpenUntil      time.Time // its routes are open to those that its manifests name; zero for its owner alone
}

const copyColumns = `service, stage, target, handle, made_at, used_at, open_until`

func takeCopy(r scanner) (Copy, error) {
	var c Copy
	var target string
	var made, used, open int64
	err := r.Scan(&c.Service, &c.Stage, &target, &c.Username, &made, &used, &open)
	c.Target, c.Made, c.Used, c.OpenUntil = manifest.ParseTarget(target), millis(made), millis(used), millis(open)
	return c, err
}

// PutCopy records the creation or the use of a copy.
func (s *Store) PutCopy(ctx context.Context, c Copy) error {
	return s.Within(ctx, func(tx Tx) error {
		there, err := one(ctx, tx, scanBool, `SELECT EXISTS (SELECT 1 FROM copies WHERE service = ? AND handle = ?)`, c.Service,
			c.Username)
		if err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO copies (service, handle, stage, target, made_at, used_at)
			VALUES (?,?,?,?,?,?) ON CONFLICT DO UPDATE SET stage = excluded.stage, target = excluded.target,
			used_at = excluded.used_at`, c.Service, c.Username, c.Stage, c.Target.String(), s.stamp(), s.stamp()); err != nil || there {
			return err
		}
		if err := tx.Note(ctx, Entry{Person: c.Username, Service: c.Service, Stage: c.Stage, What: "private copy created",
			Text: "on " + c.Target.String()}); err != nil {
			return err
		}
		return tx.Publish(ctx, c.Service, TopicCopy, map[string]any{"username": c.Username})
	})
}

// OpenCopy records until when the routes of a copy are open; zero closes them.
func (s *Store) OpenCopy(ctx context.Context, c Copy, until time.Time) error {
	return s.Within(ctx, func(tx Tx) error {
		at, what := int64(0), "private copy's routes closed"
		if !until.IsZero() {
			at, what = until.UnixMilli(), "private copy's routes opened until "+until.UTC().Format(time.RFC3339)
		}
		_, err := one(ctx, tx, takeText, `UPDATE copies SET open_until = ?1 WHERE service = ?2 AND handle = ?3 AND open_until <> ?1
			RETURNING handle`, at, c.Service, c.Username)
		if errors.Is(err, ErrNotFound) {
			return nil // as it was
		}
		if err != nil {
			return err
		}
		return tx.Note(ctx, Entry{Person: c.Username, Service: c.Service, Stage: c.Stage, What: "private copy", Text: what})
	})
}

// Copies lists all copies.
func (s *Store) Copies(ctx context.Context) ([]Copy, error) {
	return list(ctx, s.read, takeCopy, `SELECT `+copyColumns+` FROM copies ORDER BY service, handle`)
}

// Copy returns somebody's copy.
func (s *Store) Copy(ctx context.Context, service, username string) (Copy, error) {
	c, err := one(ctx, s.read, takeCopy, `SELECT `+copyColumns+` FROM copies WHERE service = ? AND handle = ?`, service, username)
	if err != nil {
		err = Missing(err, "private copy of %s for %s", service, username)
	}
	return c, err
}

// DropCopy deletes the record of a copy, and writes to the journal who deleted it and why.
func (s *Store) DropCopy(ctx context.Context, c Copy, by, why string) error {
	return s.Within(ctx, func(tx Tx) error {
		if _, err := tx.ExecContext(ctx, `DELETE FROM copies WHERE service = ? AND handle = ?`, c.Service, c.Username); err != nil {
			return err
		}
		if err := tx.Note(ctx, Entry{Person: by, Service: c.Service, Stage: c.Stage, What: "private copy deleted",
			Text: "of " + c.Username + ": " + why}); err != nil {
			return err
		}
		return tx.Publish(ctx, c.Service, TopicCopy, map[string]any{"username": c.Username})
	})
}
