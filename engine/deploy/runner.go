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

	"github.com/cenkalti/backoff/v5"

	"rudmar/core/delivery"
	"rudmar/core/plan"
	"rudmar/core/resource"
	"rudmar/engine/rest"
	"rudmar/engine/store"
	"rudmar/platform"
	"rudmar/platform/api"
)

// Errors of deployments.
var (
	ErrOutOfDate = errors.New("the plan is out of date")
	ErrStopped   = errors.New("the plan has blockers")
	ErrNotOpen   = errors.New("the deployment cannot be resumed")
)

// Limits of a deployment.
const (
	leaseLength = 30 * time.Second // renewed while it runs
	patience    = 20 * time.Second // with a platform that does not respond to a plan
	stepTimeout = 2 * time.Minute  // without a response to a step
	// gather is how long to wait for outcomes that can be written together, while more than half of the
	// possible steps are in flight.
	gather = 2 * time.Millisecond
	// cancelledEvery is the interval of checks for a cancellation, besides those after each step.
	cancelledEvery = 500 * time.Millisecond
	longestRest    = 10 * time.Second // between two attempts, if Rudmar itself cannot progress
)

// Archives reads an archive by its digest.
type Archives func(digest string) ([]byte, error)

// Runner executes requested deployments. Requests are read from the store, so the processes that request,
// cancel or wait for a deployment are independent of it.
type Runner struct {
	store    *store.Store
	planner  *Planner
	archives Archives
	log      *slog.Logger
	holder   string

	mu      sync.Mutex
	running map[int64]bool // deployments that run in this process
	rests   *rest.Rests[int64]
}

// RunnerConfig has the dependencies of a runner.
type RunnerConfig struct {
	Store    *store.Store
	Planner  *Planner
	Archives Archives
	Log      *slog.Logger
}

// NewRunner creates a runner.
func NewRunner(c RunnerConfig) *Runner {
	b := make([]byte, 8)
	_, _ = rand.Read(b) // documented never to fail
	return &Runner{store: c.Store, planner: c.Planner, archives: c.Archives, log: c.Log, holder: hex.EncodeToString(b),
		running: map[int64]bool{}, rests: rest.New[int64](longestRest)}
}

// Start requests the deployment of a stored plan. An outdated plan is rejected.
func (r *Runner) Start(ctx context.Context, planID int64, person string) (int64, error) {
	return r.StartWith(ctx, planID, person, nil)
}

// StartWith is Start; also is written in the same transaction.
func (r *Runner) StartWith(ctx context.Context, planID int64, person string,
	also func(tx store.Tx, id int64) error) (int64, error) {
	kept, err := r.store.Plan(ctx, planID)
	if err != nil {
		return 0, store.Missing(err, "plan %d", planID)
	}
	p := kept.Plan
	if len(p.Blockers) > 0 {
		return 0, fmt.Errorf("%w: %s", ErrStopped, p.Blockers[0].Message)
	}
	if err := r.store.Free(ctx, p.Base.Place, r.holder); err != nil {
		return 0, fmt.Errorf("deploying to %s %s: %w", p.Base.Stage, p.Base.Target, err)
	}
	if err := r.checkFresh(ctx, p); err != nil {
		return 0, err
	}
	id, err := r.store.AddDeployment(ctx,
		store.Begin{PlanID: planID, Plan: p, Person: person, Holder: r.holder, Also: also})
	switch {
	case errors.Is(err, store.ErrSerial):
		return 0, fmt.Errorf("%w: %w; recompute the plan", ErrOutOfDate, err)
	case err != nil:
		return 0, fmt.Errorf("deploying to %s %s: %w", p.Base.Stage, p.Base.Target, err)
	}
	return id, nil
}

// Check reports whether a stored plan can still be executed.
func (r *Runner) Check(ctx context.Context, planID int64) error {
	kept, err := r.store.Plan(ctx, planID)
	if err != nil {
		return store.Missing(err, "plan %d", planID)
	}
	return r.checkFresh(ctx, kept.Plan)
}

