package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	"rudmar/core/manifest"
	"rudmar/core/plan"
)

// States of deployments and of their steps.
const (
	Running            = "running"
	Succeeded          = "succeeded"
	PartiallySucceeded = "partially-succeeded"
	Failed             = "failed"

	// CauseUnreachable is the cause of a deployment whose platform did not respond, or failed itself.
	CauseUnreachable = "unreachable"

	StepWaiting   = "waiting"
	StepRunning   = "running"
	StepSucceeded = "succeeded"
	StepFailed    = "failed"
	StepSkipped   = "skipped"
)

// Deployment is the running of a plan.
type Deployment struct {
	ID, Plan int64
	manifest.Place
	Version               int
	State, Reason, Person string
	Cause                 string // the kind of failure: CauseUnreachable or ""
	Cancelled             bool
	StartedAt, EndedAt    time.Time
}

// Step is the state of one step of a deployment.
type Step struct {
	Step               int
	Address, Kind      string
	State, Key, Error  string
	Attempts           int
	StartedAt, EndedAt time.Time
}

// Begin is a deployment that is to be.
type Begin struct {
	PlanID int64
	Plan   *plan.Plan
	Person string
	Holder string // the process that will run it
	// Also is written in the same transaction; nil for nothing more.
	Also func(tx Tx, id int64) error
}

// AddDeployment records a requested deployment, with all its steps waiting. ErrLease if another one is running
// at its place, ErrSerial if the record has changed.
func (s *Store) AddDeployment(ctx context.Context, b Begin) (int64, error) {
	planID, p, person := b.PlanID, b.Plan, b.Person
	var id int64
	err := s.Within(ctx, func(tx Tx) error {
		if err := s.free(ctx, tx, p.Base.Place, b.Holder); err != nil {
			return err
		}
		var serial int64
		err := tx.QueryRowContext(ctx,
			`SELECT coalesce(max(serial), 0) FROM stages WHERE service = ? AND stage = ? AND target = ?`, p.Base.Service,
			p.Base.Stage, p.Base.Target.String()).Scan(&serial)
		if err != nil {
			return err
		}
		if serial != p.Base.Serial {
			return fmt.Errorf("%w (record serial %d, now %d)", ErrSerial, p.Base.Serial, serial)
		}
		result, err := tx.ExecContext(ctx,
			`INSERT INTO deployments (plan, service, stage, target, version, state, person, started_at) VALUES (?,?,?,?,?,?,?,?)`,
			planID, p.Base.Service, p.Base.Stage, p.Base.Target.String(), p.Base.Version, Running, person, s.stamp())
		if err != nil {
			return err
		}
		if id, err = result.LastInsertId(); err != nil {
			return err
		}
		for _, step := range p.Steps {
			if _, err := tx.ExecContext(ctx,
				`INSERT INTO deployment_steps (deployment, step, address, kind, state) VALUES (?,?,?,?,?)`, id, step.Index,
				step.Address, step.Kind, StepWaiting); err != nil {
				return err
			}
		}
		if b.Also != nil {
			if err := b.Also(tx, id); err != nil {
				return err
			}
		}
		if err := tx.Note(ctx, Entry{Person: person, Service: p.Base.Service, Stage: p.Base.Stage, What: "deploying",
			Text: "version " + itoa(p.Base.Version) + " to " + p.Base.Target.String()}); err != nil {
			return err
		}
		return tx.publishDeployment(ctx, id, p.Base.Place, "deployment requested", nil)
	})
	return id, err
}

// publishDeployment publishes the progress of a deployment, with its steps if they changed.
func (tx Tx) publishDeployment(ctx context.Context, id int64, at manifest.Place, what string, steps []int) error {
	body := map[string]any{"deployment": id, "stage": at.Stage, "what": what}
	if steps != nil {
		body["steps"] = steps
	} else {
		*tx.published = append(*tx.published, Deployments)
	}
	return tx.Publish(ctx, at.Service, TopicDeployment, body)
}

// free checks that no deployment runs at a place, and that nobody but one holder has its lease.
func (s *Store) free(ctx context.Context, q rowQuerier, p manifest.Place, holder string) error {
	var at int
	if err := q.QueryRowContext(ctx,
		`SELECT (SELECT count(*) FROM deployments WHERE service = ?1 AND stage = ?2 AND target = ?3 AND state = ?4)
		+ (SELECT count(*) FROM leases WHERE service = ?1 AND stage = ?2 AND target = ?3 AND until > ?5 AND holder NOT IN ('', ?6))`,
		p.Service, p.Stage, p.Target.String(), Running, s.stamp(), holder).Scan(&at); err != nil {
		return err
	}
	if at > 0 {
		return ErrLease
	}
	return nil
}

