package deliver

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"rudmar/core/cases"
	"rudmar/core/expression"
	"rudmar/core/manifest"
	"rudmar/engine/deploy"
	"rudmar/engine/store"
	"rudmar/platform"
	"rudmar/platform/api"
)

// caseTries is how often a failed case is run, because a platform's changes can become visible late.
const caseTries = 2

// Found is the outcome of a case: the event, the response, and each expectation.
type Found struct {
	Call       cases.Call      `json:"call"`
	Outcomes   []cases.Outcome `json:"outcomes"`
	Invocation api.Invocation  `json:"invocation"`
}

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
	language, err := expression.ForCases()
	if err != nil {
		return nil, 0, err
	}
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
						at := manifest.Place{Service: d.Service, Stage: stage.Name, Target: target}
						if err := l.runOnce(ctx, d, &run, at, fn, c, language); err != nil {
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
func (l *StageLine) runOnce(ctx context.Context, d store.Delivery, run *store.CaseRun, at manifest.Place,
	fn *manifest.Function, c manifest.Case, language *expression.Language) error {
	var err error
	if run.ID, err = l.store.BeginCase(ctx, d, *run); err != nil {
		return err
	}
	_, scope, err := l.planner.Platform(at)
	if err != nil {
		return err
	}
	found, passed, err := l.RunCase(ctx, scope, at, fn, c, language)
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

// RunCase runs a saved case with the settings of a place, in a scope of its target.
func (l *StageLine) RunCase(ctx context.Context, scope platform.Scope, at manifest.Place, fn *manifest.Function,
	c manifest.Case, language *expression.Language) (Found, bool, error) {
	client, _, err := l.planner.Platform(at)
	if err != nil {
		return Found{}, false, err
	}
	var found Found
	for try := 1; ; try++ {
		call, err := cases.Build(fn.At(at.Stage), fn.Name, c.Send, l.store.Now())
		if err != nil {
			found.Outcomes = []cases.Outcome{{Expected: "the case can be sent", Found: err.Error()}}
			return found, false, nil
		}
		inv, err := deploy.RetryUnavailable(ctx, func() (api.Invocation, error) {
			return client.Invoke(ctx, scope, fn.Name, call.Trigger, api.Case, call.Event, fn.At(at.Stage).Timeout.V)
		})
		if err != nil {
			return found, false, err
		}
		var passed bool
		found = Found{Call: call, Invocation: inv}
		judge, cancel := context.WithTimeout(ctx, judging)
		found.Outcomes, passed = cases.Judge(judge, language, c.Expect, Observed(inv))
		cancel()
		if passed || try == caseTries {
			return found, passed, nil
		}
	}
}

// Observed converts an invocation for the evaluation of cases.
func Observed(inv api.Invocation) cases.Observed {
	o := cases.Observed{Response: inv.Response,
		Took:       time.Duration((inv.ColdStartMs + inv.DurationMs) * float64(time.Millisecond)),
		MemoryPeak: inv.MemoryPeak, Cold: inv.Cold}
	if inv.Error != nil {
		o.Failed = inv.Error.Kind + ": " + inv.Error.Message
	}
	for _, line := range inv.Logs {
		if line.Stream != "platform" {
			o.Logs = append(o.Logs, line.Text)
		}
	}
	return o
}
