package deliver

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"rudmar/core/delivery"
	"rudmar/core/language"
	"rudmar/core/manifest"
	"rudmar/core/plan"
	"rudmar/engine/deploy"
	"rudmar/engine/store"
)

// move advances a delivery by one transition: it is planned, its deployment is checked for its end, or it is
// tested. If it cannot continue it fails, with the reason. The error is Rudmar's own: the same transition is
// repeated.
func (l *StageLine) move(ctx context.Context, d store.Delivery) error {
	err := l.through(ctx, d)
	if err == nil || ctx.Err() != nil || store.IsFault(err) || errors.Is(err, store.ErrMoved) ||
		errors.Is(err, store.ErrLease) || errors.Is(err, deploy.ErrOutOfDate) {
		return err
	}
	now, readErr := l.store.Delivery(ctx, d.Service, d.Version, d.Stage)
	if readErr != nil || !delivery.Moving(now.State) {
		return readErr
	}
	if d.State == delivery.Planning && now.State == delivery.Deploying {
		return fmt.Errorf("%w: %w", store.ErrMoved, err) // somebody else requested its deployment, which is no error
	}
	l.log.Warn("a delivery failed", "service", d.Service, "stage", d.Stage, "version", d.Version, "error", err)
	now.Missing = l.blockedOn(ctx, now, err)
	return l.apply(ctx, now, delivery.Fail, "", err.Error())
}

func (l *StageLine) through(ctx context.Context, d store.Delivery) error {
	switch d.State {
	case delivery.Planning:
		return l.deploy(ctx, d, 0)
	case delivery.Deploying:
		return l.deploying(ctx, d)
	case delivery.Shifting:
		return l.shifting(ctx, d)
	}
	if back, err := l.rollBack(ctx, d, ""); back || err != nil {
		return err
	}
	stage, err := l.ownStage(ctx, d)
	if err != nil {
		return err
	}
	if stage == nil {
		return l.apply(ctx, d, delivery.Proved, "", "nothing is deployed")
	}
	total, passed, err := l.passes(ctx, d, stage.Targets)
	if err != nil || !passed {
		return err
	}
	why := "no case runs in this stage"
	if total > 0 {
		why = language.FormatCount(total, "case") + " passed"
	}
	return l.apply(ctx, d, delivery.Proved, "", why)
}

// ownStage returns a delivery's stage as the version has it; nil if it removes it.
func (l *StageLine) ownStage(ctx context.Context, d store.Delivery) (*manifest.Stage, error) {
	service, _, err := l.planner.Service(ctx, d.Service, d.Version)
	if err != nil {
		return nil, err
	}
	return service.Stage(d.Stage), nil
}

// passes runs the cases on targets, and reports their number and whether they passed. If they did not, the
// version rolls back automatically, or the error says that it fails.
func (l *StageLine) passes(ctx context.Context, d store.Delivery, targets []manifest.Target) (total int, passed bool,
	err error) {
	failed, total, err := l.prove(ctx, d, targets)
	if err != nil || len(failed) == 0 {
		return total, err == nil, err
	}
	why := fmt.Sprintf("%d of %d cases failed: %s", len(failed), total, strings.Join(failed, ", "))
	if back, err := l.rollBack(ctx, d, why); back || err != nil {
		return total, false, err
	}
	return total, false, errors.New(why)
}

