package store

import (
	"context"
	"errors"
	"fmt"

	"rudmar/core/delivery"
)

// Override records that somebody overrode a gate of a waiting version.
func (s *Store) Override(ctx context.Context, d Delivery, p delivery.Override) error {
	return s.ifWaiting(ctx, d.Service, d.Version, d.Stage, func(tx Tx) error {
		if _, err := tx.ExecContext(ctx, `INSERT INTO passed_over (service, version, stage, kind, name, person, reason, at)
			VALUES (?,?,?,?,?,?,?,?) ON CONFLICT DO NOTHING`, d.Service, d.Version, d.Stage, p.Kind, p.Name, p.Person, p.Reason,
			s.stamp()); err != nil {
			return err
		}
		return tx.Note(ctx, Entry{Person: p.Person, Service: d.Service, Stage: d.Stage, What: "gate overridden",
			Text: fmt.Sprintf("version %d: %s: %s", d.Version, p.Name, p.Reason)})
	})
}

// Overrides returns the overridden gates of a version in a stage.
func (s *Store) Overrides(ctx context.Context, d Delivery) ([]delivery.Override, error) {
	return list(ctx, s.read, func(r scanner) (delivery.Override, error) {
		var p delivery.Override
		return p, r.Scan(&p.Kind, &p.Name, &p.Person, &p.Reason)
	}, `SELECT kind, name, person, reason FROM passed_over WHERE service = ? AND version = ? AND stage = ?`, d.Service,
		d.Version, d.Stage)
}

// WithdrawApproval deletes somebody's approval of a waiting version; ErrNotFound if they have given none.
func (s *Store) WithdrawApproval(ctx context.Context, d Delivery, person string) error {
	return s.ifWaiting(ctx, d.Service, d.Version, d.Stage, func(tx Tx) error {
		result, err := tx.ExecContext(ctx, `DELETE FROM approvals WHERE service = ? AND version = ? AND stage = ? AND person = ?`,
			d.Service, d.Version, d.Stage, person)
		if err != nil {
			return err
		}
		if n, err := result.RowsAffected(); err != nil || n == 0 {
			return errors.Join(err, Missing(ErrNotFound, "approval of %s", person))
		}
		return tx.Note(ctx, Entry{Person: person, Service: d.Service, Stage: d.Stage, What: "approval withdrawn",
			Text: fmt.Sprintf("version %d", d.Version)})
	})
}