// Free checks that no deployment runs at a place, for a prospective holder; otherwise the error is ErrLease.
func (s *Store) Free(ctx context.Context, p manifest.Place, holder string) error {
	return s.free(ctx, s.read, p, holder)
}

// StartDeployment marks a requested deployment as running.
func (s *Store) StartDeployment(ctx context.Context, d Deployment) error {
	return s.Within(ctx, func(tx Tx) error { return tx.publishDeployment(ctx, d.ID, d.Place, "started", nil) })
}

const deploymentColumns = `id, plan, service, stage, target, version, state, why, cause, person, cancelled, started_at, ended_at`

func takeDeployment(r scanner) (Deployment, error) {
	var d Deployment
	var started, ended int64
	err := r.Scan(&d.ID, &d.Plan, &d.Service, &d.Stage, targetIn{&d.Target}, &d.Version, &d.State, &d.Reason, &d.Cause,
		&d.Person, &d.Cancelled, &started, &ended)
	d.StartedAt, d.EndedAt = millis(started), millis(ended)
	return d, err
}

// Deployment returns a deployment by ID.
func (s *Store) Deployment(ctx context.Context, id int64) (Deployment, error) {
	return one(ctx, s.read, takeDeployment, `SELECT `+deploymentColumns+` FROM deployments WHERE id = ?`, id)
}

// RunningDeployments returns the deployments that have not ended.
func (s *Store) RunningDeployments(ctx context.Context) ([]Deployment, error) {
	return list(ctx, s.read, takeDeployment, `SELECT `+deploymentColumns+` FROM deployments WHERE state = ? ORDER BY id`,
		Running)
}

// Deployments returns the newest of a stage, newest first.
func (s *Store) Deployments(ctx context.Context, service, stage string, limit int) ([]Deployment, error) {
	return list(ctx, s.read, takeDeployment,
		`SELECT `+deploymentColumns+
			` FROM deployments WHERE service = ? AND (? = '' OR stage = ?) ORDER BY id DESC LIMIT ?`,
		service, stage, stage, limit)
}

// Steps returns the states of a deployment's steps.
func (s *Store) Steps(ctx context.Context, deployment int64) ([]Step, error) {
	return list(ctx, s.read, func(r scanner) (Step, error) {
		var v Step
		var started, ended int64
		err := r.Scan(&v.Step, &v.Address, &v.Kind, &v.State, &v.Key, &v.Error, &v.Attempts, &started, &ended)
		v.StartedAt, v.EndedAt = millis(started), millis(ended)
		return v, err
	}, `SELECT step, address, kind, state, key, error, attempts, started_at, ended_at FROM deployment_steps WHERE deployment = ? ORDER BY step`, deployment)
}

// EndDeployment records the end of a running deployment and releases its place. If it succeeded, the place has
// its version. ErrMoved if it has ended already.
func (s *Store) EndDeployment(ctx context.Context, l Lease, d Deployment) error {
	return s.Within(ctx, func(tx Tx) error {
		if err := tx.holds(ctx, l); err != nil {
			return err
		}
		result, err := tx.ExecContext(ctx, `UPDATE deployments SET state = ?, why = ?, cause = ?, ended_at = ?
			WHERE id = ? AND state = ?`, d.State, d.Reason, d.Cause, s.stamp(), d.ID, Running)
		if err != nil {
			return err
		}
		if n, err := result.RowsAffected(); err != nil || n == 0 {
			return errors.Join(err, fmt.Errorf("deployment %d has already ended: %w", d.ID, ErrMoved))
		}
		if _, err := tx.ExecContext(ctx, `UPDATE deployment_steps SET state = ? WHERE deployment = ? AND state = ?`,
			StepSkipped, d.ID, StepWaiting); err != nil {
			return err
		}
		if d.State == Succeeded {
			if _, err := tx.ExecContext(ctx,
				`INSERT INTO stages (service, stage, target, serial, version, since) VALUES (?,?,?,1,?,?)
				ON CONFLICT DO UPDATE SET since = CASE WHEN version = excluded.version THEN since ELSE excluded.since END, version = excluded.version`,
				d.Service, d.Stage, d.Target.String(), d.Version, s.stamp()); err != nil {
				return err
			}
		}
		text := "version " + itoa(d.Version) + " to " + d.Target.String()
		if d.Reason != "" {
			text += ": " + d.Reason
		}
		if err := tx.Note(ctx, Entry{Person: d.Person, Service: d.Service, Stage: d.Stage, What: "deployment " + d.State,
			Text: text}); err != nil {
			return err
		}
		if err := tx.endLease(ctx, l); err != nil {
			return err
		}
		return tx.publishDeployment(ctx, d.ID, d.Place, "ended", nil)
	})
}

