package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"rudmar/core/manifest"
	"rudmar/core/plan"
)

// IgnoreDrift writes down that a drift is left as it is.
func (s *Store) IgnoreDrift(ctx context.Context, p manifest.Place, l plan.IgnoredDrift) error {
	actual, err := json.Marshal(l.Actual)
	if err != nil {
		return err
	}
	return s.Within(ctx, func(tx Tx) error {
		if _, err := tx.ExecContext(ctx,
			`INSERT INTO drift_left (service, stage, target, address, attribute, live, reason, person, at, until)
			VALUES (?,?,?,?,?,?,?,?,?,?) ON CONFLICT DO UPDATE SET live = excluded.live, reason = excluded.reason,
			person = excluded.person, at = excluded.at, until = excluded.until`,
			p.Service, p.Stage, p.Target.String(), l.Address, l.Attribute, string(actual), l.Reason, l.Person, s.stamp(),
			l.Until); err != nil {
			return err
		}
		until := "forever"
		if l.Until > 0 {
			until = "until " + time.UnixMilli(l.Until).UTC().Format("2 January 2006 15:04 UTC")
		}
		return tx.Note(ctx, Entry{Person: l.Person, Service: p.Service, Stage: p.Stage, What: "drift ignored",
			Text: fmt.Sprintf("%s %s on %s, %s: %s", l.Address, l.Attribute, p.Target, until, l.Reason)})
	})
}

// Unignore ends the ignoring of drift. If it is not ignored the error is ErrNotFound.
func (s *Store) Unignore(ctx context.Context, p manifest.Place, address, attribute, person string) error {
	return s.Within(ctx, func(tx Tx) error {
		result, err := tx.ExecContext(ctx,
			`DELETE FROM drift_left WHERE service = ? AND stage = ? AND target = ? AND address = ? AND attribute = ?`,
			p.Service, p.Stage, p.Target.String(), address, attribute)
		if err != nil {
			return err
		}
		if n, err := result.RowsAffected(); err != nil || n == 0 {
			return NotFound("%s %s is not ignored", address, attribute)
		}
		return tx.Note(ctx, Entry{Person: person, Service: p.Service, Stage: p.Stage, What: "drift no longer ignored",
			Text: address + " " + attribute + " on " + p.Target.String()})
	})
}

// IgnoredDrift returns the drifts of a place that are left at a time.
func (s *Store) IgnoredDrift(ctx context.Context, p manifest.Place, now time.Time) ([]plan.IgnoredDrift, error) {
	return list(ctx, s.read, func(r scanner) (plan.IgnoredDrift, error) {
		var l plan.IgnoredDrift
		var actual string
		if err := r.Scan(&l.Address, &l.Attribute, &actual, &l.Reason, &l.Person, &l.At, &l.Until); err != nil {
			return l, err
		}
		return l, json.Unmarshal([]byte(actual), &l.Actual)
	}, `SELECT address, attribute, live, reason, person, at, until FROM drift_left
		WHERE service = ? AND stage = ? AND target = ? AND (until = 0 OR until > ?) ORDER BY address, attribute`,
		p.Service, p.Stage, p.Target.String(), now.UnixMilli())
}
