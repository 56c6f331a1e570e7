package store

import (
	"context"
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

// Stage is what is recorded of a place as a whole.
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

// Stage gives what is recorded of a place; the zero stage where nothing is.
func (s *Store) Stage(ctx context.Context, p manifest.Place) (Stage, error) {
	v, err := one(ctx, s.read, takeStage, `SELECT service, stage, target, serial, version, since FROM stages WHERE service = ? AND stage = ? AND target = ?`, p.Service, p.Stage, p.Target.String())
	if errors.Is(err, ErrNotFound) {
		return Stage{Place: p}, nil
	}
	return v, err
}

// Stages lists the places of a service where something was put.
func (s *Store) Stages(ctx context.Context, service string) ([]Stage, error) {
	return list(ctx, s.read, takeStage, `SELECT service, stage, target, serial, version, since FROM stages WHERE service = ? ORDER BY stage, target`, service)
}

// Recorded is a resource of the record.
type Recorded struct {
	plan.Recorded
	Platform  map[string]any // what the platform computed
	Version   int            // the version that last changed it
	ChangedAt time.Time
}

// Record gives the record of a place, sorted by address.
func (s *Store) Record(ctx context.Context, p manifest.Place) ([]Recorded, error) {
	return list(ctx, s.read, func(r scanner) (Recorded, error) {
		var v Recorded
		var attributes, needs, platform string
		var changed int64
		if err := r.Scan(&v.Address, &v.Kind, &v.Function, &attributes, &needs, &platform, &v.Version, &changed); err != nil {
			return v, err
		}
		v.ChangedAt = millis(changed)
		return v, errors.Join(json.Unmarshal([]byte(attributes), &v.Attributes), json.Unmarshal([]byte(needs), &v.Needs), json.Unmarshal([]byte(platform), &v.Platform))
	}, `SELECT address, kind, function, attributes, needs, platform, version, changed_at FROM records WHERE service = ? AND stage = ? AND target = ? ORDER BY address`, p.Service, p.Stage, p.Target.String())
}

// Plan is a plan that was kept.
type Plan struct {
	ID     int64
	Person string
	MadeAt time.Time
	Plan   *plan.Plan
}

// AddPlan keeps a plan.
func (s *Store) AddPlan(ctx context.Context, person string, p *plan.Plan) (int64, error) {
	result, err := s.write.ExecContext(ctx, `INSERT INTO plans (service, stage, target, version, digest, body, person, made_at) VALUES (?,?,?,?,?,?,?,?)`,
		p.Base.Service, p.Base.Stage, p.Base.Target.String(), p.Base.Version, p.Digest, toJSON(p), person, s.stamp())
	if err != nil {
		return 0, err
	}
	return result.LastInsertId()
}

// Plan gives a plan that was kept.
func (s *Store) Plan(ctx context.Context, id int64) (Plan, error) {
	return one(ctx, s.read, func(r scanner) (Plan, error) {
		var v Plan
		var body string
		var made int64
		if err := r.Scan(&v.ID, &v.Person, &made, &body); err != nil {
			return v, err
		}
		v.MadeAt = millis(made)
		return v, json.Unmarshal([]byte(body), &v.Plan)
	}, `SELECT id, person, made_at, body FROM plans WHERE id = ?`, id)
}

// States of deployments and of their steps.
const (
	Running    = "running"
	Done       = "done"
	PartlyDone = "partly done"
	Stopped    = "stopped"

	StepWaiting = "waiting"
	StepRunning = "running"
	StepDone    = "done"
	StepFailed  = "failed"
	StepSkipped = "skipped"
)

// Deployment is the running of a plan.
type Deployment struct {
	ID, Plan int64
	manifest.Place
	Version            int
	State, Why, Person string
	Cancelled          bool
	StartedAt, EndedAt time.Time
}

// Step is the state of one step of a deployment.
type Step struct {
	Step               int
	Address, Kind      string
	State, Key, Error  string
	Attempts           int
	StartedAt, EndedAt time.Time
}

// AddDeployment begins a deployment with all its steps waiting.
func (s *Store) AddDeployment(ctx context.Context, planID int64, p *plan.Plan, person string) (int64, error) {
	var id int64
	err := s.Within(ctx, func(tx Tx) error {
		result, err := tx.ExecContext(ctx, `INSERT INTO deployments (plan, service, stage, target, version, state, person, started_at) VALUES (?,?,?,?,?,?,?,?)`,
			planID, p.Base.Service, p.Base.Stage, p.Base.Target.String(), p.Base.Version, Running, person, s.stamp())
		if err != nil {
			return err
		}
		if id, err = result.LastInsertId(); err != nil {
			return err
		}
		for _, step := range p.Steps {
			if _, err := tx.ExecContext(ctx, `INSERT INTO deployment_steps (deployment, step, address, kind, state) VALUES (?,?,?,?,?)`, id, step.Index, step.Address, step.Kind, StepWaiting); err != nil {
				return err
			}
		}
		return tx.Note(ctx, Entry{Person: person, Service: p.Base.Service, Stage: p.Base.Stage, What: "deploying", Text: "version " + itoa(p.Base.Version) + " onto " + p.Base.Target.String()})
	})
	return id, err
}

const deploymentColumns = `id, plan, service, stage, target, version, state, why, person, cancelled, started_at, ended_at`

func takeDeployment(r scanner) (Deployment, error) {
	var d Deployment
	var started, ended int64
	err := r.Scan(&d.ID, &d.Plan, &d.Service, &d.Stage, targetIn{&d.Target}, &d.Version, &d.State, &d.Why, &d.Person, &d.Cancelled, &started, &ended)
	d.StartedAt, d.EndedAt = millis(started), millis(ended)
	return d, err
}

// Deployment gives one by id.
func (s *Store) Deployment(ctx context.Context, id int64) (Deployment, error) {
	return one(ctx, s.read, takeDeployment, `SELECT `+deploymentColumns+` FROM deployments WHERE id = ?`, id)
}

// RunningDeployments gives those that have not ended.
func (s *Store) RunningDeployments(ctx context.Context) ([]Deployment, error) {
	return list(ctx, s.read, takeDeployment, `SELECT `+deploymentColumns+` FROM deployments WHERE state = ? ORDER BY id`, Running)
}

// Deployments gives the newest of a stage, newest first.
func (s *Store) Deployments(ctx context.Context, service, stage string, limit int) ([]Deployment, error) {
	return list(ctx, s.read, takeDeployment, `SELECT `+deploymentColumns+` FROM deployments WHERE service = ? AND (? = '' OR stage = ?) ORDER BY id DESC LIMIT ?`, service, stage, stage, limit)
}

// Steps gives the states of a deployment's steps.
func (s *Store) Steps(ctx context.Context, deployment int64) ([]Step, error) {
	return list(ctx, s.read, func(r scanner) (Step, error) {
		var v Step
		var started, ended int64
		err := r.Scan(&v.Step, &v.Address, &v.Kind, &v.State, &v.Key, &v.Error, &v.Attempts, &started, &ended)
		v.StartedAt, v.EndedAt = millis(started), millis(ended)
		return v, err
	}, `SELECT step, address, kind, state, key, error, attempts, started_at, ended_at FROM deployment_steps WHERE deployment = ? ORDER BY step`, deployment)
}

// BeginStep writes down what a step is about to do, before it is done. The key
// stays the same when the step is sent again.
func (s *Store) BeginStep(ctx context.Context, l Lease, deployment int64, step int, key string) error {
	return s.Within(ctx, func(tx Tx) error {
		if err := tx.holds(ctx, l); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `UPDATE deployment_steps SET state = ?, key = ?, error = '', attempts = attempts + 1, started_at = ? WHERE deployment = ? AND step = ?`,
			StepRunning, key, s.stamp(), deployment, step)
		return err
	})
}

