// Package copies keeps private copies of a service's first stage in sync with the uncommitted
// files of a user. A copy has its own data and routes, in a scope that no version enters.
package copies

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"sync"
	"time"

	"rudmar/core/check"
	"rudmar/core/manifest"
	"rudmar/core/resource"
	"rudmar/core/rights"
	"rudmar/engine/build"
	"rudmar/engine/deliver"
	"rudmar/engine/deploy"
	"rudmar/engine/source"
	"rudmar/engine/store"
	"rudmar/platform"
	"rudmar/platform/api"
)

// Errors of copies.
var (
	// ErrBase reports that the server does not have the folder on which a change is based.
	ErrBase = errors.New("the folder's previous state is unknown; send all files")
	// ErrFolder reports that a folder cannot be deployed as a copy.
	ErrFolder = errors.New("this folder cannot be deployed")
)

// Limits of copies.
const (
	// IdleFor is how long an unused copy is kept.
	IdleFor = 30 * time.Minute
	// OpenFor is how long the owner can open a copy's routes, and TokenFor how long a token for them is valid.
	OpenFor   = time.Hour
	TokenFor  = 12 * time.Hour
	lookEvery = time.Minute
	mostBytes = 50 << 20 // of a folder
)

// Keeper manages all copies. Its methods can be called concurrently.
type Keeper struct {
	store   *store.Store
	build   *build.Builder
	runner  *deploy.Runner
	planner *deploy.Planner
	line    *deliver.StageLine
	check   Check
	log     *slog.Logger

	mu sync.Mutex
	of map[key]*folder
}

// Check checks a service's folder.
type Check func(ctx context.Context, service string, folder manifest.Folder) check.Result

type key struct{ service, username string }

// folder is the last deployed folder of a copy.
type folder struct {
	mu        sync.Mutex // held while the copy is updated
	files     map[string]source.Content
	digest    string
	service   *manifest.Service
	artifacts map[string]string
	packed    map[string]bool // digests of its archives
	secrets   bool            // it has the stage's secrets
	token     string
	tokenEnds time.Time
}

// Config has the dependencies of a keeper.
type Config struct {
	Store   *store.Store
	Build   *build.Builder
	Runner  *deploy.Runner
	Planner *deploy.Planner
	Line    *deliver.StageLine
	Check   Check
	Log     *slog.Logger
}

// New creates a keeper.
func New(c Config) *Keeper {
	return &Keeper{store: c.Store, build: c.Build, runner: c.Runner, planner: c.Planner, line: c.Line, check: c.Check,
		log: c.Log, of: map[key]*folder{}}
}

func (k *Keeper) folder(service, username string) *folder {
	k.mu.Lock()
	defer k.mu.Unlock()
	f := k.of[key{service, username}]
	if f == nil {
		f = &folder{files: map[string]source.Content{}, packed: map[string]bool{}}
		k.of[key{service, username}] = f
	}
	return f
}

// Change is the difference of a folder from the one before.
type Change struct {
	// Base is the digest of the folder on which the change is based; "" for a whole folder.
	Base  string
	Files map[string]*source.Content // nil for a deleted file
	// Open opens the routes to those that the manifests name, for OpenFor; Close closes them before. Otherwise only the
	// owner can call them.
	Open, Close bool
	NewToken    bool // requests another token for the routes
}

// Outcome is the outcome of a change.
type Outcome struct {
	Digest string // of the current folder
	Result check.Result
	Stage  string
	Target string
	Notes  []string // differences from the stage
	// Packed lists the functions with new archives; Steps the executed steps, as change and address.
	Packed, Steps          []string
	Checking, Packing, Ran time.Duration
	Log                    string // output of the build commands
	// Token is a bearer token with which the owner calls the routes, for TokenFor.
	Token     string
	OpenUntil time.Time // zero if only the owner can call the routes
}