// Retry requests the remaining steps of a deployment that did not succeed.
func (r *Runner) Retry(ctx context.Context, id int64, person string) error {
	d, err := r.store.Deployment(ctx, id)
	if err != nil {
		return store.Missing(err, "deployment %d", id)
	}
	if d.State != store.PartiallySucceeded && d.State != store.Failed {
		return fmt.Errorf("%w: it is %s", ErrNotOpen, d.State)
	}
	newest, err := r.store.Deployments(ctx, d.Service, d.Stage, 20)
	if err != nil {
		return err
	}
	for _, other := range newest {
		if other.ID > id && other.Target == d.Target {
			return fmt.Errorf("%w: deployment %d is newer; recompute the plan", ErrNotOpen, other.ID)
		}
	}
	return r.store.Reopen(ctx, d, person, r.holder)
}

// Cancel lets a running deployment finish the steps in flight and stop.
func (r *Runner) Cancel(ctx context.Context, id int64) error { return r.store.Cancel(ctx, id) }

// pickUpEvery is the interval of checks for deployments without a runner, besides notifications of new ones.
const pickUpEvery = time.Second

// Run executes deployments until the context ends: requested ones, and those whose runner was lost, in this
// process or one before. A deployment that Rudmar itself cannot continue, as with a full disk, is retried with
// growing pauses.
func (r *Runner) Run(ctx context.Context) {
	var group sync.WaitGroup
	defer group.Wait()
	wake, stop := r.store.Listen(store.Deployments)
	defer stop()
	tick := time.NewTicker(pickUpEvery)
	defer tick.Stop()
	for {
		list, err := r.store.RunningDeployments(ctx)
		if err != nil && ctx.Err() == nil {
			r.log.Error("looking for deployments to run", "error", err)
		}
		for _, d := range list {
			if !r.enter(d.ID) {
				continue
			}
			group.Go(func() {
				err := r.run(ctx, d.ID)
				if err != nil && ctx.Err() == nil {
					r.log.Error("running a deployment; it will be resumed", "deployment", d.ID, "error", err)
				}
				r.release(d.ID, err)
			})
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		case <-wake:
		}
	}
}

// enter starts a deployment, unless it is running or pausing.
func (r *Runner) enter(id int64) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.running[id] || r.rests.Resting(id) {
		return false
	}
	r.running[id] = true
	return true
}

func (r *Runner) release(id int64, err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	delete(r.running, id)
	r.rests.Ended(id, err)
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
	choice  *delivery.Choice             // selected functions; nil for all
	journal time.Duration                // duration of the writes so far
	// going ends on cancellation: a request without a response is not repeated then.
	going context.Context
}

// result is the outcome of a step that was sent.
type result struct {
	store.Outcome
	took time.Duration
	lost error // Rudmar ended in between: the outcome is unknown
}

// run executes a deployment to its end. The error is Rudmar's own: nothing could be written, or the place was
// taken over.
func (r *Runner) run(ctx context.Context, id int64) error {
	d, err := r.store.Deployment(ctx, id)
	if err != nil || d.State != store.Running { // it has ended since it was listed
		return err
	}
	kept, err := r.store.Plan(ctx, d.Plan)
	if err != nil {
		return err
	}
	lease, err := r.store.TakeLease(ctx, d.Place, r.holder, leaseLength)
	if err != nil {
		return err
	}
	x := &execution{Runner: r, id: d.ID, plan: kept.Plan, lease: lease}
	if err := x.prepare(ctx); err != nil {
		if ctx.Err() != nil || store.IsFault(err) {
			return err
		}
		d.State, d.Reason = store.Failed, err.Error()
		if platform.Transient(err) {
			d.Cause = store.CauseUnreachable
		}
		return r.store.EndDeployment(ctx, lease, d)
	}
	if err := r.store.StartDeployment(ctx, d); err != nil {
		return err
	}
	states, err := r.store.Steps(ctx, d.ID)
	if err != nil {
		return err
	}
	begun := time.Now()
	failure, cancelled, err := x.work(ctx, states)
	if err != nil {
		return err
	}
	r.log.Debug("a deployment ended", "deployment", d.ID, "steps", len(states), "took", time.Since(begun), "journal", x.journal)
	done := 0
	for _, s := range states {
		if s.State == store.StepSucceeded {
			done++
		}
	}
	switch {
	case done == len(states):
		d.State = store.Succeeded
	case done == 0:
		d.State = store.Failed
	default:
		d.State = store.PartiallySucceeded
	}
	switch {
	case cancelled:
		d.Reason = "cancelled"
	case failure.Step != nil:
		d.Reason = failure.Step.Address + ": " + failure.Error
		if failure.Unreachable {
			d.Cause = store.CauseUnreachable
		}
	}
	return r.store.EndDeployment(ctx, lease, d)
}

