// Package deliver moves versions through their stages: it judges the gates,
// plans, deploys, runs the cases, and takes versions back.
package deliver

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"rudmar/core/delivery"
	"rudmar/core/manifest"
	"rudmar/core/resource"
	"rudmar/engine/deploy"
	"rudmar/engine/events"
	"rudmar/engine/people"
	"rudmar/engine/store"
)

// Errors of deliveries.
var (
	ErrNotThere  = errors.New("that version was never in this stage")
	ErrNotCounts = errors.New("this approval would not count")
)

// lookEvery is how often gates that wait for time to pass are judged again.
const lookEvery = 2 * time.Second

// judging is how long all expressions of one judgement may take: the rules of a
// stage's gates, or the expectations of a case.
const judging = 500 * time.Millisecond

// Line is the delivery line of all services.
type Line struct {
	store   *store.Store
	planner *deploy.Planner
	runner  *deploy.Runner
	people  *people.Directory
	events  *events.Hub
	log     *slog.Logger

	wake    chan struct{}
	mu      sync.Mutex
	busy    map[stageOf]bool                // a delivery moves there in this process
	waiters map[int64]chan store.Deployment // by deployment
	running sync.WaitGroup
}

// stageOf is a stage of a service, whatever its targets.
type stageOf struct{ service, stage string }

// Config is what the line works with.
type Config struct {
	Store   *store.Store
	Planner *deploy.Planner
	People  *people.Directory
	Events  *events.Hub
	Log     *slog.Logger
}

// New makes the line. Connect gives it the runner.
func New(c Config) *Line {
	return &Line{store: c.Store, planner: c.Planner, people: c.People, events: c.Events, log: c.Log, wake: make(chan struct{}, 1), busy: map[stageOf]bool{}, waiters: map[int64]chan store.Deployment{}}
}

// Connect gives the line the runner of its plans.
func (l *Line) Connect(r *deploy.Runner) { l.runner = r }

// Built begins the delivery of a version that was built.
func (l *Line) Built(ctx context.Context, service string, version int) {
	if err := l.start(ctx, service, version); err != nil {
		l.log.Error("starting a delivery", "service", service, "version", version, "error", err)
	}
	l.Nudge()
}

func (l *Line) start(ctx context.Context, service string, version int) error {
	s, _, err := l.planner.Service(ctx, service, version)
	if err != nil {
		return err
	}
	var stages []string
	for _, stage := range s.Stages {
		stages = append(stages, stage.Name)
	}
	return l.store.StartDelivery(ctx, service, version, stages)
}

// Nudge makes the line look again now.
func (l *Line) Nudge() {
	select {
	case l.wake <- struct{}{}:
	default:
	}
}

