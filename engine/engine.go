// Package engine connects the parts of Rudmar on one store: repositories, builds, plans,
// deployments, deliveries and observations.
package engine

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/gofrs/flock"
	"golang.org/x/sync/singleflight"

	"rudmar/cage"
	"rudmar/core/rights"
	"rudmar/datadir"
	"rudmar/engine/branches"
	"rudmar/engine/build"
	"rudmar/engine/calendars"
	"rudmar/engine/check"
	"rudmar/engine/copies"
	"rudmar/engine/deliver"
	"rudmar/engine/deploy"
	"rudmar/engine/mirror"
	"rudmar/engine/notice"
	"rudmar/engine/observe"
	"rudmar/engine/people"
	"rudmar/engine/source"
	"rudmar/engine/store"
	"rudmar/platform"
)

// Options is how the engine runs.
type Options struct {
	Dir          string                      // folder of all data
	Self         string                      // the program that git's hooks run
	Platforms    map[string]*platform.Client // by name
	ObserveEvery time.Duration               // interval of reads of the actual state; default 3 seconds
	Page         string                      // the address of the page, shown to people who push; "" if there is none
	// BuildsUncaged runs the commands of builds even if they cannot be isolated.
	BuildsUncaged bool
	// Registries are the hosts that builds can fetch from, besides those in the configuration of the machine's
	// tools.
	Registries []string
	// NewKeys creates new keys if the keys that encrypt secrets and sign versions are lost; secrets have to be
	// set again then.
	NewKeys bool
	// TrustedProxies are the networks of proxies whose X-Forwarded-For header names callers.
	TrustedProxies []netip.Prefix
	// NotificationsInside allows notifications to this machine and to private networks.
	NotificationsInside bool
	Mail                notice.Mail // the mail server of notifications
	Keep                Keep        // retention of old data
	Log                 *slog.Logger
	Now                 func() time.Time
}

// The folders of archives and of repositories in the data folder.
const (
	artifactsFolder    = "artifacts"
	repositoriesFolder = "repositories"
)

// Engine is everything that runs.
type Engine struct {
	Store         *store.Store
	People        *people.Directory
	Host          *source.Host
	Build         *build.Builder
	Planner       *deploy.Planner
	Checks        *check.Checker
	Runner        *deploy.Runner
	Line          *deliver.StageLine
	Watch         *observe.Watch
	Copies        *copies.Keeper
	Notifications *notice.Sender
	Calendars     *calendars.Reader
	Branches      *branches.Planner
	Mirrors       *mirror.Follower

	dir     string
	keep    Keep
	lock    *flock.Flock // of the data folder
	needing singleflight.Group
	cages   *cage.Keeper
	log     *slog.Logger
	cancel  context.CancelFunc
	running sync.WaitGroup
}

// Open opens the data folder, resumes unfinished work, and starts the background loops. Close ends it.
func Open(ctx context.Context, o Options) (*Engine, error) {
	if o.ObserveEvery == 0 {
		o.ObserveEvery = 3 * time.Second
	}
	if o.Now == nil {
		o.Now = time.Now
	}
	if o.Log == nil {
		o.Log = slog.Default()
	}
	var err error
	if o.Dir, err = filepath.Abs(o.Dir); err != nil { // commands that run in other folders receive the absolute path
		return nil, fmt.Errorf("finding the data folder: %w", err)
	}
	lock, err := own(ctx, o.Dir)
	if err != nil {
		return nil, err
	}
	s, err := store.Open(ctx, o.Dir, o.Now)
	if err != nil {
		return nil, errors.Join(err, lock.Unlock())
	}
	e := &Engine{Store: s, dir: o.Dir, keep: o.Keep, lock: lock, log: o.Log}
	ctx, e.cancel = context.WithCancel(context.WithoutCancel(ctx))
	if err := e.assemble(ctx, o); err != nil {
		e.cancel()
		return nil, errors.Join(err, s.Close(), lock.Unlock())
	}
	for _, work := range []func(context.Context){e.Build.Run, e.Runner.Run, e.Line.Run, e.Watch.Run, e.Copies.Run,
		e.Notifications.Run, e.Calendars.Run, e.Branches.Run, e.Mirrors.Run, e.reconcileLoop, e.pruneLoop} {
		e.running.Go(func() { work(ctx) })
	}
	return e, nil
}

