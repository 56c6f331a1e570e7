// Package build creates versions from commits: checked manifests, and one deterministic archive
// per function, stored by digest.
package build

import (
	"context"
	"crypto/ed25519"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path"
	"path/filepath"
	"sync"
	"sync/atomic"

	"rudmar/cage"
	"rudmar/core/canon"
	"rudmar/core/check"
	"rudmar/core/diagnostic"
	"rudmar/core/expand"
	"rudmar/core/language"
	"rudmar/core/manifest"
	"rudmar/engine/recent"
	"rudmar/engine/rest"
	"rudmar/engine/source"
	"rudmar/engine/store"
)

// ErrBroken reports that a commit's manifests have errors.
var ErrBroken = errors.New("the manifests have errors")

// Builder builds versions.
type Builder struct {
	store     *store.Store
	host      func(name string) source.Repository
	offers    func(context.Context) *check.Offers
	artifacts string
	log       *slog.Logger
	stages    Stages
	wake      chan struct{}
	key       ed25519.PrivateKey

	cages   *cage.Keeper // nil if there is none
	uncaged atomic.Bool
	named   []string // registries, set by the operator

	warming sync.Mutex
	warmed  bool

	fetching sync.Mutex
	hosts    map[string]bool // that fetching can reach; nil before it is known
	hostEnv  []string

	taking sync.Map // by repository, a *sync.Mutex held while its pushes are processed

	loose *recent.Cache[string, string] // digests by their inputs, without a commit

	mu      sync.Mutex
	running map[int64]*running // by build
	rests   *rest.Rests[int64] // of builds whose end could not be written
}

// Config has the dependencies of a builder.
type Config struct {
	Store      *store.Store
	Repository func(name string) source.Repository
	Offers     func(context.Context) *check.Offers // of the platforms
	Dir        string                              // where archives are kept
	Log        *slog.Logger
	// Cages shut commands in; nil if nothing is built.
	Cages *cage.Keeper
	// Uncaged lets commands run as Rudmar itself does, where they cannot be isolated.
	Uncaged bool
	// Registries are the hosts that fetching may reach, beside those that the
	// machine's tools are set to.
	Registries []string
	// Stages reports where a version is to wait.
	Stages Stages
	// NewKey allows a new signing key, if there is none.
	NewKey bool
}

// Stages returns the stages that a version with these manifests will enter, and those that it removes.
type Stages func(ctx context.Context, service string, own *manifest.Service) (enters, removes []string, err error)

// Isolation returns how the commands of builds are isolated on this machine: "isolated", "open" if the operator
// runs them as Rudmar itself, or "refused"; and the missing means in words.
func (b *Builder) Isolation() (state string, missing []string) {
	switch {
	case b.cages != nil && b.cages.Closed():
		return "isolated", b.cages.Missing()
	case b.cages == nil:
		return "refused", []string{}
	case b.uncaged.Load():
		return "open", b.cages.Missing()
	}
	return "refused", b.cages.Missing()
}

// WithoutIsolation runs the commands of builds as Rudmar itself while work runs, for sources that come with
// Rudmar.
func (b *Builder) WithoutIsolation(work func() error) error {
	defer b.uncaged.Store(b.uncaged.Swap(true))
	return work()
}

// Reader returns a builder that builds nothing: it reads and verifies a folder of archives, and writes nothing
// there.
func Reader(s *store.Store, dir string) (*Builder, error) {
	key, err := os.ReadFile(filepath.Join(filepath.Dir(dir), KeyFile))
	if err != nil {
		return nil, fmt.Errorf("reading the installation's signing key: %w", err)
	}
	private, err := signingKey(key)
	return &Builder{store: s, artifacts: dir, key: private}, err
}

// New creates a builder.
func New(c Config) (*Builder, error) {
	if err := os.MkdirAll(c.Dir, 0o700); err != nil {
		return nil, fmt.Errorf("making the folder of archives: %w", err)
	}
	if err := os.RemoveAll(workFolder(c.Dir)); err != nil { // left by a killed process
		return nil, fmt.Errorf("clearing the folder of builds: %w", err)
	}
	key, err := installationKey(filepath.Join(filepath.Dir(c.Dir), KeyFile), c.NewKey)
	if err != nil {
		return nil, err
	}
	loose := recent.New[string, string](knownLoose)
	b := &Builder{loose: loose, key: key, store: c.Store, host: c.Repository, offers: c.Offers, artifacts: c.Dir,
		log: c.Log, stages: c.Stages, cages: c.Cages, named: c.Registries,
		wake: make(chan struct{}, 1), running: map[int64]*running{}, rests: rest.New[int64](longestRest)}
	b.uncaged.Store(c.Uncaged)
	return b, nil
}

