package store

import (
	"context"
	"time"

	"rudmar/core/delivery"
	"rudmar/core/measure"
)

// pass records a version's arrival at a state in a stage, if that is measured.
func (tx Tx) pass(ctx context.Context, d Delivery) error {
	if d.Removes || d.State != delivery.Settled && d.State != delivery.RolledBack && d.State != delivery.Failed {
		return nil
	}
	_, err := tx.ExecContext(ctx, `INSERT INTO passages (service, stage, version, state, at) VALUES (?,?,?,?,?)`, d.Service,
		d.Stage, d.Version, d.State, tx.s.stamp())
	return err
}

// WasSettled reports whether a version has been settled in a stage.
func (s *Store) WasSettled(ctx context.Context, d Delivery) (bool, error) {
	return one(ctx, s.read, scanBool, `SELECT EXISTS (SELECT 1 FROM passages
		WHERE service = ? AND stage = ? AND version = ? AND state = ?)`, d.Service, d.Stage, d.Version, delivery.Settled)
}

// Passages returns the arrivals since a time, in order, with the push time of each version; without one, its
// build time.
func (s *Store) Passages(ctx context.Context, service string, since time.Time) ([]measure.Passage, error) {
	return list(ctx, s.read, func(r scanner) (measure.Passage, error) {
		var p measure.Passage
		var at, pushed int64
		err := r.Scan(&p.Stage, &p.Version, &p.State, &at, &pushed)
		p.At, p.Pushed = time.UnixMilli(at), time.UnixMilli(pushed)
		return p, err
	}, `SELECT p.stage, p.version, p.state, p.at, coalesce((SELECT min(u.at) FROM pushes u WHERE u.after = v.hash), v.built_at)
		FROM passages p JOIN versions v ON v.service = p.service AND v.number = p.version
		WHERE p.service = ? AND p.at >= ? ORDER BY p.at, p.id`, service, since.UnixMilli())
}
