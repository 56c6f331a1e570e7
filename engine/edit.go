package engine

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"path"
	"slices"

	"rudmar/core/diagnostic"
	"rudmar/core/manifest"
	"rudmar/core/rights"
	"rudmar/engine/source"
	"rudmar/engine/store"
)

// Edit is a change of a service's files in the page. Names are relative to the service's folder; nil content
// deletes a file.
type Edit struct {
	Service, Branch, Base, Message string
	// Onto is a new branch for the commit; "" for the present branch.
	Onto  string
	Files map[string][]byte
}

// ErrBranchThere reports that a new branch exists already.
var ErrBranchThere = errors.New("this branch already exists; switch to it, or choose another name")

// BrokenError reports that an edit would break a branch that a stage deploys from.
type BrokenError struct{ Diagnostics []diagnostic.Diagnostic }

func (e *BrokenError) Error() string {
	for _, d := range e.Diagnostics {
		if d.Severity == diagnostic.Error {
			return "a stage deploys this branch, and its manifests would have errors: " + d.String()
		}
	}
	return "a stage deploys this branch, and its manifests could not be read"
}

// ConflictError reports that the branch has moved since the edit started, and which of the edited files
// somebody else has changed.
type ConflictError struct {
	Head   string
	By     string
	Files  []string
	Theirs map[string]string
	// Merged is the edit merged with the newer commits; nil content deletes a file. Conflicts lists its files in
	// which both changed the same lines, or one changed a file that the other deleted.
	Merged    map[string]*string
	Conflicts []string
}

func (e *ConflictError) Error() string {
	return fmt.Sprintf("%s committed in the meantime (%s); merge both, and commit again", e.By,
		e.Head[:8])
}

// Source returns a service's folder at the head of a branch.
func (e *Engine) Source(ctx context.Context, service, branch string) (source.Commit, *source.Folder, error) {
	s, err := e.Store.Service(ctx, service)
	if err != nil {
		return source.Commit{}, nil, store.Missing(err, "service %s", service)
	}
	repo := e.Host.Repository(s.Repository)
	commit, err := repo.Commit(ctx, "refs/heads/"+branch)
	if err != nil {
		return commit, nil, err
	}
	folder, err := repo.Folder(ctx, commit.Hash, s.Dir)
	return commit, folder, err
}

// Commit commits an edit and processes it like a push. If the branch has moved since the edit's base the error
// is a *ConflictError; if the manifests of a branch that a stage deploys from would break, a *BrokenError.
func (e *Engine) Commit(ctx context.Context, edit Edit, by store.Person) (string, error) {
	s, err := e.Store.Service(ctx, edit.Service)
	if err != nil {
		return "", store.Missing(err, "service %s", edit.Service)
	}
	if err := e.isOwn(ctx, s.Repository); err != nil {
		return "", err
	}
	head, folder, err := e.Source(ctx, edit.Service, edit.Branch)
	if err != nil {
		return "", err
	}
	branch := edit.Branch
	if edit.Onto != "" {
		branch = edit.Onto
	}
	if head.Hash != edit.Base {
		return "", e.conflict(ctx, s, head, folder, edit)
	}
	for _, name := range slices.Sorted(maps.Keys(edit.Files)) {
		if err := source.CheckMarkers(name, string(edit.Files[name])); err != nil {
			return "", err
		}
	}
	result := e.Checks.Check(ctx, edit.Service, manifest.Overlay{Under: folder, Changed: edit.Files})
	taken := result.Service == nil ||
		slices.ContainsFunc(result.Service.Stages,
			func(st manifest.Stage) bool { return st.When == manifest.OnPush && st.Branch == branch })
	if taken && !result.OK() {
		return "", &BrokenError{Diagnostics: result.Diagnostics}
	}
	if err := e.mayCommit(ctx, by, s, edit, result.Service); err != nil {
		return "", err
	}
	change := source.Change{Branch: branch, New: edit.Onto != "", Base: edit.Base, Message: edit.Message,
		Author: by.Username, Email: by.Username + "@rudmar.invalid", Files: map[string][]byte{}}
	for name, content := range edit.Files {
		change.Files[path.Join(s.Dir, name)] = content
	}
	repo := e.Host.Repository(s.Repository)
	if edit.Onto != "" {
		heads, err := repo.Heads(ctx)
		if err != nil {
			return "", err
		}
		if _, taken := heads[edit.Onto]; taken {
			return "", fmt.Errorf("%w: %s", ErrBranchThere, edit.Onto)
		}
	}
	hash, err := repo.Apply(ctx, change)
	if errors.Is(err, source.ErrConflict) {
		if head, folder, sourceErr := e.Source(ctx, edit.Service, edit.Branch); sourceErr == nil {
			return "", e.conflict(ctx, s, head, folder, edit)
		}
	}
	if err != nil {
		return "", err
	}
	return hash, e.Build.Pushed(ctx, s.Repository, by.Username)
}