func (b *Builder) build(ctx context.Context, next store.Build, log *buildLog) (int, error) {
	service, err := b.store.Service(ctx, next.Service)
	if err != nil {
		return 0, err
	}
	repo := b.host(service.Repository)
	commit, err := repo.Commit(ctx, next.Hash)
	if err != nil {
		return 0, err
	}
	checked, found, err := b.locate(ctx, repo, next.Hash, service)
	if err != nil {
		return 0, err
	}
	if !found {
		return b.removal(ctx, service, next, commit, log)
	}
	service.Dir = checked.Dir
	fmt.Fprintf(log, "commit %s by %s: %s\n", commit.Hash[:8], commit.Author, commit.Message)
	for _, d := range checked.Result.Diagnostics {
		fmt.Fprintln(log, d)
	}
	if !checked.Result.OK() {
		return 0, fmt.Errorf("%w: %s", ErrBroken, firstError(checked.Result))
	}
	v := versionOf(next, commit)
	for _, name := range checked.Folder.Files() {
		if manifest.IsManifest(name) || manifest.IsCalendar(name) {
			text, err := checked.Folder.Read(name)
			if err != nil {
				return 0, err
			}
			v.Manifests[name] = string(text)
		}
	}
	var functions []store.VersionFunction
	var artifacts []store.Artifact
	digests := map[string]any{}
	for _, fn := range checked.Result.Service.Functions {
		f, a, err := b.function(ctx, checked.Folder, fn, log)
		if err != nil {
			return 0, fmt.Errorf("building %s: %w", fn.Name, err)
		}
		functions, artifacts = append(functions, f), append(artifacts, a)
		digests[fn.Name] = f.Digest
	}
	if v.Content, err = canon.Digest(map[string]any{"manifests": texts(v.Manifests), "functions": digests}); err != nil {
		return 0, err
	}
	if err := b.markChanged(ctx, v, checked.Result.Service, functions); err != nil {
		return 0, err
	}
	return b.createVersion(ctx, service, next, v, checked.Result.Service, functions, artifacts, log)
}

// versionOf starts a version with its origin.
func versionOf(next store.Build, commit source.Commit) store.Version {
	return store.Version{Service: next.Service, Hash: commit.Hash, Branch: next.Branch, Author: commit.Author,
		Person: next.Person, Message: commit.Message, CommittedAt: commit.At, Manifests: map[string]string{}}
}

// removal creates the version of a commit that no longer has the service: it is empty, and removes the deployed
// resources.
func (b *Builder) removal(ctx context.Context, service store.Service, next store.Build, commit source.Commit,
	log *buildLog) (int, error) {
	fmt.Fprintf(log, "commit %s by %s: %s\n%s no longer exists", commit.Hash[:8], commit.Author,
		commit.Message, service.Name)
	if service.RenamedTo != "" {
		fmt.Fprintf(log, "; it is now called %s", service.RenamedTo)
	}
	fmt.Fprintln(log, ": this version deletes the deployed resources")
	v := versionOf(next, commit)
	var err error
	if v.Content, err = canon.Digest(map[string]any{"manifests": map[string]any{},
		"functions": map[string]any{}}); err != nil {
		return 0, err
	}
	return b.createVersion(ctx, service, next, v, &manifest.Service{Name: service.Name}, nil, nil, log)
}

// createVersion stores a version, creates its deliveries, and ends its build.
func (b *Builder) createVersion(ctx context.Context, service store.Service, next store.Build,
	v store.Version, own *manifest.Service,
	functions []store.VersionFunction, artifacts []store.Artifact, log *buildLog) (int, error) {
	enters, removes, err := b.stages(ctx, service.Name, own)
	if err != nil {
		return 0, err
	}
	inside, err := b.inside(own, functions, artifacts)
	if err != nil {
		return 0, err
	}
	next.Log = log.String()
	number, _, err := b.store.FinishBuild(ctx,
		store.Built{Build: next, Version: v, Functions: functions, Artifacts: artifacts, Stages: enters, Removes: removes,
			Attest: func(number int) (store.Provenance, error) {
				return b.attest(ctx, service, next, v, number, inside)
			}})
	return number, err
}

func firstError(r check.Result) string {
	for _, d := range r.Diagnostics {
		if d.Severity == diagnostic.Error {
			return d.String()
		}
	}
	return "rudmar.yaml is missing or cannot be read"
}

func texts(m map[string]string) map[string]any {
	out := make(map[string]any, len(m))
	for k, v := range m {
		out[k] = v
	}
	return out
}

// markChanged marks the functions that differ from the previous version: by their archive, their own manifest,
// or the service's.
func (b *Builder) markChanged(ctx context.Context, v store.Version, service *manifest.Service,
	functions []store.VersionFunction) error {
	newest, err := b.store.NewestVersion(ctx, v.Service)
	if err != nil {
		return err
	}
	before := map[string]string{}
	var manifests map[string]string
	if newest > 0 {
		last, err := b.store.Version(ctx, v.Service, newest)
		if err != nil {
			return err
		}
		list, err := b.store.VersionFunctions(ctx, v.Service, newest)
		if err != nil {
			return err
		}
		for _, f := range list {
			before[f.Function] = f.Digest
		}
		manifests = last.Manifests
	}
	own, becomes := map[string]bool{}, map[string]bool{}
	if v.Manifests[language.ServiceFile] != manifests[language.ServiceFile] && manifests != nil {
		if last := check.Stored(manifest.FilesOf(manifests)); last != nil {
			becomes = expand.Changed(last, service)
		}
	}
	for name, text := range v.Manifests {
		if manifests[name] != text && path.Base(name) == language.FunctionFile {
			own[name] = true
		}
	}
	for i, f := range functions {
		changed := before[f.Function] != f.Digest || becomes[f.Function]
		if fn := service.Function(f.Function); fn != nil {
			changed = changed || own[fn.File]
		}
		functions[i].Changed = changed
	}
	return nil
}