// Run moves deliveries until the context ends.
func (l *Line) Run(ctx context.Context) {
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	defer l.running.Wait()
	for {
		if err := l.look(ctx); err != nil && ctx.Err() == nil {
			l.log.Error("moving deliveries", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		case <-l.wake:
		}
	}
}

func (l *Line) look(ctx context.Context) error {
	services, err := l.store.Services(ctx)
	if err != nil {
		return err
	}
	for _, s := range services {
		rows, err := l.store.Deliveries(ctx, s.Name)
		if err != nil {
			return err
		}
		byStage := map[string][]store.Delivery{}
		ended := map[int]bool{} // versions that were overtaken or refused somewhere
		var order []string
		for _, d := range rows {
			if byStage[d.Stage] == nil {
				order = append(order, d.Stage)
			}
			byStage[d.Stage] = append(byStage[d.Stage], d)
			ended[d.Version] = ended[d.Version] || d.State == delivery.Overtaken || d.State == delivery.Refused
		}
		for _, stage := range order {
			if err := l.lookAt(ctx, s.Name, stage, byStage[stage], ended); err != nil {
				return fmt.Errorf("stage %s of %s: %w", stage, s.Name, err)
			}
		}
	}
	return nil
}

// lookAt decides what happens next in one stage.
func (l *Line) lookAt(ctx context.Context, service, stage string, rows []store.Delivery, ended map[int]bool) error {
	l.mu.Lock()
	busy := l.busy[stageOf{service, stage}]
	l.mu.Unlock()
	if busy {
		return nil
	}
	byVersion := map[int]store.Delivery{}
	var standing []delivery.Standing
	for _, d := range rows {
		byVersion[d.Version] = d
		if delivery.Moving(d.State) { // left over from a process before
			l.move(ctx, d)
			return nil
		}
		p := delivery.Standing{Version: d.Version, State: d.State}
		if d.State == delivery.Waiting && ended[d.Version] {
			if err := l.apply(ctx, d, delivery.Overtake, "", "it did not get through the stage before"); err != nil {
				return err
			}
			continue
		}
		if d.State == delivery.Waiting {
			gates, err := l.Gates(ctx, d)
			if err != nil {
				return err
			}
			p.Ready = delivery.AllHold(gates)
		}
		standing = append(standing, p)
	}
	next, overtaken := delivery.Turn(standing)
	for _, v := range overtaken {
		if err := l.apply(ctx, byVersion[v], delivery.Overtake, "", "a newer version came"); err != nil {
			return err
		}
	}
	if next == 0 {
		return nil
	}
	d := byVersion[next]
	if err := l.apply(ctx, d, delivery.Enter, "", ""); err != nil {
		return err
	}
	d, err := l.store.Delivery(ctx, service, next, stage)
	if err != nil {
		return err
	}
	l.move(ctx, d)
	return nil
}

// apply moves a delivery by an event, and tells the pages.
func (l *Line) apply(ctx context.Context, d store.Delivery, e delivery.Event, person, why string) error {
	next, err := delivery.Next(d.State, e)
	if err != nil {
		return fmt.Errorf("version %d in %s: %w", d.Version, d.Stage, err)
	}
	d.State, d.Why = next, why
	if err := l.store.MoveDelivery(ctx, d, person); err != nil {
		return err
	}
	l.events.Tell(ctx, d.Service, "delivery", map[string]any{"version": d.Version, "stage": d.Stage, "state": next})
	return nil
}

// Gates judges the gates that guard a version's entry.
func (l *Line) Gates(ctx context.Context, d store.Delivery) ([]delivery.Gate, error) {
	service, v, err := l.planner.Service(ctx, d.Service, d.Version)
	if err != nil {
		return nil, err
	}
	stage := service.Stage(d.Stage)
	if stage == nil {
		return nil, nil
	}
	facts := delivery.Facts{Now: l.store.Now(), Author: v.Author, Requested: d.RequestedBy}
	if stage.After != "" {
		if err := l.before(ctx, d, service.Stage(stage.After), stage, &facts); err != nil {
			return nil, err
		}
	}
	if stage.Gates.Approvals != nil {
		list, err := l.store.Approvals(ctx, d.Service, d.Version, d.Stage)
		if err != nil {
			return nil, err
		}
		for _, a := range list {
			p, err := l.people.Person(ctx, a.Person)
			if err != nil && !errors.Is(err, store.ErrNotFound) {
				return nil, err
			}
			facts.Approvals = append(facts.Approvals, delivery.Approval{Person: a.Person, Groups: p.Groups, Comment: a.Comment})
		}
	}
	if len(stage.Gates.Rules) > 0 && facts.Before == delivery.Settled {
		facts.Variables = l.variables(ctx, d, stage, v, facts)
	}
	ctx, cancel := context.WithTimeout(ctx, judging)
	defer cancel()
	return delivery.Gates(ctx, stage, facts), nil
}

// before gathers how the version did in the stage before.
func (l *Line) before(ctx context.Context, d store.Delivery, before, stage *manifest.Stage, facts *delivery.Facts) error {
	row, err := l.store.Delivery(ctx, d.Service, d.Version, before.Name)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	facts.Before, facts.BeforeSince = row.State, row.Since
	runs, err := l.store.CaseRuns(ctx, d.Service, d.Version, before.Name)
	if err != nil {
		return err
	}
	wanted := map[string]bool{}
	for _, name := range stage.Gates.Cases {
		wanted[name] = true
	}
	for _, r := range runs {
		if !wanted["all"] && !wanted[r.Function] {
			continue
		}
		facts.Cases.Ran = true
		if r.Passed {
			facts.Cases.Passed++
		} else {
			facts.Cases.Failed = append(facts.Cases.Failed, r.Name)
		}
	}
	if !facts.Cases.Ran && row.State == delivery.Settled {
		facts.Cases.Ran = true // they were run, and there are none
	}
	if stage.Gates.Soak != nil && row.State == delivery.Settled {
		return l.figures(ctx, d.Service, before, row.Since, facts)
	}
	return nil
}

func (l *Line) figures(ctx context.Context, service string, stage *manifest.Stage, since time.Time, facts *delivery.Facts) error {
	for _, target := range stage.Targets {
		client, scope, err := l.planner.Platform(manifest.Place{Service: service, Stage: stage.Name, Target: target})
		if err != nil {
			return err
		}
		minutes, err := client.Metrics(ctx, scope, since.Truncate(time.Minute))
		if err != nil {
			return err
		}
		for _, m := range minutes {
			facts.Figures.Calls += m.Calls
			facts.Figures.Errors += m.Errors
		}
	}
	return nil
}

// variables gives what rules are evaluated over; nil where there is no plan to judge.
func (l *Line) variables(ctx context.Context, d store.Delivery, stage *manifest.Stage, v store.Version, facts delivery.Facts) map[string]any {
	deletes, steps := []any{}, []any{}
	opened, gained := []any{}, []any{}
	for _, target := range stage.Targets {
		p, err := l.planner.Compute(ctx, manifest.Place{Service: d.Service, Stage: d.Stage, Target: target}, d.Version)
		if err != nil {
			return nil
		}
		for _, s := range p.Steps {
			steps = append(steps, s.Address)
			if s.Change == resource.Delete {
				deletes = append(deletes, s.Address)
			}
		}
		for _, o := range p.Consequences.Opened {
			if o.Public {
				opened = append(opened, o.Route)
			}
		}
		for _, g := range p.Consequences.Gained {
			gained = append(gained, g.Function+" "+g.Resource)
		}
	}
	return map[string]any{
		"plan":         map[string]any{"steps": steps, "deletes": deletes},
		"consequences": map[string]any{"opened": opened, "gained": gained},
		"version":      map[string]any{"number": v.Number, "author": v.Author, "message": v.Message, "branch": v.Branch},
		"metrics":      map[string]any{"calls": facts.Figures.Calls, "errors": facts.Figures.Errors},
	}
}
