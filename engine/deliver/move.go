package deliver

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"rudmar/core/cases"
	"rudmar/core/delivery"
	"rudmar/core/expression"
	"rudmar/core/manifest"
	"rudmar/core/plan"
	"rudmar/engine/deploy"
	"rudmar/engine/store"
	"rudmar/platform/api"
)

// caseTries is how often a case is tried that failed, since what a platform
// takes may be late to be seen.
const caseTries = 2

// move takes a version through planning, deploying and proving, in the background.
func (l *Line) move(ctx context.Context, d store.Delivery) {
	at := stageOf{d.Service, d.Stage}
	l.mu.Lock()
	l.busy[at] = true
	l.mu.Unlock()
	l.running.Add(1)
	go func() {
		defer l.running.Done()
		err := l.through(ctx, d)
		l.mu.Lock()
		delete(l.busy, at)
		l.mu.Unlock()
		if err != nil && ctx.Err() == nil {
			l.log.Warn("a delivery stopped", "service", d.Service, "stage", d.Stage, "version", d.Version, "error", err)
			now, readErr := l.store.Delivery(ctx, d.Service, d.Version, d.Stage)
			if readErr == nil && delivery.Moving(now.State) {
				now.Missing = l.misses(ctx, now, err)
				readErr = l.apply(ctx, now, delivery.Fail, "", err.Error())
			}
			if readErr != nil {
				l.log.Error("stopping a delivery", "error", readErr)
			}
		}
		l.Nudge()
	}()
}

func (l *Line) through(ctx context.Context, d store.Delivery) error {
	service, _, err := l.planner.Service(ctx, d.Service, d.Version)
	if err != nil {
		return err
	}
	if d.State == delivery.Planning || d.State == delivery.Deploying {
		if d, err = l.deploy(ctx, d); err != nil {
			return err
		}
	}
	if d.State != delivery.Proving {
		return nil
	}
	stage := service.Stage(d.Stage)
	if stage == nil {
		return l.apply(ctx, d, delivery.Proved, "", "nothing is left there")
	}
	failed, total, err := l.prove(ctx, d, service, stage)
	if err != nil {
		return err
	}
	if len(failed) > 0 {
		return fmt.Errorf("%d of %d cases failed: %s", len(failed), total, strings.Join(failed, ", "))
	}
	why := fmt.Sprintf("%d cases passed", total)
	if total == 0 {
		why = "no case runs here"
	}
	return l.apply(ctx, d, delivery.Proved, "", why)
}

// deploy plans and deploys onto every target of the stage, one after another. It
// does nothing that was not agreed to: where a plan holds more, the version waits
// again, and people are asked again.
func (l *Line) deploy(ctx context.Context, d store.Delivery) (store.Delivery, error) {
	targets, err := l.planner.Targets(ctx, d.Service, d.Stage, d.Version)
	if err != nil {
		return d, err
	}
	resumed := d.State == delivery.Deploying
	for i, target := range targets {
		if resumed && i < len(d.Deployments) {
			if err := l.await(ctx, d.Deployments[i]); err != nil {
				return d, err
			}
			continue
		}
		at := manifest.Place{Service: d.Service, Stage: d.Stage, Target: target}
		p, err := deploy.Patiently(ctx, func() (*plan.Plan, error) { return l.planner.Compute(ctx, at, d.Version) })
		if err != nil {
			return d, err
		}
		if meaning := p.Meaning(); d.Agreed != nil && !delivery.Within(meaning, d.Agreed) {
			why := fmt.Sprintf("the plan for %s means something else than what was agreed to: %s", target, strings.Join(delivery.Moved(d.Agreed, meaning), "; "))
			return d, l.apply(ctx, d, delivery.Reask, "", why)
		}
		if i == 0 && !resumed {
			d.Deployments = nil
		}
		id, err := l.store.AddPlan(ctx, "", p)
		if err != nil {
			return d, err
		}
		if len(p.Problems) > 0 {
			return d, fmt.Errorf("%w for %s: %s", errPlan, target, p.Problems[0].Message)
		}
		deployment, err := l.runner.Start(ctx, id, "")
		if err != nil {
			return d, err
		}
		d.Deployments = append(d.Deployments, deployment)
		from := d.State
		if d.State == delivery.Planning {
			if d.State, err = delivery.Next(d.State, delivery.Planned); err != nil {
				return d, err
			}
		}
		if err := l.store.MoveDelivery(ctx, from, d, ""); err != nil {
			return d, err
		}
		l.events.Tell(ctx, d.Service, "delivery", map[string]any{"version": d.Version, "stage": d.Stage, "state": d.State})
		if err := l.await(ctx, deployment); err != nil {
			return d, err
		}
	}
	if err := l.apply(ctx, d, delivery.Deployed, "", ""); err != nil {
		return d, err
	}
	return l.store.Delivery(ctx, d.Service, d.Version, d.Stage)
}

