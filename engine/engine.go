// Package engine puts together what runs: repositories, builds, plans,
// deployments, deliveries and looks, over one store.
package engine

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"path/filepath"
	"sync"
	"time"

	"rudmar/cage"
	"rudmar/engine/build"
	"rudmar/engine/check"
	"rudmar/engine/deliver"
	"rudmar/engine/deploy"
	"rudmar/engine/events"
	"rudmar/engine/observe"
	"rudmar/engine/people"
	"rudmar/engine/source"
	"rudmar/engine/store"
	"rudmar/platform"
)

// Options is how the engine runs.
type Options struct {
	Dir       string                      // of all data
	Self      string                      // the program that git's hooks run
	Platforms map[string]*platform.Client // by name
	LookEvery time.Duration               // at what is live; default 3 seconds
	// BuildsUncaged lets the commands of builds run where they cannot be shut in.
	BuildsUncaged bool
	// Registries are the hosts that builds may fetch from, beside those that the
	// machine's tools are set to.
	Registries []string
	Log        *slog.Logger
	Now        func() time.Time
}

// Engine is everything that runs.
type Engine struct {
	Store   *store.Store
	Events  *events.Hub
	People  *people.Directory
	Host    *source.Host
	Build   *build.Builder
	Planner *deploy.Planner
	Checks  *check.Checker
	Runner  *deploy.Runner
	Line    *deliver.Line
	Watch   *observe.Watch

	cages   *cage.Keeper
	cancel  context.CancelFunc
	running sync.WaitGroup
}

// Open opens the data folder, goes on with what was left unfinished, and
// starts what runs by itself. Close ends it.
func Open(ctx context.Context, o Options) (*Engine, error) {
	if o.LookEvery == 0 {
		o.LookEvery = 3 * time.Second
	}
	if o.Now == nil {
		o.Now = time.Now
	}
	if o.Log == nil {
		o.Log = slog.Default()
	}
	s, err := store.Open(ctx, o.Dir, o.Now)
	if err != nil {
		return nil, err
	}
	e := &Engine{Store: s, Events: events.NewHub(s, o.Log)}
	ctx, e.cancel = context.WithCancel(context.WithoutCancel(ctx))
	if err := e.assemble(ctx, o); err != nil {
		e.cancel()
		return nil, errors.Join(err, s.Close())
	}
	for _, work := range []func(context.Context){e.Build.Run, e.Line.Run, e.Watch.Run} {
		e.running.Add(1)
		go func() {
			defer e.running.Done()
			work(ctx)
		}()
	}
	return e, nil
}

func (e *Engine) assemble(ctx context.Context, o Options) error {
	var err error
	if e.People, err = people.Open(e.Store, o.Dir); err != nil {
		return err
	}
	if e.Host, err = source.NewHost(filepath.Join(o.Dir, "repositories"), o.Self, e.authenticate, e.pushed(o.Log)); err != nil {
		return err
	}
	e.Checks = check.New(o.Platforms, o.Now, o.Log)
	e.Planner = deploy.NewPlanner(e.Store, o.Platforms, e.People.Secrets, e.People.FingerprintKey())
	e.Line = deliver.New(deliver.Config{Store: e.Store, Planner: e.Planner, People: e.People, Events: e.Events, Log: o.Log})
	if e.cages, err = cage.Open(cage.Config{Dir: filepath.Join(o.Dir, "cage"), Log: o.Log}); err != nil {
		return err
	}
	if e.Build, err = build.New(build.Config{
		Cages: e.cages, Uncaged: o.BuildsUncaged, Registries: o.Registries,
		Store: e.Store, Repository: e.Host.Repository, Offers: e.Checks.Offers, Dir: filepath.Join(o.Dir, "artifacts"), Events: e.Events, Log: o.Log, Built: e.Line.Built,
	}); err != nil {
		return err
	}
	archives := func(digest string) ([]byte, error) {
		archive, _, err := e.Build.Archive(digest)
		return archive, err
	}
	e.Watch = observe.New(observe.Config{Store: e.Store, Planner: e.Planner, Events: e.Events, Log: o.Log, Every: o.LookEvery})
	e.Runner = deploy.NewRunner(ctx, deploy.RunnerConfig{Store: e.Store, Planner: e.Planner, Archives: archives, Events: e.Events, Log: o.Log, Ended: func(ctx context.Context, d store.Deployment) {
		e.Line.Ended(ctx, d)
		e.Watch.Nudge()
	}})
	e.Line.Connect(e.Runner)
	return errors.Join(e.Runner.Resume(ctx), e.catchUp(ctx))
}

// catchUp takes pushes that came in while nobody could look at them.
func (e *Engine) catchUp(ctx context.Context) error {
	names, err := e.Store.Repositories(ctx)
	if err != nil {
		return err
	}
	for _, name := range names {
		if err := errors.Join(e.Host.Create(ctx, name), e.Build.Pushed(ctx, name, "")); err != nil {
			return fmt.Errorf("looking at the repository %s: %w", name, err)
		}
	}
	return nil
}

// authenticate tells who talks to git over HTTP.
func (e *Engine) authenticate(r *http.Request) (string, bool, error) {
	handle, password, ok := r.BasicAuth()
	if !ok {
		return "", false, errors.New("sign in with your handle and password")
	}
	p, err := e.People.Check(r.Context(), handle, password)
	return p.Handle, err == nil && people.May(p, people.Write) == nil, err
}

func (e *Engine) pushed(log *slog.Logger) func(ctx context.Context, repository, handle string) {
	return func(ctx context.Context, repository, handle string) {
		if err := e.Build.Pushed(ctx, repository, handle); err != nil {
			log.Error("taking a push", "repository", repository, "error", err)
		}
	}
}

// CreateRepository makes a repository that people can push to.
func (e *Engine) CreateRepository(ctx context.Context, name string) error {
	return errors.Join(e.Store.AddRepository(ctx, name), e.Host.Create(ctx, name))
}

// Close ends what runs and closes the store. Deployments that are on their way
// go on at the next start.
func (e *Engine) Close() error {
	e.cancel()
	e.running.Wait()
	e.Runner.Wait()
	e.cages.Close()
	return e.Store.Close()
}
