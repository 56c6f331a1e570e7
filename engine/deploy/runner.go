package deploy

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"rudmar/core/plan"
	"rudmar/core/resource"
	"rudmar/engine/events"
	"rudmar/engine/store"
	"rudmar/platform"
	"rudmar/platform/api"
)

// Errors of deployments.
var (
	ErrOutOfDate = errors.New("the plan is out of date")
	ErrStopped   = errors.New("the plan has problems that stop it")
	ErrNotOpen   = errors.New("the deployment cannot go on")
)

// Limits of a deployment.
const (
	leaseLength = 30 * time.Second // renewed while it runs
	patience    = 20 * time.Second // with a platform that does not answer
)

// Archives reads an archive by its digest.
type Archives func(digest string) ([]byte, error)

// Runner runs plans.
type Runner struct {
	store    *store.Store
	planner  *Planner
	archives Archives
	events   *events.Hub
	log      *slog.Logger
	holder   string
	ended    func(ctx context.Context, d store.Deployment)

	ctx     context.Context
	running sync.WaitGroup
}

// RunnerConfig is what a runner works with.
type RunnerConfig struct {
	Store    *store.Store
	Planner  *Planner
	Archives Archives
	Events   *events.Hub
	Log      *slog.Logger
	// Ended is called after each deployment.
	Ended func(ctx context.Context, d store.Deployment)
}

// NewRunner makes a runner whose deployments end with the context.
func NewRunner(ctx context.Context, c RunnerConfig) *Runner {
	b := make([]byte, 8)
	_, _ = rand.Read(b) // it never fails, says its documentation
	return &Runner{store: c.Store, planner: c.Planner, archives: c.Archives, events: c.Events, log: c.Log, ended: c.Ended, holder: hex.EncodeToString(b), ctx: ctx}
}

// Wait waits until nothing runs any more.
func (r *Runner) Wait() { r.running.Wait() }

// Start begins the deployment of a plan that was kept. It is refused where the
// world has moved on since the plan was made.
func (r *Runner) Start(ctx context.Context, planID int64, person string) (int64, error) {
	kept, err := r.store.Plan(ctx, planID)
	if err != nil {
		return 0, fmt.Errorf("plan %d: %w", planID, err)
	}
	p := kept.Plan
	if len(p.Problems) > 0 {
		return 0, fmt.Errorf("%w: %s", ErrStopped, p.Problems[0].Message)
	}
	place := p.Base.Place
	lease, err := r.store.TakeLease(ctx, place, r.holder, leaseLength)
	if err != nil {
		return 0, fmt.Errorf("deploying onto %s %s: %w", place.Stage, place.Target, err)
	}
	if err := r.upToDate(ctx, p); err != nil {
		return 0, errors.Join(err, r.store.EndLease(ctx, lease))
	}
	id, err := r.store.AddDeployment(ctx, planID, p, person)
	if err != nil {
		return 0, errors.Join(err, r.store.EndLease(ctx, lease))
	}
	r.launch(id, p, lease)
	return id, nil
}

// Check tells whether a plan that was kept could still be run.
func (r *Runner) Check(ctx context.Context, planID int64) error {
	kept, err := r.store.Plan(ctx, planID)
	if err != nil {
		return fmt.Errorf("plan %d: %w", planID, err)
	}
	return r.upToDate(ctx, kept.Plan)
}

// GoOn runs the remaining steps of a deployment that ended without being done.
func (r *Runner) GoOn(ctx context.Context, id int64, person string) error {
	d, err := r.store.Deployment(ctx, id)
	if err != nil {
		return fmt.Errorf("deployment %d: %w", id, err)
	}
	if d.State != store.PartlyDone && d.State != store.Stopped {
		return fmt.Errorf("%w: it is %s", ErrNotOpen, d.State)
	}
	newest, err := r.store.Deployments(ctx, d.Service, d.Stage, 20)
	if err != nil {
		return err
	}
	for _, other := range newest {
		if other.ID > id && other.Target == d.Target {
			return fmt.Errorf("%w: deployment %d came after it; make a new plan", ErrNotOpen, other.ID)
		}
	}
	kept, err := r.store.Plan(ctx, d.Plan)
	if err != nil {
		return err
	}
	lease, err := r.store.TakeLease(ctx, d.Place, r.holder, leaseLength)
	if err != nil {
		return err
	}
	if err := r.store.Reopen(ctx, id, person); err != nil {
		return errors.Join(err, r.store.EndLease(ctx, lease))
	}
	r.launch(id, kept.Plan, lease)
	return nil
}

