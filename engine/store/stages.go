package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"time"

	"rudmar/core/manifest"
	"rudmar/core/plan"
	"rudmar/core/resource"
)

func itoa(n int) string { return strconv.Itoa(n) }

func short(hash string) string { return hash[:min(8, len(hash))] }

// Stage is the record of a place as a whole.
type Stage struct {
	manifest.Place
	Serial  int64
	Version int // 0 for none
	Since   time.Time
}

func takeStage(r scanner) (Stage, error) {
	var v Stage
	var since int64
	err := r.Scan(&v.Service, &v.Stage, targetIn{&v.Target}, &v.Serial, &v.Version, &since)
	v.Since = millis(since)
	return v, err
}

// Stage returns the record of a place; the zero value if there is none.
func (s *Store) Stage(ctx context.Context, p manifest.Place) (Stage, error) {
	v, err := one(ctx, s.read, takeStage,
		`SELECT service, stage, target, serial, version, since FROM stages WHERE service = ? AND stage = ? AND target = ?`,
		p.Service, p.Stage, p.Target.String())
	if errors.Is(err, ErrNotFound) {
		return Stage{Place: p}, nil
	}
	return v, err
}

// Stages lists the places of a service with resources.
func (s *Store) Stages(ctx context.Context, service string) ([]Stage, error) {
	return list(ctx, s.read, takeStage,
		`SELECT service, stage, target, serial, version, since FROM stages WHERE service = ? ORDER BY stage, target`, service)
}

// Recorded is a resource of the record.
type Recorded struct {
	plan.Recorded
	Platform  map[string]any // computed by the platform
	Version   int            // the version that last changed it
	ChangedAt time.Time
}

// Record returns the record of a place, sorted by address.
func (s *Store) Record(ctx context.Context, p manifest.Place) ([]Recorded, error) {
	return list(ctx, s.read, func(r scanner) (Recorded, error) {
		var v Recorded
		var attributes, needs, platform string
		var changed int64
		if err := r.Scan(&v.Address, &v.Kind, &v.Function, &attributes, &needs, &platform, &v.Version, &changed); err != nil {
			return v, err
		}
		v.ChangedAt = millis(changed)
		return v, errors.Join(json.Unmarshal([]byte(attributes), &v.Attributes), json.Unmarshal([]byte(needs), &v.Needs),
			json.Unmarshal([]byte(platform), &v.Platform))
	}, `SELECT address, kind, function, attributes, needs, platform, version, changed_at FROM records WHERE service = ? AND stage = ? AND target = ? ORDER BY address`, p.Service, p.Stage, p.Target.String())
}

// FunctionStatus summarizes a function in a place.
type FunctionStatus struct {
	Function string
	Version  int       // the version that created its revision; 0 if it has none yet
	At       time.Time // creation time of that version; zero if it has none yet
	Memory   int64     // its limit, in bytes; 0 if unknown
}

// FunctionsAt lists the functions of which something is in the record of a place.
func (s *Store) FunctionsAt(ctx context.Context, p manifest.Place) ([]FunctionStatus, error) {
	return list(ctx, s.read, func(r scanner) (FunctionStatus, error) {
		var v FunctionStatus
		var at int64
		err := r.Scan(&v.Function, &v.Version, &at, &v.Memory)
		v.At = millis(at)
		return v, err
	}, `SELECT function, max(CASE kind WHEN ?1 THEN version ELSE 0 END), max(CASE kind WHEN ?1 THEN changed_at ELSE 0 END),
			max(CASE kind WHEN ?2 THEN CAST(coalesce(attributes ->> 'memory', 0) AS INTEGER) ELSE 0 END)
		FROM records WHERE service = ?3 AND stage = ?4 AND target = ?5 GROUP BY function`,
		resource.Revision, resource.Function, p.Service, p.Stage, p.Target.String())
}

// Timeout returns the recorded timeout of a function in a place; 0 if it has none there.
func (s *Store) Timeout(ctx context.Context, p manifest.Place, function string) (time.Duration, error) {
	var ms float64
	err := s.read.QueryRowContext(ctx, `SELECT coalesce(attributes ->> 'timeout', 0) FROM records
		WHERE service = ? AND stage = ? AND target = ? AND address = ?`,
		p.Service, p.Stage, p.Target.String(), resource.Function+"/"+function).Scan(&ms)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, nil
	}
	return time.Duration(ms * float64(time.Millisecond)), err
}

// Plan is a stored plan.
type Plan struct {
	ID        int64
	Person    string
	CreatedAt time.Time
	Plan      *plan.Plan
}

// AddPlan stores a plan.
func (s *Store) AddPlan(ctx context.Context, person string, p *plan.Plan) (int64, error) {
	result, err := s.write.ExecContext(ctx,
		`INSERT INTO plans (service, stage, target, version, digest, body, person, made_at) VALUES (?,?,?,?,?,?,?,?)`,
		p.Base.Service, p.Base.Stage, p.Base.Target.String(), p.Base.Version, p.Digest, toJSON(p), person, s.stamp())
	if err != nil {
		return 0, err
	}
	return result.LastInsertId()
}

// Plan returns a stored plan.
func (s *Store) Plan(ctx context.Context, id int64) (Plan, error) {
	return one(ctx, s.read, func(r scanner) (Plan, error) {
		var v Plan
		var body string
		var made int64
		if err := r.Scan(&v.ID, &v.Person, &made, &body); err != nil {
			return v, err
		}
		v.CreatedAt = millis(made)
		return v, json.Unmarshal([]byte(body), &v.Plan)
	}, `SELECT id, person, made_at, body FROM plans WHERE id = ?`, id)
}

// Observation is the observed state of a place.
type Observation struct {
	manifest.Place
	At   time.Time
	Body string // JSON
}

// PutObservation stores the newest observation of a place, with the notifications of what changed since the last
// one; drifted reports that the drift did.
func (s *Store) PutObservation(ctx context.Context, l Observation, drifted bool, notices ...NewNotification) error {
	return s.Within(ctx, func(tx Tx) error {
		_, err := tx.ExecContext(ctx,
			`INSERT INTO looks (service, stage, target, at, body) VALUES (?,?,?,?,?) ON CONFLICT DO UPDATE SET at = excluded.at, body = excluded.body`,
			l.Service, l.Stage, l.Target.String(), s.stamp(), l.Body)
		if err != nil {
			return err
		}
		for _, n := range notices {
			if err := tx.Notify(ctx, n.Kind, l.Service, l.Stage, n.Text, n.Data); err != nil {
				return err
			}
		}
		return tx.Publish(ctx, l.Service, TopicObservation, map[string]any{"stage": l.Stage, "target": l.Target, "drifted": drifted})
	})
}

// Observations returns the newest observations of a service's places.
func (s *Store) Observations(ctx context.Context, service string) ([]Observation, error) {
	return list(ctx, s.read, func(r scanner) (Observation, error) {
		var l Observation
		var at int64
		err := r.Scan(&l.Service, &l.Stage, targetIn{&l.Target}, &at, &l.Body)
		l.At = millis(at)
		return l, err
	}, `SELECT service, stage, target, at, body FROM looks WHERE service = ?`, service)
}

// targetIn reads a target out of a column.
type targetIn struct{ to *manifest.Target }

// Scan reads the target as it is written.
func (t targetIn) Scan(text any) error {
	*t.to = manifest.ParseTarget(fmt.Sprint(text))
	return nil
}
