package deliver

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"rudmar/core/delivery"
	"rudmar/core/manifest"
	"rudmar/core/plan"
	"rudmar/core/rights"
	"rudmar/engine/deploy"
	"rudmar/engine/store"
	wire "rudmar/platform/api"
)

// beginShift records the revisions that serve a stage before a version changes it: a rollback restores them at
// once. A stage with a traffic shift starts with its first share.
func (l *StageLine) beginShift(ctx context.Context, d store.Delivery, targets []manifest.Target) error {
	known, there, err := l.shiftOf(ctx, d)
	if err != nil {
		return err
	}
	if there { // it continues from its last state
		known.Deployment = 0
		return l.store.PutShift(ctx, known)
	}
	standing, err := l.store.Standing(ctx, d.Service)
	if err != nil {
		return err
	}
	before := standing[d.Stage]
	if before == 0 || before == d.Version && !d.Rest || d.Removes {
		return nil
	}
	if _, err := l.store.Delivery(ctx, d.Service, before, d.Stage); err != nil {
		if errors.Is(err, store.ErrNotFound) {
			return nil // there is no version to roll back to
		}
		return err
	}
	v := store.Shift{Service: d.Service, Version: d.Version, Stage: d.Stage, Active: true, Before: before,
		Old: map[string]map[string]string{}}
	for _, target := range targets {
		pointers, err := l.planner.Pointers(ctx, manifest.Place{Service: d.Service, Stage: d.Stage, Target: target})
		if err != nil {
			return err
		}
		served := map[string]string{}
		for fn, shares := range pointers {
			served[fn] = mostOf(shares)
		}
		v.Old[target.String()] = served
	}
	entry, err := l.planner.Entry(ctx, d.Service, d.Stage, d.Version)
	if err != nil {
		return err
	}
	if shift := entry.Shift(); shift != nil {
		v.Every, v.MinInvocations, v.AtMost = shift.Every, shift.MinInvocations, shift.AtMost
		for _, share := range shift.Steps {
			v.Steps = append(v.Steps, share*100)
		}
	}
	return l.store.PutShift(ctx, v)
}

// mostOf returns the revision with the most invocations, the first by ID among equals; "" for none.
func mostOf(shares map[string]float64) string {
	most := ""
	for _, id := range slices.Sorted(maps.Keys(shares)) {
		if most == "" || shares[id] > shares[most] {
			most = id
		}
	}
	return most
}

// shiftOf returns the traffic shift of a version in a stage, and whether it is active: not if nothing was there
// before, or if it is over.
func (l *StageLine) shiftOf(ctx context.Context, d store.Delivery) (store.Shift, bool, error) {
	v, err := l.store.Shift(ctx, d.Service, d.Version, d.Stage)
	if errors.Is(err, store.ErrNotFound) {
		return v, false, nil
	}
	return v, v.Active, err
}

// shares reports whether a deployed version does not receive all invocations yet.
func (l *StageLine) shares(ctx context.Context, d store.Delivery) (bool, error) {
	v, there, err := l.shiftOf(ctx, d)
	if err != nil || !there || v.Share() >= 100 {
		return false, err
	}
	sides, err := l.bothSides(ctx, d, v)
	return len(sides) > 0, err
}

// side is a function on a target whose invocations two revisions share.
type side struct {
	target        manifest.Target
	function      string
	newer, former string
}

// serves reports whether a sum is of one of the two revisions.
func (s side) serves(target manifest.Target, m wire.MinuteSum) bool {
	return s.target == target && s.function == m.Function && (s.newer == m.Revision || s.former == m.Revision)
}

// bothSides lists the old and new revisions of the changed functions.
func (l *StageLine) bothSides(ctx context.Context, d store.Delivery, v store.Shift) ([]side, error) {
	targets, err := l.planner.Targets(ctx, d.Service, d.Stage, d.Version)
	if err != nil {
		return nil, err
	}
	var out []side
	for _, target := range targets {
		pointers, err := l.planner.Pointers(ctx, manifest.Place{Service: d.Service, Stage: d.Stage, Target: target})
		if err != nil {
			return nil, err
		}
		for fn, shares := range pointers {
			former := v.Old[target.String()][fn]
			for id := range shares {
				if former != "" && id != former {
					out = append(out, side{target, fn, id, former})
				}
			}
		}
	}
	slices.SortFunc(out, func(a, b side) int { return strings.Compare(a.function, b.function) })
	return out, nil
}

// shifting moves a shift on: it brings its share, judges it, and continues or back.
func (l *StageLine) shifting(ctx context.Context, d store.Delivery) error {
	v, err := l.store.Shift(ctx, d.Service, d.Version, d.Stage)
	if err != nil {
		return err
	}
	there, err := l.bring(ctx, d, &v)
	switch {
	case err != nil || !there:
		return err
	case v.Back != "":
		return l.rolledBack(ctx, d, v)
	case v.Share() >= 100:
		return l.apply(ctx, d, delivery.Shifted, "", "it receives all traffic")
	}
	if v.Since.IsZero() {
		v.Since = l.store.Now()
		if v.Begun.IsZero() {
			v.Begun = v.Since
		}
		split, err := l.currentMinute(ctx, d, v)
		if err != nil {
			return err
		}
		v.Splits = append(v.Splits, split)
		v.Taken = append(v.Taken, store.ShiftStep{At: v.Since, Share: v.Share(), Reason: v.Reason})
	}
	counted, points, err := l.count(ctx, d, v)
	if err != nil {
		return err
	}
	v.Points = points
	if v.From == nil { // the step starts now
		v.From = delivery.CountsOf(counted)
	}
	if v.Looked == nil {
		v.Looked = map[string]int{}
	}
	next, progress := v.Look(counted, v.Looked, l.store.Now())
	v.Shift, v.Verdict, v.Reason, v.At = next, &progress.Verdict, progress.Reason, progress.At
	if err := l.store.JudgeShift(ctx, v); err != nil {
		return err
	}
	if v.Back != "" || v.Since.IsZero() { // a decision takes effect now, not at the next look
		return l.shifting(ctx, d)
	}
	return nil
}

