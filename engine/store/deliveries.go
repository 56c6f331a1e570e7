package store

import (
	"context"
	"encoding/json"
	"time"

	"rudmar/core/delivery"
)

// Delivery is where a version stands in one stage.
type Delivery struct {
	Service     string
	Version     int
	Stage       string
	State       delivery.State
	Since       time.Time
	Why         string
	RequestedBy string
	Deployments []int64 // one a target, newest round last
}

const deliveryColumns = `service, version, stage, state, since, why, requested_by, deployments`

func takeDelivery(r scanner) (Delivery, error) {
	var d Delivery
	var since int64
	var deployments string
	err := r.Scan(&d.Service, &d.Version, &d.Stage, &d.State, &since, &d.Why, &d.RequestedBy, &deployments)
	d.Since = millis(since)
	if err == nil {
		err = json.Unmarshal([]byte(deployments), &d.Deployments)
	}
	return d, err
}

// StartDelivery makes a version wait in its stages, if it does not yet.
func (s *Store) StartDelivery(ctx context.Context, service string, version int, stages []string) error {
	return s.Within(ctx, func(tx Tx) error {
		for _, stage := range stages {
			if _, err := tx.ExecContext(ctx, `INSERT INTO deliveries (service, version, stage, state, since) VALUES (?,?,?,?,?) ON CONFLICT DO NOTHING`,
				service, version, stage, delivery.Waiting, s.stamp()); err != nil {
				return err
			}
		}
		return nil
	})
}

// Deliveries gives where the versions of a service stand, newest version first.
func (s *Store) Deliveries(ctx context.Context, service string) ([]Delivery, error) {
	return list(ctx, s.read, takeDelivery, `SELECT `+deliveryColumns+` FROM deliveries WHERE service = ? ORDER BY version DESC, rowid`, service)
}

// Delivery gives where a version stands in a stage.
func (s *Store) Delivery(ctx context.Context, service string, version int, stage string) (Delivery, error) {
	return one(ctx, s.read, takeDelivery, `SELECT `+deliveryColumns+` FROM deliveries WHERE service = ? AND version = ? AND stage = ?`, service, version, stage)
}

// MoveDelivery changes a delivery's state, and notes it.
func (s *Store) MoveDelivery(ctx context.Context, d Delivery, person string) error {
	return s.Within(ctx, func(tx Tx) error {
		if _, err := tx.ExecContext(ctx, `UPDATE deliveries SET state = ?, since = ?, why = ?, requested_by = ?, deployments = ? WHERE service = ? AND version = ? AND stage = ?`,
			d.State, s.stamp(), d.Why, d.RequestedBy, toJSON(append([]int64{}, d.Deployments...)), d.Service, d.Version, d.Stage); err != nil {
			return err
		}
		text := "version " + itoa(d.Version) + " is " + string(d.State)
		if d.Why != "" {
			text += ": " + d.Why
		}
		return tx.Note(ctx, Entry{Person: person, Service: d.Service, Stage: d.Stage, What: "delivery", Text: text})
	})
}

// Request keeps that somebody asked for a version in a stage.
func (s *Store) Request(ctx context.Context, service string, version int, stage, person string) error {
	return s.Within(ctx, func(tx Tx) error {
		if _, err := tx.ExecContext(ctx, `UPDATE deliveries SET requested_by = ? WHERE service = ? AND version = ? AND stage = ?`, person, service, version, stage); err != nil {
			return err
		}
		return tx.Note(ctx, Entry{Person: person, Service: service, Stage: stage, What: "asked for", Text: "version " + itoa(version)})
	})
}

// Approval is somebody's yes.
type Approval struct {
	Person, Comment string
	At              time.Time
}

// Approve keeps an approval.
func (s *Store) Approve(ctx context.Context, service string, version int, stage string, a Approval) error {
	return s.Within(ctx, func(tx Tx) error {
		if _, err := tx.ExecContext(ctx, `INSERT INTO approvals (service, version, stage, person, comment, at) VALUES (?,?,?,?,?,?)
			ON CONFLICT DO UPDATE SET comment = excluded.comment, at = excluded.at`, service, version, stage, a.Person, a.Comment, s.stamp()); err != nil {
			return err
		}
		text := "version " + itoa(version)
		if a.Comment != "" {
			text += ": " + a.Comment
		}
		return tx.Note(ctx, Entry{Person: a.Person, Service: service, Stage: stage, What: "approved", Text: text})
	})
}

// Approvals gives the approvals of a version for a stage.
func (s *Store) Approvals(ctx context.Context, service string, version int, stage string) ([]Approval, error) {
	return list(ctx, s.read, func(r scanner) (Approval, error) {
		var a Approval
		var at int64
		err := r.Scan(&a.Person, &a.Comment, &at)
		a.At = millis(at)
		return a, err
	}, `SELECT person, comment, at FROM approvals WHERE service = ? AND version = ? AND stage = ? ORDER BY at`, service, version, stage)
}

// CaseRun is what came of one case.
type CaseRun struct {
	Target, Function, File, Name string
	Passed                       bool
	Body                         string // JSON: what was expected and what came
	At                           time.Time
}

// PutCaseRuns keeps what came of a version's cases in a stage, in place of what came before.
func (s *Store) PutCaseRuns(ctx context.Context, service string, version int, stage string, runs []CaseRun) error {
	return s.Within(ctx, func(tx Tx) error {
		if _, err := tx.ExecContext(ctx, `DELETE FROM case_runs WHERE service = ? AND version = ? AND stage = ?`, service, version, stage); err != nil {
			return err
		}
		for _, r := range runs {
			if _, err := tx.ExecContext(ctx, `INSERT INTO case_runs (service, version, stage, target, function, file, name, passed, body, at) VALUES (?,?,?,?,?,?,?,?,?,?)`,
				service, version, stage, r.Target, r.Function, r.File, r.Name, r.Passed, r.Body, s.stamp()); err != nil {
				return err
			}
		}
		return nil
	})
}

// CaseRuns gives what came of a version's cases in a stage.
func (s *Store) CaseRuns(ctx context.Context, service string, version int, stage string) ([]CaseRun, error) {
	return list(ctx, s.read, func(r scanner) (CaseRun, error) {
		var v CaseRun
		var at int64
		err := r.Scan(&v.Target, &v.Function, &v.File, &v.Name, &v.Passed, &v.Body, &at)
		v.At = millis(at)
		return v, err
	}, `SELECT target, function, file, name, passed, body, at FROM case_runs WHERE service = ? AND version = ? AND stage = ? ORDER BY target, function, file, id`, service, version, stage)
}