// Cancel lets a running deployment finish what is in flight and stop.
func (r *Runner) Cancel(ctx context.Context, id int64) error { return r.store.Cancel(ctx, id) }

// Resume goes on with what a process before left unfinished. It is called once at start.
func (r *Runner) Resume(ctx context.Context) error {
	if err := r.store.DropLeases(ctx); err != nil {
		return err
	}
	list, err := r.store.RunningDeployments(ctx)
	if err != nil {
		return err
	}
	for _, d := range list {
		kept, err := r.store.Plan(ctx, d.Plan)
		if err != nil {
			return err
		}
		lease, err := r.store.TakeLease(ctx, d.Place, r.holder, leaseLength)
		if err != nil {
			return err
		}
		r.log.Info("going on with a deployment", "deployment", d.ID, "service", d.Service, "stage", d.Stage)
		r.launch(d.ID, kept.Plan, lease)
	}
	return nil
}

func (r *Runner) launch(id int64, p *plan.Plan, lease store.Lease) {
	r.running.Add(1)
	go func() {
		defer r.running.Done()
		d, err := r.run(r.ctx, id, p, lease)
		if err != nil {
			if r.ctx.Err() == nil {
				r.log.Error("running a deployment", "deployment", id, "error", err)
			}
			return // it is resumed at the next start
		}
		if err := r.store.EndLease(r.ctx, lease); err != nil {
			r.log.Error("ending a lease", "error", err)
		}
		r.tell(id, p, "ended", nil)
		r.ended(r.ctx, d)
	}()
}

func (r *Runner) tell(id int64, p *plan.Plan, what string, s *plan.Step) {
	body := map[string]any{"deployment": id, "stage": p.Base.Stage, "what": what}
	if s != nil {
		body["step"], body["address"] = s.Index, s.Address
	}
	r.events.Tell(r.ctx, p.Base.Service, "deployment", body)
}

// execution is one run of a deployment.
type execution struct {
	*Runner
	id      int64
	plan    *plan.Plan
	lease   store.Lease
	client  *platform.Client
	scope   platform.Scope
	secrets map[string]map[string]string // address → attribute → value
}

type result struct {
	step int
	err  error // of the step
	lost error // of Rudmar itself: nothing more can be written
}

func (r *Runner) run(ctx context.Context, id int64, p *plan.Plan, lease store.Lease) (store.Deployment, error) {
	d, err := r.store.Deployment(ctx, id)
	if err != nil {
		return d, err
	}
	x := &execution{Runner: r, id: id, plan: p, lease: lease}
	if err := x.prepare(ctx); err != nil {
		d.State, d.Why = store.Stopped, err.Error()
		return d, r.store.EndDeployment(ctx, lease, d)
	}
	r.tell(id, p, "started", nil)
	states, err := r.store.Steps(ctx, id)
	if err != nil {
		return d, err
	}
	failed, cancelled, err := x.work(ctx, states)
	if err != nil {
		return d, err
	}
	done := 0
	for _, s := range states {
		if s.State == store.StepDone {
			done++
		}
	}
	switch {
	case done == len(states):
		d.State = store.Done
	case done == 0:
		d.State = store.Stopped
	default:
		d.State = store.PartlyDone
	}
	switch {
	case cancelled:
		d.Why = "cancelled"
	case failed != "":
		d.Why = failed
	}
	return d, r.store.EndDeployment(ctx, lease, d)
}

func (x *execution) prepare(ctx context.Context) error {
	place := x.plan.Base.Place
	var err error
	if x.client, x.scope, err = x.planner.Platform(place); err != nil {
		return err
	}
	kinds, err := Patiently(ctx, func() (api.Kinds, error) { return x.client.Kinds(ctx) })
	if err != nil {
		return err
	}
	wanted, _, err := x.planner.Wanted(ctx, place, x.plan.Base.Version, kinds)
	if err != nil {
		return err
	}
	x.secrets = map[string]map[string]string{}
	for _, w := range wanted {
		if len(w.Secrets) > 0 {
			x.secrets[w.Address] = w.Secrets
		}
	}
	return sameSecrets(x.plan, wanted)
}