// Outcome is what came of a step.
type Outcome struct {
	Deployment int64
	Step       plan.Step
	Version    int
	Error      string
	Platform   map[string]any // computed attributes
}

// EndStep writes down what came of a step together with the changed record.
func (s *Store) EndStep(ctx context.Context, l Lease, o Outcome) error {
	return s.Within(ctx, func(tx Tx) error {
		if err := tx.holds(ctx, l); err != nil {
			return err
		}
		state := StepDone
		if o.Error != "" {
			state = StepFailed
		}
		if _, err := tx.ExecContext(ctx, `UPDATE deployment_steps SET state = ?, error = ?, ended_at = ? WHERE deployment = ? AND step = ?`,
			state, o.Error, s.stamp(), o.Deployment, o.Step.Index); err != nil || o.Error != "" {
			return err
		}
		return tx.record(ctx, l.Place, o)
	})
}

func (tx Tx) record(ctx context.Context, p manifest.Place, o Outcome) error {
	var err error
	if o.Step.Was != "" {
		if err := tx.rename(ctx, p, o.Step.Was, o.Step.Function); err != nil {
			return err
		}
	}
	if o.Step.Change == resource.Delete {
		_, err = tx.ExecContext(ctx, `DELETE FROM records WHERE service = ? AND stage = ? AND target = ? AND address = ?`, p.Service, p.Stage, p.Target.String(), o.Step.Address)
	} else {
		_, err = tx.ExecContext(ctx, `INSERT INTO records (service, stage, target, address, kind, function, attributes, needs, platform, version, changed_at) VALUES (?,?,?,?,?,?,?,?,?,?,?)
			ON CONFLICT DO UPDATE SET kind = excluded.kind, function = excluded.function, attributes = excluded.attributes, needs = excluded.needs,
			platform = excluded.platform, version = excluded.version, changed_at = excluded.changed_at`,
			p.Service, p.Stage, p.Target.String(), o.Step.Address, o.Step.Kind, o.Step.Function, toJSON(o.Step.Want), toJSON(o.Step.WantNeeds), toJSON(o.Platform), o.Version, tx.s.stamp())
	}
	if err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, `INSERT INTO stages (service, stage, target, serial, version, since) VALUES (?,?,?,1,0,0) ON CONFLICT DO UPDATE SET serial = serial + 1`, p.Service, p.Stage, p.Target.String())
	return err
}

