package deliver

import (
	"context"

	"rudmar/core/manifest"
	"rudmar/core/plan"
	"rudmar/engine/deploy"
	"rudmar/engine/store"
)

// restoring returns the shift of a version that a rollback restores: all traffic at once, past the stage's steps.
func restoring(d store.Delivery) store.Shift {
	return store.Shift{Service: d.Service, Version: d.Version, Stage: d.Stage, Active: true, Restores: true,
		Old: map[string]map[string]string{}}
}

// point returns all traffic of a stage to the revisions of a restored version, on all targets at once and before
// anything else, and reports whether that is over. A function that this does not restore, such as one whose revision
// the platform no longer keeps, follows with the rest.
func (l *StageLine) point(ctx context.Context, d store.Delivery, v *store.Shift, targets []manifest.Target) (bool,
	error) {
	if v.Pointing == nil {
		v.Pointing = map[string]int64{}
	}
	for _, target := range targets {
		if _, asked := v.Pointing[target.String()]; asked {
			continue
		}
		at := manifest.Place{Service: d.Service, Stage: d.Stage, Target: target}
		p, err := deploy.RetryUnavailable(ctx, func() (*plan.Plan, error) {
			return l.planner.ComputeShares(ctx, at, d.Version)
		})
		if err != nil {
			return false, err
		}
		if len(p.Steps) == 0 {
			v.Pointing[target.String()] = 0
			continue
		}
		id, err := l.store.AddPlan(ctx, "", p)
		if err != nil {
			return false, err
		}
		if _, err = l.runner.StartWith(ctx, id, "", func(tx store.Tx, deployment int64) error {
			v.Pointing[target.String()] = deployment
			return tx.KeepShift(ctx, *v)
		}); err != nil {
			return false, err
		}
	}
	for _, id := range v.Pointing {
		if id == 0 {
			continue
		}
		one, err := l.store.Deployment(ctx, id)
		if err != nil || one.State == store.Running { // its end is reported
			return false, err
		}
	}
	v.Pointed = true
	return true, l.store.PutShift(ctx, *v)
}
