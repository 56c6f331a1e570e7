package store

import (
	"context"
	"time"
)

// Beat writes one row, to check that the database can be written.
func (s *Store) Beat(ctx context.Context) error {
	return s.exec(ctx, `INSERT INTO beat (one, at) VALUES (1, ?) ON CONFLICT DO UPDATE SET at = excluded.at`, s.stamp())
}

// StateCount is how much of a kind of work is in a state.
type StateCount struct {
	Of, State string
	Count     int
}

// CountStates counts deliveries, builds and deployments by their states.
func (s *Store) CountStates(ctx context.Context) ([]StateCount, error) {
	return list(ctx, s.read, func(r scanner) (StateCount, error) {
		var c StateCount
		return c, r.Scan(&c.Of, &c.State, &c.Count)
	}, `SELECT 'delivery', state, count(*) FROM deliveries GROUP BY state
		UNION ALL SELECT 'build', state, count(*) FROM builds GROUP BY state
		UNION ALL SELECT 'deployment', state, count(*) FROM deployments GROUP BY state ORDER BY 1, 2`)
}

// Stalled is work that does not progress.
type Stalled struct {
	Service, Stage string
	What           string
	Since          time.Time
}

// StalledSince lists work that was requested before a time and has not progressed since.
func (s *Store) StalledSince(ctx context.Context, before time.Time) ([]Stalled, error) {
	return list(ctx, s.read, func(r scanner) (Stalled, error) {
		var v Stalled
		var since int64
		err := r.Scan(&v.Service, &v.Stage, &v.What, &since)
		v.Since = millis(since)
		return v, err
	}, `SELECT service, '', 'a build of ' || substr(hash, 1, 8) || CASE WHEN why = '' THEN '' ELSE ' (' || why || ')' END, asked_at
		FROM builds WHERE state = 'queued' AND (asked_at < ?1 OR why <> '')
		UNION ALL SELECT d.service, d.stage, 'deployment ' || d.id,
			max(d.started_at, coalesce((SELECT max(max(s.started_at, s.ended_at)) FROM deployment_steps s
				WHERE s.deployment = d.id), 0)) AS moved
			FROM deployments d WHERE d.state = 'running' AND moved < ?1
		UNION ALL SELECT service, stage, 'version ' || version || ' is ' || state, since FROM deliveries
			WHERE state IN ('planning', 'testing') AND since < ?1
		ORDER BY 4 LIMIT 100`, before.UnixMilli())
}
