// Package build makes versions from commits: checked manifests, and one
// deterministic archive per function, kept by its digest.
package build

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"sync"
	"sync/atomic"

	"rudmar/cage"
	"rudmar/core/canon"
	"rudmar/core/check"
	"rudmar/core/diagnostic"
	"rudmar/core/expand"
	"rudmar/core/language"
	"rudmar/core/manifest"
	"rudmar/core/pack"
	"rudmar/engine/events"
	"rudmar/engine/source"
	"rudmar/engine/store"
)

// ErrBroken tells that a commit's manifests have errors.
var ErrBroken = errors.New("the manifests have errors")

// Builder makes versions.
type Builder struct {
	store     *store.Store
	host      func(name string) source.Repository
	offers    func(context.Context) *check.Offers
	artifacts string
	events    *events.Hub
	log       *slog.Logger
	built     func(ctx context.Context, service string, version int)
	wake      chan struct{}
	key       ed25519.PrivateKey

	cages   *cage.Keeper // nil where there are none
	uncaged atomic.Bool
	named   []string // registries, by the operator

	warming sync.Mutex
	warmed  bool

	fetching sync.Mutex
	hosts    map[string]bool // that fetching may reach; nil before it is known
	hostEnv  []string

	mu      sync.Mutex
	running map[int64]*running // by build
}

// Config is what a builder works with.
type Config struct {
	Store      *store.Store
	Repository func(name string) source.Repository
	Offers     func(context.Context) *check.Offers // of the platforms
	Dir        string                              // where archives are kept
	Events     *events.Hub
	Log        *slog.Logger
	// Cages shut commands in; nil where nothing is built.
	Cages *cage.Keeper
	// Uncaged lets commands run as Rudmar itself does, where they cannot be shut in.
	Uncaged bool
	// Registries are the hosts that fetching may reach, beside those that the
	// machine's tools are set to.
	Registries []string
	// Built is called after each version.
	Built func(ctx context.Context, service string, version int)
}

// Walls says how the commands of builds are kept apart on this machine: "shut
// in", "open" where the operator lets them run as Rudmar itself does, or
// "refused"; and in words what is missing.
func (b *Builder) Walls() (state string, missing []string) {
	switch {
	case b.cages != nil && b.cages.Closed():
		return "shut in", b.cages.Missing()
	case b.cages == nil:
		return "refused", []string{}
	case b.uncaged.Load():
		return "open", b.cages.Missing()
	}
	return "refused", b.cages.Missing()
}

// Openly lets commands of builds run as Rudmar itself does while work goes on,
// for sources that come with Rudmar.
func (b *Builder) Openly(work func() error) error {
	defer b.uncaged.Store(b.uncaged.Swap(true))
	return work()
}

// New makes a builder.
func New(c Config) (*Builder, error) {
	if err := os.MkdirAll(c.Dir, 0o700); err != nil {
		return nil, fmt.Errorf("making the folder of archives: %w", err)
	}
	key, err := installationKey(filepath.Join(filepath.Dir(c.Dir), "signing.key"))
	if err != nil {
		return nil, err
	}
	b := &Builder{key: key, store: c.Store, host: c.Repository, offers: c.Offers, artifacts: c.Dir, events: c.Events, log: c.Log, built: c.Built, cages: c.Cages, named: c.Registries,
		wake: make(chan struct{}, 1), running: map[int64]*running{}}
	b.uncaged.Store(c.Uncaged)
	return b, nil
}

// Pushed looks at what has moved in a repository and asks for builds of the
// services whose stages take the branches.
func (b *Builder) Pushed(ctx context.Context, repository, person string) error {
	repo := b.host(repository)
	heads, err := repo.Heads(ctx)
	if err != nil {
		return err
	}
	seen, err := b.store.Heads(ctx, repository)
	if err != nil {
		return err
	}
	for branch, hash := range heads {
		if seen[branch] != hash {
			if err := b.moved(ctx, repo, repository, branch, hash, person); err != nil {
				return fmt.Errorf("taking %s of %s: %w", branch, repository, err)
			}
		}
	}
	b.nudge()
	return nil
}

