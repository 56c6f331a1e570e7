package store

import (
	"context"
	"errors"
	"fmt"

	"rudmar/core/delivery"
)

// PassOver keeps that somebody passed over a gate of a version that waits.
func (s *Store) PassOver(ctx context.Context, d Delivery, p delivery.Passed) error {
	return s.whileWaiting(ctx, d.Service, d.Version, d.Stage, func(tx Tx) error {
		if _, err := tx.ExecContext(ctx, `INSERT INTO passed_over (service, version, stage, kind, name, person, reason, at)
			VALUES (?,?,?,?,?,?,?,?) ON CONFLICT DO NOTHING`, d.Service, d.Version, d.Stage, p.Kind, p.Name, p.Person, p.Reason,
			s.stamp()); err != nil {
			return err
		}
		return tx.Note(ctx, Entry{Person: p.Person, Service: d.Service, Stage: d.Stage, What: "passed over a gate",
			Text: fmt.Sprintf("version %d: %s: %s", d.Version, p.Name, p.Reason)})
	})
}

// PassedOver gives the gates that somebody passed over for a version in a stage.
func (s *Store) PassedOver(ctx context.Context, d Delivery) ([]delivery.Passed, error) {
	return list(ctx, s.read, func(r scanner) (delivery.Passed, error) {
		var p delivery.Passed
		return p, r.Scan(&p.Kind, &p.Name, &p.Person, &p.Reason)
	}, `SELECT kind, name, person, reason FROM passed_over WHERE service = ? AND version = ? AND stage = ?`, d.Service,
		d.Version, d.Stage)
}

// TakeApprovalBack forgets somebody's approval of a version that waits; ErrNotFound
// where they have given none.
func (s *Store) TakeApprovalBack(ctx context.Context, d Delivery, person string) error {
	return s.whileWaiting(ctx, d.Service, d.Version, d.Stage, func(tx Tx) error {
		result, err := tx.ExecContext(ctx, `DELETE FROM approvals WHERE service = ? AND version = ? AND stage = ? AND person = ?`,
			d.Service, d.Version, d.Stage, person)
		if err != nil {
			return err
		}
		if n, err := result.RowsAffected(); err != nil || n == 0 {
			return errors.Join(err, fmt.Errorf("an approval of %s: %w", person, ErrNotFound))
		}
		return tx.Note(ctx, Entry{Person: person, Service: d.Service, Stage: d.Stage, What: "took an approval back",
			Text: fmt.Sprintf("version %d", d.Version)})
	})
}