// LockFile is the file of the lock that a process has on its data folder.
const LockFile = "rudmar.lock"

// ErrTaken reports that another Rudmar has a data folder.
var ErrTaken = errors.New("another Rudmar uses this data folder; stop it first, or use another folder")

// own locks a data folder for this process, until it ends.
func own(ctx context.Context, dir string) (*flock.Flock, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("creating the data folder: %w", err)
	}
	lock, err := datadir.Take(ctx, filepath.Join(dir, LockFile))
	if errors.Is(err, datadir.ErrHeld) {
		return nil, fmt.Errorf("%w: %s", ErrTaken, dir)
	}
	if err != nil {
		return nil, fmt.Errorf("locking the data folder: %w", err)
	}
	return lock, nil
}

// newKeys reports which keys can be created again: those of an installation without data that needs the former
// one, and all if the operator says so. Values that were encrypted with a lost key are deleted then.
func (e *Engine) newKeys(ctx context.Context, o Options) (seal, signing bool, err error) {
	secrets, err := e.Store.HasSecrets(ctx)
	if err != nil {
		return false, false, err
	}
	versions, err := e.Store.HasVersions(ctx)
	if err != nil {
		return false, false, err
	}
	if o.NewKeys && secrets && !people.HasKey(o.Dir) {
		err = e.Store.ClearSecrets(ctx)
	}
	return !secrets || o.NewKeys, !versions || o.NewKeys, err
}

func (e *Engine) assemble(ctx context.Context, o Options) error {
	var err error
	newSeal, newSigning, err := e.newKeys(ctx, o)
	if err != nil {
		return err
	}
	if e.People, err = people.Open(e.Store, o.Dir, newSeal, people.Behind(o.TrustedProxies)); err != nil {
		return err
	}
	if e.Host, err = source.NewHost(filepath.Join(o.Dir, repositoriesFolder), o.Self, e.authenticate,
		e.pushed(o.Log)); err != nil {
		return err
	}
	e.Host.TellHooks(HookData, o.Dir)
	e.Host.TellHooks(HookPage, o.Page)
	e.Host.TellHooks(HookPlatforms, strings.Join(slices.Sorted(maps.Keys(o.Platforms)), ","))
	e.Checks = check.New(o.Platforms, o.Now, o.Log)
	e.Planner = deploy.NewPlanner(e.Store, o.Platforms, e.People.Secrets, e.People.FingerprintKey())
	if e.cages, err = cage.Open(cage.Config{Dir: filepath.Join(o.Dir, "cage"), Log: o.Log}); err != nil {
		return err
	}
	if e.Build, err = build.New(build.Config{
		Cages: e.cages, Uncaged: o.BuildsUncaged, Registries: o.Registries,
		Store: e.Store, Repository: e.Host.Repository, Offers: e.Checks.Offers, Dir: filepath.Join(o.Dir, artifactsFolder),
		Log: o.Log, Stages: e.Planner.Stages, NewKey: newSigning,
	}); err != nil {
		return err
	}
	archives := func(digest string) ([]byte, error) {
		archive, _, err := e.Build.Archive(digest)
		return archive, err
	}
	e.Watch = observe.New(observe.Config{Store: e.Store, Planner: e.Planner, Log: o.Log, Every: o.ObserveEvery})
	e.Runner = deploy.NewRunner(deploy.RunnerConfig{Store: e.Store, Planner: e.Planner, Archives: archives, Log: o.Log})
	e.Calendars = calendars.New(e.Store, o.NotificationsInside, o.Log)
	e.Line = deliver.New(deliver.Config{Store: e.Store, Planner: e.Planner, Runner: e.Runner, People: e.People,
		Calendar: e.Calendars.Get,
		Log:      o.Log, Repository: e.Host.Repository})
	e.Copies = copies.New(copies.Config{Store: e.Store, Build: e.Build, Runner: e.Runner, Planner: e.Planner, Line: e.Line,
		Check: e.Checks.Check, Log: o.Log})
	e.Branches = branches.New(branches.Config{Store: e.Store, Planner: e.Planner, Repository: e.Host.Repository,
		Check: e.Checks.Check, Log: o.Log})
	e.Mirrors = mirror.New(mirror.Config{Store: e.Store, Sealer: e.People, Repository: e.Host.Repository,
		Checks: e.hookOf, Pushed: e.Build.Pushed, Inside: o.NotificationsInside, Log: o.Log})
	e.Notifications = notice.New(notice.Config{Store: e.Store, Sealer: e.People, Log: o.Log, Inside: o.NotificationsInside,
		Mail: o.Mail})
	return e.Store.DropLeases(ctx) // of a process that has ended
}

