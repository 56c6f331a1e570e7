// Package deliver moves versions through stages: it evaluates gates, plans, deploys, runs cases,
// shifts traffic and rolls versions back.
package deliver

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"time"

	"rudmar/core/delivery"
	"rudmar/core/timing"
	"rudmar/engine/deploy"
	"rudmar/engine/people"
	"rudmar/engine/recent"
	"rudmar/engine/rest"
	"rudmar/engine/source"
	"rudmar/engine/store"
)

// Errors of deliveries.
var (
	ErrNotThere      = errors.New("this version was never in the stage")
	ErrNotCounts     = errors.New("this approval would not count")
	ErrImpactChanged = errors.New("the impact has changed since it was shown")
	ErrConfirm       = errors.New("confirmation required")
	ErrTime          = errors.New("invalid time")
)

// lookEvery is how often gates that wait for time to pass are judged again.
const lookEvery = 2 * time.Second

// Line is the delivery line of all services.
type StageLine struct {
	store   *store.Store
	planner *deploy.Planner
	runner  *deploy.Runner
	people  *people.Directory
	log     *slog.Logger
	// repository returns a repository by name.
	repository func(name string) source.Repository
	calendar   func(ctx context.Context, address string, zone *time.Location) (timing.Calendar, error)

	wake  chan struct{}
	mu    sync.Mutex
	busy  map[stageOf]bool     // places that this process is evaluating or delivering to
	rests *rest.Rests[stageOf] // places with an error
	// The plans of entries, and the commits between two versions, as computed last.
	meanings *recent.Cache[impactKey, knownImpact]
	ranges   *recent.Cache[string, []string]
	waits    map[deliveryOf]wait   // of failed deliveries
	heard    int64                 // the last processed event
	changed  map[string]int64      // by service, the last event that can start or advance a delivery
	idle     map[stageOf]idleStage // places where nothing happens automatically
	running  sync.WaitGroup
}

// deliveryOf names a delivery among those of all services.
type deliveryOf struct {
	service string
	Key
}

// stageOf is a stage of a service, whatever its targets.
type stageOf struct{ service, stage string }

// Config has the dependencies of a line.
type Config struct {
	Store   *store.Store
	Planner *deploy.Planner
	Runner  *deploy.Runner
	People  *people.Directory
	Log     *slog.Logger
	// Repository returns a repository by name.
	Repository func(name string) source.Repository
	// Calendar returns the calendar of an address, as it was read last.
	Calendar func(ctx context.Context, address string, zone *time.Location) (timing.Calendar, error)
}

// How many answers are remembered.
const (
	knownMeanings = 200
	knownRanges   = 200
)

// New creates a line.
func New(c Config) *StageLine {
	return &StageLine{store: c.Store, planner: c.Planner, runner: c.Runner, people: c.People, log: c.Log,
		repository: c.Repository, calendar: c.Calendar, wake: make(chan struct{}, 1),
		busy: map[stageOf]bool{}, rests: rest.New[stageOf](longestRest),
		meanings: recent.New[impactKey, knownImpact](knownMeanings),
		ranges:   recent.New[string, []string](knownRanges), waits: map[deliveryOf]wait{},
		changed: map[string]int64{}, idle: map[stageOf]idleStage{}}
}

// AdvanceSoon wakes the line.
func (l *StageLine) AdvanceSoon() {
	select {
	case l.wake <- struct{}{}:
	default:
	}
}

