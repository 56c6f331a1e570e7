package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"rudmar/core/delivery"
)

// choiceText returns a choice as it is kept; "" for none.
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

// Choice returns which functions of a version a stage holds or is to hold; nil for all of
// them, also where the rest is to follow now.
func (s *Store) Choice(ctx context.Context, service string, version int, stage string) (*delivery.Choice, error) {
	return s.choice(ctx, `SELECT choice FROM deliveries WHERE service = ? AND version = ? AND stage = ? AND rest = 0`,
		service, version, stage)
}

// DeployedChoice is like Choice for a version that stands in a stage: what it holds now,
// also while the rest follows.
func (s *Store) DeployedChoice(ctx context.Context, service string, version int, stage string) (
	*delivery.Choice, error) {
	return s.choice(ctx, `SELECT choice FROM deliveries WHERE service = ? AND version = ? AND stage = ?`,
		service, version, stage)
}

// choice reads one choice; nil if there is none.
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

// UpdateChoice keeps another choice for a delivery that waits, unless somebody has asked for
// something else since it was read.
func (s *Store) UpdateChoice(ctx context.Context, d Delivery, now *delivery.Choice) error {
	return s.ifWaiting(ctx, d.Service, d.Version, d.Stage, func(tx Tx) error {
		_, err := tx.ExecContext(ctx, `UPDATE deliveries SET choice = ? WHERE service = ? AND version = ? AND stage = ? AND choice = ?`,
			choiceText(now), d.Service, d.Version, d.Stage, choiceText(d.Choice))
		return err
	})
}

// Follow makes what was left out of a version come into a stage too: the version waits
// there again, for its gates, and somebody has asked for it. What was said of it before
// no longer counts. ErrMoved where nothing of it is left out any more.
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