// The environment of git's hooks: the data folder, the page's address, and the platforms' names.
const (
	HookData      = "RUDMAR_HOOK_DATA"
	HookPage      = "RUDMAR_HOOK_PAGE"
	HookPlatforms = "RUDMAR_HOOK_PLATFORMS"
)

// BuildOutcome returns the result of a branch of a repository that was moved to a commit, for a hook after a push.
// Another branch with the same commit has its own result.
func BuildOutcome(s *store.Store, repository string) func(ctx context.Context,
	branch string, m source.Move) ([]source.PushOutcome, bool, bool, error) {
	return func(ctx context.Context, branch string, m source.Move) (list []source.PushOutcome, noted, done bool,
		err error) {
		noted, err = s.MoveRecorded(ctx, repository, branch, m.Before, m.After)
		if err != nil {
			return nil, false, false, err
		}
		services, err := s.ServicesOf(ctx, repository)
		if err != nil || !noted {
			return nil, noted, false, err
		}
		done = true
		for _, service := range services {
			b, err := s.BuildFrom(ctx, service.Name, branch, m.After)
			if errors.Is(err, store.ErrNotFound) {
				continue
			}
			if err != nil {
				return nil, noted, false, err
			}
			became := source.PushOutcome{Service: service.Name, Version: b.Version, Reason: b.Reason}
			if b.State == store.BuildQueued {
				done = false
			}
			if b.State == store.BuildSucceeded {
				rows, err := s.DeliveriesOf(ctx, service.Name, b.Version)
				if err != nil {
					return nil, noted, false, err
				}
				for _, d := range rows {
					if d.Removes {
						became.Leaves = append(became.Leaves, d.Stage)
						continue
					}
					became.Stages = append(became.Stages, d.Stage)
				}
				done = done && len(rows) > 0
			}
			list = append(list, became)
		}
		return list, noted, done, nil
	}
}

// authenticate returns the user of a git request over HTTP.
func (e *Engine) authenticate(r *http.Request) (source.Visitor, error) {
	username, password, ok := r.BasicAuth()
	if !ok {
		return source.Visitor{}, errors.New("sign in with your username and password")
	}
	p, err := e.People.Enter(r.Context(), username, password, e.People.From(r))
	if err != nil {
		return source.Visitor{}, err
	}
	return source.Visitor{Username: p.Username,
		MayRead: func(repository string) error { return e.MayRead(r.Context(), p, repository) },
		MayPush: func(repository string) (source.Writes, error) { return e.mayPush(r.Context(), p, repository) }}, nil
}