// bring applies the version's share on all targets, with traffic pointers alone, and reports whether it is
// applied.
func (l *StageLine) bring(ctx context.Context, d store.Delivery, v *store.Shift) (bool, error) {
	if v.Deployment > 0 {
		last, err := l.store.Deployment(ctx, v.Deployment)
		switch {
		case err != nil:
			return false, err
		case last.State == store.Running:
			return false, nil // its end is reported
		case last.State != store.Succeeded:
			return false, fmt.Errorf("deployment %d, which moves the traffic, %s: %s", last.ID, last.State, last.Reason)
		}
	}
	targets, err := l.planner.Targets(ctx, d.Service, d.Stage, d.Version)
	if err != nil {
		return false, err
	}
	for _, target := range targets[:min(len(targets), len(d.Deployments))] { // its present step
		at := manifest.Place{Service: d.Service, Stage: d.Stage, Target: target}
		p, err := deploy.RetryUnavailable(ctx, func() (*plan.Plan, error) {
			return l.planner.ComputeShares(ctx, at, d.Version)
		})
		switch {
		case err != nil:
			return false, err
		case len(p.Blockers) > 0:
			return false, fmt.Errorf("%w for %s: %s", errPlan, target, p.Blockers[0].Message)
		case len(p.Steps) == 0:
			continue
		}
		id, err := l.store.AddPlan(ctx, "", p)
		if err != nil {
			return false, err
		}
		_, err = l.runner.StartWith(ctx, id, "", func(tx store.Tx, deployment int64) error {
			v.Deployment = deployment
			return tx.KeepShift(ctx, *v)
		})
		return false, err
	}
	return true, nil
}

// rolledBack ends a delivery after the old revisions receive all invocations again: the previous version
// replaces it, by a plan of its own.
func (l *StageLine) rolledBack(ctx context.Context, d store.Delivery, v store.Shift) error {
	gone, err := moveBy(d, delivery.RollBack, "", v.Back)
	if err != nil {
		return err
	}
	before, err := l.store.Delivery(ctx, d.Service, v.Before, d.Stage)
	if err != nil {
		return err
	}
	if v.Before == d.Version { // its remaining functions rolled back: the previous version stays
		before = gone.To
		before.Rest = false
	}
	back, err := moveBy(before, delivery.Redeploy, "", fmt.Sprintf("version %d was rolled back: %s", d.Version, v.Back))
	if err != nil {
		return err
	}
	back.To.Agreed = nil
	return l.store.RestoreDelivery(ctx, restoring(before), gone, back)
}

// rollBack rolls a version back automatically, if there was one before it: pointers first, then the rest.
// Without a reason it continues a started rollback. It reports whether it rolls back.
func (l *StageLine) rollBack(ctx context.Context, d store.Delivery, why string) (bool, error) {
	v, there, err := l.shiftOf(ctx, d)
	if err != nil || !there || v.Restores || v.Back == "" && why == "" {
		return false, err
	}
	if v.Back == "" {
		v.Back = why
		if err := l.store.PutShift(ctx, v); err != nil {
			return false, err
		}
	}
	if there, err = l.bring(ctx, d, &v); err != nil || !there {
		return true, err
	}
	return true, l.rolledBack(ctx, d, v)
}

// The commands for a traffic shift.
const (
	Pause   = "pause"   // stays at its share
	Resume  = "resume"  // advances automatically again
	Advance = "advance" // takes the next step now
	Abort   = "abort"   // rolls back now
)

// Steer executes a person's command for a traffic shift. The judge rolls back even a paused shift.
func (l *StageLine) Steer(ctx context.Context, service string, version int, stage, word string, by store.Person,
	why string) error {
	if err := May(by, rights.Deploy, service, stage); err != nil {
		return err
	}
	d := store.Delivery{Service: service, Version: version, Stage: stage}
	err := l.store.ChangeShift(ctx, d, by.Username, "traffic shift: "+word, func(v *store.Shift) error {
		switch {
		case v.Restores:
			return fmt.Errorf("a rollback moves all traffic at once: %w", delivery.ErrTransition)
		case v.Back != "":
			return fmt.Errorf("already rolling back: %w", delivery.ErrTransition)
		case word == Pause:
			v.Held = by.Username
		case word == Resume:
			v.Held = ""
		case word == Advance && v.Step < len(v.Steps):
			v.Shift, v.Reason = v.On(), by.Username+" advanced it"
		case word == Abort:
			v.Back = "rolled back by " + by.Username
			if why != "" {
				v.Back += ": " + why
			}
		default:
			return fmt.Errorf("%q: %w", word, delivery.ErrTransition)
		}
		return nil
	})
	l.AdvanceSoon()
	return err
}