// EndDeployment tells how a deployment ended. Where it is done the place has its version.
func (s *Store) EndDeployment(ctx context.Context, l Lease, d Deployment) error {
	return s.Within(ctx, func(tx Tx) error {
		if err := tx.holds(ctx, l); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `UPDATE deployments SET state = ?, why = ?, ended_at = ? WHERE id = ?`, d.State, d.Why, s.stamp(), d.ID); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `UPDATE deployment_steps SET state = ? WHERE deployment = ? AND state = ?`, StepSkipped, d.ID, StepWaiting); err != nil {
			return err
		}
		if d.State == Done {
			if _, err := tx.ExecContext(ctx, `INSERT INTO stages (service, stage, target, serial, version, since) VALUES (?,?,?,1,?,?)
				ON CONFLICT DO UPDATE SET since = CASE WHEN version = excluded.version THEN since ELSE excluded.since END, version = excluded.version`,
				d.Service, d.Stage, d.Target.String(), d.Version, s.stamp()); err != nil {
				return err
			}
		}
		text := "version " + itoa(d.Version) + " onto " + d.Target.String()
		if d.Why != "" {
			text += ": " + d.Why
		}
		return tx.Note(ctx, Entry{Person: d.Person, Service: d.Service, Stage: d.Stage, What: "deployment " + d.State, Text: text})
	})
}

// Reopen makes an ended deployment run again: what failed or was skipped waits.
func (s *Store) Reopen(ctx context.Context, id int64, person string) error {
	return s.Within(ctx, func(tx Tx) error {
		if _, err := tx.ExecContext(ctx, `UPDATE deployments SET state = ?, why = '', cancelled = 0, ended_at = 0, person = ? WHERE id = ?`, Running, person, id); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `UPDATE deployment_steps SET state = ?, error = '' WHERE deployment = ? AND state IN (?, ?)`, StepWaiting, id, StepFailed, StepSkipped)
		return err
	})
}

// Cancel asks a running deployment to finish what is in flight and stop.
func (s *Store) Cancel(ctx context.Context, id int64) error {
	return s.exec(ctx, `UPDATE deployments SET cancelled = 1 WHERE id = ? AND state = ?`, id, Running)
}

// DeployedAt gives, by place of a service, when the newest deployment began that
// is done there: what changed since is not there yet.
func (s *Store) DeployedAt(ctx context.Context, service string) (map[manifest.Place]time.Time, error) {
	type row struct {
		place manifest.Place
		at    int64
	}
	rows, err := list(ctx, s.read, func(r scanner) (row, error) {
		v := row{place: manifest.Place{Service: service}}
		return v, r.Scan(&v.place.Stage, targetIn{&v.place.Target}, &v.at)
	}, `SELECT stage, target, max(started_at) FROM deployments WHERE service = ? AND state = ? GROUP BY stage, target`, service, Done)
	out := map[manifest.Place]time.Time{}
	for _, r := range rows {
		out[r.place] = millis(r.at)
	}
	return out, err
}