// MayRead returns why somebody cannot read a repository. Git serves a repository as a whole: whoever can view one of
// its services can read it; a token needs the right in all of them.
func (e *Engine) MayRead(ctx context.Context, p store.Person, repository string) error {
	inRepository := deliver.MayIn(p, rights.View, rights.Scope{Repository: repository})
	if inRepository == nil {
		return nil
	}
	services, err := e.Store.ServicesOf(ctx, repository)
	if err != nil {
		return err
	}
	last := inRepository
	for _, s := range services {
		err := deliver.May(p, rights.View, s.Name, "")
		if err != nil && p.Token != nil {
			return err
		}
		if err == nil && p.Token == nil {
			return nil
		}
		last = err
	}
	return last
}

// mayPush returns what somebody can change in a repository: the folders of services in which they have the right to
// write, or everything with the right in the repository.
func (e *Engine) mayPush(ctx context.Context, p store.Person, repository string) (source.Writes, error) {
	if err := e.isOwn(ctx, repository); err != nil {
		return source.Writes{}, err
	}
	out, err := e.writesOf(ctx, p, repository)
	if err == nil && out.Nothing() {
		err = deliver.MayIn(p, rights.Write, rights.Scope{Repository: repository})
		err = errors.Join(err, e.Store.Note(ctx, store.Entry{Person: p.Username, What: "denied",
			Text: "pushing to " + repository}))
	}
	return out, err
}

// writesOf returns what somebody can change in a repository.
func (e *Engine) writesOf(ctx context.Context, p store.Person, repository string) (source.Writes, error) {
	out := source.Writes{Known: map[string]string{},
		Everything: deliver.MayIn(p, rights.Write, rights.Scope{Repository: repository}) == nil}
	services, err := e.Store.ServicesOf(ctx, repository)
	for _, s := range services {
		out.Known[s.Name] = s.Dir
		if deliver.May(p, rights.Write, s.Name, "") == nil {
			out.Services = append(out.Services, s.Name)
		}
	}
	return out, err
}

// ErrMirrored reports that a repository is a mirror, which only its remote changes.
var ErrMirrored = errors.New("this repository is a mirror; push to the original")

// isOwn reports whether a repository follows no other; the error wraps ErrMirrored.
func (e *Engine) isOwn(ctx context.Context, repository string) error {
	m, err := e.Store.Mirror(ctx, repository)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err == nil {
		err = fmt.Errorf("%w: %s", ErrMirrored, m.URL)
	}
	return err
}

// hookOf returns the checks of pushes to a repository, and of fetches of a mirror.
func (e *Engine) hookOf(ctx context.Context, repository string) source.Hook {
	return source.Hook{Repository: repository, Offers: e.Checks.Offers(ctx),
		Owner: OwnerOf(e.Store)}
}

// OwnerOf returns the repository of a service, for a hook before a push; "" for none.
func OwnerOf(s *store.Store) func(ctx context.Context, service string) (string, error) {
	return func(ctx context.Context, service string) (string, error) {
		found, err := s.Service(ctx, service)
		if errors.Is(err, store.ErrNotFound) {
			return "", nil
		}
		return found.Repository, err
	}
}

func (e *Engine) pushed(log *slog.Logger) func(ctx context.Context, repository, username string) {
	return func(ctx context.Context, repository, username string) {
		if err := e.Build.Pushed(ctx, repository, username); err != nil {
			log.Error("processing a push", "repository", repository, "error", err)
		}
	}
}

// CreateRepository creates a repository.
func (e *Engine) CreateRepository(ctx context.Context, name, by string) error {
	return errors.Join(e.Store.AddRepository(ctx, name, by), e.Host.Create(ctx, name))
}

// DeleteRepository deletes a repository without services, with its whole history. The error is store.ErrInUse
// if it has services.
func (e *Engine) DeleteRepository(ctx context.Context, name, by string) error {
	if err := e.Store.DeleteRepository(ctx, name, by); err != nil {
		return fmt.Errorf("deleting the repository %s: %w", name, err)
	}
	return e.Host.Remove(name)
}

// Close ends the background loops and closes the store. Deployments in progress continue at the next start.
func (e *Engine) Close() error {
	e.cancel()
	e.running.Wait()
	e.cages.Close()
	return errors.Join(e.Store.Close(), e.lock.Unlock())
}
