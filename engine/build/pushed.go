package build

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"

	"rudmar/core/check"
	"rudmar/core/manifest"
	"rudmar/engine/source"
	"rudmar/engine/store"
)

// Pushed processes the moved branches of a repository, records who moved them, and requests builds of the
// services whose stages deploy from the branches. Who moved a branch is in git's reflog; person is the
// fallback.
func (b *Builder) Pushed(ctx context.Context, repository, person string) error {
	own, _ := b.taking.LoadOrStore(repository, &sync.Mutex{})
	taking := own.(*sync.Mutex) // pushes of one repository are processed in order; those of others do not wait
	taking.Lock()
	defer taking.Unlock()
	repo := b.host(repository)
	heads, err := repo.Heads(ctx)
	if err != nil {
		return err
	}
	seen, err := b.store.Heads(ctx, repository)
	if err != nil {
		return err
	}
	var errs error
	for _, branch := range slices.Sorted(maps.Keys(heads)) {
		err := b.note(ctx, repo, repository, branch, heads[branch], person)
		if err == nil && seen[branch] != heads[branch] {
			err = b.recordMoves(ctx, repo, repository, branch, seen[branch], heads[branch])
		}
		if err != nil { // an error in one branch does not affect others
			errs = errors.Join(errs, fmt.Errorf("processing %s of %s: %w", branch, repository, err))
		}
	}
	b.nudge()
	return errs
}

// note records the moves of a branch since the last time, and their authors, with the commits of each move.
func (b *Builder) note(ctx context.Context, repo source.Repository, repository, branch, hash, person string) error {
	last, err := b.store.LastPush(ctx, repository, branch)
	if errors.Is(err, store.ErrNotFound) {
		err = nil // the first push
	}
	if err != nil || last.After == hash {
		return err
	}
	moves, err := repo.Moves(ctx, branch)
	if err != nil {
		return err
	}
	if at := slices.IndexFunc(moves, func(m source.Move) bool { return m.After == last.After }); at >= 0 {
		moves = moves[at+1:]
	}
	if len(moves) == 0 || moves[len(moves)-1].After != hash {
		before := source.Nothing
		if last.After != "" {
			before = last.After
		}
		moves = []source.Move{{Before: before, After: hash, Person: person}}
	}
	for _, m := range moves {
		commits, err := repo.Between(ctx, m.Before, m.After)
		if err != nil {
			return err
		}
		if m.Before == source.Nothing { // a new branch brings the commits that nobody has pushed before, and its head
			known, err := b.store.PushersOf(ctx, repository, commits)
			if err != nil {
				return err
			}
			commits = slices.DeleteFunc(commits, func(c string) bool { return len(known[c]) > 0 && c != m.After })
		}
		if err := b.store.AddPush(ctx, store.Push{Repository: repository, Branch: branch, Before: m.Before, After: m.After,
			Person: m.Person}, commits); err != nil {
			return err
		}
	}
	return nil
}

// recordMoves records every move of a branch since a known head, one after another, so moves during an outage
// are built as well.
func (b *Builder) recordMoves(ctx context.Context, repo source.Repository, repository, branch, seen,
	hash string) error {
	moves, err := b.store.PushesSince(ctx, repository, branch, seen)
	if err != nil {
		return err
	}
	for _, m := range moves {
		if err := b.moved(ctx, repo,
			store.Head{Repository: repository, Branch: branch, Before: seen, Hash: m.After, Person: m.Person}); err != nil {
			return err
		}
		if seen = m.After; seen == hash {
			break
		}
	}
	return nil
}