// deploying checks whether the newest deployment of a delivery has ended, and continues with the next target.
func (l *StageLine) deploying(ctx context.Context, d store.Delivery) error {
	if len(d.Deployments) == 0 {
		return l.deploy(ctx, d, 0)
	}
	if back, err := l.rollBack(ctx, d, ""); back || err != nil { // the cases between two targets failed
		return err
	}
	targets, err := l.planner.Targets(ctx, d.Service, d.Stage, d.Version)
	if err != nil {
		return err
	}
	stage, err := l.ownStage(ctx, d)
	if err != nil {
		return err
	}
	if stage != nil && stage.Parallel() && len(d.Deployments) < len(targets) {
		return l.deploy(ctx, d, len(d.Deployments)) // the next one does not wait for those before
	}
	var failed error
	for _, id := range d.Deployments {
		one, err := l.store.Deployment(ctx, id)
		switch {
		case err != nil:
			return err
		case one.State == store.Running:
			return nil // its end is reported
		case one.State != store.Succeeded && failed == nil:
			failed = fmt.Errorf("deployment %d %s: %s", one.ID, one.State, one.Reason)
			if one.Cause == store.CauseUnreachable {
				failed = unreachable{failed}
			}
		}
	}
	if failed != nil {
		return failed
	}
	done := len(d.Deployments)
	if stage != nil && done < len(targets) {
		passed := true
		between, err := l.provesBetween(ctx, d, stage)
		if between {
			_, passed, err = l.passes(ctx, d, targets[done-1:done])
		}
		if err != nil || !passed {
			return err
		}
	}
	return l.deploy(ctx, d, done)
}

// provesBetween reports whether each target must pass its cases before the next one is deployed: by the
// version's rules, or by the standing rules.
func (l *StageLine) provesBetween(ctx context.Context, d store.Delivery, own *manifest.Stage) (bool, error) {
	if own.TestEach() {
		return true, nil
	}
	entry, err := l.planner.Entry(ctx, d.Service, d.Stage, d.Version)
	return err == nil && entry.Standing != nil && entry.Standing.TestEach() && !own.Parallel(), err
}

// deploy plans the stage's target of that index, and requests its deployment; after the last one, the version
// is deployed. It executes nothing beyond the approved plan: if a plan contains more, the version waits for
// approval again.
func (l *StageLine) deploy(ctx context.Context, d store.Delivery, index int) error {
	targets, err := l.planner.Targets(ctx, d.Service, d.Stage, d.Version)
	if err != nil {
		return err
	}
	if index >= len(targets) {
		shares, err := l.shares(ctx, d)
		if err != nil {
			return err
		}
		if shares {
			return l.apply(ctx, d, delivery.Share, "", "")
		}
		return l.apply(ctx, d, delivery.Deployed, "", "")
	}
	if d.State == delivery.Planning {
		if err := l.beginShift(ctx, d, targets); err != nil {
			return err
		}
	}
	shift, steered, err := l.shiftOf(ctx, d)
	if err != nil {
		return err
	}
	if shift.Restores && !shift.Pointed {
		if pointed, err := l.point(ctx, d, &shift, targets); err != nil || !pointed {
			return err
		}
	}
	at := manifest.Place{Service: d.Service, Stage: d.Stage, Target: targets[index]}
	p, err := deploy.RetryUnavailable(ctx, func() (*plan.Plan, error) { return l.planner.Compute(ctx, at, d.Version) })
	if err != nil {
		return err
	}
	meaning := p.Facts()
	if steered && shift.Share() < 100 {
		meaning = withoutPointers(meaning)
	}
	if d.Agreed != nil && !delivery.Within(meaning, d.Agreed) {
		why := fmt.Sprintf("the plan for %s differs from the approved one: %s", at.Target,
			strings.Join(delivery.Moved(d.Agreed, meaning), "; "))
		return l.apply(ctx, d, delivery.Reask, "", why)
	}
	id, err := l.store.AddPlan(ctx, "", p)
	if err != nil {
		return err
	}
	if len(p.Blockers) > 0 {
		return fmt.Errorf("%w for %s: %s", errPlan, at.Target, p.Blockers[0].Message)
	}
	_, err = l.runner.StartWith(ctx, id, "", func(tx store.Tx, deployment int64) error {
		m := store.Move{From: d.State, To: d, Target: at.Target.String()}
		m.To.Deployments = append(d.Deployments[:index:index], deployment)
		if d.State == delivery.Planning {
			next, err := delivery.Next(d.State, delivery.Planned)
			if err != nil {
				return err
			}
			m.To.State = next
		}
		return tx.MoveDelivery(ctx, m)
	})
	return err
}

// withoutPointers leaves out the revisions' shares of invocations: they follow from the revision, and change in
// steps if the stage has a traffic shift.
func withoutPointers(meaning []string) []string {
	return slices.DeleteFunc(meaning, plan.MovesTraffic)
}