// mayCommit returns why somebody cannot commit an edit: as in a push, each file belongs to the innermost service around
// it, and a service that is new or renamed requires the right in the repository.
func (e *Engine) mayCommit(ctx context.Context, by store.Person, s store.Service, edit Edit,
	after *manifest.Service) error {
	writes, err := e.writesOf(ctx, by, s.Repository)
	if err != nil {
		return err
	}
	var files []string
	for _, name := range slices.Sorted(maps.Keys(edit.Files)) {
		files = append(files, path.Join(s.Dir, name))
	}
	services := []source.ServiceAt{}
	if after != nil {
		services = append(services, source.ServiceAt{Dir: s.Dir, Name: after.Name})
	}
	for _, dir := range manifest.Services(files) {
		if path.Clean(dir) != path.Clean(s.Dir) {
			services = append(services, source.ServiceAt{Dir: dir})
		}
	}
	if why := writes.Refused(files, services...); why != "" {
		return fmt.Errorf("%w: %s", rights.ErrDenied, why)
	}
	return nil
}

// conflict returns a *ConflictError with the edit merged with the newer commits.
func (e *Engine) conflict(ctx context.Context, s store.Service, head source.Commit, folder *source.Folder,
	edit Edit) error {
	repo := e.Host.Repository(s.Repository)
	base, err := repo.Folder(ctx, edit.Base, s.Dir)
	if err != nil {
		return fmt.Errorf("reading the commit of the edit: %w", err)
	}
	read := func(f *source.Folder, name string) *string {
		if !slices.Contains(f.Files(), name) {
			return nil
		}
		content, err := f.Read(name)
		if err != nil {
			return nil
		}
		text := string(content)
		return &text
	}
	c := &ConflictError{Head: head.Hash, By: head.Author, Theirs: map[string]string{}, Merged: map[string]*string{}}
	for _, name := range slices.Sorted(maps.Keys(edit.Files)) {
		c.Files = append(c.Files, name)
		before, theirs := read(base, name), read(folder, name)
		var mine *string
		if content := edit.Files[name]; content != nil {
			text := string(content)
			mine = &text
		}
		if theirs != nil {
			c.Theirs[name] = *theirs
		}
		same := func(a, b *string) bool { return a == b || a != nil && b != nil && *a == *b }
		conflicts := false
		switch {
		case same(theirs, before) || same(theirs, mine): // only this edit changed it, or both did the same
			c.Merged[name] = mine
		case mine == nil: // they changed a file that this edit deletes
			c.Merged[name], conflicts = theirs, true
		case theirs == nil: // they deleted a file that this edit changes
			c.Merged[name], conflicts = mine, true
		default:
			var old string
			if before != nil {
				old = *before
			}
			merged, both, err := repo.Merge(ctx, old, *mine, *theirs, head.Author+"'s commit "+head.Hash[:8])
			if err != nil {
				return err
			}
			c.Merged[name], conflicts = &merged, both
		}
		if conflicts {
			c.Conflicts = append(c.Conflicts, name)
		}
	}
	return c
}