// moved processes the present head of a branch: its services, and the builds that stages require, by the
// standing rules or by the commit's own.
func (b *Builder) moved(ctx context.Context, repo source.Repository, h store.Head) error {
	repository, branch, hash, person := h.Repository, h.Branch, h.Hash, h.Person
	all, err := repo.Folder(ctx, hash, ".")
	if err != nil {
		return err
	}
	main, err := repo.Main(ctx)
	if err != nil {
		return err
	}
	known, err := b.store.ServicesOf(ctx, repository)
	if err != nil {
		return err
	}
	var builds []store.Build
	var services []string
	unread, named := map[string]bool{}, map[string]string{} // by folder
	for _, dir := range manifest.Services(all.Files()) {
		checked, err := repo.Check(ctx, b.offers(ctx), hash, dir)
		if err != nil {
			return err
		}
		s := checked.Result.Service
		if s == nil || s.Name == "" {
			unread[dir] = true
			continue
		}
		named[dir] = s.Name
		switch err := b.store.AddService(ctx, store.Service{Name: s.Name, Repository: repository, Dir: dir},
			branch == main, person); {
		case errors.Is(err, store.ErrOwned): // the hook rejects it, except for two simultaneous pushes
			b.log.Warn("the push contains a service that belongs to another repository", "service", s.Name, "repository", repository)
			continue
		case err != nil:
			return err
		}
		services = append(services, s.Name)
		taken, err := b.takes(ctx, s, branch)
		if err != nil {
			return err
		}
		if taken {
			builds = append(builds, store.Build{Service: s.Name, Hash: hash, Branch: branch, Person: person})
		} else {
			h.Plans = append(h.Plans, store.BranchPlan{Service: s.Name, Branch: branch, Hash: hash, Person: person})
		}
	}
	for _, s := range known { // services that were declared here and no longer are
		if slices.Contains(services, s.Name) || unread[s.Dir] {
			continue
		}
		taken, err := b.takes(ctx, &manifest.Service{Name: s.Name}, branch)
		if err != nil {
			return err
		}
		if taken {
			if err := b.store.RenamedTo(ctx, s.Name, named[s.Dir]); err != nil {
				return err
			}
			services = append(services, s.Name)
			builds = append(builds, store.Build{Service: s.Name, Hash: hash, Branch: branch, Person: person})
		}
	}
	h.Services, h.Builds = services, builds
	if err := b.store.RecordHead(ctx, h); !errors.Is(err, store.ErrMoved) {
		return err
	}
	return nil // another process recorded it
}

// takes reports whether a stage of a service deploys from a branch: by the standing rules, or by the service's
// own.
func (b *Builder) takes(ctx context.Context, s *manifest.Service, branch string) (bool, error) {
	onPush := func(stage manifest.Stage) bool { return stage.When == manifest.OnPush && stage.Branch == branch }
	if slices.ContainsFunc(s.Stages, onPush) {
		return true, nil
	}
	standing, err := b.store.Standing(ctx, s.Name)
	if err != nil {
		return false, err
	}
	for stage, version := range standing {
		v, err := b.store.Version(ctx, s.Name, version)
		if err != nil {
			return false, err
		}
		if old := check.Stored(manifest.FilesOf(v.Manifests)); old != nil && old.Stage(stage) != nil &&
			onPush(*old.Stage(stage)) {
			return true, nil
		}
	}
	return false, nil
}

// locate finds the folder of a service in a commit: the one where it stood last, or another that holds it now.
// found is false if the commit has no such service.
func (b *Builder) locate(ctx context.Context, repo source.Repository, commit string,
	service store.Service) (checked source.Checked, found bool, err error) {
	all, err := repo.Folder(ctx, commit, ".")
	if err != nil {
		return checked, false, err
	}
	dirs := manifest.Services(all.Files())
	if at := slices.Index(dirs, service.Dir); at > 0 {
		dirs[0], dirs[at] = dirs[at], dirs[0]
	}
	for i, dir := range dirs {
		checked, err = repo.Check(ctx, b.offers(ctx), commit, dir)
		if err != nil {
			return checked, false, err
		}
		s := checked.Result.Service
		if s != nil && s.Name == service.Name || i == 0 && dir == service.Dir && (s == nil || s.Name == "") {
			return checked, true, nil
		}
	}
	return checked, false, nil
}
