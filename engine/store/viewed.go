package store

import (
	"context"
	"time"
)

// View records that somebody saw the impact of a version in a stage.
type View struct {
	Person string
	At     time.Time
}

// lookAgain is the interval after which a repeated view is recorded again.
const lookAgain = time.Minute

// RecordView records that somebody saw the impact of a waiting version in a stage.
func (s *Store) RecordView(ctx context.Context, d Delivery, person string) error {
	before, err := s.Viewers(ctx, d)
	if err != nil {
		return err
	}
	for _, l := range before {
		if l.Person == person && s.Now().Before(l.At.Add(lookAgain)) {
			return nil
		}
	}
	return s.exec(ctx, `INSERT INTO looked (service, version, stage, person, at) VALUES (?,?,?,?,?)
		ON CONFLICT DO UPDATE SET at = excluded.at`, d.Service, d.Version, d.Stage, person, s.stamp())
}

// Viewers returns who has seen the impact of a version in a stage, newest first.
func (s *Store) Viewers(ctx context.Context, d Delivery) ([]View, error) {
	return list(ctx, s.read, func(r scanner) (View, error) {
		var l View
		var at int64
		err := r.Scan(&l.Person, &at)
		l.At = millis(at)
		return l, err
	}, `SELECT person, at FROM looked WHERE service = ? AND version = ? AND stage = ? ORDER BY at DESC`, d.Service,
		d.Version, d.Stage)
}
