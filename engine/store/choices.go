package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"rudmar/core/delivery"
)

// choiceText returns the stored form of a selection; "" for none.
func choiceText(c *delivery.Choice) string {
	if c == nil {
		return ""
	}
	return toJSON(c)
}

func choiceOf(text string) (*delivery.Choice, error) {
	if text == "" {
		return nil, nil
	}
	c := &delivery.Choice{}
	return c, json.Unmarshal([]byte(text), c)
}

// Choice returns the selected functions of a version in a stage; nil for all of them, also if the remaining
// ones are requested.
func (s *Store) Choice(ctx context.Context, service string, version int, stage string) (*delivery.Choice, error) {
	return s.choice(ctx, `SELECT choice FROM deliveries WHERE service = ? AND version = ? AND stage = ? AND rest = 0`,
		service, version, stage)
}

// DeployedChoice is Choice for a deployed version: its present functions, also while the remaining ones wait.
func (s *Store) DeployedChoice(ctx context.Context, service string, version int, stage string) (
	*delivery.Choice, error) {
	return s.choice(ctx, `SELECT choice FROM deliveries WHERE service = ? AND version = ? AND stage = ?`,
		service, version, stage)
}

// choice reads one selection; nil if there is none.
func (s *Store) choice(ctx context.Context, query string, args ...any) (*delivery.Choice, error) {
	text, err := one(ctx, s.read, takeText, query, args...)
	if errors.Is(err, ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	return choiceOf(text)
}

// UpdateChoice stores another selection for a waiting delivery, unless somebody has requested something else
// since it was read.
func (s *Store) UpdateChoice(ctx context.Context, d Delivery, now *delivery.Choice) error {
	return s.ifWaiting(ctx, d.Service, d.Version, d.Stage, func(tx Tx) error {
		_, err := tx.ExecContext(ctx, `UPDATE deliveries SET choice = ? WHERE service = ? AND version = ? AND stage = ? AND choice = ?`,
			choiceText(now), d.Service, d.Version, d.Stage, choiceText(d.Choice))
		return err
	})
}

// Follow requests the remaining functions of a version: it waits for the gates of the stage again, as
// requested. Its former approvals and overrides are withdrawn. ErrMoved if no function remains.
func (s *Store) Follow(ctx context.Context, d Delivery, person string) error {
	return s.Within(ctx, func(tx Tx) error {
		result, err := tx.ExecContext(ctx, `UPDATE deliveries SET state = ?, since = ?, why = ?, rest = 1, requested_by = ?, not_before = 0, agreed = ''
			WHERE service = ? AND version = ? AND stage = ? AND state = ? AND choice <> '' AND EXISTS
				(SELECT 1 FROM standing s WHERE s.service = deliveries.service AND s.stage = deliveries.stage AND s.version = deliveries.version)`,
			delivery.Waiting, tx.s.stamp(), "the remaining functions follow", person, d.Service, d.Version, d.Stage, delivery.Settled)
		if err != nil {
			return err
		}
		if n, err := result.RowsAffected(); err != nil || n == 0 {
			return errors.Join(err, fmt.Errorf("version %d is complete in %s: %w", d.Version, d.Stage, ErrMoved))
		}
		for _, table := range []string{"approvals", "passed_over"} {
			if _, err := tx.ExecContext(ctx, `DELETE FROM `+table+` WHERE service = ? AND version = ? AND stage = ?`, d.Service,
				d.Version, d.Stage); err != nil {
				return err
			}
		}
		if err := tx.Note(ctx, Entry{Person: person, Service: d.Service, Stage: d.Stage, What: "delivery requested",
			Text: "the remaining functions of version " + itoa(d.Version)}); err != nil {
			return err
		}
		return tx.Publish(ctx, d.Service, TopicDelivery,
			map[string]any{"version": d.Version, "stage": d.Stage, "state": delivery.Waiting})
	})
}
