package store

import (
	"context"
	"slices"

	"rudmar/core/manifest"
	"rudmar/core/plan"
	"rudmar/core/resource"
)

// Intent is a step that is about to be sent. The key stays the same when it is sent again.
type Intent struct {
	Step *plan.Step
	Key  string
	// Again means that the step was sent before with an unknown outcome.
	Again bool
}

// Outcome is the outcome of a step.
type Outcome struct {
	Step    *plan.Step
	Version int
	Error   string
	// Unreachable means that the platform did not respond, or failed itself.
	Unreachable bool
	Platform    map[string]any // computed attributes
}

// WriteSteps records, in one transaction, the outcomes of steps, each with the changed record, and the start of
// the next ones, before they are sent. If somebody has cancelled the deployment, which it reports, only starts
// of steps that were sent before are written, to learn their outcomes. It returns the written starts: no other
// step may be sent. It takes a constant number of statements: the rows come as JSON.
func (s *Store) WriteSteps(ctx context.Context, l Lease, deployment int64, ended []Outcome,
	begun []Intent) (written []Intent, cancelled bool, err error) {
	err = s.Within(ctx, func(tx Tx) error {
		if err := tx.holds(ctx, l); err != nil {
			return err
		}
		if err := tx.QueryRowContext(ctx, `SELECT coalesce(max(cancelled), 0) FROM deployments WHERE id = ?`,
			deployment).Scan(&cancelled); err != nil {
			return err
		}
		if written = begun; cancelled {
			written = slices.DeleteFunc(slices.Clone(begun), func(b Intent) bool { return !b.Again })
		}
		if err := tx.endSteps(ctx, l.Place, deployment, ended); err != nil {
			return err
		}
		if err := tx.beginSteps(ctx, deployment, written); err != nil {
			return err
		}
		steps := make([]int, 0, len(ended)+len(written)) // one event for all of them
		for _, o := range ended {
			steps = append(steps, o.Step.Index)
		}
		for _, b := range written {
			steps = append(steps, b.Step.Index)
		}
		return tx.publishDeployment(ctx, deployment, l.Place, "steps", steps)
	})
	if err != nil {
		return nil, cancelled, err
	}
	return written, cancelled, nil
}

func (tx Tx) beginSteps(ctx context.Context, deployment int64, begun []Intent) error {
	if len(begun) == 0 {
		return nil
	}
	rows := make([][4]any, len(begun)) // step, address, kind, key
	for i, b := range begun {
		rows[i] = [4]any{b.Step.Index, b.Step.Address, b.Step.Kind, b.Key}
	}
	_, err := tx.ExecContext(ctx,
		`INSERT INTO deployment_steps (deployment, step, address, kind, key, state, attempts, started_at)
		SELECT ?, value ->> 0, value ->> 1, value ->> 2, value ->> 3, ?, 1, ? FROM json_each(?) WHERE true
		ON CONFLICT DO UPDATE SET key = excluded.key, state = excluded.state, error = '', attempts = attempts + 1,
			started_at = excluded.started_at`,
		deployment, StepRunning, tx.s.stamp(), toJSON(rows))
	return err
}

func (tx Tx) endSteps(ctx context.Context, p manifest.Place, deployment int64, ended []Outcome) error {
	if len(ended) == 0 {
		return nil
	}
	rows := make([][5]any, len(ended)) // step, address, kind, state, error
	var done []Outcome
	for i, o := range ended {
		rows[i] = [5]any{o.Step.Index, o.Step.Address, o.Step.Kind, StepFailed, o.Error}
		if o.Error == "" {
			rows[i][3] = StepSucceeded
			done = append(done, o)
		}
	}
	if _, err := tx.ExecContext(ctx,
		`INSERT INTO deployment_steps (deployment, step, address, kind, state, error, ended_at)
		SELECT ?, value ->> 0, value ->> 1, value ->> 2, value ->> 3, value ->> 4, ? FROM json_each(?) WHERE true
		ON CONFLICT DO UPDATE SET state = excluded.state, error = excluded.error, ended_at = excluded.ended_at`,
		deployment, tx.s.stamp(), toJSON(rows)); err != nil {
		return err
	}
	return tx.record(ctx, p, done)
}

// record updates the record after completed steps.
func (tx Tx) record(ctx context.Context, p manifest.Place, done []Outcome) error {
	if len(done) == 0 {
		return nil
	}
	var gone []string
	var put [][7]any // address, kind, function, attributes, needs, platform, version
	for _, o := range done {
		if o.Step.RenamedFrom != "" {
			if err := tx.rename(ctx, p, o.Step.RenamedFrom, o.Step.Function); err != nil {
				return err
			}
		}
		if o.Step.Change == resource.Delete {
			gone = append(gone, o.Step.Address)
			continue
		}
		put = append(put, [7]any{o.Step.Address, o.Step.Kind, o.Step.Function, toJSON(o.Step.Want), toJSON(o.Step.WantNeeds),
			toJSON(o.Platform), o.Version})
	}
	if len(gone) > 0 {
		if _, err := tx.ExecContext(ctx, `DELETE FROM records WHERE service = ? AND stage = ? AND target = ?
			AND address IN (SELECT value FROM json_each(?))`, p.Service, p.Stage, p.Target.String(), toJSON(gone)); err != nil {
			return err
		}
	}
	if len(put) > 0 {
		if _, err := tx.ExecContext(ctx,
			`INSERT INTO records (service, stage, target, address, kind, function, attributes, needs, platform, version, changed_at)
			SELECT ?, ?, ?, value ->> 0, value ->> 1, value ->> 2, value ->> 3, value ->> 4, value ->> 5, value ->> 6, ?
			FROM json_each(?) WHERE true
			ON CONFLICT DO UPDATE SET kind = excluded.kind, function = excluded.function, attributes = excluded.attributes,
				needs = excluded.needs, platform = excluded.platform, version = excluded.version, changed_at = excluded.changed_at`,
			p.Service, p.Stage, p.Target.String(), tx.s.stamp(), toJSON(put)); err != nil {
			return err
		}
	}
	_, err := tx.ExecContext(ctx, `INSERT INTO stages (service, stage, target, serial, version, since) VALUES (?, ?, ?, ?, 0, 0)
		ON CONFLICT DO UPDATE SET serial = serial + excluded.serial`, p.Service, p.Stage, p.Target.String(), len(done))
	return err
}