// Put updates somebody's copy from a folder. If the folder has errors the copy stays unchanged, and the outcome
// lists them.
func (k *Keeper) Put(ctx context.Context, service string, p store.Person, c Change) (Outcome, error) {
	if err := deliver.May(p, rights.Write, service, ""); err != nil {
		return Outcome{}, err
	}
	f := k.folder(service, p.Username)
	f.mu.Lock()
	defer f.mu.Unlock()
	files := map[string]source.Content{}
	if c.Base != "" {
		if c.Base != f.digest {
			return Outcome{}, ErrBase
		}
		files = maps.Clone(f.files)
	}
	total := 0
	for name, content := range c.Files {
		if content == nil {
			delete(files, name)
			continue
		}
		files[name] = *content
	}
	for _, content := range files {
		if total += len(content.Bytes); total > mostBytes {
			return Outcome{}, fmt.Errorf("%w: it has more than %d MiB", ErrFolder, mostBytes>>20)
		}
	}
	begun := time.Now()
	tree := source.Loose(files)
	out := Outcome{Digest: digestOf(tree), Result: k.check(ctx, service+"~"+p.Username, tree)}
	out.Checking = time.Since(begun)
	f.files, f.digest = files, out.Digest
	if !out.Result.OK() || out.Result.Service == nil {
		return out, nil
	}
	if err := k.step(ctx, f, service, p, tree, c, &out); err != nil {
		return out, err
	}
	return out, nil
}

// firstStage returns the first stage of a service, and its target, as they are settled, and whether they are: never
// from a folder, whose author need not have a right in the stage that it names. Only before the first version is
// settled the folder names them.
func (k *Keeper) firstStage(ctx context.Context, service string, folder *manifest.Service) (at manifest.Place,
	settled bool, err error) {
	standing, err := k.store.Standing(ctx, service)
	if err != nil {
		return at, false, err
	}
	for _, version := range slices.Backward(slices.Sorted(maps.Values(standing))) {
		own, _, err := k.planner.Service(ctx, service, version)
		if err != nil {
			return at, false, err
		}
		for _, stage := range own.Stages {
			if standing[stage.Name] == 0 {
				continue
			}
			there, _, err := k.planner.Service(ctx, service, standing[stage.Name])
			if err != nil {
				return at, false, err
			}
			if s := there.Stage(stage.Name); s != nil && len(s.Targets) > 0 {
				return manifest.Place{Service: service, Stage: stage.Name, Target: s.Targets[0]}, true, nil
			}
		}
	}
	if len(folder.Stages) == 0 || len(folder.Stages[0].Targets) == 0 {
		return at, false, fmt.Errorf("%w: its service has no stage", ErrFolder)
	}
	first := folder.Stages[0]
	return manifest.Place{Service: service, Stage: first.Name, Target: first.Targets[0]}, false, nil
}