func (x *execution) prepare(ctx context.Context) error {
	place := x.plan.Base.Place
	var err error
	if x.client, x.scope, err = x.planner.Platform(place); err != nil {
		return err
	}
	kinds, err := RetryUnavailable(ctx, func() (api.Kinds, error) { return x.client.Kinds(ctx) })
	if err != nil {
		return err
	}
	wanted, _, err := x.planner.Wanted(ctx, place, x.plan.Base.Version, kinds)
	if err != nil {
		return err
	}
	if x.choice, err = x.store.Choice(ctx, place.Service, x.plan.Base.Version, place.Stage); err != nil {
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

// work executes all unfinished steps, in the order of their dependencies, and updates their states.
func (x *execution) work(ctx context.Context, states []store.Step) (failed store.Outcome, cancelled bool, err error) {
	results := make(chan result, plan.Parallelism)
	inFlight, pace := 0, newPace()
	renew, look := time.NewTicker(leaseLength/3), time.NewTicker(cancelledEvery)
	defer renew.Stop()
	defer look.Stop()
	var cancel context.CancelFunc
	x.going, cancel = context.WithCancel(ctx)
	defer cancel()
	queue := plan.NewQueue(x.plan.Steps, func(i int) bool { return states[i].State == store.StepSucceeded })
	var ended []store.Outcome
	var begun []store.Intent
	for i := range states { // the outcome of earlier requests must be known
		if states[i].State == store.StepRunning {
			begun = append(begun, x.intend(&states[i]))
		}
	}
	for {
		// Outcomes of steps are written together with the start of the next ones.
		for inFlight+len(begun) < pace.atOnce() && !cancelled && ctx.Err() == nil {
			i, ok := queue.Next()
			if !ok {
				break
			}
			if states[i].State != store.StepWaiting {
				continue
			}
			begun = append(begun, x.intend(&states[i]))
		}
		if len(ended)+len(begun) > 0 {
			at := time.Now()
			written, stop, lost := x.store.WriteSteps(ctx, x.lease, x.id, ended, begun)
			x.journal += time.Since(at)
			if stop {
				cancel()
			}
			if lost != nil { // steps with an unknown outcome are sent again at the next start
				err, stop = errors.Join(err, lost), true
			}
			begun, ended = written, nil
			cancelled = cancelled || stop
		}
		for _, b := range begun {
			inFlight++
			go func() { results <- x.step(ctx, b) }()
		}
		begun = nil
		if inFlight == 0 {
			if err != nil {
				return failed, false, err
			}
			return failed, cancelled, ctx.Err()
		}
		select {
		case <-look.C:
			cancelled = cancelled || x.isCancelled(ctx, cancel)
		case <-renew.C:
			if renewErr := x.store.RenewLease(ctx, x.lease, leaseLength); renewErr != nil && ctx.Err() == nil {
				x.log.Error("renewing a lease", "deployment", x.id, "error", renewErr)
			}
		case r := <-results:
			wait := time.After(gather)
			for more := true; more; {
				inFlight--
				pace.took(r.Step.Kind, r.took)
				switch {
				case r.lost != nil:
					err, cancelled = errors.Join(err, r.lost), true
					states[r.Step.Index].State = store.StepWaiting
				case r.Error != "":
					states[r.Step.Index].State = store.StepFailed
					failed = r.Outcome
					ended = append(ended, r.Outcome)
				default:
					states[r.Step.Index].State = store.StepSucceeded
					queue.Done(r.Step.Index)
					ended = append(ended, r.Outcome)
				}
				r, more = nextResult(results, inFlight > pace.atOnce()/2, wait)
			}
		}
	}
}

// stepInFlight marks a step that was sent and has no outcome yet. It is never stored.
const stepInFlight = "in-flight"

// intend returns the intent that is stored before a step is sent, and marks the step as in
// flight: nothing else happens to it until it has an outcome.
func (x *execution) intend(state *store.Step) store.Intent {
	again := state.State == store.StepRunning
	state.State = stepInFlight
	return store.Intent{Step: &x.plan.Steps[state.Step], Key: x.keyOf(*state), Again: again}
}

// nextResult returns one more result if there is one: at once, or while the platform has enough to do until the
// wait ends.
func nextResult(results <-chan result, busy bool, wait <-chan time.Time) (r result, more bool) {
	if busy {
		select {
		case r = <-results:
			return r, true
		case <-wait:
			return r, false
		}
	}
	select {
	case r = <-results:
		return r, true
	default:
		return r, false
	}
}

// isCancelled reports whether somebody has cancelled the deployment; then nothing is retried any more.
func (x *execution) isCancelled(ctx context.Context, cancel func()) bool {
	d, err := x.store.Deployment(ctx, x.id)
	if err != nil || !d.Cancelled {
		return false
	}
	cancel()
	return true
}

// keyOf returns the idempotency key of a step: a step that was sent before with an unknown outcome keeps its
// key.
func (x *execution) keyOf(state store.Step) string {
	if state.Key != "" {
		return state.Key
	}
	return fmt.Sprintf("%s-%d-%d", x.plan.Digest[7:19], x.id, state.Step)
}

// step sends one step, whose start is recorded.
func (x *execution) step(ctx context.Context, b store.Intent) result {
	out := result{Outcome: store.Outcome{Step: b.Step, Version: x.versionOf(b.Step)}}
	computed, err := retryFor(x.going, stepTimeout, func() (map[string]any, error) {
		at := time.Now()
		computed, err := x.send(ctx, b.Step, b.Key)
		out.took = time.Since(at)
		return computed, err
	})
	if ctx.Err() != nil {
		out.lost = ctx.Err() // the outcome is unknown: the step is sent again at the next start
		return out
	}
	out.Platform = computed
	if err != nil {
		out.Error, out.Unreachable = err.Error(), platform.Transient(err)
	}
	return out
}

// versionOf returns the version that a step's function is at once it is done.
func (x *execution) versionOf(s *plan.Step) int {
	return x.choice.Version(s.Function, x.plan.Base.Version)
}

func (x *execution) send(ctx context.Context, s *plan.Step, key string) (map[string]any, error) {
	switch {
	case s.RecordOnly:
		return nil, nil
	case s.Change == resource.Delete:
		return nil, x.client.Delete(ctx, x.scope, s.Address, platform.Change{Key: key, Match: s.Tag, Fence: x.lease.Fence})
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
	r, err := x.client.Put(ctx, x.scope, s.Address,
		platform.Change{Key: key, Match: s.Tag, Fence: x.lease.Fence, Attributes: s.Want, Secrets: x.secrets[s.Address],
			Version: x.versionOf(s), RenamedFrom: s.RenamedFrom, Replace: s.Change == resource.Replace})
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

// RetryUnavailable retries for a while if a platform does not respond, or reports an error of its own.
func RetryUnavailable[T any](ctx context.Context, do func() (T, error)) (T, error) {
	return retryFor(ctx, patience, do)
}

func retryFor[T any](ctx context.Context, most time.Duration, do func() (T, error)) (T, error) {
	pace := backoff.NewExponentialBackOff()
	pace.InitialInterval, pace.MaxInterval = 100*time.Millisecond, 2*time.Second
	var last error
	v, err := backoff.Retry(ctx, func() (T, error) {
		var v T
		if v, last = do(); last != nil && !platform.Transient(last) {
			return v, backoff.Permanent(last)
		}
		return v, last
	}, backoff.WithBackOff(pace), backoff.WithMaxElapsedTime(most))
	if err != nil && last != nil {
		err = last // the reason for the retry, not for its end
	}
	return v, err
}