// work runs all steps that are not done, as far as their needs allow. The
// states are brought up to date as it goes.
func (x *execution) work(ctx context.Context, states []store.Step) (failed string, cancelled bool, err error) {
	results := make(chan result)
	flying := 0
	renew := time.NewTicker(leaseLength / 3)
	defer renew.Stop()
	for {
		if !cancelled {
			d, err := x.store.Deployment(ctx, x.id)
			if err == nil {
				cancelled = d.Cancelled
			}
		}
		for i := range states {
			if flying >= plan.AtOnce || cancelled || ctx.Err() != nil {
				break
			}
			if x.ready(states, i) {
				states[i].State = "flying"
				flying++
				go func(s store.Step) { results <- x.step(ctx, &x.plan.Steps[i], s) }(states[i])
			}
		}
		if flying == 0 {
			return failed, cancelled, ctx.Err()
		}
		select {
		case <-renew.C:
			if err := x.store.RenewLease(ctx, x.lease, leaseLength); err != nil && ctx.Err() == nil {
				x.log.Error("renewing a lease", "error", err)
			}
		case r := <-results:
			flying--
			switch {
			case r.lost != nil:
				err = errors.Join(err, r.lost)
				cancelled = true
				states[r.step].State = store.StepWaiting
			case r.err != nil:
				states[r.step].State = store.StepFailed
				failed = x.plan.Steps[r.step].Address + ": " + r.err.Error()
			default:
				states[r.step].State = store.StepDone
			}
			if flying == 0 && err != nil {
				return failed, cancelled, err
			}
		}
	}
}

// ready tells whether a step may be sent: it is not done, and all that it needs is.
func (x *execution) ready(states []store.Step, i int) bool {
	if states[i].State != store.StepWaiting && states[i].State != store.StepRunning {
		return false
	}
	for _, need := range x.plan.Steps[i].Needs {
		if states[need].State != store.StepDone {
			return false
		}
	}
	return true
}

// step sends one step. One that was sent before and whose outcome is not known
// is sent again with the same key.
func (x *execution) step(ctx context.Context, s *plan.Step, state store.Step) result {
	key := state.Key
	if key == "" {
		key = fmt.Sprintf("%s-%d-%d", x.plan.Digest[7:19], x.id, s.Index)
	}
	if err := x.store.BeginStep(ctx, x.lease, x.id, s.Index, key); err != nil {
		return result{step: s.Index, lost: err}
	}
	x.tell(x.id, x.plan, "step", s)
	computed, err := Patiently(ctx, func() (map[string]any, error) { return x.send(ctx, s, key) })
	if ctx.Err() != nil {
		return result{step: s.Index, lost: ctx.Err()} // the outcome is not known: it is sent again at the next start
	}
	outcome := store.Outcome{Deployment: x.id, Step: *s, Version: x.plan.Base.Version, Platform: computed}
	if err != nil {
		outcome.Error = err.Error()
	}
	if lost := x.store.EndStep(ctx, x.lease, outcome); lost != nil {
		return result{step: s.Index, lost: lost}
	}
	x.tell(x.id, x.plan, "step", s)
	return result{step: s.Index, err: err}
}

func (x *execution) send(ctx context.Context, s *plan.Step, key string) (map[string]any, error) {
	switch {
	case s.RecordOnly:
		return nil, nil
	case s.Change == resource.Delete:
		return nil, x.client.Delete(ctx, x.scope, s.Address, key, s.Tag)
	}
	if digest, ok := s.Want["artifact"].(string); ok && s.Kind == resource.Revision {
		archive, err := x.archives(digest)
		if err != nil {
			return nil, err
		}
		if err := x.client.PutArtifact(ctx, digest, archive); err != nil {
			return nil, err
		}
	}
	r, err := x.client.Put(ctx, x.scope, s.Address, platform.Wish{Key: key, Match: s.Tag, Attributes: s.Want, Secrets: x.secrets[s.Address], Version: x.plan.Base.Version, Was: s.Was})
	if err != nil {
		return nil, err
	}
	computed := map[string]any{}
	for name, v := range r.Attributes {
		if _, wanted := s.Want[name]; !wanted {
			computed[name] = v
		}
	}
	return computed, nil
}

// Patiently tries again while a platform does not answer, or answers that it
// failed itself, for a while.
func Patiently[T any](ctx context.Context, do func() (T, error)) (T, error) {
	until := time.Now().Add(patience)
	pause := 100 * time.Millisecond
	for {
		v, err := do()
		if !platform.Transient(err) || time.Now().After(until) {
			return v, err
		}
		select {
		case <-ctx.Done():
			return v, ctx.Err()
		case <-time.After(pause):
			pause = min(2*pause, 2*time.Second)
		}
	}
}