// step packs the changed functions, and updates the copy.
func (k *Keeper) step(ctx context.Context, f *folder, service string, p store.Person, tree *source.Folder,
	c Change, out *Outcome) error {
	own := out.Result.Service
	switch {
	case own.Name != service:
		return fmt.Errorf("%w: it contains the service %s, not %s", ErrFolder, own.Name, service)
	}
	place, settled, err := k.firstStage(ctx, service, own)
	if err != nil {
		return err
	}
	if own.Stage(place.Stage) == nil {
		return fmt.Errorf("%w: it does not declare %s, the first stage of %s", ErrFolder, place.Stage, service)
	}
	out.Stage, out.Target = place.Stage, place.Target.String()
	begun := time.Now()
	artifacts := map[string]string{}
	for _, fn := range own.Functions {
		packed, err := k.build.Pack(ctx, tree, fn, func(text string) { out.Log += text })
		if err != nil {
			return fmt.Errorf("%w: packing %s: %w", ErrFolder, fn.Name, err)
		}
		artifacts[fn.Name] = packed.Digest
		if packed.Made {
			f.packed[packed.Digest] = true
		}
		if f.artifacts[fn.Name] != packed.Digest {
			out.Packed = append(out.Packed, fn.Name)
		}
	}
	out.Packing, begun = time.Since(begun), time.Now()
	if err := k.store.PutCopy(ctx, store.Copy{Place: place, Username: p.Username}); err != nil {
		return err
	}
	copied, err := k.store.Copy(ctx, service, p.Username)
	if err != nil {
		return err
	}
	if c.Open {
		out.OpenUntil = k.store.Now().Add(OpenFor)
	} else if !c.Close && k.store.Now().Before(copied.OpenUntil) {
		out.OpenUntil = copied.OpenUntil
	}
	if err := k.store.OpenCopy(ctx, copied, out.OpenUntil); err != nil { // first: what is open is closed at its time
		return err
	}
	maySecrets := deliver.May(p, rights.UseSecrets, service, place.Stage) == nil
	if !settled { // the folder names the stage
		maySecrets = deliver.May(p, rights.Administer, service, "") == nil
	}
	if len(own.Secrets) > 0 && !maySecrets {
		out.Notes = append(out.Notes, "secrets are placeholders in this copy: you have no right to use-secrets in "+place.Stage)
	}
	private := deploy.Private{Place: place, Owner: p.Username, Service: own, Artifacts: artifacts, Secrets: maySecrets,
		Open: !out.OpenUntil.IsZero()}
	steps, err := k.runner.Privately(ctx, private)
	out.Ran = time.Since(begun)
	for _, s := range steps {
		out.Steps = append(out.Steps, string(s.Change)+" "+s.Address)
	}
	if err != nil {
		return err
	}
	f.service, f.artifacts, f.secrets = own, artifacts, maySecrets
	out.Token, err = k.token(ctx, f, private, c.NewToken)
	return err
}

// token returns the token with which the owner of a copy calls its routes.
func (k *Keeper) token(ctx context.Context, f *folder, c deploy.Private, another bool) (string, error) {
	if f.token != "" && !another && k.store.Now().Before(f.tokenEnds) {
		return f.token, nil
	}
	client, _, err := k.planner.Platform(c.Place)
	if err != nil {
		return "", err
	}
	token, err := client.CreateCaller(ctx, c.Scope(), platform.Caller{Purpose: api.Manual,
		Groups: []string{c.OwnerGroup()}, For: TokenFor})
	if err != nil {
		return "", fmt.Errorf("creating a token for the copy's routes: %w", err)
	}
	f.token, f.tokenEnds = token, k.store.Now().Add(TokenFor-time.Hour)
	return token, nil
}

// closeRoutes closes the routes of a copy whose time has passed. A copy whose folder is not known any more, because the
// server was started again, is removed.
func (k *Keeper) closeRoutes(ctx context.Context, c store.Copy) error {
	f := k.folder(c.Service, c.Username)
	f.mu.Lock()
	service, artifacts := f.service, f.artifacts
	if service == nil {
		f.mu.Unlock()
		return k.Remove(ctx, c.Service, c.Username, "", "its routes were open, and the server was started again")
	}
	defer f.mu.Unlock()
	if _, err := k.runner.Privately(ctx, deploy.Private{Place: c.Place, Owner: c.Username, Service: service,
		Artifacts: artifacts, Secrets: f.secrets}); err != nil {
		return err
	}
	return k.store.OpenCopy(ctx, c, time.Time{})
}

// digestOf returns the digest of a folder's content.
func digestOf(tree *source.Folder) string {
	var text []byte
	for _, f := range tree.Listed() {
		text = fmt.Appendf(text, "%v %s %s\n", f.Executable, f.Blob, f.Path)
	}
	return source.BlobName(text)
}