// Run advances deliveries until the context ends.
func (l *StageLine) Run(ctx context.Context) {
	wake, stop := l.store.Listen(store.TopicDelivery, store.Deployments)
	defer stop()
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	defer l.running.Wait()
	for {
		if err := l.inspectLoop(ctx); err != nil && ctx.Err() == nil {
			l.log.Error("moving deliveries", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		case <-wake:
		case <-l.wake:
		}
	}
}

// inspectLoop inspects each service on its own: an error in one does not affect others.
func (l *StageLine) inspectLoop(ctx context.Context) error {
	if err := l.listen(ctx); err != nil {
		return err
	}
	services, err := l.store.Services(ctx)
	if err != nil {
		return err
	}
	for _, s := range services {
		if err := l.inspectAll(ctx, s.Name); err != nil && ctx.Err() == nil {
			l.log.Error("moving deliveries", "service", s.Name, "error", err)
		}
	}
	return nil
}

// inspectAll inspects each stage of a service on its own, and does not wait for it: an unresponsive place does
// not affect others.
func (l *StageLine) inspectAll(ctx context.Context, service string) error {
	stages, err := l.store.StagesToPoll(ctx, service)
	if err != nil {
		return err
	}
	due := slices.DeleteFunc(stages, func(stage string) bool { return l.isIdle(stageOf{service, stage}) })
	if len(due) == 0 {
		return nil
	}
	for _, stage := range due {
		at := stageOf{service, stage}
		l.inBackground(ctx, at, func(ctx context.Context) error { return l.inspect(ctx, at) })
	}
	return nil
}

// looking is the time limit of one inspection of a stage, before a version enters it.
const looking = 30 * time.Second

// longestRest is the maximum pause of a stage after errors.
const longestRest = 30 * time.Second

// inBackground does something about a stage, unless something is done about it
// already. Where it fails the stage is left alone for a while, longer each time.
func (l *StageLine) inBackground(ctx context.Context, at stageOf, do func(ctx context.Context) error) {
	l.mu.Lock()
	if l.busy[at] || l.rests.Resting(at) {
		l.mu.Unlock()
		return
	}
	l.busy[at] = true
	l.mu.Unlock()
	l.running.Go(func() {
		err := do(ctx)
		l.mu.Lock()
		defer l.mu.Unlock()
		delete(l.busy, at)
		switch {
		case ctx.Err() != nil:
			return
		case errors.Is(err, store.ErrMoved): // somebody else was faster: read again
			l.AdvanceSoon()
			return
		}
		l.rests.Ended(at, err)
		if err != nil {
			l.log.Error("moving deliveries", "service", at.service, "stage", at.stage, "error", err)
		}
	})
}

// inspect decides what happens next in one stage, and does it. It reads the state itself: state from before it
// had the stage to itself may be outdated.
func (l *StageLine) inspect(ctx context.Context, at stageOf) error {
	l.mu.Lock()
	heard := l.heard
	l.mu.Unlock()
	all, err := l.store.Deliveries(ctx, at.service)
	if err != nil {
		return err
	}
	judged, err := l.GateResults(ctx, at.service, 0)
	if err != nil {
		return err
	}
	var rows []store.Delivery
	ended := map[int]bool{} // versions that were superseded or rejected in some stage
	for _, d := range all {
		if d.Stage == at.stage {
			rows = append(rows, d)
		}
		ended[d.Version] = ended[d.Version] || d.State == delivery.Superseded || d.State == delivery.Rejected
	}
	next, still, err := l.next(ctx, rows, judged, ended)
	if err != nil {
		return err
	}
	if next != nil {
		return l.move(ctx, *next)
	}
	if still {
		l.mu.Lock()
		defer l.mu.Unlock()
		l.idle[at] = idleStage{l.store.Now().Add(idleFor), heard}
	}
	return nil
}

// next returns the delivery that advances next in one stage; nil for none, with whether only an event can
// change that.
func (l *StageLine) next(ctx context.Context, rows []store.Delivery, judged map[Key]GateResults,
	ended map[int]bool) (move *store.Delivery, still bool, err error) {
	ctx, cancel := context.WithTimeout(ctx, looking)
	defer cancel()
	byVersion := map[int]store.Delivery{}
	meanings := map[int]*Impact{}
	var standing []delivery.Standing
	still = true
	for _, d := range rows {
		byVersion[d.Version] = d
		if delivery.Moving(d.State) {
			return &d, false, nil
		}
		p := delivery.Standing{Version: d.Version, Turn: d.Turn, State: d.State}
		if d.State == delivery.Waiting && ended[d.Version] {
			if err := l.apply(ctx, d, delivery.Supersede, "", "the version did not pass the preceding stage"); err != nil {
				return nil, false, err
			}
			continue
		}
		if d.State == delivery.Waiting {
			d, err := l.mergeSelection(ctx, d)
			if err != nil {
				return nil, false, err
			}
			byVersion[d.Version] = d
			now, err := l.Judge(ctx, d)
			if err != nil {
				return nil, false, fmt.Errorf("evaluating the gates of version %d: %w", d.Version, err)
			}
			if len(meanings) == 0 { // the newest in progress: it supersedes those before it
				now.Stops = l.stops(ctx, d)
			}
			var before *GateResults
			if old, ok := judged[Key{d.Version, d.Stage}]; ok {
				before = &old
			}
			if err := l.keep(ctx, d, now, before); err != nil {
				return nil, false, err
			}
			p.Ready = delivery.AllPassed(now.Gates)
			still = still && !p.Ready && !needsPolling(now.Gates) && !now.unplanned
			meanings[d.Version] = now.Impact
		}
		standing = append(standing, p)
	}
	// A failed delivery continues automatically, unless a newer one has come as far.
	for _, d := range rows { // newest first
		if d.State == delivery.Failed {
			still = still && d.Missing == ""
			if err := l.retry(ctx, d); err != nil {
				return nil, false, err
			}
		}
		if d.State == delivery.Settled || d.State == delivery.Failed {
			break
		}
	}
	next, overtaken := delivery.Turn(standing)
	for _, v := range overtaken {
		if err := l.apply(ctx, byVersion[v], delivery.Supersede, "", "superseded by a newer version"); err != nil {
			return nil, false, err
		}
	}
	if next == 0 {
		return nil, still, nil
	}
	d := byVersion[next]
	if m := meanings[next]; m != nil {
		d.Agreed = m.Lines
	}
	if err := l.apply(ctx, d, delivery.Enter, "", ""); err != nil {
		return nil, false, err
	}
	d, err = l.store.Delivery(ctx, d.Service, next, d.Stage)
	return &d, false, err
}

// apply applies an event to a delivery. If somebody else has moved it in the meantime the error is
// store.ErrMoved.
func (l *StageLine) apply(ctx context.Context, d store.Delivery, e delivery.Event, person, why string) error {
	m, err := moveBy(d, e, person, why)
	if err != nil {
		return err
	}
	return l.store.MoveDeliveries(ctx, m)
}

// moveBy returns the transition of a delivery by an event; the error wraps delivery.ErrTransition if there is
// none.
func moveBy(d store.Delivery, e delivery.Event, person, why string) (store.Move, error) {
	m := store.Move{From: d.State, To: d, Person: person}
	next, err := delivery.Next(d.State, e)
	if err != nil {
		return m, store.Missing(err, "version %d in %s", d.Version, d.Stage)
	}
	m.To.State, m.To.Reason = next, why
	switch {
	case d.Rest && (next == delivery.Superseded || next == delivery.Rejected):
		m.To.State, m.To.Reason, m.To.Rest = delivery.Settled, "the deployed state is kept: "+why, false
	case d.Rest && next == delivery.Settled:
		m.To.Choice, m.To.Rest = nil, false
	}
	if next != delivery.Failed {
		m.To.Missing = ""
	}
	return m, nil
}