// await waits for the end of a deployment, and tells why it is not done.
func (l *Line) await(ctx context.Context, id int64) error {
	c := make(chan store.Deployment, 1)
	l.mu.Lock()
	l.waiters[id] = c
	l.mu.Unlock()
	defer func() {
		l.mu.Lock()
		delete(l.waiters, id)
		l.mu.Unlock()
	}()
	d, err := l.store.Deployment(ctx, id)
	if err != nil {
		return err
	}
	if d.State == store.Running {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case d = <-c:
		}
	}
	if d.State != store.Done {
		return fmt.Errorf("deployment %d is %s: %s", id, d.State, d.Why)
	}
	return nil
}

// Ended is told of every deployment that ended. One that was made to go on by
// hand after its delivery stopped brings the delivery on too.
func (l *Line) Ended(ctx context.Context, d store.Deployment) {
	l.mu.Lock()
	c := l.waiters[d.ID]
	l.mu.Unlock()
	if c != nil {
		c <- d
		return
	}
	row, err := l.store.Delivery(ctx, d.Service, d.Version, d.Stage)
	if err == nil && d.State == store.Done && row.State == delivery.Stopped {
		if err := l.apply(ctx, row, delivery.Retry, d.Person, ""); err != nil {
			l.log.Error("going on with a delivery", "error", err)
		}
		l.Nudge()
	}
}

// Found is what came of a case: what was sent, what came, and each expectation.
type Found struct {
	Call       cases.Call      `json:"call"`
	Outcomes   []cases.Outcome `json:"outcomes"`
	Invocation api.Invocation  `json:"invocation"`
}

// prove runs all saved cases against what was deployed.
func (l *Line) prove(ctx context.Context, d store.Delivery, service *manifest.Service, stage *manifest.Stage) (failed []string, total int, err error) {
	language, err := expression.ForCases()
	if err != nil {
		return nil, 0, err
	}
	var mu sync.Mutex
	var group sync.WaitGroup
	var runs []store.CaseRun
	slots := make(chan struct{}, 4)
	for _, target := range stage.Targets {
		for _, fn := range service.Functions {
			group.Add(1)
			go func() { // the cases of one function run one after another: they may build on each other
				defer group.Done()
				for _, c := range fn.Cases {
					if !c.RunsIn(stage) {
						continue
					}
					slots <- struct{}{}
					found, passed, runErr := l.runCase(ctx, manifest.Place{Service: d.Service, Stage: stage.Name, Target: target}, fn, c, language)
					<-slots
					text, _ := json.Marshal(found)
					mu.Lock()
					err = errors.Join(err, runErr)
					runs = append(runs, store.CaseRun{Target: target.String(), Function: fn.Name, File: c.File, Name: c.Name, Passed: passed, Body: string(text)})
					if total++; !passed {
						failed = append(failed, c.Name)
					}
					mu.Unlock()
				}
			}()
		}
	}
	group.Wait()
	if err != nil {
		return nil, 0, fmt.Errorf("running the cases: %w", err)
	}
	return failed, total, l.store.PutCaseRuns(ctx, d.Service, d.Version, d.Stage, runs)
}

func (l *Line) runCase(ctx context.Context, at manifest.Place, fn *manifest.Function, c manifest.Case, language *expression.Language) (Found, bool, error) {
	client, scope, err := l.planner.Platform(at)
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
		inv, err := deploy.Patiently(ctx, func() (api.Invocation, error) {
			return client.Invoke(ctx, scope, fn.Name, call.Trigger, api.Case, call.Event)
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

// Observed turns an invocation into what cases are judged by.
func Observed(inv api.Invocation) cases.Observed {
	o := cases.Observed{Answer: inv.Answer, Took: time.Duration((inv.ColdMs + inv.RunMs) * float64(time.Millisecond)), MemoryPeak: inv.MemoryPeak, Cold: inv.Cold}
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
