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
	"rudmar/engine/deploy"
	"rudmar/engine/events"
	"rudmar/engine/people"
	"rudmar/engine/source"
	"rudmar/engine/store"
)

// Errors of deliveries.
var (
	ErrNotThere  = errors.New("that version was never in this stage")
	ErrNotCounts = errors.New("this approval would not count")
	ErrShown     = errors.New("what it means is not what you were shown")
	ErrConfirm   = errors.New("this has to be confirmed")
)

// lookEvery is how often gates that wait for time to pass are judged again.
const lookEvery = 2 * time.Second

// Line is the delivery line of all services.
type Line struct {
	store   *store.Store
	planner *deploy.Planner
	runner  *deploy.Runner
	people  *people.Directory
	events  *events.Hub
	log     *slog.Logger
	// repository gives a repository by name.
	repository func(name string) source.Repository

	wake    chan struct{}
	mu      sync.Mutex
	busy    map[stageOf]bool                // a delivery moves there in this process
	waiters map[int64]chan store.Deployment // by deployment
	// What entering means, and which commits lie between two, as it was asked
	// last: forgotten when it gets much.
	meanings map[deliveryOf]knownMeaning
	ranges   map[string][]string
	waits    map[deliveryOf]wait // of deliveries that stopped
	running  sync.WaitGroup
}

// deliveryOf names a delivery among those of all services.
type deliveryOf struct {
	service string
	Place
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
	// Repository gives a repository by name.
	Repository func(name string) source.Repository
}

// New makes the line. Connect gives it the runner.
func New(c Config) *Line {
	return &Line{store: c.Store, planner: c.Planner, people: c.People, events: c.Events, log: c.Log, repository: c.Repository, wake: make(chan struct{}, 1),
		busy: map[stageOf]bool{}, waiters: map[int64]chan store.Deployment{}, meanings: map[deliveryOf]knownMeaning{}, ranges: map[string][]string{}, waits: map[deliveryOf]wait{}}
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

// start makes a version wait in the stages that it declares, and in those where
// something runs that it does not declare any more.
func (l *Line) start(ctx context.Context, service string, version int) error {
	s, _, err := l.planner.Service(ctx, service, version)
	if err != nil {
		return err
	}
	left, err := l.planner.Undeclared(ctx, service, s)
	if err != nil {
		return err
	}
	var stages, removes []string
	for _, stage := range delivery.Stages(s.Stages, left) {
		if s.Stage(stage.Name) != nil {
			stages = append(stages, stage.Name)
		} else {
			removes = append(removes, stage.Name)
		}
	}
	return l.store.StartDelivery(ctx, service, version, stages, removes)
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

// look looks at each service on its own: what is wrong with one keeps no other.
func (l *Line) look(ctx context.Context) error {
	services, err := l.store.Services(ctx)
	if err != nil {
		return err
	}
	for _, s := range services {
		if err := l.lookThrough(ctx, s.Name); err != nil && ctx.Err() == nil {
			l.log.Error("moving deliveries", "service", s.Name, "error", err)
		}
	}
	return nil
}

// lookThrough looks at each stage of a service on its own.
func (l *Line) lookThrough(ctx context.Context, service string) error {
	rows, err := l.store.Deliveries(ctx, service)
	if err != nil {
		return err
	}
	judged, err := l.Judged(ctx, service, 0)
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
	var errs error
	for _, stage := range order {
		if err := l.lookAt(ctx, byStage[stage], judged, ended); err != nil {
			errs = errors.Join(errs, fmt.Errorf("stage %s: %w", stage, err))
		}
	}
	return errs
}

// lookAt decides what happens next in one stage, of which it gets all deliveries.
func (l *Line) lookAt(ctx context.Context, rows []store.Delivery, judged map[Place]Judged, ended map[int]bool) error {
	at := stageOf{rows[0].Service, rows[0].Stage}
	l.mu.Lock()
	busy := l.busy[at]
	l.mu.Unlock()
	if busy {
		return nil
	}
	byVersion := map[int]store.Delivery{}
	meanings := map[int]*Meaning{}
	var standing []delivery.Standing
	for _, d := range rows {
		byVersion[d.Version] = d
		if delivery.Moving(d.State) { // left over from a process before
			l.move(ctx, d)
			return nil
		}
		p := delivery.Standing{Version: d.Version, Turn: d.Turn, State: d.State}
		if d.State == delivery.Waiting && ended[d.Version] {
			if err := l.apply(ctx, d, delivery.Overtake, "", "it did not get through the stage before"); err != nil {
				return err
			}
			continue
		}
		if d.State == delivery.Waiting {
			now, err := l.Judge(ctx, d)
			if err != nil {
				return fmt.Errorf("judging version %d: %w", d.Version, err)
			}
			var before *Judged
			if old, ok := judged[Place{d.Version, d.Stage}]; ok {
				before = &old
			}
			if err := l.keep(ctx, d, now, before); err != nil {
				return err
			}
			p.Ready = delivery.AllHold(now.Gates)
			meanings[d.Version] = now.Meaning
		}
		standing = append(standing, p)
	}
	// What stopped goes on by itself, unless something newer got as far.
	for _, d := range rows { // the newest first
		if d.State == delivery.Settled || d.State == delivery.Stopped && d.Missing == "" {
			break
		}
		if d.State == delivery.Stopped {
			if err := l.goOn(ctx, d); err != nil {
				return err
			}
			break
		}
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
	if m := meanings[next]; m != nil {
		d.Agreed = m.Lines
	}
	if err := l.apply(ctx, d, delivery.Enter, "", ""); err != nil {
		return err
	}
	d, err := l.store.Delivery(ctx, at.service, next, at.stage)
	if err != nil {
		return err
	}
	l.move(ctx, d)
	return nil
}

// apply moves a delivery by an event, and tells the pages. Where somebody else
// has moved it in the meantime the error is store.ErrMoved.
func (l *Line) apply(ctx context.Context, d store.Delivery, e delivery.Event, person, why string) error {
	from := d.State
	next, err := delivery.Next(from, e)
	if err != nil {
		return fmt.Errorf("version %d in %s: %w", d.Version, d.Stage, err)
	}
	d.State, d.Why = next, why
	if next != delivery.Stopped {
		d.Missing = ""
	}
	if err := l.store.MoveDelivery(ctx, from, d, person); err != nil {
		return err
	}
	l.events.Tell(ctx, d.Service, "delivery", map[string]any{"version": d.Version, "stage": d.Stage, "state": next})
	return nil
}