// Private returns the plan inputs of somebody's copy, and its service as it was last updated; store.ErrNotFound
// if they have none.
func (k *Keeper) Private(ctx context.Context, service, username string) (deploy.Private, error) {
	c, err := k.store.Copy(ctx, service, username)
	if err != nil {
		return deploy.Private{}, err
	}
	f := k.folder(service, username)
	f.mu.Lock()
	defer f.mu.Unlock()
	return deploy.Private{Place: c.Place, Owner: username, Service: f.service}, k.store.PutCopy(ctx, c)
}

// Remove deletes somebody's copy, with its data.
func (k *Keeper) Remove(ctx context.Context, service, username, by, why string) error {
	c, err := k.store.Copy(ctx, service, username)
	if err != nil {
		return err
	}
	f := k.folder(service, username)
	f.mu.Lock()
	defer f.mu.Unlock()
	private := deploy.Private{Place: c.Place, Owner: username}
	if _, err := k.runner.Privately(ctx, private); err != nil { // without resources
		return err
	}
	client, _, err := k.planner.Platform(c.Place)
	if err != nil {
		return err
	}
	if _, err := deploy.RetryUnavailable(ctx, func() (any, error) {
		return nil, client.DeleteScope(ctx, private.Scope())
	}); err != nil {
		return fmt.Errorf("deleting the copy's data: %w", err)
	}
	if err := k.store.DropCopy(ctx, c, by, why); err != nil {
		return err
	}
	err = k.build.DeleteUnreferenced(ctx, slices.Collect(maps.Keys(f.packed)))
	f.files, f.digest, f.service, f.artifacts = map[string]source.Content{}, "", nil, nil
	f.packed, f.token = map[string]bool{}, ""
	return err
}

// Run removes unused copies, until the context ends.
func (k *Keeper) Run(ctx context.Context) {
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	for {
		if err := k.Sweep(ctx); err != nil && ctx.Err() == nil {
			k.log.Error("deleting private copies", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// Sweep removes copies that nobody has used for IdleFor, and those of people without the right. An error with
// one does not affect others.
func (k *Keeper) Sweep(ctx context.Context) error {
	list, err := k.store.Copies(ctx)
	if err != nil {
		return err
	}
	var errs error
	for _, c := range list {
		p, err := k.store.Person(ctx, c.Username)
		why := ""
		switch {
		case err != nil && !errors.Is(err, store.ErrNotFound):
			errs = errors.Join(errs, err)
			continue
		case err != nil || p.Closed || deliver.May(p, rights.Write, c.Service, "") != nil:
			why = "its owner no longer has the right to it"
		case k.store.Now().Sub(c.Used) > IdleFor:
			why = fmt.Sprintf("unused for %s", IdleFor)
		case !c.OpenUntil.IsZero() && !k.store.Now().Before(c.OpenUntil):
			if err := k.closeRoutes(ctx, c); err != nil {
				errs = errors.Join(errs, fmt.Errorf("closing the routes of the copy of %s in %s: %w", c.Username, c.Service, err))
			}
			continue
		default:
			continue
		}
		if err := k.Remove(ctx, c.Service, c.Username, "", why); err != nil {
			errs = errors.Join(errs, fmt.Errorf("the copy of %s in %s: %w", c.Username, c.Service, err))
		}
	}
	return errs
}

// Routes returns the addresses of a copy, by function.
func (k *Keeper) Routes(ctx context.Context, c deploy.Private) (map[string][]string, error) {
	client, _, err := k.planner.Platform(c.Place)
	if err != nil {
		return nil, err
	}
	snapshot, err := client.Snapshot(ctx, c.Scope())
	if err != nil {
		return nil, err
	}
	out := map[string][]string{}
	for _, r := range snapshot.Resources {
		if r.Kind != resource.Route {
			continue
		}
		fn := resource.FunctionOf(r.Address)
		out[fn] = append(out[fn], fmt.Sprint(r.Attributes["method"], " ", r.Attributes["url"]))
	}
	return out, nil
}