// UsualTimes gives how long a step of each kind took of late.
func (s *Store) UsualTimes(ctx context.Context) (map[string]time.Duration, error) {
	type usual struct {
		kind string
		ms   float64
	}
	rows, err := list(ctx, s.read, func(r scanner) (usual, error) {
		var u usual
		return u, r.Scan(&u.kind, &u.ms)
	}, `SELECT kind, avg(ended_at - started_at) FROM (SELECT kind, started_at, ended_at FROM deployment_steps WHERE state = 'done' AND attempts = 1 ORDER BY deployment DESC LIMIT 500) GROUP BY kind`)
	out := map[string]time.Duration{}
	for _, u := range rows {
		out[u.kind] = time.Duration(u.ms) * time.Millisecond
	}
	return out, err
}

// ErrLease tells that somebody else works on the place, or took it over.
var ErrLease = errors.New("another deployment is at work there")

// Lease is the right to change a place. A later holder has a greater fence;
// what an earlier one still writes is refused.
type Lease struct {
	manifest.Place
	Holder string
	Fence  int64
}

// TakeLease takes a place for a while; ErrLease where somebody has it.
func (s *Store) TakeLease(ctx context.Context, p manifest.Place, holder string, length time.Duration) (Lease, error) {
	l := Lease{Place: p, Holder: holder}
	err := s.Within(ctx, func(tx Tx) error {
		var until int64
		var by string
		row := tx.QueryRowContext(ctx, `SELECT holder, fence, until FROM leases WHERE service = ? AND stage = ? AND target = ?`, p.Service, p.Stage, p.Target.String())
		if err := row.Scan(&by, &l.Fence, &until); err == nil && until > s.stamp() && by != "" {
			return ErrLease
		}
		l.Fence++
		_, err := tx.ExecContext(ctx, `INSERT INTO leases (service, stage, target, holder, fence, until) VALUES (?,?,?,?,?,?)
			ON CONFLICT DO UPDATE SET holder = excluded.holder, fence = excluded.fence, until = excluded.until`,
			p.Service, p.Stage, p.Target.String(), holder, l.Fence, s.now().Add(length).UnixMilli())
		return err
	})
	return l, err
}

// RenewLease makes a lease last longer; ErrLease where it is lost.
func (s *Store) RenewLease(ctx context.Context, l Lease, length time.Duration) error {
	return s.Within(ctx, func(tx Tx) error {
		if err := tx.holds(ctx, l); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `UPDATE leases SET until = ? WHERE service = ? AND stage = ? AND target = ?`, s.now().Add(length).UnixMilli(), l.Service, l.Stage, l.Target.String())
		return err
	})
}

// EndLease gives a place free.
func (s *Store) EndLease(ctx context.Context, l Lease) error {
	return s.exec(ctx, `UPDATE leases SET holder = '', until = 0 WHERE service = ? AND stage = ? AND target = ? AND fence = ?`, l.Service, l.Stage, l.Target.String(), l.Fence)
}

// DropLeases gives free what a process held that is no more: called once at
// start, when this process is the only one that has the database.
func (s *Store) DropLeases(ctx context.Context) error {
	return s.exec(ctx, `UPDATE leases SET holder = '', until = 0, fence = fence + 1`)
}

func (tx Tx) holds(ctx context.Context, l Lease) error {
	var fence int64
	if err := tx.QueryRowContext(ctx, `SELECT fence FROM leases WHERE service = ? AND stage = ? AND target = ?`, l.Service, l.Stage, l.Target.String()).Scan(&fence); err != nil {
		return err
	}
	if fence != l.Fence {
		return ErrLease
	}
	return nil
}

// Look is what a look at live found.
type Look struct {
	manifest.Place
	At   time.Time
	Body string // JSON
}

// PutLook keeps the newest look at a place.
func (s *Store) PutLook(ctx context.Context, l Look) error {
	return s.exec(ctx, `INSERT INTO looks (service, stage, target, at, body) VALUES (?,?,?,?,?) ON CONFLICT DO UPDATE SET at = excluded.at, body = excluded.body`,
		l.Service, l.Stage, l.Target.String(), s.stamp(), l.Body)
}

// Looks gives the newest looks at a service's places.
func (s *Store) Looks(ctx context.Context, service string) ([]Look, error) {
	return list(ctx, s.read, func(r scanner) (Look, error) {
		var l Look
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
