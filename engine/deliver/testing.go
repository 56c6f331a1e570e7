package deliver

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"sync"

	"golang.org/x/sync/errgroup"

	"rudmar/core/manifest"
	"rudmar/engine/store"
)

// casesAtOnce is how many cases run concurrently.
const casesAtOnce = 4

// prove runs all saved cases against the deployed targets. Those that ran since the plan are not run again,
// except for those that were interrupted by the end of Rudmar.
func (l *StageLine) prove(ctx context.Context, d store.Delivery, targets []manifest.Target) (failed []string, total int,
	err error) {
	service, _, err := l.planner.Service(ctx, d.Service, d.Version)
	if err != nil {
		return nil, 0, err
	}
	stage := service.Stage(d.Stage)
	known, err := l.store.CaseRuns(ctx, d.Service, d.Version, d.Stage)
	if err != nil {
		return nil, 0, err
	}
	before := map[caseOf]store.CaseRun{}
	for _, r := range known {
		before[caseOf{r.Target, r.Function, r.File, r.Name}] = r
	}
	var mu sync.Mutex
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(casesAtOnce)
	for _, target := range targets {
		at := manifest.Place{Service: d.Service, Stage: stage.Name, Target: target}
		_, scope, err := l.planner.Platform(at)
		if err != nil {
			return nil, 0, err
		}
		runner, err := l.newCaseRunner(at, scope)
		if err != nil {
			return nil, 0, err
		}
		for _, fn := range service.Functions {
			if !d.Enters(fn.Name) {
				continue // another version is deployed there, whose cases passed
			}
			group.Go(func() error { // the cases of one function run one after another, as they can depend on each other
				for _, c := range fn.Cases {
					if !c.RunsIn(stage) {
						continue
					}
					run, begun := before[caseOf{target.String(), fn.Name, c.File, c.Name}]
					if !begun || run.Running {
						run.Target, run.Function, run.File, run.Name = target.String(), fn.Name, c.File, c.Name
						if err := l.runOnce(ctx, d, &run, runner, fn, c); err != nil {
							return err
						}
					}
					mu.Lock()
					if total++; !run.Passed {
						failed = append(failed, c.Name)
					}
					mu.Unlock()
				}
				return nil
			})
		}
	}
	if err := group.Wait(); err != nil {
		return nil, 0, fmt.Errorf("running the cases: %w", err)
	}
	slices.Sort(failed) // regardless of their order of completion
	return failed, total, nil
}

// caseOf names a case on a target.
type caseOf struct{ target, function, file, name string }

// runOnce runs a case, and records its start and its outcome.
func (l *StageLine) runOnce(ctx context.Context, d store.Delivery, run *store.CaseRun, runner *caseRunner,
	fn *manifest.Function, c manifest.Case) error {
	var err error
	if run.ID, err = l.store.BeginCase(ctx, d, *run); err != nil {
		return err
	}
	found, passed, err := runner.run(ctx, fn, c)
	if err != nil {
		return err
	}
	body, err := json.Marshal(found)
	if err != nil {
		return err
	}
	run.Passed, run.Body = passed, string(body)
	return l.store.EndCase(ctx, *run)
}