// Reopen requests that a deployment that did not succeed runs again, for a holder: failed and skipped steps
// wait. ErrLease if another one is running at its place, ErrMoved if it succeeded.
func (s *Store) Reopen(ctx context.Context, d Deployment, person, holder string) error {
	return s.Within(ctx, func(tx Tx) error {
		if err := s.free(ctx, tx, d.Place, holder); err != nil {
			return err
		}
		result, err := tx.ExecContext(ctx,
			`UPDATE deployments SET state = ?, why = '', cancelled = 0, ended_at = 0, person = ? WHERE id = ? AND state IN (?, ?)`,
			Running, person, d.ID, PartiallySucceeded, Failed)
		if err != nil {
			return err
		}
		if n, err := result.RowsAffected(); err != nil || n == 0 {
			return errors.Join(err, fmt.Errorf("deployment %d has no remaining steps: %w", d.ID, ErrMoved))
		}
		if _, err := tx.ExecContext(ctx,
			`UPDATE deployment_steps SET state = ?, error = '' WHERE deployment = ? AND state IN (?, ?)`, StepWaiting, d.ID,
			StepFailed, StepSkipped); err != nil {
			return err
		}
		return tx.publishDeployment(ctx, d.ID, d.Place, "deployment requested", nil)
	})
}

// Cancel asks a running deployment to finish the steps in flight and stop; ErrMoved if it is not running.
func (s *Store) Cancel(ctx context.Context, id int64) error {
	return s.Within(ctx, func(tx Tx) error {
		d := Deployment{ID: id}
		err := tx.QueryRowContext(ctx,
			`UPDATE deployments SET cancelled = 1 WHERE id = ? AND state = ? RETURNING service, stage`, id,
			Running).Scan(&d.Service, &d.Stage)
		if errors.Is(err, sql.ErrNoRows) {
			return fmt.Errorf("deployment %d is not running: %w", id, ErrMoved)
		}
		if err != nil {
			return err
		}
		return tx.publishDeployment(ctx, id, d.Place, "cancelled", nil)
	})
}

// DeployedAt returns, by place of a service, the start of the newest successful deployment: later changes are
// not deployed.
func (s *Store) DeployedAt(ctx context.Context, service string) (map[manifest.Place]time.Time, error) {
	type row struct {
		place manifest.Place
		at    int64
	}
	rows, err := list(ctx, s.read, func(r scanner) (row, error) {
		v := row{place: manifest.Place{Service: service}}
		return v, r.Scan(&v.place.Stage, targetIn{&v.place.Target}, &v.at)
	}, `SELECT stage, target, max(started_at) FROM deployments WHERE service = ? AND state = ? GROUP BY stage, target`,
		service, Succeeded)
	out := map[manifest.Place]time.Time{}
	for _, r := range rows {
		out[r.place] = millis(r.at)
	}
	return out, err
}

// UsualTimes returns the recent duration of a step, by kind.
func (s *Store) UsualTimes(ctx context.Context) (map[string]time.Duration, error) {
	type usual struct {
		kind string
		ms   float64
	}
	rows, err := list(ctx, s.read, func(r scanner) (usual, error) {
		var u usual
		return u, r.Scan(&u.kind, &u.ms)
	}, `SELECT kind, avg(ended_at - started_at) FROM (SELECT kind, started_at, ended_at FROM deployment_steps WHERE state = 'succeeded' AND attempts = 1 ORDER BY deployment DESC LIMIT 500) GROUP BY kind`)
	out := map[string]time.Duration{}
	for _, u := range rows {
		out[u.kind] = time.Duration(u.ms) * time.Millisecond
	}
	return out, err
}