func (b *Builder) moved(ctx context.Context, repo source.Repository, repository, branch, hash, person string) error {
	all, err := repo.Folder(ctx, hash, ".")
	if err != nil {
		return err
	}
	var builds []store.Build
	var services []string
	for _, dir := range manifest.Services(all.Files()) {
		checked, err := repo.Check(ctx, b.offers(ctx), hash, dir)
		if err != nil {
			return err
		}
		s := checked.Result.Service
		if s == nil || s.Name == "" {
			continue
		}
		if err := b.store.AddService(ctx, store.Service{Name: s.Name, Repository: repository, Dir: dir}); err != nil {
			return err
		}
		services = append(services, s.Name)
		for _, stage := range s.Stages {
			if stage.On == manifest.OnPush && stage.Branch == branch {
				builds = append(builds, store.Build{Service: s.Name, Hash: hash, Branch: branch, Person: person})
				break
			}
		}
	}
	if err := b.store.SeeHead(ctx, repository, branch, hash, builds); err != nil {
		return err
	}
	for _, s := range services {
		if err := b.store.Note(ctx, store.Entry{Person: person, Service: s, What: "pushed", Text: branch + " to " + hash[:8]}); err != nil {
			return err
		}
		b.events.Tell(ctx, s, "source", map[string]any{"branch": branch, "hash": hash})
	}
	return nil
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
	checked, err := repo.Check(ctx, b.offers(ctx), next.Hash, service.Dir)
	if err != nil {
		return 0, err
	}
	fmt.Fprintf(log, "commit %s by %s: %s\n", commit.Hash[:8], commit.Author, commit.Message)
	for _, d := range checked.Result.Diagnostics {
		fmt.Fprintln(log, d)
	}
	if !checked.Result.OK() {
		return 0, fmt.Errorf("%w: %s", ErrBroken, firstError(checked.Result))
	}
	v := store.Version{Service: next.Service, Hash: commit.Hash, Branch: next.Branch, Author: commit.Author, Message: commit.Message, CommittedAt: commit.At, Manifests: map[string]string{}}
	for _, name := range checked.Folder.Files() {
		if manifest.IsManifest(name) {
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
	attest := func(number int) (store.Provenance, error) {
		return b.attest(ctx, service, next, v, number, checked.Result.Service, functions, artifacts)
	}
	number, made, err := b.store.AddVersion(ctx, v, functions, artifacts, attest)
	if err != nil {
		return 0, err
	}
	if made {
		fmt.Fprintf(log, "version %d\n", number)
	} else {
		fmt.Fprintf(log, "the same as version %d: no new number\n", number)
	}
	return number, nil
}

func firstError(r check.Result) string {
	for _, d := range r.Diagnostics {
		if d.Severity == diagnostic.Error {
			return d.String()
		}
	}
	return "there is no rudmar.yaml that can be read"
}

func texts(m map[string]string) map[string]any {
	out := make(map[string]any, len(m))
	for k, v := range m {
		out[k] = v
	}
	return out
}

// markChanged marks the functions that are otherwise than in the version
// before: their archive, their own manifest, or what they become by the
// service's.
func (b *Builder) markChanged(ctx context.Context, v store.Version, service *manifest.Service, functions []store.VersionFunction) error {
	versions, err := b.store.Versions(ctx, v.Service)
	if err != nil {
		return err
	}
	before := map[string]string{}
	var manifests map[string]string
	if len(versions) > 0 {
		list, err := b.store.VersionFunctions(ctx, v.Service, versions[0].Number)
		if err != nil {
			return err
		}
		for _, f := range list {
			before[f.Function] = f.Digest
		}
		manifests = versions[0].Manifests
	}
	own, becomes := map[string]bool{}, map[string]bool{}
	if v.Manifests[language.ServiceFile] != manifests[language.ServiceFile] && manifests != nil {
		if last := check.Service(manifest.FilesOf(manifests)).Service; last != nil {
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

// function packs one function's code, or finds the archive that was packed
// from the same sources before.
func (b *Builder) function(ctx context.Context, folder *source.Folder, fn *manifest.Function, log *buildLog) (store.VersionFunction, store.Artifact, error) {
	chosen := Choose(folder, fn)
	out := store.VersionFunction{Function: fn.Name, Sources: sourcesDigest(chosen)}
	has := func(name string) bool {
		_, ok := chosen[path.Join(fn.Code, name)]
		return ok
	}
	how, err := howToMake(fn, has)
	if err != nil {
		return out, store.Artifact{}, err
	}
	if !how.nothing() {
		sum := sha256.Sum256([]byte(out.Sources + how.String() + strings.Join(fn.At("").Build.LeaveOut, "\x00")))
		out.Sources = hex.EncodeToString(sum[:])
	}
	known, err := b.store.BuiltFrom(ctx, out.Sources)
	if err != nil {
		return out, store.Artifact{}, err
	}
	if known != "" {
		out.Digest = known
		fmt.Fprintf(log, "%s: unchanged, %s\n", fn.Name, shortDigest(known))
		a, err := b.store.Artifact(ctx, known)
		return out, a, err
	}
	entries, err := sources(folder, fn, chosen)
	if err != nil {
		return out, store.Artifact{}, err
	}
	if !how.nothing() {
		fmt.Fprintf(log, "%s:\n", fn.Name)
		if entries, err = b.make(ctx, how, entries, fn.At("").Build.LeaveOut, log); err != nil {
			return out, store.Artifact{}, err
		}
	}
	a, err := b.keep(entries)
	out.Digest = a.Digest
	fmt.Fprintf(log, "%s: %d files, %d bytes, %s\n", fn.Name, len(a.Listing), a.Bytes, shortDigest(a.Digest))
	return out, a, err
}

// sources reads the files that a function is made from.
func sources(folder *source.Folder, fn *manifest.Function, chosen map[string]source.File) ([]pack.Entry, error) {
	if err := folder.Load(slices.Collect(maps.Keys(chosen))); err != nil {
		return nil, err
	}
	var total int64
	var entries []pack.Entry
	for name, f := range chosen {
		if total += f.Size; total > pack.MaxBytes {
			return nil, fmt.Errorf("%w: its files have more than %d MiB; leave some out with build.leave_out", pack.ErrTooLarge, pack.MaxBytes>>20)
		}
		content, err := folder.Read(name)
		if err != nil {
			return nil, err
		}
		entries = append(entries, pack.Entry{Path: inside(fn, name), Executable: f.Executable, Content: content})
	}
	return entries, nil
}

func shortDigest(d string) string { return strings.TrimPrefix(d, "sha256:")[:12] }

// Choose gives the files that go into a function's archive: those of its code
// folder, less manifests, cases, hidden files and what build.leave_out names.
func Choose(folder *source.Folder, fn *manifest.Function) map[string]source.File {
	out := map[string]source.File{}
	for _, f := range folder.Listed() {
		name := inside(fn, f.Path)
		switch {
		case name == "" || manifest.IsManifest(f.Path) || strings.HasPrefix(path.Base(name), "."):
		case strings.HasPrefix(name, "__pycache__/") || strings.Contains(name, "/__pycache__/"):
		case pack.LeaveOut(fn.At("").Build.LeaveOut, name):
		default:
			out[f.Path] = f
		}
	}
	return out
}

// inside gives a path relative to the code folder, "" for one outside of it.
func inside(fn *manifest.Function, name string) string {
	if fn.Code == "." {
		return name
	}
	if rest, ok := strings.CutPrefix(name, fn.Code+"/"); ok {
		return rest
	}
	return ""
}

// sourcesDigest names what an archive is made from.
func sourcesDigest(chosen map[string]source.File) string {
	names := make([]string, 0, len(chosen))
	for name := range chosen {
		names = append(names, name)
	}
	sort.Strings(names)
	h := sha256.New()
	for _, name := range names {
		f := chosen[name]
		fmt.Fprintf(h, "%v\x00%s\x00%s\x00", f.Executable, f.Blob, name)
	}
	return hex.EncodeToString(h.Sum(nil))
}

// keep packs entries and keeps the archive by its digest.
func (b *Builder) keep(entries []pack.Entry) (store.Artifact, error) {
	listing, err := pack.List(entries)
	if err != nil {
		return store.Artifact{}, err
	}
	var archive bytes.Buffer
	if err := pack.Write(&archive, entries); err != nil {
		return store.Artifact{}, err
	}
	sum := sha256.Sum256(archive.Bytes())
	a := store.Artifact{Digest: listing.Digest(), FileSHA256: hex.EncodeToString(sum[:]), Bytes: int64(archive.Len()), Listing: listing}
	name := b.file(a.Digest)
	half := name + ".half"
	if err := errors.Join(os.WriteFile(half, archive.Bytes(), 0o600), os.Rename(half, name)); err != nil {
		return a, fmt.Errorf("keeping an archive: %w", err)
	}
	return a, nil
}

func (b *Builder) file(digest string) string {
	return filepath.Join(b.artifacts, strings.TrimPrefix(digest, "sha256:")+".zip")
}

// Archive reads an archive and checks it against its digest.
func (b *Builder) Archive(digest string) ([]byte, []pack.Entry, error) {
	archive, err := os.ReadFile(b.file(digest))
	if err != nil {
		return nil, nil, fmt.Errorf("reading an archive: %w", err)
	}
	entries, err := pack.Read(archive, digest)
	return archive, entries, err
}
